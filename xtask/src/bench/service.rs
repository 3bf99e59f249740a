//! A service of its own for a case: documents, a consumer, keys.

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use porch_cluster::Cluster;
use serde_json::Value;

use super::documents::{Backends, OPERATIONS_A_FACADE, full_name, write_documents, write_full};
use super::measure::Load;
use super::server::{Server, folder, memory_mb, program, start};
use crate::Outcome;

const PASSWORD: &str = "bench-harbour";

/// A service with documents and keys of its own.
pub(super) struct Porch {
    name: String,
    size: Size,
    /// None while it starts anew.
    server: Option<Server>,
    gateway: String,
    key: String,
    client: Client,
}

/// How much a service has to carry.
#[derive(Clone, Copy)]
pub(super) struct Size {
    pub(super) operations: usize,
    pub(super) keys: usize,
    pub(super) workers: u32,
    /// The processor's cores that it may run on.
    pub(super) cores: &'static str,
}

impl Size {
    pub(super) const FEW: Self = Self {
        operations: 10,
        keys: 1000,
        workers: 1,
        cores: "0",
    };
}

impl Porch {
    /// One that was started with everything there: keys that were put into the store are in its memory too.
    pub(super) fn start(
        name: &str,
        cluster: &Cluster,
        backends: Backends,
        size: Size,
    ) -> Outcome<Self> {
        let mut porch = Self::publish(name, cluster, backends, size)?;
        porch.restart(cluster)?;
        Ok(porch)
    }

    /// One that has just published what it serves.
    pub(super) fn publish(
        name: &str,
        cluster: &Cluster,
        backends: Backends,
        size: Size,
    ) -> Outcome<Self> {
        eprintln!(
            "· starting the service: {} operations and {} keys",
            size.operations, size.keys
        );
        let home = clean_home(name).map_err(|e| e.to_string())?;
        cluster
            .sql(&format!("drop database if exists {name} with (force)"))
            .and_then(|_| cluster.ensure_database(name))
            .map_err(|e| e.to_string())?;
        let (server, addresses) = serve(name, cluster, &home, size)?;
        let (gateway, console) = (addresses[0].clone(), addresses[1].clone());
        let client = Client {
            console,
            home: home.clone(),
        };
        publish(&client, &home, backends, size.operations)?;
        insert_keys(&cluster.url(name), size.keys)?;
        let made = client.run(&["key", "create", "bench"], "")?;
        let key = made["key"]
            .as_str()
            .ok_or("porch key create showed no key")?
            .to_owned();
        Ok(Self {
            name: name.to_owned(),
            size,
            server: Some(server),
            gateway,
            key,
            client,
        })
    }

    /// Ends the service and starts it again, with all that it had.
    pub(super) fn restart(&mut self, cluster: &Cluster) -> Outcome {
        drop(self.server.take());
        let (server, addresses) = serve(&self.name, cluster, &self.client.home, self.size)?;
        self.gateway.clone_from(&addresses[0]);
        self.client.console.clone_from(&addresses[1]);
        self.server = Some(server);
        // A session is kept for the address that it was begun at.
        self.client.run(&["login", "bench"], PASSWORD).map(|_| ())
    }

    /// Gives the first facade's contract another title and releases it.
    pub(super) fn change_and_release(&self, n: u32) -> Outcome {
        let folder = self.client.home.join("documents");
        let title = format!("Full, changed {n} times");
        self.client
            .push_full(&folder, 0, self.size.operations, &title)?;
        self.client.run(&["release", "full"], "").map(|_| ())
    }

    fn pid(&self) -> u32 {
        self.server.as_ref().map_or(0, Server::pid)
    }

    pub(super) fn load(&self, path: &str, keyed: bool) -> Load {
        Load {
            pid: self.pid(),
            url: format!("{}{path}", self.gateway),
            key: keyed.then(|| self.key.clone()),
        }
    }

    pub(super) fn gateway(&self) -> &str {
        &self.gateway
    }

    /// Another key, and what it is known by.
    pub(super) fn new_key(&self) -> Outcome<(String, String)> {
        let made = self.client.run(&["key", "create", "bench"], "")?;
        let text = |name: &str| made[name].as_str().map(str::to_owned);
        match (text("key"), text("prefix")) {
            (Some(key), Some(prefix)) => Ok((key, prefix)),
            _ => Err("porch key create showed no key".into()),
        }
    }

    pub(super) fn end_key(&self, prefix: &str) -> Outcome {
        self.client.run(&["key", "end", prefix], "").map(|_| ())
    }

    /// Agreements of these consumers, straight into the tables.
    pub(super) fn insert_agreements(&self, cluster: &Cluster, agreements: usize) -> Outcome {
        let insert = format!(
            "insert into agreement (consumer_id, offer, terms, from_at, paused, created_at) \
             select c.id, 'offer ' || (i % 20), jsonb_build_object('requests', 100 + i % 20), 0, false, 0 \
             from generate_series(1, {agreements}) i join consumer c on c.name = 'c' || (1 + i % 1000)"
        );
        sql(&cluster.url(&self.name), &insert)
    }

