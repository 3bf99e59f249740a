//! Callers by TLS: which certificate they are shown, what they may choose, and those who come plain.

use super::*;
use porch_gateway::{Certificates, SecureConfig};
use tokio_rustls::rustls::{ClientConfig, ClientConnection};

/// A folder of certificates that one authority signed, with the authority.
struct Folder {
    dir: std::path::PathBuf,
    authority: rcgen::CertifiedIssuer<'static, rcgen::KeyPair>,
}

impl Drop for Folder {
    fn drop(&mut self) {
        let _ = std::fs::remove_dir_all(&self.dir);
    }
}

impl Folder {
    fn new(name: &str) -> Self {
        let dir = std::env::temp_dir().join(format!("porch-{name}-{}", std::process::id()));
        let _ = std::fs::remove_dir_all(&dir);
        std::fs::create_dir_all(&dir).unwrap();
        let mut params = rcgen::CertificateParams::new(Vec::new()).unwrap();
        params.is_ca = rcgen::IsCa::Ca(rcgen::BasicConstraints::Unconstrained);
        let key = rcgen::KeyPair::generate().unwrap();
        let authority = rcgen::CertifiedIssuer::self_signed(params, key).unwrap();
        Self { dir, authority }
    }

    /// Puts a certificate for some names there, whose number tells it from others.
    fn put(&self, file: &str, names: &[&str], number: u8) {
        let names: Vec<String> = names.iter().map(|n| (*n).to_owned()).collect();
        let mut params = rcgen::CertificateParams::new(names).unwrap();
        params.serial_number = Some(vec![number].into());
        let key = rcgen::KeyPair::generate().unwrap();
        let made = params.signed_by(&key, &self.authority).unwrap();
        std::fs::write(self.dir.join(format!("{file}.crt")), made.pem()).unwrap();
        std::fs::write(self.dir.join(format!("{file}.key")), key.serialize_pem()).unwrap();
    }

    fn stage(&self, backend: SocketAddr, only: bool) -> (Stage, SocketAddr, Arc<Certificates>) {
        let certificates = Certificates::read(&self.dir).unwrap();
        let config = GatewayConfig {
            workers: 2,
            drain: Duration::from_secs(5),
            secure: Some(SecureConfig {
                address: ([127, 0, 0, 1], 0).into(),
                certificates: certificates.clone(),
                only,
            }),
            ..GatewayConfig::at(([127, 0, 0, 1], 0).into())
        };
        let facade =
            "operations:\n  item: { call: { backend: b } }\n  putItem: { call: { backend: b } }\n";
        let stage = Stage::with(compile(backend, facade), Shared::new(), &config);
        let address = stage.gateway.as_ref().unwrap().secure.unwrap();
        (stage, address, certificates)
    }

    /// A client that trusts the authority.
    fn client(&self, protocols: &[&str]) -> Arc<ClientConfig> {
        let mut trust = tokio_rustls::rustls::RootCertStore::empty();
        trust.add(self.authority.der().clone()).unwrap();
        let provider = Arc::new(tokio_rustls::rustls::crypto::ring::default_provider());
        let mut config = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .unwrap()
            .with_root_certificates(trust)
            .with_no_client_auth();
        config.alpn_protocols = protocols.iter().map(|p| p.as_bytes().to_vec()).collect();
        Arc::new(config)
    }

    /// Asks by TLS for a name; gives the answer, the number of the certificate that was shown, and the protocol.
    fn ask(&self, at: SocketAddr, name: &str, protocols: &[&str]) -> (String, u8, String) {
        let name = name.to_owned().try_into().unwrap();
        let mut tls = ClientConnection::new(self.client(protocols), name).unwrap();
        let mut stream = TcpStream::connect(at).unwrap();
        stream
            .set_read_timeout(Some(Duration::from_secs(20)))
            .unwrap();
        let mut both = tokio_rustls::rustls::Stream::new(&mut tls, &mut stream);
        let asked = "GET /f/item/1 HTTP/1.1\r\nHost: a.example\r\nConnection: close\r\n\r\n";
        let mut answer = Vec::new();
        let sent = both.write_all(asked.as_bytes());
        if let Err(e) = sent.and_then(|()| both.read_to_end(&mut answer).map(drop)) {
            return (e.to_string(), 0, String::new());
        }
        let shown = tls.peer_certificates().unwrap()[0].clone();
        let protocol = tls
            .alpn_protocol()
            .map(|p| String::from_utf8_lossy(p).into_owned());
        // Version, then the number (RFC 5280 §4.1): 30 .. 30 .. A0 03 02 01 02 02 01 NN.
        let at = shown
            .windows(6)
            .position(|w| w == [0xa0, 3, 2, 1, 2, 2])
            .unwrap();
        (
            String::from_utf8_lossy(&answer).into_owned(),
            shown[at + 7],
            protocol.unwrap_or_default(),
        )
    }
}

