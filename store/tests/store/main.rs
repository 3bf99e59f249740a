//! The store against a real PostgreSQL.

mod callers;
mod changes;
mod objects;
mod observed;

use std::time::Duration;

use porch_cluster::Cluster;
use porch_store::{
    CredentialChange, NewCredential, Role, Seal, Store, StoreError, Topic, TraceQuery,
};
use sea_orm::ActiveValue::Set;
use serde_json::json;

/// A store in a database of its own; the cluster ends with the process.
async fn store(name: &str) -> Store {
    let url = url(name);
    let seal = Seal::new(&Seal::new_key().unwrap()).unwrap();
    Store::open(&url, seal).await.unwrap()
}

fn url(name: &str) -> String {
    use std::sync::OnceLock;
    static CLUSTER: OnceLock<Cluster> = OnceLock::new();
    let cluster = CLUSTER.get_or_init(|| {
        // Started from a thread that lasts: the server ends with its parent's thread.
        let (sender, receiver) = std::sync::mpsc::channel();
        std::thread::spawn(move || {
            sender.send(Cluster::passing().unwrap()).unwrap();
            loop {
                std::thread::park();
            }
        });
        receiver.recv().unwrap()
    });
    cluster.ensure_database(name).unwrap();
    cluster.url(name)
}

/// A key that is to be kept.
fn key(consumer: &str, label: &str, prefix: &str, hash: &str) -> NewCredential {
    NewCredential {
        consumer: consumer.into(),
        kind: "key".into(),
        label: label.into(),
        prefix: prefix.into(),
        hash: hash.into(),
        ..NewCredential::default()
    }
}
