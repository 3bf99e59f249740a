//! Memory, time and connections are bounded for all callers together.

use std::sync::{Condvar, Mutex};

use super::*;

/// Looks into the body and builds the reply anew.
const SHAPED: &str = "operations:
  item: { call: { backend: b }, reply: { got: =answer.body } }
  putItem:
    call: { backend: b, method: POST, path: /store }
    send: { body: { all: =body } }
";

fn put(stage: &Stage, body: &str) -> String {
    stage.raw(
        format!(
            "PUT /f/item/7 HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
            body.len()
        )
        .as_bytes(),
    )
}

/// Waits until no exchange has memory any more: the last ones end when their callers have read all.
fn wait_for_none(shared: &Shared) {
    let until = std::time::Instant::now() + Duration::from_secs(20);
    while shared.bytes_of_bodies() > 0 {
        assert!(
            std::time::Instant::now() < until,
            "{} bytes stay",
            shared.bytes_of_bodies()
        );
        std::thread::yield_now();
    }
}

#[test]
fn a_small_body_that_grows_in_memory_is_refused_by_what_it_takes() {
    let backend = Scripted::start(|_, _| plain("{}"));
    let porch = compile(backend.address, SHAPED);
    let stage = Stage::over(porch, Shared::with_memory(8 << 20));
    // The same length: one text, and numbers that take forty times as much.
    let text = format!("[\"{}\"]", "x".repeat(100_000));
    let numbers = format!("[{}1]", "1,".repeat(50_000));
    assert_eq!(status(&put(&stage, &text)), 200);
    let refused = put(&stage, &numbers);
    assert_eq!(status(&refused), 413, "{refused}");
    assert!(
        refused.contains("urn:elm-porch:problem:body-size"),
        "{refused}"
    );
    wait_for_none(&stage.shared);
    assert_eq!(status(&put(&stage, &text)), 200);
}

#[test]
fn an_answer_that_grows_in_memory_is_not_read_into_a_value() {
    let backend = Scripted::start(|_, request| match request.contains("/item/small") {
        true => plain("[1,2]"),
        false => plain(&format!("[{}1]", "1,".repeat(50_000))),
    });
    let porch = compile(backend.address, SHAPED);
    let stage = Stage::over(porch, Shared::with_memory(8 << 20));
    let refused = stage.get("/f/item/large", "");
    assert_eq!(status(&refused), 502, "{refused}");
    assert!(
        refused.contains("too large for what is made of it"),
        "{refused}"
    );
    assert_eq!(status(&stage.get("/f/item/small", "")), 200);
    wait_for_none(&stage.shared);
    let (traces, _) = stage.end();
    let why = format!("{:?}", traces[0].refusal);
    assert!(
        why.contains("more than the 4194304 that one exchange may have"),
        "{why}"
    );
}

#[test]
fn many_at_once_are_refused_when_the_memory_is_used_up_and_served_again_later() {
    let gate = Arc::new((Mutex::new((0, false)), Condvar::new()));
    let (inside, open) = (gate.clone(), gate.clone());
    let backend = Scripted::start(move |_, _| {
        let (state, bell) = &*inside;
        let mut held = state.lock().unwrap();
        held.0 += 1;
        bell.notify_all();
        while !held.1 {
            held = bell.wait(held).unwrap();
        }
        plain("{}")
    });
    let facade = SHAPED.replace("operations:", "admit: { max-body: 2MiB }\noperations:");
    let porch = compile_slow(backend.address, &facade);
    // Each takes its bytes, and as many for its value.
    let stage = Stage::over(porch, Shared::with_memory(5 << 20));
    let body = format!("\"{}\"", "x".repeat(1 << 20));
    std::thread::scope(|scope| {
        let waiting: Vec<_> = (0..2)
            .map(|_| scope.spawn(|| status(&put(&stage, &body))))
            .collect();
        let (state, bell) = &*open;
        let mut held = state.lock().unwrap();
        while held.0 < 2 {
            held = bell.wait(held).unwrap();
        }
        drop(held);
        let refused = put(&stage, &body);
        assert_eq!(status(&refused), 503, "{refused}");
        assert!(refused.contains("retry-after: 1"), "{refused}");
        assert!(
            refused.contains("urn:elm-porch:problem:overloaded"),
            "{refused}"
        );
        state.lock().unwrap().1 = true;
        bell.notify_all();
        for one in waiting {
            assert_eq!(one.join().unwrap(), 200);
        }
    });
    wait_for_none(&stage.shared);
    assert_eq!(status(&put(&stage, &body)), 200);
}

/// Bounds that are reached at once.
fn narrow(backend: SocketAddr, timeout: &str, edit: impl FnOnce(&mut GatewayConfig)) -> Stage {
    let porch = compile_timed(backend, CONTRACT, PLAIN, timeout);
    let mut config = GatewayConfig {
        workers: 1,
        drain: Duration::from_secs(5),
        ..GatewayConfig::at(([127, 0, 0, 1], 0).into())
    };
    edit(&mut config);
    Stage::with(porch, Shared::new(), &config)
}

const PLAIN: &str =
    "operations:\n  item: { call: { backend: b } }\n  putItem: { call: { backend: b } }\n";

