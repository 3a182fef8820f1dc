//! The conversation as the server leads it: which method is offered, what the peer answers, and how it ends.

use crate::basic::{Answered, Basic};
use crate::sessions::{SessionOf, Sessions};
use crate::tunneled::{Tunneled, TunneledTurn};
use crate::{Failed, Msk, Random};
use bivector_model::Cause;
use bivector_model::moment::Moment;
use bivector_model::text::shown as printable;
use bivector_model::trace::Tone;
use bivector_wire::eap::{self, EXPANDED, EapMethod, EapPacket, Half, IDENTITY, Inner, NAK, NOTIFICATION};
use bivector_wire::{MsChapProved, Secret};
use rustls::ServerConfig;
use rustls::pki_types::CertificateDer;
use std::sync::Arc;

/// Rounds that a conversation may take. A handshake with long certificates in small fragments takes about 60.
const ROUNDS: u16 = 300;

/// What a conversation may do.
#[derive(Debug, Clone)]
pub struct Settings {
    /// The methods that the chain accepts, preferred first.
    pub methods: Vec<EapMethod>,
    /// Certificate, versions and trust, for methods with a tunnel.
    pub tls: Option<Arc<ServerConfig>>,
    /// What the server's certificate is called in traces.
    pub certificate: String,
    /// Whether the peer must show a certificate.
    pub asks_certificate: bool,
    /// Bytes of TLS data in one EAP packet.
    pub fragment: usize,
    /// The name that challenges carry.
    pub server: String,
    /// Where sessions are kept that may be resumed; none if every login proves a credential anew.
    pub sessions: Option<Arc<Sessions>>,
}

/// What was seen in one round, for the trace.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Note {
    /// When.
    pub at: Moment,
    /// How it is to be read.
    pub tone: Tone,
    /// The sentence.
    pub said: String,
}

/// A credential that the peer has given.
#[derive(Debug, Clone)]
pub struct Given {
    /// The method that yielded it.
    pub method: EapMethod,
    /// The name inside the tunnel; the outer identity where there is none.
    pub name: Vec<u8>,
    /// The credential.
    pub credential: GivenCredential,
    /// The certificate chain that the peer has proved to own, leaf first.
    pub certificates: Vec<CertificateDer<'static>>,
}

/// What proves who the peer is.
#[derive(Debug, Clone)]
pub enum GivenCredential {
    /// A text.
    Text(Secret<Vec<u8>>),
    /// A CHAP response (RFC 1994).
    Chap {
        /// Identifier and response, 17 bytes.
        password: Vec<u8>,
        /// What it answers.
        challenge: Vec<u8>,
    },
    /// An MS-CHAPv2 response (RFC 2759).
    MsChapV2 {
        /// As the value of MS-CHAP2-Response.
        response: [u8; 50],
        /// What it answers.
        challenge: [u8; 16],
        /// The name that was hashed; empty if it is the peer's own.
        name: Vec<u8>,
    },
    /// The certificate alone.
    Certificate,
    /// A session of an earlier login, in which this person was accepted; by the person's key.
    Resumed(String),
}

/// What to do after a response.
#[derive(Debug)]
pub enum Turn {
    /// Send this EAP packet.
    Send(Vec<u8>),
    /// Decide this credential.
    Decide(Box<Given>),
    /// The peer has acknowledged the result, and the conversation ends with it.
    Over,
    /// It cannot go on.
    Failed(Failed),
}

/// How a conversation ends, for the last packet.
#[derive(Debug)]
pub struct Ended {
    /// EAP-Success or EAP-Failure.
    pub packet: Vec<u8>,
    /// The key that both sides share now, after a success with a method that has one.
    pub msk: Option<Msk>,
    /// The name of that key, after a success with a method in a tunnel.
    pub session_id: Option<Vec<u8>>,
}

#[derive(Debug)]
enum Running {
    Basic(Basic),
    Tunneled(Box<Tunneled>),
}

/// One conversation with one peer.
#[derive(Debug)]
pub struct Conversation {
    settings: Arc<Settings>,
    identity: Vec<u8>,
    running: Running,
    /// Types that the peer did not want.
    refused: Vec<u8>,
    /// The identifier of the last request.
    identifier: u8,
    last: Vec<u8>,
    rounds: u16,
    notes: Vec<Note>,
    accepted: bool,
    /// The method and the name of the last credential.
    given: Option<(EapMethod, Vec<u8>)>,
}

