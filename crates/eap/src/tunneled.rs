//! EAP-TLS, EAP-TTLS and PEAP as the server carries them out: a TLS handshake, and for the latter two a method inside.

use crate::describe::{flight as named, size};
use crate::framing::{Arrived, Framing, START};
use crate::inner::InnerEap;
use crate::peap::Peap;
use crate::server::{GivenCredential, Settings};
use crate::sessions::{OwnSessions, SessionOf};
use crate::tls::{Tunnel, failed, tunnel_name};
use crate::ttls::Ttls;
use crate::{Failed, Msk, Random};
use bivector_model::Cause;
use bivector_model::moment::Moment;
use bivector_model::trace::Tone;
use bivector_wire::MsChapProved;
use bivector_wire::eap::{self, Inner, PEAP, TLS, TTLS};
use rustls::pki_types::CertificateDer;
use rustls::{Connection, ServerConnection};
use std::sync::Arc;

/// Bytes that a TLS record, its header and an EAP header add to what they carry.
const TUNNEL_OVERHEAD: usize = 64;

/// A method with a tunnel, in progress.
#[derive(Debug)]
pub(crate) struct Tunneled {
    kind: u8,
    tunnel: Tunnel,
    framing: Framing,
    phase: Phase,
    inside: Inside,
    certificate: String,
    asks_certificate: bool,
    /// TLS data that leaves with the next message.
    waiting: Vec<u8>,
    notes: Vec<(Tone, String)>,
    sessions: Option<Arc<OwnSessions>>,
    /// The random values of both sides' hellos.
    randoms: Vec<u8>,
    /// Whether the last packet holds nothing but what waited.
    flushes: bool,
}

/// How far it is.
#[derive(Debug)]
enum Phase {
    /// It was offered; the peer has not begun.
    Start,
    /// The handshake goes on.
    Handshake,
    /// Our last flight of the handshake waits for its acknowledgement.
    Finished,
    /// The method inside goes on.
    Inside,
    /// A credential is being decided; the peer has nothing to send.
    Deciding,
    /// An alert was sent. The peer's next packet ends the conversation with this.
    Alerted(Failed),
    /// The peer was told the result.
    Ending,
}

/// What goes on inside the tunnel.
#[derive(Debug)]
enum Inside {
    /// Nothing: the certificate is the credential.
    Certificate,
    Ttls(Ttls),
    Peap(Peap),
}

/// What a packet brought, or a message inside the tunnel.
#[derive(Debug)]
pub(crate) enum TunneledTurn {
    /// Send this: data of the method, or a message inside.
    Send(Vec<u8>),
    Given {
        inner: Inner,
        name: Option<Vec<u8>>,
        credential: GivenCredential,
    },
    Over,
}

impl Tunneled {
    /// Begins a method by its type, if it is one of these and TLS is set up.
    pub(crate) fn begin(settings: &Arc<Settings>, kind: u8, now: Moment) -> Option<Self> {
        let inside = match kind {
            TLS => Inside::Certificate,
            TTLS => Inside::Ttls(Ttls::new(InnerEap::new(kind, settings))),
            PEAP => Inside::Peap(Peap::new(InnerEap::new(kind, settings))),
            _ => return None,
        };
        // PEAP tells its result inside the tunnel, and peers differ in what they expect of it in a resumed session.
        let sessions =
            settings.sessions.as_ref().filter(|_| kind != PEAP).map(|shared| Arc::new(OwnSessions::new(Arc::clone(shared), now)));
        Self::with(settings, kind, inside, sessions)
    }

    /// EAP-TLS inside another tunnel. Its fragments are small enough to fit into the packets of that one.
    pub(crate) fn begin_inside(settings: &Arc<Settings>) -> Option<Self> {
        let mut inner = Self::with(settings, TLS, Inside::Certificate, None)?;
        inner.framing = Framing::new(settings.fragment.saturating_sub(TUNNEL_OVERHEAD));
        Some(inner)
    }

