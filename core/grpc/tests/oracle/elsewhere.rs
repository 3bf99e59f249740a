//! The reference in another language.

use super::*;

/// What another implementation of the mapping, in another language, says of messages and our JSON for them.
fn elsewhere(cases: &[(Vec<u8>, Vec<u8>)]) -> Vec<serde_json::Value> {
    use base64::Engine;
    use std::io::Write;
    use std::process::{Command, Stdio};
    let encode = |bytes: &[u8]| base64::engine::general_purpose::STANDARD.encode(bytes);
    let cases: Vec<serde_json::Value> = cases.iter().map(|(wire, json)| serde_json::json!({"wire": encode(wire), "json": String::from_utf8_lossy(json)})).collect();
    let asked = serde_json::json!({"descriptors": encode(&SETUP.pool.encode_to_vec()), "type": "skerry.test.v1.Everything", "cases": cases});
    let script = concat!(
        env!("CARGO_MANIFEST_DIR"),
        "/tests/independent/protobuf_json.py"
    );
    let mut child = Command::new("/usr/bin/python3")
        .arg(script)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    child
        .stdin
        .take()
        .unwrap()
        .write_all(asked.to_string().as_bytes())
        .unwrap();
    let output = child.wait_with_output().unwrap();
    assert!(
        output.status.success(),
        "{}",
        String::from_utf8_lossy(&output.stderr)
    );
    serde_json::from_slice(&output.stdout).unwrap()
}

#[test]
fn another_implementation_in_another_language_agrees() {
    use proptest::strategy::ValueTree;
    use proptest::test_runner::TestRunner;
    use prost::Message;
    let types = &SETUP.ours.types;
    let id = types.find("skerry.test.v1.Everything").unwrap();
    let mut runner = TestRunner::deterministic();
    let strategy = everything(3);
    let made: Vec<(Vec<u8>, Vec<u8>)> = (0..300)
        .map(|_| {
            let wire = strategy
                .new_tree(&mut runner)
                .unwrap()
                .current()
                .0
                .encode_to_vec();
            let mut json = Vec::new();
            types
                .to_json(id, &wire, JsonOptions::default(), &mut json)
                .unwrap();
            (wire, json)
        })
        // The largest float's shortest digits are a little more than it, as a double; the other refuses them.
        .filter(|(_, json)| !String::from_utf8_lossy(json).contains("3.4028235e38"))
        .collect();
    let told = elsewhere(&made);
    assert!(told.len() > 250 && told.len() == made.len());
    for ((_, json), told) in made.iter().zip(told) {
        let ours = String::from_utf8_lossy(json);
        assert_eq!(told["error"], "", "{ours}");
        let theirs: serde_json::Value =
            serde_json::from_str(told["json"].as_str().unwrap()).unwrap();
        assert_eq!(plain(serde_json::from_slice(json).unwrap()), plain(theirs));
        assert_eq!(told["same"], true, "{ours} is read as another message");
    }
}
