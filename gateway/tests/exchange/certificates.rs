//! Certificates of callers: who has signed them, what was revoked, whose they are, and what proxies say of them.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use porch_gateway::{Certificates, Proxies, SecureConfig, Written};
use porch_rules::grant::Proof;
use rcgen::{
    BasicConstraints, CertificateParams, CertificateRevocationListParams, CertifiedIssuer, DnType,
    ExtendedKeyUsagePurpose, IsCa, KeyIdMethod, KeyPair, KeyUsagePurpose, RevokedCertParams,
    SanType, SerialNumber,
};
use tokio_rustls::rustls::pki_types::{CertificateDer, PrivateKeyDer};
use tokio_rustls::rustls::{ClientConfig, ClientConnection, RootCertStore};

use super::*;

type Authority = CertifiedIssuer<'static, KeyPair>;

fn authority(name: &str) -> Authority {
    let mut params = CertificateParams::new(Vec::new()).unwrap();
    params.distinguished_name.push(DnType::CommonName, name);
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
    CertifiedIssuer::self_signed(params, KeyPair::generate().unwrap()).unwrap()
}

/// A certificate with its key.
struct Own {
    der: CertificateDer<'static>,
    key: KeyPair,
}

/// What a certificate says, and who signs it: nobody else unless given.
fn certificate(by: Option<&Authority>, edit: impl FnOnce(&mut CertificateParams)) -> Own {
    let mut params = CertificateParams::new(vec!["desk.quayside.example".into()]).unwrap();
    params.distinguished_name.push(DnType::CommonName, "kiosk");
    let uri = "urn:quayside:kiosk:1".try_into().unwrap();
    params.subject_alt_names.push(SanType::URI(uri));
    params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ClientAuth];
    edit(&mut params);
    let key = KeyPair::generate().unwrap();
    let made = match by {
        Some(authority) => params.signed_by(&key, authority).unwrap(),
        None => params.self_signed(&key).unwrap(),
    };
    Own {
        der: made.der().clone(),
        key,
    }
}

/// What an authority has revoked.
fn revoked(by: &Authority, number: u8, ended: bool) -> String {
    let (this, next) = match ended {
        true => (
            rcgen::date_time_ymd(2020, 1, 1),
            rcgen::date_time_ymd(2020, 2, 1),
        ),
        false => (
            rcgen::date_time_ymd(2026, 1, 1),
            rcgen::date_time_ymd(2090, 1, 1),
        ),
    };
    let params = CertificateRevocationListParams {
        this_update: this,
        next_update: next,
        crl_number: SerialNumber::from(1u64),
        issuing_distribution_point: None,
        revoked_certs: vec![RevokedCertParams {
            serial_number: SerialNumber::from(vec![number]),
            revocation_time: this,
            reason_code: None,
            invalidity_date: None,
        }],
        key_identifier_method: KeyIdMethod::Sha256,
    };
    params.signed_by(by).unwrap().pem().unwrap()
}

/// A gateway by TLS with a facade that takes certificates, and consumers that have some.
struct Doors {
    stage: Stage,
    at: SocketAddr,
    server: Authority,
    _folder: tempfile::TempDir,
}

const CREDENTIALS: &str = "certificate: { authorities: ca.pem, revoked: gone.pem }";

