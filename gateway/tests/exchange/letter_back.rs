//! Replies to the letter of HTTP: what a caller gets of an answer, and what of it is the porch's own.

use super::*;

const OPERATIONS: &str = "operations:\n  item: { call: { backend: b } }\n  putItem: { call: { backend: b } }\n  files: { call: { backend: b } }\n";

/// What a caller gets when a backend answers with these bytes.
fn through(answer: impl Fn(SocketAddr) -> String + Send + Sync + 'static) -> String {
    through_facade(OPERATIONS, "", answer).0
}

fn through_facade(
    facade: &str,
    fields: &str,
    answer: impl Fn(SocketAddr) -> String + Send + Sync + 'static,
) -> (String, usize) {
    let own = Arc::new(std::sync::OnceLock::new());
    let address = own.clone();
    let backend = Scripted::start(move |_, _| answer(*address.get().unwrap()).into_bytes());
    own.set(backend.address).unwrap();
    let stage = Stage::new(backend.address, facade);
    let got = stage.get("/f/item/7", fields);
    stage.get("/f/item/8", fields);
    (got, backend.connections())
}

fn fields(answer: &str, name: &str) -> Vec<String> {
    let head = answer.split("\r\n\r\n").next().unwrap_or_default();
    let lines = head.lines().filter_map(|l| l.split_once(": "));
    lines
        .filter(|(n, _)| n.eq_ignore_ascii_case(name))
        .map(|(_, v)| v.to_owned())
        .collect()
}

#[test]
fn an_answer_with_two_lengths_is_whole_and_its_connection_is_not_used_again() {
    let (answer, connections) = through_facade(OPERATIONS, "", |_| {
        "HTTP/1.1 200 OK\r\nContent-Length: 3\r\nTransfer-Encoding: chunked\r\n\r\n8\r\nabcdefgh\r\n0\r\n\r\n"
            .into()
    });
    assert_eq!(status(&answer), 200, "{answer}");
    assert!(answer.contains("abcdefgh"), "{answer}");
    assert!(fields(&answer, "content-length").is_empty(), "{answer}");
    assert_eq!(connections, 2);
}

#[test]
fn statuses_that_end_nothing_are_no_answers() {
    for line in ["101 Switching Protocols", "600 Odd", "999 Odd"] {
        let head = format!(
            "HTTP/1.1 {line}\r\nUpgrade: tide\r\nConnection: upgrade\r\nContent-Length: 0\r\n\r\n"
        );
        let (answer, connections) = through_facade(OPERATIONS, "", move |_| head.clone());
        assert_eq!(status(&answer), 502, "{line}: {answer}");
        assert!(
            answer.contains("urn:elm-porch:problem:backend-answer"),
            "{line}: {answer}"
        );
        assert_eq!(connections, 2, "{line}");
    }
}

#[test]
fn a_reply_has_our_version_and_says_who_passed_it_on() {
    let answer = through(|_| {
        "HTTP/1.0 200 OK\r\nVia: 1.0 deep.example\r\nContent-Length: 2\r\n\r\n{}".into()
    });
    assert!(answer.starts_with("HTTP/1.1 200"), "{answer}");
    assert_eq!(
        fields(&answer, "via"),
        ["1.0 deep.example", "1.0 elm-porch"]
    );
}

#[test]
fn links_lead_to_the_facade_too() {
    let answer = through(|b| {
        format!(
            "HTTP/1.1 200 OK\r\nLink: </inner/item/8>; rel=\"next\", <http://{b}/inner/item/1>; rel=first; title=\"</inner/item/1>\"\r\nLink: <https://elsewhere.example/a>; rel=help, </inner/nothing>; rel=up\r\nContent-Length: 0\r\n\r\n"
        )
    });
    assert_eq!(
        fields(&answer, "link"),
        [
            "</f/item/8>; rel=\"next\", </f/item/1>; rel=first; title=\"</inner/item/1>\"",
            "<https://elsewhere.example/a>; rel=help, </inner/nothing>; rel=up"
        ]
    );
    // There is an end to them.
    let answer = through(|_| {
        let all = vec!["</inner/item/8>"; 150].join(", ");
        format!("HTTP/1.1 200 OK\r\nLink: {all}\r\nContent-Length: 0\r\n\r\n")
    });
    let links = &fields(&answer, "link")[0];
    assert_eq!(links.matches("</f/item/8>").count(), 100);
    assert_eq!(links.matches("</inner/item/8>").count(), 50);
}

