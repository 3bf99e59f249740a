//! Jobs behind the API: reaching the database, following its changes, sweeping.

use std::sync::Arc;
use std::time::Duration;

use porch_gateway::{Record, Shared};
use porch_store::{Role, Store};
use tokio::sync::mpsc;

use crate::app::App;
use crate::error::ApiError;

/// The first administrator, made when there is no account yet.
pub struct FirstAccount {
    /// Name.
    pub name: String,
    /// Password.
    pub password: String,
}

/// Why the service cannot begin.
#[derive(Debug, thiserror::Error)]
pub enum JobError {
    /// Neither the database nor a release on disk.
    #[error(
        "the database does not answer ({database}), and there is no release on disk to serve: {disk}"
    )]
    Nothing {
        /// What the database said.
        database: String,
        /// What is wrong with the release on disk.
        disk: String,
    },
}

/// Why what the database has is not served.
#[derive(Debug, thiserror::Error)]
enum NoStart {
    #[error("{0}")]
    Store(#[from] porch_store::StoreError),
    #[error("what was released cannot be served: {0:?}")]
    Release(ApiError),
}

/// How often the database is asked again when it does not answer.
const AGAIN: Duration = Duration::from_secs(2);
/// How often changes are looked for, even when none is told.
const LOOK: Duration = Duration::from_secs(5);
const SWEEP: Duration = Duration::from_secs(30);

/// Starts the jobs. Returns when the database has been reached, or when it was found not to answer and the last release
/// is served from disk.
///
/// # Errors
/// When neither is possible: why.
pub async fn start(
    app: Arc<App>,
    shared: Arc<Shared>,
    records: mpsc::Receiver<Record>,
    first: Option<FirstAccount>,
) -> Result<(), JobError> {
    let connected = connect(&app, first.as_ref()).await;
    let writer = app.observatory.clone();
    tokio::spawn(writer.write_records(app.trouble.clone(), records));
    tokio::spawn(crate::watching::watch(shared.clone()));
    tokio::spawn(crate::mail::send(app.clone()));
    tokio::spawn(crate::hooks::send(app.clone()));
    tokio::spawn(look_at_ends(app.clone()));
    tokio::spawn(sweep(app.clone(), shared));
    let Err(database) = connected else {
        // Reading what is served has left behind much more free memory than serving will ask for.
        let _ = tokio::task::spawn_blocking(crate::memory::give_back).await;
        tokio::spawn(follow(app));
        return Ok(());
    };
    let number = match app.publication.load_snapshot().await {
        Ok(number) => number,
        Err(e) => {
            let (database, disk) = (database.to_string(), e.to_string());
            return Err(JobError::Nothing { database, disk });
        }
    };
    let what = format!("the database does not answer; release {number} is served from disk");
    app.trouble.set(what.as_str());
    tracing::warn!("{what} ({database})");
    tokio::spawn(reconnect(app, first));
    Ok(())
}

/// Reaches the database and serves what it has; `Err` says why not.
async fn connect(app: &App, first: Option<&FirstAccount>) -> Result<(), NoStart> {
    let store = Store::open(&app.config.database, app.seal.clone()).await?;
    if let Some(first) = first
        && !store.has_accounts().await?
    {
        let name = first.name.trim();
        let made = async {
            let change = store.change(name).await?;
            let password = first.password.trim();
            change
                .create_account(name, Some(password), Role::Administrator)
                .await?;
            change.commit().await
        };
        made.await?;
        tracing::info!("made the first administrator, {name}");
    }
    app.database.set(store);
    catch_up(app).await.map_err(NoStart::Release)
}

/// Brings what is in memory up to what the store has.
async fn catch_up(app: &App) -> Result<(), ApiError> {
    let changed = app.directory.catch_up().await?;
    app.publication.catch_up().await?;
    app.kept.catch_up().await?;
    if changed {
        app.publication.write_snapshot().await;
    }
    Ok(())
}

async fn reconnect(app: Arc<App>, first: Option<FirstAccount>) {
    loop {
        tokio::time::sleep(AGAIN).await;
        match connect(&app, first.as_ref()).await {
            Ok(()) => {
                app.trouble.set("");
                tracing::info!("the database answers again");
                return follow(app).await;
            }
            Err(why) => tracing::debug!("the database still does not answer: {why}"),
        }
    }
}

/// Takes up what other services change: as soon as it is told, and by looking now and then.
async fn follow(app: Arc<App>) {
    loop {
        let listener = match app.database.store() {
            Ok(store) => store.listen().await.ok(),
            Err(_) => None,
        };
        let Some(mut listener) = listener else {
            tokio::time::sleep(AGAIN).await;
            continue;
        };
        loop {
            // Nothing told in time: look all the same.
            if let Ok(Err(lost)) = tokio::time::timeout(LOOK, listener.next()).await {
                tracing::debug!("changes are not told any more: {lost}");
                break;
            }
            if let Err(e) = catch_up(&app).await {
                tracing::warn!("a change cannot be taken up: {e:?}");
            }
        }
        tokio::time::sleep(AGAIN).await;
    }
}

/// How often it is looked at what ends soon.
const ENDS: Duration = Duration::from_secs(10);

/// Lets agreements go on that do so by themselves, and tells of those and of keys that end.
async fn look_at_ends(app: Arc<App>) {
    loop {
        tokio::time::sleep(ENDS).await;
        if app.database.store().is_err() {
            continue;
        }
        let offered = app.publication.offered();
        match app.directory.look_at_ends(&offered).await {
            Ok(true) => {
                app.publication.write_snapshot().await;
                app.told();
            }
            Ok(false) => {}
            Err(e) => tracing::debug!("what ends soon cannot be looked at: {e:?}"),
        }
    }
}

/// Usage is kept for so many days.
const USAGE_DAYS: i64 = 90;
/// So many sweeps lie between two looks at what is too old.
const SWEEPS_AN_HOUR: u32 = 3600 / SWEEP.as_secs() as u32;

async fn sweep(app: Arc<App>, shared: Arc<Shared>) {
    let (mut served, mut sweeps) = (None, 0u32);
    loop {
        tokio::time::sleep(SWEEP).await;
        shared.sweep();
        app.attempts.sweep();
        app.people.sweep();
        app.letters.sweep();
        app.hooks.sweep();
        if sweeps.is_multiple_of(SWEEPS_AN_HOUR)
            && let Ok(store) = app.database.store()
        {
            let before = porch_store::now_ms() / 60_000 - USAGE_DAYS * 24 * 60;
            match store.forget_usage(before).await {
                Ok(0) => {}
                Ok(gone) => tracing::info!("{gone} rows of old usage were let go"),
                Err(e) => tracing::debug!("old usage cannot be let go: {e}"),
            }
            if let Err(e) = store.forget_deliveries().await {
                tracing::debug!("old events cannot be let go: {e}");
            }
        }
        sweeps = sweeps.wrapping_add(1);
        let forgot = app.publication.forget_model();
        let now = Some(app.publication.served().number);
        // Both leave behind much more free memory than serving will ever ask for.
        if forgot || served != now {
            served = now;
            let _ = tokio::task::spawn_blocking(crate::memory::give_back).await;
            tracing::debug!("free memory was given back");
        }
    }
}
