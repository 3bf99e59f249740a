//! Tokens that gRPC backends take no more.

use super::*;

/// Gives out tokens by their numbers.
async fn token_server() -> (SocketAddr, Arc<AtomicUsize>) {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    let given = Arc::new(AtomicUsize::new(0));
    let count = given.clone();
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            let count = count.clone();
            tokio::spawn(async move {
                let service = service_fn(move |_| {
                    let n = count.fetch_add(1, Ordering::SeqCst) + 1;
                    let body = json!({ "access_token": format!("t0k3n-{n}"), "token_type": "Bearer", "expires_in": 3600 });
                    let response = Response::builder().header("content-type", "application/json");
                    let whole = http_body_util::Full::new(Bytes::from(body.to_string()));
                    std::future::ready(Ok::<_, Infallible>(response.body(whole).unwrap()))
                });
                let _ = hyper::server::conn::http1::Builder::new()
                    .serve_connection(TokioIo::new(stream), service)
                    .await;
            });
        }
    });
    (address, given)
}

/// What may not be repeated is answered as it came, and the next call is shown another token.
#[tokio::test(flavor = "multi_thread")]
async fn a_token_that_is_refused_by_a_status_of_grpc_is_not_shown_again() {
    let server = Server::start().await;
    let (tokens, given) = token_server().await;
    let files = documents(ODDITIES, &[server.address], |files| {
        for (name, text) in files {
            if name.ends_with(".backend.yaml") {
                text.push_str(&format!("credentials: {{ calling: {{ client-credentials: {{ token-address: 'http://{tokens}/', client: desk, secret: {{ secret: desk }} }} }} }}\n"));
            }
        }
    });
    let porch = Porch::over(&files, &["odd"]);
    for (status, tokens) in [(401, 1), (200, 2), (200, 2)] {
        let guarded = Some(r#"{"name":"guarded"}"#);
        let (got, body) = porch.send("POST", "/odd/v1/bad", guarded).await;
        assert_eq!(got, status, "{body}");
        assert_eq!(given.load(Ordering::SeqCst), tokens);
    }
}
