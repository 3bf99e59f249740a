//! Expressions: a table of behaviour, limits on untrusted input, and agreement with an independent implementation of CEL.

use porch_rules::expr::{EvalError, Expr, Scope, Template, Val};
use proptest::prelude::*;
use serde_json::{Value, json};

struct Data(Value);

const ROOTS: [&str; 3] = ["path", "query", "body"];

impl Scope for Data {
    fn member<'s>(&'s self, root: usize, name: &str) -> Option<Val<'s>> {
        self.0.get(ROOTS[root])?.get(name).map(Val::of)
    }
    fn whole(&self, root: usize) -> Val<'_> {
        self.0.get(ROOTS[root]).map_or(Val::Absent, Val::of)
    }
    /// What a document would hold; this crate reads none.
    fn open_xml(&self, text: &str) -> Result<Value, porch_rules::expr::NoXml> {
        if text.starts_with('<') {
            Ok(serde_json::json!({"doc": {"@id": "7", "row": ["a", "b"]}}))
        } else {
            Err(porch_rules::expr::NoXml("is none".into()))
        }
    }
}

#[test]
fn a_document_in_a_text_is_opened_when_asked_for() {
    assert_eq!(eval("xml('<doc/>').doc.row[1]").unwrap(), "\"b\"");
    assert_eq!(eval("int(xml('<doc/>').doc['@id']) + 1").unwrap(), "8");
    assert_eq!(
        eval("xml('<doc/>').doc.?rows.orValue('none')").unwrap(),
        "\"none\""
    );
    assert_eq!(eval("xml('x')").unwrap_err(), "xml: the text is none");
    assert_eq!(
        eval("xml(query.n)").unwrap_err(),
        "xml has no meaning for int"
    );
}

fn data() -> Data {
    let text = r#"{"path": {"route": "FAR-MAR"}, "query": {"n": 3}, "body": {"amount": 1520.250, "big": 18446744073709551616, "list": [1, 2, 3], "none": null, "legs": [{"m": 5}, {"m": 7}]}}"#;
    Data(serde_json::from_str(text).unwrap())
}

fn eval(source: &str) -> Result<String, String> {
    let (data, expr) = (
        data(),
        Expr::compile(source, &ROOTS).map_err(|e| format!("{}: {}", e.offset, e.message))?,
    );
    let value = expr.eval(&data).map_err(|e| e.to_string())?;
    Ok(value
        .to_json()
        .map_or_else(|| "absent".into(), |v| v.to_string()))
}

#[test]
fn a_table_of_behaviour() {
    for (source, result) in [
        ("path.route", "\"FAR-MAR\""),
        ("path['route'] + '!'", "\"FAR-MAR!\""),
        ("body.amount", "1520.250"),
        ("body.big", "18446744073709551616"),
        ("query.n * 2 + 1", "7"),
        ("-query.n - -2", "-1"),
        ("7 / 2 == 3 && 7 % 2 == 1", "true"),
        ("body.amount > 1520 && body.amount < 1521.0", "true"),
        ("query.n in body.list", "true"),
        ("'m' in body.legs[0]", "true"),
        ("body.legs.map(l, l.m * 2)", "[10,14]"),
        ("body.legs.filter(l, l.m > 5).size()", "1"),
        (
            "body.list.all(x, x > 0) && body.list.exists(x, x == 3) && body.list.exists_one(x, x == 1)",
            "true",
        ),
        ("body.list.map(x, body.list.map(y, x * y))[1]", "[2,4,6]"),
        ("has(body.none)", "true"),
        ("has(body.nothing)", "false"),
        ("body.?nothing.orValue('none')", "\"none\""),
        ("body.?nothing.deeper", "absent"),
        ("body.none == null", "true"),
        ("query.n > 2 ? 'many' : 'few'", "\"many\""),
        (
            "{'a': [query.n, 'x'], 'b': body.?nothing}",
            "{\"a\":[3,\"x\"]}",
        ),
        ("false && body.nothing.x", "false"),
        ("body.nothing.x || true", "true"),
        (
            "'  Ab '.trim().lowerAscii() + string(4) + r'\\n'",
            "\"ab4\\\\n\"",
        ),
        (
            "path.route.matches('^[A-Z]{3}-') && path.route.startsWith('FAR') && !path.route.endsWith('x')",
            "true",
        ),
        ("size('héllo')", "5"),
        ("int('12') + int(3.7)", "15"),
        ("'it\\'s \\u00e9'", "\"it's é\""),
        ("[1, 2] + [3] == body.list", "true"),
        ("{'a': 1} == {'a': 1.0}", "true"),
    ] {
        assert_eq!(eval(source).as_deref(), Ok(result), "{source}");
    }
}

