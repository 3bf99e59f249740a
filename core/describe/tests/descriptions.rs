//! Descriptions as they come: what is published of each, and what is told of the rest. Fixtures are named for what they bring.

use std::collections::BTreeMap;
use std::path::Path;

use porch_describe::{Described, describe};
use serde_json::Value;

/// Reads a fixture: a file, or a folder whose main file is `main.yaml`.
fn read(name: &str) -> (Described, Vec<String>) {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/fixtures");
    let (mut files, mut main) = (BTreeMap::new(), name.to_owned());
    if root.join(name).is_dir() {
        main = "main.yaml".into();
        for entry in walk(&root.join(name)) {
            let path = entry.strip_prefix(root.join(name)).unwrap();
            let text = std::fs::read_to_string(&entry).unwrap();
            files.insert(path.to_string_lossy().into_owned(), text);
        }
    } else {
        let text = std::fs::read_to_string(root.join(name)).unwrap();
        files.insert(main.clone(), text);
    }
    given(&files, &main)
}

fn walk(folder: &Path) -> Vec<std::path::PathBuf> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            found.extend(walk(&path));
        } else {
            found.push(path);
        }
    }
    found
}

fn given(files: &BTreeMap<String, String>, main: &str) -> (Described, Vec<String>) {
    let (described, findings) = describe(files, main, "");
    let told = findings
        .iter()
        .map(|f| format!("{} {}", f.place(), f.message));
    (described.expect("a description"), told.collect())
}

fn text(text: &str) -> (Described, Vec<String>) {
    let files = BTreeMap::from([("t.yaml".to_owned(), text.to_owned())]);
    given(&files, "t.yaml")
}

/// Operations as `id METHOD path -> path at the backend`.
fn operations(described: &Described) -> Vec<String> {
    let all = described.contract.operations.values();
    let shown = all.map(|o| {
        let upstream = &described.operations[&o.id];
        let own = upstream
            .path
            .as_ref()
            .map_or(String::new(), |p| format!(" -> {p}"));
        let server = upstream
            .server
            .as_ref()
            .map_or(String::new(), |s| format!(" @ {s}"));
        format!("{} {} {}{own}{server}", o.id, o.method, o.path)
    });
    shown.collect()
}

fn at<'v>(described: &'v Described, pointer: &str) -> &'v Value {
    let found = described.contract.document.pointer(pointer);
    found.unwrap_or_else(|| panic!("{pointer} in {:#}", described.contract.document))
}

#[test]
fn openapi_2_0() {
    let (described, told) = read("openapi-2.0.yaml");
    assert_eq!(told, Vec::<String>::new());
    assert_eq!(described.standard, "OpenAPI 2.0");
    assert_eq!(described.servers, ["https://tt.skerry.example/api"]);
    assert_eq!(described.demanded, ["a key in the header “Ferry-Key”"]);
    assert_eq!(
        operations(&described),
        [
            "listQuays GET /quays",
            "addQuay POST /quays",
            "uploadChart POST /quays/{quay}/chart",
        ]
    );
    let list = at(&described, "/paths/~1quays/get");
    let island = &list["parameters"][0];
    assert_eq!(island["style"], "pipeDelimited");
    assert_eq!(island["explode"], false);
    assert_eq!(island["schema"]["items"]["enum"][1], "Maren Quay");
    let quays = &list["responses"]["200"]["content"];
    assert_eq!(
        quays["application/json"]["schema"]["items"]["$ref"],
        "#/components/schemas/Quay"
    );
    assert_eq!(quays["application/json"]["example"][0]["name"], "Old steps");
    assert!(quays.get("application/xml").is_some());
    let add = at(&described, "/paths/~1quays/post/requestBody");
    assert_eq!(add["required"], true);
    let quay = at(&described, "/components/schemas/Quay/properties");
    assert_eq!(quay["depth"]["exclusiveMinimum"], 0);
    assert_eq!(quay["note"]["type"], serde_json::json!(["string", "null"]));
    let upload = at(
        &described,
        "/paths/~1quays~1{quay}~1chart/post/requestBody/content",
    );
    let form = &upload["multipart/form-data"]["schema"];
    assert_eq!(
        form["properties"]["chart"]["contentMediaType"],
        "application/octet-stream"
    );
    assert_eq!(form["required"], serde_json::json!(["chart"]));
}

