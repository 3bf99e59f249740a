//! Both converters against the reference implementation of the mapping among the crates, on random messages.

use porch_grpc::{Definition, Files, JsonOptions, read};
use proptest::prelude::*;
use proptest::strategy::BoxedStrategy;
use prost_reflect::{
    DescriptorPool, DeserializeOptions, DynamicMessage, FieldDescriptor, Kind, MapKey,
    MessageDescriptor, ReflectMessage, SerializeOptions, Value,
};
use std::sync::LazyLock;

struct Setup {
    ours: Definition,
    pool: DescriptorPool,
}

static SETUP: LazyLock<Setup> = LazyLock::new(|| {
    let text = include_str!("fixtures/everything.proto");
    let old = include_str!("fixtures/old.proto");
    let files = Files::from([
        ("everything.proto".to_owned(), text.to_owned()),
        ("old.proto".to_owned(), old.to_owned()),
    ]);
    let ours = read(&files, &|_, _| ()).unwrap();
    assert_eq!(ours.findings, []);
    let dir = tempfile::tempdir().unwrap();
    std::fs::write(dir.path().join("everything.proto"), text).unwrap();
    std::fs::write(dir.path().join("old.proto"), old).unwrap();
    let mut compiler = protox::Compiler::new([dir.path()]).unwrap();
    compiler
        .include_imports(true)
        .open_files(["everything.proto", "old.proto"])
        .unwrap();
    Setup {
        ours,
        pool: compiler.descriptor_pool(),
    }
});

fn text() -> impl Strategy<Value = String> {
    prop_oneof![
        "[a-z]{0,6}",
        "\\PC{0,6}",
        Just("\"\\/\u{1}\n\u{7f}\u{2028}é😀".to_owned())
    ]
}

fn float() -> impl Strategy<Value = f64> {
    prop_oneof![
        any::<f64>(),
        any::<i32>().prop_map(f64::from),
        Just(0.1),
        Just(f64::INFINITY),
        Just(1e300)
    ]
    // NaN is unequal to itself; -0.0 the reference leaves out as if it were 0.
    .prop_filter("comparable", |f| {
        !f.is_nan() && (*f != 0.0 || f.is_sign_positive())
    })
}

fn scalar(kind: &Kind, depth: u32) -> BoxedStrategy<Value> {
    match kind {
        Kind::Double => float().prop_map(Value::F64).boxed(),
        Kind::Float => prop_oneof![any::<f32>(), Just(0.1f32), Just(f32::MAX)]
            .prop_filter("comparable", |f| {
                !f.is_nan() && (*f != 0.0 || f.is_sign_positive())
            })
            .prop_map(Value::F32)
            .boxed(),
        Kind::Int32 | Kind::Sint32 | Kind::Sfixed32 => any::<i32>().prop_map(Value::I32).boxed(),
        Kind::Int64 | Kind::Sint64 | Kind::Sfixed64 => any::<i64>().prop_map(Value::I64).boxed(),
        Kind::Uint32 | Kind::Fixed32 => any::<u32>().prop_map(Value::U32).boxed(),
        Kind::Uint64 | Kind::Fixed64 => any::<u64>().prop_map(Value::U64).boxed(),
        Kind::Bool => any::<bool>().prop_map(Value::Bool).boxed(),
        Kind::String => text().prop_map(Value::String).boxed(),
        Kind::Bytes => proptest::collection::vec(any::<u8>(), 0..9)
            .prop_map(|b| Value::Bytes(b.into()))
            .boxed(),
        Kind::Enum(e) if e.full_name() == "google.protobuf.NullValue" => {
            Just(Value::EnumNumber(0)).boxed()
        }
        Kind::Enum(_) => prop_oneof![Just(0), Just(1), Just(2), Just(-7), Just(99)]
            .prop_map(Value::EnumNumber)
            .boxed(),
        Kind::Message(m) => message(m.clone(), depth).prop_map(Value::Message).boxed(),
    }
}

fn field(field: FieldDescriptor, depth: u32) -> BoxedStrategy<Value> {
    let kind = field.kind();
    if field.is_map() {
        let Kind::Message(entry) = kind else {
            unreachable!()
        };
        let value = scalar(&entry.map_entry_value_field().kind(), depth);
        let key = match entry.map_entry_key_field().kind() {
            Kind::String => text().prop_map(MapKey::String).boxed(),
            Kind::Int32 => any::<i32>().prop_map(MapKey::I32).boxed(),
            Kind::Bool => any::<bool>().prop_map(MapKey::Bool).boxed(),
            _ => any::<u64>().prop_map(MapKey::U64).boxed(),
        };
        return proptest::collection::hash_map(key, value, 0..4)
            .prop_map(Value::Map)
            .boxed();
    }
    let one = scalar(&kind, depth);
    if field.is_list() {
        proptest::collection::vec(one, 0..4)
            .prop_map(Value::List)
            .boxed()
    } else {
        one
    }
}

