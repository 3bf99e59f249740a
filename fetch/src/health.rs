//! Addresses asked whether they are well, as a backend's document says.

use std::time::Instant;

use ::http::{HeaderMap, Request};
use http_body_util::Full;
use porch_facade::{CompiledBackend, HealthCheck, Transport};
use url::Url;

use crate::FetchError;
use crate::http::exchange;
use crate::probe::{HEALTH, allowed, by_health, with_query};

/// Asks one address; what came where it is not well. HTTP and SOAP backends are asked by GET with what they are shown when
/// they are called, gRPC backends by their standard method (gRPC Health Checking Protocol).
///
/// # Errors
/// In words, what was found.
pub fn ask(
    backend: &CompiledBackend,
    at: usize,
    check: &HealthCheck,
) -> impl Future<Output = Result<(), String>> + Send + use<> {
    let address = &backend.addresses[at];
    let shown = format!("{}{}", address.origin(backend.transport), address.path);
    let path = format!(
        "{}{}",
        address.path,
        check.path.as_deref().unwrap_or_default()
    );
    let path = if path.is_empty() {
        "/".to_owned()
    } else {
        path
    };
    let target = with_query(path, backend);
    let fields: HeaderMap = backend.credentials.headers.iter().cloned().collect();
    let (allowed, within) = (allowed(backend), check.within);
    let (statuses, transport) = (check.statuses.clone(), backend.transport);
    async move {
        let url = Url::parse(&shown).map_err(|e| e.to_string())?;
        let asking = async {
            match transport {
                Transport::Inside => Ok(Ok(())),
                Transport::Http1 => {
                    let bad = |e: ::http::Error| FetchError::Address(shown.clone(), e.to_string());
                    let request = Request::get(target).body(Full::default());
                    let mut request = request.map_err(bad)?;
                    *request.headers_mut() = fields;
                    let got = exchange(&url, request, &allowed, Instant::now() + within).await?;
                    let status = got.status.as_u16();
                    let well = statuses.iter().any(|range| range.contains(&status));
                    Ok(well.then_some(()).ok_or_else(|| got.status.to_string()))
                }
                Transport::Http2 => {
                    let health = format!("{shown}{HEALTH}");
                    let answer = by_health(&url, &health, fields, &allowed).await?;
                    Ok(answer.is_well().then_some(()).ok_or(answer.status))
                }
            }
        };
        match tokio::time::timeout(within, asking).await {
            Err(_) => Err(format!("no answer within {} ms", within.as_millis())),
            Ok(Err(failure)) => {
                let failure: FetchError = failure;
                Err(failure.to_string())
            }
            Ok(Ok(well)) => well,
        }
    }
}
