//! A verdict, written as the answer to one request.

use crate::login::{Accept, Challenge, HiddenKind, HiddenValue, Refusal, Verdict};
use bivector_model::Cause;
use bivector_model::grant;
use bivector_model::trace::{Hop, Outcome, Step, Tone, Trace};
use bivector_wire::{
    AttributeType, Attributes, Authentic, Code, MICROSOFT, MS_CHAP_ERROR, MS_CHAP2_RESPONSE, MS_CHAP2_SUCCESS, Message, Packet, Secret,
    SharedSecret, VendorAttribute, hide_salted, ms_chap_error, push_attribute, push_split, push_vendor,
};

/// Vendor attributes of the two MS-MPPE keys (RFC 2548 sections 2.4.2 and 2.4.3).
const SEND_KEY: u8 = 16;
const RECEIVE_KEY: u8 = 17;

/// What an answer needs to know of the request that it answers.
#[derive(Debug, Clone)]
pub struct Reply {
    identifier: u8,
    authenticator: [u8; 16],
    proxy_states: Vec<Vec<u8>>,
    failure: Failure,
}

/// What a refusal carries so that the person's own program understands it.
#[derive(Debug, Clone, Copy)]
enum Failure {
    /// Nothing more.
    Plain,
    /// MS-CHAP-Error for the response with this identifier.
    MsChap(u8),
    /// EAP-Failure for the response with this identifier.
    Eap(u8),
}

impl Failure {
    fn of(packet: &Packet<'_>) -> Self {
        if let Some(message) = packet.first(AttributeType::EapMessage) {
            return Failure::Eap(message.value.get(1).copied().unwrap_or_default());
        }
        let microsoft = packet.attributes().filter(|attribute| attribute.kind == AttributeType::VendorSpecific);
        microsoft
            .flat_map(|attribute| VendorAttribute::read_all(attribute.value))
            .find(|own| own.vendor == MICROSOFT && own.number == MS_CHAP2_RESPONSE)
            .and_then(|response| response.value.first())
            .map_or(Failure::Plain, |identifier| Failure::MsChap(*identifier))
    }
}

/// What an EAP conversation adds to the answer.
#[derive(Debug, Clone, Default)]
pub struct EapAnswer {
    /// The EAP packet.
    pub packet: Vec<u8>,
    /// The key that both sides share, after a success with a method that has one.
    pub msk: Option<Secret<Vec<u8>>>,
    /// The name of that key, where the gateway asked for it (RFC 7268 section 2.2).
    pub key_name: Option<Vec<u8>>,
}

/// Bytes of each of the two MS-MPPE keys of EAP.
const EAP_KEY: usize = 32;

/// Whether encoded attributes have one of a kind.
fn has(encoded: &[u8], wanted: AttributeType) -> bool {
    Attributes::encoded(encoded).any(|attribute| attribute.kind == wanted)
}

impl Reply {
    /// For a request.
    pub fn to(request: &Authentic<'_>) -> Self {
        let packet = request.packet();
        let proxy_states =
            packet.attributes().filter(|attribute| attribute.kind == AttributeType::ProxyState).map(|attribute| attribute.value.to_vec());
        Reply {
            identifier: packet.identifier(),
            authenticator: *packet.authenticator(),
            proxy_states: proxy_states.collect(),
            failure: Failure::of(packet),
        }
    }

    /// The answer to Status-Server (RFC 5997 section 3).
    pub fn alive(&self, secret: &SharedSecret) -> Option<Vec<u8>> {
        self.sign(Message::new(Code::AccessAccept), secret)
    }

