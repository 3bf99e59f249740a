//! Seeding the scenario, through the client as a person would.

use std::fs;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use serde_json::Value;

use crate::places::{ACCOUNT, CONSOLE, GATEWAY, PASSWORD, program};
use crate::{Outcome, root};

/// What the freight desk shows with its name.
const FREIGHT_PASSWORD: &str = "crate 17 goes to Tern Rock";

/// Runs the client; gives what it says in JSON.
fn porch(arguments: &[&str], input: &str, token: &str) -> Outcome<Value> {
    let mut command = Command::new(program("porch"));
    command
        .arg("--json")
        .args(arguments)
        .env("ELM_PORCH_URL", format!("http://127.0.0.1:{CONSOLE}"))
        .env("ELM_PORCH_GATEWAY", format!("http://127.0.0.1:{GATEWAY}"));
    if !token.is_empty() {
        command.env("ELM_PORCH_TOKEN", token);
    }
    let mut child = command
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .map_err(|e| e.to_string())?;
    if let Some(mut stdin) = child.stdin.take() {
        let _ = stdin.write_all(input.as_bytes());
    }
    let output = child.wait_with_output().map_err(|e| e.to_string())?;
    let text = String::from_utf8_lossy(&output.stdout);
    if !output.status.success() {
        return Err(format!(
            "porch {}: {text}{}",
            arguments.join(" "),
            String::from_utf8_lossy(&output.stderr)
        ));
    }
    Ok(serde_json::from_str(&text).unwrap_or(Value::Null))
}

/// Signs in, and on the first start makes what the scenario has. Gives a key to call with.
pub(crate) fn seed(folder: &Path, first: bool) -> Outcome<String> {
    let env = folder.join("env");
    if !first && env.exists() {
        let text = fs::read_to_string(&env).map_err(|e| e.to_string())?;
        return Ok(text
            .lines()
            .find_map(|l| l.strip_prefix("export ELM_PORCH_KEY="))
            .unwrap_or_default()
            .to_owned());
    }
    // The client keeps its session in a folder of the demo, not in the home of whoever runs it.
    let token = sign_in()?;
    publish(folder, &token)?;
    let keys = consumers(folder, &token)?;
    let kiosk = key(&token, "Quayside Kiosk", "demo")?;
    traffic(&keys);
    crate::newcomers::come()?;
    let text = format!(
        "export ELM_PORCH_URL=http://127.0.0.1:{CONSOLE}\nexport ELM_PORCH_TOKEN={token}\nexport ELM_PORCH_GATEWAY=http://127.0.0.1:{GATEWAY}\nexport ELM_PORCH_KEY={kiosk}\n"
    );
    let mut file = fs::OpenOptions::new()
        .write(true)
        .create(true)
        .truncate(true)
        .mode(0o600)
        .open(&env)
        .map_err(|e| e.to_string())?;
    file.write_all(text.as_bytes()).map_err(|e| e.to_string())?;
    fs::write(folder.join("seeded"), "").map_err(|e| e.to_string())?;
    Ok(kiosk)
}

/// Secrets, documents, the first release, and who works with them.
fn publish(folder: &Path, token: &str) -> Outcome {
    for (name, value) in [
        ("reservations-user", "quay-desk"),
        ("reservations-password", "tide & tackle"),
    ] {
        porch(&["secret", "set", name], value, token)?;
    }
    let documents = by_tls(folder)?;
    porch(&["push", &documents.to_string_lossy()], "", token)?;
    let facades = [
        "sailings",
        "timetable",
        "cargo",
        "loyalty",
        "vessels",
        "berths",
        "harbour",
        "journeys",
    ];
    let note = ["--note", "first release of the demo"];
    let offers = ["open-quay", "fortnight-look", "charter-hand"];
    let offers = offers.map(|name| ["--offer", name]);
    let offers = [&offers.concat()[..], &["--portal"]].concat();
    let all = [&["release"], &facades[..], &offers[..], &note[..]].concat();
    porch(&all, "", token)?;
    for (name, role) in [("tove", "publisher"), ("pelle", "viewer")] {
        porch(
            &["account", "create", name, "--role", role],
            "quiet-harbour",
            token,
        )?;
    }
    Ok(())
}

