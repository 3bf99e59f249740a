//! Reading: one case for each oddity that real definitions have.

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
fn a_broken_file_is_told_with_its_place_and_takes_only_its_own_services_along() {
    let broken = "syntax = \"proto3\";\nmessage M {\n  strin name = 1;\n}\nservice S { rpc Get(M) returns (M); }";
    let whole =
        "syntax = \"proto3\"; package w; message M {} service W { rpc Get(M) returns (M); }";
    let alone = read(&files(&[("x/broken.proto", broken)]), &|_, _| ()).unwrap_err();
    assert_eq!(
        (alone.file.as_str(), alone.line, alone.column),
        ("x/broken.proto", 3, 3),
        "{alone:?}"
    );
    let missing = read(&files(&[("a.proto", "syntax = \"proto3\";\nimport \"nowhere.proto\";\nmessage M {} service S { rpc Get(M) returns (M); }")]), &|_, _| ()).unwrap_err();
    assert_eq!(
        (missing.line, missing.message.as_str()),
        (2, "import 'nowhere.proto' not found"),
        "{missing:?}"
    );
    assert!(missing.help.contains("folder"), "{missing:?}");
    let both = read(
        &files(&[("x/broken.proto", broken), ("whole.proto", whole)]),
        &|_, _| (),
    )
    .unwrap();
    assert_eq!(both.services.len(), 1);
    assert_eq!(
        both.findings
            .iter()
            .map(|f| (f.severity, f.line))
            .collect::<Vec<_>>(),
        [(Severity::Warning, 3)]
    );
}

