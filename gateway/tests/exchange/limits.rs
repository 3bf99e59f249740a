//! How much may be called: weights, numbers from terms, bytes, smooth limits, quotas, and requests at the same time.

use std::sync::Barrier;
use std::sync::mpsc::channel;

use porch_rules::grant::Agreement;
use serde_json::{Value, json};

use super::*;

fn body(answer: &str) -> Value {
    let text = answer.split_once("\r\n\r\n").map_or("", |(_, b)| b);
    serde_json::from_str(text).unwrap_or_default()
}

fn field<'a>(answer: &'a str, name: &str) -> &'a str {
    let mut lines = answer.lines();
    let found = lines.find_map(|l| l.strip_prefix(name)?.strip_prefix(": "));
    found.unwrap_or("")
}

fn facade(admit: &str) -> String {
    format!(
        "admit:\n  credentials: [key]\n  {admit}\noperations:\n  item: {{ call: {{ backend: b }} }}\n  putItem: {{ call: {{ backend: b, method: PUT, path: '/item/{{id}}' }} }}\n"
    )
}

fn stage(backend: &Scripted, admit: &str) -> Stage {
    Stage::new(backend.address, &facade(admit))
}

/// The same of one operation.
fn stage_of_item(backend: &Scripted, admit: &str) -> Stage {
    let facade = format!(
        "admit: {{ credentials: [key] }}\noperations:\n  item:\n    call: {{ backend: b }}\n    admit:\n      {admit}\n"
    );
    Stage::new(backend.address, &facade)
}

/// The statuses of calls with a key.
fn statuses(stage: &Stage, key: &str, calls: usize) -> Vec<u16> {
    let get = |_| status(&stage.get("/f/item/1", &format!("API-Key: {key}\r\n")));
    (0..calls).map(get).collect()
}

fn agree(stage: &Stage, key: &str, terms: Value) {
    let grants = stage.shared.grants.load_full();
    let of = grants.get(&KeyHash::of(key)).unwrap().clone();
    let agreement = Agreement {
        id: 1,
        offer: "Open Quay".into(),
        terms: terms.into(),
        opens: None,
        from: 0,
        until: i64::MAX,
        paused: false,
    };
    let consumer = Consumer {
        id: of.consumer.id,
        name: of.consumer.name.clone(),
        account: "harbour office".into(),
        agreements: Box::new([agreement]),
        ..Consumer::default()
    };
    let of = Grant {
        consumer: Arc::new(consumer),
        ..of
    };
    let table = grants.with(KeyHash::of(key), Some(of));
    stage.shared.grants.store(Arc::new(table));
}

#[test]
fn a_thousand_calls_at_a_limit_of_seven_are_seven() {
    let count = Arc::new(AtomicUsize::new(0));
    let backend = counting(&count);
    for round in 1..=10 {
        let stage = stage(&backend, "limits: [{ requests: 7, window: 1h }]");
        let passed = AtomicUsize::new(0);
        let together = Barrier::new(20);
        std::thread::scope(|scope| {
            for _ in 0..20 {
                scope.spawn(|| {
                    let mut stream = TcpStream::connect(stage.address()).unwrap();
                    together.wait();
                    for _ in 0..50 {
                        stream
                            .write_all(b"GET /f/item/1 HTTP/1.1\r\nHost: x\r\nAPI-Key: one\r\n\r\n")
                            .unwrap();
                        let answer = read_request(&mut stream).unwrap();
                        passed.fetch_add(
                            usize::from(answer.starts_with("HTTP/1.1 200")),
                            Ordering::SeqCst,
                        );
                    }
                });
            }
        });
        assert_eq!(passed.into_inner(), 7, "round {round}");
        assert_eq!(count.load(Ordering::SeqCst), 7 * round);
    }
}

#[test]
fn numbers_come_from_what_was_agreed_to_and_without_it_nobody_passes() {
    let count = Arc::new(AtomicUsize::new(0));
    let backend = counting(&count);
    let stage = stage(
        &backend,
        "limits: [{ requests: =terms.requests, window: 1h }]",
    );
    let answer = stage.get("/f/item/1", "API-Key: one\r\n");
    assert_eq!(status(&answer), 403, "{answer}");
    assert_eq!(body(&answer)["type"], "urn:elm-porch:problem:agreement");
    agree(&stage, "one", json!({ "requests": 2 }));
    assert_eq!(statuses(&stage, "one", 3), [200, 200, 429]);
    // More is agreed on: what was counted counts on.
    agree(&stage, "one", json!({ "requests": 3 }));
    assert_eq!(statuses(&stage, "one", 2), [200, 429]);
    agree(&stage, "two", json!({ "requests": 5 }));
    let answer = stage.get("/f/item/1", "API-Key: two\r\n");
    assert_eq!(field(&answer, "ratelimit-policy"), "\"f\";q=5;w=3600");
    assert_eq!(field(&answer, "ratelimit"), "\"f\";r=4;t=3600");
    for wrong in [
        json!({ "requests": "five" }),
        json!({ "requests": -1 }),
        json!({}),
        json!(null),
    ] {
        agree(&stage, "two", wrong.clone());
        assert_eq!(statuses(&stage, "two", 1), [403], "{wrong}");
    }
    assert_eq!(count.load(Ordering::SeqCst), 4);
}

