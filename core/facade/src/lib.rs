//! Documents: read, check, compile.
//!
//! A publisher writes backends, facades and environments as YAML beside their contracts and definitions. This crate reads
//! such a set of files ([`Documents`]), says everything that is wrong with it ([`check`]), and compiles what is right
//! into the form that the data plane works from ([`CompiledPorch`]): routes resolved to operations, operations to rules
//! and backends, expressions and conversions compiled, secrets filled in.
#![warn(missing_docs)]

mod backend;
mod bundle;
mod check;
mod compile;
mod compiled;
mod derive;
mod derive_grpc;
mod documents;
mod effective;
mod fits;
mod grpc;
mod look;
mod mask;
mod read;
mod router;
mod source;
mod table;
mod units;
mod update;
mod yaml;

pub use bundle::bundle;
pub use check::check;
pub use compile::{Builder, NATIVE, Secrets};
pub use compiled::*;
pub use derive::{Derived, derive};
pub use documents::{
    Addresses, BackendDoc, BackendKind, EnvironmentDoc, FacadeDoc, MediaType, Per, PlaceDoc,
    json_schemas,
};
pub use effective::{EffectiveRule, effective};
pub use look::{Look, LookOperation, look, look_with};
pub use mask::{MASK, Mask};
pub use read::{Document, Documents, Files, contract};
pub use router::{
    Matched, Miss, Normalised, Router, normalise, percent_decode, percent_encode_segment,
};
pub use source::{Source, is_zip, unzip};
pub use table::{Row, Table, table};
pub use update::{Updated, update};
