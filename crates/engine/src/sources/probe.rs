//! Proving a directory server piece by piece, each with its time, its state and its remedy. No person's password is involved.

use super::directory::DirectorySource;
use super::handshake;
use super::pool::{ServerPool, root_entry};
use super::standing::Member;
use super::trouble::{Doing, from_io, from_ldap, too_slow};
use bivector_api::directories::ProbedServer;
use bivector_core::login::PersonAnswer;
use bivector_explain::probe::{Line, Piece, Seen, complete, judge_clock, judge_kind, judge_rank, parent_dn};
use bivector_model::Cause;
use bivector_model::directory::{describe_code, read_failure};
use bivector_model::trace::Tone;
use bivector_outbound::trust::roots;
use bivector_store::clock;
use ldap3::{Ldap, Scope, SearchEntry, SearchOptions, ldap_escape};
use std::net::SocketAddr;
use std::path::Path;
use std::time::{Duration, Instant};
use tokio::net::TcpStream;
use tokio::time::timeout;

/// Entries that are asked for to learn the server's limit.
const MANY: i32 = 1001;
/// Attributes in which a name that the naming attribute does not have may stand.
const OTHER_NAMES: &[&str] = &["uid", "cn", "mail", "sAMAccountName", "userPrincipalName"];

/// Probes every server of a directory; `person` is a login name to look for.
pub async fn probe(directory: &DirectorySource, person: Option<&str>, data: &Path) -> Vec<ProbedServer> {
    let mut probed = Vec::new();
    for server in directory.servers() {
        let mut probe = Probe { directory, server, lines: Vec::new(), began: Instant::now() };
        probe.run(person, data).await;
        probed.push(ProbedServer { server: server.url().to_owned(), lines: complete(probe.lines, person.is_some()) });
    }
    probed
}

struct Probe<'d> {
    directory: &'d DirectorySource,
    server: &'d ServerPool,
    lines: Vec<Line>,
    began: Instant,
}

