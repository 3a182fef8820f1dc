//! A directory over LDAP (RFC 4511): finding a person, reading groups, checking a password by a bind.

use super::pool::{Binder, Health, ServerPool};
use super::trouble::{Doing, from_ldap};
use super::trust::client_config;
use crate::error::ServiceError;
use crate::roster::person_key;
use bivector_core::Cause;
use bivector_core::directory::{PASSWORD_POLICY_OID, describe_code, read_bind, read_failure};
use bivector_core::login::{Answer, FailedServer, Found, PasswordAnswer, PersonAnswer, Unavailable};
use bivector_core::rule::Groups;
use bivector_core::site::{Directory, GroupSource, Scope};
use bivector_wire::Secret;
use ldap3::controls::{Control, RawControl};
use ldap3::{Ldap, LdapError, ResultEntry, Scope as LdapScope, SearchEntry, SearchOptions, ldap_escape};
use std::path::Path;
use std::time::Instant;

/// Groups of one person that are read at most.
const MAX_GROUPS: i32 = 2000;

/// A directory of the site, with its connections.
#[derive(Debug)]
pub struct DirectorySource {
    settings: Directory,
    password: Option<Secret<Vec<u8>>>,
    servers: Vec<ServerPool>,
}

impl DirectorySource {
    /// Reads the trust file. Nothing is connected yet.
    ///
    /// # Errors
    /// The trust file cannot be used.
    pub fn prepare(settings: Directory, password: Option<Secret<Vec<u8>>>, data: &Path) -> Result<Self, ServiceError> {
        let tls = client_config(&settings.name, settings.trust.as_deref(), data)?;
        let servers = settings.servers.iter().map(|server| ServerPool::new(&settings, server.clone(), tls.clone())).collect();
        Ok(DirectorySource { settings, password, servers })
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
        let mut why = Unavailable { cause: Cause::SourceUnreachable, seen: "it has no server".into() };
        for server in &self.servers {
            match server.reader(self.account(), self.settings.answer_patience).await {
                Ok(_) => return Ok(()),
                Err(error) if error.cause == Cause::SourceReaderRefused => return Err(error),
                Err(error) => why = Unavailable { cause: error.cause, seen: format!("{}: {}", server.url(), error.seen) },
            }
        }
        Err(why)
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
        let mut round = Round::new(self);
        while let Some(server) = round.next() {
            match self.find_at(server, name).await {
                Ok(answer) => return round.answered(server, answer),
                Err(failure) => round.failed(server, failure),
            }
        }
        round.given_up(PersonAnswer::Unavailable)
    }

    /// Checks a password by one bind as `dn`. An empty password is never sent: it would count as no bind at all.
    pub async fn check(&self, dn: &str, guess: &Secret<String>) -> Answer<PasswordAnswer> {
        if guess.expose().is_empty() {
            return Answer::ours(PasswordAnswer::Wrong);
        }
        let mut round = Round::new(self);
        while let Some(server) = round.next() {
            match self.check_at(server, dn, guess).await {
                Ok(answer) => return round.answered(server, answer),
                Err(failure) => round.failed(server, failure),
            }
        }
        round.given_up(PasswordAnswer::Unavailable)
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
        let (mut ldap, fresh) = server.reader(self.account(), self.settings.answer_patience).await?;
        let searched = match self.search_person(&mut ldap, name).await {
            // A connection from before may have been closed by the server meanwhile; a new one decides.
            Err(error) if !fresh && is_broken(&error) => {
                server.forget_reader().await;
                let (mut ldap, _) = server.reader(self.account(), self.settings.answer_patience).await?;
                let searched = self.search_person(&mut ldap, name).await;
                searched.map(|found| (ldap, found))
            }
            other => other.map(|found| (ldap, found)),
        };
        let (mut ldap, searched) = match searched {
            Ok(searched) => searched,
            Err(error) => {
                server.forget_reader().await;
                return Err(self.read_error(&error).into());
            }
        };
        Ok(self.read_searched(&mut ldap, name, searched).await?)
    }

