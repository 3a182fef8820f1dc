use super::harness::text;
use std::process::Command;

#[test]
fn the_whole_example_comes_out_as_expected_and_its_exit_status_says_so() {
    let any = ["--radius", "127.0.0.1:0", "--http", "127.0.0.1:0", "--directory", "127.0.0.1:0"];
    let output = Command::new(env!("CARGO_BIN_EXE_bivector")).args(["demo", "--once", "--json"]).args(any).output().unwrap();
    let played: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap_or_else(|_| panic!("{}", text(&output.stderr)));
    assert!(output.status.success(), "{played:#}");
    let seen: Vec<String> = played
        .as_array()
        .unwrap()
        .iter()
        .map(|one| format!("{}={}", one["login"].as_str().unwrap(), one["cause"].as_str().unwrap_or("accepted")))
        .collect();
    for wanted in [
        "right password and code=accepted",
        "with domain prefix=accepted",
        "with realm suffix=accepted",
        "wrong password=password-wrong",
        "wrong code=code-wrong",
        "the same code again=code-used",
        "unknown person=person-unknown",
        "suspended group=rule-refused",
        "locked account=account-locked",
        "roster person=accepted",
        "wrong shared secret=secret-differs",
        "unregistered sender=gateway-unknown",
        "a resend in flight=accepted",
        "first directory server down=accepted",
    ] {
        assert!(seen.iter().any(|seen| seen == wanted), "{wanted} is missing in {seen:#?}");
    }
}
