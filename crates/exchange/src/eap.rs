//! An EAP login as a gateway and a person's device carry it out together: each response of the peer travels in a request of its own.

use crate::{AskError, Asker, Exchange, Patience, Prepared, Reply, Request};
pub use bivector_eap::PeerSettings;
use bivector_eap::{Peer, PeerTurn};
use bivector_wire::{AttributeType, Code, IntegrityPolicy, MICROSOFT, Message, SharedSecret, VendorAttribute, reveal_salted};
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime};
use rustls::{CertificateError, ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme};
use std::sync::Arc;
use std::time::Duration;

/// Vendor attribute MS-MPPE-Recv-Key (RFC 2548 section 2.4.3).
const RECEIVE_KEY: u8 = 17;
/// Rounds of one login. A handshake in small fragments takes about 60.
const ROUNDS: usize = 400;

/// One EAP login in progress.
#[derive(Debug)]
pub struct EapLogin {
    peer: Peer,
    /// Attributes that every request carries.
    extra: Message,
    response: Vec<u8>,
    state: Option<Vec<u8>>,
}

/// How far a login came.
#[derive(Debug)]
pub struct EapRound {
    /// The last exchange, with the time and the packets of all of them. A prompt stands in it as Reply-Message.
    pub exchange: Exchange,
    /// What the person is asked, if the login waits for an answer.
    pub asks: Option<String>,
    /// Requests that were answered.
    pub rounds: usize,
    /// Why the peer ended it, if it did.
    pub ended: Option<String>,
    /// Whether both sides have the same key, after an accept with one.
    pub same_key: Option<bool>,
}

impl EapLogin {
    /// Begins. `extra` holds what the gateway says of itself.
    pub fn new(settings: PeerSettings, extra: Message) -> Self {
        let peer = Peer::new(settings);
        EapLogin { response: peer.begin(), peer, extra, state: None }
    }

    /// Answers the prompt of the last round.
    ///
    /// # Errors
    /// There was none.
    pub fn answer(&mut self, text: &str) -> Result<(), String> {
        match self.peer.answer(text.as_bytes()) {
            PeerTurn::Send(response) => {
                self.response = response;
                Ok(())
            }
            other => Err(format!("the answer could not be sent: {other:?}")),
        }
    }

    /// The version of TLS, where the method has a tunnel.
    pub fn tls_version(&self) -> Option<&'static str> {
        self.peer.tls_version()
    }

    /// Goes on until the login ends or asks for an answer.
    ///
    /// # Errors
    /// [`AskError`]. Silence is no error.
    pub async fn go_on(&mut self, asker: &Asker, secret: &SharedSecret, patience: Patience) -> Result<EapRound, AskError> {
        let mut all = EapRound {
            exchange: Exchange { reply: None, sends: 0, took: Duration::ZERO, discarded: Vec::new(), refused: false },
            asks: None,
            rounds: 0,
            ended: None,
            same_key: None,
        };
        let mut random = fill;
        while all.rounds < ROUNDS {
            let (prepared, exchange) = self.ask(asker, secret, patience).await?;
            all.exchange.sends += exchange.sends;
            all.exchange.took += exchange.took;
            all.exchange.discarded.extend(exchange.discarded);
            all.exchange.reply = exchange.reply;
            let Some(reply) = &mut all.exchange.reply else { return Ok(all) };
            all.rounds += 1;
            self.state = of(reply, AttributeType::State).next().map(<[u8]>::to_vec);
            let message: Vec<u8> = of(reply, AttributeType::EapMessage).flatten().copied().collect();
            if reply.code != Code::AccessChallenge {
                if let PeerTurn::Ended(said) = self.peer.receive(&message, &mut random) {
                    all.ended = Some(said);
                }
                all.same_key = self.same_key(reply, &prepared, secret);
                return Ok(all);
            }
            match self.peer.receive(&message, &mut random) {
                PeerTurn::Send(response) => self.response = response,
                PeerTurn::Asked(prompt) => {
                    reply.attributes.push((AttributeType::ReplyMessage, prompt.clone().into_bytes()));
                    all.asks = Some(prompt);
                    return Ok(all);
                }
                PeerTurn::Ended(said) => {
                    all.ended = Some(said);
                    return Ok(all);
                }
                PeerTurn::Success | PeerTurn::Failure => return Ok(all),
            }
        }
        all.ended = Some(format!("it took more than {ROUNDS} rounds"));
        Ok(all)
    }

    async fn ask(&self, asker: &Asker, secret: &SharedSecret, patience: Patience) -> Result<(Prepared, Exchange), AskError> {
        let mut message = self.extra.clone();
        message.push(AttributeType::UserName, self.peer.outer());
        message.push(AttributeType::EapMessage, &self.response);
        if let Some(state) = &self.state {
            message.push(AttributeType::State, state);
        }
        let request = Request { message, password: None, signed: true, replies: IntegrityPolicy::Required };
        let prepared = request.prepare(secret)?;
        let exchange = asker.ask_prepared(&prepared, secret, patience).await?;
        Ok((prepared, exchange))
    }

    /// Whether the key that the gateway got is the one that the peer has.
    fn same_key(&self, reply: &Reply, prepared: &Prepared, secret: &SharedSecret) -> Option<bool> {
        let own = self.peer.msk()?;
        let hidden = of(reply, AttributeType::VendorSpecific)
            .flat_map(VendorAttribute::read_all)
            .find(|one| one.vendor == MICROSOFT && one.number == RECEIVE_KEY)?;
        let clear = reveal_salted(hidden.value, &prepared.authenticator, secret)?;
        Some(own.expose().get(..32) == Some(clear.expose().as_slice()))
    }
}

