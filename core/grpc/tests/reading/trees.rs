//! Trees of files: broken ones, parts of one, and what is built in.

use porch_contract::Severity;
use porch_grpc::read;

use crate::{files, one};

fn told(all: &[(&str, &str)]) -> Vec<String> {
    let d = read(&files(all), &|_, _| ()).unwrap();
    let told = d.findings.iter();
    told.map(|f| format!("{}:{}:{} {}", f.file, f.line, f.column, f.message))
        .collect()
}

#[test]
fn a_broken_file_takes_along_only_what_imports_it_and_is_told_once() {
    let service = |import: &str, name: &str| {
        format!(
            "syntax = \"proto3\"; package p; import \"{import}\"; message {name}M {{}} service {name} {{ rpc Get({name}M) returns ({name}M); }}"
        )
    };
    let (a, b, c, fine) = (
        service("bad.proto", "A"),
        service("bad.proto", "B"),
        service("bad.proto", "C"),
        service("good.proto", "Fine"),
    );
    let all = [
        (
            "bad.proto",
            "syntax = \"proto3\"; package p;\nmessage Bad { strin a = 1 }",
        ),
        (
            "good.proto",
            "syntax = \"proto3\"; package p; message Good {}",
        ),
        ("a.proto", a.as_str()),
        ("b.proto", &b),
        ("c.proto", &c),
        ("fine.proto", &fine),
    ];
    let d = read(&files(&all), &|_, _| ()).unwrap();
    let methods: Vec<&str> = d.methods().map(|m| m.full.as_str()).collect();
    assert_eq!(methods, ["p.Fine/Get"]);
    let told = told(&all);
    assert_eq!(told.len(), 1, "{told:?}");
    assert!(
        told[0].starts_with("bad.proto:2:")
            && told[0].ends_with("b.proto and c.proto need it too, and are left out as well"),
        "{told:?}"
    );
    // When nothing is left, the reason is told, with its line.
    let e = read(&files(&all[..4]), &|_, _| ()).unwrap_err();
    assert_eq!(
        (e.file.as_str(), e.line, e.severity),
        ("bad.proto", 2, Severity::Error)
    );
}

#[test]
fn copies_of_built_in_files_that_cannot_be_read_do_no_harm() {
    let proto = r#"syntax = "proto3"; package p; import "google/api/annotations.proto"; message M { string name = 1; }
        service S { rpc Get(M) returns (M) { option (google.api.http) = { get: "/v1/{name=things/*}" }; } }"#;
    let d = read(
        &files(&[
            ("p.proto", proto),
            ("google/protobuf/descriptor.proto", "edition = \"2024\"; package google.protobuf; message FileOptions { newer syntax of a later day }"),
            ("google/api/http.proto", "syntax = \"proto3\"; package google.api; message Http { broken"),
        ]),
        &|_, _| (),
    )
    .unwrap();
    assert_eq!(d.findings, []);
    assert_eq!(d.methods().next().unwrap().rules.len(), 1);
}

