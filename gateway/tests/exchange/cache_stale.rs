//! Replies that are kept, once they are stale or untrue: what is asked about, given all the same, and let go.

use std::sync::atomic::{AtomicUsize, Ordering};

use super::cache::{ALL, CONTRACT, body, counting, field, numbered, said, stage};
use super::*;

fn wait(until: impl Fn() -> bool) {
    let from = std::time::Instant::now();
    while !until() {
        assert!(from.elapsed() < Duration::from_secs(20), "it does not come");
        std::thread::yield_now();
    }
}

/// Stale when it comes.
const STALE: &str = "Cache-Control: max-age=10\r\nAge: 20\r\nETag: \"a\"\r\n";

#[test]
fn what_is_stale_is_asked_about_and_given_where_it_is_true_still() {
    let (backend, seen) = counting(
        |n, request| {
            match request.contains("if-none-match: \"a\"") {
        true => "HTTP/1.1 304 Same\r\nETag: \"a\"\r\nCache-Control: max-age=60\r\nX-New: yes\r\n\r\n".to_owned(),
        false => said("200 OK", STALE, &format!("{{\"n\":{n}}}")),
    }
        },
    );
    let stage = stage(&backend, "cache: {}\n");
    assert_eq!(body(&stage.get("/f/things/1", "")), "{\"n\":1}");
    let again = stage.get("/f/things/1", "");
    assert_eq!(
        (status(&again), body(&again), field(&again, "x-new")),
        (200, "{\"n\":1}", Some("yes"))
    );
    assert_eq!(
        field(&again, "cache-status"),
        Some("elm-porch; fwd=stale; fwd-status=304; ttl=59")
    );
    assert_eq!(field(&again, "content-type"), Some("application/json"));
    // It is fresh now.
    assert_eq!(
        field(&stage.get("/f/things/1", ""), "cache-status"),
        Some("elm-porch; hit; ttl=59")
    );
    let seen = seen.lock().unwrap();
    assert_eq!(seen.len(), 2);
    assert!(!seen[0].contains("if-none-match"));
}

#[test]
fn where_no_other_reply_can_be_had_a_stale_one_is_given_if_it_may_be() {
    for (answers, cache, given) in [
        (STALE, "cache: { stale-if-error: 1h }\n", true),
        (
            "Cache-Control: max-age=10, stale-if-error=60\r\nAge: 20\r\nETag: \"a\"\r\n",
            "cache: {}\n",
            true,
        ),
        (
            "Cache-Control: max-age=10, stale-if-error=5\r\nAge: 20\r\nETag: \"a\"\r\n",
            "cache: { stale-if-error: 1h }\n",
            false,
        ),
        (
            "Cache-Control: max-age=10, must-revalidate\r\nAge: 20\r\nETag: \"a\"\r\n",
            "cache: { stale-if-error: 1h }\n",
            false,
        ),
        (STALE, "cache: {}\n", false),
    ] {
        for failure in ["HTTP/1.1 503 No\r\nContent-Length: 0\r\n\r\n", ""] {
            let (backend, _) = counting(move |n, _| match n {
                1 => said("200 OK", answers, "{}"),
                _ => failure.to_owned(),
            });
            let stage = stage(&backend, cache);
            assert_eq!(status(&stage.get("/f/things/1", "")), 200);
            let answer = stage.get("/f/things/1", "");
            assert_eq!(status(&answer) == 200, given, "{answers} {cache} {answer}");
            if given {
                let told = field(&answer, "cache-status").unwrap();
                assert!(
                    told.starts_with("elm-porch; fwd=stale; fwd-status=50"),
                    "{told}"
                );
            }
        }
    }
}

#[test]
fn a_stale_reply_is_given_at_once_and_the_next_one_is_new() {
    let (backend, seen) = counting(|n, _| match n {
        1 => said(
            "200 OK",
            "Cache-Control: max-age=10, stale-while-revalidate=60\r\nAge: 20\r\n",
            "{\"n\":1}",
        ),
        _ => said(
            "200 OK",
            "Cache-Control: max-age=60\r\n",
            &format!("{{\"n\":{n}}}"),
        ),
    });
    let stage = stage(&backend, "cache: {}\nadmit: { credentials: [key] }\n");
    let get = || {
        stage.get(
            "/f/things/1",
            "API-Key: one\r\nCache-Control: max-stale=0\r\n",
        )
    };
    assert_eq!(body(&get()), "{\"n\":1}");
    let second = get();
    assert_eq!(body(&second), "{\"n\":1}");
    assert_eq!(
        field(&second, "cache-status"),
        Some("elm-porch; hit; detail=stale-while-revalidate; ttl=-10")
    );
    wait(|| body(&get()) == "{\"n\":2}");
    assert_eq!(seen.lock().unwrap().len(), 2);
    let (_, calls) = stage.end();
    assert!(calls >= 3, "{calls}");
}

