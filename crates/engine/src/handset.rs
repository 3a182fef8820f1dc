//! The handset protocol: what a handset signs, how its session is known, and security keys. `docs/handset-protocol.md` says it to
//! whoever writes another handset.
//!
//! Every signature is ECDSA with P-256 and SHA-256 over the bytes below, as 64 bytes r and s (IEEE P1363, what WebCrypto makes). The
//! first line of each names what it is for, so that no signature can serve for another purpose.

use crate::shared::Shared;
use bivector_model::Moment;
use bivector_site::Site;
use bivector_store::agreement::Took;
use bivector_store::clock;
use bivector_store::records::person_key;
use bivector_store::records::{DeviceKind, FactorRow, PersonRow, RecordsError};
use bivector_store::seal::random;
use data_encoding::BASE64URL_NOPAD;
use ring::signature::{ECDSA_P256_SHA256_FIXED, UnparsedPublicKey};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use std::time::Duration;
use webauthn_rs::prelude::{
    CreationChallengeResponse, Passkey, PasskeyAuthentication, PasskeyRegistration, PublicKeyCredential, RegisterPublicKeyCredential,
    RequestChallengeResponse, Url, Uuid,
};
use webauthn_rs::{Webauthn, WebauthnBuilder};

/// Bytes of a public key: an uncompressed point.
const POINT: usize = 65;
/// How long a challenge may be answered.
const CHALLENGE: Duration = Duration::from_secs(120);
/// How long a session lasts: then the handset signs a new challenge, by itself.
const SESSION: Duration = Duration::from_secs(12 * 3600);
/// How long a security key may take.
const KEY_ROUND: Duration = Duration::from_secs(300);
const CHALLENGES: &str = "handset-challenge";
const SESSIONS: &str = "handset-session";

/// What is signed to enrol.
pub fn enrolment_text(invitation: &str, public_key: &str, label: &str) -> String {
    format!("bivector handset enrol 1\n{invitation}\n{public_key}\n{label}")
}

/// What is signed for a session.
pub fn session_text(challenge: &str) -> String {
    format!("bivector handset session 1\n{challenge}")
}

/// What is signed to answer: the decision, the number that was picked, and all that was shown, as it came.
pub fn answer_text(decision: &str, number: Option<u8>, shown: &str) -> String {
    let number = number.map(|number| number.to_string()).unwrap_or_default();
    format!("bivector handset answer 1\n{decision}\n{number}\n{shown}")
}

/// A public key as it travels: base64url of an uncompressed point.
pub fn read_key(text: &str) -> Option<Vec<u8>> {
    let bytes = BASE64URL_NOPAD.decode(text.as_bytes()).ok()?;
    (bytes.len() == POINT && bytes[0] == 4).then_some(bytes)
}

/// Whether a signature is of this key over this text.
pub fn is_signed(key: &[u8], text: &str, signature: &str) -> bool {
    let Ok(signature) = BASE64URL_NOPAD.decode(signature.as_bytes()) else { return false };
    UnparsedPublicKey::new(&ECDSA_P256_SHA256_FIXED, key).verify(text.as_bytes(), &signature).is_ok()
}

#[derive(Serialize, Deserialize)]
struct Challenge {
    person: String,
    device: u64,
    nonce: [u8; 16],
    until: Moment,
}

#[derive(Serialize, Deserialize)]
struct Session {
    /// Ends it before its time.
    id: [u8; 16],
    person: String,
    device: u64,
    until: Moment,
}

fn seal<T: Serialize>(shared: &Shared, purpose: &str, value: &T) -> String {
    BASE64URL_NOPAD.encode(&shared.seal.seal(purpose, &serde_json::to_vec(value).unwrap_or_default()))
}

fn open<T: for<'d> Deserialize<'d>>(shared: &Shared, purpose: &str, text: &str) -> Option<T> {
    let sealed = BASE64URL_NOPAD.decode(text.as_bytes()).ok()?;
    serde_json::from_slice(shared.seal.open(purpose, &sealed).ok()?.expose()).ok()
}

/// A handset that has shown that it holds its key.
#[derive(Debug, Clone)]
pub struct KnownHandset {
    /// The person.
    pub person: Arc<PersonRow>,
    /// The person's key.
    pub key: String,
    /// The handset.
    pub device: FactorRow,
}

/// Something for a handset to sign. Any device gets one: whether it is known, shows only in the next step.
pub fn challenge(shared: &Shared, person: &str, device: u64) -> String {
    let challenge = Challenge { person: person.to_owned(), device, nonce: random(), until: clock::now().plus(CHALLENGE) };
    seal(shared, CHALLENGES, &challenge)
}

/// A session for a handset that has signed its challenge; none if anything about it is wrong. The phone's clock does not matter.
pub fn begin_session(shared: &Shared, challenge: &str, signature: &str) -> Option<(String, KnownHandset)> {
    let asked: Challenge = open(shared, CHALLENGES, challenge)?;
    let handset = find(shared, &asked.person, asked.device)?;
    let key = shared.roster.opened(&handset.person, &handset.device)?;
    let right = asked.until > clock::now() && is_signed(key.expose(), &session_text(challenge), signature);
    let session = Session { id: random(), person: asked.person, device: asked.device, until: clock::now().plus(SESSION) };
    right.then(|| (seal(shared, SESSIONS, &session), handset))
}

