//! What callers are served: the one place where it changes.

use std::collections::HashMap;
use std::sync::Arc;

use porch_contract::{Finding, has_errors};
use porch_facade::{
    Addresses, Builder, CompiledPorch, Documents, EnvironmentDoc, PlaceDoc, Secrets,
};
use porch_gateway::Pauses;
use porch_rules::key::{Consumer, KeyEntry, KeyHash, KeyTable};
use porch_store::{Store, StoreError};
use serde::{Deserialize, Serialize};

use crate::app::App;
use crate::error::ApiError;
use crate::served::{Content, ReleasedFacade, Served};

/// What is kept on disk, so that callers are served without the database.
#[derive(Serialize, Deserialize)]
struct Snapshot {
    environment: String,
    served: Served,
    consumers: Vec<(i64, String, bool)>,
    keys: Vec<SnapshotKey>,
    pauses: Vec<(String, String)>,
    /// All secrets in one sealed text, in hexadecimal.
    secrets: String,
}

#[derive(Serialize, Deserialize)]
struct SnapshotKey {
    hash: String,
    prefix: String,
    consumer: i64,
    ends_at: Option<i64>,
    paused: bool,
}

const SNAPSHOT: &str = "served.json";

/// Compiles what a release holds.
pub(crate) fn compile(
    content: &Content,
    environment: &str,
    secrets: Option<&HashMap<String, String>>,
    number: i64,
) -> (CompiledPorch, Vec<Finding>) {
    let mut findings = Vec::new();
    // Each facade has its own edition of its backends, and its own addresses for them.
    let parsed: Vec<(&String, &ReleasedFacade, Documents, EnvironmentDoc)> = content
        .facades
        .iter()
        .map(|(name, facade)| {
            let backends = facade
                .addresses
                .iter()
                .map(|(b, a)| {
                    (
                        b.clone(),
                        PlaceDoc {
                            address: Addresses::from_joined(a),
                        },
                    )
                })
                .collect();
            let here = EnvironmentDoc {
                elm_porch: "environment/1".into(),
                name: environment.into(),
                backends,
            };
            (name, facade, Documents::read(&facade.files), here)
        })
        .collect();
    let mut builder = Builder::new(secrets.map_or(Secrets::Placeholder, Secrets::Known), None);
    for (name, facade, documents, here) in &parsed {
        findings.extend(documents.findings.iter().cloned());
        builder.use_environment(here);
        builder.add_facade(&facade.files, documents, name);
    }
    let (porch, found) = builder.finish();
    findings.extend(found);
    (
        CompiledPorch {
            release: number as u64,
            ..porch
        },
        findings,
    )
}

/// Reads everything that callers are served from the database, and serves it.
pub(crate) async fn reload(app: &App) -> Result<(), ApiError> {
    let store = app.store()?;
    let environment = &app.config.environment;
    let served = match store.served(environment).await? {
        Some(release) => Served {
            number: release.number,
            made_by: release.made_by,
            made_at: release.made_at,
            content: serde_json::from_value(release.content)
                .map_err(|e| ApiError::new(500, "The release cannot be read", e.to_string()))?,
            from_disk: false,
        },
        None => Served::default(),
    };
    let secrets = store.secrets(environment).await?;
    let (porch, findings) = compile(&served.content, environment, Some(&secrets), served.number);
    if has_errors(&findings) {
        return Err(
            ApiError::new(422, "What would be served has errors", "See `findings`.").with(findings),
        );
    }
    reload_keys(app, &store).await?;
    app.shared.porch.store(Arc::new(porch));
    app.served.store(Arc::new(served));
    write_snapshot(app, &store).await
}

/// Reads consumers, keys and pauses from the database.
pub(crate) async fn reload_keys(app: &App, store: &Store) -> Result<(), StoreError> {
    let consumers: HashMap<i64, Arc<Consumer>> = store
        .consumers()
        .await?
        .into_iter()
        .map(|c| {
            (
                c.id,
                Arc::new(Consumer {
                    id: c.id,
                    name: c.name,
                    paused: c.paused,
                }),
            )
        })
        .collect();
    let keys = store.keys().await?;
    let table = KeyTable::new(keys.into_iter().filter_map(|k| {
        let consumer = consumers.get(&k.consumer_id)?.clone();
        let ends = k.ends_at.map_or(i64::MAX, |ms| ms / 1000);
        Some((
            KeyHash::from_hex(&k.hash)?,
            KeyEntry {
                consumer,
                prefix: k.prefix.into(),
                ends,
                paused: k.paused,
            },
        ))
    }));
    app.shared.keys.store(Arc::new(table));
    let pauses = store
        .pauses()
        .await?
        .into_iter()
        .map(|p| (p.facade, p.operation));
    app.shared.pauses.store(Arc::new(pauses_of(pauses)));
    Ok(())
}