#[test]
fn two_variables_in_one_segment() {
    let (described, told) = read("two-variables-in-one-segment.yaml");
    assert_eq!(told, Vec::<String>::new());
    assert_eq!(
        operations(&described),
        [
            "page GET /{page}{extension}",
            "parcel GET /parcels/{name}-{version}.zip"
        ]
    );
}

#[test]
fn path_keys_with_query_strings_and_fragments() {
    let (described, told) = read("path-keys-with-query-and-fragment.yaml");
    assert_eq!(
        operations(&described),
        [
            "list GET /tt/list -> /tt?action=list",
            "day GET /tt/day -> /tt?action=day",
            "level GET /tides -> /tides?unit=m",
            "notices GET /notices/all -> /notices",
            "noticesOfDay GET /notices/today -> /notices",
        ]
    );
    let day = &described.contract.operations["day"];
    let names: Vec<(&str, bool)> = day
        .parameters
        .iter()
        .map(|p| (p.name.as_str(), p.required))
        .collect();
    assert_eq!(names, [("d", true)]);
    assert_eq!(told, Vec::<String>::new());
}

#[test]
fn references_across_files() {
    let (described, told) = read("references-across-files");
    assert_eq!(
        told,
        [
            "main.yaml:9:9 the reference “https://elsewhere.example/x.yaml#/P” leads nowhere: “https://elsewhere.example/x.yaml” was not fetched",
            "schemas/berth.yaml:10:13 the reference “missing.yaml#/Tide” leads nowhere: there is no file “missing.yaml”",
        ]
    );
    assert_eq!(
        operations(&described),
        ["readBerth GET /berths/{berth}", "freeBerths GET /free"]
    );
    let read = at(&described, "/paths/~1berths~1{berth}/get");
    let refers = "#/components/parameters/BerthParameter";
    assert_eq!(read["parameters"][0]["$ref"], refers);
    assert_eq!(
        at(&described, "/components/parameters/BerthParameter/name"),
        "berth"
    );
    let schema = &read["responses"]["200"]["content"]["application/json"]["schema"];
    assert_eq!(schema["$ref"], "#/components/schemas/Berth");
    // One thing has one name, however it is reached.
    let neighbours = at(&described, "/components/schemas/Berth/properties/neighbour");
    assert_eq!(neighbours["$ref"], "#/components/schemas/Berth");
    assert_eq!(
        at(&described, "/components/schemas/Berth/properties/depth")["$ref"],
        "#/components/schemas/depth"
    );
    assert_eq!(
        at(&described, "/components/schemas/Berth/properties/tide"),
        &serde_json::json!({})
    );
    assert_eq!(
        at(&described, "/components/schemas/depth")["type"],
        "number"
    );
}

#[test]
fn servers_on_every_level() {
    let (described, _) = read("servers-on-every-level.yaml");
    assert_eq!(described.servers, ["https://live.skerry.example:8443/v2"]);
    assert_eq!(
        operations(&described),
        [
            "a GET /a",
            "b GET /b @ https://b.skerry.example/",
            "c POST /b @ https://c.skerry.example/x",
        ]
    );
    let files = BTreeMap::from([(
        "https://defs.skerry.example/api/tt.yaml".to_owned(),
        "openapi: 3.0.0\ninfo: {}\nservers: [{ url: ../v1 }]\npaths: {}\n".to_owned(),
    )]);
    let (described, _) = given(&files, "https://defs.skerry.example/api/tt.yaml");
    assert_eq!(described.servers, ["https://defs.skerry.example/v1"]);
}

