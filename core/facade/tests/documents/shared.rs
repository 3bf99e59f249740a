//! Shared rules: what reaches which operation, what holds of it, and each mistake where it stands.

use super::*;

const CONTRACT: &str = "openapi: 3.1.0
info: { title: T, version: 1.0.0 }
paths:
  /a/{id}:
    parameters: [{ name: id, in: path, required: true, schema: { type: string } }]
    get: { operationId: look, responses: { '200': { description: ok }, '409': { description: no } } }
    put: { operationId: change, requestBody: { content: { application/json: { schema: { type: object } } } }, responses: { '200': { description: ok }, '409': { description: no } } }
";

const PLAIN: &str =
    "operations:\n  look: { call: { backend: b } }\n  change: { call: { backend: b2 } }\n";

fn files(rules: &str, facade: &str) -> Files {
    let backend = |name: &str| {
        let text = format!(
            "elm-porch: backend/1\nname: {name}\nkind: http\naddress: http://127.0.0.1:1\n"
        );
        (format!("{name}.yaml"), text)
    };
    let mut files = Files::from([backend("b"), backend("b2")]);
    files.insert("c.yaml".into(), CONTRACT.into());
    let facade = format!("elm-porch: facade/1\nname: f\nbase: /f\ncontract: c.yaml\n{facade}");
    files.insert("f.yaml".into(), facade);
    let rules = format!("elm-porch: rules/1\nname: house\n{rules}");
    files.insert("house.yaml".into(), rules);
    files
}

/// The rules of an operation that stand in some document: stage, rule, reach, place, and by what they are overridden.
fn acting(files: Files, operation: &str) -> Vec<String> {
    let model = model(files);
    let checked = model.facade("f").unwrap();
    assert!(!has_errors(&checked.findings), "{:?}", checked.findings);
    let facade = checked.compiled.as_ref().unwrap();
    let rules = effective(facade, facade.operation(operation).unwrap());
    let rules = rules.into_iter().filter(|r| !r.place.file.is_empty());
    let rules = rules.filter(|r| !matches!(r.stage, "match" | "call"));
    rules
        .map(|r| {
            let p = &r.place;
            let by = r.overridden_by.as_ref();
            let by = by.map_or_else(String::new, |b| format!(" by {}:{}", b.file, b.line));
            format!(
                "{} | {} | {} | {}:{}{by}",
                r.stage, p.rule, p.reach, p.file, p.line
            )
        })
        .collect()
}

fn told(files: &Files) -> Vec<String> {
    let all = check(files, "live");
    all.iter().map(|f| first(std::slice::from_ref(f))).collect()
}