/// Pauses by facade and operation; an empty operation means the whole facade.
fn pauses_of(list: impl Iterator<Item = (String, String)>) -> Pauses {
    let mut pauses = Pauses::default();
    for (facade, operation) in list {
        if operation.is_empty() {
            pauses.facades.insert(facade);
        } else {
            pauses.operations.insert((facade, operation));
        }
    }
    pauses
}

/// After a change of keys, consumers or pauses.
pub(crate) async fn keys_changed(app: &App) -> Result<(), ApiError> {
    let _one_at_a_time = app.publishing.lock().await;
    let store = app.store()?;
    reload_keys(app, &store).await?;
    write_snapshot(app, &store).await
}

async fn write_snapshot(app: &App, store: &Store) -> Result<(), ApiError> {
    let secrets = store.secrets(&app.config.environment).await?;
    let sealed = app
        .seal
        .seal(
            "snapshot",
            &serde_json::to_string(&secrets).unwrap_or_default(),
        )
        .map_err(StoreError::from)?;
    let snapshot = Snapshot {
        environment: app.config.environment.clone(),
        served: (**app.served.load()).clone(),
        consumers: store
            .consumers()
            .await?
            .into_iter()
            .map(|c| (c.id, c.name, c.paused))
            .collect(),
        keys: store
            .keys()
            .await?
            .into_iter()
            .map(|k| SnapshotKey {
                hash: k.hash,
                prefix: k.prefix,
                consumer: k.consumer_id,
                ends_at: k.ends_at,
                paused: k.paused,
            })
            .collect(),
        pauses: store
            .pauses()
            .await?
            .into_iter()
            .map(|p| (p.facade, p.operation))
            .collect(),
        secrets: sealed.iter().map(|b| format!("{b:02x}")).collect(),
    };
    let path = app.config.state.join(SNAPSHOT);
    let text = serde_json::to_vec(&snapshot)
        .map_err(|e| ApiError::new(500, "The state cannot be written", e.to_string()))?;
    // Written beside and moved into place, so that a half-written file is never read.
    let written = tokio::task::spawn_blocking(move || {
        let beside = path.with_extension("new");
        std::fs::write(&beside, text)?;
        std::fs::rename(&beside, &path)
    });
    match written.await {
        Ok(Ok(())) => Ok(()),
        other => {
            let what = format!("{other:?}");
            app.set_trouble(format!("the state folder cannot be written: {what}"));
            tracing::error!("the state folder cannot be written: {what}");
            Ok(())
        }
    }
}

/// Serves the last release from disk.
///
/// # Errors
/// Why that cannot be done.
pub fn load_snapshot(app: &App) -> Result<i64, String> {
    let path = app.config.state.join(SNAPSHOT);
    let text = std::fs::read(&path).map_err(|e| format!("{}: {e}", path.display()))?;
    let snapshot: Snapshot =
        serde_json::from_slice(&text).map_err(|e| format!("{}: {e}", path.display()))?;
    if snapshot.environment != app.config.environment {
        return Err(format!(
            "the release on disk is of the environment {}",
            snapshot.environment
        ));
    }
    let sealed: Option<Vec<u8>> = snapshot
        .secrets
        .as_bytes()
        .chunks(2)
        .map(|p| u8::from_str_radix(std::str::from_utf8(p).ok()?, 16).ok())
        .collect();
    let secrets = app
        .seal
        .open("snapshot", &sealed.unwrap_or_default())
        .map_err(|e| e.to_string())?;
    let secrets: HashMap<String, String> =
        serde_json::from_str(&secrets).map_err(|e| e.to_string())?;
    let (porch, findings) = compile(
        &snapshot.served.content,
        &snapshot.environment,
        Some(&secrets),
        snapshot.served.number,
    );
    if let Some(finding) = findings
        .iter()
        .find(|f| f.severity == porch_contract::Severity::Error)
    {
        return Err(format!(
            "{}:{} {}",
            finding.file, finding.line, finding.message
        ));
    }
    let consumers: HashMap<i64, Arc<Consumer>> = snapshot
        .consumers
        .into_iter()
        .map(|(id, name, paused)| (id, Arc::new(Consumer { id, name, paused })))
        .collect();
    let keys = snapshot.keys.into_iter().filter_map(|k| {
        let ends = k.ends_at.map_or(i64::MAX, |ms| ms / 1000);
        Some((
            KeyHash::from_hex(&k.hash)?,
            KeyEntry {
                consumer: consumers.get(&k.consumer)?.clone(),
                prefix: k.prefix.into(),
                ends,
                paused: k.paused,
            },
        ))
    });
    app.shared.keys.store(Arc::new(KeyTable::new(keys)));
    app.shared
        .pauses
        .store(Arc::new(pauses_of(snapshot.pauses.into_iter())));
    app.shared.porch.store(Arc::new(porch));
    let number = snapshot.served.number;
    app.served.store(Arc::new(Served {
        from_disk: true,
        ..snapshot.served
    }));
    Ok(number)
}