fn known(descriptor: &MessageDescriptor, depth: u32) -> Option<BoxedStrategy<DynamicMessage>> {
    let build = |values: Vec<(&'static str, Value)>, d: &MessageDescriptor| {
        let mut m = DynamicMessage::new(d.clone());
        values
            .into_iter()
            .for_each(|(n, v)| m.set_field_by_name(n, v));
        m
    };
    let d = descriptor.clone();
    Some(match descriptor.full_name() {
        "google.protobuf.Timestamp" => (
            -62_135_596_800i64..253_402_300_799,
            prop_oneof![Just(0), 0..1_000_000_000i32, Just(500_000_000), Just(1000)],
        )
            .prop_map(move |(s, n)| {
                build(
                    vec![("seconds", Value::I64(s)), ("nanos", Value::I32(n))],
                    &d,
                )
            })
            .boxed(),
        "google.protobuf.Duration" => (-315_576_000_000i64..=315_576_000_000, 0..1_000_000_000i32)
            .prop_map(move |(s, n)| {
                build(
                    vec![
                        ("seconds", Value::I64(s)),
                        ("nanos", Value::I32(if s < 0 { -n } else { n })),
                    ],
                    &d,
                )
            })
            .boxed(),
        "google.protobuf.FieldMask" => {
            proptest::collection::vec("[a-z]{1,5}(_[a-z]{1,4}){0,2}(\\.[a-z]{1,4}){0,1}", 0..4)
                .prop_map(move |p| {
                    build(
                        vec![(
                            "paths",
                            Value::List(p.into_iter().map(Value::String).collect()),
                        )],
                        &d,
                    )
                })
                .boxed()
        }
        // The reference writes `null` for an infinite one, where the mapping says “Infinity”.
        "google.protobuf.DoubleValue" => float()
            .prop_filter("finite", |f| f.is_finite())
            .prop_map(move |f| build(vec![("value", Value::F64(f))], &d))
            .boxed(),
        "google.protobuf.Value" => {
            let null = Just(("null_value", Value::EnumNumber(0)));
            let number = float()
                .prop_filter("finite", |f| f.is_finite())
                .prop_map(|f| ("number_value", Value::F64(f)));
            let texts = text().prop_map(|t| ("string_value", Value::String(t)));
            let truth = any::<bool>().prop_map(|b| ("bool_value", Value::Bool(b)));
            let shallow = prop_oneof![null, number, texts, truth];
            if depth == 0 {
                return Some(
                    shallow
                        .prop_map(move |(n, v)| build(vec![(n, v)], &d))
                        .boxed(),
                );
            }
            let of = |name: &'static str| {
                let Kind::Message(m) = descriptor.get_field_by_name(name).unwrap().kind() else {
                    unreachable!()
                };
                message(m, depth - 1).prop_map(move |m| (name, Value::Message(m)))
            };
            prop_oneof![shallow, of("struct_value"), of("list_value")]
                .prop_map(move |(n, v)| build(vec![(n, v)], &d))
                .boxed()
        }
        "google.protobuf.Any" => {
            let inner = SETUP
                .pool
                .get_message_by_name("skerry.test.v1.Everything")
                .unwrap();
            let time = SETUP
                .pool
                .get_message_by_name("google.protobuf.Duration")
                .unwrap();
            let one = if depth == 0 {
                message(time, 0)
            } else {
                prop_oneof![message(inner, depth - 1), message(time, 0)].boxed()
            };
            one.prop_map(move |m| {
                use prost::Message;
                let url = format!("type.googleapis.com/{}", m.descriptor().full_name());
                build(
                    vec![
                        ("type_url", Value::String(url)),
                        ("value", Value::Bytes(m.encode_to_vec().into())),
                    ],
                    &d,
                )
            })
            .boxed()
        }
        _ => return None,
    })
}

fn message(descriptor: MessageDescriptor, depth: u32) -> BoxedStrategy<DynamicMessage> {
    if let Some(known) = known(&descriptor, depth) {
        return known;
    }
    let fields: Vec<FieldDescriptor> = descriptor
        .fields()
        .filter(|f| depth > 0 || !matches!(f.kind(), Kind::Message(_)))
        .collect();
    if fields.is_empty() {
        return Just(DynamicMessage::new(descriptor)).boxed();
    }
    let count = fields.len();
    proptest::collection::vec(0..count, 0..6.min(count + 1))
        .prop_flat_map(move |picked| {
            let values: Vec<_> = picked
                .iter()
                .map(|i| {
                    field(fields[*i].clone(), depth.saturating_sub(1)).prop_map({
                        let f = fields[*i].clone();
                        move |v| (f.clone(), v)
                    })
                })
                .collect();
            let descriptor = descriptor.clone();
            values.prop_map(move |values| {
                let mut m = DynamicMessage::new(descriptor.clone());
                values.into_iter().for_each(|(f, v)| m.set_field(&f, v));
                m
            })
        })
        .boxed()
}

