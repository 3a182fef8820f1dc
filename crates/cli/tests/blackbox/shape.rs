//! The shape of the project itself: what may depend on what, and pages that are generated from the code.

use super::harness::text;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::process::Command;

const ROOT: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../..");

fn tree(package: &str) -> String {
    let output = Command::new(env!("CARGO"))
        .args(["tree", "--offline", "--edges", "normal", "--prefix", "none", "--package", package])
        .current_dir(ROOT)
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", text(&output.stderr));
    text(&output.stdout)
}

/// Our crates, the lowest first, each with those that it may use. A crate above never appears in one below.
const LAYERS: &[(&str, &[&str])] = &[
    ("wire", &[]),
    ("model", &["wire"]),
    ("push", &[]),
    ("sessions", &["wire", "model"]),
    ("eap", &["wire", "model"]),
    ("site", &["wire", "model", "push"]),
    ("core", &["wire", "model", "sessions", "site"]),
    ("timing", &["wire", "model", "site", "core"]),
    ("explain", &["wire", "model", "site", "core", "timing"]),
    ("exchange", &["wire", "eap"]),
    ("api", &["wire", "model", "sessions", "site", "core", "timing", "explain"]),
    ("store", &["wire", "model", "sessions", "site", "core", "api", "timing", "explain"]),
    ("outbound", &["wire", "model", "push", "site", "core", "api", "store"]),
    ("certificates", &["wire", "model", "site", "core", "eap", "exchange", "store", "outbound"]),
    (
        "engine",
        &["wire", "model", "sessions", "push", "site", "core", "timing", "explain", "exchange", "api", "store", "outbound", "certificates"],
    ),
    ("doors", &["wire", "model", "sessions", "site", "core", "eap", "api", "store", "certificates", "engine"]),
    ("prove", &["wire", "model", "site", "core", "timing", "explain", "exchange", "api", "store", "engine", "doors"]),
    ("manage", &["wire", "model", "site", "core", "timing", "explain", "exchange", "api", "store", "engine", "doors", "prove"]),
    ("http", &["wire", "model", "site", "core", "timing", "explain", "exchange", "api", "store", "engine", "doors", "prove", "manage"]),
    ("service", &["wire", "model", "site", "core", "api", "store", "engine", "doors", "prove", "manage", "http"]),
    ("terminal", &["wire", "model", "site", "api", "store"]),
    ("lab", &["wire", "push", "exchange"]),
    ("fuzz", &[]),
];
/// Crates that compute: no runtime, no sockets, no clock.
const PURE: [&str; 8] = ["wire", "model", "sessions", "push", "site", "core", "timing", "explain"];
/// Lines of a crate without its tests, at most.
const LINES: usize = 8000;

/// All source files of a crate, each with its text.
fn sources(folder: &Path) -> Vec<(PathBuf, String)> {
    let mut files = Vec::new();
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        let path = entry.path();
        if path.is_dir() {
            files.extend(sources(&path));
        } else if path.extension().is_some_and(|end| end == "rs") {
            let text = std::fs::read_to_string(&path).unwrap();
            files.push((path, text));
        }
    }
    files
}

fn crate_sources(name: &str) -> Vec<(PathBuf, String)> {
    sources(Path::new(&format!("{ROOT}/crates/{name}/src")))
}

/// Whether a file holds nothing but tests.
fn is_test(path: &Path) -> bool {
    let name = path.file_stem().unwrap().to_string_lossy();
    name == "tests" || name.ends_with("_tests")
}

/// Names of our crates that a text mentions.
fn mentioned(text: &str) -> BTreeSet<&str> {
    text.split("bivector_").skip(1).filter_map(|rest| Some(rest.split_once("::")?.0)).collect()
}

#[test]
fn the_computation_depends_on_no_runtime_no_sockets_and_no_clock_of_its_own() {
    for package in PURE {
        let tree = tree(&format!("bivector-{package}"));
        for forbidden in ["tokio", "mio", "socket2", "rusqlite", "reqwest", "axum", "hyper", "getrandom"] {
            assert!(!tree.lines().any(|line| line.starts_with(&format!("{forbidden} v"))), "{package} depends on {forbidden}:\n{tree}");
        }
    }
}

#[test]
fn no_crate_uses_one_above_it() {
    for (name, below) in LAYERS {
        for (path, text) in crate_sources(name) {
            for other in mentioned(&text).into_iter().filter(|other| LAYERS.iter().any(|(known, _)| known == other)) {
                assert!(other == *name || below.contains(&other), "{} uses {other}, which is not below {name}", path.display());
            }
        }
    }
    for (path, text) in crate_sources("cli") {
        for other in mentioned(&text).into_iter().filter(|other| LAYERS.iter().any(|(known, _)| known == other)) {
            let shared = PURE.contains(&other) || ["api", "exchange", "lab", "service", "terminal"].contains(&other);
            assert!(shared, "{} uses {other}; the command line talks to the service through the API", path.display());
        }
    }
    let at = |name: &str| LAYERS.iter().position(|(known, _)| *known == name).unwrap();
    for (name, below) in LAYERS {
        assert!(below.iter().all(|other| at(other) < at(name)), "{name} is listed before something that it uses");
    }
    let crates = std::fs::read_dir(format!("{ROOT}/crates")).unwrap().flatten();
    let listed = |name: &str| name == "cli" || LAYERS.iter().any(|(known, _)| *known == name);
    let missing: Vec<_> = crates.map(|one| one.file_name().to_string_lossy().into_owned()).filter(|name| !listed(name)).collect();
    assert!(missing.is_empty(), "not among the layers: {missing:?}");
}

#[test]
fn the_login_machine_knows_no_protocol() {
    let machine = sources(Path::new(&format!("{ROOT}/crates/core/src/login")));
    for (path, text) in machine.iter().filter(|(path, _)| !is_test(path)) {
        for packets in ["crate::radius", "Packet::", "Authentic::", "Message::", "hide_password", "sign_reply"] {
            assert!(!text.contains(packets), "{} mentions `{packets}`; packets belong to the door", path.display());
        }
    }
}

#[test]
fn no_crate_is_too_large_to_know() {
    for (name, _) in LAYERS.iter().chain(&[("cli", &[][..])]) {
        let product = |text: &str| text.split("\n#[cfg(test)]\nmod tests {").next().unwrap_or_default().lines().count();
        let lines: usize = crate_sources(name).iter().filter(|(path, _)| !is_test(path)).map(|(_, text)| product(text)).sum();
        assert!(lines <= LINES, "{name} has {lines} lines; {LINES} are the most");
    }
}

#[test]
fn generated_pages_are_those_of_this_code() {
    let pages = [
        ("docs/site-file.md", &["site", "reference"][..]),
        ("docs/methods.md", &["site", "methods"]),
        ("docs/openapi.json", &["api-description"]),
    ];
    for (page, arguments) in pages {
        let now = Command::new(env!("CARGO_BIN_EXE_bivector")).args(arguments).output().unwrap();
        let kept = std::fs::read_to_string(format!("{ROOT}/{page}")).unwrap();
        assert!(kept.trim() == text(&now.stdout).trim(), "{page} is older than the code: run `make reference`");
    }
}

#[test]
fn the_consoles_lock_file_names_no_download_addresses() {
    let lock = std::fs::read_to_string(format!("{ROOT}/console/package-lock.json")).unwrap();
    assert!(!lock.contains("\"resolved\""));
}
