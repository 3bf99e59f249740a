//! Reading: one case for each oddity that real definitions have.
#![allow(
    clippy::too_many_lines,
    reason = "a scenario, or a table of cases, is told in one piece"
)]

mod hostile;
mod queries;
mod shapes;
mod trees;

use std::collections::BTreeMap;

use porch_contract::Severity;
use porch_grpc::propose::shapes;
use porch_grpc::read::{as_text, descriptor_set, is_definition, is_proto, missing_imports, only};
use porch_grpc::{Definition, Files, JsonOptions, Schemas, read};
use prost_reflect::DescriptorPool;
use serde_json::{Value, json};

fn files(all: &[(&str, &str)]) -> Files {
    all.iter()
        .map(|(n, t)| ((*n).to_owned(), (*t).to_owned()))
        .collect()
}

fn one(text: &str) -> Definition {
    read(&files(&[("a.proto", text)]), &|_, _| ()).unwrap()
}

fn round(d: &Definition, message: &str, text: &str) -> String {
    let id = d.types.find(message).unwrap();
    let mut wire = Vec::new();
    d.types
        .to_wire(id, text.as_bytes(), JsonOptions::default(), &mut wire)
        .unwrap();
    let mut out = Vec::new();
    d.types
        .to_json(id, &wire, JsonOptions::default(), &mut out)
        .unwrap();
    String::from_utf8(out).unwrap()
}

const EDITION: &str = r#"// The first words are a comment.
edition = "2023";
package ed;
option features.field_presence = IMPLICIT;
enum Open { ZERO = 0; ONE = 1; }
message M {
  string plain = 1;
  int32 known = 2 [features.field_presence = EXPLICIT];
  repeated int32 spread = 3 [features.repeated_field_encoding = EXPANDED];
  Open open = 4;
  M inner = 5 [features.message_encoding = DELIMITED];
  string must = 6 [features.field_presence = LEGACY_REQUIRED];
}
service S { rpc Get(M) returns (M); }
"#;

#[test]
fn files_of_an_edition_mean_what_their_features_say() {
    let d = one(EDITION);
    assert_eq!(d.findings, []);
    let m = d.types.message(d.types.find("ed.M").unwrap());
    let shown: Vec<(bool, bool, bool)> = m
        .fields
        .iter()
        .map(|f| (f.presence, f.packed, f.required))
        .collect();
    assert_eq!(
        shown,
        [
            (false, false, false),
            (true, false, false),
            (false, false, false),
            (false, false, false),
            (true, false, false),
            (true, false, true)
        ]
    );
    // An inner message stands between group tags: field 5, start 43, end 44.
    let mut wire = Vec::new();
    d.types
        .to_wire(
            d.types.find("ed.M").unwrap(),
            br#"{"inner": {"plain": "x", "must": ""}, "must": "y", "spread": [1, 2]}"#,
            JsonOptions::default(),
            &mut wire,
        )
        .unwrap();
    assert_eq!(
        wire,
        [43, 0x0a, 1, b'x', 0x32, 0, 44, 0x32, 1, b'y', 24, 1, 24, 2]
    );
    let later = one(&EDITION
        .replace("2023", "2024")
        .replace("option features.field_presence = IMPLICIT;\n", ""));
    assert!(
        later
            .types
            .message(later.types.find("ed.M").unwrap())
            .fields[0]
            .presence,
        "explicit by default"
    );
    let unknown = read(
        &files(&[("a.proto", &EDITION.replace("2023", "2042"))]),
        &|_, _| (),
    );
    assert!(unknown.is_err());
}

#[test]
fn a_descriptor_set_is_read_as_bytes_and_as_text_and_cut_to_what_is_wanted() {
    let dir = tempfile::tempdir().unwrap();
    std::fs::write(
        dir.path().join("b.proto"),
        "syntax = \"proto3\"; package b; message B { string text = 1; }",
    )
    .unwrap();
    std::fs::write(dir.path().join("a.proto"), "syntax = \"proto3\"; package a; import \"b.proto\"; service A { rpc Get(b.B) returns (b.B); }").unwrap();
    std::fs::write(
        dir.path().join("c.proto"),
        "syntax = \"proto3\"; package c; message C {} service Other { rpc Get(C) returns (C); }",
    )
    .unwrap();
    let mut compiler = protox::Compiler::new([dir.path()]).unwrap();
    compiler
        .include_imports(true)
        .open_files(["a.proto", "c.proto"])
        .unwrap();
    let bytes = compiler.encode_file_descriptor_set();
    let text = as_text(&bytes);
    assert!(text.lines().all(|l| l.len() <= 76) && is_definition(&text));
    assert_eq!(descriptor_set(&text).unwrap(), bytes);
    let d = read(&files(&[("all.txt", &text)]), &|_, _| ()).unwrap();
    assert_eq!(
        d.methods().map(|m| m.full.as_str()).collect::<Vec<_>>(),
        ["a.A/Get", "c.Other/Get"]
    );
    let cut = read(
        &files(&[("all.txt", &only(&text, &["a.proto"]))]),
        &|_, _| (),
    )
    .unwrap();
    assert_eq!(
        cut.methods().map(|m| m.full.as_str()).collect::<Vec<_>>(),
        ["a.A/Get"]
    );
    assert!(cut.types.find("b.B").is_some() && cut.types.find("c.C").is_none());
    // What is base64 of something else is no definition; neither is a cut set.
    assert!(descriptor_set("aGVsbG8gd29ybGQsIGhvdyBhcmUgeW91").is_none());
    assert!(
        read(
            &files(&[("x", "aGVsbG8gd29ybGQsIGhvdyBhcmUgeW91")]),
            &|_, _| ()
        )
        .is_err()
    );
    DescriptorPool::decode(
        descriptor_set(&only(&text, &["a.proto"]))
            .unwrap()
            .as_slice(),
    )
    .unwrap();
}