    /// Finds a person over a connection that is signed in already.
    pub(super) async fn find_on(&self, ldap: &mut Ldap, name: &str) -> Result<PersonAnswer, Unavailable> {
        let searched = self.search_person(ldap, name).await.map_err(|error| self.read_error(&error))?;
        self.read_searched(ldap, name, searched).await
    }

    async fn read_searched(&self, ldap: &mut Ldap, name: &str, searched: Searched) -> Result<PersonAnswer, Unavailable> {
        let mut entries = match searched {
            Searched::Entries(entries) => entries,
            Searched::Failed(why) => return Err(why),
        };
        match entries.len() {
            0 => Ok(PersonAnswer::NoSuchPerson),
            1 => self.read_person(ldap, name, entries.remove(0)).await,
            count => Ok(PersonAnswer::Ambiguous { count }),
        }
    }

    async fn search_person(&self, ldap: &mut Ldap, name: &str) -> Result<Searched, LdapError> {
        let filter = format!("({}={})", self.settings.login, ldap_escape(name));
        let mut wanted = vec![self.settings.login.as_str(), "cn", "displayName"];
        if let GroupSource::Attribute(attribute) = &self.settings.groups {
            wanted.push(attribute);
        }
        // Two are enough to know that the name is not one person's.
        let search = ldap.with_search_options(SearchOptions::new().sizelimit(2)).with_timeout(self.settings.answer_patience);
        let result = search.search(&self.settings.base, self.scope(), &filter, wanted).await?;
        Ok(self.read_search(result.1.rc, result.0))
    }

    fn read_search(&self, code: u32, entries: Vec<ResultEntry>) -> Searched {
        match code {
            // 4: more than two; 10: only referrals beside what was found.
            0 | 4 | 10 => Searched::Entries(
                entries.into_iter().filter(|entry| !entry.is_ref() && !entry.is_intermediate()).map(SearchEntry::construct).collect(),
            ),
            _ => Searched::Failed(Unavailable {
                cause: read_failure(code),
                seen: format!("the search under `{}` gave result {code} ({})", self.settings.base, describe_code(code)),
            }),
        }
    }

    async fn read_person(&self, ldap: &mut Ldap, name: &str, entry: SearchEntry) -> Result<PersonAnswer, Unavailable> {
        let values = |attribute: &str| {
            entry.attrs.iter().find(|(key, _)| key.eq_ignore_ascii_case(attribute)).map(|(_, values)| values.as_slice()).unwrap_or_default()
        };
        let logins = values(&self.settings.login);
        let Some(login) = logins.iter().find(|login| login.eq_ignore_ascii_case(name)).or(logins.first()) else {
            let seen = format!("the entry {} does not show its `{}`; the service account may not read it", entry.dn, self.settings.login);
            return Err(Unavailable { cause: Cause::SourceAnswerUnusable, seen });
        };
        let shown = values("displayName").first().or(values("cn").first()).unwrap_or(login);
        let groups = match &self.settings.groups {
            GroupSource::Attribute(attribute) => Groups::new(values(attribute).iter().map(String::as_str)),
            GroupSource::Search { base, member } => self.search_groups(ldap, base, member, &entry.dn).await?,
        };
        Ok(PersonAnswer::Found(Box::new(Found {
            key: person_key(&self.settings.name, login),
            login: login.clone(),
            name: shown.clone(),
            handle: entry.dn.clone(),
            groups,
        })))
    }

    async fn search_groups(&self, ldap: &mut Ldap, base: &str, member: &str, dn: &str) -> Result<Groups, Unavailable> {
        let filter = format!("({member}={})", ldap_escape(dn));
        let search = ldap.with_search_options(SearchOptions::new().sizelimit(MAX_GROUPS)).with_timeout(self.settings.answer_patience);
        let result = search.search(base, LdapScope::Subtree, &filter, vec!["1.1"]).await.map_err(|error| self.read_error(&error))?;
        if result.1.rc != 0 {
            let seen = format!("the search for groups under `{base}` gave result {} ({})", result.1.rc, describe_code(result.1.rc));
            return Err(Unavailable { cause: read_failure(result.1.rc), seen });
        }
        let dns: Vec<String> = result.0.into_iter().filter(|entry| !entry.is_ref()).map(|entry| SearchEntry::construct(entry).dn).collect();
        Ok(Groups::new(dns.iter().map(String::as_str)))
    }

