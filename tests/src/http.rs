//! Requests by HTTP.

use super::*;

/// One HTTP request, its answer whole.
pub fn http(method: &str, url: &str, headers: &[(&str, &str)], body: &str) -> (u16, String) {
    let reply = Http::send(method, url, headers, body.as_bytes().to_vec());
    (reply.status, reply.text())
}

/// An answer.
#[derive(Debug)]
pub struct Http {
    /// Status.
    pub status: u16,
    /// Header fields.
    pub headers: BTreeMap<String, String>,
    /// Body.
    pub body: Vec<u8>,
    /// Whether the body came whole.
    pub whole: bool,
}

impl Http {
    /// Sends one request; a connection that cannot be had fails the test.
    pub fn send(method: &str, url: &str, headers: &[(&str, &str)], body: Vec<u8>) -> Self {
        Self::try_send(method, url, headers, body).unwrap_or_else(|e| panic!("{method} {url}: {e}"))
    }

    /// Sends one request.
    pub fn try_send(
        method: &str,
        url: &str,
        headers: &[(&str, &str)],
        body: Vec<u8>,
    ) -> Result<Self, String> {
        thread_local! {
            static RUNTIME: tokio::runtime::Runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        }
        let mut request = reqwest::Client::builder()
            .redirect(reqwest::redirect::Policy::none())
            .build()
            .unwrap()
            .request(method.parse().unwrap(), url)
            .timeout(Duration::from_secs(30));
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        if !body.is_empty() {
            request = request.body(body);
        }
        let task = Self::read(request);
        if tokio::runtime::Handle::try_current().is_ok() {
            // Within an asynchronous test: on a thread beside it.
            return std::thread::scope(|s| {
                s.spawn(|| {
                    tokio::runtime::Builder::new_current_thread()
                        .enable_all()
                        .build()
                        .unwrap()
                        .block_on(task)
                })
                .join()
                .unwrap()
            });
        }
        RUNTIME.with(|r| r.block_on(task))
    }

    async fn read(request: reqwest::RequestBuilder) -> Result<Self, String> {
        let mut answer = request.send().await.map_err(|e| format!("{e:?}"))?;
        let field = |v: &[u8]| String::from_utf8_lossy(v).into_owned();
        let headers = answer.headers().iter();
        let mut read = Self {
            status: answer.status().as_u16(),
            headers: headers
                .map(|(k, v)| (k.to_string(), field(v.as_bytes())))
                .collect(),
            body: Vec::new(),
            whole: true,
        };
        loop {
            match answer.chunk().await {
                Ok(Some(chunk)) => read.body.extend_from_slice(&chunk),
                Ok(None) => return Ok(read),
                Err(_) => {
                    read.whole = false;
                    return Ok(read);
                }
            }
        }
    }

    /// The body as text.
    pub fn text(&self) -> String {
        String::from_utf8_lossy(&self.body).into_owned()
    }

    /// The body as JSON.
    pub fn json(&self) -> Value {
        serde_json::from_slice(&self.body)
            .unwrap_or_else(|e| panic!("no JSON ({e}): {}", self.text()))
    }

    /// A header field, or an empty text.
    pub fn header(&self, name: &str) -> &str {
        self.headers.get(name).map_or("", String::as_str)
    }
}
