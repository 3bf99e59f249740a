//! Certificates that consumers show.

use std::path::Path;

use reqwest::Method;
use serde_json::json;

use crate::client::{Client, segment};
use crate::error::CliError;
use crate::show::{Show, text};

/// `porch consumer certificate`.
pub(super) async fn certificate(
    consumer: &str,
    (file, known_by): (Option<&Path>, Option<&str>),
    remove: bool,
    client: &Client,
    show: &Show,
) -> Result<(), CliError> {
    if let (true, Some(name)) = (remove, known_by) {
        let path = format!("/api/certificates/{}", segment(name));
        client.send(Method::DELETE, &path, None).await?;
        show.value(&json!({ "removed": name }), |_| {
            format!("the certificate {name} opens nothing any more")
        });
        return Ok(());
    }
    let body = match file {
        Some(file) => {
            let read = std::fs::read_to_string(file);
            let text = read.map_err(|e| CliError::new(format!("{}: {e}", file.display())))?;
            json!({ "certificate": text })
        }
        None => json!({ "known_by": known_by }),
    };
    let path = format!("/api/consumers/{}/certificates", segment(consumer));
    let made = client.send(Method::POST, &path, Some(body)).await?;
    show.value(&made, |v| {
        format!(
            "{consumer} shows the certificate {}; it acts at once",
            text(v, "known_by")
        )
    });
    Ok(())
}
