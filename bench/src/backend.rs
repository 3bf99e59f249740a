//! The fixed backend of the benchmarks: 1 KB of JSON to every GET (to `/after/N/…` behind N milliseconds), a SOAP answer of about 1 KB (or 1 MB, if asked) to every POST.
//!
//! `bench-backend PORT`

use std::convert::Infallible;
use std::time::Duration;

use bytes::Bytes;
use http_body_util::{BodyExt, Full};
use hyper::Method;
use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper::{Request, Response};
use hyper_util::rt::TokioIo;
use tokio::net::TcpListener;

fn soap(sailings: u32) -> String {
    let sailing = |i: u32| {
        format!(
            "<r:Sailing><r:Id>S-{i}</r:Id><r:RouteCode>FAR-MAR</r:RouteCode><r:Departs>2027-05-14T08:30:00Z</r:Departs><r:Legs><r:Leg><r:From>Farholt</r:From><r:To>Maren Quay</r:To>\
             <r:Minutes>55</r:Minutes></r:Leg></r:Legs><r:SeatsLeft>{i}</r:SeatsLeft><r:Vessel>Lantern</r:Vessel></r:Sailing>"
        )
    };
    let list: String = (17..17 + sailings).map(sailing).collect();
    format!(
        "<?xml version=\"1.0\" encoding=\"utf-8\"?><env:Envelope xmlns:env=\"http://schemas.xmlsoap.org/soap/envelope/\"><env:Body>\
         <r:SearchSailingsResponse xmlns:r=\"urn:skerry-line:reservations:3\"><r:Sailings>{list}</r:Sailings></r:SearchSailingsResponse></env:Body></env:Envelope>"
    )
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> std::io::Result<()> {
    let port: u16 = std::env::args()
        .nth(1)
        .and_then(|p| p.parse().ok())
        .unwrap_or(3870);
    let json: &'static [u8] = format!("{{\"text\":\"{}\"}}", "x".repeat(1012))
        .leak()
        .as_bytes();
    let xml: &'static [u8] = soap(3).leak().as_bytes();
    let large: &'static [u8] = soap(3000).leak().as_bytes();
    let listener = TcpListener::bind(("127.0.0.1", port)).await?;
    loop {
        let (stream, _) = listener.accept().await?;
        stream.set_nodelay(true)?;
        let service = service_fn(move |request: Request<Incoming>| async move {
            let post = request.method() == Method::POST;
            let after = request.uri().path().strip_prefix("/after/");
            let after = after.and_then(|rest| rest.split('/').next()?.parse::<u64>().ok());
            if let Some(ms) = after {
                tokio::time::sleep(Duration::from_millis(ms.min(1_000))).await;
            }
            let sent = request
                .into_body()
                .collect()
                .await
                .map(|b| b.to_bytes())
                .unwrap_or_default();
            // Who asks for sailings from everywhere gets a thousand times as many.
            let all = post && sent.windows(12).any(|w| w == b">Everywhere<");
            let (kind, body) = match (post, all) {
                (true, true) => ("text/xml; charset=utf-8", large),
                (true, false) => ("text/xml; charset=utf-8", xml),
                _ => ("application/json", json),
            };
            let mut response = Response::new(Full::new(Bytes::from_static(body)));
            response.headers_mut().insert(
                "content-type",
                hyper::header::HeaderValue::from_static(kind),
            );
            Ok::<_, Infallible>(response)
        });
        tokio::spawn(async move {
            let _ = http1::Builder::new()
                .serve_connection(TokioIo::new(stream), service)
                .await;
        });
    }
}