#[test]
fn all_that_reaches_an_operation_acts_the_widest_first() {
    let mut files = files(
        "parameters:\n  most: { type: integer, default: 5 }\n  field: { default: X-House }\nadmit: { limits: [{ requests: =parameters.most, window: 1m, per: everyone }] }\nchanges:\n  reply: { headers: [{ op: set, name: =parameters.field, value: \"='at most ' + string(parameters.most)\" }] }\n",
        "rules: [house]\nchanges: { reply: { headers: [{ op: remove, name: Server }] } }\noperations:\n  look: { call: { backend: b }, rules: [{ name: mine, with: { why: tides } }] }\n  change: { call: { backend: b2 } }\n",
    );
    let everywhere = "elm-porch: rules/1\nname: all\nreach: everywhere\nadmit: { max-body: 64KiB, credentials: [key] }\n";
    let behind = "elm-porch: rules/1\nname: behind\nreach: { backends: [b] }\nrefuse: [{ when: \"=path.id == 'x'\", status: 409, title: No }]\n";
    let mine = "elm-porch: rules/1\nname: mine\nparameters: { why: {} }\nchanges: { request: { headers: [{ op: set, name: X-Why, value: =parameters.why }] } }\n";
    for (name, text) in [
        ("all.yaml", everywhere),
        ("behind.yaml", behind),
        ("mine.yaml", mine),
    ] {
        files.insert(name.into(), text.into());
    }
    assert_eq!(
        acting(files.clone(), "look"),
        [
            "admit | a key is demanded in the header API-Key | everywhere | all.yaml:4",
            "admit | limit 5 in 1m per everyone | facade f | house.yaml:6",
            "admit | body at most 65536 bytes | everywhere | all.yaml:4",
            "admit | parameters fit the contract: id | operation look | f.yaml:8",
            "admit | query parameters that the contract has not are refused | operation look | f.yaml:8",
            "prepare | refuses with 409: No | backend b | behind.yaml:4",
            "prepare | path, query and headers are built; the body streams through | operation look | f.yaml:8",
            "prepare | set the field X-Why | operation look | mine.yaml:4",
            "reply | the answer streams through | operation look | f.yaml:8",
            "reply | set the field X-House | facade f | house.yaml:8",
            "reply | remove the field Server | facade f | f.yaml:6",
        ]
    );
    let other = acting(files.clone(), "change");
    assert!(
        other
            .iter()
            .all(|r| !r.contains("behind.yaml") && !r.contains("mine.yaml"))
    );
    assert!(other.iter().any(|r| r.contains("all.yaml:4")));
    // All of it is in what a release keeps, and nothing else.
    let bundle = model(files).bundle("f").unwrap();
    let names: Vec<&str> = bundle.keys().map(String::as_str).collect();
    assert_eq!(
        names,
        [
            "all.yaml",
            "b.yaml",
            "b2.yaml",
            "behind.yaml",
            "c.yaml",
            "f.yaml",
            "house.yaml",
            "mine.yaml"
        ]
    );
}