fn of(reply: &Reply, wanted: AttributeType) -> impl Iterator<Item = &[u8]> {
    reply.attributes.iter().filter(move |(kind, _)| *kind == wanted).map(|(_, value)| value.as_slice())
}

fn fill(bytes: &mut [u8]) {
    // Without random bytes the login fails by itself: its next request cannot be prepared.
    let _ = getrandom::fill(bytes);
}

/// Whose certificate a peer accepts.
#[derive(Debug, Clone)]
pub enum Trust {
    /// Issuers, as a person's device has them.
    Issuers(RootCertStore),
    /// One certificate and no other.
    Exactly(CertificateDer<'static>),
}

/// The person's certificate chain, leaf first, and its key.
pub type Identity = (Vec<CertificateDer<'static>>, PrivateKeyDer<'static>);

/// TLS as a peer uses it.
///
/// # Errors
/// The key does not fit the certificate.
pub fn peer_tls(trust: Trust, identity: Option<Identity>, tls12_only: bool) -> Result<Arc<ClientConfig>, rustls::Error> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ClientConfig::builder_with_provider(Arc::clone(&provider));
    let builder = match tls12_only {
        true => builder.with_protocol_versions(&[&rustls::version::TLS12])?,
        false => builder.with_protocol_versions(&[&rustls::version::TLS12, &rustls::version::TLS13])?,
    };
    let builder = match trust {
        Trust::Issuers(roots) => builder.with_root_certificates(roots),
        Trust::Exactly(certificate) => builder.dangerous().with_custom_certificate_verifier(Arc::new(Exactly { certificate, provider })),
    };
    Ok(Arc::new(match identity {
        Some((chain, key)) => builder.with_client_auth_cert(chain, key)?,
        None => builder.with_no_client_auth(),
    }))
}

/// Accepts one certificate: rehearsed logins know which one the service has, and do not depend on the trust of this machine.
#[derive(Debug)]
struct Exactly {
    certificate: CertificateDer<'static>,
    provider: Arc<CryptoProvider>,
}

impl ServerCertVerifier for Exactly {
    fn verify_server_cert(
        &self,
        shown: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        match *shown == self.certificate {
            true => Ok(ServerCertVerified::assertion()),
            false => Err(rustls::Error::InvalidCertificate(CertificateError::UnknownIssuer)),
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls12_signature(message, certificate, signed, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls13_signature(message, certificate, signed, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}
