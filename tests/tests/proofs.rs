//! Other implementations, in another language, agree with what is signed here, what is verified here and how limits are told.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpListener;
use std::process::{Command, Stdio};

use porch_tests::{Http, Porch, root};
use serde_json::{Value, json};

const BERTHS: &str = "/berths/v1/berths";
const ALGORITHMS: [&str; 6] = [
    "hmac-sha256",
    "ed25519",
    "ecdsa-p256-sha256",
    "ecdsa-p384-sha384",
    "rsa-pss-sha512",
    "rsa-v1_5-sha256",
];

/// What the libraries of others make of these tasks.
fn others(tasks: &[Value]) -> Vec<Value> {
    let mut child = Command::new("/usr/bin/python3")
        .arg(root().join("tests/independent/proofs.py"))
        .env("PYTHONPATH", root().join("target/python"))
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let tasks = serde_json::to_vec(tasks).unwrap();
    child.stdin.take().unwrap().write_all(&tasks).unwrap();
    let output = child.wait_with_output().unwrap();
    let told = String::from_utf8_lossy(&output.stderr);
    assert!(
        output.status.success(),
        "`cargo xtask test` brings what this needs to target/python: {told}"
    );
    serde_json::from_slice(&output.stdout).unwrap()
}

fn text<'v>(value: &'v Value, name: &str) -> &'v str {
    value[name].as_str().unwrap()
}

/// A stage whose consumer has a key of each algorithm, made elsewhere; the private ones.
fn stage() -> (Porch, Vec<Value>) {
    let (porch, _) = Porch::published();
    porch.ok(&["consumer", "create", "Gullwing Tours"]);
    porch.ok(&[
        "consumer",
        "change",
        "Gullwing Tours",
        "--role",
        "harbour-master",
    ]);
    let tasks = ALGORITHMS.map(|alg| json!({"do": "keys", "alg": alg}));
    let keys = others(&tasks);
    for (alg, key) in ALGORITHMS.iter().zip(&keys) {
        let public = text(key, "public");
        let arguments = ["consumer", "signing-key", "Gullwing Tours", alg];
        if *alg == "hmac-sha256" {
            porch.ok_with(&arguments, public);
            continue;
        }
        // What both would have to keep secret is no public key, and no private one either.
        for (wrong, says) in [
            (public, "--public-key"),
            (text(key, "private"), "stays with"),
        ] {
            let told = porch.client(&arguments, wrong);
            let told = String::from_utf8_lossy(&told.stderr).into_owned();
            assert!(told.contains("no secret") && told.contains(says), "{told}");
        }
        let file = porch.folder().join(format!("{alg}.pem"));
        std::fs::write(&file, public).unwrap();
        let own = ["--public-key", file.to_str().unwrap()];
        porch.ok(&[&arguments[..], &own].concat());
    }
    (porch, keys)
}

/// Sends a request as it was signed elsewhere.
fn send(task: &Value, signed: &Value) -> Http {
    let fields: Vec<(&str, &str)> = signed
        .as_object()
        .unwrap()
        .iter()
        .map(|(name, value)| (name.as_str(), value.as_str().unwrap()))
        .collect();
    let body = task["body"].as_str().unwrap_or_default().as_bytes();
    Http::send(
        text(task, "method"),
        text(task, "url"),
        &fields,
        body.to_vec(),
    )
}

#[test]
fn what_others_sign_is_taken_and_nothing_else() {
    let (porch, keys) = stage();
    let every = [
        "@method",
        "@authority",
        "@path",
        "@query",
        "@target-uri",
        "@scheme",
        "@request-target",
        "\"@query-param\";name=\"harbour\"",
        "\"priority\";sf",
        "\"priority\";key=\"u\"",
        "\"x-note\";bs",
        "accept",
    ];
    let assign = ["@method", "@authority", "@path", "@query", "content-type"];
    let tasks = ALGORITHMS.iter().zip(&keys).flat_map(|(alg, key)| {
        let of = |method: &str, path: &str, headers: Value, body: &str, covers: &[&str]| {
            json!({
                "do": "sign", "alg": alg, "private": key["private"], "keyid": alg, "method": method,
                "url": format!("{}{path}", porch.gateway), "headers": headers, "body": body, "covers": covers,
                "nonce": format!("{alg}-{method}"),
            })
        };
        let headers = json!({
            "accept": "application/json", "priority": "u=2 ,  i=?1", "x-note": " tern,  rock ",
        });
        let query = format!("{BERTHS}?harbour=Tern+Rock%20and%7e");
        let json = json!({"content-type": "application/json"});
        let body = r#"{"vessel": "vessels/kettle"}"#;
        [
            of("GET", &query, headers, "", &every),
            of("POST", "/berths/v1/berths/f1:assign", json, body, &assign),
        ]
    });
    let tasks: Vec<Value> = tasks.collect();
    for (task, signed) in tasks.iter().zip(&others(&tasks)) {
        let mut changed = signed.clone();
        let signature = text(signed, "Signature").to_owned();
        // One character of it is another: where it stands among the first, bits of the signature change.
        let at = signature.find(":").unwrap() + 9;
        let other = if &signature[at..=at] == "A" { "B" } else { "A" };
        let broken = format!("{}{other}{}", &signature[..at], &signature[at + 1..]);
        changed["Signature"] = json!(broken);
        assert_eq!(send(task, &changed).status, 401, "{task}");
        let good = send(task, signed);
        assert_eq!(good.status, 200, "{task}: {}", good.text());
        // What it said once it cannot say again.
        assert_eq!(send(task, signed).status, 401, "{task}");
    }
}

