//! An independent SOAP client, called against the stand-ins, agrees with the JSON that callers of the porch get.
#![allow(
    clippy::too_many_lines,
    reason = "a scenario, or a table of cases, is told in one piece"
)]

use std::io::Write;
use std::process::{Command, Stdio};

use porch_tests::{Porch, root};
use serde_json::{Value, json};

/// What the other client makes of these calls.
fn other_client(wsdl: &str, calls: Value) -> Vec<Value> {
    let script = root().join("tests/independent/soap_client.py");
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
        .write_all(
            json!({ "wsdl": wsdl, "calls": calls })
                .to_string()
                .as_bytes(),
        )
        .unwrap();
    let output = child.wait_with_output().unwrap();
    assert!(
        output.status.success(),
        "{}",
        String::from_utf8_lossy(&output.stderr)
    );
    serde_json::from_slice(&output.stdout).unwrap()
}

/// Whether the two say the same: the other client knows neither our flat lists nor the difference between nil and absent,
/// and gives numbers as texts.
fn same(other: &Value, ours: &Value) -> Result<(), String> {
    let differ = || Err(format!("{other} is not {ours}"));
    match (other, ours) {
        (Value::Object(theirs), Value::Object(mine)) => {
            for (name, value) in mine {
                let value_of = |n: &str| theirs.get(n).unwrap_or(&Value::Null);
                match name.as_str() {
                    "xsi:type" => same(value_of("__type"), value)?,
                    "value" if theirs.contains_key("_value_1") => {
                        same(value_of("_value_1"), value)?
                    }
                    _ => same(value_of(name), value).map_err(|e| format!("{name}: {e}"))?,
                }
            }
            match theirs.iter().find(|(n, v)| {
                !v.is_null()
                    && !mine.contains_key(*n)
                    && !matches!(n.as_str(), "__type" | "_value_1")
            }) {
                Some((extra, _)) => Err(format!("{extra} is missing in {ours}")),
                None => Ok(()),
            }
        }
        (Value::Array(theirs), Value::Array(mine)) if theirs.len() == mine.len() => {
            theirs.iter().zip(mine).try_for_each(|(a, b)| same(a, b))
        }
        // A wrapper that only holds a list; none of it when it is absent or empty.
        (Value::Object(theirs), Value::Array(_)) => {
            let mut inside = theirs
                .iter()
                .filter(|(n, _)| *n != "__type")
                .map(|(_, v)| v);
            match (inside.next(), inside.next()) {
                (Some(only), None) => same(only, ours),
                _ => differ(),
            }
        }
        // A nil element that has attributes by default.
        (Value::Object(theirs), Value::Null)
            if theirs.get("_value_1").is_some_and(Value::is_null) =>
        {
            Ok(())
        }
        (Value::Null, Value::Array(mine)) if mine.is_empty() => Ok(()),
        (Value::String(text), Value::Number(number)) if *text == number.to_string() => Ok(()),
        // Values by default are texts to it.
        (Value::String(text), Value::Bool(b)) if *text == b.to_string() => Ok(()),
        (a, b) if a == b => Ok(()),
        _ => differ(),
    }
}

fn agree(other: &Value, ours: &Value) {
    // It takes wrappers with one member away.
    let only = ours
        .as_object()
        .filter(|m| m.len() == 1)
        .and_then(|m| m.values().next());
    let found = same(other, ours)
        .or_else(|e| only.map_or(Err(e.clone()), |only| same(other, only).map_err(|_| e)));
    found.unwrap_or_else(|e| panic!("{e}\nother: {other}\nours: {ours}"));
}