    /// The signed answer to a login. An accept that does not fit into a packet becomes a refusal, and the trace says so. `random` gives
    /// bytes that nobody can foresee, new ones at each call.
    pub fn encode(&self, verdict: &Verdict, trace: &mut Trace, secret: &SharedSecret, random: impl Fn() -> [u8; 16]) -> Option<Vec<u8>> {
        match verdict {
            Verdict::Challenge(challenge) => self.sign(challenge_message(challenge), secret),
            Verdict::Accept(accept) => match self.sign(self.accept(accept, secret, &random), secret) {
                Some(bytes) => Some(bytes),
                None => {
                    note_too_long(trace);
                    self.reject(&format!("Sign-in refused. Reference {}", trace.reference), &[], secret)
                }
            },
            Verdict::Refuse(refusal) => self.reject(&refusal.message, &self.refused_with(refusal, random()), secret),
        }
    }

    /// A further request of an EAP conversation; `state` leads back to it.
    pub fn eap_request(&self, packet: &[u8], state: &[u8], secret: &SharedSecret) -> Option<Vec<u8>> {
        let mut message = Message::new(Code::AccessChallenge);
        if !state.is_empty() {
            message.push(AttributeType::State, state);
        }
        message.push(AttributeType::EapMessage, packet);
        self.sign(message, secret)
    }

    /// The signed answer to a login inside EAP, with the last packet of the conversation. As with [`Reply::encode`], an accept that does
    /// not fit becomes a refusal.
    pub fn encode_eap(
        &self,
        verdict: &Verdict,
        eap: &EapAnswer,
        trace: &mut Trace,
        secret: &SharedSecret,
        random: impl Fn() -> [u8; 16],
    ) -> Option<Vec<u8>> {
        let identifier = eap.packet.get(1).copied().unwrap_or_default();
        let refuse = || {
            let mut reject = Message::new(Code::AccessReject);
            reject.push(AttributeType::EapMessage, &[4, identifier, 0, 4]);
            self.sign(reject, secret).or_else(|| self.sign(Message::new(Code::AccessReject), secret))
        };
        let Verdict::Accept(accept) = verdict else { return refuse() };
        let mut message = Message::new(Code::AccessAccept);
        // RFC 3579 section 2.6.5: with EAP-Message the words of a notice are for nobody.
        let attributes = [grant::encode(accept.items()), accept.attributes().to_vec()].concat();
        message.push_encoded(&attributes);
        // Keys that an upstream supplied belong to its own conversation.
        let kept = |value: &&HiddenValue| eap.msk.is_none() || !matches!(value.kind, HiddenKind::MicrosoftKey(_));
        accept.hidden().iter().filter(kept).for_each(|value| self.hide(value, &mut message, secret, random()));
        if let Some((receive, send)) = eap.msk.as_ref().and_then(|msk| msk.expose().split_at_checked(EAP_KEY)) {
            for (number, clear) in [(SEND_KEY, send), (RECEIVE_KEY, receive)] {
                let clear = Secret::new(clear.iter().copied().take(EAP_KEY).collect::<Vec<u8>>());
                self.hide(&HiddenValue { kind: HiddenKind::MicrosoftKey(number), clear }, &mut message, secret, random());
            }
        }
        if let Some(name) = &eap.key_name {
            message.push(AttributeType::EapKeyName, name);
        }
        message.push(AttributeType::EapMessage, &eap.packet);
        self.sign(message, secret).or_else(|| {
            note_too_long(trace);
            refuse()
        })
    }

    /// Signs a message, with the request's Proxy-State attributes in their order (RFC 2865 section 5.33).
    fn sign(&self, mut message: Message, secret: &SharedSecret) -> Option<Vec<u8>> {
        for state in &self.proxy_states {
            message.push(AttributeType::ProxyState, state);
        }
        message.sign_reply(self.identifier, &self.authenticator, secret).ok()
    }

    fn accept(&self, accept: &Accept, secret: &SharedSecret, random: &impl Fn() -> [u8; 16]) -> Message {
        let mut message = Message::new(Code::AccessAccept);
        message.push_encoded(&accept_attributes(accept));
        for value in accept.hidden() {
            self.hide(value, &mut message, secret, random());
        }
        if let Some(keys) = accept.keys() {
            for (number, clear) in [(SEND_KEY, &keys.send_key), (RECEIVE_KEY, &keys.receive_key)] {
                let value = HiddenValue { kind: HiddenKind::MicrosoftKey(number), clear: clear.clone() };
                self.hide(&value, &mut message, secret, random());
            }
        }
        message
    }

