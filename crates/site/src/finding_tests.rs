//! One example of every kind of finding, made from the demo's site, and what the site check says about it.

use super::*;
use std::collections::BTreeSet;
use std::fmt::Write;
use std::path::Path;

const GOOD: &str = include_str!("../../../demo/site.toml");
/// The end of the demo's site, where examples append tables.
const END: &str = "{ attribute = \"Session-Timeout\", integer = 3600 },\n]\n";
/// Lines of the chain `staff`, of its last and of a rule's first.
const STAFF: &str = "second = [\"totp\"]\nwhen_unclear = \"code\"\n\n[[chains]]\nname = \"hardware codes\"";
const RULE: &str = "[[rules]]\nname = \"control room\"";
const IDENTITY: &str = "[[identity]]\nname = \"northmoor-names\"";

/// A change of the demo's site: what is replaced, and by what. A line break at the end of either means that the other lines stay.
type Change = (&'static str, &'static str);

/// What is found, and the changes that make it.
const EXAMPLES: &[(&str, &[Change])] = &[
    ("address-overlap", &[("\"127.0.0.12\"", "\"127.0.0.11\"")]),
    ("address-twice", &[("\"[::1]:18120\"]", "\"[::1]:18120\"]\naccounting = [\"127.0.0.1:18120\"]")]),
    ("bad-address", &[("\"192.0.2.20\"", "\"192.0.2.300\"")]),
    ("bad-attribute-name", &[("login = \"uid\"", "login = \"u id\"")]),
    ("bad-date", &[("when_unclear = \"plain\"", "when_unclear = \"plain\"\nwhen_not_enrolled = \"let-in\"\nlet_in_until = \"soon\"")]),
    ("bad-duration", &[("client_patience = \"60s\"", "client_patience = \"a minute\"")]),
    ("bad-file", &[("[doors.radius]", "[doors.eap]\ncertificate = \"/etc/eap.pem\"\nkey = \"../eap-key.pem\"\n\n[doors.radius]")]),
    (
        "bad-filter",
        &[
            ("name = \"survey\"\nreply = [", "name = \"survey\"\nfilter = \"harbour\"\nreply = ["),
            ("[[grants]]", "[[filters]]\nname = \"harbour\"\nsend = \"rules\"\nlines = [\"permit in ip form any to any\"]\n\n[[grants]]"),
        ],
    ),
    ("bad-form", &[("[\"password code(6)\"]", "[\"pasword code(6)\"]")]),
    ("bad-hours", &[("when = { group = \"survey-contractors\" }", "when = { group = \"survey-contractors\", hours = \"by day\" }")]),
    ("bad-time-zone", &[("name = \"Northmoor Tidal\"", "name = \"Northmoor Tidal\"\ntime_zone = \"Northmoor\"")]),
    ("bad-hex", &[("{ attribute = \"Class\", text = \"survey\" }", "{ attribute = \"Class\", hex = \"0g\" }")]),
    ("bad-port", &[("realms = [\"local", "ports = [\"radius\"]\nrealms = [\"local")]),
    ("bad-server", &[("\"127.0.0.1:18199\"", "\"127.0.0.1:none\"")]),
    ("bad-template", &[("\"{person.login}\"", "\"{person.logn}\"")]),
    ("cascade", &[("first = [\"tidehall\", \"roster\"]", "first = [{ source = \"tidehall\", group = \"control-room\" }]")]),
    (
        "certificates-without-issuer",
        &[
            ("[doors.radius]", "[doors.eap]\ncertificate = \"eap.pem\"\nkey = \"eap-key.pem\"\n\n[doors.radius]"),
            ("methods = [\"pap\"]", "methods = [\"pap\", \"eap-tls\"]"),
        ],
    ),
    ("clear-text", &[("\"ldaps://127.0.0.1:18636\", \"ldaps://127.0.0.1:18637\"", "\"ldap://127.0.0.1:18636\"")]),
    (
        "code-only",
        &[("forms = [\"password code(6)\"]\nfirst = [\"tidehall\"]", "code_only = true\nforms = [\"code(6)\"]\nfirst = [\"tidehall\"]")],
    ),
    ("contradiction", &[("refuse = \"suspended\"", "refuse = \"suspended\"\ngrant = \"survey\"")]),
    (
        "device-alone",
        &[
            ("[doors.radius]", "[doors.eap]\ncertificate = \"eap.pem\"\nkey = \"eap-key.pem\"\n\n[doors.radius]"),
            ("methods = [\"pap\"]", "methods = [\"pap\", \"eap-tls\"]\nissuers = [\"badges\"]"),
            (
                IDENTITY,
                "[[issuers]]\nname = \"badges\"\ntrust = \"people-ca.pem\"\nbelong_to = \"devices\"\nrevocation = [\"people.crl\"]\n\n[[identity]]\nname = \"northmoor-names\"",
            ),
        ],
    ),
    ("eap-both", &[("methods = [\"pap\"]", "methods = [\"eap\", \"eap-gtc\"]")]),
    ("eap-without-certificate", &[("methods = [\"pap\"]", "methods = [\"pap\", \"eap-ttls-pap\"]")]),
    ("empty", &[("forms = [\"password code(6)\"]\nfirst = [\"tidehall\"]", "forms = [\"password code(6)\"]\nfirst = []")]),
    ("enrol-without-totp", &[("second = [\"harbourlight\"]", "second = [\"harbourlight\"]\nwhen_not_enrolled = \"enrol\"")]),
    ("enrols-by-password", &[("when_unclear = \"plain\"", "when_unclear = \"plain\"\nwhen_not_enrolled = \"enrol\"")]),
    ("first-only", &[("when_second_is_down = \"next\"", "when_second_is_down = \"first-only\"")]),
    ("foreign-secret", &[("secret = \"upstream/harbourlight\"", "secret = \"gateway/slipway\"")]),
    (
        "form-impossible",
        &[("forms = [\"password code(6)\", \"password\"]\nfirst = [\"roster\"]", "forms = [\"password factor\"]\nfirst = [\"roster\"]")],
    ),
    ("format", &[("format = 1", "format = 2")]),
    ("gateway-in-two-chains", &[("gateways = [\"lantern\"]", "gateways = [\"lantern\", \"breakwater\"]")]),
    (
        "gateway-impossible",
        &[
            ("gateways = [\"lantern\"]\nidentity", "gateways = [\"lantern\", \"quay\"]\nidentity"),
            (
                IDENTITY,
                "[[gateways]]\nname = \"quay\"\nfrom = [\"192.0.2.90\"]\nsecret = \"gateway/lantern\"\n\n[[identity]]\nname = \"northmoor-names\"",
            ),
            ("forms = [\"password code(6)\", \"password ' ' factor\", \"password\"]", "forms = [\"password\"]"),
        ],
    ),
    ("group-not-known", &[("shows_challenges = true  ", "knows = [\"surveyors\"]\nshows_challenges = true  ")]),
    ("hash-memory", &[(IDENTITY, "[passwords.hash]\nmemory_mib = 512\nat_once = 8\n\n[[identity]]\nname = \"northmoor-names\"")]),
    ("intended-nothing", &[(END, "]\n[[intended]]\nwarning = \"no-second\"\nreason = \"a trial\"\n")]),
    (
        "intended-several",
        &[
            ("when_unclear = \"plain\"", "when_unclear = \"plain\"\nrefusal_pace = \"0s\""),
            (STAFF, "second = [\"totp\"]\nrefusal_pace = \"0s\"\nwhen_unclear = \"code\"\n\n[[chains]]\nname = \"hardware codes\""),
            (END, "]\n[[intended]]\nwarning = \"refusal-pace\"\nreason = \"a trial\"\n"),
        ],
    ),
    ("joins-without-caller", &[("shows_challenges = true  ", "joins_without_caller = true\nshows_challenges = true  ")]),
    ("key-without-address", &[("address = \"http://localhost:18080\"", "")]),
    ("lets-in", &[("when_unclear = \"plain\"", "when_unclear = \"plain\"\nwhen_not_enrolled = \"let-in\"\nlet_in_until = \"2027-03-31\"")]),
    ("meant-twice", &[("\"ldaps://127.0.0.1:18637\"", "\"ldaps://127.0.0.1:18636/\"")]),
    ("method-partly", &[("methods = [\"pap\"]", "methods = [\"pap\", \"chap\"]")]),
    ("missing-key", &[("base = \"ou=people,dc=northmoor,dc=example\"\n", "")]),
    ("name-not-found", &[("gateways = [\"lantern\"]", "gateways = [\"lanten\"]")]),
    ("name-twice", &[("name = \"slipway\"", "name = \"lantern\"")]),
    ("never-asked", &[("first = [\"tidehall\", \"roster\"] ", "first = [\"harbourlight\", \"tidehall\"] ")]),
    (
        "never-matches",
        &[(
            RULE,
            "[[rules]]\nname = \"again\"\nchain = \"staff\"\nwhen = { group = \"remote-suspended\" }\nrefuse = \"suspended\"\n\n[[rules]]\nname = \"control room\"",
        )],
    ),
    (
        "never-met",
        &[(
            END,
            "]\n[[personas]]\nname = \"ines\"\nlogin = \"ines\"\npassword = \"gateway/lantern\"\n\n[[rehearsals]]\nname = \"staff\"\n\n[[rehearsals.logins]]\npersona = \"ines\"\nvia = \"breakwater\"\ntitle = \"a grant without an accept\"\ntype = \"{password}\"\nexpect = { outcome = \"refuse\", grant = \"survey\" }\n",
        )],
    ),
    (
        "no-prompt",
        &[(STAFF, "second = [\"totp\"]\nwhen_not_enrolled = \"enrol\"\nwhen_unclear = \"code\"\n\n[[chains]]\nname = \"hardware codes\"")],
    ),
    ("no-reason", &[(END, "]\n[[intended]]\nwarning = \"no-second\"\nreason = \" \"\n")]),
    (
        "no-revocation",
        &[(IDENTITY, "[[issuers]]\nname = \"badges\"\ntrust = \"people-ca.pem\"\n\n[[identity]]\nname = \"northmoor-names\"")],
    ),
    ("no-second", &[("second = [\"harbourlight\"]", "second = []")]),
    ("no-wake", &[("wake = [\"push\", \"pager\"]", "wake = []")]),
    ("wake-too-late", &[("second_patience = \"45s\"", "second_patience = \"5s\"")]),
    ("wake-without-address", &[("address = \"http://localhost:18080\"", "")]),
    ("nobody-gets-in", &[("grant = \"survey\"", "refuse = \"suspended\"")]),
    ("not-a-choice", &[("when_unclear = \"plain\"", "when_unclear = \"guess\"")]),
    ("out-of-range", &[("tries = 3 }", "tries = 0 }")]),
    ("page-needs-text", &[("methods = [\"pap\"]", "methods = [\"chap\"]")]),
    (
        "persona-without-secret",
        &[(
            END,
            "]\n[[personas]]\nname = \"ines\"\nlogin = \"ines\"\npassword = \"gateway/lantern\"\n\n[[rehearsals]]\nname = \"staff\"\n\n[[rehearsals.logins]]\npersona = \"ines\"\nvia = \"breakwater\"\ntitle = \"a code without a device\"\ntype = \"{password}{code}\"\nexpect = { outcome = \"accept\" }\n",
        )],
    ),
    ("protocol-attribute", &[("{ attribute = \"Class\", text = \"survey\" }", "{ attribute = \"State\", text = \"survey\" }")]),
    ("refusal-pace", &[("when_unclear = \"plain\"", "when_unclear = \"plain\"\nrefusal_pace = \"0s\"")]),
    (
        "remembers-unsigned",
        &[
            ("when_unclear = \"plain\"", "when_unclear = \"plain\"\nremember = \"12h\""),
            ("shows_challenges = true  ", "message_authenticator = \"when-present\"\nshows_challenges = true  "),
        ],
    ),
    ("repeated", &[("forms = [\"password code(6)\"]", "forms = [\"password code(6)\", \"password code(6)\"]")]),
    ("reserved-name", &[("name = \"tidehall\"", "name = \"roster\"")]),
    ("secret-not-sealed", &[("secret = \"gateway/slipway\"", "secret = \"gateway/slip\"")]),
    ("start-tls", &[("trust = \"tidehall-ca.pem\"", "start_tls = true")]),
    ("syntax", &[("name = \"Northmoor Tidal\"", "name = \"Northmoor Tidal")]),
    ("two-readings", &[("when_unclear = \"plain\"\n", "")]),
    ("unknown-attribute", &[("{ attribute = \"Class\", text = \"survey\" }", "{ attribute = \"Clas\", text = \"survey\" }")]),
    ("unknown-key", &[("when_second_is_down", "when_second_down")]),
    ("unused", &[("grant = \"survey\"", "refuse = \"suspended\"")]),
    (
        "waives-all",
        &[("when_unclear = \"plain\"", "when_unclear = \"plain\"\nwaive = [{ network = \"0.0.0.0/0\", reason = \"a trial\" }]")],
    ),
    (
        "waives-unsigned",
        &[
            ("when_unclear = \"plain\"", "when_unclear = \"plain\"\nwaive = [{ network = \"192.0.2.0/24\", reason = \"a trial\" }]"),
            ("shows_challenges = true  ", "message_authenticator = \"when-present\"\nshows_challenges = true  "),
        ],
    ),
    ("whole-name-needed", &[("login = \"uid\"", "login = [\"uid\", \"mail\"]")]),
    (
        "word-is-number",
        &[
            ("words = { pager = [\"sms\", \"text\"], post = \"mail\" }", "words = { post = \"1234\" }"),
            ("forms = [\"password code(6)\", \"password ' ' factor\", \"password\"]", "forms = [\"password code(6)\", \"password\"]"),
        ],
    ),
    (
        "pools-overlap",
        &[
            ("name = \"survey\"\nreply = [", "name = \"survey\"\npool = [\"one\", \"two\"]\nreply = ["),
            (
                "[[grants]]",
                "[[pools]]\nname = \"one\"\nranges = [\"203.0.113.64/26\"]\n\n[[pools]]\nname = \"two\"\nranges = [\"203.0.113.80/32\"]\n\n[[grants]]",
            ),
        ],
    ),
    ("wrong-type", &[("tries = 3 }", "tries = \"three\" }")]),
    (
        "revocation-soft",
        &[(
            IDENTITY,
            "[[issuers]]\nname = \"badges\"\ntrust = \"people-ca.pem\"\nrevocation = [\"people.crl\"]\nwhen_unknown = \"accept\"\n\n[[identity]]\nname = \"northmoor-names\"",
        )],
    ),
    ("weak-method", &[("methods = [\"pap\"]", "methods = [\"pap\", \"eap-md5\"]")]),
];