    fn with(settings: &Arc<Settings>, kind: u8, inside: Inside, sessions: Option<Arc<OwnSessions>>) -> Option<Self> {
        let mut tls = Arc::clone(settings.tls.as_ref()?);
        if let Some(own) = &sessions {
            let with_sessions = Arc::make_mut(&mut tls);
            with_sessions.session_storage = Arc::<OwnSessions>::clone(own);
            with_sessions.send_tls13_tickets = 1;
        }
        let connection = ServerConnection::new(tls).ok()?;
        Some(Tunneled {
            kind,
            tunnel: Tunnel(Connection::Server(connection)),
            framing: Framing::new(settings.fragment),
            phase: Phase::Start,
            inside,
            certificate: settings.certificate.clone(),
            asks_certificate: settings.asks_certificate || kind == TLS,
            waiting: Vec::new(),
            notes: Vec::new(),
            sessions,
            randoms: Vec::new(),
            flushes: false,
        })
    }

    pub(crate) fn kind(&self) -> u8 {
        self.kind
    }

    /// The data of the first request: nothing but the flag, with version 0.
    pub(crate) fn first(&self) -> Vec<u8> {
        vec![START]
    }

    pub(crate) fn is_at_start(&self) -> bool {
        matches!(self.phase, Phase::Start)
    }

    pub(crate) fn take_notes(&mut self) -> Vec<(Tone, String)> {
        std::mem::take(&mut self.notes)
    }

    /// Where it stands, for a conversation that nobody goes on with.
    pub(crate) fn stage(&self) -> String {
        let name = tunnel_name(self.kind);
        match &self.phase {
            Phase::Start => format!("after {name} was offered"),
            Phase::Handshake => format!(
                "during the TLS handshake of {name}, after our certificate was sent; many devices end silently when they do not trust it"
            ),
            Phase::Finished | Phase::Inside => format!("inside the tunnel of {name}"),
            Phase::Deciding => format!("while {name} was being decided"),
            Phase::Alerted(failed) => format!("after a TLS alert: {}", failed.said),
            Phase::Ending => format!("after {name} told the result"),
        }
    }

    /// Why it has failed, once the peer was sent an alert.
    pub(crate) fn failure(&self) -> Option<&Failed> {
        match &self.phase {
            Phase::Alerted(failed) => Some(failed),
            _ => match &self.inside {
                Inside::Peap(peap) => peap.failure(),
                Inside::Certificate | Inside::Ttls(_) => None,
            },
        }
    }

