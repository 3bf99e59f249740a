//! What is kept on disk, so that callers are served without the database.

use std::collections::HashMap;
use std::path::Path;
use std::sync::Arc;

use porch_contract::Severity;
use porch_rules::grant::Grants;
use porch_store::StoreError;
use serde::{Deserialize, Serialize, Serializer};

use super::Publication;
use super::content::Served;
use crate::directory::{ConsumerRow, GrantRow, from_hex, grants_of, pauses_of, to_hex};
use crate::error::ApiError;

const FILE: &str = "served.json";
const SEALED_AS: &str = "snapshot";

/// What the file holds; as it is written, the keys are still the table that the data plane has.
#[derive(Serialize, Deserialize)]
struct Snapshot<K = Vec<GrantRow>> {
    environment: String,
    served: Served,
    consumers: Vec<ConsumerRow>,
    keys: K,
    pauses: Vec<(String, String)>,
    /// What was added to quotas: limit, subject, beginning of the period, and how much.
    #[serde(default)]
    additions: Vec<(u64, u64, u64, u64)>,
    /// All secrets in one sealed text, in hexadecimal.
    secrets: String,
}

/// The table of grants, written as the rows that it is read from again.
struct Rows(Arc<Grants>);

impl Serialize for Rows {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let rows = self.0.iter();
        serializer.collect_seq(rows.map(|(hash, grant)| GrantRow::of(hash, grant)))
    }
}

/// Why a release cannot be served from disk.
#[derive(Debug, thiserror::Error)]
pub(crate) enum SnapshotError {
    #[error("{0}: {1}")]
    File(String, std::io::Error),
    #[error("{0}: {1}")]
    Unreadable(String, serde_json::Error),
    #[error("the release on disk is of the environment {0}")]
    OtherEnvironment(String),
    #[error("its secrets: {0}")]
    Secrets(String),
    #[error("{0}")]
    Wrong(String),
}

impl Publication {
    /// Writes down what is served. What goes wrong is told on the overview: callers are served all the same.
    pub(crate) async fn write_snapshot(&self) {
        if let Err(why) = self.try_write_snapshot().await {
            let what = format!(
                "the state folder cannot be written, and without the database this service could not start again: {why:?}"
            );
            tracing::error!("{what}");
            self.trouble.set(what);
        }
    }

    async fn try_write_snapshot(&self) -> Result<(), ApiError> {
        // Held by the thread that writes, which goes on when nobody waits for it any more.
        let writing = self.writing.clone().lock_owned().await;
        let store = self.database.store()?;
        let secrets = store.secrets(&self.environment).await?;
        let secrets = serde_json::to_string(&secrets)
            .map_err(|e| ApiError::new(500, "The secrets cannot be written", e.to_string()))?;
        let sealed = self.seal.seal(SEALED_AS, &secrets);
        let agreements = store.agreements_of(None).await?;
        let consumers = ConsumerRow::all(store.consumers().await?, agreements);
        let pauses = store.pauses().await?.into_iter();
        let snapshot = Snapshot {
            environment: self.environment.clone(),
            served: (*self.served()).clone(),
            consumers,
            keys: Rows(self.shared.grants.load_full()),
            additions: self
                .shared
                .additions
                .load()
                .iter()
                .map(|((a, b, c), n)| (*a, *b, *c, *n))
                .collect(),
            pauses: pauses.map(|p| (p.facade, p.operation)).collect(),
            secrets: to_hex(&sealed.map_err(StoreError::from)?),
        };
        let path = self.state.join(FILE);
        let work = move || {
            let written = replace(&path, &snapshot);
            drop(writing);
            written
        };
        tokio::task::spawn_blocking(work)
            .await
            .map_err(|e| ApiError::new(500, "The state was not written", e.to_string()))?
            .map_err(|e| ApiError::new(500, "The state cannot be written", e.to_string()))
    }

    /// Serves the last release from disk; gives its number.
    pub(crate) async fn load_snapshot(&self) -> Result<i64, SnapshotError> {
        let snapshot = self.read_snapshot()?;
        let secrets = self.open_secrets(&snapshot.secrets)?;
        let served = snapshot.served;
        let compiled =
            served
                .content
                .compile(&self.environment, &secrets, &self.library, served.number);
        if let Some(f) = compiled
            .findings
            .iter()
            .find(|f| f.severity == Severity::Error)
        {
            let wrong = format!("{}:{} {}", f.file, f.line, f.message);
            return Err(SnapshotError::Wrong(wrong));
        }
        let consumers = snapshot.consumers.into_iter();
        let consumers: HashMap<i64, _> = consumers.map(|c| (c.id, c.consumer())).collect();
        let grants = grants_of(&consumers, snapshot.keys.into_iter(), &self.seal);
        self.shared.grants.store(Arc::new(grants));
        let pauses = pauses_of(snapshot.pauses.into_iter());
        self.shared.pauses.store(Arc::new(pauses));
        let additions = snapshot.additions.into_iter();
        let additions = additions.map(|(limit, subject, from, n)| ((limit, subject, from), n));
        self.shared.additions.store(Arc::new(additions.collect()));
        let number = served.number;
        let served = Served {
            from_disk: true,
            ..served
        };
        let mut live = self.lock.lock().await;
        self.serve(&mut live, served, compiled);
        Ok(number)
    }

