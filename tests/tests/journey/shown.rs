//! What callers show besides keys and passwords: tokens of the crew's login, and signed requests.

use super::callers::{BERTHS, with};
use super::*;
use porch_standins::{Authority, Standin};
use porch_tests::Backend;

/// A token of the crew's login.
fn token(login: &str, scope: &str) -> String {
    let form = format!(
        "grant_type=client_credentials&client_id=roster-app&client_secret=seven%20bells&scope={scope}"
    );
    let fields = [("content-type", "application/x-www-form-urlencoded")];
    let answer = Http::send(
        "POST",
        &format!("{login}/token"),
        &fields,
        form.into_bytes(),
    );
    answer.json()["access_token"].as_str().unwrap().to_owned()
}

#[test]
fn a_token_of_the_crews_login_opens_what_its_consumer_and_its_scopes_may() {
    let (mut porch, key) = Porch::published();
    let login = format!("http://{}", porch.crew_login.as_ref().unwrap().address);
    let assign = |porch: &Porch, token: &str| {
        let shown = format!("Bearer {token}");
        let fields = [
            ("authorization", shown.as_str()),
            ("content-type", "application/json"),
        ];
        with(
            porch,
            "POST",
            "/berths/v1/berths/f1:assign",
            &fields,
            r#"{"vessel":"vessels/kettle"}"#,
        )
    };
    let list =
        |porch: &Porch, shown: &str| with(porch, "GET", BERTHS, &[("authorization", shown)], "");
    let (crew, master) = (token(&login, "roster"), token(&login, "harbour-master"));
    // Good, and nobody's yet.
    let told = list(&porch, &format!("Bearer {crew}"));
    assert_eq!(
        (told.status, &told.json()["type"]),
        (403, &json!("urn:elm-porch:problem:not-granted"))
    );
    porch.ok(&["consumer", "create", "Crew Roster"]);
    porch.ok(&[
        "consumer",
        "token",
        "Crew Roster",
        "--issuer",
        &login,
        "--client",
        "roster-app",
    ]);
    assert_eq!(list(&porch, &format!("Bearer {crew}")).status, 200);
    assert_eq!(list(&porch, &format!("bearer  {crew} ")).status, 200);
    // The role that one operation demands is a scope of some tokens.
    let refused = assign(&porch, &crew);
    assert_eq!(
        (refused.status, &refused.json()["roles"]),
        (403, &json!(["harbour-master"]))
    );
    assert_eq!(assign(&porch, &master).status, 200);
    // A key beside it counts first, as the document has it; a wrong one hides nothing behind it.
    let both = [("api-key", key.as_str()), ("authorization", "Bearer a.b.c")];
    assert_eq!(with(&porch, "GET", BERTHS, &both, "").status, 200);
    let changed = format!("Bearer {}x", crew);
    let refused = list(&porch, &changed);
    assert_eq!(
        (refused.status, &refused.json()["detail"]),
        (401, &json!("The credential is not valid."))
    );
    assert_eq!(list(&porch, "Bearer a.b.c").status, 401);
    // Another key is asked for when a token names it, and no more than once in a while.
    Http::send("POST", &format!("{login}/rotate"), &[], Vec::new());
    let newer = token(&login, "roster");
    let mut last = 0;
    wait_until("the new key is known", || {
        last = list(&porch, &format!("Bearer {newer}")).status;
        last == 200
    });
    assert_eq!(list(&porch, &format!("Bearer {crew}")).status, 200);
    // An issuer that is away takes nothing from what is known.
    drop(porch.crew_login.take());
    assert_eq!(list(&porch, &format!("Bearer {newer}")).status, 200);
    porch.kill_service();
    porch.start_service(&[]).unwrap();
    wait_until("the service is back", || {
        list(&porch, &format!("Bearer {newer}")).status == 503
    });
    let away = list(&porch, &format!("Bearer {newer}"));
    assert_eq!(
        (&away.json()["type"], away.header("retry-after")),
        (&json!("urn:elm-porch:problem:issuer"), "5")
    );
    assert_eq!(porch.call("GET", BERTHS, &key, "").status, 200);
    // Its consumer's no more.
    porch.ok(&[
        "consumer",
        "token",
        "Crew Roster",
        "--issuer",
        &login,
        "--client",
        "roster-app",
        "--remove",
    ]);
    let one = porch.ok(&["consumer", "show", "Crew Roster"]);
    assert_eq!(one["clients"], json!([]));
    let text = serde_json::to_string(&porch.ok(&["trace", "--most", "50"])).unwrap();
    assert!(
        !text.contains(&crew) && !text.contains(&newer),
        "a token stands in the traces"
    );
}

