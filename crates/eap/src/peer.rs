//! The peer's side of a conversation: what a person's device does. Rehearsed logins and tests use it; nothing of it decides a login.

use crate::framing::{Arrived, Framing, START};
use crate::peap::{answer_binding, answer_result, read_result};
use crate::tls::Tunnel;
use crate::{Failed, MSK, Msk, Random};
use bivector_wire::eap::avp::{self, CHAP_CHALLENGE, CHAP_PASSWORD, EAP_MESSAGE, USER_NAME, USER_PASSWORD};
use bivector_wire::eap::{
    self, EXTENSIONS, EapMethod, EapPacket, GTC, Half, IDENTITY, Inner, MD5, MS_CHAP_V2, NOTIFICATION, PEAP, TLS, TTLS,
};
use bivector_wire::{MICROSOFT, MS_CHAP_CHALLENGE, MS_CHAP2_RESPONSE, MsChapProof, MsChapProved, Secret, chap_password, nt_hash};
use rustls::pki_types::ServerName;
use rustls::{ClientConfig, ClientConnection, Connection};
use std::sync::Arc;

/// What a peer is set up with.
#[derive(Debug, Clone)]
pub struct PeerSettings {
    /// The one method that it accepts.
    pub method: EapMethod,
    /// The person's name, as told inside a tunnel.
    pub name: Vec<u8>,
    /// The name that is told outside; the person's own if none.
    pub outer: Option<Vec<u8>>,
    /// What the person types first.
    pub password: Secret<Vec<u8>>,
    /// What the person types where MS-CHAPv2 lets another password be tried, one after the other.
    pub again: Vec<Secret<Vec<u8>>>,
    /// Trust, versions and the person's certificate, for methods with a tunnel.
    pub tls: Option<Arc<ClientConfig>>,
    /// The name that the server's certificate must have.
    pub server: String,
    /// Bytes of TLS data in one EAP packet.
    pub fragment: usize,
    /// Whether a ClientHello of TLS 1.0 is sent instead, as outdated devices do.
    pub old_tls: bool,
}

/// What a peer does after a packet of the server.
#[derive(Debug)]
pub enum PeerTurn {
    /// Send this response.
    Send(Vec<u8>),
    /// The person is asked for a further text; go on with [`Peer::answer`].
    Asked(String),
    /// EAP-Success came.
    Success,
    /// EAP-Failure came.
    Failure,
    /// The peer cannot go on, and why.
    Ended(String),
}

/// One peer in one conversation.
#[derive(Debug)]
pub struct Peer {
    settings: PeerSettings,
    tunnel: Option<(Tunnel, Framing)>,
    /// Texts that were sent.
    texts: usize,
    asked: Option<Asked>,
    proof: Option<MsChapProof>,
    proved: Option<MsChapProved>,
    bound: Option<Msk>,
    /// EAP-TLS inside PEAP.
    inner: Option<Box<Peer>>,
    /// How many further passwords were tried.
    again: usize,
    /// An alert was sent; nothing more is expected but a failure.
    ended: Option<String>,
}

/// A request for a text, as it has to be answered.
#[derive(Debug, Clone, Copy)]
struct Asked {
    identifier: u8,
    /// The identifier inside the tunnel.
    inner: Option<u8>,
}

impl Peer {
    /// A peer that has not begun.
    pub fn new(settings: PeerSettings) -> Self {
        Peer { settings, tunnel: None, texts: 0, asked: None, proof: None, proved: None, bound: None, inner: None, again: 0, ended: None }
    }

    /// The response that begins: the identity (RFC 3579 section 2.1).
    pub fn begin(&self) -> Vec<u8> {
        eap::response(0, IDENTITY, self.outer())
    }

    /// The name that is told outside the tunnel.
    pub fn outer(&self) -> &[u8] {
        self.settings.outer.as_deref().unwrap_or(&self.settings.name)
    }

    /// Whether the session was resumed.
    pub fn is_resumed(&self) -> bool {
        self.tunnel.as_ref().is_some_and(|(tunnel, _)| tunnel.0.handshake_kind() == Some(rustls::HandshakeKind::Resumed))
    }

