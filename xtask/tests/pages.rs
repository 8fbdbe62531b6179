//! The pages that are made from the code are what the code says.

use std::process::Command;

/// Runs the program as built for this test; what it says when it fails is the failure.
fn up_to_date(what: &str) {
    let done = Command::new(env!("CARGO_BIN_EXE_xtask")).args([what, "--check"]).output().expect("it runs");
    assert!(done.status.success(), "{what}: {}", String::from_utf8_lossy(&done.stderr));
}

#[test]
fn the_page_of_findings_is_made_from_the_catalogue() {
    up_to_date("findings");
}

#[test]
fn the_drawing_of_the_rooms_is_made_from_the_code() {
    up_to_date("rooms");
}
