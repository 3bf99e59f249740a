//! REST shapes, schemas and JSON.

use super::*;

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
            "GET /berths/{berthId} ",
            "POST /berths berth",
            "PATCH /berths/{berthId} berth",
            "DELETE /berths/{berthId} ",
            "POST /berths/{berthId}:close *",
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
        ["/things/{name}", "/two", "/three"]
    );
}

#[test]
fn what_the_json_of_well_known_types_and_limits_looks_like() {
    let d = read(
        &files(&[("e.proto", include_str!("../fixtures/everything.proto"))]),
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
fn ids_and_paths_do_not_depend_on_the_order_of_the_source_and_rules_share_no_route() {
    let service = |name: &str| {
        format!(
            "service {name} {{ rpc GetBerth(Ask) returns (Ask); rpc WatchBerth(Ask) returns (Ask); rpc Same(Ask) returns (Ask) {{ option (google.api.http) = {{ get: \"/v1/same/{{name}}\" }}; }} }}\n"
        )
    };
    let read = |services: [&str; 3]| {
        let text: String = services.map(service).concat();
        let text = format!(
            "syntax = \"proto3\";\npackage t;\nimport \"google/api/annotations.proto\";\nmessage Ask {{ string name = 1; }}\n{text}"
        );
        let files = porch_grpc::read::Files::from([("t.proto".to_owned(), text)]);
        let definition = porch_grpc::read(&files, &|_, _| ()).unwrap();
        let shapes = porch_grpc::propose::shapes(&definition);
        let mut all: Vec<String> = shapes
            .iter()
            .map(|s| format!("{} {} {} {}", s.calls, s.id, s.method, s.path))
            .collect();
        all.sort();
        (all, shapes)
    };
    let (one, shapes) = read(["Quay", "Dock", "Pier"]);
    assert_eq!(one, read(["Pier", "Quay", "Dock"]).0);
    assert_eq!(one.len(), 9);
    let mut routes: Vec<String> = shapes
        .iter()
        .map(|s| format!("{} {}", s.method, s.path))
        .collect();
    routes.sort();
    routes.dedup();
    assert_eq!(routes.len(), 9, "{one:#?}");
    let told = shapes.iter().filter(|s| {
        s.why
            .contains("GET /v1/same/{name} is the route of another rule too")
    });
    assert_eq!(told.count(), 2);
}

#[test]
fn what_is_listed_of_one_other_thing_lies_below_it() {
    let path = |fields: &str| {
        let d = one(&format!(
            "syntax = \"proto3\"; package q; import \"google/api/field_behavior.proto\"; message Ask {{ {fields} }} message B {{}} service S {{ rpc ListBerths(Ask) returns (B); }}"
        ));
        shapes(&d)[0].path.clone()
    };
    let must = "[(google.api.field_behavior) = REQUIRED]";
    assert_eq!(
        path(&format!("string harbour_id = 1 {must}; int32 most = 2;")),
        "/harbours/{harbourId}/berths"
    );
    assert_eq!(path("string harbour_id = 1;"), "/berths");
    assert_eq!(path(&format!("string berth_id = 1 {must};")), "/berths");
    assert_eq!(
        path(&format!(
            "string harbour_id = 1 {must}; string ship_id = 2 {must};"
        )),
        "/berths"
    );
}