#[test]
fn those_who_ask_for_the_same_wait_for_one() {
    // The backend answers when all of them have come.
    let (arrived, backend_asked) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
    let (gate, asked) = (arrived.clone(), backend_asked.clone());
    let backend = Scripted::start(move |_, _| {
        asked.fetch_add(1, Ordering::SeqCst);
        while gate.load(Ordering::SeqCst) < 12 {
            std::thread::yield_now();
        }
        said("200 OK", "Cache-Control: max-age=60\r\n", "{}").into_bytes()
    });
    let facade = format!("cache: {{}}\n{ALL}");
    let stage = Stage::of(compile_timed(backend.address, CONTRACT, &facade, "20s"));
    let answers: Vec<String> = std::thread::scope(|scope| {
        let all: Vec<_> = (0..12)
            .map(|_| {
                scope.spawn(|| {
                    let mut stream = TcpStream::connect(stage.address()).unwrap();
                    stream
                        .set_read_timeout(Some(Duration::from_secs(20)))
                        .unwrap();
                    stream
                        .write_all(
                            b"GET /f/things/1 HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n",
                        )
                        .unwrap();
                    arrived.fetch_add(1, Ordering::SeqCst);
                    let mut answer = String::new();
                    stream.read_to_string(&mut answer).unwrap();
                    answer
                })
            })
            .collect();
        all.into_iter().map(|t| t.join().unwrap()).collect()
    });
    assert!(answers.iter().all(|a| status(a) == 200));
    assert_eq!(backend_asked.load(Ordering::SeqCst), 1);
    let hits = answers
        .iter()
        .filter(|a| {
            field(a, "cache-status")
                .unwrap()
                .starts_with("elm-porch; hit")
        })
        .count();
    assert_eq!(hits, 11);
}

#[test]
fn what_changes_something_makes_what_is_kept_untrue() {
    let post = |stage: &Stage, path: &str| {
        stage.raw(
            format!(
                "POST {path} HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Length: 0\r\n\r\n"
            )
            .as_bytes(),
        )
    };
    let facade = "operations:
  look: { call: { backend: b }, cache: { fresh: 1m } }
  give: { call: { backend: b }, cache: { clears: [all] } }
  other: { call: { backend: b }, cache: { fresh: 1m, tags: [all] } }
";
    let (backend, _) = counting(|n, request| match request.starts_with("POST") {
        true if request.contains("/bad ") => said("500 No", "", "{}"),
        true => said("200 OK", "Location: /inner/things/2\r\n", "{}"),
        false => said("200 OK", "", &format!("{{\"n\":{n}}}")),
    });
    let stage = Stage::of(compile_with(backend.address, CONTRACT, facade));
    let is_kept = |path: &str| {
        field(&stage.get(path, ""), "cache-status")
            .unwrap()
            .starts_with("elm-porch; hit")
    };
    let paths = [
        "/f/things/1",
        "/f/things/2",
        "/f/things/3",
        "/f/others/1",
        "/f/things/bad",
    ];
    assert!(paths.iter().all(|p| !is_kept(p)));
    assert!(paths.iter().all(|p| is_kept(p)));
    // A failure changes nothing.
    assert_eq!(status(&post(&stage, "/f/things/bad")), 500);
    assert!(paths.iter().all(|p| is_kept(p)));
    // The address itself, the one that it says was made, and what has its tags.
    assert_eq!(status(&post(&stage, "/f/things/1")), 200);
    let kept: Vec<bool> = paths.iter().map(|p| is_kept(p)).collect();
    assert_eq!(kept, [false, false, true, false, true]);
}

