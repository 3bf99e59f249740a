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

#[cfg(all(test, target_os = "linux", target_env = "gnu"))]
mod tests {
    /// Resident bytes of this process (proc(5), `statm`).
    fn resident() -> usize {
        let text = std::fs::read_to_string("/proc/self/statm").unwrap();
        let pages: usize = text.split(' ').nth(1).unwrap().parse().unwrap();
        pages * 4096
    }

    #[test]
    fn free_memory_of_small_pieces_goes_back() {
        const PIECES: usize = 400_000;
        let mut pieces: Vec<Box<[u8; 200]>> = (0..PIECES).map(|_| Box::new([7; 200])).collect();
        // One at the end keeps the arena from shrinking by itself.
        let last = pieces.pop();
        let full = resident();
        drop(pieces);
        super::give_back();
        let after = resident();
        assert!(
            full.saturating_sub(after) > PIECES * 150,
            "{full} bytes before, {after} after"
        );
        drop(last);
    }
}