impl Doors {
    fn open(credentials: &str, files: &[(&str, String)], known: &[&str], proxies: Proxies) -> Self {
        let backend = Scripted::start(|_, request| {
            let leaks = request.to_lowercase().contains("client-cert");
            plain(if leaks { "\"told\"" } else { "{}" })
        });
        let facade = format!(
            "admit: {{ credentials: [key, {{ {credentials} }}] }}\noperations:\n  item: {{ call: {{ backend: b }} }}\n"
        );
        let mut all = written(backend.address, CONTRACT, &facade, "5s");
        all.extend(files.iter().map(|(n, t)| ((*n).to_owned(), t.clone())));
        let (server, folder) = (authority("gates"), tempfile::tempdir().unwrap());
        let params = CertificateParams::new(vec!["localhost".into()]).unwrap();
        let key = KeyPair::generate().unwrap();
        let own = params.signed_by(&key, &server).unwrap();
        std::fs::write(folder.path().join("own.crt"), own.pem()).unwrap();
        std::fs::write(folder.path().join("own.key"), key.serialize_pem()).unwrap();
        let config = GatewayConfig {
            workers: 1,
            drain: Duration::from_secs(5),
            secure: Some(SecureConfig {
                address: ([127, 0, 0, 1], 0).into(),
                certificates: Certificates::read(folder.path()).unwrap(),
                only: false,
            }),
            proxies,
            ..GatewayConfig::at(([127, 0, 0, 1], 0).into())
        };
        let stage = Stage::with(with_secrets(all), Shared::new(), &config);
        for name in known {
            let grant = Grant {
                consumer: Arc::new(Consumer {
                    id: 7,
                    name: "Quayside Kiosk".into(),
                    ..Consumer::default()
                }),
                shown: Shown::new(*name),
                ends: i64::MAX,
                paused: false,
                opens: None,
                proof: Some(Arc::new(Proof::Certificate)),
            };
            let hash = KeyHash::of_name("certificate", name);
            let table = stage.shared.grants.load().with(hash, Some(grant));
            stage.shared.grants.store(Arc::new(table));
        }
        let at = stage.gateway.as_ref().unwrap().secure.unwrap();
        Self {
            stage,
            at,
            server,
            _folder: folder,
        }
    }

    /// Two calls on one connection, with a certificate or without; what the second is answered.
    fn call(&self, own: Option<&Own>, fields: &str) -> String {
        let mut trust = RootCertStore::empty();
        trust.add(self.server.der().clone()).unwrap();
        let provider = Arc::new(tokio_rustls::rustls::crypto::ring::default_provider());
        let config = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .unwrap()
            .with_root_certificates(trust);
        let config = match own {
            None => config.with_no_client_auth(),
            Some(own) => {
                let key = PrivateKeyDer::try_from(own.key.serialize_der()).unwrap();
                config
                    .with_client_auth_cert(vec![own.der.clone()], key)
                    .unwrap()
            }
        };
        let name = "localhost".try_into().unwrap();
        let mut tls = ClientConnection::new(Arc::new(config), name).unwrap();
        let mut stream = TcpStream::connect(self.at).unwrap();
        stream
            .set_read_timeout(Some(Duration::from_secs(20)))
            .unwrap();
        let mut both = tokio_rustls::rustls::Stream::new(&mut tls, &mut stream);
        let asked = |ends: &str| format!("GET /f/item/1 HTTP/1.1\r\nHost: x\r\n{ends}{fields}\r\n");
        let (first, last) = (asked(""), asked("Connection: close\r\n"));
        both.write_all(first.as_bytes()).unwrap();
        both.write_all(last.as_bytes()).unwrap();
        let mut answer = Vec::new();
        let _ = both.read_to_end(&mut answer);
        let answer = String::from_utf8_lossy(&answer).into_owned();
        let (_, second) = answer.rsplit_once("HTTP/1.1 ").unwrap();
        format!("HTTP/1.1 {second}")
    }

    fn why(self) -> String {
        let (traces, _) = self.stage.end();
        let mut all = traces.into_iter().filter_map(|t| Some(t.refusal?.why));
        all.next_back().unwrap_or_default()
    }
}