    pub(super) fn memory_mb(&self) -> f64 {
        memory_mb(self.pid())
    }
}

/// The folder of a service, with nothing in it of an earlier run.
fn clean_home(name: &str) -> std::io::Result<PathBuf> {
    let home = folder().join(name);
    let _ = fs::remove_dir_all(&home);
    fs::create_dir_all(home.join("state"))?;
    Ok(home)
}

/// The service and its two addresses.
fn serve(name: &str, cluster: &Cluster, home: &Path, size: Size) -> Outcome<(Server, Vec<String>)> {
    let environment = [
        ("ELM_PORCH_DATABASE", cluster.url(name)),
        ("ELM_PORCH_STATE", home.join("state").display().to_string()),
        ("ELM_PORCH_FIRST_ACCOUNT", "bench".to_owned()),
        ("ELM_PORCH_FIRST_PASSWORD", PASSWORD.to_owned()),
    ];
    let arguments = [
        "serve",
        "--gateway",
        "127.0.0.1:0",
        "--portal",
        "127.0.0.1:0",
        "--console",
        "127.0.0.1:0",
        "--workers",
        &size.workers.to_string(),
    ]
    .map(str::to_owned);
    start(size.cores, "porch", &arguments, &environment, 2)
}

/// The client, with a login of its own.
struct Client {
    console: String,
    home: PathBuf,
}

impl Client {
    fn push_full(&self, folder: &Path, n: usize, operations: usize, title: &str) -> Outcome {
        let files = write_full(folder, n, operations, title).map_err(|e| e.to_string())?;
        let [contract, facade] = files.map(|f| f.display().to_string());
        self.run(&["push", &contract, &facade], "").map(|_| ())
    }

    fn run(&self, arguments: &[&str], input: &str) -> Outcome<Value> {
        let mut child = Command::new(program("porch"))
            .args(["--json", "--url", &self.console])
            .args(arguments)
            .env("XDG_CONFIG_HOME", &self.home)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .map_err(|e| e.to_string())?;
        if let Some(mut stdin) = child.stdin.take() {
            let _ = stdin.write_all(input.as_bytes());
        }
        let output = child.wait_with_output().map_err(|e| e.to_string())?;
        let text = String::from_utf8_lossy(&output.stdout).into_owned();
        if output.status.success() {
            Ok(serde_json::from_str(&text).unwrap_or(Value::Null))
        } else {
            Err(format!("porch {}: {text}", arguments.join(" ")))
        }
    }
}

fn publish(client: &Client, home: &Path, backends: Backends, operations: usize) -> Outcome {
    client.run(&["login", "bench"], PASSWORD)?;
    let documents = home.join("documents");
    write_documents(&documents, backends, operations).map_err(|e| e.to_string())?;
    client.run(&["secret", "set", "reservations-user"], "quay-desk")?;
    client.run(&["secret", "set", "reservations-password"], "x")?;
    client.run(&["push", &documents.to_string_lossy()], "")?;
    let mut facades = [
        "release", "plain", "kept", "both", "soap", "vessels", "full",
    ]
    .map(str::to_owned)
    .to_vec();
    // One after the other: all of them are more than one push may carry.
    let apart = home.join("more");
    fs::create_dir_all(&apart).map_err(|e| e.to_string())?;
    for n in 1..operations.div_ceil(OPERATIONS_A_FACADE) {
        client.push_full(&apart, n, operations, "Full")?;
        facades.push(full_name(n));
    }
    let release: Vec<&str> = facades.iter().map(String::as_str).collect();
    client.run(&release, "")?;
    client.run(&["consumer", "create", "bench"], "")?;
    Ok(())
}

/// Keys of a thousand consumers, straight into the table: a million by the client would take hours.
fn insert_keys(database: &str, keys: usize) -> Outcome {
    let insert = format!(
        "insert into consumer (name, owner, paused, created_at) \
         select 'c' || i, '', false, 0 from generate_series(1, 1000) i; \
         insert into credential (consumer_id, label, prefix, hash, paused, created_at) \
         select c.id, '', 'p' || i, md5('a' || i) || md5('b' || i), false, 0 \
         from generate_series(1, {keys}) i join consumer c on c.name = 'c' || (1 + i % 1000)"
    );
    sql(database, &insert)
}

fn sql(database: &str, text: &str) -> Outcome {
    let psql = porch_cluster::installed()
        .ok_or("PostgreSQL is not installed")?
        .join("psql");
    let done = Command::new(psql)
        .args(["-X", "-q", "-d", database, "-c", text])
        .status()
        .map_err(|e| e.to_string())?;
    if done.success() {
        Ok(())
    } else {
        Err(format!("psql could not fill the tables: {done}"))
    }
}
