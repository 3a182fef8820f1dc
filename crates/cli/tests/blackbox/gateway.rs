//! Gateways: handed over, seen knocking from elsewhere, registered with one command.

use super::harness::{Northmoor, ines, outcome, text};
use bivector_wire::SharedSecret;
use serde_json::Value;
use std::net::IpAddr;
use std::time::Duration;

async fn knock_of(world: &Northmoor, sender: &str) -> Value {
    for _ in 0..200 {
        let knocks = world.service.get("/knocks").await;
        if let Some(knock) = knocks.as_array().unwrap().iter().find(|knock| knock["sender"] == sender) {
            return knock.clone();
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    panic!("no knock from {sender}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_gateway_that_moved_is_recognised_and_registered_with_one_command() {
    let world = Northmoor::start().await;
    let mut slipway = world.gateway("slipway");
    slipway.from = IpAddr::from([127, 0, 0, 77]);
    slipway.patience.wait = Duration::from_millis(200);
    assert_eq!(outcome(&slipway.log_in("ines", &ines()).await.unwrap().0), "silent");
    assert_eq!(knock_of(&world, "127.0.0.77").await["guess"]["gateway"], "slipway");
    // Of one whose secret does not fit only its own word is known; of a stranger nothing.
    let mut lantern = world.gateway("lantern");
    (lantern.from, lantern.secret, lantern.patience.wait) =
        (IpAddr::from([127, 0, 0, 78]), SharedSecret::new(b"typo"), Duration::from_millis(100));
    lantern.log_in("ines", "x").await.unwrap();
    assert!(knock_of(&world, "127.0.0.78").await["guess"]["why"].as_str().unwrap().contains("the shared secret does not"));
    (lantern.from, lantern.name) = (IpAddr::from([127, 0, 0, 79]), "elsewhere".into());
    lantern.log_in("ines", "x").await.unwrap();
    assert_eq!(knock_of(&world, "127.0.0.79").await["guess"], Value::Null);

    let shown = world.service.run(&["gateway", "knocks"]);
    assert!(
        shown.contains("127.0.0.77 may be slipway with a new address")
            && shown.contains("bivector gateway register 127.0.0.77 --as slipway"),
        "{shown}"
    );
    assert!(world.service.run(&["gateway", "register", "127.0.0.77", "--as", "slipway"]).contains("revision 2 is active"));
    slipway.patience.wait = Duration::from_secs(8);
    assert_eq!(outcome(&slipway.log_in("ines", &ines()).await.unwrap().0), "accept");
    let exported = world.service.run(&["site", "export"]);
    assert!(exported.contains("\"198.51.100.30\", \"127.0.0.77\"") && exported.contains("# bastion host for shells"), "comments stay");
    assert!(world.service.run(&["site", "history"]).contains("127.0.0.77 registered as slipway"));
    for (arguments, wanted) in [
        (["gateway", "register", "127.0.0.77", "--as", "slipway"], "belongs to `slipway` already"),
        (["gateway", "register", "127.0.0.12", "--as", "slipway"], "the site has"),
        (["gateway", "register", "nonsense", "--as", "slipway"], "the site has"),
        (["gateway", "register", "127.0.0.77", "--as", "slipwa"], "unknown gateway `slipwa`"),
    ] {
        let output = world.service.cli(&arguments);
        assert!(output.status.code() == Some(1) && text(&output.stderr).contains(wanted), "{arguments:?}: {}", text(&output.stderr));
    }
    assert_eq!(world.service.get("/status").await["revision"], 2, "nothing that was refused changed anything");
}

#[tokio::test(flavor = "multi_thread")]
async fn gateways_are_listed_with_their_newest_login_and_handed_over_in_four_ways() {
    let world = Northmoor::start().await;
    world.log_in("breakwater", "ines", &ines()).await;
    let listed = world.service.run(&["gateway", "list"]);
    assert!(listed.contains("breakwater") && listed.contains("accepted") && listed.contains("never"), "{listed}");
    assert!(world.service.run(&["gateway", "show", "lantern"]).contains("5 s per try, 2 tries"));
    assert_eq!(world.service.cli(&["gateway", "show", "lighthouse"]).status.code(), Some(1));
    let door = format!("127.0.0.1 port {}", world.radius.port());
    for (format, marks) in [("text", "On the device"), ("markdown", "## On the device"), ("html", "<h2>On the device</h2>")] {
        let sheet = world.service.run(&["gateway", "handover", "breakwater", "--format", format]);
        assert!(sheet.contains(marks) && sheet.contains(&door) && !sheet.contains(super::harness::SECRET), "{sheet}");
    }
    let json: Value = serde_json::from_str(&world.service.run(&["gateway", "handover", "breakwater", "--json"])).unwrap();
    assert_eq!(json["sections"][0]["rows"][0]["label"], "protocol");
    assert!(text(&world.service.cli(&["gateway", "handover", "lighthouse"]).stderr).contains("known: breakwater, lantern, slipway"));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_light_of_a_gateway_says_why_its_newest_packet_got_no_answer() {
    let world = Northmoor::start().await;
    let light = async || {
        let chains = world.service.get("/chains").await;
        let staff = chains.as_array().unwrap().iter().find(|chain| chain["name"] == "staff").unwrap();
        staff["hops"].as_array().unwrap().iter().find(|hop| hop["name"] == "breakwater").unwrap().clone()
    };
    assert_eq!(light().await["state"], "note", "nothing has come yet");
    let mut wrong = world.gateway("breakwater");
    (wrong.secret, wrong.patience.wait) = (bivector_wire::SharedSecret::new(b"breakwater-Kq7vX2mTz9 "), Duration::from_millis(200));
    let (_, local) = wrong.log_in("ines", "x").await.unwrap();
    world.service.trace_from(local).await;
    let seen = light().await;
    assert!(seen["state"] == "bad" && seen["said"].as_str().unwrap().contains("different shared secret"), "{seen}");
    assert!(seen["remedy"].as_str().unwrap().contains("stray space"), "{seen}");
    world.log_in("breakwater", "ines", "x").await;
    assert_eq!(light().await["state"], "good", "a refused login is an answer");
}