/// The handset of a session, if that still holds and the handset was not removed.
pub fn of_session(shared: &Shared, session: &str) -> Option<KnownHandset> {
    let session: Session = open(shared, SESSIONS, session)?;
    let open = session.until > clock::now() && !shared.sign_ins.has_ended(&session.id);
    find(shared, &session.person, session.device).filter(|_| open)
}

/// Ends a session before its time, and its line of events with it.
///
/// # Errors
/// It could not be written down.
pub async fn end_session(shared: &Shared, session: &str) -> Result<(), RecordsError> {
    let Some(session) = open::<Session>(shared, SESSIONS, session).filter(|session| session.until > clock::now()) else { return Ok(()) };
    let ended = shared.sign_ins.end_sealed(session.id, session.until).await;
    shared.approvals.tell_device(&session.person);
    ended
}

fn find(shared: &Shared, person: &str, device: u64) -> Option<KnownHandset> {
    let known = shared.roster.get(person).filter(|known| !known.disabled)?;
    let device = known.factors.iter().find(|factor| factor.id == device && factor.kind == DeviceKind::Handset).cloned()?;
    Some(KnownHandset { key: person_key(&known.source, &known.login), person: known, device })
}

/// Why a security key does not count.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum KeyTrouble {
    /// The site has no address that keys could be bound to.
    #[error("the site has no `address` for the handset page, which security keys require")]
    NoAddress,
    /// The person has none.
    #[error("no security key is enrolled for this person")]
    NoKey,
    /// Nothing has begun, or it took too long.
    #[error("the security key request has expired or was never started")]
    NoRound,
    /// The records failed.
    #[error("{0}")]
    Records(String),
    /// The key's answer does not verify.
    #[error("the security key's signature is not valid: {0}")]
    Wrong(String),
}

/// Where keys are bound to: the page's name, on any port of this machine in a demo.
fn webauthn(site: &Site) -> Result<Webauthn, KeyTrouble> {
    let url = site.handset.address.as_ref().and_then(|address| Url::parse(address).ok()).ok_or(KeyTrouble::NoAddress)?;
    let name = url.domain().ok_or(KeyTrouble::NoAddress)?.to_owned();
    let wrong = |error: webauthn_rs::prelude::WebauthnError| KeyTrouble::Wrong(error.to_string());
    WebauthnBuilder::new(&name, &url).map_err(wrong)?.rp_name(&site.name).allow_any_port(name == "localhost").build().map_err(wrong)
}

/// A security key of a person.
#[derive(Debug)]
pub struct OwnKey {
    /// Its record number.
    pub id: u64,
    /// What the person calls it.
    pub label: String,
    passkey: Passkey,
}

/// The person's security keys that count.
pub fn keys(shared: &Shared, person: &PersonRow) -> Vec<OwnKey> {
    let own = person.factors.iter().filter(|factor| factor.kind == DeviceKind::Key && factor.settings.waits_for.is_none());
    own.filter_map(|factor| {
        let passkey = serde_json::from_slice(shared.roster.opened(person, factor)?.expose()).ok()?;
        Some(OwnKey { id: factor.id, label: factor.label.clone(), passkey })
    })
    .collect()
}

/// Before the name of a round with a security key that is being added, and of one that proves an approval.
const ADDING: &str = "key-added/";
const PROVING: &str = "key-proves/";
/// What the state of a round is sealed for.
const KEY_ROUND_PURPOSE: &str = "key-round";

fn adding(handset: u64) -> String {
    format!("{ADDING}{handset}")
}

fn proving(approval: u64, handset: u64) -> String {
    format!("{PROVING}{approval:016x}/{handset}")
}

/// Begins to enrol a security key.
///
/// # Errors
/// [`KeyTrouble`].
pub async fn begin_adding_key(shared: &Shared, site: &Site, handset: &KnownHandset) -> Result<CreationChallengeResponse, KeyTrouble> {
    let known = keys(shared, &handset.person).iter().map(|key| key.passkey.cred_id().clone()).collect();
    // One name for one person on this machine; it says nothing about who that is.
    let user = Uuid::from_u128(u128::from(handset.person.id));
    let begun = webauthn(site)?.start_passkey_registration(user, &handset.person.login, &handset.person.name, Some(known));
    let (options, state) = begun.map_err(|error| KeyTrouble::Wrong(error.to_string()))?;
    store(shared, adding(handset.device.id), &state).await?;
    Ok(options)
}

