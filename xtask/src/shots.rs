//! Not written yet.

use crate::Outcome;

pub(crate) fn run() -> Outcome {
    Err("not written yet".into())
}