#[test]
fn references_lead_to_the_facade_or_are_left_alone() {
    for (given, wanted) in [
        // Below the backend's own path, and answered by the facade.
        ("http://{b}/inner/item/9?n=1#x", "/f/item/9?n=1#x"),
        ("HTTP://{b}/inner/item/9", "/f/item/9"),
        ("//{b}/inner/item/9", "/f/item/9"),
        ("/inner/item/9", "/f/item/9"),
        ("/inner/files/a/b", "/f/files/a/b"),
        // The facade has nothing there.
        ("/inner/nowhere", "/inner/nowhere"),
        ("http://{b}/inner", "http://{b}/inner"),
        ("http://{b}/innermost/item/9", "http://{b}/innermost/item/9"),
        ("http://{b}/outer/item/9", "http://{b}/outer/item/9"),
        ("http://{b}", "http://{b}"),
        // Elsewhere.
        ("https://{b}/inner/item/9", "https://{b}/inner/item/9"),
        (
            "http://other.example/inner/item/9",
            "http://other.example/inner/item/9",
        ),
        (
            "//other.example/inner/item/9",
            "//other.example/inner/item/9",
        ),
        ("item/9", "item/9"),
        ("?n=2", "?n=2"),
        ("mailto:desk@porch.example", "mailto:desk@porch.example"),
        (
            "/x?to=http://{b}/inner/item/9",
            "/x?to=http://{b}/inner/item/9",
        ),
    ] {
        let expected = Arc::new(std::sync::Mutex::new(String::new()));
        let told = expected.clone();
        let answer = through(move |b| {
            let b = b.to_string();
            *told.lock().unwrap() = wanted.replace("{b}", &b);
            let location = given.replace("{b}", &b);
            format!(
                "HTTP/1.1 303 See Other\r\nLocation: {location}\r\nContent-Location: {location}\r\nContent-Length: 0\r\n\r\n"
            )
        });
        let wanted = expected.lock().unwrap().clone();
        assert_eq!(
            fields(&answer, "location"),
            std::slice::from_ref(&wanted),
            "{given}"
        );
        assert_eq!(fields(&answer, "content-location"), [wanted], "{given}");
    }
}

#[test]
fn cookies_are_set_for_the_facade() {
    let answer = through(|_| {
        "HTTP/1.1 200 OK\r\nSet-Cookie: a=1; Path=/inner/item; Domain=inner.example; HttpOnly\r\nSet-Cookie: b=2; path=/inner/\r\nSet-Cookie: c=3; Path=/; Secure\r\nSet-Cookie: d=4\r\nSet-Cookie: porch-session=stolen; Path=/\r\nSet-Cookie: __Host-porch-session=stolen; Path=/; Secure\r\nContent-Length: 2\r\n\r\n{}".into()
    });
    assert_eq!(
        fields(&answer, "set-cookie"),
        [
            "a=1; Path=/f/item; HttpOnly",
            "b=2; Path=/f",
            "c=3; Path=/f; Secure",
            "d=4"
        ]
    );
}

const IN_BOTH: &str = "media-types: [application/json, application/xml]\noperations:\n  item: { call: { backend: b } }\n";

#[test]
fn validators_are_as_weak_when_nothing_changed_as_when_something_was_sent() {
    for (accept, wanted) in [
        ("application/xml", "W/\"v1\""),
        ("application/json", "\"v1\""),
    ] {
        let accept = format!("Accept: {accept}\r\n");
        let (full, _) = through_facade(IN_BOTH, &accept, |_| {
            "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nETag: \"v1\"\r\nContent-Length: 7\r\n\r\n{\"a\":1}".into()
        });
        let (same, _) = through_facade(IN_BOTH, &accept, |_| {
            "HTTP/1.1 304 Not Modified\r\nETag: \"v1\"\r\n\r\n".into()
        });
        assert_eq!((status(&full), status(&same)), (200, 304), "{full} {same}");
        assert_eq!(fields(&full, "etag"), [wanted], "{accept}");
        assert_eq!(fields(&same, "etag"), [wanted], "{accept}");
    }
}

#[test]
fn an_answer_that_must_be_read_is_read_in_any_coding() {
    let packed = {
        let mut packer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
        packer.write_all(b"{\"a\":{\"b\":42}}").unwrap();
        packer.finish().unwrap()
    };
    let facade = "operations:\n  item: { call: { backend: b }, reply: { is: =answer.body.a.b } }\n";
    let seen = Arc::new(std::sync::Mutex::new(String::new()));
    let (told, sent) = (seen.clone(), packed.clone());
    let backend = Scripted::start(move |_, request| {
        *told.lock().unwrap() = request.to_owned();
        let head = format!(
            "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Encoding: gzip\r\nContent-Length: {}\r\n\r\n",
            sent.len()
        );
        [head.into_bytes(), sent.clone()].concat()
    });
    let stage = Stage::new(backend.address, facade);
    let answer = stage.get("/f/item/7", "Accept-Encoding: br\r\n");
    assert_eq!(status(&answer), 200, "{answer}");
    assert!(answer.ends_with("{\"is\":42}"), "{answer}");
    assert!(fields(&answer, "content-encoding").is_empty());
    assert_eq!(
        fields(&seen.lock().unwrap(), "accept-encoding"),
        ["identity"]
    );
    for (coding, body) in [
        ("br", &b"whatever"[..]),
        ("gzip", &b"no gzip at all"[..]),
        ("gzip", &packed[..9]),
    ] {
        let (coding, body) = (coding.to_owned(), body.to_vec());
        let backend = Scripted::start(move |_, _| {
            let head = format!(
                "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Encoding: {coding}\r\nContent-Length: {}\r\n\r\n",
                body.len()
            );
            [head.into_bytes(), body.clone()].concat()
        });
        let answer = Stage::new(backend.address, facade).get("/f/item/7", "");
        assert_eq!(status(&answer), 502, "{answer}");
    }
}