#[test]
fn what_is_not_sound_is_told_and_the_rest_is_read() {
    let (described, told) = read("not-sound.yaml");
    assert_eq!(
        operations(&described),
        [
            "getGood GET /good",
            "postGood POST /good",
            "odd GET /odd/{id}"
        ]
    );
    let wanted = [
        "4:3 an info has no member “titel”",
        "7:5 “fetch” is no method",
        "10:3 the path “/{open”: a “{” has no “}”",
        "the parameter “nowhere” is in no segment of /odd/{id}",
        "“okay” is no status of HTTP",
        "the reference “#/components/schemas/Gone” leads nowhere",
        "“strin” is no type of JSON Schema",
        "“(” is no regular expression",
        "“required” is a list of the names of members that must be there",
        "“minLength” is a whole number, 0 or more",
        "the path variable {id} is not described",
    ];
    for part in wanted {
        assert!(told.iter().any(|t| t.contains(part)), "{part} in {told:#?}");
    }
    let (_, again) =
        porch_contract::parse_contract("c.yaml", &described.contract.document.to_string());
    assert_eq!(again, []);
}

#[test]
fn versions_that_are_not_read_are_refused_with_those_that_are() {
    for (given, wanted) in [
        (
            "swagger: '1.2'",
            "version “1.2” of this description is not read",
        ),
        ("openapi: 4.0.0", "OpenAPI “4.0.0” is not read"),
        ("asyncapi: 2.0.0", "this is no OpenAPI document"),
        ("openapi: [", "not readable as YAML"),
    ] {
        let files = BTreeMap::from([("t.yaml".to_owned(), given.to_owned())]);
        let (none, findings) = describe(&files, "t.yaml", "");
        assert!(none.is_none());
        assert!(findings[0].message.contains(wanted), "{:?}", findings[0]);
    }
}

#[test]
fn circles_chains_and_long_lists_of_references_end() {
    let mut chain = "openapi: 3.1.0\ninfo: { title: T, version: '1' }\npaths:\n  /a: { get: { parameters: [{ $ref: '#/components/parameters/p0' }], responses: { '200': { $ref: '#/components/responses/r0' } } } }\ncomponents:\n  schemas:\n".to_owned();
    for i in 0..20_000 {
        let next = (i + 1) % 20_000;
        chain.push_str(&format!(
            "    s{i}: {{ $ref: '#/components/schemas/s{next}' }}\n"
        ));
        chain.push_str(&format!(
            "    t{i}: {{ properties: {{ x: {{ $ref: '#/components/schemas/t{next}' }} }} }}\n"
        ));
    }
    chain.push_str("  parameters:\n");
    for i in 0..20_000 {
        chain.push_str(&format!(
            "    p{i}: {{ $ref: '#/components/parameters/p{} ' }}\n",
            i + 1
        ));
    }
    chain.push_str("  headers:\n");
    for i in 0..5_000 {
        chain.push_str(&format!("    h{i}: {{ content: {{ a/b: {{ encoding: {{ x: {{ headers: {{ H: {{ $ref: '#/components/headers/h{}' }} }} }} }} }} }} }}\n", i + 1));
    }
    chain.push_str("  responses:\n    r0: { description: r, headers: { H: { $ref: '#/components/headers/h0' } }, content: { application/json: { schema: { oneOf: [{ $ref: '#/components/schemas/t0' }, { $ref: '#/components/schemas/s0' }] } } } }\n");
    let (described, told) = text(&chain);
    let schemas = at(&described, "/components/schemas").as_object().unwrap();
    assert_eq!(schemas.len(), 20_000);
    assert!(
        told.iter().any(|t| t.contains("it leads to itself")),
        "{told:?}"
    );
    assert!(
        told.iter().any(|t| t.contains("through too many others")),
        "{told:?}"
    );
    assert!(described.contract.operations.contains_key("getA"));
}

#[test]
fn one_large_path_item_that_many_paths_refer_to_is_bounded() {
    let mut many = "openapi: 3.1.0\ninfo: { title: T, version: '1' }\npaths:\n".to_owned();
    for i in 0..3_000 {
        many.push_str(&format!(
            "  /a{i}: {{ $ref: '#/components/pathItems/Large' }}\n"
        ));
    }
    many.push_str("components:\n  pathItems:\n    Large:\n      get:\n        responses: { '200': { description: ok } }\n        x-large: [");
    many.push_str(&"1,".repeat(5_000));
    many.push_str("]\n");
    let (described, told) = text(&many);
    assert!(
        told.iter().any(|t| t.contains("the rest is left out")),
        "{told:?}"
    );
    let count = described.contract.operations.len();
    assert!((100..3_000).contains(&count), "{count}");
}

