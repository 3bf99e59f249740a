//! What a backend says of itself.

use std::any::Any;
use std::fmt::Debug;

use porch_contract::Finding;
use serde_json::Value;

use crate::documents::OperationDoc;

/// What a backend says of itself.
pub trait Definition: Any + Debug + Send + Sync {
    /// What was found when it was read.
    fn findings(&self) -> &[Finding];

    /// What one operation takes and gives: a JSON document with the members `input`, `output` and `components`, the first two
    /// JSON Schemas. `None` where nothing is known.
    fn sides(&self, operation: &OperationDoc) -> Option<Value>;

    /// How the field table shows what the caller sends, where nothing is said; `None`: as it is in all kinds.
    fn is_of_messages(&self) -> bool {
        false
    }
}
