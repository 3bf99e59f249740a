//! The table of protocols.

use porch_facade::Call;

#[cfg(test)]
use super::knock;
use super::{Protocol, grpc, http, soap};

/// The protocols.
const PROTOCOLS: &[&dyn Protocol] = &[
    &http::Http,
    &soap::Soap,
    &grpc::Grpc,
    #[cfg(test)]
    &knock::Knock,
];

/// The protocol of a call.
pub(crate) fn protocol(call: &dyn Call) -> Option<&'static dyn Protocol> {
    let kind = call.kind();
    PROTOCOLS.iter().find(|p| p.kind() == kind).copied()
}
