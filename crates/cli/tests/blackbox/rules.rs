//! What rules may ask beside groups and labels: in a login, in the rule tester, and when a change is compared.

use super::harness::{Service, free_udp_port, gateway, text};
use bivector_exchange::Request;
use bivector_wire::AttributeType;
use serde_json::{Value, json};

const SITE: &str = r#"
format = 1
name = "Northmoor"
time_zone = "Europe/Oslo"

[doors.radius]
listen = ["127.0.0.1:PORT"]

[[gateways]]
name = "breakwater"
from = ["127.0.0.1"]
secret = "gateway/breakwater"

[[conditions]]
name = "at the quay"
when = { from = "203.0.113.0/24" }

[[chains]]
name = "mesh"
gateways = ["breakwater"]
methods = ["pap", "chap"]
forms = ["password"]
first = ["roster"]
second = []

[[rules]]
name = "nobody at no hour"
chain = "mesh"
when = { name = "night.*", not = { hours = "00:00-24:00" } }
refuse = "never"

[[rules]]
name = "visitors only at the quay"
chain = "mesh"
when = { name = "visitor.*", not = { condition = "at the quay" } }
refuse = "visitors come to the quay"

[[rules]]
name = "virtual ports by chap"
chain = "mesh"
when = { method = "chap", nas = { NAS-Port-Type = ["5", "Virtual"] } }
grant = "chap"

[[rules]]
name = "everybody"
chain = "mesh"
when = { source = "roster", factor = "none", gateway = "breakwater", hours = "00:00-24:00" }
grant = "plain"

[[grants]]
name = "chap"

[[grants]]
name = "plain"
"#;

async fn world() -> (Service, bivector_lab::gateway::SimulatedGateway, String) {
    let service = Service::start();
    service.seal("gateway/breakwater", "breakwater-Kq7vX2mTz9").await;
    let site = SITE.replace("PORT", &free_udp_port().to_string());
    let (status, body) = service.apply(&site).await;
    assert_eq!(status, 201, "{body:#}");
    service.import("login,source,name,password,keep\nvisitor.kit,roster,Kit,mussel bed,text\nines,roster,Ines,mussel bed,text\n").await;
    let device =
        bivector_lab::gateway::SimulatedGateway { from: "127.0.0.1".parse().unwrap(), ..gateway("breakwater", service.radius().await) };
    (service, device, site)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rule_asks_who_logs_in_from_where_by_what_and_when() {
    let (service, device, site) = world().await;
    let pap = |name: &str| Request::login(name, b"mussel bed");
    let chap = |name: &str| Request::chap(name, b"mussel bed").unwrap();
    let (caller, port) = (AttributeType::CallingStationId, AttributeType::NasPortType);
    let virtual_port = 5_u32.to_be_bytes();
    for (what, mut request, more, wanted) in [
        ("a visitor at the quay", pap("visitor.kit"), vec![(caller, &b"203.0.113.9"[..])], Ok("plain")),
        ("a visitor elsewhere", pap("visitor.kit"), vec![(caller, b"198.51.100.7")], Err("rule-refused")),
        ("a visitor from nowhere", pap("visitor.kit"), vec![], Err("rule-refused")),
        ("somebody of the crew", pap("ines"), vec![(caller, b"198.51.100.7")], Ok("plain")),
        ("by chap on a virtual port", chap("ines"), vec![(port, &virtual_port)], Ok("chap")),
        ("by chap on another port", chap("ines"), vec![(port, &[0, 0, 0, 0])], Ok("plain")),
    ] {
        more.iter().for_each(|(kind, value)| request.message.push(*kind, value));
        let (_, from) = device.send(&device.sign(request)).await.unwrap();
        let trace = service.trace_from(from).await;
        assert_eq!((trace["grant"].as_str(), trace["cause"].as_str()), (wanted.ok(), wanted.err()), "{what}: {trace:#}");
    }
    // What was recorded is enough to decide all of them again.
    let (status, replayed) = service.call("POST", "/site/replay", Some(json!({ "text": site }))).await;
    assert_eq!((status, &replayed["same"], &replayed["changed"]), (200, &json!(6), &json!([])), "{replayed:#}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_rule_tester_takes_a_made_up_place_hour_and_way() {
    let (service, _, _) = world().await;
    let tried = |more: &[&str]| {
        let output = service.cli(&[&["rule", "try", "--chain", "mesh", "--via", "breakwater"], more].concat());
        (output.status.code(), format!("{}{}", text(&output.stdout), text(&output.stderr)))
    };
    let (code, said) =
        tried(&["--name", "visitor.kit", "--caller", "198.51.100.7", "--factor", "none", "--source", "roster", "--method", "pap"]);
    assert!(code == Some(1) && said.contains("decides: refuses: visitors come to the quay"), "{said}");
    assert!(said.contains("the name is visitor.kit, not night.*") && said.contains("the method is pap, not chap"), "{said}");
    let (code, said) =
        tried(&["--name", "visitor.kit", "--caller", "203.0.113.9", "--factor", "totp", "--at", "2026-12-01T22:30", "--method", "pap"]);
    assert!(code == Some(1) && said.contains("the second factor is totp, not none"), "{said}");
    assert!(said.contains("it is everybody, as `at the quay` says, which it must not be"), "{said}");
    let (code, said) = tried(&["--at", "tomorrow"]);
    assert!(code == Some(1) && said.contains("`tomorrow` is not a time such as 2026-12-01T22:30"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_that_admits_more_people_is_weaker_and_mistakes_name_their_place() {
    let (service, _, site) = world().await;
    let weaker = async |from: &str, to: &str| {
        let (status, body) = service.call("POST", "/site/compare", Some(json!({ "text": site.replacen(from, to, 1) }))).await;
        assert_eq!(status, 200, "{body:#}");
        body.to_string()
    };
    let hours = "gateway = \"breakwater\", hours = \"00:00-24:00\" }";
    for (from, to, is_weaker) in [
        (hours, "gateway = \"breakwater\" }", true),
        (hours, "gateway = \"breakwater\", hours = [\"00:00-24:00\", \"07:00-19:00\"] }", true),
        (hours, "gateway = \"breakwater\", hours = \"00:00-24:00\", realm = \"\" }", false),
    ] {
        let said = weaker(from, to).await;
        assert_eq!(said.contains("\"weaker\":true"), is_weaker, "{to}: {said}");
    }
    for (from, to, said) in [
        ("hours = \"00:00-24:00\" }\ngrant", "hours = \"Moon 07:00-19:00\" }\ngrant", "`Moon` is no day"),
        ("condition = \"at the quay\"", "condition = \"at the key\"", "did you mean `at the quay`?"),
        ("NAS-Port-Type", "NAS-Port-Typ", "`NAS-Port-Typ` is not an attribute that a condition can ask for"),
        ("time_zone = \"Europe/Oslo\"", "time_zone = \"Europe/Osl\"", "is not a time zone"),
        (
            "when = { from = \"203.0.113.0/24\" }",
            "when = { not = { not = { not = { not = { not = { not = { from = \"203.0.113.0/24\" } } } } } } }",
            "too often",
        ),
    ] {
        let (status, body): (u16, Value) = service.apply(&site.replacen(from, to, 1)).await;
        assert!(status == 422 && body.to_string().contains(said), "{said}: {body:#}");
    }
}