/// Kinds that need more than a change of the text; they have tests of their own below and in `tests`.
const ELSEWHERE: &[&str] = &["account-is-person", "certificate-ends", "takes-in-all", "too-long"];

fn known() -> Known {
    let site = Site::read(GOOD, &Known::default()).0.expect("the demo site reads");
    Known { sealed: Some(site.secrets().map(str::to_owned).collect()), ..Known::default() }
}

fn changed(changes: &[Change]) -> String {
    changes.iter().fold(GOOD.to_owned(), |text, (from, to)| {
        assert!(text.contains(from), "the demo's site has no `{from}`");
        text.replacen(from, to, 1)
    })
}

/// Codes of findings that a source file makes: the text after `error(` or `warn(`.
fn codes_in(text: &str) -> impl Iterator<Item = &str> {
    let calls = text.split(".error(").skip(1).chain(text.split(".warn(").skip(1));
    calls.filter_map(|call| call.trim_start().strip_prefix('"')?.split('"').next())
}

#[expect(clippy::disallowed_methods, reason = "the sources are read")]
fn sources(folder: &Path, all: &mut String) {
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        let path = entry.path();
        if path.is_dir() {
            sources(&path, all);
        } else if !path.to_string_lossy().ends_with("tests.rs") {
            all.push_str(&std::fs::read_to_string(&path).unwrap());
        }
    }
}

