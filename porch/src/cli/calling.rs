//! Commands that call, and that look at calls again.

use std::path::PathBuf;

use clap::Args;

#[derive(Args)]
pub(crate) struct CallArgs {
    /// Method and path, as in `GET /sailings/v2/fares/FAR-MAR/foot`, in one text or two, or only the path.
    #[arg(required = true, num_args = 1..=2)]
    pub(crate) request: Vec<String>,
    /// The consumer's key.
    #[arg(long, env = "ELM_PORCH_KEY", hide_env_values = true)]
    pub(crate) key: Option<String>,
    /// The header that carries the key; `Authorization` sends it as a bearer token.
    #[arg(long, default_value = "API-Key")]
    pub(crate) key_header: String,
    /// A name that is shown with a password, in place of a key.
    #[arg(long, value_name = "NAME", requires = "password")]
    pub(crate) user: Option<String>,
    /// The password of that name.
    #[arg(long, env = "ELM_PORCH_PASSWORD", hide_env_values = true)]
    pub(crate) password: Option<String>,
    /// Sign the request (RFC 9421) with the key that is known by this, in place of showing one.
    #[arg(long, value_name = "KEYID", requires = "sign_key")]
    pub(crate) sign: Option<String>,
    /// A file with the private key in PEM (PKCS #8), or with the secret.
    #[arg(long, value_name = "FILE")]
    pub(crate) sign_key: Option<PathBuf>,
    /// The algorithm: hmac-sha256, ed25519, ecdsa-p256-sha256, ecdsa-p384-sha384, rsa-pss-sha512 or rsa-v1_5-sha256.
    #[arg(long, value_name = "NAME", default_value = "ed25519")]
    pub(crate) sign_by: String,
    /// A file with the certificate that is shown by TLS, in PEM.
    #[arg(long, value_name = "FILE", requires = "certificate_key")]
    pub(crate) certificate: Option<PathBuf>,
    /// A file with its private key, in PEM.
    #[arg(long, value_name = "FILE", requires = "certificate")]
    pub(crate) certificate_key: Option<PathBuf>,
    /// A file with the certificates that the gateway's own may be signed with, in PEM; those of the machine unless given.
    #[arg(long, value_name = "FILE")]
    pub(crate) trust: Option<PathBuf>,
    /// Address of the gateway.
    #[arg(
        long,
        env = "ELM_PORCH_GATEWAY",
        default_value = "http://127.0.0.1:3810"
    )]
    pub(crate) gateway: String,
    /// A header field that is sent besides; several can be given.
    #[arg(long, value_name = "NAME: VALUE")]
    pub(crate) header: Vec<String>,
    /// Body in JSON, or as it is where `--header content-type:` says what it is; @FILE reads it from a file.
    #[arg(short, long)]
    pub(crate) body: Option<String>,
}

#[derive(Args)]
pub(crate) struct BacktestArgs {
    /// The facade.
    pub(crate) facade: String,
    /// Changed documents, files or folders, that stand in for the draft's for this once.
    pub(crate) changed: Vec<PathBuf>,
    /// Days that are looked back, 31 at most.
    #[arg(long, default_value_t = 7)]
    pub(crate) days: u32,
}