#[test]
fn each_name_is_shown_its_own_certificate_and_files_are_read_again() {
    let folder = Folder::new("names");
    folder.put("a", &["a.example"], 1);
    folder.put("b", &["*.b.example", "B.example"], 2);
    let backend = Scripted::start(|_, request| plain(&format!("{:?}", request)));
    let (_stage, at, certificates) = folder.stage(backend.address, false);
    for (name, number) in [
        ("a.example", 1),
        ("b.example", 2),
        ("x.b.example", 2),
        ("X.B.EXAMPLE", 2),
    ] {
        let (answer, shown, _) = folder.ask(at, name, &[]);
        assert_eq!((status(&answer), shown), (200, number), "{name}: {answer}");
        // What is behind the porch is told how the caller came (RFC 7239 §5.4).
        assert!(answer.contains("proto=https"), "{answer}");
    }
    // No certificate is for these: the first is shown, and whoever asks does not take it.
    for name in ["c.example", "x.y.b.example"] {
        let (answer, shown, _) = folder.ask(at, name, &[]);
        assert_eq!(shown, 0, "{name}: {answer}");
        assert!(answer.contains("not valid for name"), "{name}: {answer}");
    }
    assert_eq!(
        certificates.names(),
        ["*.b.example", "a.example", "b.example"]
    );
    assert!(!certificates.refresh().unwrap());
    folder.put("a", &["a.example"], 3);
    folder.put("c", &["c.example"], 4);
    assert!(certificates.refresh().unwrap());
    assert_eq!(folder.ask(at, "a.example", &[]).1, 3);
    assert_eq!(folder.ask(at, "c.example", &[]).1, 4);
    // What cannot be read is told once, without what it says, and changes nothing.
    std::fs::write(folder.dir.join("c.key"), "no-key-at-all").unwrap();
    let told = certificates.refresh().unwrap_err().to_string();
    assert!(
        told.ends_with("c.crt: neither it nor a file `.key` beside it holds a key in PEM"),
        "{told}"
    );
    assert!(!certificates.refresh().unwrap());
    assert_eq!(folder.ask(at, "c.example", &[]).1, 4);
    std::fs::copy(folder.dir.join("a.key"), folder.dir.join("c.key")).unwrap();
    let told = certificates.refresh().unwrap_err().to_string();
    assert!(
        told.contains("c.crt: certificate and key do not fit"),
        "{told}"
    );
    std::fs::remove_file(folder.dir.join("c.crt")).unwrap();
    assert!(certificates.refresh().unwrap());
    assert!(
        folder
            .ask(at, "c.example", &[])
            .0
            .contains("not valid for name")
    );
}