/// What is to be kept of a security key that has answered.
///
/// # Errors
/// [`KeyTrouble`].
pub async fn finish_adding_key(
    shared: &Shared,
    site: &Site,
    handset: &KnownHandset,
    answer: &RegisterPublicKeyCredential,
) -> Result<Vec<u8>, KeyTrouble> {
    let state: PasskeyRegistration = take(shared, adding(handset.device.id)).await?;
    let passkey = webauthn(site)?.finish_passkey_registration(answer, &state);
    let passkey = passkey.map_err(|error| KeyTrouble::Wrong(error.to_string()))?;
    serde_json::to_vec(&passkey).map_err(|error| KeyTrouble::Wrong(error.to_string()))
}

/// Begins to prove an approval with a security key; the challenge is for this approval on this handset only.
///
/// # Errors
/// [`KeyTrouble`].
pub async fn begin_proving_with_key(
    shared: &Shared,
    site: &Site,
    handset: &KnownHandset,
    approval: u64,
) -> Result<RequestChallengeResponse, KeyTrouble> {
    let passkeys: Vec<Passkey> = keys(shared, &handset.person).into_iter().map(|key| key.passkey).collect();
    if passkeys.is_empty() {
        return Err(KeyTrouble::NoKey);
    }
    let begun = webauthn(site)?.start_passkey_authentication(&passkeys);
    let (options, state) = begun.map_err(|error| KeyTrouble::Wrong(error.to_string()))?;
    store(shared, proving(approval, handset.device.id), &state).await?;
    Ok(options)
}

/// Which key has proved an approval, and what to keep of it if its counter has moved.
///
/// # Errors
/// [`KeyTrouble`].
pub async fn finish_proving_with_key(
    shared: &Shared,
    site: &Site,
    handset: &KnownHandset,
    approval: u64,
    answer: &PublicKeyCredential,
) -> Result<(OwnKey, Option<Vec<u8>>), KeyTrouble> {
    let state: PasskeyAuthentication = take(shared, proving(approval, handset.device.id)).await?;
    let proved = webauthn(site)?.finish_passkey_authentication(answer, &state);
    let proved = proved.map_err(|error| KeyTrouble::Wrong(error.to_string()))?;
    let own = keys(shared, &handset.person).into_iter().find(|key| key.passkey.cred_id() == proved.cred_id());
    let mut own = own.ok_or(KeyTrouble::NoKey)?;
    let moved = own.passkey.update_credential(&proved) == Some(true);
    let kept = moved.then(|| serde_json::to_vec(&own.passkey).ok()).flatten();
    Ok((own, kept))
}

/// Stores the state of a round, sealed: a later one in its place takes over from it.
async fn store(shared: &Shared, name: String, state: &impl Serialize) -> Result<(), KeyTrouble> {
    let now = clock::now();
    let plain = serde_json::to_vec(state).map_err(|error| KeyTrouble::Wrong(error.to_string()))?;
    let sealed = shared.seal.seal(KEY_ROUND_PURPOSE, &plain);
    let stored = shared.agreement.store(name.into_bytes(), sealed, now.plus(KEY_ROUND), now).await;
    stored.map_err(|error| KeyTrouble::Records(error.to_string()))
}

/// Takes the state of a round: each is answered once.
async fn take<T: DeserializeOwned>(shared: &Shared, name: String) -> Result<T, KeyTrouble> {
    let took = shared.agreement.take(name.into_bytes(), clock::now()).await;
    let Took::Value(sealed) = took.map_err(|error| KeyTrouble::Records(error.to_string()))? else { return Err(KeyTrouble::NoRound) };
    let opened = shared.seal.open(KEY_ROUND_PURPOSE, &sealed).ok();
    opened.and_then(|plain| serde_json::from_slice(plain.expose()).ok()).ok_or(KeyTrouble::NoRound)
}

#[cfg(test)]
mod tests {
    use super::*;
    use ring::rand::SystemRandom;
    use ring::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, KeyPair};

    #[test]
    fn a_signature_counts_for_its_key_its_purpose_and_every_byte_that_was_shown() {
        let random = SystemRandom::new();
        let pair = |()| {
            let document = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, &random).unwrap();
            EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, document.as_ref(), &random).unwrap()
        };
        let (own, other) = (pair(()), pair(()));
        let shown = "{\"gateway\":\"breakwater\"}";
        let text = answer_text("approve", Some(47), shown);
        let signature = BASE64URL_NOPAD.encode(own.sign(&random, text.as_bytes()).unwrap().as_ref());
        let key = own.public_key().as_ref();
        assert!(is_signed(key, &text, &signature));
        assert!(!is_signed(other.public_key().as_ref(), &text, &signature), "another handset's");
        for altered in [
            answer_text("deny", Some(47), shown),
            answer_text("approve", Some(48), shown),
            answer_text("approve", None, shown),
            answer_text("approve", Some(47), "{\"gateway\":\"lantern\"}"),
            session_text(shown),
        ] {
            assert!(!is_signed(key, &altered, &signature), "{altered}");
        }
        for broken in ["", "AAAA", "not base64!", &signature[1..]] {
            assert!(!is_signed(key, &text, broken));
        }
        assert!(read_key(&BASE64URL_NOPAD.encode(key)).is_some() && read_key("AAAA").is_none());
    }
}