#[test]
fn it_agrees_on_the_booking_system() {
    let (porch, key) = Porch::published();
    let wsdl = format!(
        "http://{}/reservations?wsdl",
        porch.reservations.as_ref().unwrap().address
    );
    let folder = porch.folder().join("raw");
    porch.ok(&[
        "derive",
        &wsdl,
        "-o",
        folder.to_str().unwrap(),
        "--name",
        "raw",
        "--names",
        "as-is",
    ]);
    for (name, value) in [("raw-user", "quay-desk"), ("raw-password", "tide & tackle")] {
        porch.ok_with(&["secret", "set", name], value);
    }
    porch.ok(&["push", folder.to_str().unwrap()]);
    porch.ok(&["release", "raw"]);
    let login = json!({"login": {"User": "quay-desk", "Password": "tide & tackle"}});
    let calls = [
        (
            "SearchSailings",
            json!({"From": "Farholt", "On": "2027-05-14"}),
            "/raw/v1/sailings?From=Farholt&On=2027-05-14",
        ),
        (
            "SearchSailings",
            json!({"From": "Nowhere", "On": "2027-05-14"}),
            "/raw/v1/sailings?From=Nowhere&On=2027-05-14",
        ),
        (
            "QuoteFare",
            json!({"RouteCode": "FAR-MAR", "FareClass": "cabin", "Passengers": 2}),
            "/raw/v1/fares/FAR-MAR?FareClass=cabin&Passengers=2",
        ),
        (
            "GetManifest",
            json!({"SailingId": "S-17", "Rows": 3}),
            "/raw/v1/manifests/S-17?Rows=3",
        ),
    ];
    let asked: Vec<Value> = calls.iter().map(|(operation, arguments, _)| json!({"operation": operation, "arguments": arguments, "headers": login})).collect();
    for (other, (operation, _, path)) in other_client(&wsdl, json!(asked)).iter().zip(&calls) {
        let ours = porch.call("GET", path, &key, "");
        assert_eq!(ours.status, 200, "{operation}: {}", ours.text());
        agree(&other["result"], &ours.json());
    }
    let refused = other_client(
        &wsdl,
        json!([{"operation": "QuoteFare", "arguments": {"RouteCode": "FAR-HOL", "FareClass": "car", "Passengers": 1}, "headers": login}]),
    );
    let ours = porch
        .call(
            "GET",
            "/raw/v1/fares/FAR-HOL?FareClass=car&Passengers=1",
            &key,
            "",
        )
        .json();
    assert_eq!(
        (&refused[0]["fault"]["message"], ours["status"].as_u64()),
        (&ours["detail"], Some(422))
    );
}

#[test]
fn it_agrees_on_the_cargo_desk() {
    let (porch, key) = Porch::published();
    let wsdl = format!(
        "http://{}/cargo-desk",
        porch.cargo_desk.as_ref().unwrap().address
    );
    let goods = json!([
        {"__type": "{urn:skerry-line:consignments:1}Dangerous", "what": "Petrol & oil", "weight": {"_value_1": "12.50", "unit": "t"}, "classes": ["3", "9"], "un": "1203"},
        {"__type": "{urn:skerry-line:consignments:1}General", "what": "Rope", "weight": {"_value_1": "7"}},
    ]);
    let consignment = json!({"from": "Osprey Sound", "to": "Farholt", "pallets": 3, "goods": goods, "notes": {"note": ["a", "b"]}, "priority": false});
    let found = other_client(
        &wsdl,
        json!([
            {"operation": "BookConsignment", "arguments": {"consignment": consignment}},
            {"operation": "GetConsignment", "arguments": {"number": "C-2041"}},
            {"operation": "FindConsignments", "arguments": {"from": "Farholt"}},
            {"operation": "GetConsignment", "arguments": {"number": "C-2043"}},
            {"operation": "GetConsignment", "arguments": {"number": "C-9999"}},
        ]),
    );
    assert_eq!(found[0]["result"]["number"], "C-2043", "{}", found[0]);
    // What it booked is what callers of the porch see, and the reverse.
    for (i, path) in [
        (1, "/cargo/v1/consignments/C-2041"),
        (2, "/cargo/v1/consignments?from=Farholt"),
        (3, "/cargo/v1/consignments/C-2043"),
    ] {
        let ours = porch.call("GET", path, &key, "");
        agree(&found[i]["result"], &ours.json());
    }
    let ours = porch
        .call("GET", "/cargo/v1/consignments/C-2043", &key, "")
        .text();
    assert!(
        ours.contains(r#""weight":{"unit":"t","value":12.50}"#),
        "{ours}"
    );
    assert_eq!(
        found[4]["fault"]["message"],
        porch
            .call("GET", "/cargo/v1/consignments/C-9999", &key, "")
            .json()["detail"]
    );
}
