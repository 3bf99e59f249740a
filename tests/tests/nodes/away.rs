//! The place of the counts is away: what documents say of that holds, and replies and traces tell it.

use super::*;

const LIMITS: &str = "  limits:
    - { requests: 6, window: 1h, per: =query.boat }
    - { requests: 1000, window: 1h, per: everyone, apart: refuse }";
const SHARES: &str = "  limits: [{ requests: 6, window: 1h, per: =query.boat }]";

fn place(node: &Porch, boat: &str) -> porch_tests::Http {
    node.call("GET", &format!("/boat/places?boat={boat}"), "", "")
}

#[test]
fn nodes_go_on_within_their_shares_while_the_server_is_away() {
    let (mut server, _folder) = count_server();
    let database = new_database(porch_tests::cluster());
    let nodes = Nodes::start(2, &database, &server.url(), SHARES);
    let (a, b) = (&nodes.all[0], &nodes.all[1]);
    // Counted together; the nodes know of each other.
    assert_eq!(
        place(a, "one").header("ratelimit"),
        "\"last-boat\";r=5;t=3600"
    );
    assert_eq!(
        place(b, "one").header("ratelimit"),
        "\"last-boat\";r=4;t=3600"
    );
    knows_the_other(a);
    server.kill();
    let apart = place(a, "two");
    assert_eq!(apart.status, 200, "{}", apart.text());
    assert_eq!(apart.header("ratelimit-policy"), "\"last-boat\";q=3;w=3600");
    assert_eq!(apart.header("ratelimit"), "\"last-boat\";r=2;t=3600;apart");
    let statuses: Vec<u16> = (0..4).map(|_| place(a, "two").status).collect();
    assert_eq!(statuses, [200, 200, 429, 429]);
    let refused = place(a, "two");
    assert!(refused.header("ratelimit").ends_with(";apart"));
    let refused = refused.json();
    assert_eq!(refused["apart"], true, "{refused}");
    let told = refused["detail"].as_str().unwrap();
    assert!(
        told.contains("At most 3 requests") && told.contains("1 of 2 nodes"),
        "{told}"
    );
    let trace = last_trace(a);
    assert!(
        trace.contains("is away") && trace.contains("1 of 2"),
        "{trace}"
    );
    let overview = a.api("GET", "/api/overview", &Value::Null).json();
    let trouble = overview["trouble"].as_str().unwrap();
    assert!(
        trouble.contains("server of the counts is away"),
        "{trouble}"
    );
    // It is back with what it had written down.
    server.start_again().unwrap();
    wait_until("counts to be shared again", || {
        place(a, "three").header("ratelimit").ends_with("3600")
    });
    // The other one notices by itself.
    wait_until("the other node to share again", || {
        place(b, "four").header("ratelimit").ends_with("3600")
    });
    assert_eq!(
        place(b, "one").header("ratelimit"),
        "\"last-boat\";r=3;t=3600"
    );
    let log = a.log();
    assert!(
        log.contains("is away") && log.contains("answers again"),
        "{log}"
    );
    assert!(!log.contains(&server.url()), "{log}");
}

/// Waits until a node has heard of the other one.
fn knows_the_other(node: &Porch) {
    wait_until("both nodes to be heard of", || {
        let health = node.api("GET", "/health", &Value::Null).json();
        assert!(health["counts"]["place"].is_string(), "{health}");
        health["counts"]["nodes"] == 2
    });
}

fn last_trace(node: &Porch) -> String {
    let mut found = String::new();
    wait_until("the trace to be there", || {
        let all = node.ok(&["trace", "--facade", "last-boat"]);
        found = all.to_string();
        found.contains("is away")
    });
    found
}

#[test]
fn limits_that_say_so_refuse_while_the_database_is_away() {
    let mut cluster = new_cluster();
    let database = new_database(&cluster);
    let nodes = Nodes::start(1, &database, "database", LIMITS);
    let node = &nodes.all[0];
    let told = place(node, "one");
    assert_eq!(
        (told.status, told.header("ratelimit")),
        (200, "\"last-boat\";r=5;t=3600")
    );
    cluster.stop();
    let mut refused = place(node, "one");
    wait_until("it to be noticed", || {
        refused = place(node, "one");
        refused.status == 503
    });
    let problem: Value = refused.json();
    assert_eq!(
        problem["type"], "urn:elm-porch:problem:counts-away",
        "{problem}"
    );
    assert_eq!(refused.header("retry-after"), "1");
    assert!(!problem.to_string().contains("postgres"), "{problem}");
    // Nothing that only waited was counted by this node alone.
    assert_eq!(place(node, "one").status, 503);
}

#[test]
fn a_node_that_begins_anew_while_the_server_is_away_knows_its_share_still() {
    let (mut server, _folder) = count_server();
    let database = new_database(porch_tests::cluster());
    let mut nodes = Nodes::start(2, &database, &server.url(), SHARES);
    knows_the_other(&nodes.all[0]);
    server.kill();
    nodes.kill(0);
    let mut told = place(&nodes.all[0], "one");
    wait_until("the release to be served", || {
        told = place(&nodes.all[0], "one");
        told.status == 200
    });
    assert_eq!(told.header("ratelimit-policy"), "\"last-boat\";q=3;w=3600");
    assert!(told.header("ratelimit").ends_with(";apart"));
}