impl Conversation {
    /// Begins with the peer's identity; `identifier` is that of the packet which told it. Gives the first request.
    ///
    /// # Errors
    /// The settings allow no method that can be carried out.
    pub fn begin(
        settings: Arc<Settings>,
        identity: &[u8],
        identifier: u8,
        random: Random<'_>,
        now: Moment,
    ) -> Result<(Self, Vec<u8>), Failed> {
        let offer = settings.methods.first().map(|method| method.outer());
        let running = offer.and_then(|kind| start(&settings, kind, random, now));
        let Some(running) = running else {
            return Err(Failed::new(Cause::MethodNotInChain, "the chain has no EAP method that can be carried out"));
        };
        let mut conversation = Conversation {
            settings,
            identity: identity.to_vec(),
            running,
            refused: Vec::new(),
            identifier,
            last: Vec::new(),
            rounds: 0,
            notes: Vec::new(),
            accepted: false,
            given: None,
        };
        let identity = String::from_utf8_lossy(identity);
        let name = printable(&identity);
        conversation.note(
            now,
            Tone::Good,
            match name.is_empty() {
                true => "the peer began without an identity".to_owned(),
                false => format!("the peer's identity is `{name}`"),
            },
        );
        let first = conversation.offer(now);
        Ok((conversation, first))
    }

    /// The outer identity.
    pub fn identity(&self) -> &[u8] {
        &self.identity
    }

    /// Takes what was seen since the last call.
    pub fn take_notes(&mut self) -> Vec<Note> {
        std::mem::take(&mut self.notes)
    }

    /// What the peer is waiting for or was last asked, in words; for conversations that end unanswered.
    pub fn stage(&self) -> String {
        match &self.running {
            Running::Basic(basic) => format!("after a request of {}", eap::shown(basic.kind())),
            Running::Tunneled(tunneled) => tunneled.stage(),
        }
    }

    /// Why the conversation has failed, if the peer was sent an alert and has not answered it yet. Many peers never do.
    pub fn failure(&self) -> Option<&Failed> {
        match &self.running {
            Running::Tunneled(tunneled) => tunneled.failure(),
            Running::Basic(_) => None,
        }
    }

