//! What may be under way at the same time, on several nodes.

use std::io::{BufRead, BufReader, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::atomic::AtomicUsize;

use porch_tests::Http;

use super::*;

/// A backend that takes twenty milliseconds for each call, and knows how many were under way at most.
struct Slow {
    address: std::net::SocketAddr,
    inside: Arc<AtomicUsize>,
    most: Arc<AtomicUsize>,
}

impl Slow {
    fn start() -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let slow = Self {
            address: listener.local_addr().unwrap(),
            inside: Arc::default(),
            most: Arc::default(),
        };
        let (inside, most) = (slow.inside.clone(), slow.most.clone());
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let (inside, most) = (inside.clone(), most.clone());
                std::thread::spawn(move || answers(&stream, &inside, &most));
            }
        });
        slow
    }

    /// How many were under way at most, from now on anew.
    fn most(&self) -> usize {
        self.most.swap(0, Ordering::SeqCst)
    }
}

fn answers(stream: &TcpStream, inside: &AtomicUsize, most: &AtomicUsize) -> Option<()> {
    let mut lines = BufReader::new(stream.try_clone().ok()?).lines();
    let mut stream = stream;
    loop {
        while !lines.next()?.ok()?.is_empty() {}
        let now = inside.fetch_add(1, Ordering::SeqCst) + 1;
        most.fetch_max(now, Ordering::SeqCst);
        // What the work takes.
        std::thread::sleep(Duration::from_millis(20));
        inside.fetch_sub(1, Ordering::SeqCst);
        let answer =
            b"HTTP/1.1 200 OK\r\ncontent-type: application/json\r\ncontent-length: 2\r\n\r\n{}";
        stream.write_all(answer).ok()?;
    }
}

fn served(slow: &Slow, count: usize, place: &str, limits: &str) -> Nodes {
    let backend = format!(
        "elm-porch: backend/1\nname: slow\nkind: http\naddress: http://{}\n",
        slow.address
    );
    let facade = facade(limits).replace(
        "takePlace: {}",
        "takePlace: { call: { backend: slow, path: / } }",
    );
    let files = [
        ("last-boat.openapi.yaml", CONTRACT),
        ("last-boat.facade.yaml", &facade),
        ("slow.backend.yaml", &backend),
    ];
    Nodes::serving(count, &new_database(porch_tests::cluster()), place, &files)
}

/// Calls at the same time, spread over nodes; their statuses.
fn calls(gateways: &[String], callers: usize, each: usize) -> Vec<u16> {
    std::thread::scope(|scope| {
        let all: Vec<_> = (0..callers)
            .map(|caller| {
                let gateway = &gateways[caller % gateways.len()];
                scope.spawn(move || {
                    let url = format!("{gateway}/boat/places?boat=one");
                    let one = |_| {
                        let got = porch_tests::Http::try_send("GET", &url, &[], Vec::new());
                        got.map_or(0, |got| got.status)
                    };
                    (0..each).map(one).collect::<Vec<u16>>()
                })
            })
            .collect();
        all.into_iter()
            .flat_map(|one| one.join().unwrap())
            .collect()
    })
}

const FOUR: &str = "  limits: [{ at-once: 4, waiting: 100, within: 20s, per: everyone }]";

fn four_at_the_same_time(place: &str) {
    let slow = Slow::start();
    let mut nodes = served(&slow, 3, place, FOUR);
    let gateways =
        |nodes: &Nodes| -> Vec<String> { nodes.all.iter().map(|n| n.gateway.clone()).collect() };
    slow.most();
    let statuses = calls(&gateways(&nodes), 30, 10);
    assert_eq!(statuses, vec![200; 300]);
    assert_eq!(slow.most(), 4);
    // One of them alone has all places, a moment later.
    let first = [nodes.all[0].gateway.clone()];
    wait_until("one node has all places", || {
        assert_eq!(calls(&first, 8, 4), [200; 32]);
        slow.most() == 4
    });
    // One is killed with calls under way: what it had comes back, and there are never more.
    let other = [nodes.all[1].gateway.clone()];
    std::thread::scope(|scope| {
        let under_way = scope.spawn(|| calls(&other, 8, 5));
        wait_until("calls are under way", || {
            slow.inside.load(Ordering::SeqCst) > 0
        });
        nodes.all[1].kill_service();
        under_way.join().unwrap();
    });
    nodes.kill(1);
    nodes.wait_for(&nodes.all[1]);
    slow.most();
    wait_until("all places are there again", || {
        let statuses = calls(&gateways(&nodes), 12, 4);
        assert_eq!(statuses, [200; 48]);
        let most = slow.most();
        assert!(most <= 4, "{most} at the same time");
        most == 4
    });
}

#[test]
fn four_are_under_way_on_three_nodes_that_count_on_a_server() {
    let (server, _folder) = count_server();
    four_at_the_same_time(&server.url());
}

#[test]
fn four_are_under_way_on_three_nodes_that_count_in_the_database() {
    four_at_the_same_time("database");
}

#[test]
fn who_may_not_wait_is_refused_and_a_place_that_is_away_is_told() {
    let (mut server, _folder) = count_server();
    let slow = Slow::start();
    let none = "  limits: [{ at-once: 2, per: everyone, apart: refuse }]";
    let nodes = served(&slow, 2, &server.url(), none);
    let gateways: Vec<String> = nodes.all.iter().map(|n| n.gateway.clone()).collect();
    slow.most();
    let statuses = calls(&gateways, 20, 3);
    let of = |status: u16| statuses.iter().filter(|s| **s == status).count();
    assert_eq!(of(200) + of(429), 60, "{statuses:?}");
    assert!(of(200) >= 2 && of(429) > 0, "{statuses:?}");
    assert!(slow.most() <= 2);
    server.kill();
    wait_until("it is told", || {
        let told = nodes.all[0].call("GET", "/boat/places?boat=one", "", "");
        told.status == 503 && told.json()["type"] == "urn:elm-porch:problem:counts-away"
    });
    server.start_again().unwrap();
    wait_until("calls pass again", || {
        nodes.all[0]
            .call("GET", "/boat/places?boat=one", "", "")
            .status
            == 200
    });
}

#[test]
fn a_node_goes_on_with_its_share_of_places_and_says_so() {
    let (mut server, _folder) = count_server();
    let slow = Slow::start();
    let shares = "  limits: [{ at-once: 4, per: everyone }]";
    let nodes = served(&slow, 2, &server.url(), shares);
    let node = &nodes.all[0];
    let count = || {
        let told = Http::send("GET", &format!("{}/health", node.console), &[], Vec::new());
        told.json()["counts"]["nodes"].clone()
    };
    wait_until("it knows of the other", || count() == 2);
    server.kill();
    slow.most();
    let gateway = [node.gateway.clone()];
    let mut told = Value::Null;
    wait_until("a share is told", || {
        calls(&gateway, 6, 2);
        let trace = node.ok(&["trace", "--status", "429", "--most", "1"]);
        let Some(id) = trace[0]["id"].as_str() else {
            return false;
        };
        told = node
            .api("GET", &format!("/api/traces/{id}"), &Value::Null)
            .json();
        told.to_string().contains("1 of 2")
    });
    assert!(
        told.to_string().contains("has 2 requests under way"),
        "{told}"
    );
    assert!(slow.most() <= 4);
}
