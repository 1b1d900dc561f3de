//! The Debian package, as it would be installed.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use std::path::Path;
use std::process::Command;

use common::{Bench, PROGRAM};

#[test]
fn the_debian_package_holds_a_program_that_runs_its_manual_and_its_completions() {
    let bench = Bench::new();
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let out = Command::new(root.join("scripts/package-deb"))
        .arg(bench.dir.path())
        .env("HOLLOW_MILE_BIN", PROGRAM)
        .output()
        .unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    let package = String::from_utf8(out.stdout).unwrap().trim().to_owned();
    let field = |name: &str| {
        let out = Command::new("dpkg-deb").args(["-f", &package, name]).output().unwrap();
        String::from_utf8(out.stdout).unwrap().trim().to_owned()
    };
    assert_eq!(
        (field("Package").as_str(), field("Version").as_str()),
        ("hollow-mile", env!("CARGO_PKG_VERSION"))
    );
    let tree = bench.dir.path().join("root");
    assert!(Command::new("dpkg-deb").arg("-x").arg(&package).arg(&tree).status().unwrap().success());
    let installed = tree.join("usr/bin/hollow-mile");
    let said = Command::new(&installed)
        .args(["sim", "list"])
        .env("HOLLOW_MILE_HOME", bench.path("home"))
        .output()
        .unwrap();
    assert!(said.status.success() && String::from_utf8_lossy(&said.stdout).contains("corrie-2t"));
    for file in [
        "usr/share/man/man1/hollow-mile.1.gz",
        "usr/share/bash-completion/completions/hollow-mile",
        "usr/share/doc/hollow-mile/copyright",
        "usr/lib/systemd/user/hollow-mile-fleet.service",
    ] {
        assert!(std::fs::metadata(tree.join(file)).is_ok_and(|m| m.len() > 100), "{file}");
    }
    // Nothing but the C library and the compiler's own is needed.
    let needs = Command::new("ldd").arg(&installed).output().unwrap();
    let needs = String::from_utf8_lossy(&needs.stdout).into_owned();
    let own = ["linux-vdso", "libgcc_s", "libc.so", "libm.so", "ld-linux"];
    let other: Vec<&str> = needs.lines().filter(|l| !own.iter().any(|o| l.contains(o))).collect();
    assert!(other.is_empty(), "{other:?}");
}
