//! Why a backend gave no answer.

use std::error::Error;
use std::io;
use std::time::Duration;

use tokio_rustls::rustls;

/// Why a call gave no answer.
#[derive(Debug)]
pub(crate) enum CallFailure {
    /// No connection.
    Connect(DialError),
    /// No connection in time.
    ConnectTimeout,
    /// As many connections are in use as it takes, and none became free in time.
    Busy(u32),
    /// The connection broke before the answer's head was there.
    Broken(String),
    /// No answer in time.
    Timeout,
    /// It is left alone for so long, since too many of its calls failed.
    Resting(Duration),
}

/// Why there is no connection to a backend.
#[derive(Debug, thiserror::Error)]
pub(crate) enum DialError {
    #[error("{0}")]
    Refused(#[from] io::Error),
    /// The protocol's own beginning failed.
    #[error("{0}")]
    Handshake(String),
    /// The backend's certificate is not one that is trusted.
    #[error("its certificate is not accepted: {0}")]
    Certificate(rustls::CertificateError),
    /// What answers there speaks no TLS.
    #[error("it answers without TLS: its address begins with http://, or another port is meant")]
    Plain,
    /// TLS came to nothing for another reason.
    #[error("TLS failed: {0}")]
    Tls(String),
    #[error("its `trust` cannot be read: {0}")]
    Trust(String),
    #[error("{0}")]
    Config(String),
}

impl DialError {
    /// Why a TLS handshake failed.
    pub(super) fn of_tls(error: io::Error) -> Self {
        let inner = error.get_ref().and_then(|e| e.downcast_ref());
        match inner {
            Some(rustls::Error::InvalidCertificate(why)) => Self::Certificate(why.clone()),
            Some(rustls::Error::InvalidMessage(_)) => Self::Plain,
            Some(other) => Self::Tls(other.to_string()),
            None if error.kind() == io::ErrorKind::UnexpectedEof => {
                Self::Tls("the connection was closed before it began".into())
            }
            None => Self::Tls(deepest(&error)),
        }
    }

    /// The error's name in `Proxy-Status` (RFC 9209 §2.3).
    pub(crate) fn proxy_status(&self) -> &'static str {
        match self {
            Self::Certificate(_) => "tls_certificate_error",
            Self::Plain | Self::Tls(_) => "tls_protocol_error",
            Self::Trust(_) | Self::Config(_) => "proxy_configuration_error",
            Self::Handshake(_) => "http_protocol_error",
            Self::Refused(_) => "connection_refused",
        }
    }
}

/// What lies at the bottom of an error.
pub(crate) fn deepest(error: &dyn Error) -> String {
    let mut at = error;
    while let Some(inner) = at.source() {
        at = inner;
    }
    at.to_string()
}
