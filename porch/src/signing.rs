//! Requests that are signed before they are sent (RFC 9421).

use std::path::Path;

use porch_proof::{Message, Saying, SignedBy, Signer, digest_of};
use reqwest::Request;
use reqwest::header::{HeaderName, HeaderValue};

use crate::error::CliError;

/// A request as its signature takes it apart.
struct Asked<'r> {
    request: &'r Request,
    authority: String,
}

impl Message for Asked<'_> {
    fn method(&self) -> &str {
        self.request.method().as_str()
    }

    fn scheme(&self) -> &str {
        self.request.url().scheme()
    }

    fn authority(&self) -> &str {
        &self.authority
    }

    fn path(&self) -> &str {
        self.request.url().path()
    }

    fn query(&self) -> Option<&str> {
        self.request.url().query()
    }

    fn field(&self, name: &str) -> Vec<&[u8]> {
        let all = self.request.headers().get_all(name).into_iter();
        all.map(reqwest::header::HeaderValue::as_bytes).collect()
    }
}

/// Signs a request: what is called, and its body where it has one.
pub(crate) fn sign(
    request: &mut Request,
    (keyid, by): (&str, &str),
    file: &Path,
) -> Result<(), CliError> {
    let Some(algorithm) = SignedBy::of(by) else {
        let known = SignedBy::ALL.map(SignedBy::name).join(", ");
        let help = format!("known are {known}");
        return Err(
            CliError::new(format!("“{by}” is no algorithm of signatures"))
                .help(help)
                .usage(),
        );
    };
    let wrong = |why: String| CliError::new(format!("{}: {why}", file.display()));
    let text = std::fs::read(file).map_err(|e| wrong(e.to_string()))?;
    let signer = Signer::of(algorithm, &text).map_err(wrong)?;
    let mut components = vec!["@method", "@authority", "@path", "@query"];
    if let Some(body) = request.body().and_then(|b| b.as_bytes()) {
        let digest = digest_of(body);
        put(request, "content-digest", &digest)?;
        components.push("content-digest");
    }
    let mut random = [0u8; 16];
    getrandom::fill(&mut random).map_err(|_| CliError::new("the system gives no random bytes"))?;
    let nonce: String = random.iter().map(|b| format!("{b:02x}")).collect();
    let url = request.url();
    let host = url.host_str().unwrap_or_default();
    let authority = url
        .port()
        .map_or(host.to_owned(), |port| format!("{host}:{port}"));
    let saying = Saying {
        keyid,
        created: chrono::Utc::now().timestamp(),
        nonce: &nonce,
        tag: None,
    };
    let asked = Asked { request, authority };
    let (input, signature) = signer
        .sign(&asked, &components, &saying)
        .map_err(CliError::new)?;
    put(request, "signature-input", &input)?;
    put(request, "signature", &signature)
}

fn put(request: &mut Request, name: &'static str, value: &str) -> Result<(), CliError> {
    let value = HeaderValue::from_str(value)
        .map_err(|_| CliError::new(format!("{name} cannot be sent as “{value}”")))?;
    request
        .headers_mut()
        .insert(HeaderName::from_static(name), value);
    Ok(())
}