#[test]
fn all_of_the_common_packages_is_built_in() {
    let d = one(r#"syntax = "proto3"; package p;
        import "google/type/date.proto"; import "google/type/money.proto"; import "google/iam/v1/policy.proto";
        import "google/longrunning/operations.proto"; import "google/rpc/context/attribute_context.proto"; import "google/api/routing.proto";
        import "google/api/field_info.proto"; import "google/protobuf/any.proto";
        message M { google.type.Date day = 1; google.type.Money fee = 2; google.iam.v1.Policy who = 3; }
        service S { rpc Dredge(M) returns (google.longrunning.Operation); }"#);
    assert_eq!(d.findings, []);
    assert_eq!(
        crate::round(
            &d,
            "p.M",
            r#"{"day":{"year":2024},"fee":{"currencyCode":"XTS","units":"7"}}"#
        ),
        r#"{"day":{"year":2024},"fee":{"currencyCode":"XTS","units":"7"}}"#
    );
}

#[test]
fn a_part_of_a_tree_finds_where_its_imports_begin() {
    let d = read(
        &files(&[
            ("fleet/v1/fleet.proto", "syntax = \"proto3\"; package skerry.fleet.v1; import \"skerry/fleet/v1/vessel.proto\"; service Fleet { rpc Get(Vessel) returns (Vessel); }"),
            ("fleet/v1/vessel.proto", "syntax = \"proto3\"; package skerry.fleet.v1; import \"google/type/date.proto\"; message Vessel { google.type.Date built = 1; }"),
            // Called as a built-in file's end is, and another one.
            ("date.proto", "syntax = \"proto3\"; package skerry; message Date {}"),
        ]),
        &|_, _| (),
    )
    .unwrap();
    assert_eq!(d.findings, []);
    let used: Vec<&str> = d.used["skerry/fleet/v1/fleet.proto"]
        .iter()
        .map(String::as_str)
        .collect();
    assert_eq!(used, ["fleet/v1/fleet.proto", "fleet/v1/vessel.proto"]);
}

#[test]
fn newer_syntax_is_read() {
    let d = one(r#"syntax = "proto2"; package p;
        message M { optional string a = 1; extensions 100 to 200 [verification = UNVERIFIED]; }
        extend M { optional int32 later = 100; }
        service S { rpc Get(M) returns (M); }"#);
    assert_eq!(d.findings, []);
    let d = one(
        r#"edition = "2024"; package p; import "google/protobuf/cpp_features.proto"; option features.(pb.cpp).string_type = VIEW;
        option features.default_symbol_visibility = EXPORT_ALL;
        export message M { string a = 1 [features.(pb.java).utf8_validation = NONE]; reserved b, c; local enum E { ZERO = 0; } }
        service S { rpc Get(M) returns (M); }"#,
    );
    assert_eq!(d.findings, []);
    assert_eq!(d.methods().count(), 1);
}

#[test]
fn rules_that_cannot_be_followed_are_errors_with_their_line() {
    let rule = |rule: &str| {
        let text = format!(
            "syntax = \"proto3\"; package p; import \"google/api/annotations.proto\";\nmessage N {{ string x = 1; }}\nmessage M {{ string name = 1; repeated string tags = 2; N inner = 3; map<string, string> marks = 4; }}\nservice S {{\n  rpc GetOther(M) returns (M);\n  rpc Get(M) returns (M) {{ option (google.api.http) = {{ {rule} }}; }}\n}}"
        );
        let told = told(&[("deep/a.proto", &text)]);
        let d = read(&files(&[("deep/a.proto", &text)]), &|_, _| ()).unwrap();
        assert!(d.findings.iter().all(|f| f.severity == Severity::Error));
        told.join(" | ")
    };
    let cases = [
        (
            "get: \"/v1/{nam}\"",
            "the path's {nam}: “nam” is no field of p.M; did you mean “name”?",
        ),
        (
            "get: \"/v1/{tags}\"",
            "the path's {tags} is a list, which a path cannot carry",
        ),
        (
            "get: \"/v1/{inner}\"",
            "the path's {inner} is a message, which a path cannot carry",
        ),
        (
            "get: \"/v1/{marks}\"",
            "the path's {marks} is a map, which a path cannot carry",
        ),
        ("get: \"/v1/{name.x}\"", "holds no fields"),
        (
            "post: \"/v1/x\" body: \"othr\"",
            "its `body`: “othr” is no field of p.M",
        ),
        (
            "get: \"/v1/x\" response_body: \"othr\"",
            "its `response_body`: “othr” is no field of p.M",
        ),
        ("get: \"v1\"", "a template begins with “/”"),
    ];
    for (text, expected) in cases {
        let told = rule(text);
        assert!(
            told.starts_with("deep/a.proto:6:3 p.S/Get: its HTTP rule: ")
                && told.contains(expected),
            "{text}: {told}"
        );
    }
    assert_eq!(rule("get: \"/v1/{inner.x}\""), "");
}
