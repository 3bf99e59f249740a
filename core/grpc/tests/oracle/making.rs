//! Making random messages of a type.

use super::*;

pub(crate) fn text() -> impl Strategy<Value = String> {
    prop_oneof![
        "[a-z]{0,6}",
        "\\PC{0,6}",
        Just("\"\\/\u{1}\n\u{7f}\u{2028}é😀".to_owned())
    ]
}

pub(crate) fn float() -> impl Strategy<Value = f64> {
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

pub(crate) fn scalar(kind: &Kind, depth: u32) -> BoxedStrategy<Value> {
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

pub(crate) fn field(field: FieldDescriptor, depth: u32) -> BoxedStrategy<Value> {
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

pub(crate) fn known(
    descriptor: &MessageDescriptor,
    depth: u32,
) -> Option<BoxedStrategy<DynamicMessage>> {
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

pub(crate) fn message(descriptor: MessageDescriptor, depth: u32) -> BoxedStrategy<DynamicMessage> {
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
