//! Where an operation is among all that are served.

/// An operation's place in a porch: its facade and its own index there.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct OperationIndex {
    /// Index of the facade.
    pub facade: u32,
    /// Index of the operation in it.
    pub operation: u32,
}
