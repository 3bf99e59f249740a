//! The reference: a bare forwarder, nothing but hyper and hyper-util's pooled client, on one thread.
//!
//! `bench-forwarder PORT BACKEND-PORT`

use bytes::Bytes;
use http_body_util::BodyExt;
use http_body_util::combinators::BoxBody;
use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper::{Request, Response, Uri};
use hyper_util::client::legacy::Client;
use hyper_util::client::legacy::connect::HttpConnector;
use hyper_util::rt::{TokioExecutor, TokioIo};
use porch_bench::port;
use tokio::net::TcpListener;

#[tokio::main(flavor = "current_thread")]
async fn main() -> std::io::Result<()> {
    let (own, backend) = (port(1, 3871), port(2, 3870));
    let mut connector = HttpConnector::new();
    connector.set_nodelay(true);
    let client: Client<HttpConnector, Incoming> =
        Client::builder(TokioExecutor::new()).build(connector);
    let listener = TcpListener::bind(("127.0.0.1", own)).await?;
    loop {
        let (stream, _) = listener.accept().await?;
        stream.set_nodelay(true)?;
        let client = client.clone();
        let service = service_fn(move |mut request: Request<Incoming>| {
            let client = client.clone();
            async move {
                let path = request.uri().path_and_query().map_or("/", |p| p.as_str());
                if let Ok(uri) = format!("http://127.0.0.1:{backend}{path}").parse::<Uri>() {
                    *request.uri_mut() = uri;
                }
                let answer: Result<Response<BoxBody<Bytes, hyper::Error>>, _> =
                    client.request(request).await.map(|r| r.map(BodyExt::boxed));
                answer
            }
        });
        tokio::spawn(async move {
            let _ = http1::Builder::new()
                .serve_connection(TokioIo::new(stream), service)
                .await;
        });
    }
}
