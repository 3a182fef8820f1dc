//! Open EAP conversations of a door: found by the State that their last request carried, bound to their gateway, bounded in number, and
//! ended when nobody goes on with them.

use super::radius::{Decision, Inner, Round};
use bivector_certificates::ChainVerifier;
use bivector_core::login::{Credential, Inside, Login, Proof, Request, Verdict, VerifiedCertificate};
use bivector_core::radius::EapAnswer;
use bivector_eap::{Conversation, Failed, Given, GivenCredential, Note, Settings, Turn};
use bivector_engine::ending;
use bivector_engine::live::LiveSite;
use bivector_model::identity::realm_of;
use bivector_model::trace::{Hop, Origin, Step};
use bivector_model::{Cause, Moment};
use bivector_store::clock;
use bivector_store::metrics;
use bivector_store::seal::random;
use bivector_wire::eap::{self, EapMethod, IDENTITY};
use bivector_wire::{
    AttributeType, ChapProof, MICROSOFT, MS_CHAP_CHALLENGE, MS_CHAP2_RESPONSE, MsChapProof, Packet, push_attribute, push_vendor,
};
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::sync::watch;

/// Begins every State of a conversation, so that it is told from the States of prompts.
const MARK: &[u8; 3] = b"eap";

/// Leads back to a conversation.
pub(super) type ConversationState = [u8; 19];

/// One open conversation, between two packets of the peer.
#[derive(Debug)]
pub(super) struct Open {
    pub(super) state: ConversationState,
    pub(super) conversation: Conversation,
    /// The site that it began with; all of it is decided by that one.
    pub(super) live: Arc<LiveSite>,
    pub(super) gateway: usize,
    pub(super) chain: usize,
    /// When the conversation began, or its present round did.
    pub(super) began: Moment,
    /// When the peer was last heard from.
    pub(super) heard: Moment,
    /// What was seen since `began`.
    pub(super) steps: Vec<Step>,
    /// The last packet without its credential, for the login to come.
    pub(super) request: Request,
    /// Leads back to the prompt that the peer was asked, if it was.
    pub(super) prompt: Option<Vec<u8>>,
    /// A login that is decided, while the peer is told the result.
    pub(super) decided: Option<Box<Login>>,
    /// Whether the conversation has failed, so that nothing more can be told inside it.
    pub(super) failed: bool,
}

/// How the answer to a decided login is written.
#[derive(Debug)]
pub(super) enum EapReply {
    /// The last packet of the conversation.
    Last(EapAnswer),
    /// A prompt inside the conversation.
    Asks { packet: Vec<u8>, state: ConversationState },
}

/// What happens to a decided login.
#[derive(Debug)]
pub(super) enum Told {
    /// It is answered now.
    Now(Box<Login>, EapReply),
    /// The peer is told the result first; the login is kept with its conversation.
    First { packet: Vec<u8>, state: ConversationState },
}

impl Open {
    /// What the conversation noted, as steps of the trace. Steps are timed since `began`.
    pub(super) fn take_notes(&mut self) -> Vec<Step> {
        let since = self.decided.as_ref().map_or(self.began, |login| login.opened());
        let step = |Note { at, tone, said }: Note| Step {
            hop: Hop::Gateway,
            what: "eap".into(),
            tone,
            at_us: at.since(since).as_micros() as u64,
            took_us: 0,
            said,
            line: None,
        };
        self.conversation.take_notes().into_iter().map(step).collect()
    }

    /// Takes up the packet that goes on with the conversation.
    fn hear(&mut self, mut request: Request, now: Moment) {
        // The trace begins with the first packet.
        request.context.length = self.request.context.length;
        self.request = request;
        self.heard = now;
    }

    /// Keeps the notes for the login to come, or adds them to the one that is decided.
    pub(super) fn keep_notes(&mut self) {
        let steps = self.take_notes();
        match &mut self.decided {
            Some(login) => login.note_conversation(steps),
            None => self.steps.extend(steps),
        }
    }