#[test]
fn mistakes_say_where_and_what() {
    for (source, message) in [
        (
            "pth.route",
            "0: “pth” is not known here; did you mean “path”?",
        ),
        ("path.route = 'x'", "11: “=” compares nothing: write “==”"),
        ("path.", "5: a name is expected, not “the end”"),
        ("path.route path", "11: “path” is not expected here"),
        ("'abc", "0: a text without an end"),
        (
            "99999999999999999999",
            "0: “99999999999999999999” is no number of 64 bits",
        ),
        (
            "siz(path)",
            "0: there is no function “siz”; did you mean “size”?",
        ),
        (
            "body.nothing",
            "there is no “nothing”; there are: amount, big, list, none, legs",
        ),
        ("path.rute", "there is no “rute”; there are: route"),
        ("body.list[7]", "there is no “[7]”; the list has 3 items"),
        ("path.route.x", "“x” is asked of string, not of a map"),
        ("1 + 'a'", "int + string has no value"),
        (
            "9223372036854775807 + 1",
            "9223372036854775807 + 1 has no value of 64 bits",
        ),
        ("1 / 0", "1 / 0 has no value of 64 bits"),
        (
            "1 ? 2 : 3",
            "the condition before “?” is int, not true or false",
        ),
    ] {
        assert_eq!(eval(source).unwrap_err(), message, "{source}");
    }
}

#[test]
fn untrusted_expressions_and_data_are_bounded() {
    assert!(eval(&"(".repeat(3000)).unwrap_err().contains("nested"));
    assert!(eval(&"!".repeat(3000)).unwrap_err().contains("nested"));
    assert!(
        eval(&vec!["1"; 1500].join("+"))
            .unwrap_err()
            .contains("parts")
    );
    assert!(eval(&"a".repeat(5000)).unwrap_err().contains("longer"));
    let long: Value = (0..300).collect();
    let data = Data(json!({ "body": { "l": long } }));
    let expr = Expr::compile(
        "body.l.all(a, body.l.all(b, body.l.all(c, a + b + c >= 0)))",
        &ROOTS,
    )
    .unwrap();
    assert_eq!(expr.eval(&data).unwrap_err(), EvalError::TooMuch);
}

#[test]
fn what_grows_costs_what_it_is_large() {
    let data = Data(json!({ "body": { "l": [1, 2], "s": "x".repeat(2000) } }));
    let outcome = |text: &str| Expr::compile(text, &ROOTS).unwrap().eval(&data).map(|_| ());
    let often = |step: &str, times: usize| format!("body.l{}", step.repeat(times));
    // Each of them doubles what is there: a few times is fine, forty times would be 10^12 parts.
    for step in [
        ".map(a, a + a)",
        ".map(a, [a, a])",
        ".map(a, {'a': a, 'b': a})",
        ".map(a, [a] + [a])",
    ] {
        let lists = format!("[body.l]{}", step.repeat(3));
        assert_eq!(outcome(&lists), Ok(()), "{step}");
        let many = format!("[body.l]{}", step.repeat(30));
        assert_eq!(outcome(&many), Err(EvalError::TooMuch), "{step}");
    }
    assert_eq!(outcome(&often(".map(a, a + a)", 10)), Ok(()));
    let nested = format!("{}body.s{}", "[".repeat(12), "]".repeat(12));
    assert_eq!(outcome(&nested), Ok(()));
    // Comparing is walking, too.
    let wide = "[body.l].map(a, [a, a])".to_owned() + &".map(a, [a, a])".repeat(10);
    let compared = format!("[{wide}].all(x, [x, x].all(y, y == x && y == x && y == x))");
    assert_eq!(outcome(&compared), Err(EvalError::TooMuch));
}