    fn read_snapshot(&self) -> Result<Snapshot, SnapshotError> {
        let path = self.state.join(FILE);
        let name = path.display().to_string();
        let text = std::fs::read(&path).map_err(|e| SnapshotError::File(name.clone(), e))?;
        let snapshot: Snapshot =
            serde_json::from_slice(&text).map_err(|e| SnapshotError::Unreadable(name, e))?;
        if snapshot.environment != self.environment {
            return Err(SnapshotError::OtherEnvironment(snapshot.environment));
        }
        Ok(snapshot)
    }

    fn open_secrets(&self, sealed: &str) -> Result<HashMap<String, String>, SnapshotError> {
        let sealed = from_hex(sealed)
            .ok_or_else(|| SnapshotError::Secrets("they are not in hexadecimal".into()))?;
        let text = self
            .seal
            .open(SEALED_AS, &sealed)
            .map_err(|e| SnapshotError::Secrets(e.to_string()))?;
        serde_json::from_str(&text).map_err(|e| SnapshotError::Secrets(e.to_string()))
    }
}

/// Keeps a snapshot in place of the one before. One that cannot be replaced is taken away: it may hold keys that have ended
/// since, and a full disk lets files be removed still.
fn replace<K: Serialize>(path: &Path, snapshot: &Snapshot<K>) -> std::io::Result<()> {
    let written = write(path, snapshot);
    if written.is_err() && path.exists() {
        std::fs::remove_file(path)?;
    }
    written
}

/// Written beside and moved into place, so that a half-written file is never read; for nobody else's eyes.
fn write<K: Serialize>(path: &Path, snapshot: &Snapshot<K>) -> std::io::Result<()> {
    use std::io::Write;
    use std::os::unix::fs::OpenOptionsExt;
    let beside = path.with_extension("new");
    let file = std::fs::OpenOptions::new()
        .write(true)
        .create(true)
        .truncate(true)
        .mode(0o600)
        .open(&beside)?;
    let mut file = std::io::BufWriter::with_capacity(1 << 16, file);
    serde_json::to_writer(&mut file, snapshot)?;
    file.flush()?;
    std::fs::rename(&beside, path)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hexadecimal_comes_back_and_nothing_else_does() {
        assert_eq!(
            from_hex(&to_hex(&[0, 1, 254, 255])),
            Some(vec![0, 1, 254, 255])
        );
        for bad in ["0", "zz", "é0", "0g"] {
            assert_eq!(from_hex(bad), None, "{bad}");
        }
    }

    fn empty(number: i64) -> Snapshot {
        Snapshot {
            environment: "live".into(),
            served: Served {
                number,
                ..Served::default()
            },
            consumers: Vec::new(),
            keys: Vec::new(),
            additions: Vec::new(),
            pauses: Vec::new(),
            secrets: String::new(),
        }
    }

    #[test]
    fn what_cannot_be_replaced_is_taken_away() {
        let folder = std::env::temp_dir().join(format!("porch-snapshot-{}", std::process::id()));
        std::fs::create_dir_all(&folder).unwrap();
        let path = folder.join(FILE);
        replace(&path, &empty(1)).unwrap();
        replace(&path, &empty(2)).unwrap();
        let kept = std::fs::read_to_string(&path).unwrap();
        assert!(kept.contains("\"number\":2"), "{kept}");
        // Hashes of keys and sealed secrets are for nobody else's eyes.
        use std::os::unix::fs::PermissionsExt;
        let mode = std::fs::metadata(&path).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
        // Nothing can be written beside it any more, as on a full disk.
        std::fs::create_dir(path.with_extension("new")).unwrap();
        assert!(replace(&path, &empty(3)).is_err());
        assert!(!path.exists(), "an old one would bring ended keys back");
        assert!(replace(&path, &empty(4)).is_err(), "and again, without one");
        std::fs::remove_dir_all(&folder).unwrap();
    }
}