/// The demo's documents, two of whose backends are called by TLS: what their certificates are signed with is made on the first
/// start, and is not among the documents of the repository.
fn by_tls(folder: &Path) -> Outcome<PathBuf> {
    let (from, to) = (root().join("demo/documents"), folder.join("documents"));
    let told = |e: std::io::Error| format!("{}: {e}", to.display());
    let _ = fs::remove_dir_all(&to);
    copy(&from, &to).map_err(told)?;
    let environment = to.join("live.environment.yaml");
    let mut text = fs::read_to_string(&environment).map_err(told)?;
    for (name, plain, secure) in [
        (
            "sailings/reservations",
            "http://127.0.0.1:3850/",
            "https://localhost:3855/",
        ),
        (
            "loyalty/loyalty",
            "http://127.0.0.1:3853",
            "https://localhost:3856",
        ),
    ] {
        text = text.replace(plain, secure);
        let backend = to.join(format!("{name}.backend.yaml"));
        let own = fs::read_to_string(&backend).map_err(told)?;
        fs::write(&backend, own + "trust: demo-authority.pem\n").map_err(told)?;
        let authority = backend.with_file_name("demo-authority.pem");
        fs::copy(folder.join("tls/ca.pem"), authority).map_err(told)?;
    }
    fs::write(&environment, text).map_err(told)?;
    Ok(to)
}

fn copy(from: &Path, to: &Path) -> std::io::Result<()> {
    fs::create_dir_all(to)?;
    for entry in fs::read_dir(from)? {
        let entry = entry?;
        let place = to.join(entry.file_name());
        match entry.file_type()?.is_dir() {
            true => copy(&entry.path(), &place)?,
            false => fs::copy(entry.path(), place).map(|_| ())?,
        }
    }
    Ok(())
}

/// Makes the consumers; the keys that traffic may use. The kiosk's limit is left whole for whoever tries the demo.
fn consumers(folder: &Path, token: &str) -> Outcome<Vec<String>> {
    let mut keys = Vec::new();
    for (consumer, owner) in [
        ("Gullwing Tours", "gullwing"),
        ("Quayside Kiosk", "skerry-line"),
        ("Island Freight Desk", "skerry-line"),
        ("Tide Clock", "a hobby project"),
    ] {
        porch(
            &["consumer", "create", consumer, "--owner", owner],
            "",
            token,
        )?;
        let made = key(token, consumer, "first key")?;
        if consumer != "Quayside Kiosk" {
            keys.push(made);
        }
    }
    agreements(token)?;
    signing_key(folder, token)?;
    // The gates have no key either: they show a certificate, by TLS.
    let gates = "Boarding Gates";
    let new = ["consumer", "create", gates, "--owner", "skerry-line"];
    porch(&new, "", token)?;
    let file = folder.join("tls/gates.pem");
    let file = file.to_str().ok_or("the demo's folder has no name")?;
    let own = ["consumer", "certificate", gates, "--file", file];
    porch(&own, "", token)?;
    Ok(keys)
}

/// What Gullwing Tours signs its requests with: drawn on the first start, and kept beside the demo's data.
fn signing_key(folder: &Path, token: &str) -> Outcome {
    let mut random = [0u8; 32];
    getrandom::fill(&mut random).map_err(|e| e.to_string())?;
    let secret: String = random.iter().map(|b| format!("{b:02x}")).collect();
    let file = folder.join("gullwing.secret");
    let told = |e: std::io::Error| format!("{}: {e}", file.display());
    let _ = fs::remove_file(&file);
    let mut made = fs::OpenOptions::new()
        .write(true)
        .create_new(true)
        .mode(0o600)
        .open(&file)
        .map_err(told)?;
    made.write_all(secret.as_bytes()).map_err(told)?;
    let key = ["consumer", "signing-key", "Gullwing Tours", "gullwing-1"];
    porch(&key, &secret, token).map(drop)
}

/// What some of them have agreed to; and an office that shows a name and a password, and may give ships their berths.
fn agreements(token: &str) -> Outcome {
    for (consumer, offer) in [
        ("Gullwing Tours", "charter-hand"),
        ("Quayside Kiosk", "open-quay"),
        ("Tide Clock", "fortnight-look"),
    ] {
        porch(&["agreement", "create", consumer, offer], "", token)?;
    }
    let desk = "Island Freight Desk";
    let role = ["consumer", "change", desk, "--role", "harbour-master"];
    porch(&role, "", token)?;
    let label = ["consumer", "change", "Tide Clock", "--label", "hobby"];
    porch(&label, "", token)?;
    let password = ["consumer", "password", desk, "--name", "freight-desk"];
    porch(&password, FREIGHT_PASSWORD, token)?;
    // The crew's app has no key: it shows tokens of the crew's login.
    let roster = "Crew Roster";
    let new = ["consumer", "create", roster, "--owner", "skerry-line"];
    porch(&new, "", token)?;
    let login = "http://127.0.0.1:3861";
    let client = ["--issuer", login, "--client", "roster-app"];
    let tokens = [&["consumer", "token", roster][..], &client[..]].concat();
    porch(&tokens, "", token)?;
    Ok(())
}

