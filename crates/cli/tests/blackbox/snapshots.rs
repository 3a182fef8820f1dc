//! What commands print, whole, held as snapshots beside this file. After an intended change: `INSTA_UPDATE=always cargo test …`, then read
//! the difference.

use super::harness::{Northmoor, Service, text};
use insta::{Settings, assert_snapshot};

/// What differs from run to run is replaced.
fn settled() -> insta::internals::SettingsBindDropGuard {
    let mut settings = Settings::clone_current();
    for (pattern, shown) in [
        (r"/tmp/\.tmp\w+", "FOLDER"),
        (r"(127\.0\.0\.\d+|\[::1\]|localhost):\d{5}", "$1:PORT"),
        (r"\d{4}-\d\d-\d\d[ T]\d\d:\d\d:\d\d(\.\d+Z)?", "TIME"),
        (r"port \d{5}", "port PORT"),
        (r"[ \t]+\n", "\n"),
    ] {
        settings.add_filter(pattern, shown);
    }
    settings.set_omit_expression(true);
    settings.set_prepend_module_to_snapshot(false);
    settings.bind_to_scope()
}

/// The help of a command and of every command below it.
fn help(service: &Service, path: &[&str], all: &mut String) {
    let output = service.cli(&[path, &["--help"]].concat());
    assert!(output.status.success(), "{path:?}");
    let said = text(&output.stdout);
    // Every command ends with the same options of the client; they are shown once.
    let own = if path.len() == 1 { said.as_str() } else { said.split("\nService:\n").next().unwrap_or_default() };
    all.push_str(&format!("===== bivector {}\n{own}\n", path.join(" ")));
    let below = said.split("\nCommands:\n").nth(1).map(|rest| rest.split("\n\n").next().unwrap_or_default()).unwrap_or_default();
    for line in below.lines().filter(|line| line.starts_with("  ") && !line.starts_with("   ")) {
        let name = line.split_whitespace().next().unwrap();
        if name != "help" {
            help(service, &[path, &[name]].concat(), all);
        }
    }
}

#[test]
fn the_help_of_every_command_is_as_it_was_read_last() {
    let (service, _settled) = (Service::start(), settled());
    let top = text(&service.cli(&["--help"]).stdout);
    let commands = top.split("\nCommands:\n").nth(1).unwrap().split("\n\n").next().unwrap();
    let names = commands.lines().filter(|line| line.starts_with("  ") && !line.starts_with("   "));
    let mut count = 0;
    for name in names.filter_map(|line| line.split_whitespace().next()).filter(|name| *name != "help") {
        let mut all = String::new();
        help(&service, &[name], &mut all);
        assert_snapshot!(format!("help-{name}"), all);
        count += 1;
    }
    assert!(count > 20, "{count}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_printed_about_the_demos_site_is_as_it_was_read_last() {
    let (world, folder, _settled) = (Northmoor::start().await, tempfile::tempdir().unwrap(), settled());
    let file = |name: &str, text: &str| {
        let path = folder.path().join(name);
        std::fs::write(&path, text).unwrap();
        path.to_str().unwrap().to_owned()
    };
    let mistakes = world.site.replacen("methods", "metods", 1).replacen("\"roster\"", "\"rooster\"", 1).replacen(
        "secret = \"gateway/lantern\"",
        "secret = \"gateway/lanten\"",
        1,
    );
    let weaker = world.site.replacen("second = [\"totp\"]", "second = []", 1).replacen(
        "forms = [\"password code(6)\", \"password\"]",
        "forms = [\"password\"]",
        1,
    );
    let (mistakes, weaker) = (file("mistakes.toml", &mistakes), file("weaker.toml", &weaker));
    for (name, arguments) in [
        ("site-check", &["site", "check", mistakes.as_str()][..]),
        ("site-compare", &["site", "compare", weaker.as_str()]),
        ("who", &["who", "staff"]),
        ("rule-try", &["rule", "try", "--chain", "staff", "--group", "turbine-crew", "--group", "remote-suspended"]),
        ("budget", &["budget", "watch", "--via", "slipway", "--set", "slipway.wait=5s"]),
        ("budget-suggest", &["budget", "watch", "--via", "slipway", "--set", "slipway.wait=5s", "--suggest"]),
        ("gateway-handover", &["gateway", "handover", "breakwater"]),
        ("person-list", &["person", "list"]),
        ("secret-list", &["secret", "list"]),
    ] {
        let output = world.service.cli(arguments);
        let said = format!("{}{}", text(&output.stdout), text(&output.stderr));
        assert_snapshot!(name, said);
    }
}
