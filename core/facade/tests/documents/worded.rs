//! Problems in the facade's own words: each mistake where it stands.

use super::*;

fn told(problems: &str) -> Vec<String> {
    let mut files = demo();
    let path = "timetable/timetable.facade.yaml";
    let text = files.get_mut(path).unwrap();
    assert!(text.contains("operations:\n"));
    *text = text.replacen(
        "operations:\n",
        &format!("problems: {problems}\noperations:\n"),
        1,
    );
    let line = text
        .lines()
        .position(|l| l.starts_with("problems:"))
        .unwrap()
        + 1;
    let all = check(&files, "live");
    let all = all.iter().map(|f| first(std::slice::from_ref(f)));
    all.map(|t| t.replace(&format!("timetable/timetable.facade.yaml:{line}:"), ""))
        .collect()
}

#[test]
fn words_for_what_there_is_not_and_words_that_are_none_are_told() {
    for (problems, expected) in [
        (
            "{ rate-limt: { title: Slow }, 404: { title: No } }",
            "13 “rate-limt” is no status of an error, and no reason of a problem (did you mean “rate-limit”?)",
        ),
        (
            "{ 200: { title: Good } }",
            "13 “200” is no status of an error, and no reason of a problem (",
        ),
        (
            "{ 404: { titel: No } }",
            "20 “titel” is not known here (did you mean “title”?)",
        ),
        (
            "{ 404: { title: { n_n: No } } }",
            "34 “n_n” is no tag of a language (as in en, nn or en-GB (RFC 5646))",
        ),
        ("{ 404: { title: {} } }", "27 there is no text ()"),
        (
            "{ 404: { title: [No] } }",
            "27 a text, or texts by language as in { en: …, nn: … }, is expected here ()",
        ),
        (
            "{ 404: { help: harbour } }",
            "26 “harbour” is no address of a page (as in https://skerry.example/help/limits)",
        ),
        (
            "{ 404: { help: 'https://a.example/> b' } }",
            "26 “https://a.example/> b” is no address of a page (as in https://skerry.example/help/limits)",
        ),
        (
            "{ 404: { type: 'a b' } }",
            "26 a type is a URI (as in https://skerry.example/problems/tide (RFC 9457 §3.1.1))",
        ),
        (
            "{ 404: { members: { status: 1 } } }",
            "39 “status” is a problem's own member (say it beside `members:`, or call yours another name)",
        ),
        (
            "{ 404: { members: { who: [=caller.key] } } }",
            "36 there are no expressions here (`refuse:` words problems of your own; a text that begins with “=” begins with “==”)",
        ),
    ] {
        let all = told(problems);
        assert!(
            all.iter().any(|t| t.starts_with(expected)),
            "{problems}\n{all:#?}\n{expected}"
        );
        assert_eq!(all.len(), 1, "{all:#?}");
    }
    assert_eq!(
        told("{ 4xx: { title: ==No, detail: { en: No, en-GB: Nope }, members: { a: ==b } } }"),
        [""; 0]
    );
}
