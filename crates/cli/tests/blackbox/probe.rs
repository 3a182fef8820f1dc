//! `bivector directory probe`: each piece that can be broken is broken, and the line that says so is looked at.

use super::harness::{DIRECTORY, Northmoor, text};
use bivector_lab::certificates::LabIssuer;
use bivector_lab::directory::{DirectoryData, Protection, StandInDirectory};
use serde_json::{Value, json};
use std::net::SocketAddr;
use std::time::Duration;

/// The lines of the first server, probed under a changed site.
async fn probed(world: &Northmoor, site: &str, person: Option<&str>) -> Vec<Value> {
    let (status, body) = world.service.apply(site).await;
    assert_eq!(status, 201, "{body}");
    lines(world, person).await
}

async fn lines(world: &Northmoor, person: Option<&str>) -> Vec<Value> {
    let (status, servers) = world.service.call("POST", "/directories/tidehall/probe", Some(json!({ "person": person }))).await;
    assert_eq!(status, 200, "{servers}");
    let lines = servers[0]["lines"].as_array().unwrap().clone();
    let pieces: Vec<&str> = lines.iter().map(|line| line["piece"].as_str().unwrap()).collect();
    assert_eq!(pieces, ["name", "connection", "tls", "kind", "clock", "account", "base", "limits", "person", "groups"]);
    lines
}

/// The first bad line: piece, cause, what was seen; and everything behind it was not reached.
fn broken(lines: &[Value]) -> (String, String, String) {
    let at = lines.iter().position(|line| line["state"] == "bad").unwrap_or_else(|| panic!("nothing is broken: {lines:#?}"));
    assert!(lines[at]["remedy"].as_str().is_some_and(|remedy| !remedy.is_empty()));
    let word = |key: &str| lines[at][key].as_str().unwrap().to_owned();
    assert!(lines[at + 1..].iter().all(|line| line["state"] == "note"), "{lines:#?}");
    (word("piece"), word("cause"), word("said"))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sound_directory_is_good_in_every_piece() {
    let world = Northmoor::start().await;
    let lines = lines(&world, Some("ines")).await;
    let states: Vec<&str> = lines.iter().map(|line| line["state"].as_str().unwrap()).collect();
    assert_eq!(states, ["good", "good", "good", "good", "note", "good", "good", "good", "good", "good"], "{lines:#?}");
    assert!(lines[2]["said"].as_str().unwrap().starts_with("TLS 1.3, certificate for 127.0.0.1, localhost"));
    assert_eq!(lines[9]["said"], "control-room");
    let output = world.service.cli(&["directory", "probe", "tidehall", "--person", "ines"]);
    assert!(output.status.success() && text(&output.stdout).contains("ines is uid=ines,ou=people,dc=northmoor,dc=example"));
    let listed = world.service.run(&["directory", "list"]);
    assert!(listed.contains("tidehall") && listed.contains("staff, hardware codes"), "{listed}");
    let unknown = world.service.cli(&["directory", "probe", "tidehal"]);
    assert!(unknown.status.code() == Some(1) && text(&unknown.stderr).contains("known: tidehall"));
}

#[tokio::test(flavor = "multi_thread")]
async fn each_broken_piece_is_named_with_its_cause_and_stops_the_probe_there() {
    let world = Northmoor::start().await;
    let first = world.directories[0].address().to_string();
    let site = &world.site;
    std::fs::write(world.service.data.join("other.pem"), LabIssuer::new("Somebody Else").unwrap().pem()).unwrap();

    let (piece, cause, said) = broken(&probed(&world, &site.replace(&first, "tidehall.invalid"), None).await);
    assert_eq!((piece.as_str(), cause.as_str()), ("name", "source-name-unresolved"), "{said}");
    let (piece, cause, said) = broken(&probed(&world, &site.replace(&first, "127.0.0.1:1"), None).await);
    assert_eq!((piece.as_str(), cause.as_str()), ("connection", "source-unreachable"));
    assert!(said.contains("127.0.0.1:1: connection refused"), "{said}");
    let (piece, cause, said) = broken(&probed(&world, &site.replace("tidehall-ca.pem", "other.pem"), None).await);
    assert_eq!((piece.as_str(), cause.as_str()), ("tls", "source-tls-untrusted"));
    assert!(said.contains("the certificate's issuer is not in the trust file: `CN=test issuer`"), "{said}");
    let (piece, cause, said) =
        broken(&probed(&world, &site.replace("ou=people,dc=northmoor", "ou=staff,ou=people,dc=northmoor"), None).await);
    assert_eq!((piece.as_str(), cause.as_str()), ("base", "source-base-missing"));
    assert!(said.ends_with("the nearest existing entry is ou=people,dc=northmoor,dc=example"), "{said}");
    let (piece, cause, said) = broken(&probed(&world, site, Some("Ines Okafor")).await);
    assert_eq!((piece.as_str(), cause.as_str()), ("person", "person-unknown"));
    assert!(said.contains("`cn` would match uid=ines"), "{said}");
    world.service.seal("directory/tidehall", "not-the-password").await;
    let (piece, cause, _) = broken(&lines(&world, None).await);
    assert_eq!((piece.as_str(), cause.as_str()), ("account", "source-reader-refused"));
    assert_eq!(world.service.cli(&["directory", "probe", "tidehall"]).status.code(), Some(1));
}

#[tokio::test(flavor = "multi_thread")]
async fn certificates_for_another_name_or_of_another_time_and_missing_tls_are_told_apart() {
    let world = Northmoor::start().await;
    let issuer = LabIssuer::new("test issuer").unwrap();
    std::fs::write(world.service.data.join("tidehall-ca.pem"), issuer.pem()).unwrap();
    let data = DirectoryData::parse(DIRECTORY).unwrap();
    let any = SocketAddr::from(([127, 0, 0, 1], 0));
    let first = world.directories[0].address().to_string();
    let cases = [
        (
            Protection::Tls(issuer.server(&["dir9.northmoor.example"]).unwrap()),
            "ldaps",
            "the certificate is for dir9.northmoor.example, not for 127.0.0.1",
        ),
        (Protection::Tls(issuer.expired_server(&["127.0.0.1"]).unwrap()), "ldaps", "the certificate expired"),
        (Protection::Clear, "ldaps", "TLS failed"),
        (Protection::Clear, "ldap", "the server refused StartTLS with result 2 (protocol error)"),
    ];
    for (protection, scheme, wanted) in cases {
        let directory = StandInDirectory::start(any, &data, protection, Duration::ZERO).await.unwrap();
        let start_tls = if scheme == "ldap" { "start_tls = true\ntrust" } else { "trust" };
        let site = world.site.replace(
            &format!("\"ldaps://{first}\", \"ldaps://{}\"", world.directories[1].address()),
            &format!("\"{scheme}://{}\"", directory.address()),
        );
        let (piece, cause, said) = broken(&probed(&world, &site.replace("trust", start_tls), None).await);
        assert_eq!((piece.as_str(), cause.as_str()), ("tls", "source-tls-untrusted"), "{said}");
        assert!(said.contains(wanted), "{said}");
    }
    let clear = StandInDirectory::start(any, &data, Protection::Clear, Duration::ZERO).await.unwrap();
    let lines =
        probed(&world, &world.site.replace(&format!("ldaps://{first}"), &format!("ldap://{}", clear.address())), Some("ines")).await;
    assert_eq!((lines[2]["state"].as_str(), lines[2]["said"].as_str()), (Some("warn"), Some("passwords are sent unencrypted")));
    assert_eq!(lines[9]["state"], "good");
}
