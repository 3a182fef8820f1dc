//! What a login begins with, whatever protocol it came in by: a proved request. A door makes one; nothing in here knows its packets.

use super::proof::RequestAuthentic;
use bivector_model::cause::Cause;
use bivector_model::condition::TOLD_BY_GATEWAY;
use bivector_model::moment::Moment;
use bivector_model::text::shown;
use bivector_model::trace::{Origin, Step};
use bivector_site::{Charset, Method};
use bivector_wire::eap::EapMethod;
use bivector_wire::{AttributeType, Attributes, ChapProof, MsChapProof, Secret};
use std::net::{IpAddr, SocketAddr};

/// The credential that the gateway sent.
#[derive(Debug, Clone)]
pub enum Credential {
    /// A text: what stands in the password field.
    Text(Secret<Vec<u8>>),
    /// A proof of the password that does not tell it.
    Proof {
        /// Its attributes, encoded, as an upstream gets them.
        attributes: Vec<u8>,
        /// What it says.
        proof: Proof,
    },
    /// A method that this version does not take, by its name in site files.
    Other(&'static str),
    /// Attributes of a method that do not add up, and how.
    Unreadable(Method, String),
    /// The certificate that the conversation has yielded, and nothing else.
    Certificate,
    /// A TLS session in which this person was accepted before, by the person's key.
    Resumed(String),
    /// The conversation that should have yielded one has failed: why, and what was seen.
    Failed(Cause, String),
    /// Several, which the RFCs forbid; their names.
    Several(Vec<String>),
    /// None.
    None,
}

/// A proof of a password.
#[derive(Debug, Clone)]
pub enum Proof {
    /// CHAP.
    Chap(ChapProof),
    /// MS-CHAPv2.
    MsChapV2(Box<MsChapProof>),
    /// Something inside EAP that only an upstream can read.
    Eap,
}

impl Proof {
    /// The method that it belongs to.
    pub fn method(&self) -> Method {
        match self {
            Proof::Chap(_) => Method::Chap,
            Proof::MsChapV2(_) => Method::MsChapV2,
            Proof::Eap => Method::Eap,
        }
    }
}

impl Credential {
    /// The method, unless there is none that this version takes.
    pub fn known_method(&self) -> Option<Method> {
        match self {
            Credential::Text(_) => Some(Method::Pap),
            Credential::Proof { proof, .. } => Some(proof.method()),
            Credential::Unreadable(method, _) => Some(*method),
            Credential::Other(_)
            | Credential::Several(_)
            | Credential::Certificate
            | Credential::Resumed(_)
            | Credential::Failed(..)
            | Credential::None => None,
        }
    }

    /// The method's name in site files and traces.
    pub fn method(&self) -> &'static str {
        match self {
            Credential::Other(name) => name,
            Credential::Several(_) => "several",
            Credential::Certificate | Credential::Resumed(_) | Credential::Failed(..) => "eap",
            Credential::None => "none",
            known => known.known_method().map_or("none", Method::name),
        }
    }
}

/// What OpenSSH's server passes to PAM in place of the password of somebody who has no account on its machine, repeated or cut to the length
/// of what was typed.
const NO_ACCOUNT: &[u8] = b"\x08\n\r\x7fINCORRECT";

/// Whether a password is that placeholder.
pub(super) fn is_placeholder(text: &[u8]) -> bool {
    !text.is_empty() && text.iter().zip(NO_ACCOUNT.iter().cycle()).all(|(typed, junk)| typed == junk)
}

/// The protocol that a login came in by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Protocol {
    /// RADIUS, from a gateway.
    Radius,
    /// The service's own page for people.
    Page,
}

impl Protocol {
    /// The answer that lets somebody in, as traces call it.
    pub(super) fn accept(self) -> &'static str {
        match self {
            Protocol::Radius => "Access-Accept",
            Protocol::Page => "signed in",
        }
    }

    /// The answer that asks for more.
    pub(super) fn challenge(self) -> &'static str {
        match self {
            Protocol::Radius => "Access-Challenge",
            Protocol::Page => "a further question",
        }
    }

    /// The answer that refuses.
    pub(super) fn reject(self) -> &'static str {
        match self {
            Protocol::Radius => "Access-Reject",
            Protocol::Page => "refused",
        }
    }
}

/// A certificate that the peer has proved to own, and that an issuer of the chain has issued. Whoever makes one has verified it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VerifiedCertificate {
    /// The issuer's name in the site.
    pub issuer: String,
    /// The name in it that says whose it is.
    pub name: String,
    /// Whether it is a device's; a person's otherwise.
    pub of_device: bool,
    /// Whether a password beside it must be the same person's.
    pub same_person: bool,
    /// What the trace says of it.
    pub said: String,
}

impl VerifiedCertificate {
    /// For logins that are simulated or replayed, and let nobody in.
    pub fn made_up(name: &str) -> Self {
        let (issuer, said) = ("made up".to_owned(), "the certificate of that login".to_owned());
        VerifiedCertificate { issuer, name: name.to_owned(), of_device: false, same_person: false, said }
    }
}

/// The EAP conversation that a request came out of.
#[derive(Debug, Clone)]
pub struct Inside {
    /// The method that yielded the credential; none if it failed before there was one.
    pub method: Option<EapMethod>,
    /// Index of the chain that the outer identity selected.
    pub chain: usize,
    /// When the conversation, or this round of it, began.
    pub began: Moment,
    /// What both sides did since then, for the trace.
    pub steps: Vec<Step>,
    /// The certificate of the peer, if it has shown one.
    pub certificate: Option<Box<VerifiedCertificate>>,
}

