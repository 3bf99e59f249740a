//! Asking a running gRPC server for its definition, by server reflection (`grpc.reflection.v1`, else `v1alpha`).

use std::collections::{BTreeSet, HashMap};
use std::net::SocketAddr;
use std::time::Duration;

use base64::Engine;
use porch_facade::{Files, Source};
use tonic::metadata::MetadataValue;
use tonic::transport::{Certificate, Channel, ClientTlsConfig, Endpoint, Identity};
use tonic::{Code, Request, Status};

use crate::{Allowed, FetchError, Fetched, MAX_TOTAL, TIME, is_local};

/// Files of one server, at most.
const MAX_FILES: usize = 10_000;

/// Whether what somebody wrote is the address of a server to be asked: `HOST:PORT`, or `https://HOST:PORT`.
pub fn is_server(text: &str) -> bool {
    let text = text.trim();
    let rest = text.strip_prefix("https://").unwrap_or(text);
    let Some((host, port)) = rest.trim_end_matches('/').rsplit_once(':') else {
        return false;
    };
    let plain =
        host.starts_with('[') && host.ends_with(']') || !host.contains([':', '/', '\\', ' ']);
    !host.is_empty() && plain && port.parse::<u16>().is_ok()
}

/// Asks a server for its definition.
///
/// # Errors
/// When it cannot be reached, or does not tell.
pub async fn reflect(text: &str, allowed: &Allowed) -> Result<Fetched, FetchError> {
    match tokio::time::timeout(TIME, ask(text.trim(), allowed)).await {
        Ok(done) => done,
        Err(_) => Err(FetchError::Answer(
            text.to_owned(),
            format!("it took more than {TIME:?} in all"),
        )),
    }
}

