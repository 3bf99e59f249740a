//! Routes and paths.

use super::*;
use proptest::prelude::*;

fn router(routes: &[(&str, &str)]) -> Router {
    let mut router = Router::default();
    for (i, (method, path)) in routes.iter().enumerate() {
        router
            .insert(
                None,
                "/v2",
                &PathTemplate::parse(path).unwrap(),
                method,
                index(i),
            )
            .unwrap();
    }
    router
}

#[test]
fn literals_win_over_parameters_over_the_rest_from_left_to_right() {
    let r = router(&[
        ("GET", "/a/{x}"),
        ("GET", "/a/b"),
        ("GET", "/{y}/c"),
        ("GET", "/{r*}"),
        ("POST", "/a/{x}"),
        ("GET", "/"),
    ]);
    let find = |path: &str| {
        r.find(None, "GET", path)
            .map(|m| (m.operation.operation, m.captured.join(",")))
    };
    for (path, op, captured) in [
        ("/v2/a/b", 1, ""),
        ("/v2/a/z", 0, "z"),
        ("/v2/a/c", 0, "c"),
        ("/v2/q/c", 2, "q"),
        ("/v2/q/d", 3, "q/d"),
        ("/v2/a/b/c", 3, "a/b/c"),
        ("/v2", 5, ""),
        ("/v2/a%2Fb", 3, "a%2Fb"),
    ] {
        assert_eq!(find(path), Ok((op, captured.to_owned())), "{path}");
    }
    assert_eq!(find("/v3/a"), Err(Miss::Path));
    assert_eq!(
        find(&format!("/v2{}", "/a".repeat(100_000))),
        Err(Miss::Path)
    );
    assert_eq!(r.find(None, "HEAD", "/v2/a/b").unwrap().operation, index(1));
    assert_eq!(r.find(None, "POST", "/v2/a/b").unwrap().operation, index(4));
    assert_eq!(
        r.find(None, "PUT", "/v2/a/b"),
        Err(Miss::Method(vec![
            "GET".into(),
            "HEAD".into(),
            "POST".into()
        ]))
    );
}

#[test]
fn names_of_variables_do_not_tell_routes_apart() {
    let mut r = router(&[("GET", "/a/{x}")]);
    assert_eq!(
        r.insert(
            None,
            "/v2",
            &PathTemplate::parse("/a/{other}").unwrap(),
            "GET",
            index(9)
        ),
        Err(index(0))
    );
    r.insert(
        Some("Ferry.example"),
        "/v2",
        &PathTemplate::parse("/a/{x}").unwrap(),
        "GET",
        index(7),
    )
    .unwrap();
    assert_eq!(
        r.find(Some("ferry.example"), "GET", "/v2/a/1")
            .unwrap()
            .operation,
        index(7)
    );
    assert_eq!(
        r.find(Some("other"), "GET", "/v2/a/1").unwrap().operation,
        index(0)
    );
}

#[test]
fn verbs_and_parameters_of_several_segments_in_the_middle() {
    let r = router(&[
        ("GET", "/{a}/{b}:cancel"),
        ("GET", "/{a}/{b}"),
        ("GET", "/files/{f*}/history"),
        ("GET", "/files/{f*}:read"),
        ("GET", "/x/{a*}/y/{b*}/z"),
        ("GET", "/x/{a*}/end/{last}"),
        ("*", "/any"),
    ]);
    let find = |path: &str| {
        r.find(None, "GET", path)
            .map(|m| (m.operation.operation, m.captured.join(",")))
    };
    for (path, op, captured) in [
        ("/v2/q/w:cancel", 0, "q,w"),
        ("/v2/q/w:other", 1, "q,w:other"),
        ("/v2/q/w:x:cancel", 0, "q,w:x"),
        ("/v2/files/a/b/history", 2, "a/b"),
        ("/v2/files/a/history/history", 2, "a/history"),
        ("/v2/files/a/b:read", 3, "a/b"),
        ("/v2/files/history", 1, "files,history"),
        ("/v2/x/1/y/2/y/3/z", 4, "1/y/2,3"),
        ("/v2/x/1/2/end/3", 5, "1/2,3"),
        ("/v2/any", 6, ""),
    ] {
        assert_eq!(find(path), Ok((op, captured.to_owned())), "{path}");
    }
    assert_eq!(find("/v2/files/a/b/c"), Err(Miss::Path));
    let many = router(&[("GET", "/{a*}/x/{b*}/x/{c*}/x/{d*}/end")]);
    assert_eq!(
        many.find(None, "GET", &format!("/v2{}", "/x".repeat(60))),
        Err(Miss::Path)
    );
}

#[test]
fn paths_are_normalised_and_cannot_escape() {
    for (path, normal) in [
        ("/a/./b/../c", "/a/c"),
        ("/%61/%2e%2E/b", "/b"),
        ("/a%2f..b%2fc", "/a%2F..b%2Fc"),
        ("/../../x", "/x"),
        ("/a/..", "/"),
        ("/a/.", "/a/"),
    ] {
        assert_eq!(normalise(path).unwrap().path, normal, "{path}");
    }
    for path in ["/a%2f..%2fb", "/%", "/%g0", "/%00", "/a b", "/a\\b", "/%é"] {
        assert!(normalise(path).is_err(), "{path}");
    }
}