/// One request of a login: the first, or the answer to a prompt.
#[derive(Debug, Clone)]
pub struct Request {
    pub(super) proof: RequestAuthentic,
    /// The name as it was typed.
    pub typed_name: Vec<u8>,
    /// The credential.
    pub credential: Credential,
    /// Leads back to the prompt that this request answers, if it answers one.
    pub state: Option<Vec<u8>>,
    /// Where it came from.
    pub context: Context,
    /// What was typed in a second field, where the gateway packs two in its password field.
    pub(super) second_field: Option<Secret<Vec<u8>>>,
    /// The EAP conversation that it came out of, if it did.
    pub(super) inside: Option<Box<Inside>>,
}

/// Where a request came from, and what else it says.
#[derive(Debug, Clone)]
pub struct Context {
    /// Index of the gateway in the site. A login by the page has the one whose labels its rules test.
    pub gateway: usize,
    /// The address that sent it.
    pub sender: SocketAddr,
    /// Gateway, rehearsal or page.
    pub origin: Origin,
    /// Local port of the door that it came in by; 0 where it came in by none of the site's.
    pub port: u16,
    /// Bytes that it took.
    pub length: usize,
    /// The person's own device as the gateway names it: Calling-Station-Id.
    pub station: Option<String>,
    /// Whether other requests of the gateway have shown that both have the same secret.
    pub secret_proved: bool,
    /// The RADIUS attributes that it carried, encoded; empty where it came by another protocol.
    pub attributes: Vec<u8>,
}

impl Context {
    /// Whether the gateway asks for the name of the key that EAP yields (RFC 7268 section 2.2).
    pub fn wants_key_name(&self) -> bool {
        self.first(AttributeType::EapKeyName).is_some()
    }

    /// The address of the person's own program, where the gateway tells it.
    pub fn caller(&self) -> Option<IpAddr> {
        self.station.as_ref()?.parse().ok()
    }

    /// The value of the first attribute of a kind.
    pub(super) fn first(&self, wanted: AttributeType) -> Option<&[u8]> {
        Attributes::encoded(&self.attributes).find(|attribute| attribute.kind == wanted).map(|attribute| attribute.value)
    }

    /// What else the gateway says of itself and of the connection: attribute numbers and values as shown, the first of each kind.
    pub(super) fn device(&self) -> Vec<(u8, String)> {
        let mut told: Vec<(u8, String)> = Vec::new();
        for attribute in Attributes::encoded(&self.attributes).filter(|attribute| TOLD_BY_GATEWAY.contains(&attribute.kind)) {
            let number = attribute.kind.into();
            if !told.iter().any(|(known, _)| *known == number) {
                let (_, value) = bivector_wire::render(attribute.kind, attribute.value);
                told.push((number, shown(&value).into_owned()));
            }
        }
        told
    }
}

/// A text in a character set. Latin-1 has a character for every byte.
pub(super) fn decode(bytes: &[u8], charset: Charset) -> Option<String> {
    match charset {
        Charset::Utf8 => std::str::from_utf8(bytes).ok().map(str::to_owned),
        Charset::Latin1 => Some(bytes.iter().map(|byte| char::from(*byte)).collect()),
    }
}

impl Request {
    /// A request whose origin was proved. `proof` says by which protocol it came.
    pub fn new(proof: RequestAuthentic, typed_name: Vec<u8>, credential: Credential, state: Option<Vec<u8>>, context: Context) -> Self {
        Request { proof, typed_name, credential, state, context, second_field: None, inside: None }
    }

    /// The same request with another credential, which answers the prompt of `state`, if any.
    pub fn with_credential(mut self, credential: Credential, state: Option<Vec<u8>>) -> Self {
        (self.credential, self.state) = (credential, state);
        self
    }

    /// The same request for another name.
    pub fn with_name(mut self, typed_name: &[u8]) -> Self {
        self.typed_name = typed_name.to_vec();
        self
    }

    /// The same request, as one that an EAP conversation has yielded.
    pub fn within(mut self, inside: Inside) -> Self {
        self.inside = Some(Box::new(inside));
        self
    }

    /// The method, unless there is none that this version takes.
    pub fn known_method(&self) -> Option<Method> {
        match self.inside.as_ref().map(|inside| inside.method) {
            Some(inside) => inside.map(Method::EapOf),
            None => self.credential.known_method(),
        }
    }

    /// The method's name in site files and traces.
    pub(super) fn method(&self) -> &'static str {
        match &self.inside {
            Some(_) => self.known_method().map_or("eap", Method::name),
            None => self.credential.method(),
        }
    }

    /// The protocol that it came in by.
    pub fn protocol(&self) -> Protocol {
        self.proof.protocol()
    }

    /// Whether its content is proved too, not only where it came from.
    pub fn is_signed(&self) -> bool {
        self.proof.is_signed()
    }

    /// What the peer of an EAP request says of the method that it wants.
    pub(super) fn peer_wants(&self) -> String {
        let Credential::Proof { attributes, .. } = &self.credential else { return bivector_wire::eap::wanted(&[]) };
        let message: Vec<u8> = Attributes::encoded(attributes).flat_map(|piece| piece.value.iter().copied()).collect();
        bivector_wire::eap::wanted(&message)
    }

    /// The typed name for people to read, whatever its bytes are.
    pub fn readable_name(&self, charset: Charset) -> String {
        decode(&self.typed_name, charset).unwrap_or_else(|| String::from_utf8_lossy(&self.typed_name).into_owned())
    }
}
