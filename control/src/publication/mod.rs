//! Publication: one environment's draft, check, release, rollback, secrets and what callers are served. The one place where
//! what callers are served changes.

mod answered;
mod content;
mod difference;
mod draft;
mod offered;
mod offers;
mod recent;
mod release;
mod serves;
mod snapshot;
mod telling;

use std::path::PathBuf;
use std::sync::Arc;

use arc_swap::ArcSwap;
use porch_contract::has_errors;
use porch_facade::{CompiledPorch, Library};
use porch_gateway::Shared;
use porch_store::{Seal, Topic};
use tokio::sync::Mutex;

pub(crate) use answered::Given;
pub(crate) use content::{Content, Served};
pub(crate) use difference::{Difference, add_users};
pub(crate) use draft::{FacadeFacts, Pushed};
pub(crate) use offered::{Offer, Offered};
pub(crate) use offers::Offering;
pub(crate) use release::{Released, Taking};

use crate::compute::compute;
use crate::config::AppConfig;
use crate::database::Database;
use crate::error::ApiError;
use crate::trouble::Trouble;
use content::CompiledContent;

/// One environment's publication.
pub(crate) struct Publication {
    environment: String,
    /// Address of the gateway.
    gateway: String,
    state: PathBuf,
    shared: Arc<Shared>,
    database: Database,
    seal: Seal,
    trouble: Arc<Trouble>,
    /// What was read and compiled, as long as it is in use.
    pub(crate) library: Arc<Library>,
    draft: draft::Kept,
    answered: answered::Answered,
    served: ArcSwap<Served>,
    offered: ArcSwap<Offered>,
    /// Whatever changes what is served holds this from reading its base to the end.
    lock: Mutex<Live>,
    /// Whoever writes down what is served holds this from reading it until it stands in its place.
    writing: Arc<Mutex<()>>,
}

/// What is served, as only its lock's holder needs it.
#[derive(Default)]
struct Live {
    compiled: CompiledContent,
    /// Revisions of what it was made from.
    release: i64,
    secrets: i64,
}

impl Publication {
    pub(crate) fn new(
        config: &AppConfig,
        shared: Arc<Shared>,
        database: Database,
        seal: Seal,
        trouble: Arc<Trouble>,
    ) -> Self {
        Self {
            environment: config.environment.clone(),
            gateway: config.gateway.clone(),
            state: config.state.clone(),
            shared,
            database,
            seal,
            trouble,
            library: Arc::default(),
            draft: draft::Kept::default(),
            answered: answered::Answered::default(),
            served: ArcSwap::from_pointee(Served::default()),
            offered: ArcSwap::default(),
            lock: Mutex::default(),
            writing: Arc::default(),
        }
    }

    pub(crate) fn environment(&self) -> &str {
        &self.environment
    }

    /// Remembers what an operation of the draft answered well.
    pub(crate) fn answered(&self, facade: &str, operation: &str, given: Given) {
        self.answered.keep(facade, operation, given);
    }

    /// What is served.
    pub(crate) fn served(&self) -> Arc<Served> {
        self.served.load_full()
    }

    /// What is offered with it.
    pub(crate) fn offered(&self) -> Arc<Offered> {
        self.offered.load_full()
    }

    /// The compiled form of what is served.
    pub(crate) fn porch(&self) -> Arc<CompiledPorch> {
        self.shared.porch.load_full()
    }

    /// What the gateway's workers share.
    pub(crate) fn shared(&self) -> &Arc<Shared> {
        &self.shared
    }

    /// Runs something to its end, whoever waits for it.
    async fn to_the_end<T: Send + 'static>(
        self: &Arc<Self>,
        work: impl Future<Output = Result<T, ApiError>> + Send + 'static,
    ) -> Result<T, ApiError> {
        tokio::spawn(work)
            .await
            .map_err(|e| ApiError::new(500, "The change broke off", e.to_string()))?
    }

    /// Serves what the store has, when that is not what is served: after a start, and after another service's change.
    pub(crate) async fn catch_up(self: &Arc<Self>) -> Result<(), ApiError> {
        let own = self.clone();
        self.to_the_end(async move {
            let mut live = own.lock.lock().await;
            own.catch_up_locked(&mut live).await
        })
        .await
    }

    async fn catch_up_locked(&self, live: &mut Live) -> Result<(), ApiError> {
        let store = self.database.store()?;
        let revisions = store.revisions().await?;
        let of = |topic: Topic| revisions.get(&topic.name()).copied().unwrap_or(0);
        let release = of(Topic::Served(self.environment.clone()));
        let secrets = of(Topic::Secrets(self.environment.clone()));
        let current = self.served();
        let same = live.release == release && live.secrets == secrets;
        if same && !current.from_disk && live.release > 0 {
            return Ok(());
        }
        let served = match store.served(&self.environment).await? {
            Some(found) if found.number == current.number && !current.from_disk => {
                (*current).clone()
            }
            Some(found) => Served {
                number: found.number,
                made_by: found.made_by,
                made_at: found.made_at,
                content: readable(found.content)?,
                from_disk: false,
            },
            None => Served::default(),
        };
        let compiled = self.compile(&served.content, served.number).await?;
        if has_errors(&compiled.findings) {
            let help = "See `findings`.";
            return Err(
                ApiError::new(422, "What would be served has errors", help).with(compiled.findings)
            );
        }
        live.release = release;
        live.secrets = secrets;
        self.serve(live, served, compiled);
        self.write_snapshot().await;
        Ok(())
    }

    /// Compiles content with the environment's secrets, off the async threads.
    async fn compile(&self, content: &Content, number: i64) -> Result<CompiledContent, ApiError> {
        let secrets = self.database.store()?.secrets(&self.environment).await?;
        let (content, library) = (content.clone(), self.library.clone());
        let environment = self.environment.clone();
        compute(move || content.compile(&environment, &secrets, &library, number)).await
    }

    fn serve(&self, live: &mut Live, served: Served, mut compiled: CompiledContent) {
        let porch = std::mem::take(&mut compiled.porch);
        let operations = compiled.facades.iter().filter_map(|f| f.compiled.as_ref());
        tracing::info!(
            "release {}: {} facades with {} operations",
            served.number,
            compiled.facades.len(),
            operations.map(|f| f.operations.len()).sum::<usize>()
        );
        self.shared.porch.store(Arc::new(porch));
        self.offered
            .store(Arc::new(std::mem::take(&mut compiled.offered)));
        self.served.store(Arc::new(served));
        live.compiled = compiled;
    }

    /// Sets a secret; it acts at once.
    pub(crate) async fn set_secret(
        self: &Arc<Self>,
        who: &str,
        name: &str,
        value: &str,
    ) -> Result<(), ApiError> {
        let (own, who) = (self.clone(), who.to_owned());
        let (name, value) = (name.to_owned(), value.to_owned());
        self.to_the_end(async move {
            let mut live = own.lock.lock().await;
            let change = own.database.store()?.change(&who).await?;
            change.set_secret(&own.environment, &name, &value).await?;
            let object = format!("secret {name} of {}", own.environment);
            change.audit("set", &object, serde_json::json!({})).await?;
            let topic = Topic::Secrets(own.environment.clone());
            change.touch(&topic).await?;
            change.commit().await?;
            own.catch_up_locked(&mut live).await
        })
        .await
    }
}

fn readable(content: serde_json::Value) -> Result<Content, ApiError> {
    serde_json::from_value(content)
        .map_err(|e| ApiError::new(500, "The release cannot be read", e.to_string()))
}
