//! A directory over LDAP (RFC 4511): finding a person, reading groups, checking a password by a bind.

use super::pool::{Binder, ServerPool};
use super::standing::{Failure, Member, Round, inherit_all};
use super::trouble::{Doing, from_ldap};
use bivector_api::directories::Health;
use bivector_core::login::{Answer, Found, PasswordAnswer, PersonAnswer, SecretAnswer, Unavailable};
use bivector_model::Cause;
use bivector_model::directory::{PASSWORD_POLICY_OID, describe_code, read_bind, read_failure};
use bivector_model::rule::Groups;
use bivector_outbound::trust::client_config;
use bivector_site::{BindAs, Directory, DirectoryKind, GroupSource, Scope};
use bivector_store::error::ServiceError;
use bivector_store::records::person_key;
use bivector_store::seal::random;
use bivector_wire::Secret;
use data_encoding::HEXUPPER_PERMISSIVE;
use futures_util::stream::{FuturesUnordered, StreamExt};
use ldap3::controls::{Control, RawControl};
use ldap3::{Ldap, LdapError, ResultEntry, Scope as LdapScope, SearchEntry, SearchOptions, ldap_escape};
use std::collections::BTreeSet;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::AtomicUsize;
use std::time::{Duration, Instant};

/// Groups of one person that are read at most.
const MAX_GROUPS: i32 = 2000;
/// How deep groups of groups are followed where the directory does not do it itself.
const MAX_DEPTH: usize = 10;
/// Attributes that say for sure that an account may not be used, whatever its password: a person who answers a prompt is not bound again.
const STANDING: [&str; 3] = ["userAccountControl", "nsAccountLock", "pwdAccountLockedTime"];

/// Why an account may not be used, where its entry says so.
fn standing(entry: &SearchEntry) -> Option<Cause> {
    /// ACCOUNTDISABLE among the flags of Active Directory.
    const DISABLED: u32 = 0x2;
    /// A lock without an end (draft-behera-ldap-password-policy section 5.3.3).
    const FOR_EVER: &str = "000001010000Z";
    let first = |attribute: &str| values(entry, attribute).into_iter().next();
    let disabled =
        first("userAccountControl").and_then(|flags| flags.parse::<i64>().ok()).is_some_and(|flags| flags as u32 & DISABLED != 0);
    let locked = first("nsAccountLock").is_some_and(|lock| lock.eq_ignore_ascii_case("true"));
    if disabled || locked {
        return Some(Cause::AccountDisabled);
    }
    first("pwdAccountLockedTime").is_some_and(|at| at == FOR_EVER).then_some(Cause::AccountLocked)
}

/// The rule by which Active Directory follows groups of groups itself.
const IN_CHAIN: &str = "1.2.840.113556.1.4.1941";

/// A directory of the site, with its connections.
#[derive(Debug)]
pub struct DirectorySource {
    settings: Directory,
    password: Option<Secret<Vec<u8>>>,
    servers: Vec<ServerPool>,
    turn: AtomicUsize,
}

impl DirectorySource {
    /// Reads the trust file. Nothing is connected yet.
    ///
    /// # Errors
    /// The trust file cannot be used.
    pub fn prepare(settings: Directory, password: Option<Secret<Vec<u8>>>, data: &Path) -> Result<Self, ServiceError> {
        let tls = client_config(&settings.name, settings.trust.as_deref(), data)?;
        let servers = settings.servers.iter().map(|server| ServerPool::new(&settings, server.clone(), tls.clone())).collect();
        Ok(DirectorySource { settings, password, servers, turn: AtomicUsize::new(0) })
    }

    /// Its name in the site.
    pub fn name(&self) -> &str {
        &self.settings.name
    }

    /// Connects as the service account, before a site with this directory comes into force. The first server that answers counts.
    ///
    /// # Errors
    /// Why it could not.
    pub async fn try_reader(&self) -> Result<(), Unavailable> {
        let mut why = Unavailable { cause: Cause::SourceUnreachable, seen: "no server is configured".into() };
        for server in &self.servers {
            match server.reader(self.account(), self.settings.answer_patience).await {
                Ok(_) => return Ok(()),
                Err(error) if error.cause == Cause::SourceReaderRefused => return Err(error),
                Err(error) => why = Unavailable { cause: error.cause, seen: format!("{}: {}", server.url(), error.seen) },
            }
        }
        Err(why)
    }

