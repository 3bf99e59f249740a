//! Work that takes the processor: on threads of its own kind, a little at a time, and with an end.

use std::sync::LazyLock;
use std::time::Duration;

use tokio::sync::Semaphore;

use crate::error::ApiError;

/// So many may work at the same time; the data plane has cores of its own to find.
const AT_ONCE: usize = 2;
/// Whoever asked waits no longer than this; what was begun ends by its own bounds.
const PATIENCE: Duration = Duration::from_secs(120);

static PLACES: LazyLock<Semaphore> = LazyLock::new(|| Semaphore::new(AT_ONCE));

/// Does some work on the blocking pool and waits for it.
pub(crate) async fn compute<T: Send + 'static>(
    work: impl FnOnce() -> T + Send + 'static,
) -> Result<T, ApiError> {
    let broke_off = |e: &dyn std::fmt::Display| {
        ApiError::new(500, "The work broke off", format!("{e}; see the log."))
    };
    let place = PLACES.acquire().await.map_err(|e| broke_off(&e))?;
    let working = tokio::task::spawn_blocking(move || {
        let done = work();
        drop(place);
        done
    });
    match tokio::time::timeout(PATIENCE, working).await {
        Ok(Ok(done)) => Ok(done),
        Ok(Err(e)) => Err(broke_off(&e)),
        Err(_) => Err(ApiError::new(
            503,
            "This takes too long",
            format!(
                "It was not done within {} seconds. Try a part of it.",
                PATIENCE.as_secs()
            ),
        )),
    }
}
