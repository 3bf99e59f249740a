//! A consumer that shows a certificate by TLS.

use super::callers::BERTHS;
use super::*;

/// A folder with the gateway's certificate, as its owner makes it.
fn gateway_certificates(folder: &std::path::Path) {
    let authority = porch_standins::Authority::of_folder(&folder.join("tls"));
    authority.unwrap();
    let certificates = folder.join("certificates");
    std::fs::create_dir_all(&certificates).unwrap();
    for (from, to) in [("localhost.pem", "own.crt"), ("localhost.key", "own.key")] {
        std::fs::copy(folder.join("tls").join(from), certificates.join(to)).unwrap();
    }
}

#[test]
fn a_machine_shows_its_certificate_by_tls_until_it_is_taken_away() {
    let folder = tempfile::tempdir().unwrap();
    gateway_certificates(folder.path());
    let at = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    let port = porch_cluster::free_port().unwrap();
    let (secure, certificates) = (format!("127.0.0.1:{port}"), at("certificates"));
    let options = ["--tls", secure.as_str(), "--certificates", &certificates];
    let porch = Porch::start_with(&porch_tests::new_database(porch_tests::cluster()), &options);
    porch.publish();
    porch.ok(&["consumer", "create", "Boarding Gates"]);
    let (own, key, trust) = (at("tls/gates.pem"), at("tls/gates.key"), at("tls/ca.pem"));
    let gateway = format!("https://localhost:{port}");
    let call = |shown: &[&str]| {
        let asked = [
            "--json",
            "call",
            BERTHS,
            "--gateway",
            &gateway,
            "--trust",
            &trust,
        ];
        let output = porch.client(&[&asked[..], shown].concat(), "");
        let told: Value = serde_json::from_slice(&output.stdout).unwrap_or_default();
        told["status"].as_u64().unwrap_or_default()
    };
    let shown = ["--certificate", own.as_str(), "--certificate-key", &key];
    assert_eq!((call(&[]), call(&shown)), (401, 401));
    let taken = ["consumer", "certificate", "Boarding Gates", "--file", &own];
    let known = porch.ok(&taken)["known_by"].as_str().unwrap().to_owned();
    assert!(known.starts_with("sha256:"), "{known}");
    assert_eq!((call(&[]), call(&shown)), (401, 200));
    // Nobody else can have it too, and what it was used for last is told.
    porch.ok(&["consumer", "create", "Turnstiles"]);
    let twice = porch.client(
        &["consumer", "certificate", "Turnstiles", "--file", &own],
        "",
    );
    assert!(!twice.status.success());
    let listed = porch.client(&["consumer", "show", "Boarding Gates"], "");
    let listed = String::from_utf8_lossy(&listed.stdout).into_owned();
    assert!(listed.contains(&known), "{listed}");
    let remove = [
        "consumer",
        "certificate",
        "Boarding Gates",
        "--known-by",
        &known,
        "--remove",
    ];
    porch.ok(&remove);
    assert_eq!(call(&shown), 401);
    // A certificate is shown to nobody in the clear, and what is none is told so.
    let plain = porch.client(&[&["call", BERTHS][..], &shown].concat(), "");
    let told = String::from_utf8_lossy(&plain.stderr).into_owned();
    assert!(told.contains("by TLS alone"), "{told}");
    let none = ["consumer", "certificate", "Boarding Gates", "--file", &key];
    let none = porch.client(&none, "");
    let told = String::from_utf8_lossy(&none.stderr).into_owned();
    assert!(told.contains("cannot be taken"), "{told}");
}