    /// The certificate chain that the peer has proved to own, leaf first.
    pub(crate) fn certificates(&self) -> Vec<CertificateDer<'static>> {
        if self.tunnel.is_handshaking() {
            return Vec::new();
        }
        let inner = match &self.inside {
            Inside::Peap(peap) => peap.certificates(),
            Inside::Certificate | Inside::Ttls(_) => Vec::new(),
        };
        if inner.is_empty() { self.tunnel.0.peer_certificates().unwrap_or_default().to_vec() } else { inner }
    }

    pub(crate) fn receive(&mut self, data: &[u8], random: Random<'_>) -> Result<TunneledTurn, Failed> {
        if let Phase::Alerted(failed) = &self.phase {
            return Err(failed.clone());
        }
        match self.framing.receive(data)? {
            Arrived::Part => Ok(TunneledTurn::Send(self.framing.next())),
            Arrived::Acknowledged if self.framing.is_sending() => Ok(TunneledTurn::Send(self.framing.next())),
            Arrived::Acknowledged => self.acknowledged(),
            Arrived::Whole(bytes, fragments) => self.flight(&bytes, fragments, random),
        }
    }

    /// The peer sent nothing: it waits for us.
    fn acknowledged(&mut self) -> Result<TunneledTurn, Failed> {
        match (&self.phase, &mut self.inside) {
            (Phase::Finished, Inside::Certificate) => Ok(self.certificate_given()),
            (Phase::Finished, Inside::Peap(peap)) => {
                let first = peap.first();
                self.phase = Phase::Inside;
                Ok(TunneledTurn::Send(self.send_inside(&first)))
            }
            (Phase::Ending, _) if self.flushes => Ok(TunneledTurn::Over),
            (Phase::Ending, Inside::Certificate) => Ok(TunneledTurn::Over),
            (Phase::Ending, Inside::Ttls(ttls)) if ttls.ends_without_answer() => Ok(TunneledTurn::Over),
            (phase, _) => Err(Failed::malformed(format!("the peer sent an empty packet {}", turn(phase)))),
        }
    }

    fn flight(&mut self, bytes: &[u8], fragments: usize, random: Random<'_>) -> Result<TunneledTurn, Failed> {
        let was_handshaking = self.tunnel.is_handshaking();
        if matches!(self.phase, Phase::Finished | Phase::Deciding) {
            return Err(Failed::malformed(format!("the peer sent {} {}", named(bytes), turn(&self.phase))));
        }
        if was_handshaking {
            self.notes.push((Tone::Good, format!("from the peer: {}, {}", named(bytes), size(bytes.len(), fragments))));
        }
        let flight = self.tunnel.receive(bytes);
        if self.randoms.is_empty() {
            self.randoms.extend(hello_random(bytes, 1));
            self.randoms.extend(hello_random(&flight.out, 2));
        }
        if let Some(error) = &flight.failed {
            let failed = old_version(bytes).unwrap_or_else(|| failed(error));
            return match flight.out.is_empty() {
                true => Err(failed),
                false => {
                    self.notes.push((Tone::Bad, failed.said.clone()));
                    self.phase = Phase::Alerted(failed);
                    Ok(TunneledTurn::Send(self.load(flight.out)))
                }
            };
        }
        match (was_handshaking, self.tunnel.is_handshaking()) {
            (_, true) => {
                self.phase = Phase::Handshake;
                Ok(TunneledTurn::Send(self.send_handshake(flight.out)))
            }
            (true, false) => self.established(flight.out, flight.inside.expose(), random),
            (false, false) => {
                self.waiting.extend(flight.out);
                self.inside(flight.inside.expose(), random)
            }
        }
    }

    /// The handshake is over on our side.
    fn established(&mut self, out: Vec<u8>, inside: &[u8], random: Random<'_>) -> Result<TunneledTurn, Failed> {
        let suite = self.tunnel.0.negotiated_cipher_suite().map_or("", |suite| suite.suite().as_str().unwrap_or_default());
        let shown = match self.certificates().len() {
            0 => "without a certificate of the peer".to_owned(),
            count => format!("with a chain of {count} of the peer"),
        };
        self.notes.push((Tone::Good, format!("{} is established, {suite}, {shown}", self.tunnel.version())));
        let resumed = self.tunnel.0.handshake_kind() == Some(rustls::HandshakeKind::Resumed);
        // In TLS 1.2 the peer must see our Finished before anything else, unless it resumed and has seen it.
        let must_be_seen = !self.tunnel.is_tls13() && !resumed;
        let session = self.sessions.as_ref().and_then(|sessions| sessions.used()).filter(|_| resumed);
        match &mut self.inside {
            Inside::Ttls(_) => {
                self.phase = Phase::Inside;
                if let Some(of) = session.filter(|_| inside.is_empty()) {
                    return Ok(self.resumed(of, out));
                }
                if inside.is_empty() {
                    return Ok(TunneledTurn::Send(self.send_handshake(out)));
                }
                self.waiting.extend(out);
                self.inside(inside, random)
            }
            Inside::Certificate | Inside::Peap(_) if must_be_seen => {
                self.phase = Phase::Finished;
                Ok(TunneledTurn::Send(self.send_handshake(out)))
            }
            Inside::Certificate => {
                self.waiting.extend(out);
                Ok(self.certificate_given())
            }
            Inside::Peap(peap) => {
                let first = peap.first();
                self.waiting.extend(out);
                self.phase = Phase::Inside;
                Ok(TunneledTurn::Send(self.send_inside(&first)))
            }
        }
    }

    /// The peer goes on with a session in which it was accepted before (RFC 5281 section 15.3).
    fn resumed(&mut self, of: SessionOf, out: Vec<u8>) -> TunneledTurn {
        self.notes.push((Tone::Good, "the session of an earlier login is resumed; the password is not asked for again".to_owned()));
        self.waiting.extend(out);
        self.phase = Phase::Deciding;
        let credential = GivenCredential::Resumed(of.person);
        TunneledTurn::Given { inner: of.method.inner(), name: Some(of.name), credential }
    }

    /// Keeps what the handshake made, for the person who was accepted.
    pub(crate) fn keep_session(&self, of: &SessionOf, until: Moment) {
        if let Some(sessions) = &self.sessions {
            sessions.commit(of, until);
        }
    }

    fn certificate_given(&mut self) -> TunneledTurn {
        self.phase = Phase::Deciding;
        TunneledTurn::Given { inner: Inner::Itself, name: None, credential: GivenCredential::Certificate }
    }

    /// A message inside the tunnel.
    fn inside(&mut self, clear: &[u8], random: Random<'_>) -> Result<TunneledTurn, Failed> {
        let turn = match &mut self.inside {
            Inside::Ttls(ttls) => ttls.receive(clear, &self.tunnel, random)?,
            Inside::Peap(peap) => {
                let turn = peap.receive(clear, &self.tunnel, random);
                self.notes.extend(peap.take_notes());
                turn?
            }
            Inside::Certificate => return Err(Failed::malformed("the peer sent data inside EAP-TLS, which has none")),
        };
        match turn {
            TunneledTurn::Send(clear) => Ok(TunneledTurn::Send(self.send_inside(&clear))),
            TunneledTurn::Over => Ok(TunneledTurn::Over),
            TunneledTurn::Given { .. } if self.asks_certificate && self.certificates().is_empty() => {
                Err(Failed::new(Cause::CertificateMissing, "the peer sent no certificate"))
            }
            TunneledTurn::Given { inner, name, credential } => {
                let method = eap::EapMethod::ALL.iter().find(|method| (method.outer(), method.inner()) == (self.kind, inner));
                let said = method.map_or("another method", |method| method.name());
                self.notes.push((Tone::Good, format!("inside the tunnel: the credential of {said}")));
                self.phase = Phase::Deciding;
                Ok(TunneledTurn::Given { inner, name, credential })
            }
        }
    }

    /// The data of a request for a further text, where the method inside can ask for one.
    pub(crate) fn ask(&mut self, prompt: &str) -> Option<Vec<u8>> {
        let clear = match &mut self.inside {
            Inside::Ttls(ttls) => ttls.ask(prompt),
            Inside::Peap(peap) => peap.ask(prompt),
            Inside::Certificate => None,
        }?;
        self.phase = Phase::Inside;
        Some(self.send_inside(&clear))
    }

    pub(crate) fn accept(&mut self, proved: Option<&MsChapProved>) -> Option<Vec<u8>> {
        let clear = match &mut self.inside {
            // RFC 9190 section 2.1.1: one zero byte says that no more handshake messages follow.
            Inside::Certificate if self.tunnel.is_tls13() => Some(vec![0]),
            Inside::Certificate => None,
            Inside::Ttls(ttls) => ttls.accept(proved),
            Inside::Peap(peap) => peap.accept(proved),
        };
        let clear = clear.or_else(|| {
            // The ticket of TLS 1.3 has not left yet; the peer acknowledges it before it hears of its success.
            self.flushes = self.sessions.is_some() && !self.waiting.is_empty();
            self.flushes.then(Vec::new)
        });
        self.end_with(clear)
    }

    pub(crate) fn refuse(&mut self, message: &str, may_retry: bool, random: Random<'_>) -> Option<Vec<u8>> {
        let clear = match &mut self.inside {
            Inside::Certificate => None,
            Inside::Ttls(ttls) => ttls.refuse(message, may_retry, random),
            Inside::Peap(peap) => peap.refuse(message, may_retry, random),
        };
        self.end_with(clear)
    }

    fn end_with(&mut self, clear: Option<Vec<u8>>) -> Option<Vec<u8>> {
        self.phase = Phase::Ending;
        clear.map(|clear| self.send_inside(&clear))
    }

    pub(crate) fn msk(&self) -> Option<Msk> {
        match &self.inside {
            Inside::Peap(peap) => peap.msk().or_else(|| self.tunnel.msk(self.kind)),
            _ => self.tunnel.msk(self.kind),
        }
    }

    /// The Session-Id, which names the key (RFC 5247 section 1.4, RFC 5216 section 2.3, RFC 9427 section 2.1).
    pub(crate) fn session_id(&self) -> Option<Vec<u8>> {
        let id = self.tunnel.method_id(self.kind).unwrap_or_else(|| self.randoms.clone());
        (id.len() == 64).then(|| [&[self.kind], id.as_slice()].concat())
    }

    fn send_inside(&mut self, clear: &[u8]) -> Vec<u8> {
        let mut bytes = std::mem::take(&mut self.waiting);
        bytes.extend(self.tunnel.send(clear));
        self.load(bytes)
    }

    fn send_handshake(&mut self, bytes: Vec<u8>) -> Vec<u8> {
        let said = named(&bytes);
        let length = bytes.len();
        let data = self.load(bytes);
        if length > 0 {
            let fragments = if self.framing.is_sending() { length.div_ceil(data.len().saturating_sub(5).max(1)) } else { 1 };
            // Only a flight with our certificate is that large before the connection is encrypted.
            let resumed = self.tunnel.0.handshake_kind() == Some(rustls::HandshakeKind::Resumed);
            let ours =
                if said.starts_with("ServerHello") && !resumed { format!(", certificate {}", self.certificate) } else { String::new() };
            self.notes.push((Tone::Good, format!("to the peer: {said}{ours}, {}", size(length, fragments))));
        }
        data
    }

    fn load(&mut self, bytes: Vec<u8>) -> Vec<u8> {
        self.framing.load(bytes);
        self.framing.next()
    }
}