    /// The version of TLS, where the method has a tunnel.
    pub fn tls_version(&self) -> Option<&'static str> {
        self.tunnel.as_ref().map(|(tunnel, _)| tunnel.version())
    }

    /// The key that both sides should share.
    pub fn msk(&self) -> Option<Msk> {
        if let Some(bound) = &self.bound {
            return Some(bound.clone());
        }
        match &self.tunnel {
            Some((tunnel, _)) => tunnel.msk(self.settings.method.outer()),
            None => self.proved.as_ref().map(|proved| {
                let mut key = [proved.receive_key.expose().as_slice(), proved.send_key.expose()].concat();
                key.resize(MSK, 0);
                Secret::new(key)
            }),
        }
    }

    /// Reads a packet of the server.
    pub fn receive(&mut self, bytes: &[u8], random: Random<'_>) -> PeerTurn {
        match bytes {
            [3, _, 0, 4, ..] => return PeerTurn::Success,
            [4, _, 0, 4, ..] => return self.ended.take().map_or(PeerTurn::Failure, PeerTurn::Ended),
            _ => {}
        }
        let packet = match EapPacket::parse(bytes) {
            Ok(packet) if packet.half == Half::Request => packet,
            Ok(_) => return PeerTurn::Ended("the server sent a response".into()),
            Err(error) => return PeerTurn::Ended(error.to_string()),
        };
        let (identifier, method) = (packet.identifier, self.settings.method);
        match packet.kind {
            IDENTITY => PeerTurn::Send(eap::response(identifier, IDENTITY, self.outer())),
            NOTIFICATION => PeerTurn::Send(eap::response(identifier, NOTIFICATION, &[])),
            kind if kind != method.outer() => PeerTurn::Send(eap::nak(identifier, &[method.outer()])),
            TLS | TTLS | PEAP => self.tunneled(identifier, packet.data, random).unwrap_or_else(|failed| PeerTurn::Ended(failed.said)),
            kind => match self.basic(kind, identifier, packet.data, random) {
                Basic::Data(data) => PeerTurn::Send(eap::response(identifier, kind, &data)),
                Basic::Asked(prompt) => {
                    self.asked = Some(Asked { identifier, inner: None });
                    PeerTurn::Asked(prompt)
                }
                Basic::Wrong(said) => PeerTurn::Ended(said.to_owned()),
            },
        }
    }

    /// Answers a prompt.
    pub fn answer(&mut self, text: &[u8]) -> PeerTurn {
        let Some(Asked { identifier, inner }) = self.asked.take() else { return PeerTurn::Ended("nothing was asked".into()) };
        let method = self.settings.method;
        match (inner, method.outer()) {
            (None, kind) => PeerTurn::Send(eap::response(identifier, kind, text)),
            (Some(_), PEAP) => self.send_inside(identifier, &[&[GTC], text].concat()),
            (Some(inner), _) => {
                let clear = wrapped(&eap::response(inner, GTC, text));
                self.send_inside(identifier, &clear)
            }
        }
    }

    /// One of the methods without a tunnel, wherever it runs.
    fn basic(&mut self, kind: u8, identifier: u8, data: &[u8], random: Random<'_>) -> Basic {
        let password = self.settings.password.expose().clone();
        match (kind, data) {
            (GTC, prompt) => {
                self.texts += 1;
                match self.texts {
                    1 => Basic::Data(password),
                    _ => Basic::Asked(String::from_utf8_lossy(prompt).into_owned()),
                }
            }
            (MD5, [16, challenge @ ..]) if challenge.len() >= 16 => {
                let digest = chap_password(identifier, &password, &challenge[..16]);
                Basic::Data([&[16], &digest[1..]].concat())
            }
            (MS_CHAP_V2, [1, own, _, _, 16, challenge @ ..]) => match challenge.first_chunk::<16>() {
                Some(challenge) => Basic::Data(self.ms_chap(*own, *challenge, random)),
                None => Basic::Wrong("the challenge is too short"),
            },
            (MS_CHAP_V2, [3, _, _, _, message @ ..]) => match self.confirms(message) {
                true => Basic::Data(vec![3]),
                false => Basic::Wrong("the server does not know the password: its own proof is wrong"),
            },
            (MS_CHAP_V2, [4, own, _, _, message @ ..]) => match self.challenged_again(message) {
                Some((challenge, password)) => {
                    self.settings.password = password;
                    self.again += 1;
                    Basic::Data(self.ms_chap(own.wrapping_add(1), challenge, random))
                }
                None => Basic::Data(vec![4]),
            },
            _ => Basic::Wrong("a request that the peer does not understand"),
        }
    }

    /// A Response of EAP-MSCHAPv2.
    fn ms_chap(&mut self, own: u8, challenge: [u8; 16], random: Random<'_>) -> Vec<u8> {
        let value = self.respond(own, challenge, random);
        let name = &self.settings.name;
        let [high, low] = ((5 + 49 + name.len()) as u16).to_be_bytes();
        [&[2, own, high, low, 49], &value[2..], &[0], name].concat()
    }

    /// The challenge of a refusal that lets another password be tried (RFC 2759 section 6), and that password, if there is one.
    fn challenged_again(&self, message: &[u8]) -> Option<([u8; 16], Secret<Vec<u8>>)> {
        let text = std::str::from_utf8(message).ok()?;
        let field = |key: &str| text.split(' ').find_map(|part| part.strip_prefix(key));
        let hex = field("C=").filter(|hex| hex.len() == 32 && field("R=") == Some("1"))?;
        let mut challenge = [0; 16];
        for (at, byte) in challenge.iter_mut().enumerate() {
            *byte = u8::from_str_radix(hex.get(at * 2..at * 2 + 2)?, 16).ok()?;
        }
        Some((challenge, self.settings.again.get(self.again)?.clone()))
    }

    /// An MS-CHAPv2 response: 50 bytes as in MS-CHAP2-Response.
    fn respond(&mut self, identifier: u8, challenge: [u8; 16], random: Random<'_>) -> [u8; 50] {
        let mut own = [0; 16];
        random(&mut own);
        let password = String::from_utf8_lossy(self.settings.password.expose()).into_owned();
        let (value, proof) = MsChapProof::answer(identifier, &self.settings.name, &nt_hash(&password), challenge, own);
        self.proved = proof.proves(&self.settings.name, &nt_hash(&password));
        self.proof = Some(proof);
        value
    }

    /// Whether the server's proof is right (RFC 2759 section 8.8).
    fn confirms(&self, message: &[u8]) -> bool {
        self.proved.as_ref().is_some_and(|proved| proved.success.get(1..).is_some_and(|expected| message.starts_with(expected)))
    }

    fn tunneled(&mut self, identifier: u8, data: &[u8], random: Random<'_>) -> Result<PeerTurn, Failed> {
        let kind = self.settings.method.outer();
        if data.first().is_some_and(|flags| flags & START != 0) {
            return Ok(self.start(identifier));
        }
        // The alert to an outdated hello is acknowledged; a failure follows.
        if self.settings.old_tls {
            return Ok(PeerTurn::Send(eap::response(identifier, kind, &[0])));
        }
        let Some((tunnel, framing)) = &mut self.tunnel else { return Ok(PeerTurn::Ended("the server did not begin".into())) };
        let bytes = match framing.receive(data)? {
            Arrived::Part => return Ok(PeerTurn::Send(eap::response(identifier, kind, &framing.next()))),
            Arrived::Acknowledged if framing.is_sending() => return Ok(PeerTurn::Send(eap::response(identifier, kind, &framing.next()))),
            Arrived::Acknowledged => Vec::new(),
            Arrived::Whole(bytes, _) => bytes,
        };
        let was_handshaking = tunnel.is_handshaking();
        let flight = tunnel.receive(&bytes);
        if let Some(error) = flight.failed {
            self.ended = Some(format!("the TLS handshake failed: {error}"));
            return Ok(self.send(identifier, flight.out));
        }
        if tunnel.is_handshaking() || (flight.inside.expose().is_empty() && !flight.out.is_empty() && kind != TTLS) {
            return Ok(self.send(identifier, flight.out));
        }
        let clear = flight.inside.expose().clone();
        let first = was_handshaking && kind == TTLS && !tunnel.is_handshaking();
        match (kind, clear.is_empty()) {
            // Whoever resumes a session proves nothing anew.
            (TTLS, _) if first && self.is_resumed() => Ok(self.send(identifier, flight.out)),
            (TTLS, _) if first => Ok(self.first_inside_ttls(identifier, flight.out, random)),
            (TTLS, false) => Ok(self.inside_ttls(identifier, &clear, random)),
            (PEAP, false) => Ok(self.inside_peap(identifier, &clear, random)),
            _ => Ok(self.send(identifier, flight.out)),
        }
    }

    fn start(&mut self, identifier: u8) -> PeerTurn {
        if self.settings.old_tls {
            self.ended = Some("the device offers no TLS version that is accepted".to_owned());
            return PeerTurn::Send(eap::response(identifier, self.settings.method.outer(), &old_hello()));
        }
        let Some(tls) = self.settings.tls.clone() else { return PeerTurn::Ended("no TLS is set up for this peer".into()) };
        let Ok(server) = ServerName::try_from(self.settings.server.clone()) else {
            return PeerTurn::Ended(format!("`{}` is not a server name", self.settings.server));
        };
        match ClientConnection::new(tls, server) {
            Ok(client) => {
                let mut tunnel = Tunnel(Connection::Client(client));
                let hello = tunnel.out();
                self.tunnel = Some((tunnel, Framing::new(self.settings.fragment)));
                self.send(identifier, hello)
            }
            Err(error) => PeerTurn::Ended(error.to_string()),
        }
    }

    /// The first message inside EAP-TTLS comes from the peer.
    fn first_inside_ttls(&mut self, identifier: u8, out: Vec<u8>, random: Random<'_>) -> PeerTurn {
        let (name, password) = (self.settings.name.clone(), self.settings.password.expose().clone());
        let mut body = Vec::new();
        let challenge = self.tunnel.as_ref().and_then(|(tunnel, _)| tunnel.challenge(17)).unwrap_or_default();
        let own = challenge.first_chunk::<16>().copied().unwrap_or_default();
        let number = challenge.get(16).copied().unwrap_or_default();
        match self.settings.method.inner() {
            Inner::Eap(_) => body = wrapped(&eap::response(0, IDENTITY, &name)),
            Inner::Itself => {}
            inner => {
                avp::push(&mut body, USER_NAME, 0, &name);
                match inner {
                    Inner::Chap => {
                        avp::push(&mut body, CHAP_CHALLENGE, 0, &own);
                        avp::push(&mut body, CHAP_PASSWORD, 0, &chap_password(number, &password, &own));
                    }
                    Inner::MsChapV2 => {
                        avp::push(&mut body, u32::from(MS_CHAP_CHALLENGE), MICROSOFT, &own);
                        avp::push(&mut body, u32::from(MS_CHAP2_RESPONSE), MICROSOFT, &self.respond(number, own, random));
                    }
                    _ => avp::push(&mut body, USER_PASSWORD, 0, avp::padded(&password).expose()),
                }
            }
        }
        let Some((tunnel, _)) = &mut self.tunnel else { return PeerTurn::Ended("there is no tunnel".into()) };
        let bytes = [out, tunnel.send(&body)].concat();
        self.send(identifier, bytes)
    }

    fn inside_ttls(&mut self, identifier: u8, clear: &[u8], random: Random<'_>) -> PeerTurn {
        let avps = match avp::read_all(clear) {
            Ok(avps) => avps,
            Err(error) => return PeerTurn::Ended(format!("inside EAP-TTLS: {error}")),
        };
        let Some(message) = avps.iter().find(|avp| avp.code == EAP_MESSAGE).map(|avp| avp.value) else {
            // MS-CHAP2-Success or an error; an empty packet acknowledges it.
            let success = avps.iter().find(|avp| avp.vendor == MICROSOFT && avp.code == u32::from(bivector_wire::MS_CHAP2_SUCCESS));
            return match success.is_none_or(|avp| self.confirms(avp.value.get(1..).unwrap_or_default())) {
                true => self.send(identifier, Vec::new()),
                false => PeerTurn::Ended("the server does not know the password: its own proof is wrong".into()),
            };
        };
        let packet = match EapPacket::parse(message) {
            Ok(packet) => packet,
            Err(error) => return PeerTurn::Ended(format!("inside EAP-TTLS: {error}")),
        };
        let Inner::Eap(wanted) = self.settings.method.inner() else { return PeerTurn::Ended("an inner method was not expected".into()) };
        let response = match packet.kind {
            IDENTITY => eap::response(packet.identifier, IDENTITY, &self.settings.name),
            kind if kind != wanted => eap::nak(packet.identifier, &[wanted]),
            kind => match self.basic(kind, packet.identifier, packet.data, random) {
                Basic::Data(data) => eap::response(packet.identifier, kind, &data),
                Basic::Asked(prompt) => {
                    self.asked = Some(Asked { identifier, inner: Some(packet.identifier) });
                    return PeerTurn::Asked(prompt);
                }
                Basic::Wrong(said) => return PeerTurn::Ended(said.to_owned()),
            },
        };
        self.send_inside(identifier, &wrapped(&response))
    }

    fn inside_peap(&mut self, identifier: u8, clear: &[u8], random: Random<'_>) -> PeerTurn {
        if let Ok(packet) = EapPacket::parse(clear)
            && packet.kind == EXTENSIONS
        {
            return self.result(identifier, packet);
        }
        let Inner::Eap(wanted) = self.settings.method.inner() else { return PeerTurn::Ended("an inner method was not expected".into()) };
        let Some((kind, data)) = clear.split_first() else { return PeerTurn::Ended("an empty message came".into()) };
        let answer = match *kind {
            IDENTITY => [&[IDENTITY], self.settings.name.as_slice()].concat(),
            kind if kind != wanted => vec![eap::NAK, wanted],
            TLS => match self.inner_tls(identifier, data, random) {
                Ok(answer) => answer,
                Err(turn) => return turn,
            },
            kind => match self.basic(kind, identifier, data, random) {
                Basic::Data(data) => [&[kind], data.as_slice()].concat(),
                Basic::Asked(prompt) => {
                    self.asked = Some(Asked { identifier, inner: Some(0) });
                    return PeerTurn::Asked(prompt);
                }
                Basic::Wrong(said) => return PeerTurn::Ended(said.to_owned()),
            },
        };
        self.send_inside(identifier, &answer)
    }

    /// EAP-TLS inside PEAP is a conversation of its own, without headers.
    fn inner_tls(&mut self, identifier: u8, data: &[u8], random: Random<'_>) -> Result<Vec<u8>, PeerTurn> {
        let fragment = self.settings.fragment.saturating_sub(64);
        let settings = || PeerSettings { method: EapMethod::Tls, fragment, ..self.settings.clone() };
        let inner = self.inner.get_or_insert_with(|| Box::new(Peer::new(settings())));
        match inner.receive(&eap::request(identifier, TLS, data), random) {
            PeerTurn::Send(response) => Ok(response.get(4..).unwrap_or_default().to_vec()),
            other => Err(other),
        }
    }

    fn result(&mut self, identifier: u8, packet: EapPacket<'_>) -> PeerTurn {
        let (good, binding) = read_result(packet.data);
        let session = match &self.inner {
            Some(inner) => inner.msk().map(|key| key.expose().clone()),
            None => self.proved.as_ref().map(|proved| [proved.receive_key.expose().as_slice(), proved.send_key.expose()].concat()),
        };
        let answered = match (binding, &session, &self.tunnel) {
            (Some(value), Some(session), Some((tunnel, _))) => match answer_binding(tunnel, session, value) {
                Some(answered) => Some(answered),
                None => return PeerTurn::Ended("the cryptobinding of the server is wrong".into()),
            },
            _ => None,
        };
        let (binding, key) = answered.map_or((None, None), |(binding, key)| (Some(binding), Some(key)));
        self.bound = key;
        let response = eap::response(packet.identifier, EXTENSIONS, &answer_result(good, binding));
        self.send_inside(identifier, &response)
    }

    fn send_inside(&mut self, identifier: u8, clear: &[u8]) -> PeerTurn {
        let Some((tunnel, _)) = &mut self.tunnel else { return PeerTurn::Ended("there is no tunnel".into()) };
        let bytes = tunnel.send(clear);
        self.send(identifier, bytes)
    }

    fn send(&mut self, identifier: u8, bytes: Vec<u8>) -> PeerTurn {
        let kind = self.settings.method.outer();
        let Some((_, framing)) = &mut self.tunnel else { return PeerTurn::Ended("there is no tunnel".into()) };
        framing.load(bytes);
        PeerTurn::Send(eap::response(identifier, kind, &framing.next()))
    }
}

/// One packet with a ClientHello of TLS 1.0 that offers one cipher suite (RFC 2246 section 7.4.1.2).
fn old_hello() -> Vec<u8> {
    let mut hello = vec![3, 1];
    hello.extend([7; 32]);
    hello.extend([0, 0, 2, 0, 47, 1, 0]);
    let length = hello.len() as u8;
    [&[0, 22, 3, 1, 0, length + 4, 1, 0, 0, length], hello.as_slice()].concat()
}

/// What a basic method answers.
enum Basic {
    Data(Vec<u8>),
    Asked(String),
    Wrong(&'static str),
}

/// An EAP packet as the attribute of EAP-TTLS.
fn wrapped(packet: &[u8]) -> Vec<u8> {
    let mut body = Vec::new();
    avp::push(&mut body, EAP_MESSAGE, 0, packet);
    body
}
