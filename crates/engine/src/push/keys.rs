//! Keys that messages are signed with (RFC 8292). The newest is the one that handsets subscribe with; an older one signs for the handsets
//! that have subscribed with it, until they come by.

use crate::live::LiveSite;
use crate::shared::Shared;
use bivector_model::Moment;
use bivector_push::{Claims, SigningKey, authorization};
use bivector_store::clock;
use bivector_store::records::{PushKeyRow, RecordsError};
use bivector_store::seal::random;
use std::collections::HashMap;
use std::sync::Mutex;
use std::time::Duration;

/// What signing keys are sealed for.
const PURPOSE: &str = "push-key";
/// How long a token counts, and how old one may be that is used again.
const LASTS: Duration = Duration::from_secs(12 * 3600);
const FRESH: Duration = Duration::from_secs(6 * 3600);
/// Tokens that are kept: one for each push service and key.
const TOKENS: usize = 512;

/// A signing key.
#[derive(Debug, Clone)]
pub struct PushKey {
    /// Record number.
    pub id: u64,
    /// The public key, in base64url.
    pub public: String,
    /// When it was made.
    pub made: Moment,
    key: SigningKey,
}

/// Keys and the tokens that were made with them.
#[derive(Debug, Default)]
pub struct PushKeys {
    known: Mutex<Vec<PushKey>>,
    tokens: Mutex<HashMap<(u64, String), (Moment, String)>>,
}

impl PushKeys {
    /// The key that handsets subscribe with. It is made if there is none, or only one that has lasted as long as the site wants.
    ///
    /// # Errors
    /// The records failed.
    pub async fn current(&self, shared: &Shared, lasts: Duration) -> Result<PushKey, RecordsError> {
        let now = clock::now();
        let newest = self.newest(shared).await?;
        match newest.filter(|key| now.since(key.made) < lasts) {
            Some(key) => Ok(key),
            None => self.replace(shared).await,
        }
    }

    /// Makes a new key. Handsets take it over when their page is next opened.
    ///
    /// # Errors
    /// The records failed.
    pub async fn replace(&self, shared: &Shared) -> Result<PushKey, RecordsError> {
        let newest = self.newest(shared).await?.map(|key| key.id);
        let made = (0..8).find_map(|_| {
            let bytes = random::<32>();
            SigningKey::from_bytes(&bytes).map(|key| (key, bytes))
        });
        let (key, bytes) = made.ok_or_else(|| RecordsError("no signing key could be made".into()))?;
        // Another node may have been faster; its key counts then.
        shared.records.add_push_key(key.public(), shared.seal.seal(PURPOSE, &bytes), newest, clock::now()).await?;
        self.read(shared).await?;
        self.newest(shared).await?.ok_or_else(|| RecordsError("the signing key was not kept".into()))
    }

    /// A key by its public half: the subscription was made with it.
    ///
    /// # Errors
    /// The records failed.
    pub async fn known(&self, shared: &Shared, public: &str) -> Result<Option<PushKey>, RecordsError> {
        self.find(shared, |key| key.public == public).await
    }

    /// A key by its record number.
    ///
    /// # Errors
    /// The records failed.
    pub async fn by_id(&self, shared: &Shared, id: u64) -> Result<Option<PushKey>, RecordsError> {
        self.find(shared, |key| key.id == id).await
    }

    /// All keys, the newest first.
    ///
    /// # Errors
    /// The records failed.
    pub async fn all(&self, shared: &Shared) -> Result<Vec<PushKey>, RecordsError> {
        self.read(shared).await?;
        Ok(self.known.lock().map(|known| known.clone()).unwrap_or_default())
    }

    /// The value of the Authorization header for a push service; none if the key is gone.
    pub(super) async fn authorization(
        &self,
        shared: &Shared,
        live: &LiveSite,
        key: u64,
        origin: &str,
    ) -> Result<Option<String>, RecordsError> {
        let now = clock::now();
        let place = (key, origin.to_owned());
        let made = self.tokens.lock().ok().and_then(|tokens| tokens.get(&place).cloned());
        if let Some((_, token)) = made.filter(|(at, _)| now.since(*at) < FRESH) {
            return Ok(Some(token));
        }
        let Some(key) = self.find(shared, |known| known.id == key).await? else { return Ok(None) };
        let site = &live.site;
        let contact = site.push.contact.clone().or_else(|| site.handset.address.clone().filter(|address| address.starts_with("https://")));
        let sub = contact.unwrap_or_else(|| "https://localhost".to_owned());
        let claims = Claims { aud: origin.to_owned(), exp: now.plus(LASTS).secs(), sub };
        let token = authorization(&key.key, &claims);
        if let Ok(mut tokens) = self.tokens.lock() {
            if tokens.len() >= TOKENS {
                tokens.clear();
            }
            tokens.insert(place, (now, token.clone()));
        }
        Ok(Some(token))
    }

    /// Forgets the tokens: the contact may have changed.
    pub fn forget_tokens(&self) {
        if let Ok(mut tokens) = self.tokens.lock() {
            tokens.clear();
        }
    }

    async fn newest(&self, shared: &Shared) -> Result<Option<PushKey>, RecordsError> {
        self.find(shared, |_| true).await
    }

    /// A key in memory, or else in the records.
    async fn find(&self, shared: &Shared, is: impl Fn(&PushKey) -> bool) -> Result<Option<PushKey>, RecordsError> {
        let known = |keys: &Self| keys.known.lock().ok().and_then(|known| known.iter().find(|key| is(key)).cloned());
        if let Some(key) = known(self) {
            return Ok(Some(key));
        }
        self.read(shared).await?;
        Ok(known(self))
    }

    async fn read(&self, shared: &Shared) -> Result<(), RecordsError> {
        let rows = shared.records.push_keys().await?;
        let opened = |row: PushKeyRow| {
            let bytes = shared.seal.open(PURPOSE, &row.sealed).ok()?;
            let key = SigningKey::from_bytes(bytes.expose())?;
            Some(PushKey { id: row.id, public: row.public, made: Moment::from_micros(row.made_us), key })
        };
        let keys: Vec<PushKey> = rows.into_iter().filter_map(opened).collect();
        if let Ok(mut known) = self.known.lock() {
            *known = keys;
        }
        Ok(())
    }
}