#[test]
fn callers_may_say_how_fresh_it_must_be_unless_they_are_not_heeded() {
    for (heeds, cases) in [
        (
            true,
            [
                ("no-cache", 2),
                ("max-age=0", 2),
                ("min-fresh=100", 2),
                ("no-store", 1),
                ("max-stale", 1),
            ],
        ),
        (
            false,
            [
                ("no-cache", 1),
                ("max-age=0", 1),
                ("min-fresh=100", 1),
                ("no-store", 1),
                ("max-stale", 1),
            ],
        ),
    ] {
        for (said, times) in cases {
            let (backend, seen) = numbered("Cache-Control: max-age=60\r\n");
            let stage = stage(&backend, &format!("cache: {{ heeds-callers: {heeds} }}\n"));
            stage.get("/f/things/1", "");
            let answer = stage.get("/f/things/1", &format!("Cache-Control: {said}\r\n"));
            assert_eq!(status(&answer), 200);
            assert_eq!(seen.lock().unwrap().len(), times, "{said} {heeds} {answer}");
        }
    }
    let (backend, seen) = numbered(STALE);
    let stage = self::stage(&backend, "cache: {}\n");
    let get = |said: &str| stage.get("/f/things/1", &format!("Cache-Control: {said}\r\n"));
    let none = get("only-if-cached");
    assert_eq!(status(&none), 504, "{none}");
    assert!(none.contains("urn:elm-porch:problem:not-kept"), "{none}");
    assert_eq!(seen.lock().unwrap().len(), 0);
    get("no-store");
    get("no-store");
    assert_eq!(
        seen.lock().unwrap().len(),
        2,
        "what is asked for so is not kept"
    );
    get("max-age=5");
    let stale = get("max-stale=30");
    assert_eq!(
        field(&stale, "cache-status"),
        Some("elm-porch; hit; detail=max-stale; ttl=-10")
    );
    get("max-stale=3");
    assert_eq!(seen.lock().unwrap().len(), 4);
}

#[test]
fn what_backends_say_holds_for_what_is_made_of_their_answers() {
    let facade = "operations:
  look:
    cache: { fresh: 1h }
    calls:
      one: { backend: b, path: '/one/{id}' }
      two: { backend: b, path: '/two/{id}' }
    reply: { one: =one.body.n, two: =two.body.n }
  other: { call: { backend: b }, cache: { fresh: 1h }, reply: { n: =answer.body.n } }
";
    for (own, kept, ttl) in [
        ("", true, "ttl=3599"),
        ("Cache-Control: max-age=60\r\n", true, "ttl=59"),
        ("Cache-Control: no-store\r\n", false, ""),
        ("Cache-Control: private\r\n", false, ""),
    ] {
        let (backend, seen) = counting(move |n, request| {
            let own = if request.contains("/one/") {
                "Cache-Control: max-age=600\r\n"
            } else {
                own
            };
            said("200 OK", own, &format!("{{\"n\":{n}}}"))
        });
        let stage = Stage::of(compile_with(backend.address, CONTRACT, facade));
        for path in ["/f/things/1", "/f/others/1"] {
            seen.lock().unwrap().clear();
            stage.get(path, "");
            let again = stage.get(path, "");
            let times = if path.contains("things") { 2 } else { 1 };
            let times = if kept { times } else { 2 * times };
            assert_eq!(seen.lock().unwrap().len(), times, "{path} {own}");
            let told = field(&again, "cache-status").unwrap();
            let ttl = if own.is_empty() && path.contains("things") {
                "ttl=599"
            } else {
                ttl
            };
            assert!(told.ends_with(ttl), "{path} {own} {told}");
        }
    }
}

#[test]
fn what_is_long_or_breaks_off_or_is_streamed_is_not_kept_and_loses_nothing() {
    let long = "x".repeat(300_000);
    let chunked = |body: &str| {
        let mut out =
            "HTTP/1.1 200 OK\r\nCache-Control: max-age=60\r\nTransfer-Encoding: chunked\r\n\r\n"
                .to_owned();
        for part in body.as_bytes().chunks(9_000) {
            out.push_str(&format!(
                "{:x}\r\n{}\r\n",
                part.len(),
                std::str::from_utf8(part).unwrap()
            ));
        }
        out.push_str("0\r\n\r\n");
        out
    };
    let (given, of_chunks) = (long.clone(), chunked(&long));
    let (backend, seen) = counting(move |_, request| match request {
        r if r.contains("/chunked ") => of_chunks.clone(),
        r if r.contains("/small ") => chunked("small"),
        _ => said("200 OK", "Cache-Control: max-age=60\r\n", &given),
    });
    let stage = stage(&backend, "cache: { most: 100KiB }\n");
    for (path, times) in [
        ("/f/things/1", 2),
        ("/f/things/chunked", 2),
        ("/f/things/small", 1),
    ] {
        seen.lock().unwrap().clear();
        for _ in 0..2 {
            let answer = stage.get(path, "");
            let whole: usize = match path.ends_with("small") {
                true => usize::from(answer.contains("small")) * 300_000,
                false => answer.matches('x').count().min(300_000),
            };
            assert_eq!((status(&answer), whole), (200, 300_000), "{path}");
        }
        assert_eq!(seen.lock().unwrap().len(), times, "{path}");
    }
}

