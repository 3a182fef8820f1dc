//! Requests and responses of OCSP (RFC 6960), without a network: what is asked, and what an answer is worth.

use der::asn1::{Any, BitString, GeneralizedTime, Int, ObjectIdentifier, OctetString};
use der::{Decode, Encode, Enumerated, Sequence, Tag, TagNumber, Tagged};
use rustls::crypto::WebPkiSupportedAlgorithms;
use rustls::pki_types::SignatureVerificationAlgorithm;
use sha1::{Digest, Sha1};
use std::time::Duration;
use x509_parser::certificate::X509Certificate;
use x509_parser::parse_x509_certificate;

const SHA1: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.14.3.2.26");
/// RFC 6960 section 4.2.1.
const BASIC: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.48.1.1");
/// RFC 6960 section 4.4.1.
const NONCE: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.48.1.2");
/// How far the clocks of both sides may differ.
const SKEW: Duration = Duration::from_secs(300);

#[derive(Sequence, Debug, Clone, PartialEq, Eq)]
struct Algorithm {
    oid: ObjectIdentifier,
    #[asn1(optional = "true")]
    parameters: Option<Any>,
}

#[derive(Sequence, Debug, Clone, PartialEq, Eq)]
struct CertId {
    hash: Algorithm,
    name_hash: OctetString,
    key_hash: OctetString,
    serial: Int,
}

#[derive(Sequence)]
struct Extension {
    oid: ObjectIdentifier,
    #[asn1(default = "no")]
    critical: bool,
    value: OctetString,
}

fn no() -> bool {
    false
}

#[derive(Sequence)]
struct One {
    id: CertId,
}

#[derive(Sequence)]
struct ToBeAsked {
    list: Vec<One>,
    #[asn1(context_specific = "2", tag_mode = "EXPLICIT", optional = "true")]
    extensions: Option<Vec<Extension>>,
}

#[derive(Sequence)]
struct Request {
    asked: ToBeAsked,
}

#[derive(Enumerated, Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u32)]
enum ResponseStatus {
    Successful = 0,
    MalformedRequest = 1,
    InternalError = 2,
    TryLater = 3,
    SignatureRequired = 5,
    Unauthorized = 6,
}

#[derive(Sequence)]
struct ResponseBytes {
    kind: ObjectIdentifier,
    response: OctetString,
}

#[derive(Sequence)]
struct Response {
    status: ResponseStatus,
    #[asn1(context_specific = "0", tag_mode = "EXPLICIT", optional = "true")]
    bytes: Option<ResponseBytes>,
}

#[derive(Sequence)]
struct BasicResponse {
    /// Kept as it came: it is what was signed.
    signed: Any,
    algorithm: Algorithm,
    signature: BitString,
    #[asn1(context_specific = "0", tag_mode = "EXPLICIT", optional = "true")]
    certificates: Option<Vec<Any>>,
}

#[derive(Sequence)]
struct ResponseData {
    #[asn1(context_specific = "0", tag_mode = "EXPLICIT", optional = "true")]
    version: Option<u8>,
    responder: Any,
    produced: GeneralizedTime,
    responses: Vec<SingleResponse>,
    #[asn1(context_specific = "1", tag_mode = "EXPLICIT", optional = "true")]
    extensions: Option<Vec<Extension>>,
}

#[derive(Sequence)]
struct SingleResponse {
    id: CertId,
    /// `[0]` good, `[1]` revoked with its time, `[2]` unknown.
    status: Any,
    this_update: GeneralizedTime,
    #[asn1(context_specific = "0", tag_mode = "EXPLICIT", optional = "true")]
    next_update: Option<GeneralizedTime>,
    #[asn1(context_specific = "1", tag_mode = "EXPLICIT", optional = "true")]
    extensions: Option<Vec<Extension>>,
}