/// Numbers that look as if they were drawn, the same in every run.
struct Drawn(u64);

impl Drawn {
    fn below(&mut self, most: usize) -> usize {
        self.0 = self
            .0
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1);
        (self.0 >> 33) as usize % most.max(1)
    }
}

/// A text with something taken out, doubled, or put in.
fn mutilated(text: &str, drawn: &mut Drawn) -> String {
    const ODD: [&str; 12] = [
        "{",
        "}",
        "]",
        ": ",
        "\n",
        "$ref: '#'",
        "ä",
        "null",
        "*",
        "&a ",
        "9e999",
        "'",
    ];
    let lines: Vec<&str> = text.lines().collect();
    let at = |drawn: &mut Drawn| text.floor_char_boundary(drawn.below(text.len()));
    match drawn.below(if lines.len() < 2 { 2 } else { 4 }) {
        0 => {
            let (a, b) = (at(drawn), at(drawn));
            let (from, to) = (a.min(b), a.max(b).min(a.min(b) + 40));
            let to = text.floor_char_boundary(to);
            format!("{}{}", &text[..from], &text[to..])
        }
        1 => {
            let at = at(drawn);
            format!(
                "{}{}{}",
                &text[..at],
                ODD[drawn.below(ODD.len())],
                &text[at..]
            )
        }
        2 => {
            let (from, to) = (drawn.below(lines.len()), drawn.below(lines.len()));
            let mut lines = lines;
            let line = lines[from];
            lines.insert(to, line);
            lines.join("\n")
        }
        _ => {
            let mut lines = lines;
            lines.remove(drawn.below(lines.len()));
            lines.join("\n")
        }
    }
}

#[test]
fn whatever_is_done_to_a_description_what_comes_of_it_is_a_contract() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/fixtures");
    let mut drawn = Drawn(7);
    let mut read = 0;
    for file in walk(&root) {
        let whole = std::fs::read_to_string(&file).unwrap();
        for _ in 0..300 {
            let mut given = whole.clone();
            for _ in 0..=drawn.below(3) {
                given = mutilated(&given, &mut drawn);
            }
            let files = BTreeMap::from([("t.yaml".to_owned(), given.clone())]);
            let (described, findings) = describe(&files, "t.yaml", "");
            let Some(described) = described else {
                assert!(!findings.is_empty(), "{given}");
                continue;
            };
            read += 1;
            let document = described.contract.document.to_string();
            let (_, wrong) = porch_contract::parse_contract("c.yaml", &document);
            let wrong: Vec<_> = wrong
                .iter()
                .filter(|f| f.severity == porch_contract::Severity::Error)
                .collect();
            assert!(wrong.is_empty(), "{wrong:?}\n{given}\n{document}");
        }
    }
    assert!(read > 300, "{read}");
}

#[test]
fn however_many_want_the_same_name_each_is_found_at_once() {
    let mut many = "openapi: 3.1.0\ninfo: { title: T, version: '1' }\npaths:\n".to_owned();
    for i in 0..20_000 {
        many.push_str(&format!(
            "  /{{a{i}}}: {{ get: {{ responses: {{ '200': {{ $ref: '#/x{i}/Same' }} }} }} }}\n"
        ));
    }
    for i in 0..20_000 {
        many.push_str(&format!("x{i}: {{ Same: {{ description: ok }} }}\n"));
    }
    let (described, _) = text(&many);
    let operations = operations(&described);
    assert_eq!(operations.len(), 20_000);
    assert_eq!(operations[0], "getByA0 GET /{a0}");
    assert_eq!(operations[1], "getByA02 GET /{a0}/2 -> /{a0}");
    let responses = at(&described, "/components/responses").as_object().unwrap();
    assert_eq!(responses.len(), 20_000);
}