#[test]
fn an_authority_s_certificate_is_its_consumer_s_by_any_of_its_names() {
    let (ours, others) = (authority("Harbour office"), authority("Harbour office"));
    let files = [
        ("ca.pem", ours.pem()),
        ("gone.pem", revoked(&ours, 66, false)),
    ];
    let good = certificate(Some(&ours), |_| {});
    let gone = certificate(Some(&ours), |p| p.serial_number = Some(vec![66].into()));
    let ended = certificate(Some(&ours), |p| {
        p.not_before = rcgen::date_time_ymd(2020, 1, 1);
        p.not_after = rcgen::date_time_ymd(2021, 1, 1);
    });
    let early = certificate(Some(&ours), |p| {
        p.not_before = rcgen::date_time_ymd(2089, 1, 1)
    });
    let of_server = certificate(Some(&ours), |p| {
        p.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
    });
    // The same names, by whoever likes.
    let (alone, by_others) = (
        certificate(None, |_| {}),
        certificate(Some(&others), |_| {}),
    );
    let names = [
        "dns:desk.quayside.example",
        "uri:urn:quayside:kiosk:1",
        "subject:CN=kiosk",
    ];
    for known in names {
        let cases: [(Option<&Own>, u16, &str); 8] = [
            (Some(&good), 200, ""),
            (None, 401, "no key in the header"),
            (Some(&gone), 401, "it was revoked"),
            (Some(&ended), 401, "it has ended"),
            (Some(&early), 401, "it does not hold yet"),
            (Some(&of_server), 401, "certificate"),
            (Some(&alone), 401, "none of the authorities has signed it"),
            (Some(&by_others), 401, "certificate"),
        ];
        for (own, wanted, why) in cases {
            let doors = Doors::open(CREDENTIALS, &files, &[known], Proxies::default());
            let answer = doors.call(own, "");
            assert_eq!(status(&answer), wanted, "{known}, {why}: {answer}");
            let told = doors.why();
            assert!(told.contains(why), "{known}: {told}");
        }
    }
    // Of nobody, though it is good; and a key is still a key.
    let doors = Doors::open(
        CREDENTIALS,
        &files,
        &["dns:other.example"],
        Proxies::default(),
    );
    assert_eq!(status(&doors.call(Some(&good), "")), 401);
    assert_eq!(status(&doors.call(Some(&good), "API-Key: one\r\n")), 200);
    let told = doors.why();
    assert!(
        told.contains("nobody has the certificate of “CN=kiosk”"),
        "{told}"
    );
}

#[test]
fn without_authorities_a_certificate_is_known_by_its_fingerprint_alone() {
    let (own, other) = (certificate(None, |_| {}), certificate(None, |_| {}));
    let read = porch_tls::OfCaller::read(std::slice::from_ref(&own.der)).unwrap();
    let known = format!("sha256:{}", read.fingerprint);
    let names = [
        known.as_str(),
        "dns:desk.quayside.example",
        "subject:CN=kiosk",
    ];
    let doors = Doors::open("certificate: {}", &[], &names, Proxies::default());
    assert_eq!(status(&doors.call(Some(&own), "")), 200);
    // Anybody can write these names into a certificate.
    let answer = doors.call(Some(&other), "");
    assert_eq!(status(&answer), 401, "{answer}");
}

#[test]
fn a_list_that_has_ended_or_is_another_s_refuses() {
    let (ours, others) = (authority("Harbour office"), authority("Pilots"));
    let good = certificate(Some(&ours), |_| {});
    for (list, why) in [
        (
            revoked(&ours, 66, true),
            "the revocation list of its authority has ended",
        ),
        (
            revoked(&others, 66, false),
            "no revocation list of its authority is there",
        ),
    ] {
        let files = [("ca.pem", ours.pem()), ("gone.pem", list)];
        let known = ["dns:desk.quayside.example"];
        let doors = Doors::open(CREDENTIALS, &files, &known, Proxies::default());
        assert_eq!(status(&doors.call(Some(&good), "")), 401);
        let told = doors.why();
        assert!(told.contains(why), "{told}");
    }
}