    /// Takes over what was known of its servers under the revision before.
    pub fn inherit(&self, before: &DirectorySource) {
        inherit_all(&self.servers, &before.servers);
    }

    /// Asks a server as if it had never failed.
    pub fn assume_well(&self, url: &str) {
        let servers = self.servers.iter().filter(|server| server.url() == url);
        servers.for_each(|server| drop(server.standing().set_well()));
    }

    /// What is known of its servers, in the order of the site file.
    pub fn health(&self) -> Vec<Health> {
        self.servers.iter().filter_map(ServerPool::health).collect()
    }

    /// Looks at every server once, aside from the logins; gives those whose state changed.
    pub async fn look(&self) -> Vec<Health> {
        let looks = self.servers.iter().map(|server| server.look(self.account(), self.settings.answer_patience));
        futures_util::future::join_all(looks).await.into_iter().flatten().collect()
    }

    /// Finds a person by login name.
    pub async fn find(&self, name: &str) -> Answer<PersonAnswer> {
        let mut round = self.round();
        match hedged(&mut round, self.settings.hedge, true, |server| self.find_at(server, name)).await {
            Some((server, began, answer)) => round.answered(server, answer, began),
            None => round.given_up(PersonAnswer::Unavailable),
        }
    }

    /// The servers in the order in which a question goes to them.
    pub(super) fn round(&self) -> Round<'_, ServerPool> {
        Round::new(&self.settings.name, &self.servers, self.settings.pool, &self.turn).hedged_after(self.settings.hedge)
    }

    /// One that says nothing is down for everybody from then on. A refused account is refused on every server.
    pub(super) fn failed(round: &mut Round<'_, ServerPool>, server: &ServerPool, failure: Failure, began: Instant) {
        let down = !failure.ours
            && matches!(
                failure.why.cause,
                Cause::SourceUnreachable | Cause::SourceNameUnresolved | Cause::SourceTlsUntrusted | Cause::SourceSlow
            );
        round.failed(server, failure, down, began);
    }

    /// What a person's bind is made as.
    pub(super) fn bind_name(&self, person: &Found) -> String {
        match &self.settings.bind_as {
            BindAs::Dn => person.handle.clone(),
            BindAs::Principal(realm) => format!("{}@{realm}", person.login),
            BindAs::DomainName(domain) => format!("{domain}\\{}", person.login),
        }
    }

    /// Checks a password by one bind: which server gets it is settled before it is sent. An empty password is never sent: it would count as no bind at all.
    pub async fn check(&self, person: &Found, guess: &Secret<String>) -> Answer<PasswordAnswer> {
        if guess.expose().is_empty() {
            return Answer::ours(PasswordAnswer::Wrong);
        }
        let dn = &self.bind_name(person);
        let mut round = self.round();
        let (patience, hedge) = (self.settings.answer_patience, self.settings.hedge);
        // The connections may just all be busy, so that whoever has one first says nothing of the other server.
        while let Some((server, _, binder)) = hedged(&mut round, hedge, false, |server| server.binder(patience)).await {
            let began = Instant::now();
            match self.check_at(server, binder, dn, guess).await {
                Ok(answer) => return round.answered(server, answer, began),
                Err(failure) => Self::failed(&mut round, server, failure, began),
            }
        }
        round.given_up(PasswordAnswer::Unavailable)
    }

    /// Makes the check of a password for a name that nobody has, so that it takes as long as somebody's: one bind, or one look for what
    /// is kept. What comes back does not matter.
    pub async fn check_nobody(&self, text: bool) {
        let login = format!("nobody-{}", HEXUPPER_PERMISSIVE.encode(&random::<8>()).to_lowercase());
        let handle = format!("{}={login},{}", self.settings.login.first().map_or("uid", String::as_str), self.settings.base);
        let nobody = Found { key: login.clone(), name: login.clone(), login, handle, ..Found::default() };
        if text {
            let guess = Secret::new(HEXUPPER_PERMISSIVE.encode(&random::<8>()));
            drop(self.check(&nobody, &guess).await);
        } else {
            drop(self.nt_hash(&nobody).await);
        }
    }

    pub(super) fn settings(&self) -> &Directory {
        &self.settings
    }

    pub(super) fn servers(&self) -> &[ServerPool] {
        &self.servers
    }

    pub(super) fn scope(&self) -> LdapScope {
        match self.settings.scope {
            Scope::Subtree => LdapScope::Subtree,
            Scope::OneLevel => LdapScope::OneLevel,
        }
    }

    /// The service account and its password.
    pub(super) fn account(&self) -> Option<(&str, &Secret<Vec<u8>>)> {
        self.settings.reader.as_ref().zip(self.password.as_ref()).map(|(reader, password)| (reader.dn.as_str(), password))
    }

    async fn find_at(&self, server: &ServerPool, name: &str) -> Result<PersonAnswer, Failure> {
        let (mut ldap, searched) = self.read_at(server, |ldap| self.search_person(ldap, name)).await?;
        Ok(self.read_searched(server, &mut ldap, name, searched).await?)
    }

    /// Reads something over the shared connection.
    async fn read_at<T, Fut>(&self, server: &ServerPool, read: impl Fn(Ldap) -> Fut) -> Result<(Ldap, T), Unavailable>
    where
        Fut: Future<Output = Result<T, LdapError>>,
    {
        let mut reading = server.reader(self.account(), self.settings.answer_patience).await?;
        let mut seen = read(reading.ldap.clone()).await;
        // A connection from before may have been closed by the server meanwhile; a new one decides.
        if seen.as_ref().is_err_and(|error| !reading.fresh && is_broken(error)) {
            server.forget_reader(&reading).await;
            reading = server.reader(self.account(), self.settings.answer_patience).await?;
            seen = read(reading.ldap.clone()).await;
        }
        match seen {
            Ok(seen) => Ok((reading.ldap, seen)),
            Err(error) => {
                server.forget_reader(&reading).await;
                Err(self.read_error(&error))
            }
        }
    }

    /// Finds a person over a connection that is signed in already.
    pub(super) async fn find_on(&self, server: &ServerPool, ldap: &mut Ldap, name: &str) -> Result<PersonAnswer, Unavailable> {
        let searched = self.search_person(ldap.clone(), name).await.map_err(|error| self.read_error(&error))?;
        self.read_searched(server, ldap, name, searched).await
    }

    async fn read_searched(
        &self,
        server: &ServerPool,
        ldap: &mut Ldap,
        name: &str,
        searched: Searched,
    ) -> Result<PersonAnswer, Unavailable> {
        let mut entries = match searched {
            Searched::Entries(entries) => entries,
            Searched::Failed(why) => return Err(why),
        };
        match entries.len() {
            0 => Ok(PersonAnswer::NoSuchPerson),
            1 => self.read_person(server, ldap, name, entries.remove(0)).await,
            count => Ok(PersonAnswer::Ambiguous { count }),
        }
    }

    async fn search_person(&self, mut ldap: Ldap, name: &str) -> Result<Searched, LdapError> {
        let filter = self.by_name(&ldap_escape(name));
        let wanted = self.wanted();
        // Two are enough to know that the name is not one person's.
        let search = ldap.with_search_options(SearchOptions::new().sizelimit(2)).with_timeout(self.settings.answer_patience);
        let result = search.search(&self.settings.base, self.scope(), &filter, wanted).await?;
        Ok(self.read_search(result.1.rc, result.0))
    }

    /// The filter for people whose name, in any of the naming attributes, has an escaped value.
    pub(super) fn by_name(&self, value: &str) -> String {
        match self.settings.login.as_slice() {
            [one] => format!("({one}={value})"),
            several => format!("(|{})", several.iter().map(|one| format!("({one}={value})")).collect::<String>()),
        }
    }

    /// Attributes of people that are read.
    pub(super) fn wanted(&self) -> Vec<&str> {
        let own = &self.settings.attributes;
        let mut wanted: Vec<&str> = self.settings.login.iter().map(String::as_str).collect();
        wanted.extend(["cn", "displayName", &own.mail, &own.phone, &own.language]);
        wanted.extend(STANDING);
        if let GroupSource::Attribute { attribute, .. } = &self.settings.groups {
            wanted.push(attribute);
        }
        wanted
    }

    fn read_search(&self, code: u32, entries: Vec<ResultEntry>) -> Searched {
        match code {
            // 4: more than two. References to other servers beside what was found are no part of the answer.
            0 | 4 => Searched::Entries(
                entries.into_iter().filter(|entry| !entry.is_ref() && !entry.is_intermediate()).map(SearchEntry::construct).collect(),
            ),
            10 => Searched::Failed(Unavailable {
                cause: Cause::SourceAnswerUnusable,
                seen: format!("the server returned a referral for `{}`; referrals are not followed", self.settings.base),
            }),
            _ => Searched::Failed(Unavailable {
                cause: read_failure(code),
                seen: format!("the search under `{}` returned result {code} ({})", self.settings.base, describe_code(code)),
            }),
        }
    }

    pub(super) async fn read_person(
        &self,
        server: &ServerPool,
        ldap: &mut Ldap,
        name: &str,
        entry: SearchEntry,
    ) -> Result<PersonAnswer, Unavailable> {
        // Whichever name was typed, the person is known by the first attribute that the entry has.
        let logins = self.settings.login.iter().map(|attribute| values(&entry, attribute)).find(|values| !values.is_empty());
        let logins = logins.unwrap_or_default();
        let Some(login) = logins.iter().find(|login| login.eq_ignore_ascii_case(name)).or(logins.first()).cloned() else {
            let attributes = self.settings.login.join("` or `");
            let seen = format!("the attribute `{attributes}` of {} is not visible; the service account may lack read permission", entry.dn);
            return Err(Unavailable { cause: Cause::SourceAnswerUnusable, seen });
        };
        if let Some(cause) = standing(&entry) {
            return Ok(PersonAnswer::Refused(cause));
        }
        let shown = values(&entry, "displayName").into_iter().chain(values(&entry, "cn")).next().unwrap_or_else(|| login.clone());
        let groups = self.groups(server, ldap, &entry).await?;
        let own = &self.settings.attributes;
        let first = |attribute: &str| values(&entry, attribute).into_iter().next();
        let (mail, phone, language) = (first(&own.mail), first(&own.phone), first(&own.language).unwrap_or_default());
        Ok(PersonAnswer::Found(Arc::new(Found {
            key: person_key(&self.settings.name, &login),
            login,
            name: shown,
            handle: entry.dn,
            groups: Groups::new(groups.iter().map(String::as_str)),
            mail,
            phone,
            language,
        })))
    }

    /// Reads the NT hash of a person's password, for MS-CHAPv2.
    pub async fn nt_hash(&self, person: &Found) -> Answer<SecretAnswer> {
        let Some(attribute) = &self.settings.attributes.nt_hash else { return Answer::ours(SecretAnswer::NotKept) };
        let mut round = self.round();
        match hedged(&mut round, self.settings.hedge, true, |server| self.nt_hash_at(server, person, attribute)).await {
            Some((server, began, answer)) => round.answered(server, answer, began),
            None => round.given_up(SecretAnswer::Unavailable),
        }
    }

    async fn nt_hash_at(&self, server: &ServerPool, person: &Found, attribute: &str) -> Result<SecretAnswer, Failure> {
        let read = async |mut ldap: Ldap| {
            let search = ldap.with_timeout(self.settings.answer_patience);
            search.search(&person.handle, LdapScope::Base, "(objectClass=*)", vec![attribute]).await
        };
        let (_, result) = self.read_at(server, read).await?;
        let entry = result.0.into_iter().find(|entry| !entry.is_ref()).map(SearchEntry::construct);
        let hash = entry.and_then(|entry| first_bytes(&entry, attribute)).and_then(|bytes| read_nt_hash(&bytes));
        Ok(hash.map_or(SecretAnswer::NotKept, |hash| SecretAnswer::NtHash(Secret::new(hash))))
    }

    /// The DNs of a person's groups, those of groups among them where the site asks for that.
    async fn groups(&self, server: &ServerPool, ldap: &mut Ldap, entry: &SearchEntry) -> Result<BTreeSet<String>, Unavailable> {
        let (direct, nested): (BTreeSet<String>, bool) = match &self.settings.groups {
            GroupSource::Attribute { attribute, nested } => (values(entry, attribute).into_iter().collect(), *nested),
            GroupSource::Search { base, member, nested } => {
                let filter = format!("({member}={})", ldap_escape(entry.dn.as_str()));
                (self.search_groups(ldap, base, &filter).await?, *nested)
            }
        };
        if !nested {
            return Ok(direct);
        }
        let active_directory = match self.settings.kind {
            DirectoryKind::ActiveDirectory => true,
            DirectoryKind::Generic => false,
            DirectoryKind::Auto => server.is_active_directory(ldap, self.settings.answer_patience).await,
        };
        if active_directory {
            let filter = format!("(member:{IN_CHAIN}:={})", ldap_escape(entry.dn.as_str()));
            let mut all = self.search_groups(ldap, domain_of(&self.settings.base), &filter).await?;
            all.extend(direct);
            return Ok(all);
        }
        self.follow(ldap, direct).await
    }

    /// Follows groups of groups step by step; a ring of groups ends where it began.
    async fn follow(&self, ldap: &mut Ldap, direct: BTreeSet<String>) -> Result<BTreeSet<String>, Unavailable> {
        let (mut all, mut last) = (direct.clone(), direct);
        for _ in 0..MAX_DEPTH {
            let mut next = BTreeSet::new();
            for group in &last {
                next.extend(self.groups_of_group(ldap, group).await?);
            }
            last = next.difference(&all).cloned().collect();
            if last.is_empty() || all.len() > MAX_GROUPS as usize {
                break;
            }
            all.extend(last.iter().cloned());
        }
        Ok(all)
    }

    async fn groups_of_group(&self, ldap: &mut Ldap, group: &str) -> Result<BTreeSet<String>, Unavailable> {
        match &self.settings.groups {
            GroupSource::Search { base, member, .. } => self.search_groups(ldap, base, &format!("({member}={})", ldap_escape(group))).await,
            GroupSource::Attribute { attribute, .. } => {
                let read =
                    ldap.with_timeout(self.settings.answer_patience).search(group, LdapScope::Base, "(objectClass=*)", vec![attribute]);
                let result = read.await.map_err(|error| self.read_error(&error))?;
                // A group that the service account may not read ends the walk there.
                Ok(result
                    .0
                    .into_iter()
                    .filter(|entry| !entry.is_ref())
                    .flat_map(|entry| values(&SearchEntry::construct(entry), attribute))
                    .collect())
            }
        }
    }

    async fn search_groups(&self, ldap: &mut Ldap, base: &str, filter: &str) -> Result<BTreeSet<String>, Unavailable> {
        let search = ldap.with_search_options(SearchOptions::new().sizelimit(MAX_GROUPS)).with_timeout(self.settings.answer_patience);
        let result = search.search(base, LdapScope::Subtree, filter, vec!["1.1"]).await.map_err(|error| self.read_error(&error))?;
        if result.1.rc != 0 {
            let seen = format!("the search for groups under `{base}` gave result {} ({})", result.1.rc, describe_code(result.1.rc));
            return Err(Unavailable { cause: read_failure(result.1.rc), seen });
        }
        Ok(result.0.into_iter().filter(|entry| !entry.is_ref()).map(|entry| SearchEntry::construct(entry).dn).collect())
    }

    async fn check_at<'p>(
        &self,
        server: &'p ServerPool,
        mut binder: Binder<'p>,
        dn: &str,
        guess: &Secret<String>,
    ) -> Result<PasswordAnswer, Failure> {
        let mut bound = self.bind(&mut binder, dn, guess).await;
        // Only where the connection was dead before the bind could be sent: a guess that may have arrived is never repeated.
        if let Err(error) = &bound
            && !binder.fresh
            && was_never_sent(error)
        {
            drop(binder);
            binder = server.binder(self.settings.answer_patience).await?;
            bound = self.bind(&mut binder, dn, guess).await;
        }
        let answer = bound.map_err(|error| Failure { sent: !was_never_sent(&error), ..self.read_error(&error).into() })?;
        binder.keep();
        Ok(answer)
    }

    async fn bind(&self, binder: &mut Binder<'_>, dn: &str, guess: &Secret<String>) -> Result<PasswordAnswer, LdapError> {
        let control = RawControl { ctype: PASSWORD_POLICY_OID.to_owned(), crit: false, val: None };
        let result = binder.ldap.with_controls(control).with_timeout(self.settings.answer_patience).simple_bind(dn, guess.expose()).await?;
        let policy =
            result.ctrls.iter().find(|Control(_, raw)| raw.ctype == PASSWORD_POLICY_OID).and_then(|Control(_, raw)| raw.val.as_deref());
        let seen = format!("the bind returned result {} ({})", result.rc, describe_code(result.rc));
        Ok(PasswordAnswer::from_bind(read_bind(result.rc, &result.text, policy), seen))
    }

    pub(super) fn read_error(&self, error: &LdapError) -> Unavailable {
        from_ldap(error, Doing::Answering(self.settings.answer_patience))
    }
}

