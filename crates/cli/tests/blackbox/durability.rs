use super::harness::{Northmoor, Service, code, gateway, ines, outcome};
use std::time::Duration;

#[tokio::test(flavor = "multi_thread")]
async fn a_code_is_refused_after_the_service_was_killed_right_after_its_accept() {
    let world = Northmoor::start().await;
    let text = ines();
    let (exchange, _) = world.gateway("breakwater").log_in("ines", &text).await.unwrap();
    assert_eq!(outcome(&exchange), "accept");
    let Northmoor { service, directories: _directories, radius, .. } = world;
    let (data, _folder) = service.kill();
    let service = Service::start_in(&data, &[]);
    assert_eq!(service.radius().await, radius, "the site came back by itself");
    let (exchange, local) = gateway("slipway", radius).log_in("NORTHMOOR\\ines", &text).await.unwrap();
    assert_eq!(outcome(&exchange), "reject");
    assert_eq!(service.trace_from(local).await["cause"], "code-used");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_polite_end_answers_the_logins_in_flight_and_keeps_their_traces() {
    let mut world = Northmoor::with(super::harness::Setup { delay: Duration::from_millis(700), ..Default::default() }).await;
    let breakwater = world.gateway("breakwater");
    let login = tokio::spawn(async move { breakwater.log_in("ines", &ines()).await.unwrap() });
    tokio::time::sleep(Duration::from_millis(600)).await;
    assert!(world.service.terminate(), "{}", world.service.log());
    assert!(world.service.log_has("stopping: no new logins") && !world.service.log().contains('\u{1b}'), "{}", world.service.log());
    let (exchange, local) = login.await.unwrap();
    assert_eq!(outcome(&exchange), "accept");
    let service = Service::start_in(&world.service.data, &[]);
    assert_eq!(service.trace_from(local).await["outcome"], "accepted");
}

#[tokio::test(flavor = "multi_thread")]
async fn kill_minus_nine_under_load_loses_no_used_code_and_damages_nothing() {
    let world = Northmoor::start().await;
    let Northmoor { mut service, directories: _directories, radius, .. } = world;
    let mut folder = None;
    let people = [("ines", "barnacle-and-buoy"), ("tomasz", "ebb before flood"), ("yuki", "swell204813")];
    // Three rounds: the three codes of the window, for three people at once, then the end in the middle of it.
    for offset in [0, 1, -1] {
        let texts: Vec<(&str, String)> =
            people.iter().map(|(name, password)| (*name, format!("{password}{}", code(name, offset)))).collect();
        let mut accepted = Vec::new();
        let logins: Vec<_> = texts
            .iter()
            .cloned()
            .map(|(name, text)| {
                tokio::spawn(
                    async move { (name, text.clone(), outcome(&gateway("breakwater", radius).log_in(name, &text).await.unwrap().0)) },
                )
            })
            .collect();
        for login in logins {
            let (name, text, seen) = login.await.unwrap();
            if seen == "accept" {
                accepted.push((name, text));
            }
        }
        let (data, kept) = service.kill();
        folder = folder.or(kept);
        service = Service::start_in(&data, &[]);
        for (name, text) in accepted {
            let (exchange, local) = gateway("slipway", radius).log_in(name, &text).await.unwrap();
            assert_ne!(outcome(&exchange), "accept", "{:#}", service.trace_from(local).await);
        }
    }
    drop(service);
    let folder = folder.unwrap();
    let records = folder.path().join("data/records.db");
    let sound: String = rusqlite::Connection::open(records).unwrap().query_row("PRAGMA integrity_check", [], |row| row.get(0)).unwrap();
    assert_eq!(sound, "ok");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stop_keeps_the_trace_of_every_login_that_was_answered() {
    let world = Northmoor::start().await;
    let Northmoor { service, directories: _directories, radius, .. } = world;
    let folder = service.data.clone();
    // The folder is the first one's, which is kept until the end.
    let mut services = vec![service];
    for round in 0..4 {
        let logins: Vec<_> = (0..24)
            .map(|number| {
                tokio::spawn(async move { gateway("slipway", radius).log_in(&format!("nobody-{round}-{number}"), "x").await.unwrap() })
            })
            .collect();
        // The stop comes while some are answered and some are not.
        tokio::time::sleep(std::time::Duration::from_millis(200)).await;
        let running = services.last_mut().unwrap();
        assert!(running.terminate(), "{}", running.log());
        let next = Service::start_in(&folder, &[]);
        let rows = next.get("/traces?limit=500").await.to_string();
        for login in logins {
            let (exchange, local) = login.await.unwrap();
            if exchange.sends == 1 && outcome(&exchange) == "reject" {
                assert!(rows.contains(&format!("\"{local}\"")), "round {round}: answered {local}, and no trace");
            }
        }
        services.push(next);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_that_is_secret_is_written_to_log_or_records() {
    let world = Northmoor::start().await;
    let typed = ines();
    world.log_in("breakwater", "ines", &typed).await;
    world.log_in("breakwater", "ines", "barnacle-and-buoy999999").await;
    world.log_in("breakwater", "sable", "whelk-at-low-water").await;
    let token = world.service.token.clone();
    let mut service = world.service;
    assert!(service.terminate());
    let mut everything = service.log();
    for entry in std::fs::read_dir(&service.data).unwrap() {
        let path = entry.unwrap().path();
        if path.file_name().unwrap() != "operator.token" && path.is_file() {
            everything.push_str(&String::from_utf8_lossy(&std::fs::read(path).unwrap()));
        }
    }
    for secret in [
        "barnacle-and-buoy",
        "whelk-at-low-water",
        super::harness::SECRET,
        "reads-the-tide-tables",
        "NFXGK4ZAMF2CATTPOJ2GQ3LPN5ZC4LRO",
        &token,
        &typed[17..],
    ] {
        assert!(!everything.contains(secret), "{secret} was written down");
    }
}