/// Why a ClientHello cannot be accepted whose version is older than TLS 1.2. Its other mistakes follow from that.
fn old_version(bytes: &[u8]) -> Option<Failed> {
    let [22, _, _, _, _, 1, _, _, _, 3, minor @ 0..=2, ..] = bytes else { return None };
    let version = match minor {
        0 => "SSL 3.0",
        1 => "TLS 1.0",
        _ => "TLS 1.1",
    };
    Some(Failed::new(Cause::TlsVersion, format!("the peer offers {version} at most; TLS 1.2 is the oldest version that is accepted")))
}

/// The random value of a ClientHello (1) or ServerHello (2) at the beginning of a flight (RFC 5246 section 7.4.1).
fn hello_random(flight: &[u8], kind: u8) -> Vec<u8> {
    match flight {
        [22, _, _, _, _, own, _, _, _, _, _, rest @ ..] if *own == kind => rest.get(..32).unwrap_or_default().to_vec(),
        _ => Vec::new(),
    }
}

/// When something came that was not expected.
fn turn(phase: &Phase) -> &'static str {
    match phase {
        Phase::Start => "instead of a ClientHello",
        Phase::Handshake => "during the TLS handshake",
        Phase::Finished => "instead of acknowledging the end of the TLS handshake",
        Phase::Inside => "inside the tunnel",
        Phase::Deciding => "while its credential was being decided",
        Phase::Alerted(_) => "after a TLS alert",
        Phase::Ending => "after it was told the result",
    }
}
