//! Logins that come out of an EAP conversation: which proof counts, what follows it, and what the conversation can still overturn.

use super::tests::{NOON, World, code, request, site};
use super::*;
use bivector_model::Cause;
use bivector_model::facts::Resends;
use bivector_model::moment::Moment;
use bivector_model::trace::{Hop, Outcome, Step, Tone, Trace};
use bivector_site::{EapMethod, Site};
use std::sync::Arc;
use std::time::Duration;

/// The demo's site with EAP on the chain of the staff. `change` is made besides.
fn with_eap(methods: &str, change: &[(&str, &str)]) -> Arc<Site> {
    let issuers = "[[issuers]]\nname = \"badges\"\ntrust = \"badges-ca.pem\"\n\n[[identity]]\nname = \"northmoor-names\"";
    let eap = "[doors.eap]\ncertificate = \"eap.pem\"\nkey = \"eap-key.pem\"\n\n[doors.radius]";
    let methods = format!("methods = [\"pap\", {methods}]");
    let own = [("methods = [\"pap\"]", methods.as_str()), ("[doors.radius]", eap), ("[[identity]]\nname = \"northmoor-names\"", issuers)];
    site(&[&own[..], change].concat())
}

const ACCEPTS_BADGES: (&str, &str) = ("first = [\"tidehall\", \"roster\"] ", "issuers = [\"badges\"]\nfirst = [\"tidehall\", \"roster\"] ");
const NO_SECOND: (&str, &str) = ("second = [\"totp\"]\nwhen_unclear = \"code\"", "second = []\nwhen_unclear = \"code\"");
const PLAIN: (&str, &str) = ("forms = [\"password code(6)\", \"password\"]", "forms = [\"password\"]");

fn badge(name: &str) -> VerifiedCertificate {
    VerifiedCertificate {
        issuer: "badges".into(),
        name: name.into(),
        of_device: false,
        same_person: true,
        said: format!("certificate of a person, mail address `{name}`"),
    }
}

fn inside(site: &Site, method: EapMethod, certificate: Option<VerifiedCertificate>) -> Inside {
    let chain = site.chains.iter().position(|chain| chain.name == "staff").unwrap();
    let step = Step { hop: Hop::Gateway, what: "eap".into(), tone: Tone::Good, at_us: 5, took_us: 0, said: "offered".into(), line: None };
    let began = Moment::from_micros(NOON.micros() - 80_000);
    Inside { method: Some(method), chain, began, steps: vec![step], certificate: certificate.map(Box::new) }
}

fn log_in(world: &mut World, site: &Arc<Site>, name: &str, credential: Credential, inside: Inside) -> (Verdict, Trace) {
    let request = request(site, "breakwater", name, b"").with_credential(credential, None).within(inside);
    let (verdict, trace, _) = world.run(site, request);
    assert_eq!(matches!(verdict, Verdict::Accept(_)), trace.outcome == Outcome::Accepted);
    (verdict, trace)
}

fn text(text: &str) -> Credential {
    Credential::Text(bivector_wire::Secret::new(text.as_bytes().to_vec()))
}

fn said(trace: &Trace) -> String {
    trace.steps.iter().map(|step| format!("{}: {}\n", step.what, step.said)).collect()
}

#[test]
fn the_trace_begins_with_the_conversation_and_names_its_method() {
    let site = with_eap("\"eap-ttls-pap\"", &[]);
    let typed = text(&format!("barnacle{}", code(0)));
    let (_, trace) = log_in(&mut World::new(), &site, "ines", typed, inside(&site, EapMethod::TtlsPap, None));
    assert_eq!((trace.outcome, trace.method.as_str()), (Outcome::Accepted, "eap-ttls-pap"), "{}", said(&trace));
    assert_eq!(trace.began_us, NOON.micros() - 80_000, "it began with the first packet");
    let order: Vec<&str> = trace.steps.iter().take(3).map(|step| &*step.what).collect();
    assert_eq!(order, ["request", "eap", "name"]);
    assert!(trace.steps.windows(2).all(|pair| pair[0].at_us <= pair[1].at_us), "in the order of time");
    assert!(trace.took_us >= 80_000, "the conversation counts");
}

#[test]
fn prompts_depend_on_the_method_and_not_on_the_gateway() {
    // `breakwater` shows no prompts.
    let site = with_eap("\"eap-ttls-pap\", \"eap-ttls-gtc\"", &[]);
    let (verdict, trace) = log_in(&mut World::new(), &site, "ines", text("barnacle"), inside(&site, EapMethod::TtlsGtc, None));
    assert!(matches!(verdict, Verdict::Challenge(_)), "{}", said(&trace));
    let (_, trace) = log_in(&mut World::new(), &site, "ines", text("barnacle"), inside(&site, EapMethod::TtlsPap, None));
    assert_eq!(trace.cause, Some(Cause::CodeMissing), "{}", said(&trace));
}

