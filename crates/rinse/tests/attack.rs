//! A little of `make attack`: kills in the middle of everything, and clients that hold connections open.

use std::path::Path;
use std::process::Command;

#[test]
fn a_short_attack_finds_nothing() {
    let binary = Path::new(env!("CARGO_BIN_EXE_rinse"));
    // Cargo builds the examples with the tests, beside the binary.
    let attack = binary.parent().unwrap().join("examples/attack");
    let out = Command::new(attack).args(["--short", "kills", "slow"]).env("RINSE_BIN", binary).output().unwrap();
    let said = String::from_utf8_lossy(&out.stdout);
    assert!(out.status.success(), "{said}{}", String::from_utf8_lossy(&out.stderr));
    assert!(said.contains("kills on the stand-ins") && said.contains("connections held open"), "{said}");
}
