//! What a start says when it cannot be.

use super::harness::{Northmoor, Service, text};
use std::path::Path;
use std::process::{Command, Output, Stdio};

fn serve(data: &Path, more: &[&str]) -> Output {
    Command::new(env!("CARGO_BIN_EXE_bivector")).args(["serve", "--data"]).arg(data).args(more).stdin(Stdio::null()).output().unwrap()
}

fn refused(output: &Output, message: &str, remedy: &str) {
    let said = text(&output.stderr);
    assert_eq!(output.status.code(), Some(1), "{said}");
    assert!(said.contains(message) && said.contains(remedy) && !said.contains("panicked"), "{said}");
}

#[test]
fn a_data_folder_that_cannot_be_used_is_named() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("file");
    std::fs::write(&file, "").unwrap();
    refused(&serve(&file.join("data"), &[]), "the data folder", "--data");
    refused(&serve(Path::new("/proc/bivector"), &[]), "the data folder `/proc/bivector` cannot be used", "--data");
}

#[test]
fn a_second_service_on_one_folder_and_an_address_beyond_loopback_are_refused() {
    let service = Service::start();
    refused(&serve(&service.data, &["--http", "127.0.0.1:0"]), "another service is running on the data folder", "stop the other service");
    let folder = tempfile::tempdir().unwrap();
    refused(&serve(folder.path(), &["--http", "0.0.0.0:0"]), "is not loopback", "127.0.0.1:18180");
}

#[test]
fn a_missing_or_foreign_key_file_is_named_and_nothing_is_lost() {
    let (data, _folder) = Service::start().kill();
    let key = data.join("seal.key");
    let kept = std::fs::read(&key).unwrap();
    std::fs::remove_file(&key).unwrap();
    refused(&serve(&data, &["--http", "127.0.0.1:0"]), "the key file", "restore the key file to");
    assert!(!key.exists(), "no new key is made over sealed secrets");
    let (other, _other_folder) = Service::start().kill();
    std::fs::copy(other.join("seal.key"), &key).unwrap();
    refused(&serve(&data, &["--http", "127.0.0.1:0"]), "does not open the secrets", "use the key file that belongs to this data folder");
    std::fs::write(&key, kept).unwrap();
    drop(Service::start_in(&data, &[]));
}

#[test]
fn records_of_a_newer_version_are_left_alone() {
    let (data, _folder) = Service::start().kill();
    rusqlite::Connection::open(data.join("records.db")).unwrap().pragma_update(None, "user_version", 99).unwrap();
    refused(&serve(&data, &["--http", "127.0.0.1:0"]), "written by a newer version (layout 99", "start the newer version");
}