/// What a responder says of one certificate.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Standing {
    /// It is not revoked.
    Good,
    /// It is revoked.
    Revoked,
    /// The responder does not know it.
    Unknown,
}

/// A response that proved itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Answer {
    pub(crate) standing: Standing,
    /// Until when it counts, since 1970; none if the responder does not say.
    pub(crate) until: Option<Duration>,
}

/// One question about one certificate.
#[derive(Debug)]
pub(crate) struct Question {
    id: CertId,
    nonce: Vec<u8>,
    /// The issuer's name, as in the certificate.
    name: Vec<u8>,
    /// The issuer's key, as a SubjectPublicKeyInfo.
    issuer: Vec<u8>,
}

impl Question {
    /// Asks for the certificate `leaf`. `issuer` is the key that verified it, as a SubjectPublicKeyInfo; `nonce` is 16 bytes that nobody can
    /// foresee.
    pub(crate) fn new(leaf: &X509Certificate<'_>, issuer: Vec<u8>, nonce: [u8; 16]) -> Result<Self, String> {
        let name = leaf.issuer().as_raw().to_vec();
        let (_, key_bits) = key_parts(&issuer)?;
        let hash = |bytes: &[u8]| OctetString::new(Sha1::digest(bytes).to_vec()).map_err(said);
        let id = CertId {
            hash: Algorithm { oid: SHA1, parameters: Some(Any::null()) },
            name_hash: hash(&name)?,
            key_hash: hash(&key_bits)?,
            serial: Int::new(leaf.raw_serial()).map_err(said)?,
        };
        Ok(Question { id, nonce: OctetString::new(nonce.to_vec()).and_then(|nonce| nonce.to_der()).map_err(said)?, name, issuer })
    }

    /// The bytes of the request.
    pub(crate) fn encode(&self) -> Result<Vec<u8>, String> {
        let nonce = Extension { oid: NONCE, critical: false, value: OctetString::new(self.nonce.clone()).map_err(said)? };
        let asked = ToBeAsked { list: vec![One { id: self.id.clone() }], extensions: Some(vec![nonce]) };
        Request { asked }.to_der().map_err(said)
    }

    /// Reads a response and checks who signed it, whom it is about, and whether it is of now. `now` is since 1970.
    pub(crate) fn read(&self, bytes: &[u8], now: Duration, algorithms: &WebPkiSupportedAlgorithms) -> Result<Answer, String> {
        let unreadable = |error: der::Error| format!("its answer is no OCSP response: {error}");
        let response = Response::from_der(bytes).map_err(unreadable)?;
        if response.status != ResponseStatus::Successful {
            return Err(format!("it answers {:?} ({})", response.status, response.status as u32));
        }
        let basic = response.bytes.filter(|bytes| bytes.kind == BASIC).ok_or("its answer holds no basic response")?;
        let basic = BasicResponse::from_der(basic.response.as_bytes()).map_err(unreadable)?;
        self.verify(&basic, now, algorithms)?;
        let data = basic.signed.to_der().and_then(|signed| ResponseData::from_der(&signed)).map_err(unreadable)?;
        let nonce = data.extensions.iter().flatten().find(|extension| extension.oid == NONCE);
        if nonce.is_some_and(|nonce| nonce.value.as_bytes() != self.nonce) {
            return Err("its answer is to another request".to_owned());
        }
        let Some(own) = data.responses.iter().find(|one| self.is_about(&one.id)) else {
            return Err("its answer is about another certificate".to_owned());
        };
        let (this, next) = (own.this_update.to_unix_duration(), own.next_update.map(|time| time.to_unix_duration()));
        if this > now + SKEW {
            return Err("its answer is dated in the future".to_owned());
        }
        if next.is_some_and(|next| next + SKEW < now) {
            return Err("its answer has expired".to_owned());
        }
        let standing = match own.status.tag() {
            Tag::ContextSpecific { number: TagNumber(0), .. } => Standing::Good,
            Tag::ContextSpecific { number: TagNumber(1), .. } => Standing::Revoked,
            _ => Standing::Unknown,
        };
        Ok(Answer { standing, until: next })
    }

