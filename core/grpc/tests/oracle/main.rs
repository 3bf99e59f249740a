//! Both converters against the reference implementation of the mapping among the crates, on random messages.
#![allow(
    clippy::too_many_lines,
    reason = "a scenario, or a table of cases, is told in one piece"
)]

mod elsewhere;
mod making;

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
    let text = include_str!("../fixtures/everything.proto");
    let old = include_str!("../fixtures/old.proto");
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

/// A message that shows itself as JSON.
#[derive(Clone)]
struct Shown(DynamicMessage);

impl std::fmt::Debug for Shown {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&serde_json::to_string(&self.0).unwrap_or_default())
    }
}

fn everything(depth: u32) -> impl Strategy<Value = Shown> {
    making::message(
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
        required: false,
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
