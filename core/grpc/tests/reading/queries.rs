//! Values of fields from texts, and numbers of enums.

use super::*;
use porch_grpc::Given;

#[test]
fn a_field_is_given_once_by_whichever_name_and_one_of_a_oneof() {
    let d = one(r#"syntax = "proto3"; package q;
        message Place { oneof kind { string port_name = 1; int32 depth = 2; } string sea = 3; }
        message M {
          string home_port = 1 [json_name = "Harbour"];
          oneof drive { string sail = 2; int32 engines = 3; Place towed_from = 4; }
          oneof other { string flag = 5; string mark = 6; }
          Place place = 7;
        }
        service S { rpc Get(M) returns (M); }"#);
    let id = d.types.find("q.M").unwrap();
    let told = |paths: &[&str]| {
        let mut given = Given::default();
        let all = paths.iter().map(|path| given.add(&d.types, id, path));
        let last: Result<Vec<()>, _> = all.collect();
        last.map_err(|e| e.to_string()).err().unwrap_or_default()
    };
    for fine in [
        &["home_port", "sail", "flag", "place.sea", "place.depth"][..],
        &[
            "towed_from.sea",
            "towed_from.portName",
            "mark",
            "place.port_name",
        ],
    ] {
        assert_eq!(told(fine), "", "{fine:?}");
    }
    for (paths, says) in [
        (
            &["home_port", "Harbour"][..],
            "is the same field as “home_port”",
        ),
        (
            &["place.portName", "place.port_name"],
            "is the same field as “place.portName”",
        ),
        (
            &["sail", "engines"],
            "cannot stand beside “sail”: only one of them has a value",
        ),
        (
            &["engines", "towedFrom.sea"],
            "cannot stand beside “engines”: only one of them has a value",
        ),
        (
            &["place.port_name", "place.depth"],
            "cannot stand beside “place.port_name”: only one of them has a value",
        ),
    ] {
        assert_eq!(told(paths), says, "{paths:?}");
    }
    assert!(told(&["home_port.x"]).contains("holds no fields"));
}

#[test]
fn a_closed_enum_takes_its_own_numbers_only_and_an_open_one_takes_any() {
    let d = one(r#"syntax = "proto2"; package c;
        enum Sea { CALM = 1; ROUGH = -2; }
        message M { optional Sea sea = 1; repeated Sea seas = 2; map<string, Sea> by_port = 3; }
        service S { rpc Get(M) returns (M); }"#);
    let id = d.types.find("c.M").unwrap();
    let wire = |text: &str| {
        let mut wire = Vec::new();
        let options = JsonOptions::default();
        let made = d.types.to_wire(id, text.as_bytes(), options, &mut wire);
        made.map_err(|e| e.to_string())
    };
    for fine in [
        r#"{"sea": 1}"#,
        r#"{"sea": -2}"#,
        r#"{"seas": [1, "ROUGH", -2]}"#,
    ] {
        assert_eq!(wire(fine), Ok(()), "{fine}");
    }
    for bad in [
        r#"{"sea": 7}"#,
        r#"{"seas": [1, 0]}"#,
        r#"{"byPort": {"MAR": 99}}"#,
    ] {
        let told = wire(bad).unwrap_err();
        assert!(
            told.contains("is no number of c.Sea, which takes no others"),
            "{bad}: {told}"
        );
    }
    let open = one(
        r#"syntax = "proto3"; package o; enum Sea { NONE = 0; } message M { Sea sea = 1; }
        service S { rpc Get(M) returns (M); }"#,
    );
    assert_eq!(round(&open, "o.M", r#"{"sea": 7}"#), r#"{"sea":7}"#);
}

fn bound(d: &porch_grpc::Definition, message: &str, path: &str, text: &str) -> String {
    let id = d.types.find(message).unwrap();
    let mut wire = Vec::new();
    if let Err(e) = d.types.bind(id, path, &[text], &mut wire) {
        return e.to_string();
    }
    let mut out = Vec::new();
    d.types
        .to_json(id, &wire, JsonOptions::default(), &mut out)
        .unwrap();
    String::from_utf8(out).unwrap()
}

#[test]
fn masks_and_extensions_are_read_by_either_name_of_their_fields() {
    let d = one(
        r#"syntax = "proto2"; package q; import "google/protobuf/field_mask.proto";
        message N { optional string x = 1; extensions 10 to 20; }
        message M { optional google.protobuf.FieldMask mask = 1; optional N inner = 2; extensions 100 to 200; }
        extend M { optional int32 later = 100; }
        message Scope { extend N { optional string note = 10; } }
        service S { rpc Get(M) returns (M); }"#,
    );
    for (path, text, expected) in [
        (
            "mask",
            "homePort,vessel.callSign",
            r#"{"mask":"homePort,vessel.callSign"}"#,
        ),
        (
            "mask",
            "home_port,vessel.call_sign",
            r#"{"mask":"homePort,vessel.callSign"}"#,
        ),
        (
            "mask",
            "a,home_port,callSign",
            r#"{"mask":"a,homePort,callSign"}"#,
        ),
        ("[q.later]", "7", r#"{"[q.later]":7}"#),
        (
            "inner.[q.Scope.note]",
            "low tide",
            r#"{"inner":{"[q.Scope.note]":"low tide"}}"#,
        ),
        (
            "[q.latr]",
            "7",
            "is not known here; did you mean “[q.later]”?",
        ),
        ("[q.later", "7", "is not known here"),
    ] {
        let told = bound(&d, "q.M", path, text);
        assert!(told.starts_with(expected), "{path}={text}: {told}");
    }
}

#[test]
fn messages_without_a_json_form_of_their_own_stand_among_the_members_of_any() {
    let d = one(
        r#"syntax = "proto3"; package q; import "google/protobuf/any.proto"; import "google/protobuf/empty.proto"; import "google/protobuf/duration.proto";
        message Plain { string name = 1; }
        message Own { string value = 1; }
        message M { google.protobuf.Any a = 1; google.protobuf.Empty e = 2; google.protobuf.Duration d = 3; }
        service S { rpc Get(M) returns (M); }"#,
    );
    let both = |name: &str, given: &str, wanted: &str| {
        let text = |rest: &str| format!(r#"{{"a":{{"@type":"x/{name}"{rest}}}}}"#);
        assert_eq!(round(&d, "q.M", &text(given)), text(wanted));
    };
    both("google.protobuf.Empty", "", "");
    both("google.protobuf.Empty", r#","value":{}"#, "");
    both("q.Plain", r#","name":"Oyster""#, r#","name":"Oyster""#);
    both(
        "q.Plain",
        r#","value":{"name":"Oyster"}"#,
        r#","name":"Oyster""#,
    );
    both("q.Own", r#","value":"Oyster""#, r#","value":"Oyster""#);
    both(
        "google.protobuf.Duration",
        r#","value":"1s""#,
        r#","value":"1s""#,
    );
    let wrong = |rest: &str| {
        let id = d.types.find("q.M").unwrap();
        let text = format!(r#"{{"a":{{"@type":"x/google.protobuf.Empty"{rest}}}}}"#);
        let options = JsonOptions::default();
        let e = d
            .types
            .to_wire(id, text.as_bytes(), options, &mut Vec::new());
        e.unwrap_err().to_string()
    };
    assert!(wrong(r#","value":7"#).contains("must be an object"));
    assert!(wrong(r#","other":7"#).contains("other"));
}