#[test]
fn a_text_is_split_and_what_is_not_there_stays_absent() {
    let data = Data(
        json!({ "body": { "next": "http://h/a?$skip=3?x", "plain": "http://h/a", "s": "a,b,,c" } }),
    );
    let eval = |text: &str| {
        let expr = Expr::compile(text, &ROOTS).unwrap();
        let value = expr.eval(&data).map_err(|e| e.to_string());
        value.map(|v| {
            v.to_json()
                .map_or_else(|| "absent".into(), |v| v.to_string())
        })
    };
    let table = [
        ("body.s.split(',')", Ok(r#"["a","b","","c"]"#)),
        ("body.s.split(',', 2)", Ok(r#"["a","b,,c"]"#)),
        ("body.s.split(',', 0)", Ok("[]")),
        ("body.s.split(',', -1)", Ok(r#"["a","b","","c"]"#)),
        ("body.s.split('', 3)", Ok(r#"["a",",","b,,c"]"#)),
        ("'äb'.split('')", Ok(r#"["ä","b"]"#)),
        ("''.split('')", Ok("[]")),
        ("'?' + body.next.split('?', 2)[1]", Ok(r#""?$skip=3?x""#)),
        (
            "'?' + body[?'next'].split('?', 2)[?1]",
            Ok(r#""?$skip=3?x""#),
        ),
        ("'?' + body[?'other'].split('?', 2)[?1]", Ok("absent")),
        ("'?' + body.plain.split('?', 2)[?1]", Ok("absent")),
        ("body.?other + 1", Ok("absent")),
        ("body.s.split(1)", Err("split has no meaning for string")),
    ];
    for (text, expected) in table {
        let expected = expected.map(str::to_owned).map_err(str::to_owned);
        assert_eq!(eval(text), expected, "{text}");
    }
    let long = Data(json!({ "body": { "s": ",".repeat(1 << 20) } }));
    let expr = Expr::compile("body.s.split(',')", &ROOTS).unwrap();
    let wrong = expr.eval(&long).unwrap_err().to_string();
    assert!(wrong.contains("more than 16384 parts"), "{wrong}");
}

#[test]
fn a_text_that_would_become_too_long_is_refused_before_it_is_made() {
    let data = Data(json!({ "body": { "s": "a".repeat(1 << 19), "t": "b".repeat(1 << 19) } }));
    let outcome = |text: &str| Expr::compile(text, &ROOTS).unwrap().eval(&data).map(|_| ());
    // 2^19 times 2^19 bytes: only a count can refuse that in time.
    let wrong = outcome("body.s.replace('a', body.t)").unwrap_err();
    assert!(wrong.to_string().contains("more than 1 MiB"), "{wrong}");
    let wrong = outcome("body.s.replace('', body.t)").unwrap_err();
    assert!(wrong.to_string().contains("more than 1 MiB"), "{wrong}");
    assert_eq!(outcome("body.s.replace('a', 'b')"), Ok(()));
    assert_eq!(outcome("body.s.replace('zz', body.t)"), Ok(()));
    assert_eq!(outcome("body.s.replace('a', '')"), Ok(()));
}

#[test]
fn references_are_listed_with_their_paths() {
    let expr = Expr::compile(
        "body.legs.map(l, l.m + query.n)[0] > 1 || has(body.a.b) || body.c.?d == body[query.k].e",
        &ROOTS,
    )
    .unwrap();
    let list: Vec<_> = expr
        .references()
        .iter()
        .map(|r| {
            let names: Vec<_> = r
                .steps
                .iter()
                .map(|s| {
                    if s.optional {
                        format!("?{}", s.name)
                    } else {
                        s.name.clone()
                    }
                })
                .collect();
            format!("{}{}", names.join("."), if r.fixed { "" } else { "[]" })
        })
        .collect();
    assert_eq!(
        list,
        [
            "body.legs",
            "body.legs.l.m[]",
            "query.n",
            "body.a.?b",
            "body.c.?d",
            "query.k",
            "body[]"
        ]
    );
    assert!(
        Expr::compile("body", &ROOTS)
            .unwrap()
            .as_plain_path()
            .is_some()
    );
    assert!(
        Expr::compile("body.size()", &ROOTS)
            .unwrap()
            .as_plain_path()
            .is_none()
    );
}

#[test]
fn templates_leave_absent_members_out() {
    let template = Template::compile(&json!({"route": "=path.route", "note": "==literal", "gone": "=body.?nothing", "list": ["=query.n", "=body.?x", 1]}), &ROOTS).unwrap();
    assert_eq!(
        template.render(&data()).unwrap().unwrap(),
        json!({"route": "FAR-MAR", "note": "=literal", "list": [3, 1]})
    );
    let errors =
        Template::compile(&json!({"a": {"b": "=path.("}, "c": "=1 +"}), &ROOTS).unwrap_err();
    assert_eq!(
        errors.iter().map(|(p, _)| p.join("/")).collect::<Vec<_>>(),
        ["a/b", "c"]
    );
}

/// Source texts of well-typed expressions over whole numbers, texts and truth values.
fn whole(depth: u32) -> BoxedStrategy<String> {
    let leaf = prop_oneof![
        (-9i64..10).prop_map(|i| i.to_string()),
        Just("query.n".to_owned()),
        Just("size(body.list)".to_owned())
    ];
    leaf.prop_recursive(depth, 24, 3, |inner| {
        prop_oneof![
            (
                inner.clone(),
                prop_oneof!["\\+", "-", "\\*", "/", "%"],
                inner.clone()
            )
                .prop_map(|(a, op, b)| format!("({a} {op} {b})")),
            (truth_of(inner.clone()), inner.clone(), inner)
                .prop_map(|(c, a, b)| format!("({c} ? {a} : {b})")),
        ]
    })
    .boxed()
}

fn truth_of(number: impl Strategy<Value = String> + Clone + 'static) -> BoxedStrategy<String> {
    let leaf = prop_oneof![
        Just("true".to_owned()),
        Just("has(body.none)".to_owned()),
        Just("path.route.startsWith('FAR')".to_owned()),
        (
            number.clone(),
            prop_oneof!["==", "!=", "<", "<=", ">", ">="],
            number.clone()
        )
            .prop_map(|(a, op, b)| format!("({a} {op} {b})")),
        number.clone().prop_map(|n| format!("({n} in body.list)")),
        number.prop_map(|n| format!("body.list.exists(x, x == {n})")),
    ];
    leaf.prop_recursive(3, 16, 2, |inner| {
        prop_oneof![
            (inner.clone(), prop_oneof!["&&", "\\|\\|"], inner.clone())
                .prop_map(|(a, op, b)| format!("({a} {op} {b})")),
            inner.prop_map(|a| format!("!({a})")),
        ]
    })
    .boxed()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

    /// Our evaluator and the `cel` crate give the same value, or both none.
    #[test]
    fn agrees_with_an_independent_implementation(source in prop_oneof![whole(3), truth_of(whole(2))]) {
        let ours = eval(&source);
        let mut context = cel::Context::default();
        let map = |name: &'static str, value: cel::Value| std::collections::HashMap::from([(name, value)]);
        context.add_variable_from_value("path", map("route", "FAR-MAR".into()));
        context.add_variable_from_value("query", map("n", 3i64.into()));
        let mut body = map("list", vec![1i64, 2, 3].into());
        body.insert("none", cel::Value::Null);
        context.add_variable_from_value("body", body);
        let theirs = cel::Program::compile(&source).map_err(|e| e.to_string()).and_then(|p| p.execute(&context).map_err(|e| e.to_string()));
        match (&ours, &theirs) {
            (Ok(a), Ok(cel::Value::Int(b))) => prop_assert_eq!(a, &b.to_string()),
            (Ok(a), Ok(cel::Value::Bool(b))) => prop_assert_eq!(a, &b.to_string()),
            (Err(_), Err(_)) => {}
            // A bound that only ours has: what is drawn may be larger.
            (Err(e), Ok(_)) if e.ends_with("more than 400 parts") => {}
            other => prop_assert!(false, "{}: {:?}", source, other),
        }
    }

    #[test]
    fn arbitrary_text_never_panics(source in "\\PC{0,60}") {
        let _ = eval(&source);
    }
}

#[test]
fn what_may_have_no_value_says_so() {
    for (source, may) in [
        ("body.amount", false),
        ("body.?amount", true),
        ("body.?legs[0].from", true),
        ("body[?'amount']", true),
        ("body.?amount.orValue(1)", false),
        ("body.?amount.orValue(body.?list)", true),
        ("body.?amount + 1", true),
        ("body.?amount == 1", false),
        ("string(body.?amount)", true),
        ("true ? body.amount : body.?amount", true),
        ("has(body.amount)", false),
        ("[body.?amount]", false),
        // Texts that look like one.
        ("'a.?b'", false),
        ("body.?amount + 'orValue'", true),
    ] {
        let expr = Expr::compile(source, &["path", "query", "body"]).unwrap();
        assert_eq!(expr.may_be_absent(), may, "{source}");
    }
}

#[test]
fn bound_secrets_are_sent_whole_or_compared() {
    let bound = |source: &str| {
        let mut expr = Expr::compile(source, &["body", "secret"]).unwrap();
        expr.bind(&mut |root, name| {
            (root == 1 && name == "hook").then(|| std::sync::Arc::from("sheet"))
        });
        expr
    };
    for (source, shows, apart) in [
        ("secret.hook", true, false),
        ("'Token ' + secret.hook + '.'", true, false),
        ("body.a == 1 ? secret.hook : 'none'", true, false),
        ("[secret.hook, {'of': secret.hook}]", true, false),
        ("secret['hook'] == body.a", false, false),
        ("body.a != secret.hook && true", false, false),
        ("secret.hook == secret.hook", false, false),
        ("secret.hook.size()", true, true),
        ("secret.hook.startsWith('s')", true, true),
        ("secret.hook.split('')", true, true),
        ("secret.hook < body.a", true, true),
        ("secret.hook in body.list", true, true),
        ("secret.hook.matches('s.*')", true, true),
        ("secret.hook + 'x' == body.a", true, true),
        ("{secret.hook: 1}", true, true),
        ("body[secret.hook]", true, true),
        ("body.list.map(x, x + secret.hook)", true, true),
        ("secret.hook.contains('s') ? 1 : 2", true, true),
        ("!(secret.hook == 's') ? 1 : 2", false, false),
    ] {
        let mut expr = bound(source);
        assert_eq!(expr.shows_secrets(), shows, "{source}");
        assert_eq!(expr.takes_secrets_apart(), apart, "{source}");
        assert!(!format!("{expr:?}").contains("sheet\""), "{expr:?}");
    }
    struct Body(Value);
    impl Scope for Body {
        fn member<'s>(&'s self, root: usize, name: &str) -> Option<Val<'s>> {
            (root == 0).then(|| self.0.get(name).map(Val::of))?
        }
        fn whole(&self, _: usize) -> Val<'_> {
            Val::Absent
        }
    }
    let body = Body(json!({ "a": "sheet", "b": "shee", "n": 5, "list": ["sheet"] }));
    for (source, value) in [
        ("secret.hook == body.a", true),
        ("body.a != secret.hook", false),
        ("body.b == secret.hook", false),
        ("body.n == secret.hook", false),
        ("body.list == secret.hook", false),
        ("secret.hook == secret.hook", true),
        ("body.list.exists(x, x == secret.hook)", true),
        ("body.?gone == secret.hook", false),
    ] {
        let expr = bound(source);
        let came = expr.eval(&body).unwrap().to_json();
        assert_eq!(came, Some(json!(value)), "{source}");
    }
}
