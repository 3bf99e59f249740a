//! What is said of definitions: `porch look` and `porch derive`.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

/// How the server that has a definition is called.
#[derive(Args, Default)]
pub(crate) struct Reading {
    /// Name and password for the address, as NAME:PASSWORD.
    #[arg(
        long,
        value_name = "NAME:PASSWORD",
        env = "ELM_PORCH_DEFINITION_LOGIN",
        hide_env_values = true
    )]
    pub(crate) login: Option<String>,
    /// Certificates in PEM that a server's own may be signed with, for https://.
    #[arg(long, value_name = "FILE")]
    pub(crate) trust: Option<PathBuf>,
    /// The name that its certificate must have, where that is another than the address's.
    #[arg(long, value_name = "HOST")]
    pub(crate) server_name: Option<String>,
    /// A certificate in PEM that it is shown, where it asks for one.
    #[arg(long, value_name = "FILE", requires = "certificate_key")]
    pub(crate) certificate: Option<PathBuf>,
    /// That certificate's private key, in PEM.
    #[arg(long, value_name = "FILE", requires = "certificate")]
    pub(crate) certificate_key: Option<PathBuf>,
}

#[derive(Args)]
pub(crate) struct LookArgs {
    /// A file, a folder, a ZIP, an address (https://…?wsdl), HOST:PORT of a gRPC server, a sample call (`curl …`), or `-` for
    /// standard input.
    pub(crate) source: String,
    /// The file to begin with, when several could be meant.
    #[arg(long, value_name = "FILE")]
    pub(crate) main: Option<String>,
    /// Let imports lead to addresses of this host and its link.
    #[arg(long)]
    pub(crate) allow_local: bool,
    #[command(flatten)]
    pub(crate) reading: Reading,
    /// Also show each operation's inputs and outputs.
    #[arg(long)]
    pub(crate) fields: bool,
}

#[derive(Args)]
pub(crate) struct DeriveArgs {
    /// A file, a folder, a ZIP, an address (https://…?wsdl), HOST:PORT of a gRPC server, a sample call (`curl …`), or `-` for
    /// standard input.
    pub(crate) source: String,
    /// The file to begin with, when several could be meant.
    #[arg(long, value_name = "FILE")]
    pub(crate) main: Option<String>,
    /// Let imports lead to addresses of this host and its link.
    #[arg(long)]
    pub(crate) allow_local: bool,
    /// Folder to write to.
    #[arg(short, long, value_name = "DIR")]
    pub(crate) output: PathBuf,
    /// Name of backend and facade; the definition's own unless given.
    #[arg(long)]
    pub(crate) name: Option<String>,
    /// Operations to take, by their names in the definition; for gRPC also whole services.
    #[arg(long, value_delimiter = ',')]
    pub(crate) only: Vec<String>,
    #[command(flatten)]
    pub(crate) reading: Reading,
    /// Where the backend is called, in place of the first address in the definition.
    #[arg(long, value_name = "URL")]
    pub(crate) address: Option<String>,
    /// How members, path variables and query parameters are called: `routeCode`, or as the definition has them. An update keeps
    /// what was chosen.
    #[arg(long, value_enum, value_name = "STYLE", conflicts_with = "update")]
    pub(crate) names: Option<NameStyle>,
    /// Set the secrets that a sample call carried, in the service, by the names that the backend's document has.
    #[arg(long, conflicts_with = "update")]
    pub(crate) keep_secrets: bool,
    /// Write over files that are there already.
    #[arg(long)]
    pub(crate) overwrite: bool,
    /// Bring documents that were derived before up to the definition as it is now; your edits stay.
    #[arg(long, conflicts_with_all = ["overwrite", "only"])]
    pub(crate) update: bool,
}

#[derive(Args)]
pub(crate) struct NewArgs {
    /// Name of the facade.
    pub(crate) name: String,
    /// Operations: `GET /berths/{berth}`, and what it answers behind it, in JSON.
    #[arg(value_name = "OPERATION")]
    pub(crate) operations: Vec<String>,
    /// File of exchanges: requests (`POST /berths`, fields, a blank line, body) and answers (`HTTP/1.1 201`, …) one behind the
    /// other.
    #[arg(long, value_name = "FILE")]
    pub(crate) exchanges: Option<PathBuf>,
    /// Title for people; the name unless given.
    #[arg(long)]
    pub(crate) title: Option<String>,
    /// Folder to write to.
    #[arg(short, long, value_name = "DIR", default_value = ".")]
    pub(crate) output: PathBuf,
    /// Write over files that are there already.
    #[arg(long)]
    pub(crate) overwrite: bool,
}

/// How what a definition names is called in JSON; camel unless given.
#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum NameStyle {
    /// In lower camel case: `RouteCode` becomes `routeCode`.
    Camel,
    /// As in the definition.
    AsIs,
}