#[test]
fn an_exchange_is_under_way_until_its_last_byte() {
    // More than sockets hold, so that the reply cannot all be on its way while nobody reads it.
    let backend = Scripted::start(|_, request| match request.contains("/item/large") {
        true => plain(&"x".repeat(64 << 20)),
        false => plain("{}"),
    });
    let stage = narrow(backend.address, "20s", |c| c.exchanges = 1);
    let mut reader = TcpStream::connect(stage.address()).unwrap();
    let get = b"GET /f/item/large HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n";
    reader.write_all(get).unwrap();
    let mut first = [0; 64];
    reader.read_exact(&mut first).unwrap();
    let refused = stage.get("/f/item/1", "");
    assert_eq!(status(&refused), 503, "{refused}");
    assert!(
        refused.contains("urn:elm-porch:problem:overloaded"),
        "{refused}"
    );
    drop(reader);
    let until = std::time::Instant::now() + Duration::from_secs(20);
    while status(&stage.get("/f/item/1", "")) != 200 {
        assert!(std::time::Instant::now() < until);
    }
}

#[test]
fn an_upload_that_moves_is_not_too_slow_for_the_backends_time() {
    let backend = Scripted::start(|_, request| plain(&format!("{{\"n\": {}}}", request.len())));
    let stage = narrow(backend.address, "80ms", |_| ());
    let mut caller = TcpStream::connect(stage.address()).unwrap();
    let all = 900_000;
    let head = format!(
        "PUT /f/item/7 HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Type: application/json\r\nContent-Length: {all}\r\n\r\n"
    );
    caller.write_all(head.as_bytes()).unwrap();
    let (start, mut sent) = (std::time::Instant::now(), 0);
    // Five times as long as the backend may take to answer.
    while start.elapsed() < Duration::from_millis(400) && sent < all - 1 {
        caller.write_all(b"1").unwrap();
        sent += 1;
        std::thread::yield_now();
    }
    caller.write_all(&vec![b'1'; all - sent]).unwrap();
    let mut answer = String::new();
    caller.read_to_string(&mut answer).unwrap();
    assert_eq!(status(&answer), 200, "{answer}");
}

#[test]
fn connections_above_the_bound_wait_for_a_place() {
    let backend = Scripted::start(|_, _| plain("{}"));
    let stage = narrow(backend.address, "20s", |c| c.connections = 1);
    let get = b"GET /f/item/1 HTTP/1.1\r\nHost: x\r\n\r\n";
    let mut first = TcpStream::connect(stage.address()).unwrap();
    first.write_all(get).unwrap();
    let mut some = [0; 512];
    assert!(first.read(&mut some).unwrap() > 0);
    let mut second = TcpStream::connect(stage.address()).unwrap();
    second.write_all(get).unwrap();
    second
        .set_read_timeout(Some(Duration::from_millis(100)))
        .unwrap();
    assert!(second.read(&mut some).is_err(), "it was not taken in");
    drop(first);
    second
        .set_read_timeout(Some(Duration::from_secs(20)))
        .unwrap();
    assert!(second.read(&mut some).unwrap() > 0);
}

#[test]
fn nobody_is_taken_in_before_there_is_something_to_serve() {
    let config = GatewayConfig {
        workers: 2,
        ..GatewayConfig::at(([127, 0, 0, 1], 0).into())
    };
    let bound = porch_gateway::Bound::new(config.clone()).unwrap();
    let address = bound.address;
    let refused = TcpStream::connect(address).unwrap_err();
    assert_eq!(refused.kind(), std::io::ErrorKind::ConnectionRefused);
    let backend = Scripted::start(|_, _| plain("{}"));
    let (shared, _records) = Shared::new();
    shared
        .porch
        .store(Arc::new(compile(backend.address, PLAIN)));
    // Of two that took the address at the same time, one serves.
    let late = porch_gateway::Bound::new(GatewayConfig {
        address,
        ..config.clone()
    })
    .unwrap();
    let gateway = bound.listen(&shared).unwrap();
    assert!(late.listen(&shared).is_err());
    // A second one on the same address is noticed.
    let taken = GatewayConfig { address, ..config };
    assert!(porch_gateway::Bound::new(taken).is_err());
    let mut caller = TcpStream::connect(address).unwrap();
    caller
        .write_all(b"GET /f/item/1 HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n")
        .unwrap();
    let mut answer = String::new();
    caller.read_to_string(&mut answer).unwrap();
    assert_eq!(status(&answer), 200, "{answer}");
    gateway.stop();
}

#[test]
fn a_request_that_begins_as_the_other_protocol_does_is_waited_for() {
    let backend = Scripted::start(|_, _| plain("{}"));
    let stage = narrow(backend.address, "20s", |_| ());
    // The first letter of HTTP/2's preface, and of three methods.
    let mut callers: Vec<TcpStream> = (0..50)
        .map(|_| {
            let mut caller = TcpStream::connect(stage.address()).unwrap();
            caller.write_all(b"P").unwrap();
            caller
        })
        .collect();
    // Others are served meanwhile, and they are when they go on.
    assert_eq!(status(&stage.get("/f/item/1", "")), 200);
    for caller in &mut callers {
        let rest = b"UT /f/item/7 HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Type: application/json\r\nContent-Length: 2\r\n\r\n{}";
        caller.write_all(rest).unwrap();
    }
    for caller in &mut callers {
        let mut answer = String::new();
        caller.read_to_string(&mut answer).unwrap();
        assert_eq!(status(&answer), 200, "{answer}");
    }
}
