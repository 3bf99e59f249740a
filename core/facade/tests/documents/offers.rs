//! Offers and the portal: every mistake is found where it stands, and what an offer opens is what it names.

#![allow(
    clippy::too_many_lines,
    reason = "a table of cases is told in one piece"
)]

use porch_facade::{Audience, OfferDoc, Tagged};

use super::*;

fn below(folder: &std::path::Path, within: &str, files: &mut Files) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        let name = path.file_name().unwrap().to_str().unwrap();
        let name = format!("{within}{name}");
        match path.is_dir() {
            true => below(&path, &format!("{name}/"), files),
            false => drop(files.insert(name, std::fs::read_to_string(&path).unwrap())),
        }
    }
}

/// All of the demo's documents.
fn whole() -> Files {
    let mut files = Files::new();
    let demo = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/documents");
    below(std::path::Path::new(demo), "", &mut files);
    files
}

fn changed(file: &str, from: &str, to: &str) -> Vec<Finding> {
    let mut files = whole();
    let text = files.get_mut(file).unwrap();
    assert!(text.contains(from), "{from} is not in {file}");
    *text = text.replacen(from, to, 1);
    check(&files, "live")
}

fn first(findings: &[Finding]) -> String {
    let found = findings
        .iter()
        .find(|f| f.severity != porch_contract::Severity::Note);
    found.map_or_else(String::new, |f| {
        format!("{} {} ({})", f.place(), f.message, f.help)
    })
}

