//! The shape of the project itself: what may depend on what, and pages that are generated from the code.

use super::harness::text;
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

#[test]
fn the_computation_depends_on_no_runtime_no_sockets_and_no_clock_of_its_own() {
    for package in ["bivector-wire", "bivector-core"] {
        let tree = tree(package);
        for forbidden in ["tokio", "mio", "socket2", "rusqlite", "reqwest", "axum", "hyper", "getrandom"] {
            assert!(!tree.lines().any(|line| line.starts_with(&format!("{forbidden} v"))), "{package} depends on {forbidden}:\n{tree}");
        }
    }
}

#[test]
fn dependencies_between_our_crates_point_one_way() {
    let needs = |package: &str, other: &str| tree(package).lines().skip(1).any(|line| line.starts_with(&format!("{other} v")));
    assert!(!needs("bivector-wire", "bivector-core"));
    assert!(!needs("bivector-core", "bivector-exchange"));
    assert!(!needs("bivector-exchange", "bivector-core"));
    assert!(!needs("bivector-lab", "bivector-service") && !needs("bivector-service", "bivector-lab"));
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
        assert_eq!(kept.trim(), text(&now.stdout).trim(), "{page} is older than the code: run `make reference`");
    }
}

#[test]
fn the_consoles_lock_file_names_no_download_addresses() {
    let lock = std::fs::read_to_string(format!("{ROOT}/console/package-lock.json")).unwrap();
    assert!(!lock.contains("\"resolved\""));
}
