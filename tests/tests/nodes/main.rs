//! Several nodes that count together: under load, killed and started again, and with the place of the counts away.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use porch_cluster::CountServer;
use porch_tests::{Porch, new_cluster, new_database, wait_until};
use serde_json::Value;

mod away;
mod race;
mod together;

/// The day's one boat that everybody wants: answered by an example, so that nothing but limits is at work.
const CONTRACT: &str = r#"openapi: "3.1.0"
info: { title: Last boat, version: "1" }
paths:
  /places:
    get:
      operationId: takePlace
      parameters:
        - { name: boat, in: query, required: true, schema: { type: string } }
      responses:
        "200":
          description: A place.
          content: { application/json: { schema: { type: object }, example: { place: "taken" } } }
"#;

/// The facade, with limits.
fn facade(limits: &str) -> String {
    format!(
        "elm-porch: facade/1
name: last-boat
title: Last boat
base: /boat
contract: last-boat.openapi.yaml
admit:
{limits}
operations:
  takePlace: {{}}
"
    )
}

/// Nodes that serve it.
struct Nodes {
    all: Vec<Porch>,
    extra: Vec<String>,
}

impl Nodes {
    /// So many, on one database, counting in a place.
    fn start(count: usize, database: &str, place: &str, limits: &str) -> Self {
        let files = [
            ("last-boat.openapi.yaml", CONTRACT),
            ("last-boat.facade.yaml", &facade(limits)),
        ];
        Self::serving(count, database, place, &files)
    }

    /// The same, of these documents.
    fn serving(count: usize, database: &str, place: &str, files: &[(&str, &str)]) -> Self {
        let extra = ["--counts", place].map(str::to_owned).to_vec();
        let options: Vec<&str> = extra.iter().map(String::as_str).collect();
        let first = Porch::start_with(database, &options);
        let folder = first.folder().join("boat");
        std::fs::create_dir_all(&folder).unwrap();
        for (name, text) in files {
            std::fs::write(folder.join(name), text).unwrap();
        }
        first.ok(&["push", folder.to_str().unwrap()]);
        first.ok(&["release", "last-boat"]);
        let mut all = vec![first];
        for _ in 1..count {
            let node = all[0].beside(&options);
            all.push(node);
        }
        let nodes = Self { all, extra };
        for node in &nodes.all {
            nodes.wait_for(node);
        }
        nodes
    }

    /// Waits until a node serves what was released.
    fn wait_for(&self, node: &Porch) {
        wait_until("the release to be served", || {
            node.call("GET", "/boat/places?boat=none", "", "").status == 200
        });
    }

    /// Ends one as a crash does, and starts it again.
    fn kill(&mut self, at: usize) {
        let node = &mut self.all[at];
        node.kill_service();
        let options: Vec<&str> = self.extra.iter().map(String::as_str).collect();
        node.start_service(&options).unwrap();
    }
}

/// A server of counts in a folder that goes with the test.
fn count_server() -> (CountServer, tempfile::TempDir) {
    let folder = tempfile::tempdir().unwrap();
    let server = CountServer::start(folder.path()).unwrap();
    (server, folder)
}