#[test]
fn a_narrower_reach_tightens_and_relaxes_only_what_is_a_default() {
    let rules = "reach: everywhere\nadmit: { max-body: 1KiB, unknown-query: refuse, contract: check, credentials: [key], limits: [{ requests: 9, window: 1m, per: address }] }\ncors: { origins: ['https://*.harbour.example'] }\nanswers: report\n";
    let facade = "admit: { max-body: 2KiB, unknown-query: pass, credentials: [] }\noperations:\n  look: { call: { backend: b }, admit: { max-body: 512B, limits: [] }, cors: { origins: ['https://a.harbour.example'] }, answers: refuse }\n  change: { call: { backend: b2 }, admit: { contract: pass }, cors: { origins: ['*'] }, answers: pass }\n";
    let fixed = files(rules, facade);
    assert_eq!(
        acting(fixed.clone(), "look"),
        [
            "admit | a key is demanded in the header API-Key | everywhere | house.yaml:4",
            "admit | limit 9 in 1m per address | everywhere | house.yaml:4",
            "admit | body at most 512 bytes | operation look | f.yaml:7",
            "admit | parameters fit the contract: id | operation look | f.yaml:7",
            "admit | query parameters that the contract has not are refused | everywhere | house.yaml:4",
            "prepare | path, query and headers are built; the body streams through | operation look | f.yaml:7",
            "reply | the answer streams through | operation look | f.yaml:7",
            "reply | replies that do not fit the contract are refused with 502 | operation look | f.yaml:7",
            "overridden | no credentials are demanded | facade f | f.yaml:5 by house.yaml:4",
            "overridden | no limit of its own | operation look | f.yaml:7 by house.yaml:4",
            "overridden | body at most 2048 bytes | facade f | f.yaml:5 by house.yaml:4",
            "overridden | body at most 1024 bytes | everywhere | house.yaml:4 by f.yaml:7",
            "overridden | query parameters that the contract has not pass | facade f | f.yaml:5 by house.yaml:4",
            "overridden | replies that do not fit the contract are counted and told in traces | everywhere | house.yaml:6 by f.yaml:7",
            "overridden | pages of https://*.harbour.example may call | everywhere | house.yaml:5 by f.yaml:7",
        ]
    );
    let warned = [
        "f.yaml:5:20 this relaxes what house.yaml fixes, and does not hold (house.yaml:4 (everywhere): body at most 1024 bytes; only what is named below `defaults:` may be relaxed)",
        "f.yaml:5:41 this relaxes what house.yaml fixes, and does not hold (house.yaml:4 (everywhere): query parameters that the contract has not are refused; only what is named below `defaults:` may be relaxed)",
        "f.yaml:8:55 this relaxes what house.yaml fixes, and does not hold (house.yaml:4 (everywhere): requests are held against the contract's schemas; only what is named below `defaults:` may be relaxed)",
        "f.yaml:8:69 this relaxes what house.yaml fixes, and does not hold (house.yaml:5 (everywhere): pages of https://*.harbour.example may call; only what is named below `defaults:` may be relaxed)",
        "f.yaml:8:98 this relaxes what house.yaml fixes, and does not hold (house.yaml:6 (everywhere): replies that do not fit the contract are counted and told in traces; only what is named below `defaults:` may be relaxed)",
    ];
    let mut all = told(&fixed);
    all.retain(|t| !t.contains("a key is demanded") && !t.contains("limit 9"));
    assert_eq!(all, warned);
    // To say that there is nothing relaxes something too.
    let told_of = |part: &str| told(&fixed).iter().filter(|t| t.contains(part)).count();
    assert_eq!(
        (
            told_of("(everywhere): a key is demanded;"),
            told_of("(everywhere): limit 9 in 1m per address;")
        ),
        (1, 1)
    );
    let open = "admit: { credentials: [key], max-body: 1KiB }\noperations:\n  look: { call: { backend: b }, admit: { credentials: [], max-body: 2KiB } }\n  change: { call: { backend: b2 } }\n";
    let mut own = files("", open);
    own.remove("house.yaml");
    let own = told(&own);
    let tighten = "an operation can tighten this, and not relax it)";
    assert!(
        own.len() == 2
            && own
                .iter()
                .all(|t| t.starts_with("f.yaml:7:") && t.ends_with(tighten)),
        "{own:#?}"
    );
    // The same as defaults: whatever is narrower says how it is.
    let defaults = format!(
        "{rules}defaults: [credentials, limits, max-body, contract, unknown-query, answers, cors]\n"
    );
    let relaxed = files(&defaults, facade);
    assert_eq!(told(&relaxed), [""; 0]);
    let acts = acting(relaxed, "look");
    assert!(
        acts.iter()
            .all(|r| !r.starts_with("admit | a key") && !r.starts_with("admit | limit")),
        "{acts:#?}"
    );
    for expected in [
        "overridden | a key is demanded | everywhere | house.yaml:4 by f.yaml:5",
        "overridden | limit 9 in 1m per address | everywhere | house.yaml:4 by f.yaml:7",
        "overridden | body at most 2048 bytes | facade f | f.yaml:5 by f.yaml:7",
    ] {
        assert!(acts.iter().any(|r| r == expected), "{expected}: {acts:#?}");
    }
}

#[test]
fn behind_a_default_that_was_relaxed_a_wider_word_still_holds() {
    let mut files = files(
        "admit: { max-body: 1KiB }\ndefaults: [max-body]\n",
        &format!("rules: [house]\nadmit: {{ max-body: 8KiB }}\n{PLAIN}"),
    );
    let wide = "elm-porch: rules/1\nname: all\nreach: everywhere\nadmit: { max-body: 4KiB }\n";
    files.insert("all.yaml".into(), wide.into());
    let acts = acting(files, "look");
    let of_size: Vec<&String> = acts.iter().filter(|r| r.contains("body at most")).collect();
    assert_eq!(
        of_size,
        [
            "admit | body at most 1024 bytes | facade f | house.yaml:3",
            "overridden | body at most 4096 bytes | everywhere | all.yaml:4 by house.yaml:3",
            "overridden | body at most 8192 bytes | facade f | f.yaml:6 by all.yaml:4",
        ]
    );
}