fn key(token: &str, consumer: &str, label: &str) -> Outcome<String> {
    let made = porch(&["key", "create", consumer, "--label", label], "", token)?;
    match made["key"].as_str() {
        Some(key) => Ok(key.to_owned()),
        None => Err(format!("porch key create showed no key: {made}")),
    }
}

fn sign_in() -> Outcome<String> {
    let body = format!("{{\"name\":\"{ACCOUNT}\",\"password\":\"{PASSWORD}\",\"label\":\"demo\"}}");
    let (status, _, text) = request(
        "POST",
        CONSOLE,
        "/api/session",
        &[("Content-Type", "application/json")],
        &body,
    )?;
    let value: Value = serde_json::from_str(&text).unwrap_or(Value::Null);
    match value["token"].as_str() {
        Some(token) => Ok(token.to_owned()),
        None => Err(format!(
            "the demo's account cannot sign in ({status}): start with --fresh\n{text}"
        )),
    }
}

/// One plain HTTP request on loopback: status, head and body.
pub(crate) fn request(
    method: &str,
    port: u16,
    path: &str,
    headers: &[(&str, &str)],
    body: &str,
) -> Outcome<(u16, String, String)> {
    use std::io::Read;
    let mut stream =
        std::net::TcpStream::connect(("127.0.0.1", port)).map_err(|e| e.to_string())?;
    let fields: String = headers
        .iter()
        .map(|(k, v)| format!("{k}: {v}\r\n"))
        .collect();
    let text = format!(
        "{method} {path} HTTP/1.1\r\nHost: 127.0.0.1:{port}\r\nConnection: close\r\nContent-Length: {}\r\n{fields}\r\n{body}",
        body.len()
    );
    stream
        .write_all(text.as_bytes())
        .map_err(|e| e.to_string())?;
    let mut answer = String::new();
    stream
        .read_to_string(&mut answer)
        .map_err(|e| e.to_string())?;
    let status = answer.get(9..12).and_then(|s| s.parse().ok()).unwrap_or(0);
    let (head, body) = answer.split_once("\r\n\r\n").unwrap_or(("", ""));
    Ok((status, head.to_owned(), body.to_owned()))
}

/// A little traffic: good calls, refusals, a fault, an unknown path.
fn traffic(keys: &[String]) {
    let call = |path: &str, key: &str| {
        let headers = [("API-Key", key)];
        let _ = request(
            "GET",
            GATEWAY,
            path,
            if key.is_empty() { &[] } else { &headers },
            "",
        );
    };
    for (i, key) in keys.iter().enumerate() {
        for class in ["foot", "bicycle", "car"].iter().take(2 + i % 2) {
            call(
                &format!("/sailings/v2/fares/FAR-MAR/{class}?passengers={}", i + 1),
                key,
            );
        }
        call("/sailings/v2/harbours/Farholt/sailings?on=2027-05-14", key);
    }
    if let Some(clock) = keys.last() {
        // More than its limit lets through.
        for _ in 0..8 {
            call("/sailings/v2/fares/MAR-TER/foot", clock);
        }
    }
    // More than half of what the quota of a month has.
    for _ in 0..22 {
        if let Some(tours) = keys.first() {
            call("/berths/v1/berths", tours);
        }
    }
    if let Some(tours) = keys.first() {
        call("/sailings/v2/fares/FAR-HOL/car", tours);
    }
    for route in ["FAR-MAR", "MAR-TER", "TER-HOL", "FAR-OSP"] {
        for day in 10..16 {
            call(
                &format!("/timetable/v1/routes/{route}/days/2027-05-{day}"),
                "",
            );
        }
    }
    for (i, key) in keys.iter().enumerate() {
        call("/cargo/v1/consignments?from=Farholt", key);
        call(&format!("/cargo/v1/consignments/C-204{i}"), key);
        call("/cargo/v1/consignments/C-2041/label", key);
        call(&format!("/loyalty/v1/members/L-00{:02}", 7 + i), "");
    }
    fleet(&|path| call(path, ""));
    call("/loyalty/v1/members?tier=gold", "");
    call("/sailings/v2/fares/FAR-MAR/car", "");
    call("/sailings/v1/fares", "");
}

/// Calls of the fleet's service, some of which are refused or fail.
fn fleet(call: &dyn Fn(&str)) {
    for path in [
        "vessels/kettle",
        "vessels/lantern",
        "vessels/old-button",
        "vessels/thimble",
        "vessels/ghost",
        "vessels/nobody",
        "vessels?states=MOORED",
        "harbours/hollow-bay/vessels",
        "positions:stream?count=5&interval=0s",
        "vessels/kettle/deckplan",
        "vessels?stats=MOORED",
    ] {
        call(&format!("/vessels/v1/{path}"));
    }
}
