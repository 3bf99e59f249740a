//! Who goes first where there are fewer cores than there is work.

/// How much later than the data plane's threads the calling one gets its turn: about a quarter of a core that both want.
///
/// Reading and compiling ten thousand operations takes seconds. On a machine that is busy with calls these would wait behind it
/// for whole slices of time otherwise.
const LATER: i32 = 5;
/// There is none behind it.
#[cfg(target_os = "linux")]
const LAST: i32 = 19;

/// Lets the data plane go before the thread that calls this, and before those that it starts.
pub fn after_calls() {
    #[cfg(target_os = "linux")]
    #[allow(
        unsafe_code,
        reason = "the system's own functions (setpriority(2)): numbers go in and out; 0 is the calling thread, as NPTL has a nice value for each"
    )]
    // SAFETY: no pointer goes in or out, and nothing but the calling thread's turn changes.
    unsafe {
        let own = libc::getpriority(libc::PRIO_PROCESS, 0);
        libc::setpriority(libc::PRIO_PROCESS, 0, (own + LATER).min(LAST));
    }
}

#[cfg(all(test, target_os = "linux"))]
mod tests {
    /// The nice value of the calling thread (proc(5), the nineteenth field of `stat`).
    fn nice() -> i32 {
        let text = std::fs::read_to_string("/proc/thread-self/stat").unwrap();
        let behind_name = text.rsplit(") ").next().unwrap();
        behind_name.split(' ').nth(16).unwrap().parse().unwrap()
    }

    #[test]
    fn only_the_thread_that_asks_and_those_that_it_starts_go_later() {
        let before = nice();
        let later = std::thread::spawn(|| {
            super::after_calls();
            (nice(), std::thread::spawn(nice).join().unwrap())
        });
        let then = (before + super::LATER).min(super::LAST);
        assert_eq!(later.join().unwrap(), (then, then));
        assert_eq!(nice(), before);
    }
}
