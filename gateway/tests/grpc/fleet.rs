//! The demo's fleet: native callers, TLS, reflection.

use super::*;

/// Documents for the fleet's service, from its reflection.
async fn fleet(address: &str, trust: &str, edit: impl Fn(&mut Files)) -> Files {
    let allowed = porch_fetch::Allowed {
        local: true,
        trust: trust.to_owned(),
        ..Default::default()
    };
    let source = porch_fetch::reflect(address, &allowed)
        .await
        .unwrap()
        .source;
    let mut files = porch_facade::derive(
        &source,
        "vessels",
        None,
        &["skerry.fleet.v1.Fleet".to_owned()],
    )
    .unwrap()
    .files;
    edit(&mut files);
    files
}

async fn standin() -> SocketAddr {
    let (address, server) = porch_standins::serve(
        porch_standins::Standin::Vessels,
        ([127, 0, 0, 1], 0).into(),
        std::future::pending(),
    )
    .await
    .unwrap();
    tokio::spawn(server);
    address
}

#[tokio::test(flavor = "multi_thread")]
async fn native_callers_pass_under_the_same_rules() {
    let address = standin().await;
    let files = fleet(&address.to_string(), "", |files| {
        for text in files.values_mut() {
            *text = text
                .replace("admit:\n  credentials: [key]\n", "native: true\nadmit:\n  limits: [{ requests: 5, window: 1m, per: everyone }]\n")
                .replace("  retireVessel:\n", "  retireVessel:\n    admit: { credentials: [key] }\n");
        }
    })
    .await;
    let porch = Porch::over(&files, &["vessels"]);
    let mut client = FleetClient::connect(porch.url("")).await.unwrap();
    let vessel = client
        .get_vessel(GetVesselRequest {
            name: "vessels/kettle".into(),
        })
        .await
        .unwrap()
        .into_inner();
    assert_eq!(
        (vessel.title.as_str(), vessel.number),
        ("Kettle", 9_007_199_254_740_993)
    );
    let failed = client
        .get_vessel(GetVesselRequest {
            name: "vessels/none".into(),
        })
        .await
        .unwrap_err();
    assert_eq!(
        (failed.code(), failed.message()),
        (tonic::Code::NotFound, "there is no vessels/none")
    );
    assert!(!failed.details().is_empty());
    let mut positions = client
        .stream_positions(StreamPositionsRequest {
            count: 3,
            interval: None,
            fail_after: 0,
        })
        .await
        .unwrap()
        .into_inner();
    let mut seen = 0;
    while let Some(position) = positions.message().await.unwrap() {
        assert!(position.vessel.starts_with("vessels/"));
        seen += 1;
    }
    assert_eq!(seen, 3);
    let questions =
        tokio_stream::iter(["ahead?", "astern?"].map(|t| PilotQuestion { text: t.into() }));
    let mut answers = client.pilot(questions).await.unwrap().into_inner();
    assert_eq!(answers.message().await.unwrap().unwrap().number, 1);
    let refused = client
        .retire_vessel(GetVesselRequest {
            name: "vessels/kettle".into(),
        })
        .await
        .unwrap_err();
    assert_eq!(refused.code(), tonic::Code::Unauthenticated, "{refused:?}");
    assert!(refused.message().contains("API-Key"), "{refused:?}");
    assert_eq!(
        porch
            .send("GET", "/vessels/v1/vessels/kettle", None)
            .await
            .0,
        200
    );
    // The sixth, whoever makes it: the one without a key was not counted.
    assert_eq!(
        client
            .get_vessel(GetVesselRequest {
                name: "vessels/kettle".into()
            })
            .await
            .unwrap_err()
            .code(),
        tonic::Code::ResourceExhausted
    );
    // Without `native`, nothing is there for them.
    let closed = Porch::over(&fleet(&address.to_string(), "", |_| ()).await, &["vessels"]);
    let mut client = FleetClient::connect(closed.url("")).await.unwrap();
    assert_eq!(
        client
            .get_vessel(GetVesselRequest {
                name: "vessels/kettle".into()
            })
            .await
            .unwrap_err()
            .code(),
        tonic::Code::Unimplemented
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_is_read_and_called_by_tls_and_certificates_are_checked() {
    let mut authority = rcgen::CertificateParams::new(Vec::new()).unwrap();
    authority.is_ca = rcgen::IsCa::Ca(rcgen::BasicConstraints::Unconstrained);
    let authority_key = rcgen::KeyPair::generate().unwrap();
    let pem = authority.self_signed(&authority_key).unwrap().pem();
    let issuer = rcgen::Issuer::new(authority, authority_key);
    let key = rcgen::KeyPair::generate().unwrap();
    let own = rcgen::CertificateParams::new(vec!["localhost".into()])
        .unwrap()
        .signed_by(&key, &issuer)
        .unwrap();
    let identity = tonic::transport::Identity::from_pem(own.pem(), key.serialize_pem());
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    let server = tonic::transport::Server::builder()
        .tls_config(tonic::transport::ServerTlsConfig::new().identity(identity))
        .unwrap()
        .add_routes(porch_standins::vessels::services());
    tokio::spawn(
        server.serve_with_incoming(tokio_stream::wrappers::TcpListenerStream::new(listener)),
    );
    let address = format!("https://localhost:{port}");
    let files = fleet(&address, &pem, |files| {
        // What was trusted to read it is trusted to call it.
        assert_eq!(files["trust.pem"], pem);
        for text in files.values_mut() {
            *text = text.replace("admit:\n  credentials: [key]\n", "");
        }
    })
    .await;
    assert!(
        files["vessels.backend.yaml"].contains("trust: trust.pem"),
        "{}",
        files["vessels.backend.yaml"]
    );
    let (status, got) = Porch::over(&files, &["vessels"])
        .send("GET", "/vessels/v1/vessels/kettle", None)
        .await;
    assert_eq!((status, &got["title"]), (200, &json!("Kettle")), "{got}");
    // Without that authority nobody vouches for it.
    let strangers: Files = files
        .iter()
        .map(|(n, t)| (n.clone(), t.replace("\ntrust: trust.pem", "")))
        .collect();
    let (status, got) = Porch::over(&strangers, &["vessels"])
        .send("GET", "/vessels/v1/vessels/kettle", None)
        .await;
    assert_eq!(status, 502, "{got}");
    let refused = porch_fetch::reflect(
        &address,
        &porch_fetch::Allowed {
            local: true,
            ..Default::default()
        },
    )
    .await
    .map(|_| ())
    .unwrap_err()
    .to_string();
    assert!(refused.contains("no connection"), "{refused}");
}

#[tokio::test(flavor = "multi_thread")]
async fn reflection_is_bounded_and_says_what_is_wrong() {
    let address = standin().await.to_string();
    let refused = porch_fetch::fetch(&address, &porch_fetch::Allowed::default())
        .await
        .map(|_| ())
        .unwrap_err();
    assert!(
        matches!(refused, porch_fetch::FetchError::Local(..)),
        "{refused}"
    );
    let local = porch_fetch::Allowed {
        local: true,
        ..Default::default()
    };
    // A server of gRPC without reflection, one that speaks HTTP/1, and none at all.
    let gone = TcpListener::bind("127.0.0.1:0")
        .await
        .unwrap()
        .local_addr()
        .unwrap();
    for (server, part) in [(Server::start().await.address, ""), (gone, "no connection")] {
        let refused = porch_fetch::fetch(&server.to_string(), &local)
            .await
            .map(|_| ())
            .unwrap_err()
            .to_string();
        assert!(refused.contains(part) && !refused.is_empty(), "{refused}");
    }
    // One that only knows the older version tells the same.
    let older = tonic_reflection::server::Builder::configure()
        .register_encoded_file_descriptor_set(porch_standins::vessels::DESCRIPTORS)
        .build_v1alpha()
        .unwrap();
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let older_address = listener.local_addr().unwrap().to_string();
    tokio::spawn(
        tonic::transport::Server::builder()
            .add_service(older)
            .serve_with_incoming(tokio_stream::wrappers::TcpListenerStream::new(listener)),
    );
    let told = porch_facade::look(
        &porch_fetch::fetch(&older_address, &local)
            .await
            .unwrap()
            .source,
    )
    .unwrap();
    let found = porch_fetch::fetch(&address, &local).await.unwrap().source;
    assert_eq!(
        told.operations.len(),
        porch_facade::look(&found).unwrap().operations.len()
    );
    let look = porch_facade::look(&found).unwrap();
    assert_eq!(
        (look.kind, look.addresses.as_slice()),
        ("grpc", &[format!("http://{address}")][..])
    );
    let shapes: BTreeMap<&str, String> = look
        .operations
        .iter()
        .map(|o| (o.id.as_str(), format!("{} {}", o.method, o.path)))
        .collect();
    for (id, shape) in [
        ("getVessel", "GET /v1/vessels/{vessel}"),
        ("getFile", "GET /v1/files/{file*}"),
        ("assignBerth", "POST /berths/{berthId}:assign"),
        ("watchBerth", "GET /berths/{berthId}:watch"),
        ("streamPositions", "GET /v1/positions:stream"),
    ] {
        assert_eq!(shapes[id], shape);
    }
}
