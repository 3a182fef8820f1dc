use super::harness::{Northmoor, Service, code, ines, text};

#[tokio::test(flavor = "multi_thread")]
async fn one_login_from_the_command_line_shows_reply_and_waterfall() {
    let world = Northmoor::start().await;
    let typed = ines();
    let output = world.service.cli_with_input(&["login", "ines", "--via", "breakwater", "--password-file", "-"], &typed);
    let shown = text(&output.stdout);
    assert!(output.status.success(), "{shown}{}", text(&output.stderr));
    for wanted in [
        "Access-Accept after",
        "Class                control-room",
        "Vendor-32473-1       ines",
        "find person",
        "the code is correct",
        "the rule `control room` assigns the grant `control-room`",
    ] {
        assert!(shown.contains(wanted), "{wanted} in {shown}");
    }
    let refused = world.service.cli_with_input(&["login", "ines", "--via", "breakwater", "--password-file", "-"], &typed);
    assert_eq!(refused.status.code(), Some(1));
    assert!(text(&refused.stdout).contains("code-used") && text(&refused.stdout).contains("remedy:"));
    let json = world.service.cli_with_input(
        &["login", "pell", "--via", "lantern", "--password-file", "-", "--json"],
        &format!("sounding-line{}", code("pell", 0)),
    );
    let json: serde_json::Value = serde_json::from_slice(&json.stdout).unwrap();
    assert_eq!((json["reply"].as_str(), json["trace"]["origin"].as_str()), (Some("Access-Accept"), Some("rehearsal")));
}