/// Why no channel to a server can be had.
#[derive(Debug, thiserror::Error)]
enum NoChannel {
    #[error("no connection: {0}")]
    Unreachable(String),
    /// An address or a trust that cannot be used.
    #[error("{0}")]
    Unusable(#[from] tonic::transport::Error),
}

/// A channel to the first address that answers, or why none does.
async fn connected(
    found: &[SocketAddr],
    secure: bool,
    host: &str,
    allowed: &Allowed,
) -> Result<Channel, NoChannel> {
    let mut why = "nothing answers there".to_owned();
    for address in found {
        // The connection goes to the addresses that were looked at, whatever the name means a moment later.
        let scheme = if secure { "https" } else { "http" };
        let mut endpoint = Endpoint::from_shared(format!("{scheme}://{address}"))?
            .connect_timeout(Duration::from_secs(5));
        if secure {
            let name = match allowed.server_name.as_str() {
                "" => host,
                name => name,
            };
            let tls = ClientTlsConfig::new().domain_name(name);
            let tls = match &allowed.own {
                Some(own) => tls.identity(Identity::from_pem(&own.chain, &own.key)),
                None => tls,
            };
            let tls = if allowed.trust.is_empty() {
                tls.with_native_roots()
            } else {
                tls.ca_certificate(Certificate::from_pem(&allowed.trust))
            };
            endpoint = endpoint.tls_config(tls)?;
        }
        match endpoint.connect().await {
            Ok(made) => return Ok(made),
            Err(e) => why = deepest(&e),
        }
    }
    Err(NoChannel::Unreachable(why))
}

/// What a server's status means for the one who asked for its definition.
fn refusal(text: &str, status: &Status) -> FetchError {
    let failed = |what: String| FetchError::Answer(text.to_owned(), what);
    match status.code() {
        Code::Unimplemented => failed(
            "it speaks gRPC, but has no reflection: give its .proto files or a descriptor set"
                .into(),
        ),
        Code::Unauthenticated => FetchError::Login(text.to_owned(), 401),
        Code::PermissionDenied => FetchError::Login(text.to_owned(), 403),
        Code::ResourceExhausted => {
            FetchError::TooMuch(text.to_owned(), status.message().to_owned())
        }
        code => failed(format!("it answers {code:?}: {}", status.message())),
    }
}

/// A `FileDescriptorSet` (descriptor.proto) of files, each as its bytes.
fn as_set(files: &[Vec<u8>]) -> Vec<u8> {
    let mut set = Vec::new();
    for file in files {
        set.push(0x0a);
        let mut len = file.len();
        while len >= 0x80 {
            set.push(len as u8 | 0x80);
            len >>= 7;
        }
        set.push(len as u8);
        set.extend_from_slice(file);
    }
    set
}

async fn ask(text: &str, allowed: &Allowed) -> Result<Fetched, FetchError> {
    let secure = text.starts_with("https://");
    let authority = text
        .strip_prefix("https://")
        .unwrap_or(text)
        .trim_end_matches('/');
    let failed = |what: String| FetchError::Answer(text.to_owned(), what);
    let host = authority
        .rsplit_once(':')
        .map_or(authority, |(h, _)| h)
        .trim_matches(['[', ']']);
    let found: Vec<SocketAddr> = tokio::net::lookup_host(authority)
        .await
        .map_err(|_| failed("there is no such host".into()))?
        .collect();
    if let Some(local) = found.iter().map(SocketAddr::ip).find(|ip| is_local(*ip))
        && !allowed.local
    {
        return Err(FetchError::Local(text.to_owned(), local));
    }
    let channel = connected(&found, secure, host, allowed)
        .await
        .map_err(|e| failed(e.to_string()))?;
    let mut told = v1::files(channel.clone(), allowed).await;
    if matches!(&told, Err(s) if s.code() == Code::Unimplemented) {
        told = v1alpha::files(channel, allowed).await;
    }
    let files = told.map_err(|s| refusal(text, &s))?;
    let set = as_set(&files);
    let main = "reflection.descriptors.txt".to_owned();
    let address = if secure {
        text.trim_end_matches('/').to_owned()
    } else {
        format!("http://{authority}")
    };
    Ok(Fetched {
        source: Source {
            files: Files::from([(main.clone(), porch_grpc::read::as_text(&set))]),
            main,
            address,
            trust: allowed.trust.clone(),
            ..Source::default()
        },
        missing: Vec::new(),
    })
}

fn deepest(error: &dyn std::error::Error) -> String {
    let mut at = error;
    while let Some(inner) = at.source() {
        at = inner;
    }
    at.to_string()
}

fn with_login<T>(mut request: Request<T>, allowed: &Allowed) -> Request<T> {
    if let Some((name, password)) = &allowed.login {
        let encoded =
            base64::engine::general_purpose::STANDARD.encode(format!("{name}:{password}"));
        if let Ok(value) = MetadataValue::try_from(format!("Basic {encoded}")) {
            request.metadata_mut().insert("authorization", value);
        }
    }
    request
}

/// Name and imports of a file descriptor.
fn name_and_imports(bytes: &[u8]) -> Option<(String, Vec<String>)> {
    let file = porch_grpc::descriptor::file(bytes)?;
    Some((file.name, file.dependency))
}

/// The two versions have types of their own, alike but for their names.
macro_rules! version {
    ($name:ident) => {
        mod $name {
            use super::*;
            use tonic_reflection::pb::$name::ServerReflectionRequest;
            use tonic_reflection::pb::$name::server_reflection_client::ServerReflectionClient;
            use tonic_reflection::pb::$name::server_reflection_request::MessageRequest;
            use tonic_reflection::pb::$name::server_reflection_response::MessageResponse;

            async fn one(
                client: &mut ServerReflectionClient<Channel>,
                request: MessageRequest,
                allowed: &Allowed,
            ) -> Result<MessageResponse, Status> {
                let asked = ServerReflectionRequest {
                    host: String::new(),
                    message_request: Some(request),
                };
                let mut answers = client
                    .server_reflection_info(with_login(
                        Request::new(tokio_stream::once(asked)),
                        allowed,
                    ))
                    .await?
                    .into_inner();
                let answer = answers.message().await?.and_then(|a| a.message_response);
                match answer {
                    Some(MessageResponse::ErrorResponse(e)) => {
                        Err(Status::new(Code::from_i32(e.error_code), e.error_message))
                    }
                    Some(answer) => Ok(answer),
                    None => Err(Status::internal("its reflection gives no answer")),
                }
            }

            pub(super) async fn files(
                channel: Channel,
                allowed: &Allowed,
            ) -> Result<Vec<Vec<u8>>, Status> {
                let mut client =
                    ServerReflectionClient::new(channel).max_decoding_message_size(MAX_TOTAL);
                let services = match one(
                    &mut client,
                    MessageRequest::ListServices(String::new()),
                    allowed,
                )
                .await?
                {
                    MessageResponse::ListServicesResponse(list) => {
                        list.service.into_iter().map(|s| s.name).collect::<Vec<_>>()
                    }
                    _ => return Err(Status::internal("its reflection lists no services")),
                };
                let mut gathered = Gathered::default();
                let mut open: Vec<MessageRequest> = services
                    .into_iter()
                    .filter(|s| !s.starts_with("grpc.reflection."))
                    .map(MessageRequest::FileContainingSymbol)
                    .collect();
                while let Some(request) = open
                    .pop()
                    .or_else(|| gathered.next().map(MessageRequest::FileByFilename))
                {
                    let is_import = matches!(request, MessageRequest::FileByFilename(_));
                    let answer = match one(&mut client, request, allowed).await {
                        // What it imports and does not know is found out when it is read.
                        Err(_) if is_import => continue,
                        other => other?,
                    };
                    let MessageResponse::FileDescriptorResponse(found) = answer else {
                        return Err(Status::internal("its reflection answers another question"));
                    };
                    gathered.add(found.file_descriptor_proto)?;
                }
                Ok(gathered.sorted())
            }
        }
    };
}

/// The files of a definition as they come in, and those that they import and that are still missing.
#[derive(Default)]
struct Gathered {
    all: HashMap<String, Vec<u8>>,
    missing: BTreeSet<String>,
    total: usize,
}

impl Gathered {
    fn next(&mut self) -> Option<String> {
        self.missing.pop_first()
    }

    fn add(&mut self, files: Vec<Vec<u8>>) -> Result<(), Status> {
        for bytes in files {
            let Some((name, imports)) = name_and_imports(&bytes) else {
                continue;
            };
            self.total += bytes.len();
            self.missing.remove(&name);
            let new = imports.into_iter();
            self.missing
                .extend(new.filter(|i| !self.all.contains_key(i) && *i != name));
            self.all.insert(name, bytes);
        }
        if self.all.len() > MAX_FILES || self.total > MAX_TOTAL {
            return Err(Status::resource_exhausted(format!(
                "its definition has more than {MAX_FILES} files or {MAX_TOTAL} bytes"
            )));
        }
        Ok(())
    }

    fn sorted(self) -> Vec<Vec<u8>> {
        let mut named: Vec<(String, Vec<u8>)> = self.all.into_iter().collect();
        named.sort();
        named.into_iter().map(|(_, bytes)| bytes).collect()
    }
}

version!(v1);
version!(v1alpha);