#[test]
fn requests_weigh_what_the_document_says_and_are_counted_by_what_they_say() {
    let backend = Scripted::start(|_, _| plain("{}"));
    let own = stage_of_item(
        &backend,
        "limits: [{ requests: 10, window: 1h, weight: '=query.?n.orValue(1)', per: \"=path.id + '/' + header[?'x-desk'].orValue('none')\" }]",
    );
    let get = |path: &str, desk: &str| {
        let fields = format!("API-Key: one\r\nX-Desk: {desk}\r\n");
        own.get(path, &fields)
    };
    let answer = get("/f/item/1?n=6", "west");
    assert_eq!(
        (status(&answer), field(&answer, "ratelimit")),
        (200, "\"item\";r=4;t=3600")
    );
    let answer = get("/f/item/1?n=5", "west");
    assert_eq!(status(&answer), 429);
    let told = body(&answer);
    assert_eq!((&told["used"], &told["most"]), (&json!(6), &json!(10)));
    let detail = told["detail"].as_str().unwrap();
    assert!(
        detail.contains("this one counts 5, 6 are used, and there is room for it in 36"),
        "{detail}"
    );
    let answer = get("/f/item/1?n=11", "west");
    let told = body(&answer)["detail"].to_string();
    assert!(
        told.contains("this one counts 11, which is more than there ever is"),
        "{told}"
    );
    assert_eq!(status(&get("/f/item/1?n=4", "west")), 200);
    assert_eq!(status(&get("/f/item/1", "west")), 429);
    for (path, desk) in [("/f/item/2", "west"), ("/f/item/1", "east")] {
        assert_eq!(status(&get(path, desk)), 200);
    }
    // What cannot be counted is no call.
    assert_eq!(status(&get("/f/item/1?n=-1", "south")), 400);
}

#[test]
fn what_reaches_no_backend_uses_up_nothing() {
    let count = Arc::new(AtomicUsize::new(0));
    let backend = counting(&count);
    let admit = "limits: [{ requests: 2, window: 1h }, { requests: 2, window: 1h, weight: '=query.?n.orValue(1)' }]\n      quotas: [{ requests: 2, each: month }]\n    refuse:\n      - { when: \"=path.id == 'no'\", status: 409, title: No }";
    let stage = stage_of_item(&backend, admit);
    let get = |path: &str| stage.get(path, "API-Key: one\r\n");
    for (path, wanted) in [
        ("/f/item/1?n=x", 400),
        ("/f/item/1?n=1.5", 400),
        ("/f/item/no", 409),
        ("/f/item/1?n=3", 429),
        ("/f/item/1", 200),
        ("/f/item/no", 409),
        ("/f/item/1?n=x", 400),
        ("/f/item/1", 200),
        ("/f/item/1", 429),
    ] {
        assert_eq!(status(&get(path)), wanted, "{path}");
    }
    assert_eq!(count.load(Ordering::SeqCst), 2);
}

#[test]
fn bytes_of_both_sides_are_counted_and_refused_when_they_are_used_up() {
    let backend = Scripted::start(|_, _| plain(&format!("\"{}\"", "x".repeat(398))));
    let stage = stage(&backend, "limits: [{ bytes: 1000, window: 1h }]");
    let put = || {
        let request = format!(
            "PUT /f/item/1 HTTP/1.1\r\nHost: x\r\nConnection: close\r\nAPI-Key: one\r\nContent-Type: text/plain\r\nContent-Length: 200\r\n\r\n{}",
            "y".repeat(200)
        );
        stage.raw(request.as_bytes())
    };
    let answer = put();
    assert_eq!(status(&answer), 200, "{answer}");
    assert_eq!(
        field(&answer, "ratelimit-policy"),
        "\"f\";q=1000;qu=\"content-bytes\";w=3600"
    );
    assert_eq!(status(&put()), 200);
    let answer = put();
    assert_eq!(status(&answer), 429, "{answer}");
    assert!(
        body(&answer)["detail"]
            .to_string()
            .contains("At most 1000 bytes"),
        "{answer}"
    );
}