#[test]
fn a_signed_request_is_made_by_the_client_and_taken_once() {
    let (mut porch, _) = Porch::published();
    porch.ok(&["consumer", "create", "Gullwing Tours"]);
    let secret = porch.folder().join("secret");
    let text = "seven bells and a lantern at Tern Rock";
    std::fs::write(&secret, text).unwrap();
    let key = ["consumer", "signing-key", "Gullwing Tours", "gullwing-1"];
    let short = porch.client(&key, "too short");
    assert!(stderr(&short).contains("32 to 1000"), "{}", stderr(&short));
    porch.ok_with(&key, text);
    let call = |porch: &Porch, by: &str, request: &[&str]| {
        let sign = [
            "--sign",
            "gullwing-1",
            "--sign-key",
            secret.to_str().unwrap(),
            "--sign-by",
            by,
        ];
        let gateway = ["--gateway", porch.gateway.as_str()];
        let arguments = [&["--json", "call"], request, &sign, &gateway].concat();
        let output = porch.client(&arguments, "");
        let value: Value = serde_json::from_slice(&output.stdout).unwrap_or_default();
        (
            value["status"].as_u64().unwrap_or(0),
            format!("{}{}", stderr(&output), stdout(&output)),
        )
    };
    let get = |porch: &Porch| call(porch, "hmac-sha256", &["GET", BERTHS]);
    assert_eq!(get(&porch).0, 200);
    // A body is signed with it; the role is another matter.
    let assign = [
        "POST",
        "/berths/v1/berths/f1:assign",
        "--body",
        r#"{"vessel":"vessels/kettle"}"#,
    ];
    assert_eq!(call(&porch, "hmac-sha256", &assign).0, 403);
    porch.ok(&[
        "consumer",
        "change",
        "Gullwing Tours",
        "--role",
        "harbour-master",
    ]);
    assert_eq!(call(&porch, "hmac-sha256", &assign).0, 200);
    let (status, told) = call(&porch, "ed25519", &["GET", BERTHS]);
    assert!(
        status == 0 && told.contains("no private key in PEM"),
        "{told}"
    );
    // The secret is kept sealed, in the database and on disk, and opened again after a start without the database.
    let snapshot = std::fs::read_to_string(porch.folder().join("state/served.json")).unwrap();
    assert!(snapshot.contains("sealed:") && !snapshot.contains(text));
    porch.kill_service();
    porch.start_service(&[]).unwrap();
    wait_until("it is served again", || get(&porch).0 == 200);
    let one = porch.ok(&["consumer", "show", "Gullwing Tours"]);
    assert_eq!(
        (
            &one["signing_keys"][0]["keyid"],
            &one["signing_keys"][0]["kind"]
        ),
        (&json!("gullwing-1"), &json!("shared"))
    );
    assert!(!one.to_string().contains(text));
    porch.ok(&[
        "consumer",
        "signing-key",
        "Gullwing Tours",
        "gullwing-1",
        "--remove",
    ]);
    assert_eq!(get(&porch).0, 401);
}

#[test]
fn an_issuer_s_keys_come_by_tls_from_an_authority_of_one_s_own() {
    let (porch, _) = Porch::published();
    let authority = Arc::new(Authority::new().unwrap());
    let secure = Backend::start_secure(Standin::CrewLogin, &authority);
    let port = secure.address.port();
    let plain = format!("http://{}", porch.crew_login.as_ref().unwrap().address);
    // The issuer calls itself by http, whoever stands before it; its keys are asked for by https.
    let issuer = format!("http://localhost:{port}");
    let rule = format!("issuer: {issuer}\n        keys: https://localhost:{port}/keys");
    porch.edit(
        "berths/berths.facade.yaml",
        &format!("issuer: {plain}"),
        &rule,
    );
    porch.push_and_release("berths");
    porch.ok(&["consumer", "create", "Crew Roster"]);
    let known = ["--issuer", &issuer, "--client", "roster-app"];
    porch.ok(&[&["consumer", "token", "Crew Roster"], &known[..]].concat());
    let trust = porch.folder().join("login.pem");
    std::fs::write(&trust, &authority.pem).unwrap();
    let token = token_by_tls(&porch, port, trust.to_str().unwrap());
    let shown = format!("Bearer {token}");
    let list = || with(&porch, "GET", BERTHS, &[("authorization", &shown)], "");
    assert_eq!(list().status, 503);
    let rule = format!("keys: https://localhost:{port}/keys");
    let trusted = format!("{rule}\n        trust: login.pem");
    porch.edit("berths/berths.facade.yaml", &rule, &trusted);
    std::fs::write(porch.documents.join("berths/login.pem"), &authority.pem).unwrap();
    porch.push_and_release("berths");
    assert_eq!(list().status, 200);
    // Another authority is another issuer's word.
    let other = Authority::new().unwrap();
    std::fs::write(porch.documents.join("berths/login.pem"), &other.pem).unwrap();
    porch.push_and_release("berths");
    assert_eq!(list().status, 503);
}

/// A token of the crew's login, asked for by TLS, as the client calls.
fn token_by_tls(porch: &Porch, port: u16, trust: &str) -> String {
    let form =
        "grant_type=client_credentials&client_id=roster-app&client_secret=seven+bells&scope=roster";
    let kind = "content-type: application/x-www-form-urlencoded";
    let server = format!("https://localhost:{port}");
    let call = ["call", "POST", "/token", "--body", form, "--header", kind];
    let by = ["--gateway", &server, "--trust", trust];
    let answer = porch.ok(&[&call[..], &by].concat());
    let body: Value = match &answer["body"] {
        Value::String(text) => serde_json::from_str(text).unwrap(),
        body => body.clone(),
    };
    body["access_token"]
        .as_str()
        .unwrap_or_else(|| panic!("{answer}"))
        .to_owned()
}