impl Probe<'_> {
    /// Notes a piece; `false` where what comes behind it cannot be tried.
    fn note(&mut self, piece: Piece, seen: Seen) -> bool {
        let goes_on = seen.state != Tone::Bad;
        self.lines.push(seen.line(piece, self.began.elapsed().as_micros() as u64));
        self.began = Instant::now();
        goes_on
    }

    async fn run(&mut self, person: Option<&str>, data: &Path) {
        let Some(address) = self.name().await else { return };
        let Some(stream) = self.connection(address).await else { return };
        if !self.tls(stream, data).await {
            return;
        }
        let Some(mut ldap) = self.kind_and_clock().await else { return };
        if !self.account(&mut ldap).await || !self.base(&mut ldap).await {
            return;
        }
        self.limits(&mut ldap).await;
        if let Some(person) = person {
            self.person(&mut ldap, person).await;
        }
    }

    async fn name(&mut self) -> Option<SocketAddr> {
        let server = self.server.settings();
        let limit = self.directory.settings().connect_patience;
        let found = match timeout(limit, tokio::net::lookup_host((server.host.as_str(), server.port))).await {
            Ok(found) => found.map(|found| found.map(|address| address.ip()).collect::<Vec<_>>()),
            Err(_) => Err(std::io::Error::new(std::io::ErrorKind::TimedOut, format!("no answer within {} ms", limit.as_millis()))),
        };
        let by = resolvers().await;
        match found {
            Ok(addresses) if !addresses.is_empty() => {
                let shown = addresses.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
                let literal = server.host.parse::<std::net::IpAddr>().is_ok();
                self.note(
                    Piece::Name,
                    Seen::good(if literal {
                        format!("{shown} is an address")
                    } else {
                        format!("{} resolves to {shown} (asked {by})", server.host)
                    }),
                );
                addresses.first().map(|address| SocketAddr::new(*address, server.port))
            }
            Ok(_) => {
                self.note(Piece::Name, Seen::bad(Cause::SourceNameUnresolved, format!("{} has no address (asked {by})", server.host)));
                None
            }
            Err(error) => {
                self.note(
                    Piece::Name,
                    Seen::bad(Cause::SourceNameUnresolved, format!("{} does not resolve (asked {by}): {error}", server.host)),
                );
                None
            }
        }
    }

    async fn connection(&mut self, address: SocketAddr) -> Option<TcpStream> {
        let limit = self.directory.settings().connect_patience;
        let doing = Doing::Connecting(limit);
        let why = match timeout(limit, TcpStream::connect(address)).await {
            Ok(Ok(stream)) => {
                self.note(Piece::Connection, Seen::good(format!("{address} accepts connections")));
                return Some(stream);
            }
            Ok(Err(error)) => from_io(&error, doing),
            Err(_) => too_slow(doing),
        };
        self.note(Piece::Connection, Seen::bad(why.cause, format!("{address}: {}", why.seen)));
        None
    }

    async fn tls(&mut self, stream: TcpStream, data: &Path) -> bool {
        let (settings, server) = (self.directory.settings(), self.server.settings());
        if !server.tls && !settings.start_tls {
            return self.note(Piece::Tls, Seen::warn("passwords are sent unencrypted", "use `ldaps://`, or set `start_tls = true`"));
        }
        let seen = match roots(&settings.name, settings.trust.as_deref(), data) {
            Ok(roots) => match timeout(settings.connect_patience, handshake::look(stream, &server.host, settings.start_tls, roots)).await {
                Ok(seen) => seen,
                Err(_) => {
                    Seen::bad(Cause::SourceUnreachable, format!("no TLS handshake within {} ms", settings.connect_patience.as_millis()))
                }
            },
            Err(error) => Seen::bad(Cause::SourceTlsUntrusted, error.to_string()).and(error.remedy()),
        };
        self.note(Piece::Tls, seen)
    }

    async fn kind_and_clock(&mut self) -> Option<Ldap> {
        let limit = self.patience();
        let mut ldap = match self.server.connect().await {
            Ok(ldap) => ldap,
            Err(why) => {
                self.note(Piece::Kind, Seen::bad(why.cause, why.seen));
                return None;
            }
        };
        match root_entry(&mut ldap, limit).await {
            Ok(root) => {
                self.note(Piece::Kind, judge_kind(&root));
                self.note(Piece::Clock, judge_clock(&root, clock::now()));
                Some(ldap)
            }
            Err(error) => {
                let why = from_ldap(&error, Doing::Answering(limit));
                self.note(Piece::Kind, Seen::bad(why.cause, why.seen));
                None
            }
        }
    }

    async fn account(&mut self, ldap: &mut Ldap) -> bool {
        let Some((dn, password)) = self.directory.account() else {
            return self.note(
                Piece::Account,
                Seen::warn("no service account is configured; searches are anonymous", "set `reader` of the directory"),
            );
        };
        let seen = match super::pool::bind_reader(ldap, dn, password, self.patience()).await {
            Ok(()) => match self.rank(ldap, dn).await {
                Some(rank) => Seen::warn(
                    format!("{dn} can bind, but it has administrator rights: {rank}"),
                    "use an account that can only read people and groups; anyone who obtains this password could change the directory",
                ),
                None => Seen::good(format!("{dn} can bind")),
            },
            Err(why) => Seen::bad(why.cause, why.seen),
        };
        self.note(Piece::Account, seen)
    }

    /// What makes the service account more than a reader, where its entry or its groups tell.
    async fn rank(&self, ldap: &mut Ldap, dn: &str) -> Option<String> {
        let limit = self.patience();
        let by_dn = dn.contains('=');
        let (base, scope, filter) = if by_dn {
            (dn.to_owned(), Scope::Base, "(objectClass=*)".to_owned())
        } else {
            let login = dn.rsplit_once('\\').map_or_else(|| dn.split('@').next().unwrap_or(dn), |(_, name)| name);
            (self.directory.settings().base.clone(), Scope::Subtree, format!("(sAMAccountName={})", ldap_escape(login)))
        };
        let found = ldap.with_timeout(limit).search(&base, scope, &filter, vec!["memberOf", "adminCount"]).await.ok()?;
        let entry = found.0.into_iter().find(|entry| !entry.is_ref()).map(SearchEntry::construct)?;
        judge_rank(&entry.attrs)
    }

    async fn base(&mut self, ldap: &mut Ldap) -> bool {
        let base = self.directory.settings().base.clone();
        let seen = match self.exists(ldap, &base).await {
            Ok(0) => Seen::good(format!("{base} exists")),
            Ok(32) => {
                let nearest = self.nearest(ldap, &base).await;
                let nearest = nearest.map_or_else(
                    || "none of its parent entries exists either".to_owned(),
                    |nearest| format!("the nearest existing entry is {nearest}"),
                );
                Seen::bad(Cause::SourceBaseMissing, format!("{base} does not exist; {nearest}"))
            }
            Ok(code) => Seen::bad(read_failure(code), format!("{base} cannot be read: result {code} ({})", describe_code(code))),
            Err(seen) => seen,
        };
        self.note(Piece::Base, seen)
    }

    async fn nearest(&self, ldap: &mut Ldap, base: &str) -> Option<String> {
        let mut dn = base;
        while let Some(parent) = parent_dn(dn) {
            if matches!(self.exists(ldap, parent).await, Ok(0)) {
                return Some(parent.to_owned());
            }
            dn = parent;
        }
        None
    }

    /// The result code of reading an entry.
    async fn exists(&self, ldap: &mut Ldap, dn: &str) -> Result<u32, Seen> {
        let limit = self.patience();
        let result = ldap.with_timeout(limit).search(dn, Scope::Base, "(objectClass=*)", vec!["1.1"]).await;
        result.map(|result| result.1.rc).map_err(|error| {
            let why = from_ldap(&error, Doing::Answering(limit));
            Seen::bad(why.cause, why.seen)
        })
    }

    async fn limits(&mut self, ldap: &mut Ldap) {
        let settings = self.directory.settings();
        let (filter, names) = (self.directory.by_name("*"), settings.login.join("` or `"));
        let search = ldap.with_search_options(SearchOptions::new().sizelimit(MANY)).with_timeout(self.patience());
        let seen = match search.search(&settings.base, self.directory.scope(), &filter, vec!["1.1"]).await {
            Ok(result) => {
                let count = result.0.iter().filter(|entry| !entry.is_ref()).count();
                match result.1.rc {
                    0 if count == 0 => Seen::warn(
                        format!("no entry below the base has a `{names}`"),
                        "choose another `login` attribute or a wider `scope`, or allow the service account to read it",
                    ),
                    0 => Seen::good(format!("{count} entries have a `{names}`; the server returned them all")),
                    4 if count as i32 >= MANY - 1 => Seen::good(format!("more than {} entries have a `{names}`", MANY - 1)),
                    4 | 11 => Seen::note(format!("the server returns at most {count} entries; a login needs two")),
                    code => Seen::warn(
                        format!("counting entries returned result {code} ({})", describe_code(code)),
                        "compare with the server's own log",
                    ),
                }
            }
            Err(error) => Seen::warn(
                from_ldap(&error, Doing::Answering(self.patience())).seen,
                "counting entries takes too long on this server; logins search for one",
            ),
        };
        self.note(Piece::Limits, seen);
    }

    async fn person(&mut self, ldap: &mut Ldap, person: &str) {
        let settings = self.directory.settings();
        let names = settings.login.join("` or `");
        match self.directory.find_on(self.server, ldap, person).await {
            Ok(PersonAnswer::Found(found)) => {
                let reader = self.directory.account().map(|(dn, _)| dn);
                let seen = if reader.is_some_and(|dn| dn.eq_ignore_ascii_case(&found.handle)) {
                    Seen::warn(
                        format!("{} is the service account itself", found.handle),
                        "probe with a real person's login name; use the service account for nothing else",
                    )
                } else {
                    Seen::good(format!("{person} is {}", found.handle))
                };
                self.note(Piece::Person, seen);
                let groups = found.groups.names().join(", ");
                let seen = if groups.is_empty() {
                    Seen::warn(
                        format!("no groups can be read for {person}"),
                        "check `groups` of the directory and what the service account may read",
                    )
                } else {
                    Seen::good(groups)
                };
                self.note(Piece::Groups, seen);
            }
            Ok(PersonAnswer::Ambiguous { count }) => {
                self.note(Piece::Person, Seen::bad(Cause::PersonAmbiguous, format!("`{names}` matches {count} entries for {person}")));
            }
            Ok(_) => {
                let elsewhere = self.elsewhere(ldap, person).await;
                let seen = match elsewhere {
                    Some((attribute, dn)) if settings.login.contains(&attribute) => {
                        let seen = Seen::bad(Cause::PersonUnknown, format!("{dn} exists, but outside of `base` and `scope`"));
                        let below = dn.to_lowercase().ends_with(&settings.base.to_lowercase());
                        seen.and(match (below, parent_dn(&dn)) {
                            (true, _) => "set `scope = \"subtree\"`, if people deeper down are meant".to_owned(),
                            (false, Some(parent)) => format!("set `base` to an entry above {parent}, if people there are meant"),
                            (false, None) => "widen `base`, if people there are meant".to_owned(),
                        })
                    }
                    Some((attribute, dn)) => Seen::bad(
                        Cause::PersonUnknown,
                        format!("`{names}` matches nobody; `{attribute}` would match {dn}"),
                    )
                    .and(format!("set `login = [\"{}\", \"{attribute}\"]`, if people type that as well", settings.login.join("\", \""))),
                    None => Seen::bad(Cause::PersonUnknown, format!("neither `{names}` nor any other attribute matches {person}")),
                };
                self.note(Piece::Person, seen);
            }
            Err(why) => {
                self.note(Piece::Person, Seen::bad(why.cause, why.seen));
            }
        }
    }

    /// Where else somebody of that name is: by another attribute, deeper down, or beside the base.
    async fn elsewhere(&self, ldap: &mut Ldap, person: &str) -> Option<(String, String)> {
        let settings = self.directory.settings();
        let own = settings.login.iter().map(String::as_str);
        let by_name = own.clone().map(|attribute| (attribute, settings.base.as_str()));
        let beside = parent_dn(&settings.base).into_iter().flat_map(|above| own.clone().map(move |attribute| (attribute, above)));
        let others = OTHER_NAMES.iter().copied().map(|attribute| (attribute, settings.base.as_str()));
        let others = others.filter(|(attribute, _)| !settings.login.iter().any(|own| own.eq_ignore_ascii_case(attribute)));
        let tried: Vec<(&str, &str)> = by_name.chain(others).chain(beside).collect();
        for (attribute, base) in tried {
            let filter = format!("({attribute}={})", ldap_escape(person));
            let search = ldap.with_search_options(SearchOptions::new().sizelimit(1)).with_timeout(self.patience());
            let found = search.search(base, Scope::Subtree, &filter, vec!["1.1"]).await.ok();
            if let Some(entry) = found.and_then(|result| result.0.into_iter().find(|entry| !entry.is_ref())) {
                return Some((attribute.to_owned(), SearchEntry::construct(entry).dn));
            }
        }
        None
    }

    fn patience(&self) -> Duration {
        self.directory.settings().answer_patience
    }
}

/// Who resolves names on this machine.
async fn resolvers() -> String {
    let text = tokio::fs::read_to_string("/etc/resolv.conf").await.unwrap_or_default();
    let servers: Vec<&str> = text.lines().filter_map(|line| line.strip_prefix("nameserver ")).map(str::trim).collect();
    if servers.is_empty() { "this machine's hosts file".to_owned() } else { format!("this machine's resolver ({})", servers.join(", ")) }
}