#[test]
fn callers_choose_their_protocol() {
    let folder = Folder::new("alpn");
    folder.put("a", &["a.example"], 1);
    let backend = Scripted::start(|_, request| plain(&format!("{:?}", request)));
    let (stage, at, _) = folder.stage(backend.address, false);
    let (answer, _, protocol) = folder.ask(at, "a.example", &["http/1.1"]);
    assert_eq!((status(&answer), protocol.as_str()), (200, "http/1.1"));
    // Whoever knows none of them is not served (RFC 7301 §3.2).
    let (answer, _, _) = folder.ask(at, "a.example", &["spdy/3"]);
    assert!(answer.contains("NoApplicationProtocol"), "{answer}");
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let (code, body) = runtime.block_on(async {
        let config = folder.client(&["h2", "http/1.1"]);
        let tcp = tokio::net::TcpStream::connect(at).await.unwrap();
        let name = "a.example".to_owned().try_into().unwrap();
        let connector = tokio_rustls::TlsConnector::from(config);
        let tls = connector.connect(name, tcp).await.unwrap();
        assert_eq!(tls.get_ref().1.alpn_protocol(), Some(&b"h2"[..]));
        let (mut send, connection) = h2::client::handshake(tls).await.unwrap();
        tokio::spawn(connection);
        let request = http::Request::put("https://a.example/f/item/1");
        let request = request
            .header("content-type", "application/json")
            .body(())
            .unwrap();
        let (reply, mut body) = send.send_request(request, false).unwrap();
        body.send_data("{}".into(), true).unwrap();
        let (head, mut body) = reply.await.unwrap().into_parts();
        let mut text = Vec::new();
        while let Some(Ok(part)) = body.data().await {
            text.extend_from_slice(&part);
        }
        (
            head.status.as_u16(),
            String::from_utf8_lossy(&text).into_owned(),
        )
    });
    assert_eq!(code, 200, "{body}");
    assert!(body.contains("proto=https"), "{body}");
    // Who comes plain is served as ever.
    let answer = stage.get("/f/item/1", "");
    assert!(
        status(&answer) == 200 && !answer.contains("proto=https"),
        "{answer}"
    );
}

#[test]
fn those_who_come_plain_are_told_to_come_by_tls() {
    let folder = Folder::new("only");
    folder.put("a", &["a.example"], 1);
    let backend = Scripted::start(|_, _| plain("{}"));
    let (stage, at, _) = folder.stage(backend.address, true);
    for (target, host, location) in [
        (
            "/f/item/1?a=b%20c",
            "a.example",
            "a.example:PORT/f/item/1?a=b%20c",
        ),
        ("/", "a.example:8080", "a.example:PORT/"),
        (
            "//evil.example/x",
            "a.example",
            "a.example:PORT//evil.example/x",
        ),
        ("/x", "[::1]:80", "[::1]:PORT/x"),
        ("http://b.example/y", "a.example", "b.example:PORT/y"),
    ] {
        let request = format!(
            "POST {target} HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\nContent-Length: 2\r\n\r\n{{}}"
        );
        let answer = stage.raw(request.as_bytes());
        assert_eq!(status(&answer), 308, "{answer}");
        let wanted = location.replace("PORT", &at.port().to_string());
        let said = format!("location: https://{wanted}\r\n");
        assert!(
            answer.to_ascii_lowercase().contains(&said),
            "{said} {answer}"
        );
    }
    for host in ["a b", "a.example/x", "u@a.example", ""] {
        let request = format!("GET /x HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n\r\n");
        let answer = stage.raw(request.as_bytes());
        assert_eq!(status(&answer), 400, "{host}: {answer}");
    }
    assert_eq!(backend.connections(), 0);
    assert_eq!(status(&folder.ask(at, "a.example", &[]).0), 200);
}

#[test]
fn what_is_no_tls_is_let_go_and_holds_nobody_up() {
    let folder = Folder::new("noise");
    folder.put("a", &["a.example"], 1);
    let backend = Scripted::start(|_, _| plain("{}"));
    let (stage, at, _) = folder.stage(backend.address, false);
    let mut silent: Vec<TcpStream> = Vec::new();
    for _ in 0..50 {
        silent.push(TcpStream::connect(at).unwrap());
        let mut noise = TcpStream::connect(at).unwrap();
        let _ = noise.write_all(b"GET /f/item/1 HTTP/1.1\r\nHost: a.example\r\n\r\n");
        let mut told = Vec::new();
        let _ = noise.read_to_end(&mut told);
        // An alert, and nothing else (RFC 8446 §6).
        assert!(
            told.first().is_none_or(|b| *b == 21) && told.len() < 16,
            "{told:?}"
        );
    }
    assert_eq!(status(&folder.ask(at, "a.example", &[]).0), 200);
    assert_eq!(status(&stage.get("/f/item/1", "")), 200);
}