    /// What a login is told of the conversation. A further round begins after this one.
    pub(super) fn inside(&mut self, method: Option<EapMethod>, now: Moment) -> Inside {
        let inside = Inside { method, chain: self.chain, began: self.began, steps: std::mem::take(&mut self.steps), certificate: None };
        self.began = now;
        inside
    }
}

#[derive(Debug)]
enum Slot {
    Idle(Box<Open>),
    /// A packet of it is being handled.
    Busy(usize),
}

/// The open conversations.
#[derive(Debug, Default)]
pub(super) struct Conversations(Mutex<HashMap<ConversationState, Slot>>);

/// What is found for a State.
#[derive(Debug)]
pub(super) enum Taken {
    /// The conversation; nobody else gets it until it is given back.
    Open(Box<Open>),
    /// A packet of it is being handled already.
    Busy,
    /// None, or one of another gateway.
    Foreign,
}

impl Conversations {
    /// Takes a conversation of a gateway out, to go on with it.
    pub(super) fn take(&self, state: &ConversationState, gateway: &str) -> Taken {
        let mut open = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        match open.get_mut(state) {
            Some(Slot::Busy(_)) => Taken::Busy,
            Some(slot) => {
                let own = match slot {
                    Slot::Idle(one) => one.live.site.gateways.get(one.gateway).is_some_and(|of| of.name == gateway).then_some(one.gateway),
                    Slot::Busy(_) => None,
                };
                let Some(index) = own else { return Taken::Foreign };
                match std::mem::replace(slot, Slot::Busy(index)) {
                    Slot::Idle(one) => Taken::Open(one),
                    Slot::Busy(_) => Taken::Busy,
                }
            }
            None => Taken::Foreign,
        }
    }

    /// Gives a conversation back, or keeps a new one. Beyond `most`, those that have been silent longest are given to the caller: first
    /// those of a gateway that has more than half of all, so that one gateway's strangers end nobody else's conversations.
    #[must_use]
    pub(super) fn keep(&self, one: Box<Open>, most: usize) -> Vec<Open> {
        let mut open = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        open.insert(one.state, Slot::Idle(one));
        let mut ended = Vec::new();
        while open.len() > most {
            let mut counts: HashMap<usize, usize> = HashMap::new();
            for slot in open.values() {
                *counts.entry(slot.gateway()).or_default() += 1;
            }
            let greedy = counts.into_iter().find(|(_, count)| *count > most / 2).map(|(gateway, _)| gateway);
            let idle = open.iter().filter_map(|(state, slot)| match slot {
                Slot::Idle(one) if greedy.is_none_or(|gateway| gateway == one.gateway) => Some((one.heard, *state)),
                _ => None,
            });
            let Some((_, oldest)) = idle.min_by_key(|(heard, _)| *heard) else { break };
            if let Some(Slot::Idle(one)) = open.remove(&oldest) {
                ended.push(*one);
            }
        }
        ended
    }

    /// Forgets a conversation that has ended while it was taken out.
    pub(super) fn forget(&self, state: &ConversationState) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).remove(state);
    }

    /// Forgets a conversation that was taken out and not given back: its login broke down.
    pub(super) fn give_up(&self, state: &ConversationState) {
        let mut open = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if matches!(open.get(state), Some(Slot::Busy(_))) {
            open.remove(state);
        }
    }

    /// Takes out those that have been silent for too long.
    pub(super) fn silent(&self, now: Moment, idle: impl Fn(&Open) -> Duration) -> Vec<Open> {
        let mut open = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let over = |slot: &Slot| matches!(slot, Slot::Idle(one) if now.since(one.heard) >= idle(one));
        let states: Vec<ConversationState> = open.iter().filter(|(_, slot)| over(slot)).map(|(state, _)| *state).collect();
        let mut ended = Vec::new();
        for state in states {
            if let Some(Slot::Idle(one)) = open.remove(&state) {
                ended.push(*one);
            }
        }
        if open.is_empty() {
            open.shrink_to_fit();
        }
        ended
    }

    /// How many are open.
    pub(super) fn count(&self) -> usize {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).len()
    }
}

impl Slot {
    fn gateway(&self) -> usize {
        match self {
            Slot::Idle(one) => one.gateway,
            Slot::Busy(gateway) => *gateway,
        }
    }
}