#[test]
fn a_quota_counts_in_its_period_warns_and_can_be_added_to() {
    let backend = Scripted::start(|_, _| plain("{}"));
    let mut own = stage(
        &backend,
        "quotas: [{ requests: 5, each: month, zone: Europe/Oslo, warn-at: [60, 100] }]",
    );
    assert_eq!(statuses(&own, "one", 6), [200, 200, 200, 200, 200, 429]);
    let answer = own.get("/f/item/1", "API-Key: one\r\n");
    let told = body(&answer);
    assert_eq!(told["type"], "urn:elm-porch:problem:quota");
    assert_eq!(
        told["limit"],
        "quota 5 each month (Europe/Oslo) per consumer"
    );
    let wait: u64 = field(&answer, "retry-after").parse().unwrap();
    assert!((1..=31 * 86_400).contains(&wait), "{wait}");
    assert_eq!(statuses(&own, "two", 1), [200]);
    // Something is added: by the limit, the consumer and the period that the counts have.
    let porch = own.shared.porch.load_full();
    let plan = porch.facades[0].operations[0].admission.limits.asked[0].clone();
    let porch_facade::Time::Period(periods, _) = &plan.time else {
        panic!("no period");
    };
    let (from, _) = periods.of_calendar(own.shared.now_ms() as i64);
    let added = HashMap::from([((plan.id, 1, from as u64), 2)]);
    own.shared.additions.store(Arc::new(added));
    assert_eq!(statuses(&own, "one", 3), [200, 200, 429]);
    assert_eq!(statuses(&own, "two", 5), [200, 200, 200, 200, 429]);
    own.gateway.take().unwrap().stop();
    let mut told = Vec::new();
    while let Ok(record) = own.records.try_recv() {
        if let Record::Quota(quota) = record {
            told.push((quota.consumer, quota.share, quota.used, quota.most));
        }
    }
    let of = |name: &str, share, used, most| (name.to_owned(), share, used, most);
    // With two more, five of seven are above three fifths again, and seven are all.
    assert_eq!(
        told,
        [
            of("one", 60, 3, 5),
            of("one", 100, 5, 5),
            of("one", 100, 7, 7),
            of("two", 60, 3, 5),
            of("two", 100, 5, 5)
        ]
    );
}

#[test]
fn a_quota_that_only_tells_lets_calls_go_on() {
    let backend = Scripted::start(|_, _| plain("{}"));
    let mut own = stage(&backend, "quotas: [{ requests: 2, each: day, end: tell }]");
    assert_eq!(statuses(&own, "one", 4), [200; 4]);
    let answer = own.get("/f/item/1", "API-Key: one\r\n");
    assert!(
        field(&answer, "ratelimit").starts_with("\"f\";r=0;t="),
        "{answer}"
    );
    own.gateway.take().unwrap().stop();
    let mut shares = Vec::new();
    while let Ok(record) = own.records.try_recv() {
        if let Record::Quota(quota) = record {
            shares.push((quota.share, quota.used));
        }
    }
    assert_eq!(shares, [(100, 2)]);
}

#[test]
fn a_smooth_limit_has_a_burst_and_then_a_distance() {
    let backend = Scripted::start(|_, _| plain("{}"));
    let stage = stage(
        &backend,
        "limits: [{ requests: 10, window: 1h, smooth: true, burst: 2 }]",
    );
    let told = statuses(&stage, "one", 3);
    assert_eq!(told, [200, 200, 429]);
    let answer = stage.get("/f/item/1", "API-Key: one\r\n");
    let wait: u64 = field(&answer, "retry-after").parse().unwrap();
    assert!((350..=360).contains(&wait), "{wait}");
}

#[test]
fn so_many_at_the_same_time_and_others_wait_in_line() {
    // A backend that answers when it is told to.
    let (told, asked) = channel::<()>();
    let asked = std::sync::Mutex::new(asked);
    let reached = Arc::new(AtomicUsize::new(0));
    let count = reached.clone();
    let backend = Scripted::start(move |_, _| {
        count.fetch_add(1, Ordering::SeqCst);
        asked.lock().unwrap().recv().unwrap();
        plain("{}")
    });
    let porch = compile_slow(
        backend.address,
        &facade("limits: [{ at-once: 1, waiting: 1, within: 20s }]"),
    );
    let stage = Stage::of(porch);
    let get = || stage.get("/f/item/1", "API-Key: one\r\n");
    std::thread::scope(|scope| {
        let first = scope.spawn(get);
        while reached.load(Ordering::SeqCst) == 0 {
            std::thread::yield_now();
        }
        let others = [scope.spawn(get), scope.spawn(get)];
        // One of the two waits, and the other finds the line full.
        while !others.iter().any(|o| o.is_finished()) {
            std::thread::yield_now();
        }
        assert_eq!(reached.load(Ordering::SeqCst), 1);
        told.send(()).unwrap();
        told.send(()).unwrap();
        assert_eq!(status(&first.join().unwrap()), 200);
        let mut answers: Vec<String> = others.map(|o| o.join().unwrap()).into();
        answers.sort_by_key(|a| status(a));
        let (passed, refused) = (&answers[0], &answers[1]);
        assert_eq!((status(passed), status(refused)), (200, 429), "{answers:?}");
        assert_eq!(body(refused)["type"], "urn:elm-porch:problem:at-once");
    });
    // Somebody who left gave the place back.
    told.send(()).unwrap();
    assert_eq!(status(&get()), 200);
}