#[test]
fn each_mistake_of_an_offer_or_the_portal_is_found_where_it_stands() {
    let (quay, hand) = (
        "offers/open-quay.offer.yaml",
        "offers/charter-hand.offer.yaml",
    );
    let look = "offers/fortnight-look.offer.yaml";
    let portal = "portal/portal.yaml";
    let mut wrong = Vec::new();
    for (file, from, to, expected) in [
        (
            quay,
            "facade: sailings",
            "facade: sailing",
            "offers/open-quay.offer.yaml:6:15 there is no facade “sailing” (did you mean “sailings”?)",
        ),
        (quay, "requests: 7 }", "request: 7 }", ""),
        (
            quay,
            "requests: 7 }",
            "requests: 7.5 }",
            "offers/open-quay.offer.yaml:8:20 this is no value of the term “requests” (terms are named as in `requests: 7`, with a whole number, a text, or true or false)",
        ),
        (
            quay,
            "requests: 7 }",
            "7requests: 7 }",
            "offers/open-quay.offer.yaml:8:21 “7requests” is no name of a term (terms are named as in `requests: 7`, with a whole number, a text, or true or false)",
        ),
        (
            quay,
            "lasts: 365d\n",
            "",
            "offers/open-quay.offer.yaml:9:10 what does not end is not renewed (say how long it `lasts`)",
        ),
        (
            quay,
            "lasts: 365d",
            "lasts: 59m",
            "offers/open-quay.offer.yaml:9:8 an agreement lasts at least an hour (what is shorter is a limit)",
        ),
        (
            quay,
            "renewed: by-itself",
            "renewed: yearly",
            "offers/open-quay.offer.yaml:10:10 “yearly” is not known here (known are by-asking, by-itself, never)",
        ),
        (
            look,
            "listBerths, getBerth",
            "listBerths, getBerths",
            "offers/fortnight-look.offer.yaml:6:48 berths has no operation “getBerths” (did you mean “getBerth”?)",
        ),
        (
            look,
            "operations: [listBerths, getBerth]",
            "tags: [berth]",
            "offers/fortnight-look.offer.yaml:6:30 no operation of berths has the tag “berth” (its contract gives no operation a tag)",
        ),
        (
            look,
            "ask: signed-in",
            "ask: everyone",
            "offers/fortnight-look.offer.yaml:8:6 visitors cannot ask (an agreement is somebody's: write signed-in, or name roles or accounts)",
        ),
        (
            look,
            "ask: signed-in",
            "ask: { roles: [\"a b\"] }",
            "offers/fortnight-look.offer.yaml:8:6 “a b” is no role (roles have letters, digits, and . : - _)",
        ),
        (
            look,
            "ask: signed-in",
            "ask: friends",
            "offers/fortnight-look.offer.yaml:8:6 \"friends\" is nobody: write everyone, signed-in, or an object with roles or accounts ()",
        ),
        (
            hand,
            "text: charter-terms.md",
            "text: charter-term.md",
            "offers/charter-hand.offer.yaml:12:17 there is no file “offers/charter-term.md” (did you mean “offers/charter-terms.md”?)",
        ),
        (
            hand,
            "notice: 30d",
            "notise: 30d",
            "offers/charter-hand.offer.yaml:11:1 “notise” is not known here (did you mean “notice”?)",
        ),
        (
            portal,
            "front: welcome.md",
            "front: welcom.md",
            "portal/portal.yaml:7:8 there is no file “portal/welcom.md” (did you mean “portal/welcome.md”?)",
        ),
        (
            portal,
            "accent: \"#0b6157\"",
            "accent: \"#7fcf98\"",
            "portal/portal.yaml:6:20 texts in #7fcf98 cannot be read well: contrast 1.62 (at least 4.5 is needed (WCAG 2.2 §1.4.3); take a darker one)",
        ),
        (
            portal,
            "accent-on-dark: \"#58c4b3\"",
            "accent-on-dark: \"#0b6157\"",
            "portal/portal.yaml:6:47 texts in #0b6157 cannot be read well: contrast 2.20 (at least 4.5 is needed (WCAG 2.2 §1.4.3); take a lighter one)",
        ),
        (
            portal,
            "name: fair-use",
            "name: first-call",
            "portal/portal.yaml:10:13 there is a page “first-call” already (each page has a name of its own)",
        ),
        (
            portal,
            "facades: [cargo, loyalty]",
            "facades: [cargos, loyalty]",
            "portal/portal.yaml:16:15 there is no facade “cargos” (did you mean “cargo”?)",
        ),
        (
            portal,
            "logo: lantern.svg",
            "logo: welcome.md",
            "portal/portal.yaml:5:7 a logo is an SVG file (an SVG file is text, as every file of the draft is)",
        ),
    ] {
        let told = first(&changed(file, from, to));
        if told != expected {
            wrong.push(format!(
                "{from} → {to}\n  told     {told}\n  expected {expected}"
            ));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn terms_that_rules_read_and_an_offer_has_not_are_told_and_those_that_nothing_reads() {
    let file = "sailings/sailings.facade.yaml";
    let told = changed(file, "=terms.?requests.orValue(7)", "=terms.requests");
    let of = |findings: &[Finding], text: &str| {
        let found = findings.iter().find(|f| f.message.contains(text));
        found.map(|f| (f.place(), f.severity, f.help.clone()))
    };
    // Both offers that open it have the term.
    assert_eq!(of(&told, "read the term"), None);
    let mut files = whole();
    let text = files.get_mut(file).unwrap();
    *text = text.replace("=terms.?hourly.orValue(12000)", "=terms.hourly");
    let told = check(&files, "live");
    let (place, severity, help) = of(&told, "rules of sailings read the term “hourly”").unwrap();
    assert_eq!(
        (place.as_str(), severity, help.as_str()),
        (
            "offers/open-quay.offer.yaml:8:8",
            porch_contract::Severity::Warning,
            "add `hourly` to the terms"
        )
    );
    let told = changed(
        "offers/open-quay.offer.yaml",
        "requests: 7 }",
        "requests: 7, berth: 3 }",
    );
    let (place, severity, _) =
        of(&told, "no rule of what it opens reads the term “berth”").unwrap();
    assert_eq!(
        (place.as_str(), severity),
        (
            "offers/open-quay.offer.yaml:8:30",
            porch_contract::Severity::Note
        )
    );
}

#[test]
fn an_offer_of_what_everybody_may_call_says_so() {
    let told = changed(
        "offers/open-quay.offer.yaml",
        "{ facade: sailings }",
        "{ facade: timetable }",
    );
    assert_eq!(
        first(&told),
        "offers/open-quay.offer.yaml:6:15 timetable asks nobody for a credential: whoever calls it needs no agreement (say `credentials:` in the facade, or leave it out of the offer)"
    );
}

#[test]
fn there_is_one_portal() {
    let mut files = whole();
    let text = files["portal/portal.yaml"].replace("name: skerry-line", "name: other");
    files.insert("portal/second.yaml".into(), text);
    assert!(
        first(&check(&files, "live")).contains("there is a portal in portal/portal.yaml already")
    );
}

#[test]
fn an_offer_opens_what_it_names_whole_or_by_operation_or_tag() {
    let of = |opens: &str| -> Vec<String> {
        let text = format!("elm-porch: offer/1\nname: x\nopens: {opens}\n");
        let node = porch_contract::Node::parse(&text).unwrap();
        let doc: OfferDoc = serde_json::from_value(node.to_value()).unwrap();
        doc.openings(|facade| {
            let tags = |all: &[&str]| all.iter().map(|t| (*t).to_owned()).collect();
            let known = [
                ("list", tags(&["read", "quay"])),
                ("give", tags(&["write"])),
                ("odd", tags(&[])),
            ];
            let known = known.map(|(id, tags)| (id.to_owned(), tags));
            (facade == "berths").then(|| Tagged::from(known))
        })
    };
    for (opens, wanted) in [
        ("[{ facade: berths }]", vec!["berths"]),
        (
            "[{ facade: berths, operations: [odd, give] }]",
            vec!["berths/give", "berths/odd"],
        ),
        (
            "[{ facade: berths, tags: [read, write] }]",
            vec!["berths/give", "berths/list"],
        ),
        (
            "[{ facade: berths, operations: [odd], tags: [quay] }]",
            vec!["berths/list", "berths/odd"],
        ),
        ("[{ facade: berths, tags: [none] }]", vec![]),
        ("[{ facade: gone, tags: [read] }]", vec![]),
        (
            "[{ facade: berths, operations: [odd] }, { facade: berths }]",
            vec!["berths"],
        ),
    ] {
        assert_eq!(of(opens), wanted, "{opens}");
    }
}

#[test]
fn audiences_are_who_they_say() {
    let some = |roles: &[&str], accounts: &[&str]| Audience::Some {
        roles: roles.iter().map(|r| (*r).to_owned()).collect(),
        accounts: accounts.iter().map(|a| (*a).to_owned()).collect(),
    };
    let partner = ["partner".to_owned()];
    let nobody: [String; 0] = [];
    for (audience, account, wanted) in [
        (Audience::Everyone, None, true),
        (Audience::SignedIn, None, false),
        (
            Audience::SignedIn,
            Some((&nobody[..], &["a@b.example"][..])),
            true,
        ),
        (some(&["partner"], &[]), None, false),
        (
            some(&["partner"], &[]),
            Some((&nobody[..], &["partner"][..])),
            false,
        ),
        (some(&["partner"], &[]), Some((&partner[..], &[][..])), true),
        (
            some(&[], &["A@b.example"]),
            Some((&nobody[..], &["a@b.example"][..])),
            true,
        ),
        (
            some(&[], &["a@b.example"]),
            Some((&nobody[..], &["x@b.example"][..])),
            false,
        ),
    ] {
        assert_eq!(audience.is(account), wanted, "{audience:?} {account:?}");
    }
}
