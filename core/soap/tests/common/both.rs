//! Both ways from JSON to an envelope, which must never differ.
#![allow(unreachable_pub, reason = "each test file uses it in its own place")]

use porch_soap::tree::Json;
use porch_soap::{Envelope, TextError, WriteError};

/// The envelope of a JSON text, by way of a tree; the way without one is held against it.
pub fn written(envelope: &Envelope, text: &[u8]) -> Result<String, Vec<WriteError>> {
    let (mut straight, mut by_tree) = (b"before".to_vec(), b"before".to_vec());
    let straight_ended = envelope.write_text(text, None, &[], &mut straight);
    let tree_ended = match Json::parse(text) {
        Ok(value) => envelope
            .write_with(&value, None, &[], &mut by_tree)
            .map_err(TextError::Values),
        Err(e) => Err(TextError::Json(e)),
    };
    let shown = || String::from_utf8_lossy(text);
    assert_eq!(straight_ended, tree_ended, "{}", shown());
    match tree_ended {
        Ok(()) => {
            let mut straight = String::from_utf8(straight).expect("UTF-8");
            assert_eq!(straight.as_bytes(), by_tree, "{}: {straight}", shown());
            Ok(straight.split_off("before".len()))
        }
        Err(TextError::Values(errors)) => Err(errors),
        Err(TextError::Json(_)) => Err(Vec::new()),
    }
}