/// Asks a question that may be asked twice: the next server hears it too as soon as one has kept it for as long as `hedge`, or somebody
/// else has found that one down. The first answer counts, and comes with its server and when that was asked; a server that it overtook is
/// slow, if `overtakes`. Nothing where no server is left.
async fn hedged<'d, T, Fut>(
    round: &mut Round<'d, ServerPool>,
    hedge: Duration,
    overtakes: bool,
    question: impl Fn(&'d ServerPool) -> Fut,
) -> Option<(&'d ServerPool, Instant, T)>
where
    Fut: Future<Output = Result<T, Failure>>,
{
    let ask = |server: &'d ServerPool, is_last: bool| {
        let (began, asked) = (Instant::now(), question(server));
        async move {
            let found_down = async {
                server.standing().found_down().await;
                if is_last {
                    std::future::pending().await
                }
            };
            let given_up = || Unavailable { cause: Cause::SourceSlow, seen: "another login found it down".into() };
            let answer = tokio::select! {
                biased;
                answer = asked => answer,
                () = found_down => Err(Failure { ours: true, ..given_up().into() }),
            };
            (server, began, answer)
        }
    };
    let mut asked = FuturesUnordered::new();
    // In the order in which they were asked.
    let mut waiting: Vec<(&'d ServerPool, Instant)> = Vec::new();
    loop {
        if asked.is_empty() {
            let server = round.next()?;
            waiting.push((server, Instant::now()));
            asked.push(ask(server, !round.has_more()));
        }
        tokio::select! {
            biased;
            Some((server, began, answer)) = asked.next() => {
                let place = waiting.iter().position(|(waiting, _)| std::ptr::eq(*waiting, server));
                let earlier = waiting.drain(..place.unwrap_or_default());
                match answer {
                    Ok(answer) => {
                        earlier.filter(|_| overtakes).for_each(|(server, began)| round.overtaken(server, began));
                        return Some((server, began, answer));
                    }
                    Err(failure) => DirectorySource::failed(round, server, failure, began),
                }
            }
            // Those behind a server that is known to be slow are no quicker.
            () = tokio::time::sleep(hedge), if round.has_more() && waiting.iter().all(|(server, _)| server.standing().is_quick()) => {
                if let Some(server) = round.next() {
                    waiting.push((server, Instant::now()));
                    asked.push(ask(server, !round.has_more()));
                }
            }
        }
    }
}

/// The values of an attribute as text; bytes that are no UTF-8 show as marks, so that none is lost in silence.
fn values(entry: &SearchEntry, attribute: &str) -> Vec<String> {
    let named = |name: &String| name.eq_ignore_ascii_case(attribute);
    let text = entry.attrs.iter().filter(|(name, _)| named(name)).flat_map(|(_, values)| values.iter().cloned());
    let bytes = entry.bin_attrs.iter().filter(|(name, _)| named(name)).flat_map(|(_, values)| values);
    text.chain(bytes.map(|value| String::from_utf8_lossy(value).into_owned())).collect()
}

fn first_bytes(entry: &SearchEntry, attribute: &str) -> Option<Secret<Vec<u8>>> {
    let named = |name: &str| name.eq_ignore_ascii_case(attribute);
    let text =
        entry.attrs.iter().find(|(name, _)| named(name)).and_then(|(_, values)| values.first()).map(|text| text.clone().into_bytes());
    let bytes = || entry.bin_attrs.iter().find(|(name, _)| named(name)).and_then(|(_, values)| values.first()).cloned();
    text.or_else(bytes).map(Secret::new)
}

/// An NT hash as directories keep it: 16 bytes, or 32 hex digits in any case.
fn read_nt_hash(bytes: &Secret<Vec<u8>>) -> Option<[u8; 16]> {
    let bytes = bytes.expose();
    <[u8; 16]>::try_from(bytes.as_slice()).ok().or_else(|| HEXUPPER_PERMISSIVE.decode(bytes).ok()?.try_into().ok())
}

/// The part of a DN from its first `dc=` on: where a domain's groups are.
fn domain_of(base: &str) -> &str {
    let lower = base.to_ascii_lowercase();
    lower.find("dc=").and_then(|at| base.get(at..)).unwrap_or(base)
}

enum Searched {
    Entries(Vec<SearchEntry>),
    Failed(Unavailable),
}

fn is_broken(error: &LdapError) -> bool {
    !matches!(error, LdapError::Timeout { .. } | LdapError::FilterParsing | LdapError::LdapResult { .. })
}

/// The client could not hand the request to its connection.
fn was_never_sent(error: &LdapError) -> bool {
    matches!(error, LdapError::OpSend { .. })
}
