//! The client's way to the service.

use std::path::PathBuf;

use reqwest::Method;
use serde_json::Value;

use crate::error::CliError;

/// Where the session of `porch login` is kept: address and token, a line each.
fn session_file() -> Option<PathBuf> {
    let base = std::env::var_os("XDG_CONFIG_HOME")
        .map(PathBuf::from)
        .or_else(|| Some(PathBuf::from(std::env::var_os("HOME")?).join(".config")))?;
    Some(base.join("elm-porch").join("session"))
}

fn kept_session() -> Option<(String, String)> {
    let text = std::fs::read_to_string(session_file()?).ok()?;
    let mut lines = text.lines();
    Some((lines.next()?.to_owned(), lines.next()?.to_owned()))
}

/// Keeps a session, readable by its owner only.
pub(crate) fn keep_session(url: &str, token: &str) -> Result<PathBuf, CliError> {
    let path = session_file().ok_or_else(|| {
        CliError::new("there is no home folder to keep the session in").help("use ELM_PORCH_TOKEN")
    })?;
    let fail = |e: std::io::Error| CliError::new(format!("{}: {e}", path.display()));
    if let Some(folder) = path.parent() {
        std::fs::create_dir_all(folder).map_err(fail)?;
    }
    std::fs::write(&path, "").map_err(fail)?;
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o600)).map_err(fail)?;
    }
    std::fs::write(&path, format!("{url}\n{token}\n")).map_err(fail)?;
    Ok(path)
}

/// Forgets the session.
pub(crate) fn forget_session() {
    if let Some(path) = session_file() {
        let _ = std::fs::remove_file(path);
    }
}

/// Talks to the service.
pub(crate) struct Client {
    http: reqwest::Client,
    /// Address of the service.
    pub(crate) url: String,
    token: Option<String>,
}

impl Client {
    pub(crate) fn new(url: Option<String>, token: Option<String>) -> Result<Self, CliError> {
        let kept = kept_session();
        let url = url
            .or_else(|| kept.as_ref().map(|(u, _)| u.clone()))
            .unwrap_or_else(|| "http://127.0.0.1:3820".into());
        let url = url.trim().trim_end_matches('/').to_owned();
        let token = token
            .map(|t| t.trim().to_owned())
            .or_else(|| kept.filter(|(u, _)| *u == url).map(|(_, t)| t));
        let http = reqwest::Client::builder()
            .build()
            .map_err(|e| CliError::new(e.to_string()))?;
        Ok(Self { http, url, token })
    }

    pub(crate) async fn get(&self, path: &str) -> Result<Value, CliError> {
        self.send(Method::GET, path, None).await
    }

    pub(crate) async fn send(
        &self,
        method: Method,
        path: &str,
        body: Option<Value>,
    ) -> Result<Value, CliError> {
        let mut request = self.http.request(method, format!("{}{path}", self.url));
        if let Some(token) = &self.token {
            request = request.bearer_auth(token);
        }
        if let Some(body) = body {
            request = request.json(&body);
        }
        let answer = request.send().await.map_err(|e| {
            let why = if e.is_connect() {
                "nothing answers there"
            } else {
                "it broke off"
            };
            CliError::new(format!(
                "the service at {} cannot be reached: {why}",
                self.url
            ))
            .help("start it with `porch serve`, or give its address with --url or ELM_PORCH_URL")
        })?;
        let status = answer.status().as_u16();
        let bytes = answer
            .bytes()
            .await
            .map_err(|e| CliError::new(format!("the service broke off: {e}")))?;
        let value: Value = serde_json::from_slice(&bytes).unwrap_or(Value::Null);
        if status >= 400 {
            return Err(CliError::from_problem(status, &value));
        }
        Ok(value)
    }
}

/// A text as a segment of a path.
pub(crate) fn segment(text: &str) -> String {
    let mut out = String::new();
    porch_facade::percent_encode_segment(&mut out, text);
    out
}