#[test]
fn a_port_that_is_taken_is_named_with_who_holds_it() {
    let service = Service::start();
    let folder = tempfile::tempdir().unwrap();
    let output = serve(folder.path(), &["--http", &service.http.to_string()]);
    refused(&output, &format!("cannot listen on TCP {}", service.http), "choose another address");
    assert!(text(&output.stderr).contains(&format!("in use by bivector (process {})", service.pid())), "{}", text(&output.stderr));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_door_that_cannot_bind_stops_the_apply_before_anything_is_swapped() {
    let world = Northmoor::start().await;
    let taken = std::net::UdpSocket::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let _held = std::net::UdpSocket::bind(taken).unwrap();
    let before = world.service.get("/status").await;
    let (status, body) = world.service.apply(&world.site.replacen(&format!("\"{}\"", world.radius), &format!("\"{taken}\""), 1)).await;
    assert_eq!(status, 409, "{body}");
    let title = body["title"].as_str().unwrap();
    assert!(
        title.contains(&format!("cannot listen on UDP {taken}")) && title.contains(&format!("(process {})", std::process::id())),
        "{title}"
    );
    assert_eq!(world.service.get("/status").await, before);
}

#[tokio::test(flavor = "multi_thread")]
async fn on_a_full_disk_nobody_gets_in_unmarked_and_the_service_lives() {
    let world = Northmoor::start().await;
    let Northmoor { service, directories: _directories, radius, .. } = world;
    let (data, _folder) = service.kill();
    // In units of 512 bytes: no file may grow beyond what the records have now: as full as a disk can be.
    let blocks = std::fs::metadata(data.join("records.db")).unwrap().len() / 512 + 80;
    let mut command = Command::new("sh");
    let script = format!("ulimit -S -f {blocks}; exec \"$0\" serve --http 127.0.0.1:0 --data \"$1\"");
    command.args(["-c", &script, env!("CARGO_BIN_EXE_bivector")]).arg(&data);
    let service = Service::spawn(command, &data);
    let slipway = super::harness::gateway("slipway", radius);
    let wrong = "x".repeat(100);
    for round in 0..60 {
        // Of different names: many wrong passwords of one person would not be looked at any more.
        let logins: Vec<_> = (0..10)
            .map(|number| (slipway.clone(), wrong.clone(), format!("stranger-{round}-{number}")))
            .map(|(slipway, wrong, name)| tokio::spawn(async move { slipway.log_in(&name, &wrong).await }))
            .collect();
        for login in logins {
            let (exchange, _) = login.await.unwrap().unwrap();
            assert_eq!(super::harness::outcome(&exchange), "reject", "every login has its answer");
        }
        if service.log().contains("a commit failed") {
            break;
        }
    }
    assert!(service.log_has("a commit failed"), "{}", service.log());
    let ready = async || {
        let answer = super::harness::http_client().get(format!("http://{}/readyz", service.http)).send().await.unwrap();
        (answer.status().as_u16(), answer.text().await.unwrap())
    };
    let (status, said) = ready().await;
    assert!(status == 503 && said.contains("cannot be written"), "{status} {said}");
    assert!(service.log().contains("full") || service.log().contains("I/O error"), "{}", service.log());
    let text = format!("ebb before flood{}", super::harness::code("tomasz", 0));
    let (exchange, _) = slipway.log_in("tomasz", &text).await.unwrap();
    assert_eq!(super::harness::outcome(&exchange), "reject", "a code that cannot be marked lets nobody in");
    let figures = super::harness::http_client().get(format!("http://{}/metrics", service.http)).send().await.unwrap().text().await.unwrap();
    assert!(figures.contains("cause=\"records-unavailable\"} 1") && figures.contains("bivector_records_writable 0"), "{figures}");
    assert_eq!(service.log().matches("a commit failed").count(), 1, "once, and not with every commit: {}", service.log());
    // What the person at the keyboard read still leads to the login: it is in memory.
    let said = super::harness::prompt(&exchange);
    let reference = said.split_whitespace().map(|word| word.trim_matches(|c: char| !c.is_alphanumeric())).find(|word| word.len() == 8);
    let trace = service.get(&format!("/traces/{}", reference.unwrap_or_else(|| panic!("no reference in {said}")))).await;
    assert_eq!(trace["cause"], "records-unavailable", "{trace}");
    let advice = service.get("/doctor").await.to_string();
    assert!(advice.contains("the records cannot be written"), "{advice}");
    // Room again: the service notices without a restart.
    let lifted = Command::new("prlimit").args(["--fsize=unlimited", "--pid", &service.pid().to_string()]).status().unwrap();
    assert!(lifted.success());
    // Asked often, it tries a write only now and then.
    let until = std::time::Instant::now() + std::time::Duration::from_secs(10);
    while ready().await.0 != 200 && std::time::Instant::now() < until {
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
    }
    assert_eq!(ready().await, (200, "ready\n".to_owned()));
    assert!(service.log_has("can be written again"), "{}", service.log());
    assert!(service.figures().await.contains("bivector_records_writable 1"));
    let text = format!("ebb before flood{}", super::harness::code("tomasz", 1));
    assert_eq!(super::harness::outcome(&slipway.log_in("tomasz", &text).await.unwrap().0), "accept");
}

#[tokio::test(flavor = "multi_thread")]
async fn records_that_are_gone_beside_their_key_are_called_lost_and_nothing_is_begun_anew() {
    let (data, _folder) = Service::start().kill();
    let (records, token) = (data.join("records.db"), std::fs::read(data.join("operator.token")).unwrap());
    let wal = data.join("records.db-wal");
    let kept = std::fs::read(&wal).unwrap();
    let whole = std::fs::read(&records).unwrap();
    let check = |said: &str| {
        refused(&serve(&data, &["--http", "127.0.0.1:0"]), said, "from the last backup");
        assert_eq!((std::fs::read(&wal).unwrap(), std::fs::read(data.join("operator.token")).unwrap()), (kept.clone(), token.clone()));
    };
    std::fs::write(&records, "").unwrap();
    check("is missing or empty");
    std::fs::remove_file(&records).unwrap();
    check("belongs to records that are gone");
    std::fs::write(&records, whole).unwrap();
    drop(Service::start_in(&data, &[]));
}

#[tokio::test(flavor = "multi_thread")]
async fn damaged_records_name_the_backup_and_damage_that_no_start_meets_is_found_in_the_background() {
    let (data, _folder) = {
        let mut service = Service::start();
        assert!(service.terminate());
        service.kill()
    };
    let records = data.join("records.db");
    let whole = std::fs::read(&records).unwrap();
    // A page that only the audit's rows are on: overwritten with what is no page of a table.
    let connection = rusqlite::Connection::open(&records).unwrap();
    let number = |sql: &str| connection.query_row(sql, [], |row| row.get::<_, usize>(0)).unwrap();
    let (size, page) = (number("PRAGMA page_size"), number("SELECT rootpage FROM sqlite_schema WHERE name = 'audit'"));
    let traces = number("SELECT rootpage FROM sqlite_schema WHERE name = 'trace_chunks'");
    drop(connection);
    let damaged = |page: usize| {
        let mut bytes = whole.clone();
        bytes[(page - 1) * size..page * size].fill(0x5a);
        std::fs::write(&records, bytes).unwrap();
    };
    damaged(page);
    let service = Service::start_in(&data, &[]);
    assert!(service.log_has("the records are damaged") && service.log_has("from the last backup"), "{}", service.log());
    assert!(service.get("/doctor").await.to_string().contains("the records are damaged"));
    drop(service);
    damaged(traces);
    let service = Service::start_in(&data, &[]);
    assert!(service.log_has("the records are damaged"), "traces that cannot be read stop no start: {}", service.log());
    drop(service);
    damaged(1);
    refused(&serve(&data, &["--http", "127.0.0.1:0"]), "records.db", "restore the data folder from the last backup");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_site_that_no_longer_can_be_in_force_leaves_the_api_up_to_mend_it() {
    let world = Northmoor::start().await;
    let Northmoor { service, directories: _directories, site, radius } = world;
    let (data, _folder) = service.kill();
    let trust = data.join("tidehall-ca.pem");
    let kept = std::fs::read(&trust).unwrap();
    std::fs::remove_file(&trust).unwrap();
    let service = Service::start_in(&data, &[]);
    assert_eq!(super::harness::http_client().get(format!("http://{}/readyz", service.http)).send().await.unwrap().status(), 503);
    assert!(service.log_has("the latest revision is not active") && service.log_has("tidehall-ca.pem"), "{}", service.log());
    std::fs::write(&trust, kept).unwrap();
    assert_eq!(service.apply(&site).await.0, 201);
    assert_eq!(service.radius().await, radius);
}