    /// The certificate chain that the peer has proved to own, leaf first.
    pub fn certificates(&self) -> Vec<CertificateDer<'static>> {
        match &self.running {
            Running::Tunneled(tunneled) => tunneled.certificates(),
            Running::Basic(_) => Vec::new(),
        }
    }

    /// Reads a response of the peer.
    pub fn receive(&mut self, bytes: &[u8], random: Random<'_>, now: Moment) -> Turn {
        self.rounds += 1;
        if self.rounds > ROUNDS {
            return Turn::Failed(Failed::new(Cause::EapTooLong, format!("the conversation took more than {ROUNDS} rounds")));
        }
        let packet = match EapPacket::parse(bytes) {
            Ok(packet) if packet.half == Half::Response => packet,
            Ok(_) => return Turn::Failed(Failed::malformed("the peer sent a request")),
            Err(error) => return Turn::Failed(Failed::malformed(error.to_string())),
        };
        if packet.identifier != self.identifier {
            // RFC 3748 section 4.1: it answers an earlier request, whose answer was heard already.
            return Turn::Send(self.last.clone());
        }
        let turn = match packet.kind {
            NAK => self.negotiate(packet.data, random, now),
            EXPANDED => self.negotiate(&expanded_nak(packet.data), random, now),
            NOTIFICATION => Ok(Turn::Send(self.last.clone())),
            kind => self.answered(kind, packet, random, now),
        };
        turn.unwrap_or_else(Turn::Failed)
    }

    fn answered(&mut self, kind: u8, packet: EapPacket<'_>, random: Random<'_>, now: Moment) -> Result<Turn, Failed> {
        let expected = self.kind();
        if kind != expected {
            let said = format!("{} was asked for, and the peer answered with {}", eap::shown(expected), eap::shown(kind));
            return Err(Failed::malformed(said));
        }
        match &mut self.running {
            Running::Basic(basic) => match basic.answer(packet.identifier, packet.data)? {
                Answered::Acknowledged => Ok(Turn::Over),
                Answered::Given(credential) => {
                    let method = method_of(&self.settings, kind, Inner::Itself)?;
                    let name = self.identity.clone();
                    self.given = Some((method, name.clone()));
                    self.note(now, Tone::Good, format!("the peer answered {}", eap::shown(kind)));
                    Ok(Turn::Decide(Box::new(Given { method, name, credential, certificates: Vec::new() })))
                }
            },
            Running::Tunneled(tunneled) => {
                let turn = tunneled.receive(packet.data, random);
                for (tone, said) in tunneled.take_notes() {
                    self.note(now, tone, said);
                }
                Ok(match turn? {
                    TunneledTurn::Send(data) => Turn::Send(self.request(kind, &data)),
                    TunneledTurn::Over => Turn::Over,
                    TunneledTurn::Given { inner, name, credential } => {
                        let method = method_of(&self.settings, kind, inner)?;
                        let name = name.unwrap_or_else(|| self.identity.clone());
                        self.given = Some((method, name.clone()));
                        Turn::Decide(Box::new(Given { method, name, credential, certificates: self.certificates() }))
                    }
                })
            }
        }
    }

    /// The peer wants another method than the one offered (RFC 3748 section 5.3.1).
    fn negotiate(&mut self, wanted: &[u8], random: Random<'_>, now: Moment) -> Result<Turn, Failed> {
        let offered = self.kind();
        if !self.is_at_offer() {
            return Err(Failed::malformed(format!("the peer refused {} after it had begun", eap::shown(offered))));
        }
        self.refused.push(offered);
        let wanted: Vec<u8> = wanted.iter().copied().filter(|kind| *kind != 0).collect();
        let names: Vec<String> = wanted.iter().map(|kind| eap::shown(*kind)).collect();
        let names = if names.is_empty() { "names no other".to_owned() } else { format!("wants {}", names.join(" or ")) };
        let said = format!("the peer does not want {} and {names}", eap::shown(offered));
        self.note(now, Tone::Note, said.clone());
        let ours: Vec<u8> = self.settings.methods.iter().map(|method| method.outer()).filter(|kind| !self.refused.contains(kind)).collect();
        let next = ours.iter().copied().find(|kind| wanted.contains(kind));
        match next.and_then(|kind| start(&self.settings, kind, random, now)) {
            Some(running) => {
                self.running = running;
                Ok(Turn::Send(self.offer(now)))
            }
            None => {
                let listed: Vec<&str> = self.settings.methods.iter().map(|method| method.name()).collect();
                Err(Failed::new(Cause::MethodNotInChain, format!("{said}; the chain accepts {}", listed.join(", "))))
            }
        }
    }

    /// Whether the method has only been offered.
    fn is_at_offer(&self) -> bool {
        match &self.running {
            Running::Basic(_) => self.rounds as usize == self.refused.len() + 1,
            Running::Tunneled(tunneled) => tunneled.is_at_start(),
        }
    }

    fn offer(&mut self, now: Moment) -> Vec<u8> {
        let kind = self.kind();
        self.note(now, Tone::Good, format!("{} was offered", eap::shown(kind)));
        let data = match &mut self.running {
            Running::Basic(basic) => basic.first(&self.settings.server),
            Running::Tunneled(tunneled) => tunneled.first(),
        };
        self.request(kind, &data)
    }

    fn kind(&self) -> u8 {
        match &self.running {
            Running::Basic(basic) => basic.kind(),
            Running::Tunneled(tunneled) => tunneled.kind(),
        }
    }

    fn request(&mut self, kind: u8, data: &[u8]) -> Vec<u8> {
        self.identifier = self.identifier.wrapping_add(1);
        self.last = eap::request(self.identifier, kind, data);
        self.last.clone()
    }

    /// Asks the person for a further text. None if the method cannot show one.
    pub fn ask(&mut self, prompt: &str) -> Option<Vec<u8>> {
        let kind = self.kind();
        let data = match &mut self.running {
            Running::Basic(basic) => basic.ask(prompt),
            Running::Tunneled(tunneled) => tunneled.ask(prompt),
        }?;
        Some(self.request(kind, &data))
    }

    /// Tells the peer that it is accepted, where the method has a way to; none if EAP-Success can follow at once.
    pub fn accept(&mut self, proved: Option<&MsChapProved>) -> Option<Vec<u8>> {
        self.accepted = true;
        let kind = self.kind();
        let data = match &mut self.running {
            Running::Basic(basic) => basic.accept(proved),
            Running::Tunneled(tunneled) => tunneled.accept(proved),
        }?;
        Some(self.request(kind, &data))
    }

    /// Lets the session be resumed until then, for the person who was accepted.
    pub fn keep_session(&mut self, person: &str, until: Moment) {
        if let (Running::Tunneled(tunneled), Some((method, name))) = (&self.running, self.given.clone()) {
            tunneled.keep_session(&SessionOf { method, name, person: person.to_owned() }, until);
        }
    }

    /// Tells the peer that it is refused, where the method has a way to; none if EAP-Failure can follow at once. With `may_retry`, methods
    /// with MS-CHAPv2 let the peer answer again, which yields another credential.
    pub fn refuse(&mut self, message: &str, may_retry: bool, random: Random<'_>) -> Option<Vec<u8>> {
        self.accepted = false;
        let kind = self.kind();
        let data = match &mut self.running {
            Running::Basic(basic) => basic.refuse(message, may_retry, random),
            Running::Tunneled(tunneled) => tunneled.refuse(message, may_retry, random),
        }?;
        Some(self.request(kind, &data))
    }

    /// The last packet. An accept gives the keys.
    pub fn end(&self) -> Ended {
        if !self.accepted {
            return Ended { packet: eap::failure(self.identifier), msk: None, session_id: None };
        }
        let msk = match &self.running {
            Running::Basic(basic) => basic.msk(),
            Running::Tunneled(tunneled) => tunneled.msk(),
        };
        let session_id = match &self.running {
            Running::Basic(_) => None,
            Running::Tunneled(tunneled) => tunneled.session_id(),
        };
        Ended { packet: eap::success(self.identifier), msk, session_id }
    }

    fn note(&mut self, at: Moment, tone: Tone, said: String) {
        self.notes.push(Note { at, tone, said: printable(&said).into_owned() });
    }
}

