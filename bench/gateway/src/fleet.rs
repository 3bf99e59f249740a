//! A fleet that answers every call of gRPC with one vessel of about 1 KB.

use std::net::TcpStream;

use bytes::Bytes;
use h2::RecvStream;
use h2::server::SendResponse;
use http::{HeaderMap, HeaderValue, Request, Response};
use porch_grpc::put_varint;

use crate::Outcome;

/// Answers the calls of one connection until it ends.
pub(crate) fn answer(stream: TcpStream) -> Outcome {
    stream.set_nonblocking(true)?;
    let mut runtime = tokio::runtime::Builder::new_current_thread();
    runtime.enable_all().build()?.block_on(async {
        let stream = tokio::net::TcpStream::from_std(stream)?;
        let mut connection = h2::server::handshake(stream).await?;
        let answer = framed(&vessel());
        while let Some(call) = connection.accept().await {
            let (request, respond) = call?;
            tokio::spawn(one(request, respond, answer.clone()));
        }
        Ok(())
    })
}

async fn one(
    request: Request<RecvStream>,
    mut respond: SendResponse<Bytes>,
    answer: Bytes,
) -> Result<(), h2::Error> {
    let mut body = request.into_body();
    while let Some(data) = body.data().await {
        body.flow_control().release_capacity(data?.len())?;
    }
    let mut head = Response::new(());
    let kind = HeaderValue::from_static("application/grpc");
    head.headers_mut().insert("content-type", kind);
    let mut to = respond.send_response(head, false)?;
    to.send_data(answer, false)?;
    let mut trailers = HeaderMap::new();
    trailers.insert("grpc-status", HeaderValue::from_static("0"));
    to.send_trailers(trailers)
}

/// A message behind its mark and length (PROTOCOL-HTTP2 of gRPC, “Length-Prefixed-Message”).
fn framed(message: &[u8]) -> Bytes {
    let length = u32::try_from(message.len()).unwrap_or_default();
    [&[0], &length.to_be_bytes()[..], message].concat().into()
}

/// A field of bytes: a text, or another message.
fn part(message: &mut Vec<u8>, number: u64, content: &[u8]) {
    put_varint(message, number << 3 | 2);
    put_varint(message, content.len() as u64);
    message.extend_from_slice(content);
}

fn number(message: &mut Vec<u8>, field: u64, value: u64) {
    put_varint(message, field << 3);
    put_varint(message, value);
}

fn double(message: &mut Vec<u8>, field: u64, value: f64) {
    put_varint(message, field << 3 | 1);
    message.extend_from_slice(&value.to_le_bytes());
}

/// A `Vessel` of the demo's `fleet.proto`.
fn vessel() -> Vec<u8> {
    let mut all = Vec::new();
    part(&mut all, 1, b"vessels/v1");
    part(&mut all, 2, b"Vessel number 1");
    number(&mut all, 3, 9_007_199_254_740_994);
    number(&mut all, 4, 2);
    double(&mut all, 5, 2.5625);
    number(&mut all, 6, 41);
    number(&mut all, 7, 2);
    let mut commissioned = Vec::new();
    number(&mut commissioned, 1, 725_846_401);
    number(&mut commissioned, 2, 500_000_000);
    part(&mut all, 8, &commissioned);
    let mut turnaround = Vec::new();
    number(&mut turnaround, 1, 1200);
    part(&mut all, 9, &turnaround);
    for port in 0..16 {
        let name = format!("Harbour number {port} of the archipelago");
        part(&mut all, 10, name.as_bytes());
    }
    let mut store = Vec::new();
    part(&mut store, 1, b"lifejackets");
    number(&mut store, 2, 60);
    part(&mut all, 11, &store);
    let mut battery = Vec::new();
    double(&mut battery, 1, 950.25);
    part(&mut all, 13, &battery);
    let mut call_sign = Vec::new();
    part(&mut call_sign, 1, b"SK1");
    part(&mut all, 16, &call_sign);
    part(&mut all, 17, &[0x5e, 0xa1, 7, 9]);
    all
}