/// A message that shows itself as JSON.
#[derive(Clone)]
struct Shown(DynamicMessage);

impl std::fmt::Debug for Shown {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&serde_json::to_string(&self.0).unwrap_or_default())
    }
}

fn everything(depth: u32) -> impl Strategy<Value = Shown> {
    message(
        SETUP
            .pool
            .get_message_by_name("skerry.test.v1.Everything")
            .unwrap(),
        depth,
    )
    .prop_map(Shown)
}

/// JSON with numbers as binary floats, so that `1` and `1.0` are equal.
fn plain(value: serde_json::Value) -> serde_json::Value {
    match value {
        serde_json::Value::Number(n) => n.as_f64().map_or(serde_json::Value::Null, |f| {
            serde_json::json!(format!("{f:e}"))
        }),
        serde_json::Value::Array(items) => items.into_iter().map(plain).collect(),
        serde_json::Value::Object(map) => {
            serde_json::Value::Object(map.into_iter().map(|(k, v)| (k, plain(v))).collect())
        }
        other => other,
    }
}

fn fractional(value: &serde_json::Value) -> bool {
    match value {
        serde_json::Value::Number(n) => n.to_string().contains(['.', 'e', 'E']),
        serde_json::Value::Array(items) => items.iter().any(fractional),
        serde_json::Value::Object(map) => map.values().any(fractional),
        _ => false,
    }
}

fn same(m: &DynamicMessage, defaults: bool) -> Result<(), TestCaseError> {
    use prost::Message;
    let types = &SETUP.ours.types;
    let id = types.find(m.descriptor().full_name()).unwrap();
    let options = JsonOptions {
        defaults,
        ..JsonOptions::default()
    };
    let wire = m.encode_to_vec();
    let mut json = Vec::new();
    let written = types.to_json(id, &wire, options, &mut json);
    let mut theirs = Vec::new();
    let mut serializer = serde_json::Serializer::new(&mut theirs);
    let reference = m.serialize_with_options(
        &mut serializer,
        &SerializeOptions::new().skip_default_fields(!defaults),
    );
    prop_assert!(
        written.is_ok() && reference.is_ok(),
        "{written:?} {reference:?}"
    );
    let ours: serde_json::Value = serde_json::from_slice(&json)
        .map_err(|e| TestCaseError::fail(format!("{e}: {}", String::from_utf8_lossy(&json))))?;
    let theirs: serde_json::Value = serde_json::from_slice(&theirs).unwrap();
    prop_assert_eq!(plain(ours), plain(theirs));
    // And back.
    let mut back = Vec::new();
    let read = types.to_wire(id, &json, options, &mut back);
    prop_assert!(read.is_ok(), "{read:?}: {}", String::from_utf8_lossy(&json));
    let decoded = DynamicMessage::decode(m.descriptor(), back.as_slice()).unwrap();
    // By their JSON: bytes in an `Any` may have another order.
    prop_assert_eq!(
        plain(serde_json::to_value(&decoded).unwrap()),
        plain(serde_json::to_value(m).unwrap())
    );
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, ..ProptestConfig::default() })]

    #[test]
    fn random_messages_have_the_json_of_the_reference_and_come_back(Shown(m) in everything(3), defaults in any::<bool>()) {
        same(&m, defaults)?;
    }

    #[test]
    fn fields_in_any_order_and_twice_are_merged_as_the_reference_merges_them(
        Shown(a) in everything(2),
        Shown(b) in everything(2),
    ) {
        use prost::Message;
        let wire = [a.encode_to_vec(), b.encode_to_vec()].concat();
        let merged = DynamicMessage::decode(a.descriptor(), wire.as_slice()).unwrap();
        let types = &SETUP.ours.types;
        let mut json = Vec::new();
        let written = types.to_json(types.find("skerry.test.v1.Everything").unwrap(), &wire, JsonOptions::default(), &mut json);
        // An `Any` may have got the type of one and the bytes of the other.
        let Ok(theirs) = serde_json::to_value(&merged) else {
            prop_assert!(written.is_err());
            return Ok(());
        };
        prop_assert!(written.is_ok(), "{written:?}");
        let ours: serde_json::Value = serde_json::from_slice(&json).unwrap();
        prop_assert_eq!(plain(ours), plain(theirs));
    }

    #[test]
    fn any_bytes_are_read_or_refused_but_never_end_in_a_panic(wire in proptest::collection::vec(any::<u8>(), 0..60)) {
        let types = &SETUP.ours.types;
        let mut json = Vec::new();
        if types.to_json(types.find("skerry.test.v1.Everything").unwrap(), &wire, JsonOptions::default(), &mut json).is_ok() {
            prop_assert!(serde_json::from_slice::<serde_json::Value>(&json).is_ok());
        }
    }

    #[test]
    fn changed_json_is_taken_or_refused_as_the_reference_does(
        Shown(m) in everything(2),
        at in any::<prop::sample::Index>(),
        with in prop_oneof![Just("null"), Just("1"), Just("-1"), Just("\"1\""), Just("[]"), Just("{}"), Just("true"), Just("\"x\""), Just("\"LOW\""), Just("\"-Infinity\""), Just("4294967296"), Just("\"AA==\"")],
    ) {
        let mut value = serde_json::to_value(&m).unwrap();
        let Some(object) = value.as_object_mut().filter(|o| !o.is_empty()) else { return Ok(()) };
        let name = at.get(&object.keys().cloned().collect::<Vec<_>>()).clone();
        // An empty object is an `Any` that holds nothing, which the reference refuses; a list that is null it takes for a list of one.
        prop_assume!((name != "any" || with != "{}") && (name != "anyValues" || with != "null"));
        object.insert(name.clone(), serde_json::from_str(with).unwrap());
        let text = value.to_string();
        let mut de = serde_json::Deserializer::from_str(&text);
        let theirs = DynamicMessage::deserialize_with_options(m.descriptor(), &mut de, &DeserializeOptions::new());
        // With digits kept as they are, the reference cannot read numbers with a fraction.
        prop_assume!(!fractional(&value));
        let types = &SETUP.ours.types;
        let mut wire = Vec::new();
        let ours = types.to_wire(types.find("skerry.test.v1.Everything").unwrap(), text.as_bytes(), JsonOptions::default(), &mut wire);
        match (&theirs, &ours) {
            (Ok(theirs), Ok(())) => {
                let ours = DynamicMessage::decode(m.descriptor(), wire.as_slice()).unwrap();
                prop_assert_eq!(plain(serde_json::to_value(&ours).unwrap()), plain(serde_json::to_value(theirs).unwrap()));
            },
            (Err(_), Err(_)) => {}
            (theirs, ours) => prop_assert!(false, "{name}: {with}: {:?} {:?}", theirs.as_ref().err(), ours),
        }
    }
}