/// Begins a method by its type.
fn start(settings: &Arc<Settings>, kind: u8, random: Random<'_>, now: Moment) -> Option<Running> {
    Basic::begin(kind, random)
        .map(Running::Basic)
        .or_else(|| Tunneled::begin(settings, kind, now).map(|one| Running::Tunneled(Box::new(one))))
}

/// The method of the chain that a type and what is inside belong to.
pub(crate) fn method_of(settings: &Settings, kind: u8, inner: Inner) -> Result<EapMethod, Failed> {
    let found = settings.methods.iter().copied().find(|method| method.outer() == kind && method.inner() == inner);
    found.ok_or_else(|| {
        let known = EapMethod::ALL.iter().find(|method| method.outer() == kind && method.inner() == inner);
        let listed: Vec<&str> = settings.methods.iter().map(|method| method.name()).collect();
        let used = known.map_or("another method", |method| method.name());
        Failed::new(Cause::MethodNotInChain, format!("the peer used {used}; the chain accepts {}", listed.join(", ")))
    })
}

/// The types that an expanded Nak asks for (RFC 3748 section 5.3.2): those without a vendor.
fn expanded_nak(data: &[u8]) -> Vec<u8> {
    data.chunks_exact(8)
        .skip(usize::from(data.starts_with(&[0, 0, 0, 0, 0, 0, NAK])))
        .filter_map(|one| match one {
            [EXPANDED, 0, 0, 0, 0, 0, 0, kind] => Some(*kind),
            _ => None,
        })
        .collect()
}

/// The name that an EAP-Response/Identity tells. Some peers end it with a zero byte and options (RFC 3748 section 5.1).
pub(crate) fn identity_in(data: &[u8]) -> &[u8] {
    data.split(|byte| *byte == 0).next().unwrap_or_default()
}

impl Conversation {
    /// The identity in a response, if that is what the response is; with its identifier.
    pub fn identity_of(bytes: &[u8]) -> Option<(u8, &[u8])> {
        let packet = EapPacket::parse(bytes).ok()?;
        (packet.half == Half::Response && packet.kind == IDENTITY).then(|| (packet.identifier, identity_in(packet.data)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_expanded_nak_names_types_without_a_vendor() {
        let data = [[254, 0, 0, 0, 0, 0, 0, 13], [254, 0, 1, 0x37, 0, 0, 0, 1], [254, 0, 0, 0, 0, 0, 0, 21]].concat();
        assert_eq!(expanded_nak(&data), [13, 21]);
        assert!(expanded_nak(&data[..7]).is_empty());
    }

    #[test]
    fn an_identity_ends_at_a_zero_byte() {
        assert_eq!(Conversation::identity_of(b"\x02\x05\x00\x10\x01ines\0option"), Some((5, &b"ines"[..])));
        assert_eq!(Conversation::identity_of(b"\x02\x05\x00\x06\x03\x15"), None);
    }
}
