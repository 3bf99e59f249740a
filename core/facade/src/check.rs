//! Checking a whole set of files.

use std::sync::Arc;

use porch_contract::Finding;

use crate::Files;
use crate::library::Library;
use crate::model::Model;

/// Everything that is wrong with a set of files, or worth knowing.
///
/// Addresses and secrets are those of the environment named `environment` where the files hold it; secrets are taken to be there.
pub fn check(files: &Files, environment: &str) -> Vec<Finding> {
    let model = Model::read(
        Arc::new(files.clone()),
        environment,
        &Arc::new(Library::default()),
    );
    model.findings().to_vec()
}