#[test]
fn every_kind_of_finding_has_an_example() {
    let mut all = String::new();
    sources(Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/src")), &mut all);
    let made: BTreeSet<&str> = codes_in(&all).collect();
    assert!(made.len() > 50, "the sources are not read as they are written: {made:?}");
    let shown: BTreeSet<&str> = EXAMPLES.iter().map(|(code, _)| *code).chain(ELSEWHERE.iter().copied()).collect();
    assert_eq!(made.difference(&shown).collect::<Vec<_>>(), Vec::<&&str>::new(), "findings without an example");
}

#[test]
fn findings_say_what_is_wrong_and_what_to_do() {
    let known = known();
    let (mut said, mut missing) = (String::new(), Vec::new());
    for (code, changes) in EXAMPLES {
        let text = changed(changes);
        let findings = Site::read(&text, &known).1;
        let Some(finding) = findings.iter().find(|finding| finding.code == *code) else {
            missing.push((code, findings));
            continue;
        };
        assert!(finding.span.start <= finding.span.end && finding.span.end <= text.len(), "{code} lies outside the text");
        let severity = if finding.severity == Severity::Error { "error" } else { "warning" };
        writeln!(said, "{severity} {code} in line {}: {}\n  fix: {}", finding.span.line, finding.message, finding.remedy).unwrap();
    }
    assert!(missing.is_empty(), "not found, but these: {missing:#?}");
    insta::assert_snapshot!("findings", said);
}

#[test]
fn an_error_keeps_a_site_from_being_applied_and_a_warning_does_not() {
    let known = known();
    for (code, changes) in EXAMPLES {
        let (site, findings) = Site::read(&changed(changes), &known);
        let errors = findings.iter().filter(|finding| finding.severity == Severity::Error).count();
        assert_eq!(site.is_none(), errors > 0, "{code}: {findings:#?}");
    }
}

#[test]
fn a_ca_certificate_is_warned_about_four_weeks_before_it_ends() {
    let days = |days: i64| Known { certificates: [("tidehall-ca.pem".to_owned(), days)].into(), ..known() };
    let said = |days_left: i64| Site::read(GOOD, &days(days_left)).1.into_iter().map(|finding| finding.message).collect::<Vec<_>>();
    assert_eq!(said(400), Vec::<String>::new());
    assert_eq!(said(9), ["a CA certificate in `tidehall-ca.pem` (trusted by `tidehall`) expires in 9 days"]);
    assert_eq!(said(-3), ["a CA certificate in `tidehall-ca.pem` (trusted by `tidehall`) expired 3 days ago"]);
}

fn person(source: &str, login: &str, group: &str) -> KnownPerson {
    KnownPerson { source: source.into(), login: login.into(), groups: vec![group.into()], has_factor: login.ends_with('1') }
}

#[test]
fn a_service_account_that_is_a_person_too_is_warned_about() {
    let known = Known { people: vec![person("tidehall", "bivector", "services")], ..known() };
    let findings = Site::read(GOOD, &known).1;
    assert_eq!(findings.iter().map(|finding| finding.code.as_str()).collect::<Vec<_>>(), ["account-is-person"]);
    assert_eq!(findings[0].message, "the service account of `tidehall` is also registered as a person: bivector");
}

#[test]
fn a_rule_that_admits_nearly_everybody_is_warned_about_once_enough_people_are_known() {
    let people = |count: usize, others: usize| {
        let crew = (0..count).map(|number| person("roster", &format!("crew{number}"), "local-crew"));
        let rest = (0..others).map(|number| person("roster", &format!("other{number}"), "guests"));
        Known { people: crew.chain(rest).collect(), ..known() }
    };
    let said = |known: &Known| Site::read(GOOD, known).1.into_iter().map(|finding| finding.message).collect::<Vec<_>>();
    assert_eq!(said(&people(4, 0)), Vec::<String>::new(), "four people say nothing about a rule");
    assert_eq!(said(&people(10, 10)), Vec::<String>::new(), "half of the people is a choice");
    let many = said(&people(12, 1));
    assert!(
        many.contains(
            &"the rule `local crew` of `local people` assigns `turbine-crew` to 12 of 13 known people; 2 of them have a second factor"
                .to_owned()
        ),
        "{many:?}"
    );
}

#[test]
fn a_grant_that_does_not_fit_a_reply_is_refused() {
    let long = format!("{{ attribute = \"Class\", text = \"{}\" }}", "x".repeat(4100));
    let findings = Site::read(&GOOD.replacen("{ attribute = \"Class\", text = \"survey\" }", &long, 1), &known()).1;
    let found = findings.iter().find(|finding| finding.code == "too-long").expect("too long");
    assert!(found.message.starts_with("this grant's attributes need 4"), "{}", found.message);
}
