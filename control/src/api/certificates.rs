//! Certificates that consumers show by TLS.

use std::sync::Arc;

use axum::extract::{Extension, State};
use axum::http::StatusCode;
use porch_store::entity::credential;
use porch_tls::OfCaller;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::extract::{Json, Path};
use super::session::Publisher;
use crate::app::App;
use crate::error::ApiError;

#[derive(Serialize, ToSchema)]
pub(crate) struct CallersCertificateView {
    /// What it is known by: `sha256:`, `dns:`, `uri:`, `email:`, `ip:` or `subject:` with what follows.
    known_by: String,
    created_at: i64,
    /// Milliseconds since 1970, to the minute; none: it was not used yet.
    last_used_at: Option<i64>,
}

impl From<credential::Model> for CallersCertificateView {
    fn from(c: credential::Model) -> Self {
        Self {
            known_by: c.prefix,
            created_at: c.created_at,
            last_used_at: c.last_used_at,
        }
    }
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewCertificate {
    /// The certificate in PEM (RFC 7468 §5): it is known by its fingerprint from now on.
    certificate: Option<String>,
    /// In place of it, a name in it, for certificates that a document's authorities signed: `dns:NAME`, `uri:URI`,
    /// `email:ADDRESS`, `ip:ADDRESS`, `subject:SUBJECT`; or `sha256:` with its fingerprint.
    known_by: Option<String>,
}

impl NewCertificate {
    fn known_by(&self) -> Result<String, ApiError> {
        let wrong = |title: &str, why: String| ApiError::new(400, title, why);
        match (&self.certificate, &self.known_by) {
            (Some(pem), None) => {
                read_certificate(pem)
            }
            (None, Some(name)) => named(name).ok_or_else(|| {
                let help = "Write sha256: and 64 hexadecimal digits, or dns:, uri:, email:, ip: or subject: with what stands in the certificate.";
                wrong("A certificate is not known by that", help.to_owned())
            }),
            _ => {
                let help = "Give one of the two.".to_owned();
                Err(wrong("A certificate is given, or what it is known by", help))
            }
        }
    }
}

/// What a certificate in PEM is known by: its fingerprint.
pub(crate) fn read_certificate(pem: &str) -> Result<String, ApiError> {
    let wrong = |why: &str| ApiError::new(400, "The certificate cannot be taken", why);
    let read = OfCaller::read_pem(pem).map_err(wrong)?;
    Ok(format!("sha256:{}", read.fingerprint))
}

/// A name as the gateway looks it up; `None` for what is none.
fn named(text: &str) -> Option<String> {
    let (kind, value) = text.trim().split_once(':')?;
    let value = value.trim();
    let sound = (1..=500).contains(&value.len()) && !value.chars().any(char::is_control);
    let value = match kind {
        // With colons between its bytes, as people paste it.
        "sha256" => {
            let hex = value.replace(':', "").to_ascii_lowercase();
            let is_hex = hex.len() == 64 && hex.bytes().all(|b| b.is_ascii_hexdigit());
            is_hex.then_some(hex)?
        }
        "dns" => value.to_ascii_lowercase(),
        "ip" => value.parse::<std::net::IpAddr>().ok()?.to_string(),
        "uri" | "email" | "subject" => value.to_owned(),
        _ => return None,
    };
    sound.then(|| format!("{kind}:{value}"))
}

/// Notes a certificate that a consumer shows by TLS.
#[utoipa::path(post, path = "/api/consumers/{consumer}/certificates", params(("consumer" = String, Path)), request_body = NewCertificate, responses((status = 201, body = CallersCertificateView), (status = 400), (status = 404), (status = 409)))]
pub(crate) async fn create_certificate(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(consumer): Path<String>,
    Json(body): Json<NewCertificate>,
) -> Result<(StatusCode, Json<CallersCertificateView>), ApiError> {
    let known_by = body.known_by()?;
    let made = app
        .directory
        .set_certificate(&publisher.name, &consumer, &known_by)
        .await?;
    app.publication.write_snapshot().await;
    Ok((
        StatusCode::CREATED,
        Json(CallersCertificateView::from(made)),
    ))
}

/// Takes a certificate away: it opens nothing any more.
#[utoipa::path(delete, path = "/api/certificates/{known_by}", params(("known_by" = String, Path)), responses((status = 204), (status = 404)))]
pub(crate) async fn delete_certificate(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(known_by): Path<String>,
) -> Result<StatusCode, ApiError> {
    let certificate = ("certificate", known_by.as_str());
    let directory = &app.directory;
    directory
        .delete_credential(&publisher.name, certificate)
        .await?;
    app.publication.write_snapshot().await;
    Ok(StatusCode::NO_CONTENT)
}

#[cfg(test)]
mod tests {
    use super::named;

    #[test]
    fn names_are_taken_as_people_paste_them() {
        let digits = "AB".repeat(32);
        let pasted = digits
            .as_bytes()
            .chunks(2)
            .map(|b| String::from_utf8_lossy(b).into_owned())
            .collect::<Vec<_>>()
            .join(":");
        for (text, wanted) in [
            (
                format!(" sha256: {pasted} "),
                Some(format!("sha256:{}", "ab".repeat(32))),
            ),
            (format!("sha256:{}", &digits[2..]), None),
            (
                "dns:Desk.Quayside.example".into(),
                Some("dns:desk.quayside.example".into()),
            ),
            ("ip:2001:DB8::1".into(), Some("ip:2001:db8::1".into())),
            ("ip:harbour".into(), None),
            (
                "subject:O=Quayside, CN=kiosk".into(),
                Some("subject:O=Quayside, CN=kiosk".into()),
            ),
            ("uri:".into(), None),
            ("serial:12".into(), None),
            ("kiosk".into(), None),
        ] {
            assert_eq!(named(&text), wanted, "{text}");
        }
    }
}