#[test]
fn only_a_declared_proxy_s_word_is_taken_and_no_backend_hears_it() {
    let ours = authority("Harbour office");
    let files = [
        ("ca.pem", ours.pem()),
        ("gone.pem", revoked(&ours, 66, false)),
    ];
    let good = certificate(Some(&ours), |_| {});
    let gone = certificate(Some(&ours), |p| p.serial_number = Some(vec![66].into()));
    let field = |own: &Own| format!("Client-Cert: :{}:\r\n", STANDARD.encode(&own.der));
    let known = ["dns:desk.quayside.example"];
    let proxies = |write: bool| {
        let all = Proxies::of(["127.0.0.0/8"], Written::Forwarded).unwrap();
        all.with_certificates(write)
    };
    let get = |proxies: Proxies, fields: &str| {
        let doors = Doors::open(CREDENTIALS, &files, &known, proxies);
        doors.stage.get("/f/item/1", fields)
    };
    let answer = get(proxies(true), &field(&good));
    assert!(answer.ends_with("{}"), "{answer}");
    let twice = format!("{}{}", field(&good), field(&good));
    let bare = field(&good).replace(" :", " ");
    let chain = format!(
        "{}Client-Cert-Chain: :{}:\r\n",
        field(&good),
        STANDARD.encode(ours.der())
    );
    for (fields, wanted) in [
        (field(&gone), 401),
        (twice, 401),
        (bare, 401),
        ("Client-Cert: ::\r\n".to_owned(), 401),
        (format!("Client-Cert: :{}:\r\n", "A".repeat(60_000)), 401),
        (chain, 200),
        (String::new(), 401),
    ] {
        let answer = get(proxies(true), &fields);
        assert_eq!(status(&answer), wanted, "{fields}: {answer}");
    }
    // Proxies that do not write it pass on what callers wrote; others' word is nobody's.
    assert_eq!(status(&get(proxies(false), &field(&good))), 401);
    assert_eq!(status(&get(Proxies::default(), &field(&good))), 401);
}

#[test]
fn who_takes_no_certificates_asks_for_none() {
    let doors = Doors::open("basic: {}", &[], &[], Proxies::default());
    let own = certificate(None, |_| {});
    assert_eq!(status(&doors.call(Some(&own), "API-Key: one\r\n")), 200);
    assert!(!doors.stage.shared.porch.load().takes_certificates);
}

#[test]
fn a_token_of_a_certificate_is_taken_from_who_shows_it() {
    let (own, other) = (certificate(None, |_| {}), certificate(None, |_| {}));
    let signs = Arc::new(super::bound::key());
    let keys = super::bound::jwk(&signs, "one");
    let issuer = Scripted::start(move |_, _| plain(&format!("{{\"keys\":[{keys}]}}")));
    let name = format!("http://{}", issuer.address);
    let token = format!(
        "token: {{ issuer: '{name}', keys: '{name}/keys', audience: me, bound: [certificate] }}"
    );
    let doors = Doors::open(&token, &[], &[], Proxies::default());
    let client = format!("roster of {name}");
    let grant = Grant {
        consumer: Arc::default(),
        shown: Shown::new(&*client),
        ends: i64::MAX,
        paused: false,
        opens: None,
        proof: Some(Arc::new(Proof::Token)),
    };
    let hash = KeyHash::of_name("token", &client);
    let table = doors.stage.shared.grants.load().with(hash, Some(grant));
    doors.stage.shared.grants.store(Arc::new(table));
    let read = porch_tls::OfCaller::read(std::slice::from_ref(&own.der)).unwrap();
    let claims = serde_json::json!({
        "iss": name, "aud": "me", "exp": 4_000_000_000_i64, "client_id": "roster",
        "cnf": { "x5t#S256": read.thumbprint() },
    });
    let made = super::bound::signed("at+jwt", &signs, |h| h.kid = Some("one".into()), &claims);
    let field = format!("Authorization: Bearer {made}\r\n");
    // It is asked for in the handshake, since tokens are to be bound to it.
    assert_eq!(status(&doors.call(Some(&own), &field)), 200);
    assert_eq!(status(&doors.call(Some(&other), &field)), 401);
    assert_eq!(status(&doors.call(None, &field)), 401);
    assert!(doors.why().contains("none was shown"));
}