#[test]
fn groups_extensions_and_closed_enums_of_proto2_are_as_the_reference_has_them() {
    use prost::Message;
    let descriptor = SETUP.pool.get_message_by_name("skerry.old.Old").unwrap();
    let text = r#"{"name":"Tern","count":0,"closed":"TWO","many":["ONE","TWO"],"spread":[1,2],"close":[3,4],"crew":{"captain":"Ada","hand":[{"name":"Bo"},{}]},"[skerry.old.nickname]":"T"}"#;
    let mut de = serde_json::Deserializer::from_str(text);
    let theirs = DynamicMessage::deserialize(descriptor.clone(), &mut de).unwrap();
    let types = &SETUP.ours.types;
    let id = types.find("skerry.old.Old").unwrap();
    let mut wire = Vec::new();
    types
        .to_wire(id, text.as_bytes(), JsonOptions::default(), &mut wire)
        .unwrap();
    assert_eq!(
        DynamicMessage::decode(descriptor, wire.as_slice()).unwrap(),
        theirs
    );
    let mut json = Vec::new();
    types
        .to_json(
            id,
            &theirs.encode_to_vec(),
            JsonOptions::default(),
            &mut json,
        )
        .unwrap();
    assert_eq!(
        serde_json::from_slice::<serde_json::Value>(&json).unwrap(),
        serde_json::from_str::<serde_json::Value>(text).unwrap()
    );
    // A number that the closed enum does not know is left out; what is required must be there.
    json.clear();
    types
        .to_json(
            id,
            b"\x0a\x01T\x18\x09\x20\x01\x20\x09",
            JsonOptions::default(),
            &mut json,
        )
        .unwrap();
    assert_eq!(
        String::from_utf8(json).unwrap(),
        r#"{"name":"T","many":["ONE"]}"#
    );
    assert_eq!(
        types
            .to_wire(id, b"{}", JsonOptions::default(), &mut wire)
            .unwrap_err()
            .to_string(),
        " needs “name”"
    );
}

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
