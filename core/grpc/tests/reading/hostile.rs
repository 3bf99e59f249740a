//! What is large, broken, or means harm.

use super::*;

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

/// A message with a choice, a list and many fields.
fn crowded() -> Definition {
    let fields: String = (100..400).map(|n| format!("int32 f{n} = {n}; ")).collect();
    one(&format!(
        "syntax = \"proto3\"; package c; message M {{ oneof pick {{ int32 a = 1; M b = 2; string s = 3; }} repeated int32 list = 4; {fields} }} service S {{ rpc Get(M) returns (M); }}"
    ))
}

fn to_json(d: &Definition, wire: &[u8]) -> String {
    let id = d.types.find("c.M").unwrap();
    let mut out = Vec::new();
    d.types
        .to_json(id, wire, JsonOptions::default(), &mut out)
        .unwrap();
    String::from_utf8(out).unwrap()
}

#[test]
fn of_a_choice_the_last_one_wins_and_what_came_before_is_gone() {
    let d = crowded();
    // a=1, b={a=7}, a=2: the message in between is not set any more, and neither is the first.
    for (wire, json) in [
        (&b"\x08\x01\x12\x02\x08\x07\x08\x02"[..], "{\"a\":2}"),
        (b"\x08\x01\x12\x02\x08\x07", "{\"b\":{\"a\":7}}"),
        // Parts of one message that stand together are merged; those from before another choice are not.
        (
            b"\x12\x02\x08\x07\x12\x03\x1a\x01x",
            "{\"b\":{\"s\":\"x\"}}",
        ),
        (
            b"\x12\x02\x20\x01\x12\x02\x20\x02",
            "{\"b\":{\"list\":[1,2]}}",
        ),
        (
            b"\x12\x02\x20\x01\x08\x05\x12\x02\x20\x02",
            "{\"b\":{\"list\":[2]}}",
        ),
        // What belongs to no choice stays, wherever it stands.
        (
            b"\x20\x09\x08\x01\x20\x08\x1a\x01y\x20\x07",
            "{\"s\":\"y\",\"list\":[9,8,7]}",
        ),
    ] {
        assert_eq!(to_json(&d, wire), json, "{wire:x?}");
    }
}

#[test]
fn a_choice_that_changes_all_the_time_costs_what_its_bytes_cost() {
    let d = crowded();
    // 200,000 elements of a list, a choice that changes between each two of them: looking through all that was found for
    // each change would be 10^10 steps, which no test would live to see the end of.
    let mut wire = Vec::new();
    for n in 0..200_000u32 {
        wire.extend_from_slice(if n % 2 == 0 {
            b"\x08\x01"
        } else {
            b"\x1a\x01z"
        });
        wire.extend_from_slice(b"\x20\x01");
    }
    let json = to_json(&d, &wire);
    assert!(
        json.starts_with("{\"s\":\"z\",\"list\":[1,1,"),
        "{}",
        &json[..40]
    );
    assert_eq!(json.matches(",1").count(), 199_999);
}

#[test]
fn names_that_stand_again_and_again_are_told_a_few_times() {
    let d = crowded();
    let id = d.types.find("c.M").unwrap();
    let mistakes = |json: &str| {
        let outcome = d
            .types
            .to_wire(id, json.as_bytes(), JsonOptions::default(), &mut Vec::new());
        match outcome {
            Err(porch_grpc::JsonError::Mistakes(list)) => list,
            other => panic!("{other:?}"),
        }
    };
    // A field far behind the others, ten thousand times: each is looked up, not looked for among those before.
    let many = format!("{{{}}}", vec!["\"f390\":1"; 100_000].join(","));
    let told = mistakes(&many);
    assert_eq!(told.len(), 50);
    assert!(
        told.iter()
            .all(|m| m.message == "stands twice" && m.pointer == "/f390")
    );
    let unknown: Vec<String> = (0..100_000).map(|n| format!("\"g{n}\":1")).collect();
    let told = mistakes(&format!("{{{}}}", unknown.join(",")));
    assert_eq!(told.len(), 50);
    assert_eq!(told[7].pointer, "/g7");
    for n in [63, 64, 65, 127, 128, 129, 299] {
        let field = format!("f{}", 100 + n);
        let twice = format!("{{\"{field}\":1,\"f100\":1,\"{field}\":2}}");
        if n > 0 {
            assert_eq!(mistakes(&twice).len(), 1, "{field}");
        }
    }
}