proptest! {
    #[test]
    fn normalising_twice_changes_nothing_more(path in "/[a.%2eEfF/]{0,20}") {
        if let Ok(once) = normalise(&path) {
            prop_assert!(!once.path.split('/').any(|s| s == ".."));
            prop_assert_eq!(&normalise(&once.path).unwrap().path, &once.path);
        }
    }

    #[test]
    fn encoding_and_decoding_give_the_same(text in "\\PC{0,20}") {
        let mut out = String::new();
        percent_encode_segment(&mut out, &text);
        prop_assert_eq!(percent_decode(&out, false).unwrap(), text);
    }
}

fn index(i: usize) -> OperationIndex {
    OperationIndex {
        facade: 0,
        operation: i as u32,
    }
}

#[test]
fn several_segments_may_be_none_but_not_beside_what_stands_there_itself() {
    let r = router(&[
        ("GET", "/open/{r*}"),
        ("GET", "/kept"),
        ("GET", "/kept/{r*}"),
        ("POST", "/posted"),
        ("GET", "/posted/{r*}"),
        ("GET", "/deep/{r*}/end"),
    ]);
    let find = |path: &str| {
        r.find(None, "GET", path)
            .map(|m| (m.operation.operation, m.captured.join(",")))
            .ok()
    };
    for (path, found) in [
        ("/v2/open", Some((0, ""))),
        ("/v2/open/", Some((0, ""))),
        ("/v2/open/a/", Some((0, "a/"))),
        ("/v2/open//a", None),
        ("/v2/kept", Some((1, ""))),
        // A backend that overlooks the slash would give what /kept guards.
        ("/v2/kept/", None),
        ("/v2/kept/a", Some((2, "a"))),
        ("/v2/posted", Some((4, ""))),
        ("/v2/posted/", None),
        ("/v2/deep", None),
        ("/v2/deep/end", None),
        ("/v2/deep/a/end", Some((5, "a"))),
    ] {
        let found = found.map(|(at, captured)| (at, captured.to_owned()));
        assert_eq!(find(path), found, "{path}");
    }
}

#[test]
fn what_goes_on_behind_several_segments_wins_over_what_ends_with_them() {
    let r = router(&[
        ("GET", "/things/{n*}"),
        ("GET", "/things/{n*}/raw"),
        ("GET", "/things/{n*}/c/{extra}"),
        ("POST", "/things/{n*}:cancel"),
        ("GET", "/things/{n*}/raw:peek"),
        ("POST", "/things/{n*}/config"),
        ("GET", "/things/{n*}:peek"),
        ("GET", "/{any*}"),
    ]);
    let find = |method: &str, path: &str| {
        let path = format!("/v2{path}");
        let found = r.find(None, method, &path);
        found.map(|m| (m.operation.operation, m.captured.join(",")))
    };
    for (method, path, op, captured) in [
        ("GET", "/things/a/b", 0, "a/b"),
        ("GET", "/things/raw", 0, "raw"),
        ("GET", "/things/a/raw", 1, "a"),
        ("GET", "/things/a/raw/raw", 1, "a/raw"),
        ("GET", "/things/a/b/c/d", 2, "a/b,d"),
        ("GET", "/things/a/c/c/d", 2, "a/c,d"),
        ("POST", "/things/a/b:cancel", 3, "a/b"),
        ("POST", "/things/a/config:cancel", 3, "a/config"),
        ("GET", "/things/a/raw:peek", 4, "a"),
        ("GET", "/things/a/config:peek", 6, "a/config"),
        // Another method goes on, and this one ends here.
        ("GET", "/things/a/config", 0, "a/config"),
        ("POST", "/things/a/config", 5, "a"),
        ("GET", "/other/raw", 7, "other/raw"),
    ] {
        assert_eq!(
            find(method, path),
            Ok((op, captured.to_owned())),
            "{method} {path}"
        );
    }
}

#[test]
fn segments_with_several_variables_are_divided_and_stand_between_text_and_variables() {
    let paths = [
        "/parcels/{name}-{version}.zip",
        "/parcels/{name}.{format}",
        "/parcels/{parcel}",
        "/parcels/list.zip",
        "/{page}{extension}",
    ];
    let mut router = Router::default();
    for (i, path) in paths.iter().enumerate() {
        let template = PathTemplate::parse(path).unwrap();
        router
            .insert(None, "/p", &template, "GET", index(i))
            .unwrap();
    }
    let again = PathTemplate::parse("/parcels/{a}-{b}.zip").unwrap();
    assert_eq!(
        router.insert(None, "/p", &again, "GET", index(9)),
        Err(index(0))
    );
    let found = |path: &str| {
        let matched = router.find(None, "GET", path).ok()?;
        Some((matched.operation, matched.captured.join("|")))
    };
    for (path, wanted) in [
        ("/p/parcels/old-button-1.2.zip", (0, "old-button|1.2")),
        ("/p/parcels/kettle.json", (1, "kettle|json")),
        ("/p/parcels/kettle", (2, "kettle")),
        ("/p/parcels/list.zip", (3, "")),
        ("/p/chart.small.png", (4, "chart.small|.png")),
    ] {
        let (number, captured) = wanted;
        assert_eq!(
            found(path),
            Some((index(number), captured.to_owned())),
            "{path}"
        );
    }
    assert_eq!(found("/p/x/y"), None);
}
