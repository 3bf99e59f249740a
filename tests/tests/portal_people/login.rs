//! Signing in from elsewhere, and credentials of one's own.

use porch_proof::{SignedBy, Signer};
use porch_tests::portal::{Outbox, with_offers_and};
use porch_tests::{Http, Porch, cluster, new_database};

use super::*;

/// A service by whose portal people sign in with the crew's login.
fn with_login() -> (Porch, Outbox) {
    let outbox = Outbox::start();
    let mail = outbox.file.to_str().unwrap().to_owned();
    let mut porch = Porch::start_with(&new_database(cluster()), &["--mail", &mail]);
    let login = porch.crew_login.as_ref().unwrap().address;
    let file = porch.folder().join("portal.toml");
    std::fs::write(porch.folder().join("secret"), "three long blasts\n").unwrap();
    let text = format!(
        "issuer = \"http://{login}\"\nclient = \"porch-portal\"\nsecret-file = \"secret\"\ntitle = \"Crew login\"\nscope = \"profile email\"\n"
    );
    std::fs::write(&file, text).unwrap();
    porch.stop_service();
    let options = ["--mail", &mail, "--portal-openid", file.to_str().unwrap()];
    porch.start_service(&options).unwrap();
    (porch, outbox)
}

/// Goes away to the provider, is somebody there, and comes back; whether the browser keeps what it was given.
fn by_login(porch: &Porch, person: &str, keeps: bool) -> (Http, Visitor) {
    let sent = Http::send(
        "GET",
        &format!("{}/api/session/openid", porch.portal),
        &[],
        Vec::new(),
    );
    assert_eq!(sent.status, 303, "{}", sent.text());
    let away = sent
        .header("set-cookie")
        .split(';')
        .next()
        .unwrap()
        .to_owned();
    let at = format!("{}&person={person}", sent.header("location"));
    let there = Http::send("GET", &at, &[], Vec::new());
    let cookie = [("cookie", away.as_str())];
    let cookies: &[(&str, &str)] = if keeps { &cookie } else { &[] };
    let back = Http::send("GET", there.header("location"), cookies, Vec::new());
    let mut visitor = Visitor::at(porch);
    let set = back
        .headers
        .get("set-cookie")
        .map(|c| c.split(';').next().unwrap());
    visitor.cookie = set.unwrap_or_default().to_owned();
    (back, visitor)
}

#[test]
fn people_sign_in_from_elsewhere_and_nobody_takes_an_account_so() {
    let (porch, outbox) = with_login();
    let mut anybody = Visitor::at(&porch);
    assert_eq!(
        anybody.ok("GET", "/api/session/ways", &Value::Null),
        json!({ "openid": "Crew login" })
    );
    let (back, mut mikkel) = by_login(&porch, "mikkel", true);
    assert_eq!(back.status, 200, "{}", back.text());
    let account = mikkel.ok("GET", "/api/session", &Value::Null);
    assert_eq!(account["email"], "mikkel@crew.example");
    assert_eq!(
        (&account["team"], &account["password"]),
        (&json!("mikkel"), &json!(false))
    );
    mikkel.ok(
        "POST",
        "/api/applications",
        &json!({ "name": "Deck Board" }),
    );
    // Again, it is the same account.
    let (_, mut again) = by_login(&porch, "mikkel", true);
    assert_eq!(
        again.ok("GET", "/api/applications", &Value::Null)[0]["name"],
        "Deck Board"
    );
    // Its session opens no door of the console.
    let console = Http::send(
        "GET",
        &format!("{}/api/overview", porch.console),
        &[("cookie", &mikkel.cookie)],
        Vec::new(),
    );
    assert_eq!(console.status, 401);
    // No password is its, and an empty one is none.
    for password in ["", "three long blasts"] {
        let body = json!({ "email": "mikkel@crew.example", "password": password });
        anybody.refused(401, "POST", "/api/session", &body);
    }
    for (person, keeps, why) in [("nobody", true, "denied"), ("sunniva", false, "other")] {
        let (back, _) = by_login(&porch, person, keeps);
        assert_eq!(
            (back.status, back.header("location")),
            (303, &*format!("/sign-in#not-signed-in={why}"))
        );
    }
    // An account with a second factor is not opened by a way that asks for none.
    let email = "sunniva@crew.example";
    let new = json!({ "email": email, "name": "Sunniva", "password": PASSWORD });
    let mut sunniva = Visitor::at(&porch);
    sunniva.ok("POST", "/api/sign-up", &new);
    let token = outbox.token(email, 1);
    sunniva.ok(
        "POST",
        "/api/confirm",
        &json!({ "token": token, "password": PASSWORD }),
    );
    let secret = sunniva.ok(
        "POST",
        "/api/account/factor",
        &json!({ "password": PASSWORD }),
    );
    let secret = secret["secret"].as_str().unwrap();
    let now = std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .unwrap()
        .as_secs();
    let body = json!({ "password": PASSWORD, "secret": secret, "code": code(secret, now / 30) });
    let codes = sunniva.ok("PUT", "/api/account/factor", &body)["codes"].clone();
    let (back, _) = by_login(&porch, "sunniva", true);
    assert_eq!(back.header("location"), "/sign-in#not-signed-in=taken");
    // Without one, the provider's word that the address is theirs is enough.
    sunniva.ok(
        "DELETE",
        "/api/account/factor",
        &json!({ "password": PASSWORD, "code": codes[0] }),
    );
    let (back, mut sunniva) = by_login(&porch, "sunniva", true);
    assert_eq!(back.status, 200);
    assert_eq!(
        sunniva.ok("GET", "/api/session", &Value::Null)["name"],
        "Sunniva"
    );
    mikkel.ok("DELETE", "/api/account", &json!({ "password": "" }));
    mikkel.refused(401, "GET", "/api/team", &Value::Null);
}