#[test]
fn hostile_definitions_end_in_an_error_and_nothing_worse() {
    let deep = format!(
        "syntax = \"proto3\"; {} {} service S {{ }}",
        "message M {".repeat(50_000),
        "}".repeat(50_000)
    );
    assert!(read(&files(&[("a.proto", &deep)]), &|_, _| ()).is_err());
    let chain: Files = (0..500)
        .map(|i| {
            (
                format!("f{i}.proto"),
                format!(
                    "syntax = \"proto3\"; {} message M{i} {{}} {}",
                    if i < 499 {
                        format!("import \"f{}.proto\";", i + 1)
                    } else {
                        String::new()
                    },
                    if i == 0 {
                        "service S { rpc Get(M0) returns (M0); }"
                    } else {
                        ""
                    }
                ),
            )
        })
        .collect();
    assert_eq!(read(&chain, &|_, _| ()).unwrap().services.len(), 1);
    let circle = files(&[
        (
            "a.proto",
            "syntax = \"proto3\"; import \"b.proto\"; message A {} service S { rpc Get(A) returns (A); }",
        ),
        ("b.proto", "syntax = \"proto3\"; import \"a.proto\";"),
    ]);
    assert!(read(&circle, &|_, _| ()).is_err());
    for text in [
        "",
        "syntax",
        "service",
        "syntax = \"proto3\"",
        "message {",
        "\u{0}",
        "service S { rpc ; }",
        "/*",
        "\"",
        "edition = \"2023\"",
        "edition=\"2023\";x",
        "import \"a.proto\"; service S {}",
    ] {
        let _ = is_proto(text);
        assert!(
            read(&files(&[("a.proto", text)]), &|_, _| ()).is_err(),
            "{text}"
        );
    }
    // Bytes of a set, changed one by one.
    let text = "syntax = \"proto3\"; package p; message M { M m = 1; map<string, M> n = 2; } enum E { Z = 0; } service S { rpc Get(M) returns (M); }";
    let dir = tempfile::tempdir().unwrap();
    std::fs::write(dir.path().join("a.proto"), text).unwrap();
    let mut compiler = protox::Compiler::new([dir.path()]).unwrap();
    let set = compiler
        .open_file("a.proto")
        .unwrap()
        .encode_file_descriptor_set();
    for i in 0..set.len() {
        for change in [1, 0x7f, 0x80] {
            let mut bytes = set.clone();
            bytes[i] ^= change;
            if let Ok(d) = read(&files(&[("s", &as_text(&bytes))]), &|_, _| ()) {
                for m in d.methods() {
                    let _ = Schemas::new(&d.types).of(m.input);
                    let _ = d.types.to_json(
                        m.input,
                        b"\x0a\x02\x0a\x00\x12\x00",
                        JsonOptions::default(),
                        &mut Vec::new(),
                    );
                }
            }
        }
    }
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

#[test]
fn comments_become_documentation_and_field_behaviour_becomes_schema() {
    let d = one(
        r#"syntax = "proto3"; package c; import "google/api/field_behavior.proto";
        // A vessel.
        // With two lines.
        message V {
          // Its name.
          string name = 1 [(google.api.field_behavior) = REQUIRED];
          int64 number = 2; // Behind it.
          string made = 3 [(google.api.field_behavior) = OUTPUT_ONLY, deprecated = true];
          oneof drive { string sail = 4; int32 engines = 5; }
          map<int32, double> depths = 6;
          V tow = 7;
        }
        // The service.
        service S {
          // Gets one.
          rpc Get(V) returns (V);
        }"#,
    );
    assert_eq!(
        (
            d.services[0].documentation.as_str(),
            d.services[0].methods[0].documentation.as_str()
        ),
        ("The service.", "Gets one.")
    );
    let mut schemas = Schemas::new(&d.types);
    assert_eq!(
        schemas.of(d.services[0].methods[0].input),
        json!({ "$ref": "#/components/schemas/V" })
    );
    let v = &schemas.schemas["V"];
    assert_eq!(
        (
            &v["description"],
            &v["required"],
            &v["additionalProperties"]
        ),
        (
            &json!("A vessel.\nWith two lines."),
            &json!(["name"]),
            &json!(false)
        )
    );
    assert_eq!(
        (
            &v["properties"]["number"]["description"],
            &v["properties"]["number"]["type"],
            &v["properties"]["made"]["readOnly"],
            &v["properties"]["made"]["deprecated"]
        ),
        (
            &json!("Behind it."),
            &json!("string"),
            &json!(true),
            &json!(true)
        )
    );
    assert_eq!(
        v["oneOf"],
        json!([{ "required": ["sail"] }, { "required": ["engines"] }, { "not": { "anyOf": [{ "required": ["sail"] }, { "required": ["engines"] }] } }])
    );
    assert_eq!(
        v["properties"]["depths"]["propertyNames"],
        json!({ "pattern": "^-?[0-9]+$" })
    );
    assert_eq!(
        v["properties"]["tow"],
        json!({ "$ref": "#/components/schemas/V" })
    );
}

#[test]
fn methods_without_rules_get_a_shape_from_names_and_messages() {
    let d = one(
        r#"syntax = "proto3"; package w; import "google/protobuf/field_mask.proto"; import "google/protobuf/empty.proto";
        message Berth { string berth_id = 1; double length = 2; }
        message Key { string berth_id = 1; bool full = 2; }
        message Page { int32 size = 1; string token = 2; }
        message Make { Berth berth = 1; string request_id = 2; }
        message Change { Berth berth = 1; google.protobuf.FieldMask mask = 2; }
        message Both { string berth_id = 1; map<string, string> notes = 2; }
        service Berths {
          rpc ListBerths(Page) returns (Page);
          rpc GetBerth(Key) returns (Berth);
          rpc CreateBerth(Make) returns (Berth);
          rpc UpdateBerth(Change) returns (Berth);
          rpc DeleteBerth(Key) returns (google.protobuf.Empty);
          rpc CloseBerth(Key) returns (Berth);
          rpc GetNotes(Both) returns (Both);
          rpc Ping(google.protobuf.Empty) returns (google.protobuf.Empty);
          rpc UploadPlans(stream Berth) returns (Page);
        }"#,
    );
    let all: Vec<String> = shapes(&d)
        .iter()
        .map(|s| format!("{} {} {}", s.method, s.path, s.body))
        .collect();
    assert_eq!(
        all,
        [
            "GET /berths ",
            "GET /berth/{berthId} ",
            "POST /berth berth",
            "PATCH /berth/{berthId} berth",
            "DELETE /berth/{berthId} ",
            "POST /berth/{berthId}:close *",
            "POST /get-notes *",
            "POST /ping *",
            "POST /upload-plans *"
        ]
    );
    assert!(shapes(&d).iter().all(|s| !s.why.is_empty()));
}

#[test]
fn wrong_rules_are_told_and_the_method_gets_a_proposal() {
    let d = one(
        r#"syntax = "proto3"; package w; import "google/api/annotations.proto";
        message M { string name = 1; }
        service S {
          rpc GetThing(M) returns (M) { option (google.api.http) = { get: "v1/{name" }; }
          rpc Two(M) returns (M) { option (google.api.http) = { get: "/two" additional_bindings { get: "/three" additional_bindings { get: "/four" } } }; }
        }"#,
    );
    let told: Vec<&str> = d.findings.iter().map(|f| f.message.as_str()).collect();
    assert!(
        told.iter().any(|m| m.contains("begins with “/”"))
            && told
                .iter()
                .any(|m| m.contains("additional bindings in additional bindings")),
        "{told:?}"
    );
    assert_eq!(
        shapes(&d)
            .iter()
            .map(|s| s.path.as_str())
            .collect::<Vec<_>>(),
        ["/thing/{name}", "/two", "/three"]
    );
}

#[test]
fn what_the_json_of_well_known_types_and_limits_looks_like() {
    let d = read(
        &files(&[("e.proto", include_str!("fixtures/everything.proto"))]),
        &|_, _| (),
    )
    .unwrap();
    let m = "skerry.test.v1.Everything";
    for (given, shown) in [
        (
            r#"{"aDouble": "-Infinity", "aFloat": "NaN", "aUint64": "1e3"}"#,
            r#"{"aDouble":"-Infinity","aFloat":"NaN","aUint64":"1000"}"#,
        ),
        (
            r#"{"aDouble": -0.0, "aFloat": 3.4028235e38}"#,
            r#"{"aDouble":-0,"aFloat":3.4028235e38}"#,
        ),
        (
            r#"{"anInt32": 1.0, "anInt64": 9223372036854775807}"#,
            r#"{"anInt32":1,"anInt64":"9223372036854775807"}"#,
        ),
        (
            r#"{"tide": "EBB", "tides": [1, "SPRING", 99]}"#,
            r#"{"tide":"LOW","tides":["LOW","SPRING",99]}"#,
        ),
        (
            r#"{"time": "2027-05-14T10:30:00.120+02:00", "span": "-0.000001s", "mask": "aB.c,d"}"#,
            r#"{"time":"2027-05-14T08:30:00.120Z","span":"-0.000001s","mask":"aB.c,d"}"#,
        ),
        (
            r#"{"value": {"a": [1, null, {"b": "x"}]}, "values": [true], "object": {"k": null}}"#,
            r#"{"object":{"k":null},"value":{"a":[1,null,{"b":"x"}]},"values":[true]}"#,
        ),
        (
            r#"{"long": "5", "text": "", "truth": false, "real": 0, "blob": "AA"}"#,
            r#"{"long":"5","text":"","truth":false,"real":0,"blob":"AA=="}"#,
        ),
        (
            r#"{"long": null, "empty": {}, "nothing": null, "inner": null, "ints": null}"#,
            r#"{"empty":{}}"#,
        ),
        (
            r#"{"any": {"@type": "type.googleapis.com/google.protobuf.Duration", "value": "3s"}}"#,
            r#"{"any":{"@type":"type.googleapis.com/google.protobuf.Duration","value":"3s"}}"#,
        ),
        (
            r#"{"any": {"value": "3s", "@type": "x.example/google.protobuf.Any"}}"#,
            "",
        ),
        (
            r#"{"byNumber": {"-1": {}}, "byBool": {"true": "HIGH"}, "byLong": {"18446744073709551615": "AA=="}}"#,
            r#"{"byNumber":{"-1":{}},"byBool":{"true":"HIGH"},"byLong":{"18446744073709551615":"AA=="}}"#,
        ),
        (r#"{"nullChoice": null}"#, r#"{"nullChoice":null}"#),
        (
            r#"{"maybe": 0, "maybeText": ""}"#,
            r#"{"maybe":0,"maybeText":""}"#,
        ),
        (r#"{"numberChoice": 1, "textChoice": "x"}"#, ""),
        (
            r#"{"numberChoice": 1, "textChoice": null}"#,
            r#"{"numberChoice":1}"#,
        ),
        (r#"{"span": "1.5"}"#, ""),
        (r#"{"ints": [1, null]}"#, ""),
        (r#"{"aBool": "true"}"#, ""),
        (r#"{"aString": 1}"#, ""),
        (r#"{"aFloat": 1e39}"#, ""),
        (r#"{"byNumber": {"x": {}}}"#, ""),
        (r#"{"byBool": {"True": "HIGH"}}"#, ""),
        (r#"[]"#, ""),
        (r#"{"aDouble": 1} x"#, ""),
    ] {
        let id = d.types.find(m).unwrap();
        let taken = d.types.to_wire(
            id,
            given.as_bytes(),
            JsonOptions::default(),
            &mut Vec::new(),
        );
        assert_eq!(taken.is_ok(), !shown.is_empty(), "{given}: {taken:?}");
        if !shown.is_empty() {
            let (got, wanted): (Value, Value) = (
                serde_json::from_str(&round(&d, m, given)).unwrap(),
                serde_json::from_str(shown).unwrap(),
            );
            assert_eq!(got, wanted, "{given}");
        }
    }
}

#[test]
fn seven_thousand_files_are_read_with_progress_and_only_what_a_service_needs_is_kept() {
    let mut all: Files = BTreeMap::new();
    for i in 0..7000 {
        let service = if i % 70 == 10 {
            format!("service S{i} {{ rpc Get(M{i}) returns (M{i}); }}")
        } else {
            String::new()
        };
        let import = if i % 70 < 60 && i > 0 {
            format!("import \"tree/f{}.proto\";", i - 1)
        } else {
            String::new()
        };
        let uses = if import.is_empty() {
            String::new()
        } else {
            format!("M{} before = 9;", i - 1)
        };
        all.insert(
            format!("tree/f{i}.proto"),
            format!("syntax = \"proto3\"; package tree; {import}\n// Number {i}.\nmessage M{i} {{ string name = 1; int64 n = 2; repeated double all = 3; {uses} }}\n{service}"),
        );
    }
    let (most, calls) = (
        std::sync::atomic::AtomicUsize::new(0),
        std::sync::atomic::AtomicUsize::new(0),
    );
    let d = read(&all, &|done, of| {
        most.fetch_max(done * 1000 / of.max(1), std::sync::atomic::Ordering::SeqCst);
        calls.fetch_add(1, std::sync::atomic::Ordering::SeqCst);
    })
    .unwrap();
    assert_eq!((d.services.len(), d.findings.len()), (100, 0));
    assert_eq!((most.into_inner(), calls.into_inner()), (1000, 101));
    // The file of a service, and the eleven that it leads to.
    assert_eq!(
        (
            d.used["tree/f10.proto"].len(),
            d.used["tree/f80.proto"].len()
        ),
        (11, 12)
    );
    assert_eq!(
        d.types
            .messages
            .iter()
            .filter(|m| m.name.starts_with("tree."))
            .count(),
        11 + 99 * 12
    );
}
