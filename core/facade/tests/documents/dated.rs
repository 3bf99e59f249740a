//! From when operations are deprecated and gone: the narrowest document holds, replies say it, and mistakes stand where they are.

use porch_facade::{Documents, FieldAction};
use porch_rules::expr::Template;

use super::*;

const PATH: &str = "timetable/timetable.facade.yaml";
const OWN: &str = "    deprecation: 2027-03-01 # delays are told by the harbour's own boards from the autumn on\n    sunset: 2027-09-01\n";

/// The demo's timetable with other dates for its facade, and for its notices.
fn with(facade: &str, notice: &str) -> Files {
    let mut files = demo();
    let text = files.get_mut(PATH).unwrap();
    assert!(text.contains(OWN));
    *text = text.replacen(OWN, notice, 1);
    *text = text.replacen("operations:\n", &format!("{facade}operations:\n"), 1);
    files
}

/// The fields that replies of an operation get.
fn fields(files: &Files, operation: &str) -> Vec<(String, String)> {
    let known = HashMap::new();
    let checked = model(files.clone()).compile("timetable", &Secrets::Known(&known));
    let compiled = checked.unwrap().compiled.clone().unwrap();
    let changes = compiled.operation(operation).unwrap().changes.as_deref();
    let reply = changes.map_or(&[][..], |c| &c.reply);
    let told = reply.iter().map(|f| match &f.action {
        FieldAction::Set(Template::Literal(v)) => (f.name.clone(), v.as_str().unwrap().to_owned()),
        other => panic!("{other:?}"),
    });
    told.collect()
}

#[test]
fn the_narrowest_says_the_date_and_what_has_none_costs_nothing() {
    let own = with(
        "deprecation: 2027-02-01\nsunset: 2028-01-01\n",
        "    sunset: 2027-09-01\n",
    );
    let pair = |name: &str, value: &str| (name.to_owned(), value.to_owned());
    assert_eq!(
        fields(&own, "notice"),
        [
            pair("deprecation", "@1801440000"),
            pair("sunset", "Wed, 01 Sep 2027 00:00:00 GMT")
        ]
    );
    assert_eq!(
        fields(&own, "departures")[1],
        pair("sunset", "Sat, 01 Jan 2028 00:00:00 GMT")
    );
    assert!(fields(&with("", ""), "notice").is_empty());
    let doc = &Documents::read(&own).facades["timetable"].doc;
    let (deprecation, sunset) = doc.dates_of("notice");
    assert_eq!(deprecation.unwrap().to_string(), "2027-02-01");
    assert_eq!(sunset.unwrap().to_string(), "2027-09-01");
}

#[test]
fn mistakes_of_dates_are_told_where_they_stand() {
    for (facade, notice, expected) in [
        ("", "    deprecation: 1.3.2027\n", "“1.3.2027” is no day"),
        ("", "    sunset: 2027-02-30\n", "“2027-02-30” is no day"),
        ("sunset: soon\n", "", "“soon” is no day"),
        (
            "",
            "    deprecation: 2027-03-01\n    sunset: 2027-02-28\n",
            ":23:13 the sunset is before the deprecation, 2027-03-01",
        ),
        (
            "deprecation: 2027-03-01\n",
            "    sunset: 2027-02-01\n",
            ":23:13 the sunset is before the deprecation, 2027-03-01",
        ),
    ] {
        let told = check(&with(facade, notice), "live");
        let told: Vec<String> = told
            .iter()
            .map(|f| format!("{} {}", f.place(), f.message))
            .collect();
        assert!(
            told.iter().any(|t| t.contains(expected)),
            "{facade}{notice}: {told:?}"
        );
    }
}