#[test]
fn a_public_key_and_a_certificate_of_ones_own_open_what_was_agreed() {
    let (porch, outbox) = with_offers_and(&[]);
    let mut nils = Visitor::come(&porch, &outbox, "nils");
    nils.ok(
        "POST",
        "/api/applications",
        &json!({ "name": "Nils Clock" }),
    );
    let private = porch_proof::new_key().unwrap();
    let signer = Signer::of(SignedBy::Ed25519, private.as_bytes()).unwrap();
    let (jwk, _) = signer.public().unwrap();
    let path = "/api/applications/Nils%20Clock/signing-keys";
    // A private key that was pasted is not kept.
    nils.refused(400, "POST", path, &json!({ "public_key": private }));
    nils.refused(400, "POST", path, &json!({ "public_key": "x" }));
    let made = nils.ok("POST", path, &json!({ "public_key": format!(" {jwk}\n") }));
    let keyid = made["known_by"].as_str().unwrap().to_owned();
    let key = porch.folder().join("own.pem");
    std::fs::write(&key, &private).unwrap();
    let call = || {
        let file = key.to_str().unwrap();
        let signed = [
            "call",
            "GET /berths/v1/berths",
            "--sign",
            &keyid,
            "--sign-key",
            file,
        ];
        let done = porch.client(&signed, "");
        String::from_utf8_lossy(&done.stdout).into_owned()
    };
    // It is known, and opens nothing until something was agreed.
    assert!(call().contains("403"), "{}", call());
    let wish = json!({ "offer": "open-quay" });
    nils.ok("POST", "/api/applications/Nils%20Clock/requests", &wish);
    assert!(call().contains("200"), "{}", call());
    let certificates = "/api/applications/Nils%20Clock/certificates";
    nils.refused(
        400,
        "POST",
        certificates,
        &json!({ "certificate": "no PEM" }),
    );
    let own = rcgen::generate_simple_self_signed(vec!["kiosk.example".into()]).unwrap();
    let made = nils.ok(
        "POST",
        certificates,
        &json!({ "certificate": own.cert.pem() }),
    );
    let print = made["known_by"].as_str().unwrap().to_owned();
    assert!(print.starts_with("sha256:"), "{print}");
    nils.refused(
        409,
        "POST",
        certificates,
        &json!({ "certificate": own.cert.pem() }),
    );
    let mine = nils.ok("GET", "/api/applications", &Value::Null);
    assert_eq!(mine[0]["credentials"].as_array().unwrap().len(), 2);
    // Another team finds none of it.
    let mut ines = Visitor::come(&porch, &outbox, "ines");
    ines.refused(404, "POST", path, &json!({ "public_key": jwk }));
    let one = format!("/api/credentials/signature/{keyid}");
    ines.refused(404, "DELETE", &one, &Value::Null);
    nils.refused(404, "DELETE", "/api/credentials/key/x", &Value::Null);
    nils.ok("DELETE", &one, &Value::Null);
    nils.ok(
        "DELETE",
        &format!("/api/credentials/certificate/{print}"),
        &Value::Null,
    );
    assert!(call().contains("401"), "{}", call());
    assert_eq!(
        nils.ok("GET", "/api/applications", &Value::Null)[0]["credentials"],
        json!([])
    );
}