/// A new State. `random` is 16 bytes that nobody can foresee.
pub(super) fn new_state(random: [u8; 16]) -> ConversationState {
    let mut state = [0; 19];
    state[..3].copy_from_slice(MARK);
    state[3..].copy_from_slice(&random);
    state
}

/// The State of a conversation in a packet, if it has one.
pub(super) fn state_in(packet: &Packet<'_>) -> Option<ConversationState> {
    let state = packet.first(AttributeType::State)?.value;
    <ConversationState>::try_from(state).ok().filter(|state| state.starts_with(MARK))
}

/// The EAP message of a packet, put together (RFC 3579 section 3.1); none if it has none.
pub(super) fn message_in(packet: &Packet<'_>) -> Option<Vec<u8>> {
    packet.first(AttributeType::EapMessage)?;
    let pieces = packet.attributes().filter(|attribute| attribute.kind == AttributeType::EapMessage);
    Some(pieces.flat_map(|piece| piece.value.iter().copied()).collect())
}

/// The characters of a name that say where it belongs: what follows the last `@`.
fn realm(name: &[u8]) -> String {
    std::str::from_utf8(name).map(realm_of).unwrap_or_default()
}

/// What a login is told of a credential.
fn credential_of(given: &Given) -> Credential {
    let unreadable = |method: &EapMethod, error: String| Credential::Unreadable(bivector_site::Method::EapOf(*method), error);
    match &given.credential {
        GivenCredential::Text(text) => Credential::Text(text.clone()),
        GivenCredential::Chap { password, challenge } => match ChapProof::read(password, challenge) {
            Ok(proof) => {
                let mut attributes = Vec::new();
                push_attribute(&mut attributes, AttributeType::ChapPassword, password);
                push_attribute(&mut attributes, AttributeType::ChapChallenge, challenge);
                Credential::Proof { attributes, proof: Proof::Chap(proof) }
            }
            Err(error) => unreadable(&given.method, error.to_string()),
        },
        GivenCredential::MsChapV2 { response, challenge, name } => match MsChapProof::read(response, Some(challenge)) {
            Ok(proof) => {
                let mut attributes = Vec::new();
                push_vendor(&mut attributes, MICROSOFT, MS_CHAP_CHALLENGE, challenge);
                push_vendor(&mut attributes, MICROSOFT, MS_CHAP2_RESPONSE, response);
                Credential::Proof { attributes, proof: Proof::MsChapV2(Box::new(proof.hashed_for(name))) }
            }
            Err(error) => unreadable(&given.method, error.to_string()),
        },
        GivenCredential::Certificate => Credential::Certificate,
        GivenCredential::Resumed(person) => Credential::Resumed(person.clone()),
    }
}

fn fill(bytes: &mut [u8]) {
    for chunk in bytes.chunks_mut(16) {
        chunk.copy_from_slice(&random::<16>()[..chunk.len()]);
    }
}

impl Inner {
    /// One packet with an EAP message: goes on with its conversation, begins one where the chain carries out EAP, or is an ordinary login
    /// that forwards it.
    pub(super) fn eap_packet(self: &Arc<Self>, live: Arc<LiveSite>, packet: &Packet<'_>, message: &[u8], request: Request, round: Round) {
        let gateway = live.site.gateways.get(round.gateway).map(|gateway| gateway.name.as_str()).unwrap_or_default();
        if let Some(state) = state_in(packet) {
            return match self.conversations.take(&state, gateway) {
                Taken::Open(open) => self.go_on_eap(open, message, request, round),
                // The peer sent its response again while the login is being decided: it gets one answer.
                Taken::Busy => metrics::resend("absorbed"),
                Taken::Foreign => {
                    let said = "the State of this EAP message leads to no open conversation of this gateway";
                    self.refuse_eap(live, request, said, round);
                }
            };
        }
        let chain = live.site.chain_for(round.gateway, request.context.port, &request.typed_name);
        let settings = chain.and_then(|chain| Some((chain, live.eap.settings(chain)?)));
        let Some((chain, settings)) = settings else { return self.begin_login(live, request, round, None) };
        // RFC 3579 section 2.1: a gateway may let the server ask for the identity.
        if message.len() < 5 {
            return self.send_eap(&eap::request(1, IDENTITY, &[]), &[], round);
        }
        match Conversation::identity_of(message) {
            Some((identifier, identity)) => self.begin_eap(live, chain, settings, (identifier, identity), request, round),
            None => self.refuse_eap(live, request, "an EAP conversation begins with an identity, and this message is no such", round),
        }
    }

