//! Memory that was needed for a while and is needed no more.

/// Gives free memory back to the system.
///
/// Reading a draft of 10,000 operations takes many times what serving them does. When that is let go, the allocator keeps
/// the pages of each of its arenas for later, although the next draft may be weeks away.
pub(crate) fn give_back() {
    #[cfg(all(target_os = "linux", target_env = "gnu"))]
    #[allow(
        unsafe_code,
        reason = "the allocator's own function (malloc_trim(3)): takes a number, touches free memory only, may be called from any thread"
    )]
    // SAFETY: no pointer goes in or out, and the function is thread-safe (malloc_trim(3), attributes: MT-Safe).
    unsafe {
        libc::malloc_trim(0);
    }
}
