//! Where things are in the demo.

use std::path::PathBuf;

use crate::root;

pub(crate) const GATEWAY: u16 = 3810;
pub(crate) const CONSOLE: u16 = 3820;
pub(crate) const ACCOUNT: &str = "inge";
pub(crate) const PASSWORD: &str = "harbour-lights";

/// Path of a program of this workspace.
pub(crate) fn program(name: &str) -> PathBuf {
    let target =
        std::env::var_os("CARGO_TARGET_DIR").map_or_else(|| root().join("target"), PathBuf::from);
    target.join("debug").join(name)
}