    async fn check_at(&self, server: &ServerPool, dn: &str, guess: &Secret<String>) -> Result<PasswordAnswer, Failure> {
        let mut binder = server.binder(self.settings.answer_patience).await?;
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
        let answer = bound.map_err(|error| Failure { why: self.read_error(&error), sent: !was_never_sent(&error) })?;
        binder.keep();
        Ok(answer)
    }

    async fn bind(&self, binder: &mut Binder<'_>, dn: &str, guess: &Secret<String>) -> Result<PasswordAnswer, LdapError> {
        let control = RawControl { ctype: PASSWORD_POLICY_OID.to_owned(), crit: false, val: None };
        let result = binder.ldap.with_controls(control).with_timeout(self.settings.answer_patience).simple_bind(dn, guess.expose()).await?;
        let policy =
            result.ctrls.iter().find(|Control(_, raw)| raw.ctype == PASSWORD_POLICY_OID).and_then(|Control(_, raw)| raw.val.as_deref());
        let seen = format!("the bind gave result {} ({})", result.rc, describe_code(result.rc));
        Ok(PasswordAnswer::from_bind(read_bind(result.rc, &result.text, policy), seen))
    }

    fn read_error(&self, error: &LdapError) -> Unavailable {
        from_ldap(error, Doing::Answering(self.settings.answer_patience))
    }
}

/// One question to the servers in order, those that failed lately last; the next only when one could not say.
struct Round<'d> {
    source: &'d str,
    waiting: std::vec::IntoIter<&'d ServerPool>,
    began: Instant,
    over: bool,
    failed: Vec<FailedServer>,
}

impl<'d> Round<'d> {
    fn new(directory: &'d DirectorySource) -> Self {
        let (mut order, down): (Vec<_>, Vec<_>) = directory.servers.iter().partition(|server| !server.is_down());
        order.extend(down);
        Round { source: &directory.settings.name, waiting: order.into_iter(), began: Instant::now(), over: false, failed: Vec::new() }
    }

    fn next(&mut self) -> Option<&'d ServerPool> {
        self.began = Instant::now();
        if self.over { None } else { self.waiting.next() }
    }

    fn answered<T>(self, server: &ServerPool, value: T) -> Answer<T> {
        server.set_well();
        Answer { value, server: Some(server.url().to_owned()), failed: self.failed }
    }

    fn failed(&mut self, server: &ServerPool, failure: Failure) {
        let Failure { why, sent } = failure;
        crate::metrics::failed_server(self.source, server.url(), why.cause);
        // Busy and slow are not down, and a refused account is refused on every server.
        if matches!(why.cause, Cause::SourceUnreachable | Cause::SourceNameUnresolved | Cause::SourceTlsUntrusted) {
            server.set_down(&why);
        }
        self.over = sent;
        self.failed.push(FailedServer { server: server.url().to_owned(), why, took_us: self.began.elapsed().as_micros() as u64 });
    }

    /// No server could say: the last one's reason is the answer's, the others stay as steps.
    fn given_up<T>(mut self, unavailable: fn(Unavailable) -> T) -> Answer<T> {
        let why = match self.failed.pop() {
            Some(last) => Unavailable { cause: last.why.cause, seen: format!("{}: {}", last.server, last.why.seen) },
            None => Unavailable { cause: Cause::SourceUnreachable, seen: "it has no server".into() },
        };
        Answer { value: unavailable(why), server: None, failed: self.failed }
    }
}

/// A server that could not say; `sent` means that the one guess may have reached it, so no other server may get it too.
struct Failure {
    why: Unavailable,
    sent: bool,
}

impl From<Unavailable> for Failure {
    fn from(why: Unavailable) -> Self {
        Failure { why, sent: false }
    }
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
