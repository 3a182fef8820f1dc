//! From a verdict to signed bytes.

use crate::seal::random;
use bivector_core::Cause;
use bivector_core::login::{HiddenKind, HiddenValue, Verdict};
use bivector_core::trace::{Hop, Outcome, Step, Tone, Trace};
use bivector_wire::{AttributeType, Attributes, Authentic, Code, Message, SharedSecret, hide_salted};

/// Vendor number of Microsoft's keys (RFC 2548).
const MICROSOFT: u32 = 311;

/// What a reply needs of its request.
#[derive(Debug, Clone)]
pub(super) struct ReplyFor {
    pub(super) identifier: u8,
    pub(super) authenticator: [u8; 16],
    proxy_states: Vec<Vec<u8>>,
}

/// Whether encoded attributes have one of a kind.
fn has(encoded: &[u8], wanted: AttributeType) -> bool {
    Attributes::encoded(encoded).any(|attribute| attribute.kind == wanted)
}

impl ReplyFor {
    pub(super) fn new(request: &Authentic<'_>) -> Self {
        let packet = request.packet();
        let proxy_states =
            packet.attributes().filter(|attribute| attribute.kind == AttributeType::ProxyState).map(|attribute| attribute.value.to_vec());
        ReplyFor { identifier: packet.identifier(), authenticator: *packet.authenticator(), proxy_states: proxy_states.collect() }
    }

    /// Signs a message, with the request's Proxy-State attributes in their order (RFC 2865 section 5.33).
    fn sign(&self, mut message: Message, secret: &SharedSecret) -> Option<Vec<u8>> {
        for state in &self.proxy_states {
            message.push(AttributeType::ProxyState, state);
        }
        message.sign_reply(self.identifier, &self.authenticator, secret).ok()
    }

    /// Hides a value for this gateway and this request (RFC 2548 section 2.4.2, RFC 2868 section 3.5).
    fn hide(&self, value: &HiddenValue, message: &mut Message, secret: &SharedSecret) {
        let Some(hidden) = hide_salted(value.clear.expose(), random::<2>(), &self.authenticator, secret) else { return };
        match value.kind {
            HiddenKind::MicrosoftKey(number) => message.push_vendor(MICROSOFT, number, &hidden),
            HiddenKind::TunnelPassword(tag) => message.push(AttributeType::TunnelPassword, &[&[tag], hidden.as_slice()].concat()),
        }
    }

    /// The answer to Status-Server (RFC 5997 section 3).
    pub(super) fn alive(&self, secret: &SharedSecret) -> Option<Vec<u8>> {
        self.sign(Message::new(Code::AccessAccept), secret)
    }

    /// The answer to a login. An accept that does not fit becomes a refusal, and the trace says so.
    pub(super) fn encode(&self, verdict: &Verdict, trace: &mut Trace, secret: &SharedSecret) -> Option<Vec<u8>> {
        let message = match verdict {
            Verdict::Challenge(challenge) => {
                let mut message = Message::new(Code::AccessChallenge);
                message.push(AttributeType::State, &challenge.state);
                if let Some(prompt) = &challenge.prompt {
                    message.push(AttributeType::ReplyMessage, prompt.as_bytes());
                }
                if !has(&challenge.attributes, AttributeType::Prompt) {
                    message.push(AttributeType::Prompt, &u32::from(challenge.echo).to_be_bytes());
                }
                message.push_encoded(&challenge.attributes);
                return self.sign(message, secret);
            }
            Verdict::Accept(accept) => {
                let mut message = Message::new(Code::AccessAccept);
                message.push_encoded(accept.attributes());
                accept.hidden().iter().for_each(|value| self.hide(value, &mut message, secret));
                if let Some(bytes) = self.sign(message, secret) {
                    return Some(bytes);
                }
                let said = Cause::ReplyTooLong.sentence().to_owned();
                trace.steps.push(Step {
                    hop: Hop::Reply,
                    what: "reply".into(),
                    tone: Tone::Bad,
                    at_us: trace.took_us,
                    took_us: 0,
                    said,
                    line: None,
                });
                (trace.outcome, trace.cause, trace.grant) = (Outcome::Refused, Some(Cause::ReplyTooLong), None);
                (format!("Sign-in refused. Reference {}", trace.reference), &Vec::new())
            }
            Verdict::Refuse(refusal) => (refusal.message.clone(), &refusal.attributes),
        };
        let (message, attributes) = message;
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
