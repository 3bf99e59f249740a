//! How `porch call` reaches the gateway: as it is, or by TLS, with a certificate of one's own.

use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use porch_facade::OwnCertificate;
use porch_fetch::Allowed;
use reqwest::header::HeaderMap;
use reqwest::{Request, StatusCode};

use crate::cli::CallArgs;
use crate::error::CliError;

/// So long an answer by TLS may take.
const PATIENCE: Duration = Duration::from_secs(60);

/// What is answered, read to its end.
pub(crate) async fn carried_out(
    request: Request,
    gateway: &str,
    args: &CallArgs,
) -> Result<(StatusCode, HeaderMap, Vec<u8>), CliError> {
    if request.url().scheme() == "https" {
        return by_tls(request, gateway, args).await;
    }
    if args.certificate.is_some() {
        let help = "as in --gateway https://localhost:3811";
        let message =
            "a certificate is shown by TLS alone, and the gateway's address is none of it";
        return Err(CliError::new(message).help(help).usage());
    }
    let answer = reqwest::Client::new().execute(request).await;
    let answer = answer.map_err(|e| not_there(gateway, &e.to_string()))?;
    let (status, headers) = (answer.status(), answer.headers().clone());
    let bytes = answer.bytes().await;
    let bytes = bytes.map_err(|e| CliError::new(format!("the gateway broke off: {e}")))?;
    Ok((status, headers, bytes.into()))
}

fn not_there(gateway: &str, why: &str) -> CliError {
    CliError::new(format!("the gateway at {gateway} cannot be reached: {why}"))
        .help("give its address with --gateway or ELM_PORCH_GATEWAY")
}

fn read(file: &Path) -> Result<String, CliError> {
    std::fs::read_to_string(file).map_err(|e| CliError::new(format!("{}: {e}", file.display())))
}

async fn by_tls(
    request: Request,
    gateway: &str,
    args: &CallArgs,
) -> Result<(StatusCode, HeaderMap, Vec<u8>), CliError> {
    let own = match (&args.certificate, &args.certificate_key) {
        (Some(certificate), Some(key)) => Some(Arc::new(OwnCertificate {
            chain: read(certificate)?,
            key: read(key)?,
        })),
        _ => None,
    };
    let allowed = Allowed {
        local: true,
        trust: args
            .trust
            .as_deref()
            .map(read)
            .transpose()?
            .unwrap_or_default(),
        own,
        ..Allowed::default()
    };
    let address = request.url().to_string();
    let target = match request.url().query() {
        Some(query) => format!("{}?{query}", request.url().path()),
        None => request.url().path().to_owned(),
    };
    let body = request
        .body()
        .and_then(|b| b.as_bytes())
        .unwrap_or_default();
    let mut made = http::Request::new(bytes::Bytes::copy_from_slice(body));
    *made.method_mut() = request.method().clone();
    *made.uri_mut() = target
        .parse()
        .map_err(|_| not_there(gateway, "its path is none"))?;
    *made.headers_mut() = request.headers().clone();
    let got = porch_fetch::call(&address, made, &allowed, PATIENCE).await;
    let got = got.map_err(|e| {
        let help = match e {
            porch_fetch::FetchError::Certificate(..) => {
                "name the certificates that it may be signed with: --trust FILE"
            }
            _ => "give its address with --gateway or ELM_PORCH_GATEWAY",
        };
        CliError::new(format!("the gateway cannot be reached: {e}")).help(help)
    })?;
    Ok((got.status, got.fields, got.body))
}