#[test]
fn another_release_of_the_facade_gives_nothing_that_was_kept_before() {
    let (backend, seen) = numbered("Cache-Control: max-age=60\r\n");
    let stage = stage(&backend, "cache: {}\n");
    stage.get("/f/things/1", "");
    let facade = format!("title: Other\ncache: {{}}\n{ALL}");
    stage
        .shared
        .porch
        .store(Arc::new(compile_with(backend.address, CONTRACT, &facade)));
    assert_eq!(body(&stage.get("/f/things/1", "")), "{\"n\":2}");
    assert_eq!(seen.lock().unwrap().len(), 2);
    assert_eq!(
        stage.shared.cache.kept().replies,
        1,
        "the old one made room"
    );
    let purge = porch_gateway::Purge {
        path: "/f/things/".into(),
        ..Default::default()
    };
    assert_eq!(stage.shared.cache.purge(&purge), 1);
    assert_eq!(body(&stage.get("/f/things/1", "")), "{\"n\":3}");
}

#[test]
fn what_is_refused_is_refused_whatever_is_kept() {
    let facade = "operations:
  look:
    call: { backend: b }
    cache: { stale-if-error: 1h }
    refuse: [{ when: '=answer.body.n > 1', status: 503, title: Not at low tide }]
";
    let (backend, _) = numbered(STALE);
    let stage = Stage::of(compile_with(backend.address, CONTRACT, facade));
    assert_eq!(status(&stage.get("/f/things/1", "")), 200);
    let refused = stage.get("/f/things/1", "");
    assert!(
        status(&refused) == 503 && refused.contains("Not at low tide"),
        "{refused}"
    );
}

#[test]
fn what_never_ends_goes_on_as_it_comes() {
    for (kind, shadow) in [
        ("text/event-stream", ""),
        ("text/plain", ""),
        (
            "text/plain",
            "routing: { b: { shadow: { backend: b2, compare: [=answer.body] } } }\n",
        ),
    ] {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = listener.local_addr().unwrap();
        let held = std::thread::spawn(move || {
            let (mut stream, _) = listener.accept().unwrap();
            read_request(&mut stream);
            let head = format!(
                "HTTP/1.1 200 OK\r\nContent-Type: {kind}\r\nTransfer-Encoding: chunked\r\n\r\n6\r\nfirst\n\r\n"
            );
            stream.write_all(head.as_bytes()).unwrap();
            // Until the caller has the first of it.
            let _ = read_request(&mut stream);
        });
        let facade = format!("cache: {{ fresh: 1m }}\n{shadow}{ALL}");
        let files: Files = BTreeMap::from([
            ("c.yaml".to_owned(), CONTRACT.to_owned()),
            (
                "b.yaml".to_owned(),
                format!("elm-porch: backend/1\nname: b\nkind: http\naddress: http://{address}\n"),
            ),
            (
                "b2.yaml".to_owned(),
                format!(
                    "elm-porch: backend/1\nname: b2\nkind: http\naddress: http://{}\n",
                    super::routed::nobody()
                ),
            ),
            (
                "f.yaml".to_owned(),
                format!("elm-porch: facade/1\nname: f\nbase: /f\ncontract: c.yaml\n{facade}"),
            ),
        ]);
        let model = Model::read(Arc::new(files), "live", &Arc::default());
        let (porch, findings) = model.porch(&["f"], &Secrets::Known(&HashMap::new()));
        assert!(!porch_contract::has_errors(&findings), "{findings:?}");
        let stage = Stage::of(porch);
        let mut caller = TcpStream::connect(stage.address()).unwrap();
        caller
            .set_read_timeout(Some(Duration::from_secs(20)))
            .unwrap();
        caller
            .write_all(b"GET /f/things/1 HTTP/1.1\r\nHost: x\r\n\r\n")
            .unwrap();
        let mut seen = String::new();
        let mut part = [0u8; 1024];
        while !seen.contains("first") {
            let n = caller.read(&mut part).unwrap();
            assert!(n > 0, "{seen}");
            seen.push_str(&String::from_utf8_lossy(&part[..n]));
        }
        drop(caller);
        drop(stage);
        held.join().unwrap();
    }
}