#[test]
fn rules_from_a_service_configuration_win_over_those_in_the_file() {
    let proto = r#"syntax = "proto3"; package p; import "google/api/annotations.proto";
        message M { string name = 1; }
        service S { rpc Get(M) returns (M) { option (google.api.http) = { get: "/old/{name}" }; } rpc Plain(M) returns (M); }"#;
    let config = "type: google.api.Service\nconfig_version: 3\nhttp:\n  rules:\n    - selector: p.S.Get\n      get: /v1/{name=things/*}\n      additional_bindings:\n        - post: /v1/things:find\n          body: '*'\n    - selector: p.S.Gone\n      get: /x\n    - get: /y\n";
    let d = read(
        &files(&[("p.proto", proto), ("service.yaml", config)]),
        &|_, _| (),
    )
    .unwrap();
    let all: Vec<String> = shapes(&d)
        .iter()
        .map(|s| format!("{} {} {} {}", s.id, s.method, s.path, s.body))
        .collect();
    assert_eq!(
        all,
        [
            "get GET /v1/things/{thing} ",
            "get2 POST /v1/things:find *",
            "plain POST /plain *"
        ]
    );
    let told: Vec<&str> = d.findings.iter().map(|f| f.message.as_str()).collect();
    assert!(
        told.iter().any(|m| m.contains("p.S.Gone"))
            && told.iter().any(|m| m.contains("without `selector`")),
        "{told:?}"
    );
    assert!(
        d.used["p.proto"].contains("service.yaml"),
        "the configuration belongs to the definition"
    );
}

#[test]
fn imports_are_found_whatever_folder_they_are_relative_to() {
    let d = read(
        &files(&[
            ("proto/skerry/a.proto", "syntax = \"proto3\"; package s; import \"skerry/types/b.proto\"; service A { rpc Get(B) returns (B); }"),
            ("proto/skerry/types/b.proto", "syntax = \"proto3\"; package s; message B { string t = 1; }"),
            ("third/vendor/c.proto", "syntax = \"proto3\"; package c; message C {}"),
        ]),
        &|_, _| (),
    )
    .unwrap();
    assert_eq!(d.findings, []);
    assert_eq!(
        d.used["skerry/a.proto"]
            .iter()
            .map(String::as_str)
            .collect::<Vec<_>>(),
        ["proto/skerry/a.proto", "proto/skerry/types/b.proto"]
    );
    assert!(
        !d.used.contains_key("third/vendor/c.proto"),
        "what no service needs is not compiled"
    );
    assert_eq!(
        missing_imports(
            "syntax = \"proto3\"; /* import \"x.proto\"; */ import public 'y.proto'; import \"google/api/http.proto\"; // import \"z.proto\";"
        ),
        ["y.proto"]
    );
}

#[test]
fn names_that_are_odd() {
    let d = one(r#"syntax = "proto3"; package n;
        message M { string foo_bar = 1; string _under = 3; string a__b = 4; string x1_y2 = 5; string other = 6 [json_name = "Über-\"Name\""]; string renamed = 7 [json_name = "fooBar2"]; }
        service S { rpc Get(M) returns (M); }"#);
    assert_eq!(
        round(
            &d,
            "n.M",
            r#"{"fooBar": "a", "Under": "c", "aB": "d", "x1Y2": "e", "Über-\"Name\"": "f", "fooBar2": "g"}"#
        ),
        r#"{"fooBar":"a","Under":"c","aB":"d","x1Y2":"e","Über-\"Name\"":"f","fooBar2":"g"}"#
    );
    assert_eq!(
        round(
            &d,
            "n.M",
            r#"{"foo_bar": "a", "_under": "c", "renamed": "g"}"#
        ),
        r#"{"fooBar":"a","Under":"c","fooBar2":"g"}"#
    );
}