    /// Hides a value for this gateway and this request (RFC 2548 section 2.4.2, RFC 2868 section 3.5).
    fn hide(&self, value: &HiddenValue, message: &mut Message, secret: &SharedSecret, random: [u8; 16]) {
        let salt = [random[0], random[1]];
        let Some(hidden) = hide_salted(value.clear.expose(), salt, &self.authenticator, secret) else { return };
        match value.kind {
            HiddenKind::MicrosoftKey(number) => message.push_vendor(MICROSOFT, number, &hidden),
            HiddenKind::TunnelPassword(tag) => message.push(AttributeType::TunnelPassword, &[&[tag], hidden.as_slice()].concat()),
        }
    }

    /// The attributes of a refusal: an upstream's own, or what the method needs so that the person's program shows the right thing.
    fn refused_with(&self, refusal: &Refusal, challenge: [u8; 16]) -> Vec<u8> {
        let mut attributes = refusal.attributes.clone();
        if attributes.is_empty() {
            match self.failure {
                Failure::Plain => {}
                Failure::MsChap(identifier) => {
                    let error = ms_chap_error(identifier, refusal.may_retry, challenge, &refusal.message);
                    push_vendor(&mut attributes, MICROSOFT, MS_CHAP_ERROR, &error);
                }
                // RFC 3748 section 4.2: Failure with the identifier of the peer's own packet.
                Failure::Eap(identifier) => push_attribute(&mut attributes, AttributeType::EapMessage, &[4, identifier, 0, 4]),
            }
        }
        attributes
    }

    fn reject(&self, message: &str, attributes: &[u8], secret: &SharedSecret) -> Option<Vec<u8>> {
        let mut reject = Message::new(Code::AccessReject);
        reject.push_encoded(attributes);
        // RFC 3579 section 2.6.5: with EAP-Message the words are for nobody.
        if !has(attributes, AttributeType::EapMessage) {
            reject.push(AttributeType::ReplyMessage, message.as_bytes());
        }
        // A request full of Proxy-State leaves no room for words; the refusal itself must get through.
        self.sign(reject, secret).or_else(|| self.sign(Message::new(Code::AccessReject), secret))
    }
}

fn challenge_message(challenge: &Challenge) -> Message {
    let mut message = Message::new(Code::AccessChallenge);
    message.push(AttributeType::State, &challenge.state);
    if let Some(prompt) = &challenge.prompt {
        message.push(AttributeType::ReplyMessage, prompt.as_bytes());
    }
    if !has(&challenge.attributes, AttributeType::Prompt) {
        message.push(AttributeType::Prompt, &u32::from(challenge.echo).to_be_bytes());
    }
    message.push_encoded(&challenge.attributes);
    message
}

/// What an Access-Accept carries in clear, encoded: the grant, what an upstream gave, the proof that we know the password, a notice.
pub(crate) fn accept_attributes(accept: &Accept) -> Vec<u8> {
    let mut attributes = grant::encode(accept.items());
    attributes.extend_from_slice(accept.attributes());
    if let Some(keys) = accept.keys() {
        push_vendor(&mut attributes, MICROSOFT, MS_CHAP2_SUCCESS, &keys.success);
    }
    if let Some(notice) = accept.notice() {
        push_split(&mut attributes, AttributeType::ReplyMessage, format!("Note: {notice}.").as_bytes());
    }
    attributes
}

fn note_too_long(trace: &mut Trace) {
    let said = Cause::ReplyTooLong.sentence().to_owned();
    let at_us = trace.took_us;
    trace.steps.push(Step { hop: Hop::Reply, what: "reply".into(), tone: Tone::Bad, at_us, took_us: 0, said, line: None });
    (trace.outcome, trace.cause, trace.grant) = (Outcome::Refused, Some(Cause::ReplyTooLong), None);
}