#[tokio::test(flavor = "multi_thread")]
async fn traces_are_listed_by_every_filter_and_shown_by_reference() {
    let world = Northmoor::start().await;
    let (_, first) = world.log_in("breakwater", "ines", &ines()).await;
    world.log_in("slipway", "tomasz", "wrong").await;
    world.log_in("lantern", "ravi", "wrong").await;
    let listed = |arguments: &[&str]| -> Vec<String> {
        let rows: serde_json::Value =
            serde_json::from_str(&world.service.run(&[&["trace", "list", "--json"], arguments].concat())).unwrap();
        rows.as_array().unwrap().iter().map(|row| row["login"].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(listed(&[]), ["ravi", "tomasz", "ines"]);
    assert_eq!(listed(&["--person", "Ines"]), ["ines"]);
    assert_eq!(listed(&["--gateway", "slipway"]), ["tomasz"]);
    assert_eq!(listed(&["--chain", "contractors"]), ["ravi"]);
    assert_eq!(listed(&["--outcome", "refused"]), ["ravi", "tomasz"]);
    assert_eq!(listed(&["--cause", "password-wrong"]), ["tomasz"]);
    assert_eq!(listed(&["--limit", "1"]), ["ravi"]);
    let reference = first["reference"].as_str().unwrap();
    assert!(world.service.run(&["trace", "show", &reference.to_lowercase()]).starts_with(reference));
    for (arguments, code) in [(["trace", "show", "ZZZZZZZZ"], 1), (["trace", "list", "--limit=0"], 2)] {
        assert_eq!(world.service.cli(&arguments).status.code(), Some(code));
    }
    let wrong = world.service.cli(&["trace", "list", "--cause", "bad-luck"]);
    assert!(text(&wrong.stderr).contains("unknown cause `bad-luck`") && text(&wrong.stderr).contains("code-wrong"));
}

#[tokio::test(flavor = "multi_thread")]
async fn follow_prints_new_traces_and_ends_by_itself() {
    let world = Northmoor::start().await;
    let arguments = ["trace", "follow", "--count", "1", "--for", "20s", "--person", "ines"];
    let (http, token) = (world.service.http, world.service.token.clone());
    let child = std::process::Command::new(env!("CARGO_BIN_EXE_bivector"))
        .args(arguments)
        .env("BIVECTOR_SERVER", format!("http://{http}"))
        .env("BIVECTOR_TOKEN", token)
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    // Until it listens, logins are tried again; each is refused before a code is used.
    let waiting = tokio::task::spawn_blocking(move || child.wait_with_output().unwrap());
    while !waiting.is_finished() {
        world.log_in("slipway", "nobody", "x").await;
        world.log_in("breakwater", "ines", "wrong").await;
    }
    let shown = text(&waiting.await.unwrap().stdout);
    assert!(shown.contains("password-wrong") && shown.contains("find person") && !shown.contains("nobody"), "{shown}");
}

#[tokio::test(flavor = "multi_thread")]
async fn people_are_imported_whole_or_not_at_all() {
    let world = Northmoor::start().await;
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("people.csv");
    let path = file.to_str().unwrap();
    std::fs::write(
        &file,
        "login,source,name,totp_seed\nwren,roster,Wren Hale,GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ\ngull,nowhere,Gull,\nshag,roster,\"Shag\n",
    )
    .unwrap();
    let output = world.service.cli(&["person", "import", path]);
    let shown = text(&output.stdout);
    assert_eq!(output.status.code(), Some(1), "{shown}");
    assert!(
        shown.contains(":3, source: unknown source `nowhere`; known: tidehall, roster") && shown.contains("nothing was imported"),
        "{shown}"
    );
    assert_eq!(world.service.cli(&["person", "show", "wren"]).status.code(), Some(1), "not even the good line");
    std::fs::write(&file, "login,source,name,password,totp_seed\nwren,roster,Wren Hale,tide-turns,GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ\n")
        .unwrap();
    assert!(world.service.run(&["person", "import", "--preview", path]).contains("would import 1 person with 1 factor"));
    assert_eq!(world.service.cli(&["person", "show", "wren"]).status.code(), Some(1));
    world.service.run(&["person", "import", path]);
    let shown = world.service.run(&["person", "show", "wren"]);
    assert!(shown.contains("Wren Hale") && shown.contains("kept here, hashed") && shown.contains("6 digits every 30 s"), "{shown}");
}

#[test]
fn secrets_are_sealed_from_files_or_generated_and_listed_by_name_only() {
    let service = Service::start();
    let sealed = service.cli_with_input(&["secret", "set", "gateway/a", "--file", "-"], "typed-by-hand\n");
    assert!(sealed.status.success(), "{}", text(&sealed.stderr));
    let generated = service.run(&["secret", "set", "gateway/b", "--generate"]);
    assert!(generated.lines().next().unwrap().len() >= 28, "{generated}");
    let listed = service.run(&["secret", "list", "--json"]);
    assert!(
        listed.contains("gateway/a")
            && listed.contains("gateway/b")
            && !listed.contains("typed-by-hand")
            && !listed.contains(generated.lines().next().unwrap())
    );
    let spaces = service.cli_with_input(&["secret", "set", "gateway/c", "--file", "-"], " stray space");
    assert_eq!(spaces.status.code(), Some(1));
    assert!(text(&spaces.stderr).contains("starts or ends with white space") && !text(&spaces.stderr).contains("stray space"));
}

#[test]
fn exit_statuses_tell_no_from_wrong_use_from_unreachable() {
    let service = Service::start();
    assert_eq!(
        service.cli(&["login", "ines", "--via", "breakwater", "--password-file", "/dev/null"]).status.code(),
        Some(1),
        "no site yet"
    );
    assert_eq!(service.cli(&["no-such-command"]).status.code(), Some(2));
    let gone = service.cli(&["--server", "http://127.0.0.1:1", "trace", "list"]);
    assert_eq!(gone.status.code(), Some(3));
    assert!(text(&gone.stderr).contains("bivector serve"), "{}", text(&gone.stderr));
    let json = service.cli(&["--server", "http://127.0.0.1:1", "trace", "list", "--json"]);
    assert!(serde_json::from_slice::<serde_json::Value>(&json.stderr).unwrap()["remedy"].is_string());
}

#[test]
fn the_client_finds_its_service_by_flag_then_environment_then_file() {
    let service = Service::start();
    let home = tempfile::tempdir().unwrap();
    let token = home.path().join("token");
    std::fs::write(&token, format!("{}\n", service.token)).unwrap();
    let run = |environment: &[(&str, &str)], flags: &[&str]| {
        let mut command = std::process::Command::new(env!("CARGO_BIN_EXE_bivector"));
        command.args(["secret", "list"]).args(flags).env_clear().env("HOME", home.path()).envs(environment.iter().copied());
        let output = command.output().unwrap();
        (output.status.code(), text(&output.stderr))
    };
    let (code, said) = run(&[], &[]);
    assert!(code == Some(2) && said.contains("--token-file"), "{said}");
    let (server, file) = (format!("http://{}", service.http), token.to_str().unwrap().to_owned());
    assert_eq!(run(&[("BIVECTOR_SERVER", &server), ("BIVECTOR_TOKEN", &service.token)], &[]).0, Some(0));
    assert_eq!(
        run(&[("BIVECTOR_SERVER", "http://127.0.0.1:1"), ("BIVECTOR_TOKEN", "bvt_wrong")], &["--server", &server, "--token-file", &file]).0,
        Some(0)
    );
    std::fs::create_dir_all(home.path().join(".config/bivector")).unwrap();
    let config = home.path().join(".config/bivector/client.toml");
    std::fs::write(&config, format!("server = \"{server}\"\ntoken_file = \"{file}\"\n")).unwrap();
    assert_eq!(run(&[], &[]).0, Some(0));
    std::fs::write(&config, "sever = 1\n").unwrap();
    let (code, said) = run(&[], &[]);
    assert!(code == Some(2) && said.contains("client.toml"), "{said}");
}

#[test]
fn a_reader_that_leaves_early_ends_the_output_and_nothing_else() {
    for arguments in [&["completions", "bash"][..], &["site", "reference"], &["api-description"]] {
        let mut command = std::process::Command::new(env!("CARGO_BIN_EXE_bivector"));
        let mut child = command.args(arguments).stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped()).spawn().unwrap();
        drop(child.stdout.take());
        let output = child.wait_with_output().unwrap();
        assert!(output.status.success() && output.stderr.is_empty(), "{arguments:?}: {}", text(&output.stderr));
    }
}