#[test]
fn limits_are_counted_by_all_that_they_reach() {
    let limit = "admit: { limits: [{ requests: 9, window: 1m, per: everyone }] }\n";
    let ids = |rules: &str, facade: &str| -> Vec<u64> {
        let mut all = files(rules, facade);
        let other = all["f.yaml"].replace("name: f\nbase: /f", "name: g\nbase: /g");
        all.insert("g.yaml".into(), other);
        let model = model(all);
        let of = |facade: &str, operation: &str| {
            let checked = model.facade(facade).unwrap();
            assert!(!has_errors(&checked.findings), "{:?}", checked.findings);
            let facade = checked.compiled.clone().unwrap();
            let limits = &facade.operation(operation).unwrap().admission.limits;
            assert_eq!(limits.plain.len(), 1);
            limits.plain[0].id
        };
        [("f", "look"), ("f", "change"), ("g", "look")]
            .map(|(f, o)| of(f, o))
            .into()
    };
    let everywhere = ids(&format!("reach: everywhere\n{limit}"), PLAIN);
    assert!(everywhere.iter().all(|id| *id == everywhere[0]));
    let backends = ids(&format!("reach: {{ backends: [b, b2] }}\n{limit}"), PLAIN);
    assert!(backends[0] == backends[2] && backends[0] != backends[1]);
    let of_facade = ids(limit, &format!("rules: [house]\n{PLAIN}"));
    assert!(of_facade[0] == of_facade[1] && of_facade[0] != of_facade[2]);
    let own = PLAIN.replace("backend: b }", "backend: b }, rules: [house]");
    let own = own.replace("backend: b2 }", "backend: b2 }, rules: [house]");
    let own = ids(limit, &own);
    assert!(own[0] != own[1] && own[0] != own[2]);
}

#[test]
fn each_mistake_is_told_where_it_stands() {
    let limits = "admit: { limits: [{ requests: =parameters.most, window: 1m, per: everyone }] }\n";
    let with = |value: &str| format!("rules: [{{ name: house, with: {{ {value} }} }}]\n{PLAIN}");
    let most = format!("parameters: {{ most: {{ type: integer }} }}\n{limits}");
    let mut wrong = Vec::new();
    for (rules, facade, expected) in [
        (
            most.clone(),
            format!("rules: [hause]\n{PLAIN}"),
            "f.yaml:5:9 there are no shared rules “hause” (did you mean “house”?)",
        ),
        (
            most.clone(),
            format!("rules: [house]\n{PLAIN}"),
            "f.yaml:5:9 “house” needs a value for “most” (write { name: house, with: { most: … } })",
        ),
        (
            most.clone(),
            with("most: lots"),
            "f.yaml:5:38 “most” is a whole number (so says house.yaml)",
        ),
        (
            most.clone(),
            with("most: -1"),
            "f.yaml:5:38 a whole number is expected here, from 0 and not too large (it is used at house.yaml:4:31)",
        ),
        (
            most.clone(),
            with("most: 1, mots: 2"),
            "f.yaml:5:47 “house” has no parameter “mots” (did you mean “most”?)",
        ),
        (
            most.clone(),
            with("most: 0"),
            "house.yaml:4:19 a limit of 0 lets nobody pass (pause the operation instead; with the values of f.yaml:5)",
        ),
        (
            most.clone(),
            format!("rules: [{{ nam: house }}]\n{PLAIN}"),
            "f.yaml:5:9 a name of shared rules, or { name: …, with: { … } }, is expected here ()",
        ),
        (
            most.clone(),
            format!("rules: [{{ name: house, with: {{ most: 1 }} }}, house]\n{PLAIN}"),
            "f.yaml:5:45 “house” is used twice here ()",
        ),
        (
            limits.to_owned(),
            format!("rules: [house]\n{PLAIN}"),
            "house.yaml:3:31 there is no parameter “most” (add it below `parameters:`)",
        ),
        (
            format!("reach: everywhere\n{most}"),
            PLAIN.to_owned(),
            "house.yaml:4:15 “most” needs a default (rules with a reach of their own act without being given values)",
        ),
        (
            "reach: everywhere\n".to_owned(),
            format!("rules: [house]\n{PLAIN}"),
            "f.yaml:5:9 “house” acts everywhere, and need not be used (leave it out here, or its `reach:` there)",
        ),
        (
            "reach: { backends: [bb] }\n".to_owned(),
            PLAIN.to_owned(),
            "house.yaml:3:21 there is no backend “bb” (did you mean “b”?)",
        ),
        (
            "reach: nowhere\n".to_owned(),
            PLAIN.to_owned(),
            "house.yaml:3:8 “nowhere” is not known here (known are everywhere, backends)",
        ),
        (
            "parameters: { a-b: { default: x } }\n".to_owned(),
            PLAIN.to_owned(),
            "house.yaml:3:15 “a-b” is no name of a parameter (it has letters, digits and `_`, so that expressions can name it)",
        ),
        (
            "parameters: { a: { type: integer, default: x } }\n".to_owned(),
            PLAIN.to_owned(),
            "house.yaml:3:44 this is not a whole number (`type:` says what kind of value it has; a text unless given)",
        ),
        (
            "amdit: {}\n".to_owned(),
            PLAIN.to_owned(),
            "house.yaml:3:1 “amdit” is not known here (did you mean “admit”?)",
        ),
        (
            "reach: everywhere\nrefuse: [{ when: =path.di == '1', status: 409, title: No }]\n"
                .to_owned(),
            PLAIN.to_owned(),
            "house.yaml:4:24 the path has no variable “di” (did you mean “id”?)",
        ),
        (
            "reach: everywhere\nrefuse: [{ when: =path.id == '1', status: 403, title: No }]\n"
                .to_owned(),
            PLAIN.to_owned(),
            "house.yaml:4:43 c.yaml does not say of all its operations that they answer 403 (add the response to the contract, so that callers know of it)",
        ),
        (
            "admit: {}\n".to_owned(),
            PLAIN.to_owned(),
            "house.yaml:1:1 no facade uses the rules “house” ()",
        ),
    ] {
        let all = told(&files(&rules, &facade));
        if all.first().map(String::as_str) != Some(expected) {
            wrong.push(format!("{rules}{facade}\n{all:#?}\n{expected}\n"));
        }
        if all.iter().filter(|t| *t == expected).count() > 1 {
            wrong.push(format!("told twice: {expected}\n"));
        }
    }
    assert!(wrong.is_empty(), "\n{}", wrong.concat());
}

