//! The table of kinds.

use std::sync::Arc;

use super::{Kinds, grpc, http, soap};

/// Those that ship with the product; the last takes what no other one recognises.
pub fn kinds() -> Kinds {
    Kinds::of_these(vec![
        Arc::new(soap::Soap),
        Arc::new(grpc::Grpc),
        Arc::new(http::Http),
    ])
}
