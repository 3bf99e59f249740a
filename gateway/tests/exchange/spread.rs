//! Several addresses of one backend: weights, the one that has less to do, and queues that are full.

use std::sync::{Condvar, Mutex};

use super::*;

/// Opens once for all who wait.
#[derive(Default)]
struct Gate(Mutex<bool>, Condvar);

impl Gate {
    fn open(&self) {
        *self.0.lock().unwrap() = true;
        self.1.notify_all();
    }

    fn pass(&self) {
        let open = self.0.lock().unwrap();
        let (open, _) = self
            .1
            .wait_timeout_while(open, Duration::from_secs(20), |o| !*o)
            .unwrap();
        assert!(*open, "nobody opened");
    }
}

/// A stage of one worker, so that all calls are its own.
fn stage(lines: &str) -> Stage {
    let config = GatewayConfig {
        workers: 1,
        drain: Duration::from_secs(5),
        ..GatewayConfig::at(([127, 0, 0, 1], 0).into())
    };
    let porch = compile_called(lines, "", CONTRACT, &["item"]);
    Stage::with(porch, Shared::new(), &config)
}

#[test]
fn addresses_get_calls_by_their_weights() {
    let counts: [Arc<AtomicUsize>; 3] = std::array::from_fn(|_| Arc::default());
    let backends = counts.each_ref().map(counting);
    let [a, b, c] = backends.each_ref().map(|b| b.address);
    let stage = stage(&format!(
        "address: [{{ address: 'http://{a}', weight: 6 }}, 'http://{b}', {{ address: 'http://{c}', weight: 3 }}]"
    ));
    for _ in 0..50 {
        assert_eq!(status(&stage.get("/f/item/1", "")), 200);
    }
    assert_eq!(counts.map(|c| c.load(Ordering::SeqCst)), [30, 5, 15]);
}

#[test]
fn an_address_that_has_much_to_do_gets_no_more() {
    let gate = Arc::new(Gate::default());
    let (held, quick) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
    let slow = {
        let (gate, held) = (gate.clone(), held.clone());
        Scripted::start(move |_, _| {
            held.fetch_add(1, Ordering::SeqCst);
            gate.pass();
            plain("{}")
        })
    };
    let other = counting(&quick);
    let stage = Arc::new(stage(&format!(
        "address: ['http://{}', 'http://{}']\ntimeout: 20s",
        slow.address, other.address
    )));
    let first = {
        let stage = stage.clone();
        std::thread::spawn(move || stage.get("/f/item/1", ""))
    };
    let until = std::time::Instant::now() + Duration::from_secs(20);
    while held.load(Ordering::SeqCst) == 0 {
        assert!(std::time::Instant::now() < until);
        std::thread::yield_now();
    }
    for _ in 0..20 {
        assert_eq!(status(&stage.get("/f/item/1", "")), 200);
    }
    assert_eq!(
        (held.load(Ordering::SeqCst), quick.load(Ordering::SeqCst)),
        (1, 20)
    );
    gate.open();
    assert_eq!(status(&first.join().unwrap()), 200);
    // Both have nothing to do: they take turns again.
    for _ in 0..20 {
        assert_eq!(status(&stage.get("/f/item/1", "")), 200);
    }
    assert_eq!(
        (held.load(Ordering::SeqCst), quick.load(Ordering::SeqCst)),
        (11, 30)
    );
}

#[test]
fn backends_take_their_turns_each_for_itself() {
    // Called in turns, two backends of two addresses each once got the same address all the time.
    let counts: [Arc<AtomicUsize>; 4] = std::array::from_fn(|_| Arc::default());
    let backends = counts.each_ref().map(counting);
    let [a, b, c, d] = backends.each_ref().map(|b| b.address);
    let backend = |name: &str, one, other| {
        let text = format!(
            "elm-porch: backend/1\nname: {name}\nkind: http\naddress: ['http://{one}', 'http://{other}']\n"
        );
        (format!("{name}.yaml"), text)
    };
    let mut files: Files = BTreeMap::from([backend("b", a, b), backend("b2", c, d)]);
    files.insert("c.yaml".into(), CONTRACT.into());
    files.insert("f.yaml".into(), "elm-porch: facade/1\nname: f\nbase: /f\ncontract: c.yaml\noperations:\n  item: { call: { backend: b } }\n  files: { call: { backend: b2 } }\n".into());
    let model = Model::read(Arc::new(files), "live", &Arc::default());
    let (porch, findings) = model.porch(&["f"], &Secrets::Known(&HashMap::new()));
    assert!(!porch_contract::has_errors(&findings), "{findings:?}");
    let config = GatewayConfig {
        workers: 1,
        ..GatewayConfig::at(([127, 0, 0, 1], 0).into())
    };
    let stage = Stage::with(porch, Shared::new(), &config);
    for _ in 0..10 {
        assert_eq!(status(&stage.get("/f/item/1", "")), 200);
        assert_eq!(status(&stage.get("/f/files/a", "")), 200);
    }
    assert_eq!(counts.map(|c| c.load(Ordering::SeqCst)), [5, 5, 5, 5]);
}

#[test]
fn other_weights_of_the_same_addresses_take_over_while_none_of_them_answers() {
    let gone: [std::net::SocketAddr; 2] = std::array::from_fn(|_| {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        listener.local_addr().unwrap()
    });
    let [a, b] = gone;
    let lines = |weight: u32| {
        format!("address: [{{ address: 'http://{a}', weight: {weight} }}, 'http://{b}']")
    };
    let stage = stage(&lines(9));
    for _ in 0..8 {
        assert_eq!(status(&stage.get("/f/item/1", "")), 502);
    }
    // There are fewer turns now than were taken.
    let fewer = compile_called(&lines(1), "", CONTRACT, &["item"]);
    stage.shared.porch.store(Arc::new(fewer));
    for _ in 0..3 {
        assert_eq!(status(&stage.get("/f/item/1", "")), 502);
    }
}

#[test]
fn a_queue_that_is_full_takes_nobody_in() {
    let gate = Arc::new(Gate::default());
    let held = Arc::new(AtomicUsize::new(0));
    let slow = {
        let (gate, held) = (gate.clone(), held.clone());
        Scripted::start(move |_, _| {
            held.fetch_add(1, Ordering::SeqCst);
            gate.pass();
            plain("{}")
        })
    };
    let stage = Arc::new(stage(&format!(
        "address: 'http://{}'\nconnections: 1\nwaiting: 2\nconnect-timeout: 19s\ntimeout: 20s",
        slow.address
    )));
    let calls: Vec<_> = (0..8)
        .map(|_| {
            let stage = stage.clone();
            std::thread::spawn(move || {
                let answer = stage.get("/f/item/1", "");
                assert!(
                    answer.contains("200 OK") || answer.contains("problem:backend-busy"),
                    "{answer}"
                );
                status(&answer)
            })
        })
        .collect();
    // One is carried out and two wait: the five others are told at once, and only then the gate opens.
    let (mut open, mut busy) = (calls, 0);
    let until = std::time::Instant::now() + Duration::from_secs(20);
    while busy < 5 {
        assert!(std::time::Instant::now() < until, "{busy}");
        let (done, rest): (Vec<_>, Vec<_>) = open.into_iter().partition(|c| c.is_finished());
        busy += done
            .into_iter()
            .map(|c| c.join().unwrap())
            .filter(|s| *s == 503)
            .count();
        open = rest;
        std::thread::yield_now();
    }
    gate.open();
    let rest: Vec<u16> = open.into_iter().map(|c| c.join().unwrap()).collect();
    assert_eq!(rest, [200, 200, 200]);
}