    fn begin_eap(
        self: &Arc<Self>,
        live: Arc<LiveSite>,
        chain: usize,
        settings: Arc<Settings>,
        (identifier, identity): (u8, &[u8]),
        request: Request,
        round: Round,
    ) {
        let now = round.clock.now();
        match Conversation::begin(settings, identity, identifier, &mut fill, now) {
            Ok((conversation, first)) => {
                let mut open = Box::new(Open {
                    state: new_state(random()),
                    conversation,
                    gateway: round.gateway,
                    chain,
                    began: now,
                    heard: now,
                    steps: Vec::new(),
                    request,
                    prompt: None,
                    decided: None,
                    failed: false,
                    live,
                });
                open.keep_notes();
                self.keep_and_send(open, &first, round);
            }
            Err(Failed { cause, said }) => {
                let inside = Inside { method: None, chain, began: now, steps: Vec::new(), certificate: None };
                let request = request.with_credential(Credential::Failed(cause, said), None).within(inside);
                self.begin_login(live, request, round, None);
            }
        }
    }

    fn go_on_eap(self: &Arc<Self>, mut open: Box<Open>, message: &[u8], request: Request, mut round: Round) {
        let now = round.clock.now();
        round.place.conversation = Some(open.state);
        open.hear(request, now);
        let turn = open.conversation.receive(message, &mut fill, now);
        open.keep_notes();
        match turn {
            Turn::Send(packet) => self.keep_and_send(open, &packet, round),
            Turn::Decide(given) => self.decide_eap(open, given, round, now),
            Turn::Over => self.end_eap(open, round),
            Turn::Failed(failed) => self.fail_eap(open, failed, round, now),
        }
    }

    /// Begins the login that a credential is for, or goes on with the one whose prompt it answers.
    fn decide_eap(self: &Arc<Self>, open: Box<Open>, given: Box<Given>, round: Round, now: Moment) {
        if let Some(said) = open.realm_differs(&given).filter(|_| !matches!(given.credential, GivenCredential::Certificate)) {
            return self.fail_eap(open, Failed { cause: Cause::RealmDiffers, said }, round, now);
        }
        let Some(verifier) = open.live.eap.verifier(open.chain) else { return self.decide_for(open, &given, None, round, now) };
        if !verifier.must_ask(&given.certificates) {
            return self.decide_identified(open, &given, &verifier, round, now);
        }
        let inner = Arc::clone(self);
        drop(tokio::spawn(async move {
            verifier.ask(&given.certificates).await;
            let now = round.clock.now();
            inner.decide_identified(open, &given, &verifier, round, now);
        }));
    }

    fn decide_identified(self: &Arc<Self>, open: Box<Open>, given: &Given, verifier: &ChainVerifier, round: Round, now: Moment) {
        match verifier.identify(&given.certificates) {
            Ok(certificate) => self.decide_for(open, given, Some(certificate), round, now),
            Err((cause, said)) => self.fail_eap(open, Failed { cause, said }, round, now),
        }
    }