#[test]
fn a_certificate_is_the_first_check_and_the_second_factor_follows() {
    let change = [ACCEPTS_BADGES, ("second = [\"totp\"]\nwhen_unclear", "second = [\"approval\", \"totp\"]\nwhen_unclear")];
    let site = with_eap("\"eap-tls\"", &change);
    let of = |name: &str| inside(&site, EapMethod::Tls, Some(badge(name)));
    let mut world = World::new();
    world.handsets = (1, 0);
    let (_, trace) = log_in(&mut world, &site, "ines@northmoor.example", Credential::Certificate, of("ines@northmoor.example"));
    assert_eq!((trace.cause, world.approvals.len()), (Some(Cause::ApprovalUnanswered), 1), "the handset is asked: {}", said(&trace));
    assert!(world.guesses.is_empty() && said(&trace).contains("certificate: certificate of a person"), "no password: {}", said(&trace));
    let (_, trace) = log_in(&mut World::new(), &site, "nobody", Credential::Certificate, of("nobody"));
    assert_eq!(trace.cause, Some(Cause::PersonUnknown), "{}", said(&trace));
    let (_, trace) = log_in(&mut World::new(), &site, "ines", Credential::Certificate, inside(&site, EapMethod::Tls, None));
    assert_eq!(trace.cause, Some(Cause::CertificateMissing), "{}", said(&trace));
    let device = VerifiedCertificate { of_device: true, ..badge("ines") };
    let (_, trace) = log_in(&mut World::new(), &site, "ines", Credential::Certificate, inside(&site, EapMethod::Tls, Some(device)));
    assert_eq!(trace.cause, Some(Cause::CertificateMissing), "a device's certificate says nothing of a person: {}", said(&trace));
}

#[test]
fn a_certificate_beside_a_password_is_the_same_persons_unless_the_issuer_says_otherwise() {
    let site = with_eap("\"eap-ttls-pap\"", &[ACCEPTS_BADGES, PLAIN, NO_SECOND]);
    let cause = |certificate: VerifiedCertificate| {
        let (_, trace) = log_in(&mut World::new(), &site, "ines", text("barnacle"), inside(&site, EapMethod::TtlsPap, Some(certificate)));
        trace.cause
    };
    assert_eq!(cause(badge("INES@northmoor.example")), None, "the identity rule reads it as it reads typed names");
    assert_eq!(cause(badge("yuki@northmoor.example")), Some(Cause::CertificatePersonDiffers));
    assert_eq!(cause(badge("ines@elsewhere.example")), Some(Cause::CertificatePersonDiffers), "a realm that the rule does not strip");
    assert_eq!(cause(VerifiedCertificate { same_person: false, ..badge("yuki@northmoor.example") }), None);
    assert_eq!(cause(VerifiedCertificate { of_device: true, ..badge("laptop-7") }), None);
}

#[test]
fn a_resumed_session_proves_its_own_person_only() {
    let site = with_eap("\"eap-ttls-pap\"", &[PLAIN, NO_SECOND]);
    let of = |person: &str| {
        let credential = Credential::Resumed(person.to_owned());
        log_in(&mut World::new(), &site, "ines", credential, inside(&site, EapMethod::TtlsPap, None)).1
    };
    let accepted = of("ines");
    assert_eq!((accepted.outcome, accepted.cause), (Outcome::Accepted, None), "{}", said(&accepted));
    assert!(said(&accepted).contains("rule") && said(&accepted).contains("resumes it"), "{}", said(&accepted));
    assert_eq!(of("yuki").cause, Some(Cause::EapForeign));
    let mut suspended = World::new();
    suspended.suspended.insert("ines");
    let credential = Credential::Resumed("ines".to_owned());
    let (_, trace) = log_in(&mut suspended, &site, "ines", credential, inside(&site, EapMethod::TtlsPap, None));
    assert_eq!(trace.cause, Some(Cause::PersonSuspended), "the person is looked up again: {}", said(&trace));
}

#[test]
fn a_conversation_that_failed_ends_with_its_own_cause_and_asks_nobody() {
    let site = with_eap("\"eap-ttls-pap\"", &[]);
    let failed = Credential::Failed(Cause::TlsAlert, "the peer sent the TLS alert 48".to_owned());
    let mut world = World::new();
    let (_, trace) = log_in(&mut world, &site, "anonymous", failed, Inside { method: None, ..inside(&site, EapMethod::TtlsPap, None) });
    assert_eq!((trace.cause, trace.method.as_str()), (Some(Cause::TlsAlert), "eap"), "{}", said(&trace));
    assert!(world.guesses.is_empty() && world.pretended.is_empty() && said(&trace).contains("TLS alert 48"));
}

#[test]
fn an_accept_that_the_peer_never_heard_of_is_overturned_and_a_refusal_keeps_its_cause() {
    let site = with_eap("\"eap-ttls-pap\"", &[]);
    for (typed, cause) in [("barnacle", Cause::EapUnfinished), ("whelk", Cause::PasswordWrong)] {
        let typed = text(&format!("{typed}{}", code(0)));
        let request = request(&site, "breakwater", "ines", b"").with_credential(typed, None);
        let request = request.within(inside(&site, EapMethod::TtlsPap, None));
        let (mut login, now) = World::new().decide(&site, request);
        login.overturn(Cause::EapUnfinished, "no further packet came".to_owned(), now.plus(Duration::from_secs(60)));
        let (verdict, trace) = login.finish(Resends::default(), now.plus(Duration::from_secs(60)));
        assert!(matches!(&verdict, Verdict::Refuse(refusal) if refusal.cause == cause), "{verdict:?}");
        assert_eq!((trace.outcome, trace.cause, trace.grant.clone()), (Outcome::Refused, Some(cause), None), "{}", said(&trace));
    }
}