#[test]
fn what_is_not_there_because_its_document_cannot_be_read_is_told_once() {
    let mut files = files("title: [\n", &format!("rules: [house]\n{PLAIN}"));
    assert_eq!(told(&files).len(), 1);
    let broken = "elm-porch: rules/1\nname: house\nparameters: 3\n";
    files.insert("house.yaml".into(), broken.into());
    assert_eq!(told(&files).len(), 1);
}

#[test]
fn what_is_too_much_is_refused() {
    use std::fmt::Write;
    let change = "{ op: remove, name: x }";
    let many = vec![change; 200].join(", ");
    let rules = format!("changes: {{ reply: {{ headers: [{many}] }} }}\n");
    let mut contract = String::from("openapi: 3.1.0\ninfo: { title: T, version: 1.0.0 }\npaths:\n");
    let mut facade = String::from("operations:\n");
    for i in 0..600 {
        let _ = writeln!(
            contract,
            "  /a/{i}: {{ get: {{ operationId: o{i}, responses: {{ '200': {{ description: ok }} }} }} }}"
        );
        let _ = writeln!(facade, "  o{i}: {{ call: {{ backend: b }} }}");
    }
    let mut files = files(&rules, &facade);
    files.insert("c.yaml".into(), contract);
    for i in 0..20 {
        let text = format!("elm-porch: rules/1\nname: more{i}\nreach: everywhere\n{rules}");
        files.insert(format!("more{i}.yaml"), text);
    }
    let all = told(&files);
    assert!(
        all[0].contains("2412000 rules of other documents act on this facade's operations"),
        "{}",
        all[0]
    );
}
