//! A first rehearsal for a chain, written from the site: what must work, and everything that must not.

use bivector_model::grant::{Grant, GrantContext};
use bivector_model::identity::realm_of;
use bivector_model::person::Found;
use bivector_model::rule::{Decision, Rule};
use bivector_site::rehearsal::{Codes, Persona};
use bivector_site::{Chain, FactorKind, Gateway, Method, Site, SourceRef, Wake, WhenUnclear};
use bivector_wire::eap::{EapMethod, Proves};
use bivector_wire::{AttributeType, render};
use std::fmt::Write;

/// A persona as the sources know it.
#[derive(Debug, Clone)]
pub struct Cast {
    /// Index in the site.
    pub persona: usize,
    /// The source that knows it, and what that says; none if no source of the chain does.
    pub known: Option<(String, Found)>,
    /// The cause that its right password is refused with, where it is.
    pub refused: Option<&'static str>,
    /// Whether its password ends in so many digits that a form takes them for a code.
    pub digits_behind: bool,
}

/// How a persona gives its second factor.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Way {
    /// Nothing is asked for.
    None,
    /// A code behind the password, checked here.
    Code,
    /// A code behind the password that an upstream checks, by its name.
    Upstream(String),
    /// Its handset.
    Handset,
}

struct Writer<'w> {
    site: &'w Site,
    chain: &'w Chain,
    cast: &'w [Cast],
    gateways: Vec<&'w Gateway>,
    out: String,
    titles: Vec<String>,
}

