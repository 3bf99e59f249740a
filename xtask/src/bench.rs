//! Not written yet.

use crate::Outcome;

pub(crate) fn run(_: &[String]) -> Outcome {
    Err("not written yet".into())
}