    fn decide_for(
        self: &Arc<Self>,
        mut open: Box<Open>,
        given: &Given,
        certificate: Option<VerifiedCertificate>,
        round: Round,
        now: Moment,
    ) {
        if let Some(refused) = open.decided.take() {
            // The peer tries another password; the refusal of the one before stands as it is.
            let (verdict, trace) = refused.finish(Default::default(), now);
            ending::finish(&verdict, trace, &self.shared, self.stage(), now);
            open.began = now;
        }
        let mut inside = open.inside(Some(given.method), now);
        let state = open.prompt.take();
        if state.is_some() {
            // A further round begins with the packet that holds the answer.
            inside.began = now;
            inside.steps.iter_mut().for_each(|step| step.at_us = 0);
        }
        // A person's certificate names the person; the identity outside says nothing.
        let name = match (&given.credential, &certificate) {
            (GivenCredential::Certificate, Some(certificate)) => certificate.name.clone().into_bytes(),
            _ => given.name.clone(),
        };
        inside.certificate = certificate.map(Box::new);
        let request = open.request.clone().with_name(&name).with_credential(credential_of(given), state);
        let live = Arc::clone(&open.live);
        self.begin_login(live, request.within(inside), round, Some(open));
    }

    /// The conversation cannot go on: the login is refused, or what was decided is overturned.
    fn fail_eap(self: &Arc<Self>, mut open: Box<Open>, failed: Failed, round: Round, now: Moment) {
        open.failed = true;
        if let Some(mut login) = open.decided.take() {
            login.overturn(failed.cause, failed.said, now);
            open.decided = Some(login);
            return self.end_eap(open, round);
        }
        let inside = open.inside(None, now);
        let live = Arc::clone(&open.live);
        let request = open.request.clone().with_credential(Credential::Failed(failed.cause, failed.said), None);
        self.begin_login(live, request.within(inside), round, Some(open));
    }

    /// The peer has acknowledged the result: the login is answered.
    fn end_eap(&self, mut open: Box<Open>, round: Round) {
        self.conversations.forget(&open.state);
        let Some(login) = open.decided.take() else { return };
        open.keep_session(&login, round.clock.now());
        let reply = EapReply::Last(open.last());
        let Round { gateway: _, which, clock, place, reply_for } = round;
        let decision = Decision { live: Arc::clone(&open.live), gateway: open.gateway, which, clock, place, reply_for, eap: None };
        self.answer(login, decision, Some(reply));
    }

    /// What a decided login means for its conversation.
    pub(super) fn tell_result(&self, login: Box<Login>, mut open: Box<Open>, now: Moment) -> Told {
        open.heard = now;
        let state = open.state;
        let first = match login.verdict() {
            Some(Verdict::Challenge(challenge)) if !open.failed => {
                let prompt = challenge.prompt.clone().unwrap_or_default();
                open.prompt = Some(challenge.state.clone());
                if let Some(packet) = open.conversation.ask(&prompt) {
                    self.keep(open);
                    return Told::Now(login, EapReply::Asks { packet, state });
                }
                None
            }
            Some(Verdict::Accept(accept)) if !open.failed => open.conversation.accept(accept.keys()),
            Some(Verdict::Refuse(refusal)) if !open.failed => {
                // Only a wrong password can be mended by another one.
                let may_retry = refusal.may_retry && refusal.cause == Cause::PasswordWrong;
                open.conversation.refuse(&refusal.message, may_retry, &mut fill)
            }
            _ => None,
        };
        match first {
            Some(packet) => {
                open.decided = Some(login);
                self.keep(open);
                Told::First { packet, state }
            }
            None => {
                open.keep_session(&login, now);
                self.conversations.forget(&state);
                Told::Now(login, EapReply::Last(open.last()))
            }
        }
    }

    fn refuse_eap(self: &Arc<Self>, live: Arc<LiveSite>, request: Request, said: &str, round: Round) {
        let failed = Credential::Failed(Cause::EapForeign, said.to_owned());
        self.begin_login(live, request.with_credential(failed, None), round, None);
    }

    fn keep_and_send(self: &Arc<Self>, open: Box<Open>, packet: &[u8], round: Round) {
        let state = open.state;
        self.keep(open);
        self.send_eap(packet, &state, round);
    }

    fn keep(&self, open: Box<Open>) {
        let most = open.live.site.eap.conversations;
        self.conversations.keep(open, most).into_iter().for_each(|ended| self.abandon(ended, "there was no room for it any more"));
        metrics::eap_conversations(self.conversations.count());
    }

