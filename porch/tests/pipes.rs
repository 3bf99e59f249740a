//! What is written goes into a pipe whose reader may have had enough.

use std::io::{BufRead, BufReader, Read};
use std::process::{Command, Stdio};

#[test]
fn a_reader_who_has_had_enough_ends_the_program_without_a_word() {
    let root = concat!(env!("CARGO_MANIFEST_DIR"), "/..");
    for arguments in [
        &["openapi"][..],
        &["complete", "bash"],
        &[
            "--json",
            "look",
            "demo/documents/sailings/reservations.wsdl",
        ],
        &["look", "demo/documents/sailings/reservations.wsdl"],
        &["check", "--rules", "sailings/quoteFare", "demo/documents"],
    ] {
        let mut child = Command::new(env!("CARGO_BIN_EXE_porch"))
            .args(arguments)
            .current_dir(root)
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        // One byte, and the pipe is closed, mostly while the rest is still to come.
        let mut out = BufReader::with_capacity(1, child.stdout.take().unwrap());
        assert!(!out.fill_buf().unwrap().is_empty(), "{arguments:?}");
        drop(out);
        let mut told = String::new();
        let mut err = child.stderr.take().unwrap();
        err.read_to_string(&mut told).unwrap();
        let code = child.wait().unwrap().code();
        assert_eq!(told, "", "{arguments:?}");
        assert!(matches!(code, Some(0 | 1)), "{arguments:?}: {code:?}");
    }
}
