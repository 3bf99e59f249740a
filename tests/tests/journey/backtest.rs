//! A limit that is tried with what was called.

use super::callers::BERTHS;
use super::*;

#[test]
fn a_tighter_limit_is_tried_with_what_was_called_before_anybody_is_refused() {
    let (porch, key) = Porch::published();
    for _ in 0..6 {
        assert_eq!(porch.call("GET", BERTHS, &key, "").status, 200);
    }
    let tested = |arguments: &[&str]| {
        let all = [&["--json", "backtest", "berths"][..], arguments].concat();
        let output = porch.client(&all, "");
        let told: Value = serde_json::from_slice(&output.stdout).unwrap_or_default();
        (output.status.code(), told)
    };
    // Usage is written down a moment later.
    let mut last = (None, Value::Null);
    porch_tests::wait_until("the calls to be recorded", || {
        last = tested(&[]);
        last.1["calls"] == 6
    });
    let (code, told) = last;
    assert_eq!(code, Some(0), "{told}");
    let limits = told["limits"].as_array().unwrap();
    assert_eq!(limits.len(), 2, "{told}");
    assert!(
        limits.iter().all(|l| l["calls"] == 6 && l["refused"] == 0),
        "{told}"
    );
    // The same with a document that is sent along, and changes nothing.
    let folder = porch.folder().join("tighter/berths");
    std::fs::create_dir_all(&folder).unwrap();
    let text = std::fs::read_to_string(porch.documents.join("berths/berths.facade.yaml")).unwrap();
    let tighter = text
        .replace(
            "=terms.?requests.orValue(20)",
            "=terms.?requests.orValue(4)",
        )
        .replace("requests: 40, each: month", "requests: 5, each: month");
    assert_ne!(text, tighter);
    std::fs::write(folder.join("berths.facade.yaml"), tighter).unwrap();
    let changed = porch.folder().join("tighter");
    let (code, told) = tested(&[changed.to_str().unwrap()]);
    assert_eq!(code, Some(1), "{told}");
    let refused = |rule: &str| {
        let all = told["limits"].as_array().unwrap();
        let found = all
            .iter()
            .find(|l| l["rule"].as_str().unwrap().starts_with(rule));
        found.unwrap().clone()
    };
    let quota = refused("quota 5");
    assert_eq!(
        (&quota["refused"], &quota["whose"][0]["name"]),
        (&json!(1), &json!("Quayside Kiosk"))
    );
    // Calls of a minute are spread over it: six of them come close enough for four, unless they came in two.
    let limit = refused("limit =terms");
    assert!(limit["refused"].as_u64().unwrap() <= 2, "{limit}");
    // People read the same, and nobody was refused.
    let shown = porch.client(&["backtest", "berths", changed.to_str().unwrap()], "");
    let shown = String::from_utf8_lossy(&shown.stdout).into_owned();
    assert!(
        shown.contains("1 of 6 calls would have been refused"),
        "{shown}"
    );
    assert_eq!(porch.call("GET", BERTHS, &key, "").status, 200);
    assert_eq!(tested(&["--days", "0"]).0, Some(1));
    assert_eq!(
        porch.client(&["backtest", "nothing"], "").status.code(),
        Some(1)
    );
}