    /// Sends a further request of a conversation.
    pub(super) fn send_eap(&self, packet: &[u8], state: &[u8], round: Round) {
        let Round { gateway, which, place, reply_for, .. } = round;
        let (key, live) = (place.key, Arc::clone(&place.live));
        let secret = live.secrets.get(gateway).map(|secret| secret.of(which));
        let bytes: Option<Arc<[u8]>> = secret.and_then(|secret| reply_for.eap_request(packet, state, secret)).map(Arc::from);
        self.finish(key, bytes.clone());
        if let Some(bytes) = &bytes {
            self.send(bytes, key.sender);
        }
        drop(place);
    }

    /// Ends conversations that nobody goes on with.
    pub(super) async fn end_silent(self: Arc<Self>, mut stopped: watch::Receiver<bool>) {
        let mut each = tokio::time::interval(Duration::from_secs(1));
        loop {
            tokio::select! {
                _ = each.tick() => {}
                _ = stopped.wait_for(|stopped| *stopped) => return,
            }
            let ended = self.conversations.silent(clock::now(), Open::idle);
            ended.into_iter().for_each(|open| self.abandon(open, "no further packet came"));
            metrics::eap_conversations(self.conversations.count());
        }
    }

    /// Keeps the trace of a conversation that ends without its peer. An open prompt ends by itself.
    fn abandon(&self, mut open: Open, why: &str) {
        let now = clock::now();
        let (cause, said) = match open.conversation.failure() {
            Some(failed) => (failed.cause, failed.said.clone()),
            None => (Cause::EapUnfinished, format!("{why} {}", open.conversation.stage())),
        };
        let login = match open.decided.take() {
            Some(mut login) => {
                login.overturn(cause, said, now);
                login
            }
            None if open.prompt.is_some() => return,
            None => {
                let inside = open.inside(None, now);
                let request = open.request.clone().with_credential(Credential::Failed(cause, said), None);
                let site = Arc::clone(&open.live.site);
                Box::new(Login::begin(site, request.within(inside), ending::reference(), open.live.revision, now))
            }
        };
        let (verdict, trace) = login.finish(Default::default(), now);
        ending::finish(&verdict, trace, &self.shared, self.stage(), now);
    }
}

/// How long a peer may take to acknowledge an alert. Many never do, and their login has failed anyway.
const ALERT_ANSWERED: Duration = Duration::from_secs(2);

impl Open {
    /// How long it may be without a packet.
    fn idle(&self) -> Duration {
        let usual = self.live.site.eap.idle;
        if self.conversation.failure().is_some() { usual.min(ALERT_ANSWERED) } else { usual }
    }

    /// Lets the session of a login be resumed that is accepted for good: the peer has nothing left to object. What a rehearsal was accepted
    /// with counts nowhere else.
    fn keep_session(&mut self, login: &Login, now: Moment) {
        let (Some(Verdict::Accept(accept)), Some(resume)) = (login.verdict(), self.live.site.eap.resume) else { return };
        if self.request.context.origin == Origin::Gateway {
            self.conversation.keep_session(&accept.person().key, now.plus(resume));
        }
    }

    /// The last packet, with the key of a success.
    fn last(&self) -> EapAnswer {
        let ended = self.conversation.end();
        // Whether it is wanted is said by any packet of the conversation; the last one is at hand.
        let key_name = ended.session_id.filter(|_| self.request.context.wants_key_name());
        EapAnswer { packet: ended.packet, msk: ended.msk, key_name }
    }

    /// Why the name inside the tunnel may not be used with the outer identity, if so.
    fn realm_differs(&self, given: &Given) -> Option<String> {
        let (outer, inner) = (realm(self.conversation.identity()), realm(&given.name));
        let differs = !outer.is_empty() && !inner.is_empty() && !outer.eq_ignore_ascii_case(&inner);
        let elsewhere = self.live.site.chain_for(self.gateway, self.request.context.port, &given.name) != Some(self.chain);
        (differs || !inner.is_empty() && elsewhere).then(|| {
            let outer = if outer.is_empty() { "no realm".to_owned() } else { format!("the realm `{outer}`") };
            format!("the outer identity has {outer}, and the name inside the tunnel has `{inner}`")
        })
    }
}