    /// The parameters of SHA-1 may be left out.
    fn is_about(&self, id: &CertId) -> bool {
        (id.hash.oid, &id.name_hash, &id.key_hash, &id.serial) == (SHA1, &self.id.name_hash, &self.id.key_hash, &self.id.serial)
    }

    /// RFC 6960 section 4.2.2.2: the issuer signs itself, or one whom it has issued a certificate for that.
    fn verify(&self, basic: &BasicResponse, now: Duration, algorithms: &WebPkiSupportedAlgorithms) -> Result<(), String> {
        let (signed, algorithm) = (basic.signed.to_der().map_err(said)?, basic.algorithm.to_der().map_err(said)?);
        let signature = basic.signature.as_bytes().ok_or("the signature of its answer is incomplete")?;
        let by = |key: &[u8]| is_signed(key, &algorithm, &signed, signature, algorithms);
        if by(&self.issuer) {
            return Ok(());
        }
        let delegates = basic.certificates.iter().flatten().filter_map(|certificate| certificate.to_der().ok());
        match delegates.take(4).any(|delegate| self.delegated(&delegate, now, algorithms).is_some_and(|key| by(&key))) {
            true => Ok(()),
            false => Err("its answer is signed neither by the issuer nor by a responder that the issuer appointed".to_owned()),
        }
    }

    /// The key of a certificate by which the issuer lets somebody else answer.
    fn delegated(&self, delegate: &[u8], now: Duration, algorithms: &WebPkiSupportedAlgorithms) -> Option<Vec<u8>> {
        let (_, parsed) = parse_x509_certificate(delegate).ok()?;
        let purposes = parsed.extended_key_usage().ok()??;
        let (from, to) = (parsed.validity().not_before.timestamp(), parsed.validity().not_after.timestamp());
        let valid = (from..=to).contains(&i64::try_from(now.as_secs()).ok()?);
        let (signed, signature) = (parsed.tbs_certificate.as_ref(), &parsed.signature_value.data);
        let issued =
            parsed.issuer().as_raw() == self.name && is_signed(&self.issuer, &element(delegate, 1)?, signed, signature, algorithms);
        (valid && purposes.value.ocsp_signing && issued).then(|| parsed.public_key().raw.to_vec())
    }
}

/// The bytes of one element of a sequence.
fn element(sequence: &[u8], index: usize) -> Option<Vec<u8>> {
    Vec::<Any>::from_der(sequence).ok()?.get(index)?.to_der().ok()
}

/// Whether `key`, a SubjectPublicKeyInfo, made the signature.
fn is_signed(key: &[u8], algorithm: &[u8], signed: &[u8], signature: &[u8], algorithms: &WebPkiSupportedAlgorithms) -> bool {
    let Ok((key_algorithm, key)) = key_parts(key) else { return false };
    let Ok(algorithm) = Any::from_der(algorithm) else { return false };
    let fits = |one: &&&dyn SignatureVerificationAlgorithm| {
        one.public_key_alg_id().as_ref() == key_algorithm && one.signature_alg_id().as_ref() == algorithm.value()
    };
    algorithms.all.iter().filter(fits).any(|one| one.verify_signature(&key, signed, signature).is_ok())
}

#[derive(Sequence)]
struct KeyInfo {
    algorithm: Any,
    key: BitString,
}

/// The algorithm without its header, and the key's own bytes.
fn key_parts(info: &[u8]) -> Result<(Vec<u8>, Vec<u8>), String> {
    let info = KeyInfo::from_der(info).map_err(said)?;
    Ok((info.algorithm.value().to_vec(), info.key.raw_bytes().to_vec()))
}

fn said(error: der::Error) -> String {
    error.to_string()
}
