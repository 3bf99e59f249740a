//! Documents: read, check, compile.
//!
//! A publisher writes backends, facades, shared rules and environments as YAML beside their contracts and definitions. This crate reads
//! such a set of files ([`Documents`]), says everything that is wrong with it ([`check`]), and compiles what is right
//! into the form that the data plane works from ([`CompiledPorch`]): routes resolved to operations, operations to rules
//! and backends, expressions and conversions compiled, secrets filled in.
#![warn(missing_docs)]

mod check;
mod compile;
mod compiled;
mod derive;
mod documents;
mod effective;
mod file_name;
mod host;
mod index;
mod json_schemas;
pub mod kind;
mod library;
mod look;
mod mask;
mod model;
mod offers;
mod pointers;
mod read;
mod reading;
mod route;
mod shaped;
mod shared;
mod source;
mod table;
mod units;
mod update;
mod wired;
pub mod wiring;
mod yaml;

pub use check::check;
pub use compile::{is_role, policy};
pub use compiled::*;
pub use derive::{Derived, Stored, Wanted};
pub use documents::{
    AcceptDoc, Addresses, Audience, BackendDoc, ColoursDoc, CredentialDoc, EnvironmentDoc,
    FacadeDoc, Granting, GroupDoc, MediaType, Names, OfferDoc, OpensDoc, OperationDoc, PageDoc,
    ParameterDoc, ParameterKind, Per, PlaceDoc, PortalDoc, ReachDoc, Relaxed, Renewing, RulesDoc,
    RulesHead, SignUp, UseDoc, WhenChanged, is_term, is_value_of_term, patch_of,
};
pub use effective::{EffectiveRule, effective};
pub use file_name::is_file_name;
pub use json_schemas::json_schemas;
pub use library::{Library, ReadContract};
pub use look::{Look, LookOperation};
pub use mask::{MASK, Mask};
pub use model::Model;
pub use offers::{Tagged, tagged};
pub use read::{Document, Documents, Files};
pub use reading::{begin, derive, derive_as, is_definition, look, look_with};
pub use route::{
    Captured, Matched, Miss, Normalised, Router, normalise, percent_decode, percent_encode_segment,
};
pub use shaped::{Allowed, Choices, Shaped};
pub use source::{Source, is_zip, unzip};
pub use table::{Row, Sample, Table, sample, table};
pub use units::{Day, Span};
pub use update::{Updated, update};
pub use wired::{WiredCall, WiredRefusal, wired_calls, wired_refusals};