/// One request, as it came.
fn request_of(listener: &TcpListener) -> (String, Value, String) {
    let (mut stream, _) = listener.accept().unwrap();
    let mut reader = BufReader::new(stream.try_clone().unwrap());
    let mut lines = Vec::new();
    loop {
        let mut line = String::new();
        reader.read_line(&mut line).unwrap();
        match line.trim_end() {
            "" => break,
            line => lines.push(line.to_owned()),
        }
    }
    let fields: Vec<(&str, &str)> = lines[1..]
        .iter()
        .map(|l| l.split_once(": ").unwrap())
        .collect();
    let length = fields.iter().find(|(name, _)| *name == "content-length");
    let mut body = vec![0; length.map_or(0, |(_, n)| n.parse().unwrap())];
    reader.read_exact(&mut body).unwrap();
    stream
        .write_all(b"HTTP/1.1 204 No Content\r\nconnection: close\r\n\r\n")
        .unwrap();
    let headers: serde_json::Map<String, Value> = fields
        .iter()
        .map(|(name, value)| ((*name).to_owned(), json!(value)))
        .collect();
    (
        lines[0].clone(),
        headers.into(),
        String::from_utf8(body).unwrap(),
    )
}

#[test]
fn what_the_client_signs_is_good_elsewhere() {
    let porch = Porch::start();
    let tasks = ALGORITHMS.map(|alg| json!({"do": "keys", "alg": alg}));
    let keys = others(&tasks);
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let gateway = format!("http://{}", listener.local_addr().unwrap());
    let mut tasks = Vec::new();
    for (alg, key) in ALGORITHMS.iter().zip(&keys) {
        let file = porch.folder().join(alg);
        std::fs::write(&file, text(key, "private")).unwrap();
        let sign = ["--sign", "gullwing-1", "--sign-key", file.to_str().unwrap()];
        let by = ["--sign-by", alg, "--gateway", &gateway];
        let body = r#"{"vessel": "vessels/kettle"}"#;
        let call = [
            "call",
            "POST",
            "/berths/v1/berths/f1:assign?by=H%C3%A5kon+x",
            "--body",
            body,
        ];
        let arguments = [&call[..], &sign, &by].concat();
        let (line, headers, body) = std::thread::scope(|s| {
            let client = s.spawn(|| porch.client(&arguments, ""));
            let got = request_of(&listener);
            client.join().unwrap();
            got
        });
        let mut parts = line.split(' ');
        let (method, path) = (parts.next().unwrap(), parts.next().unwrap());
        let good = json!({
            "do": "verify", "alg": alg, "public": key["public"], "keyid": "gullwing-1", "method": method,
            "url": format!("{gateway}{path}"), "headers": headers, "body": body,
        });
        let mut other = good.clone();
        other["body"] = json!(format!("{} ", text(&good, "body")));
        let mut elsewhere = good.clone();
        elsewhere["url"] = json!(format!("{gateway}{path}x"));
        tasks.extend([good, other, elsewhere]);
    }
    for (task, told) in tasks.chunks(3).zip(others(&tasks).chunks(3)) {
        let covers = told[0]["covers"].as_array();
        let covers = covers.unwrap_or_else(|| panic!("{}: {}", task[0], told[0]));
        assert!(covers.contains(&json!("\"content-digest\"")), "{covers:?}");
        assert!(told[1]["wrong"].is_string(), "{}", told[1]);
        assert!(told[2]["wrong"].is_string(), "{}", told[2]);
    }
}

#[test]
fn what_is_told_of_limits_is_read_elsewhere() {
    let (porch, key) = Porch::published();
    let mut tasks = Vec::new();
    let mut statuses = Vec::new();
    for _ in 0..21 {
        let got = porch.call("GET", BERTHS, &key, "");
        statuses.push(got.status);
        for name in ["ratelimit", "ratelimit-policy"] {
            tasks.push(json!({"do": "list", "text": got.header(name)}));
        }
    }
    // Twenty a minute, and no more.
    assert_eq!((statuses[0], statuses[19], statuses[20]), (200, 200, 429));
    let told = others(&tasks);
    for (n, pair) in told.chunks(2).enumerate() {
        let [left, policies] = pair else { panic!() };
        let of = |list: &Value| {
            let first = &list.as_array().unwrap()[0];
            (first[0].clone(), first[1].clone())
        };
        let (name, left) = of(left);
        let found = policies.as_array().unwrap().iter().find(|p| p[0] == name);
        let policy = &found.unwrap_or_else(|| panic!("no policy {name}: {policies}"))[1];
        assert_eq!((&policy["q"], &policy["w"]), (&json!(20), &json!(60)));
        assert_eq!(left["r"], json!(19_u64.saturating_sub(n as u64)), "{n}");
        let again = left["t"].as_u64().unwrap();
        assert!((1..=60).contains(&again), "{again}");
    }
}