/// What must come, in the site file's words.
enum Must {
    Accept { grant: usize, gateway: String, way: Way },
    Refuse(&'static str),
    Silence(&'static str),
}

/// Writes a rehearsal for a chain, with a comment wherever something could not be rehearsed. The text is a part of a site file.
pub fn starter(site: &Site, chain: usize, cast: &[Cast]) -> String {
    let Some(of) = site.chains.get(chain) else { return String::new() };
    let gateways = site.gateways.iter().filter(|gateway| gateway.chains.contains(&chain)).collect();
    let mut writer = Writer { site, chain: of, cast, gateways, out: String::new(), titles: Vec::new() };
    let _ = writeln!(writer.out, "[[rehearsals]]\nname = {}", quoted(&of.name));
    writer.accepted();
    writer.refused();
    writer.out
}

fn quoted(text: &str) -> String {
    // A JSON string is a TOML basic string too.
    serde_json::to_string(text).unwrap_or_default()
}

impl<'w> Writer<'w> {
    fn comment(&mut self, said: &str) {
        // Writing into a string does not fail.
        let _ = writeln!(self.out, "\n# {said}");
    }

    fn persona(&self, cast: &Cast) -> Option<&'w Persona> {
        self.site.personas.get(cast.persona)
    }

    /// What the persona types as its name, as a login that reaches this chain; none where it cannot.
    fn typed_name(&self, persona: &Persona) -> String {
        let fits = |name: &str| self.chain.realms.is_empty() || self.chain.realms.contains(&realm_of(name));
        match self.chain.realms.iter().find(|realm| !realm.is_empty()) {
            Some(realm) if !fits(&persona.login) => format!("{}@{realm}", persona.login.split('@').next().unwrap_or(&persona.login)),
            _ => persona.login.clone(),
        }
    }

    /// How a persona gets through the second check of this chain, the simplest way first.
    fn way(&self, persona: &Persona) -> Option<Way> {
        let takes = |wanted: fn(&FactorKind) -> bool| self.chain.second.iter().any(wanted);
        if self.chain.second.is_empty() {
            return Some(Way::None);
        }
        match &persona.codes {
            Some(Codes::Robot | Codes::Seed(_)) if takes(|kind| *kind == FactorKind::Code(bivector_model::device::CodeKind::Totp)) => {
                return Some(Way::Code);
            }
            Some(Codes::Fixed(_)) => {
                if let Some(upstream) = self.chain.code_upstream() {
                    return Some(Way::Upstream(self.site.source_name(SourceRef::Upstream(upstream)).to_owned()));
                }
            }
            _ => {}
        }
        (persona.handset && takes(|kind| *kind == FactorKind::Approval)).then_some(Way::Handset)
    }

    /// What is typed in the password field: by a form of the chain that has what the way needs.
    fn text(&self, way: &Way, password: &str, code: &str) -> Option<String> {
        let wants_code = matches!(way, Way::Code | Way::Upstream(_));
        if self.chain.forms.is_empty() {
            return (!wants_code).then(|| password.to_owned());
        }
        let form = self.chain.forms.iter().find(|form| {
            form.has_code() == wants_code && !form.has_pin() && !form.has_factor() && form.has_password() != self.chain.code_only
        })?;
        Some(form.rebuild(password, None, Some(code), None))
    }

    /// Who gets through, by the rule that lets them in; not somebody whose password looks like one with a code, if there is anybody else.
    fn passes(&self, gateway: &Gateway) -> Vec<(&'w Cast, &'w Persona, Way, usize, &'w Rule)> {
        let mut found = Vec::new();
        for cast in self.cast {
            let (Some(persona), Some((_, person)), None) = (self.persona(cast), &cast.known, cast.refused) else { continue };
            let Some(way) = self.way(persona).filter(|_| self.proves_itself(persona)) else { continue };
            if let Decision::Passed(passed, rule) = self.chain.rules.decide(&person.groups, &gateway.labels) {
                found.push((cast, persona, way, passed.grant(), rule));
            }
        }
        found.sort_by_key(|(cast, ..)| cast.digits_behind);
        found
    }

    fn accepted(&mut self) {
        let Some(first) = self.gateways.first().copied() else { return self.comment("no gateway sends logins to this chain") };
        for rule in self.chain.rules.rules().iter().filter(|rule| matches!(rule.then, bivector_model::rule::Then::Grant(_))) {
            let reached = self.gateways.iter().find_map(|gateway| {
                let passes = self.passes(gateway).into_iter().find(|(.., by)| by.line == rule.line)?;
                Some((*gateway, passes))
            });
            let Some((gateway, (_, persona, way, grant, _))) = reached else {
                let said = format!("no persona matches the rule `{}` ({}): add one", rule.name, rule.when);
                self.comment(&said);
                continue;
            };
            for method in self.chain.methods.clone() {
                let title = format!("{}: in by {} and {}", rule.name, method.name(), way.said());
                let must = Must::Accept { grant, gateway: gateway.name.clone(), way: way.clone() };
                match method {
                    Method::EapOf(inside) if inside.proves() == Proves::Certificate && persona.certificate.is_none() => {
                        self.comment(&format!("{title}: the persona `{}` has no certificate", persona.name));
                    }
                    Method::Eap => self.comment("EAP goes on between the person's device and an upstream; it is not rehearsed from here"),
                    _ => self.by_way(&title, persona, gateway, method, &way, ("{password}", "{code}"), must),
                }
            }
        }
        for gateway in self.gateways.clone().into_iter().filter(|gateway| gateway.name != first.name) {
            let Some((_, persona, way, grant, _)) = self.passes(gateway).into_iter().next() else { continue };
            let must = Must::Accept { grant, gateway: gateway.name.clone(), way: way.clone() };
            let method = self.chain.methods.first().copied().unwrap_or(Method::Pap);
            self.by_way(&format!("through {} too", gateway.name), persona, gateway, method, &way, ("{password}", "{code}"), must);
        }
    }

    /// A login by the persona's own way, with this password and this code.
    #[expect(clippy::too_many_arguments, reason = "one line of the file has as many values")]
    fn by_way(
        &mut self,
        title: &str,
        persona: &Persona,
        gateway: &Gateway,
        method: Method,
        way: &Way,
        (password, code): (&str, &str),
        must: Must,
    ) {
        let Some(text) = self.text(way, password, code) else {
            return self.comment(&format!("{title}: no form of the chain has a place for it"));
        };
        let mut lines = vec![("type".to_owned(), quoted(&text))];
        if method != Method::Pap {
            lines.push(("method".to_owned(), quoted(method.name())));
        }
        if *way == Way::Handset {
            lines.push(("handset".to_owned(), quoted("approve")));
        }
        self.login(title, persona, gateway, lines, must);
    }

    fn login(&mut self, title: &str, persona: &Persona, gateway: &Gateway, lines: Vec<(String, String)>, must: Must) {
        if self.titles.iter().any(|known| known == title) {
            return;
        }
        self.titles.push(title.to_owned());
        let usual = self.usual_method();
        let mut lines = lines;
        match lines.iter().find(|(key, _)| key == "method").map(|(_, method)| method.clone()) {
            None if usual != Method::Pap => lines.push(("method".to_owned(), quoted(usual.name()))),
            _ => {}
        }
        // With a certificate nothing is typed.
        let certificate = |method: &Method| method.proves() == Some(Proves::Certificate);
        let of = |name: &str| Method::ALL.iter().find(|method| quoted(method.name()) == name).is_some_and(certificate);
        if lines.iter().any(|(key, value)| key == "method" && of(value)) {
            lines.retain(|(key, _)| key != "type");
        }
        let typed_name = self.typed_name(persona);
        let out = &mut self.out;
        let _ = writeln!(out, "\n[[rehearsals.logins]]\ntitle = {}\npersona = {}", quoted(title), quoted(&persona.name));
        if typed_name != persona.login && !lines.iter().any(|(key, _)| key == "name") {
            let _ = writeln!(out, "name = {}", quoted(&typed_name));
        }
        let _ = writeln!(out, "via = {}", quoted(&gateway.name));
        for (key, value) in lines {
            let _ = writeln!(out, "{key} = {value}");
        }
        let expect = self.expected(must, persona);
        let _ = writeln!(self.out, "expect = {{ {expect} }}");
    }

    fn expected(&self, must: Must, persona: &Persona) -> String {
        match must {
            Must::Refuse(cause) => format!("outcome = \"refuse\", cause = \"{cause}\""),
            Must::Silence(cause) => format!("outcome = \"silence\", cause = \"{cause}\""),
            Must::Accept { grant, gateway, way } => {
                let mut said = "outcome = \"accept\"".to_owned();
                let known = self.cast.iter().find(|cast| self.persona(cast).is_some_and(|own| own.name == persona.name));
                if let (Some(grant), Some((source, person))) = (self.site.grants.get(grant), known.and_then(|cast| cast.known.as_ref())) {
                    let _ = write!(said, ", grant = {}", quoted(&grant.name));
                    let context = GrantContext {
                        login: &person.login,
                        name: &person.name,
                        source,
                        gateway: &gateway,
                        chain: &self.chain.name,
                        groups: &person.groups,
                    };
                    let attributes: Vec<String> = told(grant, &context).iter().map(|text| quoted(text)).collect();
                    if !attributes.is_empty() {
                        let _ = write!(said, ", attributes = [{}]", attributes.join(", "));
                    }
                    let _ = write!(said, ", source = {}", quoted(source));
                }
                match way.factor() {
                    Some(factor) => said + &format!(", factor = {}", quoted(factor)),
                    None => said,
                }
            }
        }
    }

    fn refused(&mut self) {
        let found = self.gateways.iter().find_map(|gateway| Some((*gateway, self.passes(gateway).into_iter().next()?)));
        let Some((gateway, (_, persona, way, ..))) = found else {
            return self.comment("no persona can log in, so refusals cannot be tested one at a time: add one");
        };
        let method = self.usual_method();
        if !self.chain.code_only && method.proves() != Some(Proves::Certificate) {
            let cause = if self.asks_upstream_first() { "upstream-refused" } else { "password-wrong" };
            self.by_way("wrong password", persona, gateway, method, &way, ("{wrong-password}", "{code}"), Must::Refuse(cause));
        }
        self.codes(persona, gateway, method, &way);
        self.strangers(persona, gateway, &way);
        self.others(gateway);
        self.handsets(&way);
        self.prompts();
        self.inside_eap(persona, gateway, &way);
    }

    /// Whether the persona has what the first check wants.
    fn proves_itself(&self, persona: &Persona) -> bool {
        match self.shows_certificate() {
            true => persona.certificate.is_some(),
            false => persona.password.is_some() || self.chain.code_only,
        }
    }

    /// Whether a certificate is all that the chain's logins show.
    fn shows_certificate(&self) -> bool {
        self.usual_method().proves() == Some(Proves::Certificate)
    }

    /// The method of logins that are about something else: PAP where the chain accepts it, otherwise its first one that is carried out here.
    fn usual_method(&self) -> Method {
        let methods = &self.chain.methods;
        let plain = methods.iter().copied().find(|method| *method == Method::Pap);
        plain.or_else(|| methods.iter().copied().find(|method| *method != Method::Eap)).unwrap_or(Method::Pap)
    }

    /// What goes wrong inside EAP: an outdated device, another realm, and certificates that may not be used.
    fn inside_eap(&mut self, persona: &Persona, gateway: &Gateway, way: &Way) {
        let Some(method) = self.chain.methods.iter().copied().find(|method| method.eap().is_some_and(EapMethod::has_tunnel)) else {
            return;
        };
        let typed = self.text(way, "{password}", "{code}").unwrap_or_else(|| "{password}".to_owned());
        let of = |more: &[(&str, &str)]| {
            let mut lines = vec![("type".to_owned(), quoted(&typed)), ("method".to_owned(), quoted(method.name()))];
            lines.extend(more.iter().map(|(key, value)| ((*key).to_owned(), quoted(value))));
            lines
        };
        self.login("outdated device", persona, gateway, of(&[("twist", "old-tls")]), Must::Refuse("tls-version"));
        if method.proves() != Some(Proves::Certificate) && persona.login.contains('@') {
            let more = of(&[("outer", "anonymous@elsewhere.example")]);
            self.login("another realm outside the tunnel", persona, gateway, more, Must::Refuse("realm-differs"));
        }
        if self.chain.issuers.is_empty() {
            return;
        }
        self.login("no certificate", persona, gateway, of(&[("certificate", "none")]), Must::Refuse("certificate-missing"));
        let other = self.site.personas.iter().find(|other| other.certificate.is_some() && other.login != persona.login);
        if let Some(other) = other.filter(|_| method.proves() != Some(Proves::Certificate)) {
            let more = of(&[("certificate", &other.name)]);
            self.login("certificate of somebody else", persona, gateway, more, Must::Refuse("certificate-person-differs"));
        }
        self.comment(
            "expired, revoked and foreign certificates: seal one of each for a persona, and expect `certificate-expired`, \
             `certificate-revoked` and `certificate-untrusted`",
        );
    }

    fn asks_upstream_first(&self) -> bool {
        self.chain.first.last().is_some_and(|first| matches!(first.source, SourceRef::Upstream(_)))
    }

    fn codes(&mut self, persona: &Persona, gateway: &Gateway, method: Method, way: &Way) {
        let text = |writer: &Self, code: &str| writer.text(way, "{password}", code).map(|text| quoted(&text));
        match way {
            Way::Upstream(_) => {
                self.by_way("wrong code", persona, gateway, method, way, ("{password}", "{wrong}"), Must::Refuse("upstream-refused"));
            }
            Way::Code => {
                // Where nothing tells that a code was meant, the whole text is the password.
                let by_text = self.chain.when_unclear == WhenUnclear::Code || self.chain.forms.iter().all(|form| form.has_code());
                let wrong = if method.gives_text() && by_text { "code-wrong" } else { "password-wrong" };
                self.by_way("wrong code", persona, gateway, method, way, ("{password}", "{wrong}"), Must::Refuse(wrong));
                if let Some(typed) = text(self, "{code}") {
                    let twisted = |twist: &str| vec![("type".to_owned(), typed.clone()), ("twist".to_owned(), quoted(twist))];
                    self.login("the same code again", persona, gateway, twisted("same-again"), Must::Refuse("code-used"));
                    if method.gives_text() && by_text {
                        self.login("locked by wrong codes", persona, gateway, twisted("locked"), Must::Refuse("factor-locked"));
                    }
                }
                let silent = self.gateways.iter().copied().find(|gateway| !gateway.shows_challenges);
                let plain = self.chain.forms.iter().any(|form| form.has_password() && !form.has_code() && !form.has_factor());
                if let Some(gateway) = silent.filter(|_| plain && !self.chain.code_only) {
                    let typed = vec![("type".to_owned(), quoted("{password}"))];
                    self.login("no code", persona, gateway, typed, Must::Refuse("code-missing"));
                }
            }
            Way::None | Way::Handset => {}
        }
    }

    /// Logins that come from the wrong side, by the wrong method or under a name that nobody knows.
    fn strangers(&mut self, persona: &Persona, gateway: &Gateway, way: &Way) {
        let certificate = self.shows_certificate();
        let typed = match certificate {
            true => "nothing".to_owned(),
            false => self.text(way, "{password}", "{code}").unwrap_or_else(|| "{password}".to_owned()),
        };
        let of = |more: Vec<(&str, String)>| {
            let more = more.into_iter().map(|(key, value)| (key.to_owned(), value));
            std::iter::once(("type".to_owned(), quoted(&typed))).chain(more).collect::<Vec<_>>()
        };
        let name = self.typed_name(persona);
        let nobody = name.split_once('@').map_or("nobody-here".to_owned(), |(_, realm)| format!("nobody-here@{realm}"));
        let unknown = if self.asks_upstream_first() { "upstream-refused" } else { "person-unknown" };
        // A certificate names its own person.
        if !certificate {
            self.login("unknown person", persona, gateway, of(vec![("name", quoted(&nobody))]), Must::Refuse(unknown));
        }
        match Method::ALL.iter().find(|method| !self.chain.methods.contains(method)) {
            Some(method) => {
                let more = of(vec![("method", quoted(method.name()))]);
                self.login("method not allowed", persona, gateway, more, Must::Refuse("method-not-in-chain"));
            }
            None => self.comment("every method is allowed in this chain"),
        }
        self.login("wrong shared secret", persona, gateway, of(vec![("twist", quoted("wrong-secret"))]), Must::Silence("secret-differs"));
        self.login("unregistered sender", persona, gateway, of(vec![("twist", quoted("stranger"))]), Must::Silence("gateway-unknown"));
    }

    /// Personas who have a right password and factor, and must not get in all the same.
    fn others(&mut self, gateway: &Gateway) {
        let (mut outside, mut kept_out, mut closed) = (false, false, false);
        for cast in self.cast {
            let Some(persona) = self.persona(cast).filter(|persona| self.proves_itself(persona)) else { continue };
            let way = self.way(persona).unwrap_or(Way::None);
            let typed = self.text(&way, "{password}", "{code}").unwrap_or_else(|| "{password}".to_owned());
            let mut lines = vec![("type".to_owned(), quoted(&typed))];
            if way == Way::Handset {
                lines.push(("handset".to_owned(), quoted("approve")));
            }
            if let Some(cause) = cast.refused {
                closed = true;
                self.login(&format!("{} ({cause})", persona.name), persona, gateway, lines, Must::Refuse(cause));
                continue;
            }
            let Some((_, person)) = cast.known.as_ref().filter(|_| self.way(persona).is_some()) else { continue };
            match self.chain.rules.decide(&person.groups, &gateway.labels) {
                Decision::NoRule => {
                    outside = true;
                    self.login(&format!("{} is in no group of a rule", persona.name), persona, gateway, lines, Must::Refuse("no-rule"));
                }
                Decision::Refused(rule, _) => {
                    kept_out = true;
                    let title = format!("{}: {}", persona.name, rule.name);
                    self.login(&title, persona, gateway, lines, Must::Refuse("rule-refused"));
                }
                Decision::Passed(..) => {}
            }
        }
        if !outside {
            self.comment("no persona is known but outside every rule's groups: add one");
        }
        if !kept_out {
            self.comment("no persona is refused by a rule (for example a suspended one): add one");
        }
        if !closed {
            self.comment("nobody is rehearsed whose account is locked, disabled or suspended: add a persona for that");
        }
    }

    fn handsets(&mut self, way: &Way) {
        if !self.chain.second.contains(&FactorKind::Approval) {
            return;
        }
        let plain = self.gateways.iter().copied().find(|gateway| !gateway.shows_challenges);
        let prompting = self.gateways.iter().copied().find(|gateway| gateway.shows_challenges);
        let found = plain.or(prompting).and_then(|gateway| {
            let passes = self.passes(gateway).into_iter().map(|(_, persona, own, grant, _)| (gateway, persona, own, grant));
            { passes }.find(|(_, persona, own, _)| persona.handset && (*own == Way::Handset || way == own))
        });
        let Some((gateway, persona, _, grant)) = found.filter(|(_, persona, ..)| persona.handset) else {
            return self.comment("no persona with a handset can log in: set `handset = true` on one to test denied and ignored approvals");
        };
        let word = self.chain.forms.iter().find(|form| form.has_factor() && !form.has_code());
        let spelt = self.chain.words.iter().find(|word| word.means == FactorKind::Approval).map(|word| word.word.as_str());
        // With a code of its own in the same chain, the handset is chosen by its word.
        let typed = match (self.way(persona), word, spelt) {
            (Some(Way::Handset), ..) => self.text(&Way::Handset, "{password}", ""),
            (_, Some(form), Some(word)) => Some(form.rebuild("{password}", None, None, Some(word))),
            _ => None,
        };
        let Some(typed) = typed else { return self.comment("approvals cannot be chosen in one field here; rehearse them by hand") };
        let of = |does: &str, more: &[(&str, &str)]| {
            let more = more.iter().map(|(key, value)| ((*key).to_owned(), (*value).to_owned()));
            [("type".to_owned(), quoted(&typed)), ("handset".to_owned(), quoted(does))].into_iter().chain(more).collect::<Vec<_>>()
        };
        if self.chain.wake.contains(&Wake::Push) {
            let must = Must::Accept { grant, gateway: gateway.name.clone(), way: Way::Handset };
            self.login("in a pocket, woken by push", persona, gateway, of("asleep 1s, approve", &[]), must);
        }
        if self.chain.wake.len() > 1 {
            self.comment("a phone that push does not reach gets a real message here: try `handset = \"push refused, approve\"` by hand");
        }
        self.login("denied on the handset", persona, gateway, of("deny", &[]), Must::Refuse("approval-denied"));
        let waits = [("waits", "{ approval = \"1s\" }"), ("answers", "[\"\"]")];
        let waits = if gateway.shows_challenges { &waits[..] } else { &waits[..1] };
        if self.chain.when_unanswered == bivector_site::WhenUnanswered::Refuse {
            self.login("ignored on the handset", persona, gateway, of("ignore", waits), Must::Refuse("approval-unanswered"));
        }
        if let Some(gateway) = prompting.filter(|_| self.chain.match_number) {
            let title = "wrong number picked on the handset";
            self.login(title, persona, gateway, of("wrong-number", &[]), Must::Refuse("approval-denied"));
        }
    }

    /// Prompts that are answered too late or by somebody else.
    fn prompts(&mut self) {
        let Some(gateway) = self.gateways.iter().copied().find(|gateway| gateway.shows_challenges) else {
            return self.comment("no gateway of the chain shows prompts, so none is answered too late or by somebody else");
        };
        let plain = self.chain.forms.is_empty()
            || self.chain.forms.iter().any(|form| form.has_password() && !form.has_code() && !form.has_factor());
        let (_, persona, way) = match self.passes(gateway).into_iter().find(|(cast, _, way, ..)| !cast.digits_behind && *way != Way::None) {
            Some((cast, persona, way, ..)) if plain && !self.chain.code_only && !matches!(way, Way::Upstream(_)) => (cast, persona, way),
            _ => return,
        };
        let answer = if way == Way::Code { "{code}" } else { "" };
        let of = |more: &[(&str, &str)]| {
            let lines = [("type", "\"{password}\"".to_owned()), ("answers", format!("[{}]", quoted(answer)))];
            let more = more.iter().map(|(key, value)| (*key, (*value).to_owned()));
            lines.into_iter().chain(more).map(|(key, value)| (key.to_owned(), value)).collect::<Vec<_>>()
        };
        if way == Way::Code {
            let passes = self.passes(gateway).into_iter().find(|(_, own, ..)| own.name == persona.name);
            if let Some((.., grant, _)) = passes {
                let must = Must::Accept { grant, gateway: gateway.name.clone(), way: way.clone() };
                self.login("code at a prompt", persona, gateway, of(&[]), must);
            }
        }
        let late = [("twist", "\"late-answer\""), ("waits", "{ prompt = \"1s\" }")];
        self.login("prompt answered too late", persona, gateway, of(&late), Must::Refuse("challenge-expired"));
        let foreign = [("twist", "\"foreign-answer\"")];
        self.login("prompt answered under another name", persona, gateway, of(&foreign), Must::Refuse("challenge-foreign"));
    }
}

impl Way {
    fn said(&self) -> String {
        match self {
            Way::None => "password".to_owned(),
            Way::Code => "code".to_owned(),
            Way::Upstream(name) => format!("a code that {name} checks"),
            Way::Handset => "handset".to_owned(),
        }
    }

    fn factor(&self) -> Option<&str> {
        match self {
            Way::None => None,
            Way::Code => Some("totp"),
            Way::Upstream(name) => Some(name),
            Way::Handset => Some("approval"),
        }
    }
}

/// A grant's attributes as a rehearsal reads them.
fn told(grant: &Grant, context: &GrantContext<'_>) -> Vec<String> {
    let bytes = grant.encode(context);
    let mut told = Vec::new();
    let mut rest = bytes.as_slice();
    while let [kind, length, tail @ ..] = rest {
        let Some((value, after)) = usize::from(*length).checked_sub(2).and_then(|length| tail.split_at_checked(length)) else { break };
        let (name, value) = render(AttributeType::from(*kind), value);
        told.push(format!("{name} = {value}"));
        rest = after;
    }
    told
}
