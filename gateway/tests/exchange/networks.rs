//! From which networks callers may call.

use porch_gateway::{Proxies, Written};

use super::*;

fn answer(networks: &str, more: &str) -> String {
    let backend = Scripted::start(|_, _| plain("{}"));
    let facade = format!(
        "admit: {{ networks: {networks} }}\noperations:\n  item: {{ call: {{ backend: b }}{more} }}\n"
    );
    Stage::new(backend.address, &facade).get("/f/item/1", "")
}

#[test]
fn only_callers_of_these_networks_are_admitted() {
    for (networks, wanted) in [
        ("{ allow: [127.0.0.0/8] }", 200),
        ("{ allow: ['::1', 127.0.0.1] }", 200),
        ("{ allow: [10.0.0.0/8, '2001:db8::/32'] }", 403),
        ("{ deny: [127.0.0.1] }", 403),
        ("{ deny: [127.0.0.2/32] }", 200),
        ("{ allow: [127.0.0.0/8], deny: [127.0.0.0/30] }", 403),
        ("{ allow: [0.0.0.0/0] }", 200),
        ("{ allow: ['::/0'] }", 403),
    ] {
        let answer = answer(networks, "");
        assert_eq!(status(&answer), wanted, "{networks}: {answer}");
        if wanted == 403 {
            assert!(answer.contains("urn:elm-porch:problem:network"), "{answer}");
            assert!(
                answer.contains("Calls from 127.0.0.1 are not admitted here."),
                "{answer}"
            );
        }
    }
    // What several documents say holds together: a narrower one opens nothing.
    let narrower = ", admit: { networks: { allow: [127.0.0.1] } }";
    assert_eq!(status(&answer("{ allow: [10.0.0.0/8] }", narrower)), 403);
    assert_eq!(status(&answer("{ allow: [127.0.0.0/8] }", narrower)), 200);
}

#[test]
fn they_are_refused_before_anything_else_and_the_publisher_reads_why() {
    let backend = Scripted::start(|_, _| plain("{}"));
    let facade = "admit: { networks: { deny: [127.0.0.0/8] }, credentials: [key], limits: [{ requests: 1, window: 1h, per: everyone }] }\noperations: { item: { call: { backend: b } } }\n";
    let stage = Stage::new(backend.address, facade);
    for _ in 0..3 {
        assert_eq!(status(&stage.get("/f/item/1", "")), 403);
    }
    assert_eq!(backend.connections(), 0);
    let (traces, _) = stage.end();
    let refusal = traces[0].refusal.as_ref().unwrap();
    assert_eq!(
        refusal.why,
        "the caller's address is 127.0.0.1: no callers of 127.0.0.0/8"
    );
    assert_eq!((refusal.file.as_str(), refusal.line), ("f.yaml", 5));
}

fn behind(proxies: &[&str], write: Written, facade: &str) -> (Stage, Scripted) {
    let backend = Scripted::start(|_, request| {
        let field = request
            .lines()
            .find(|l| l.to_ascii_lowercase().starts_with("forwarded:"));
        let others = request.to_ascii_lowercase().contains("x-forwarded-for");
        plain(&format!("{} {others}", field.unwrap_or("none")))
    });
    let config = GatewayConfig {
        workers: 1,
        drain: Duration::from_secs(5),
        proxies: Proxies::of(proxies.iter().copied(), write).unwrap(),
        ..GatewayConfig::at(([127, 0, 0, 1], 0).into())
    };
    let porch = compile(backend.address, facade);
    (Stage::with(porch, Shared::new(), &config), backend)
}

#[test]
fn whom_a_declared_proxy_comes_for_is_the_caller_and_nobody_else_s_word_counts() {
    const ALLOWED: &str = "admit: { networks: { allow: [192.0.2.0/24] }, limits: [{ requests: 2, window: 1h, per: address }] }\noperations: { item: { call: { backend: b } } }\n";
    let (stage, _backend) = behind(&["127.0.0.1"], Written::Forwarded, ALLOWED);
    let get = |fields: &str| stage.get("/f/item/1", fields);
    let of =
        |last: u8| format!("Forwarded: for=6.6.6.6, for=\"192.0.2.{last}:99\";proto=https\r\n");
    let answer = get(&of(7));
    assert_eq!(status(&answer), 200, "{answer}");
    // What is sent on is the porch's own word.
    let sent = answer.to_ascii_lowercase();
    assert!(
        sent.contains("forwarded: for=192.0.2.7;host=\"x\";proto=https false"),
        "{answer}"
    );
    // Each has a count of its own, on whichever connection it comes.
    assert_eq!(status(&get(&of(7))), 200);
    assert_eq!(status(&get(&of(7))), 429);
    assert_eq!(status(&get(&of(8))), 200);
    for fields in [
        "",
        "X-Forwarded-For: 192.0.2.9\r\n",
        "Forwarded: for=unknown\r\n",
    ] {
        assert_eq!(status(&get(fields)), 403, "{fields}");
    }
    let (traces, _) = stage.end();
    assert!(
        traces.iter().any(|t| t.address == "192.0.2.7"),
        "{traces:?}"
    );
    // Of somebody who is no proxy it is only a claim.
    let (stage, _backend) = behind(&["10.0.0.0/8"], Written::Forwarded, ALLOWED);
    assert_eq!(status(&stage.get("/f/item/1", &of(7))), 403);
    // Proxies that write the older field pass on a `Forwarded` of whoever calls them.
    let (stage, _backend) = behind(&["127.0.0.1"], Written::Older, ALLOWED);
    let get = |fields: &str| status(&stage.get("/f/item/1", fields));
    assert_eq!(get("X-Forwarded-For: 192.0.2.9\r\n"), 200);
    assert_eq!(get(&of(7)), 403);
    assert_eq!(get(&format!("{}X-Forwarded-For: 6.6.6.6\r\n", of(7))), 403);
}
