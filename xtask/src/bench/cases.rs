//! What is compared with what.

use porch_cluster::{Cluster, free_port};

use super::alone;
use super::documents::{Backends, OPERATIONS_A_FACADE, full_name};
use super::measure::{Case, Load, measure};
use super::options::Options;
use super::report::Results;
use super::server::{Server, start};
use super::service::{Porch, Size};
use crate::Outcome;

/// A program that listens at a port.
pub(super) struct Listening {
    server: Server,
    port: u16,
}

impl Listening {
    fn start(cores: &str, name: &str, behind: Option<u16>) -> Outcome<Self> {
        let port = free_port().map_err(|e| e.to_string())?;
        let arguments: Vec<String> = [Some(port), behind]
            .into_iter()
            .flatten()
            .map(|p| p.to_string())
            .collect();
        let (server, _) = start(cores, name, &arguments, &[], 0)?;
        Ok(Self { server, port })
    }

    pub(super) fn load(&self, path: &str) -> Load {
        Load {
            pid: self.server.pid(),
            url: format!("http://127.0.0.1:{}{path}", self.port),
            key: None,
        }
    }
}

/// Everything that runs while cases are measured.
pub(super) struct Bench<'c> {
    pub(super) options: Options,
    pub(super) cluster: &'c Cluster,
    /// Held for as long as it is measured against.
    pub(super) backend: Listening,
    fleet: Listening,
    forwarder: Listening,
    pub(super) relay: Listening,
    converter: Listening,
    fleet_rest: Listening,
    pub(super) small: Porch,
    pub(super) results: Results,
}

impl<'c> Bench<'c> {
    pub(super) fn start(options: Options, cluster: &'c Cluster) -> Outcome<Self> {
        let fleet = Listening::start("1", "bench-fleet", None)?;
        let fleet_rest = Listening::start("0", "bench-fleet-rest", Some(fleet.port))?;
        let backend = Listening::start("1", "bench-backend", None)?;
        let forwarder = Listening::start("0", "bench-forwarder", Some(backend.port))?;
        let relay = Listening::start("0", "bench-relay", Some(backend.port))?;
        let converter = Listening::start("0", "bench-converter", Some(backend.port))?;
        let backends = Backends {
            backend: backend.port,
            fleet: fleet.port,
        };
        let small = Porch::start("small", cluster, backends, Size::FEW)?;
        let results = Results {
            idle_mb: small.memory_mb(),
            ..Results::default()
        };
        Ok(Self {
            options,
            cluster,
            backend,
            fleet,
            forwarder,
            relay,
            converter,
            fleet_rest,
            small,
            results,
        })
    }

    /// What was measured, also where a case failed.
    pub(super) fn run(mut self) -> (Results, Outcome) {
        let outcome = self.cases();
        (self.results, outcome)
    }

    fn cases(&mut self) -> Outcome {
        self.small_cases()?;
        self.fleet_cases()?;
        self.wide_cases()?;
        self.key_cases()?;
        self.running_cases()?;
        if self.options.wants("convert") {
            self.results.conversions = alone::convert(self.options.runs)?;
        }
        if self.options.wants("messages") {
            self.results.messages = alone::messages(self.options.runs)?;
        }
        if self.options.wants("contracts") {
            let contracts = alone::contracts(self.options.runs)?;
            self.results.running.extend(contracts);
        }
        if self.options.wants("callers") {
            let callers = alone::callers(self.options.runs)?;
            self.results.running.extend(callers);
        }
        if self.options.wants("changes") {
            let changes = alone::changes(self.options.runs)?;
            self.results.running.extend(changes);
        }
        Ok(())
    }

    fn add(&mut self, case: &Case) -> Outcome {
        if !self.options.wants(case.name) {
            return Ok(());
        }
        eprintln!("· {} against {}", case.name, case.reference_name);
        let direct = self.backend.load("/item/7");
        let measured = measure(case, &direct, self.options.seconds, self.options.runs)?;
        self.results.cases.push(measured);
        Ok(())
    }

    pub(super) fn backends(&self) -> Backends {
        Backends {
            backend: self.backend.port,
            fleet: self.fleet.port,
        }
    }

    fn small_cases(&mut self) -> Outcome {
        self.add(&Case {
            name: "pass-through",
            reference_name: "bare forwarder",
            target: (1.2, Some(0.8)),
            connections: 64,
            ours: self.small.load("/plain/item/7", false),
            reference: self.forwarder.load("/item/7"),
        })?;
        self.add(&Case {
            name: "cache-hit",
            reference_name: "our own pass-through",
            target: (3.0, None),
            connections: 64,
            ours: self.small.load("/kept/item/7", false),
            reference: self.small.load("/plain/item/7", false),
        })?;
        for (name, least, connections, harbour) in [
            ("soap-1kb", 1.35, 64, "Farholt"),
            ("soap-1mb", 2.0, 4, "Everywhere"),
        ] {
            let path = format!("/harbours/{harbour}/sailings?on=2027-05-14");
            self.add(&Case {
                name,
                reference_name: "hand-written typed converter",
                target: (least, None),
                connections,
                ours: self.small.load(&format!("/soap{path}"), false),
                reference: self.converter.load(&path),
            })?;
        }
        Ok(())
    }

    fn fleet_cases(&mut self) -> Outcome {
        for (name, least, connections, ours, reference) in [
            ("grpc-1kb", 1.2, 64, "/vessels/v1/vessels/v1", "/vessels/v1"),
            ("grpc-10000", 1.5, 4, "/vessels/v1/vessels", "/vessels"),
            (
                "grpc-stream",
                1.3,
                4,
                "/vessels/v1/positions:stream",
                "/positions",
            ),
        ] {
            self.add(&Case {
                name,
                reference_name: "hand-written typed service",
                target: (least, None),
                connections,
                ours: self.small.load(ours, false),
                reference: self.fleet_rest.load(reference),
            })?;
        }
        Ok(())
    }

    fn wide_cases(&mut self) -> Outcome {
        if ![
            "full",
            "full-against-own",
            "operations",
            "operations-100000",
        ]
        .iter()
        .any(|name| self.options.wants(name))
        {
            return Ok(());
        }
        let size = Size {
            operations: 10_000,
            ..Size::FEW
        };
        let wide = Porch::start("wide", self.cluster, self.backends(), size)?;
        let bare = self.forwarder.load("/item/7");
        let own = wide.load("/plain/item/7", false);
        let few = full(&self.small, 7);
        for (name, reference_name, target, reference) in [
            ("full", "bare forwarder", (1.1, Some(0.9)), bare),
            (
                "full-against-own",
                "our own pass-through",
                (0.95, None),
                own,
            ),
            ("operations", "10 operations", (0.93, None), few.clone()),
        ] {
            self.add(&Case {
                name,
                reference_name,
                target,
                connections: 64,
                ours: full(&wide, 7777),
                reference,
            })?;
        }
        drop(wide);
        self.widest(few)
    }

    fn widest(&mut self, few: Load) -> Outcome {
        let name = "operations-100000";
        if !self.options.wants(name) {
            return Ok(());
        }
        let size = Size {
            operations: 100_000,
            ..Size::FEW
        };
        let widest = Porch::start("widest", self.cluster, self.backends(), size)?;
        self.add(&Case {
            name,
            reference_name: "10 operations",
            target: (0.93, None),
            connections: 64,
            ours: full(&widest, 77_777),
            reference: few,
        })
    }

    fn key_cases(&mut self) -> Outcome {
        if !self.options.wants("keys") {
            return Ok(());
        }
        let size = Size {
            keys: 1_000_000,
            ..Size::FEW
        };
        let many = Porch::start("many", self.cluster, self.backends(), size)?;
        self.add(&Case {
            name: "keys",
            reference_name: "1,000 keys",
            target: (0.93, None),
            connections: 64,
            ours: full(&many, 7),
            reference: full(&self.small, 7),
        })
    }
}

/// An operation with a key, a limit and ten header rules.
pub(super) fn full(porch: &Porch, i: usize) -> Load {
    let facade = full_name(i / OPERATIONS_A_FACADE);
    porch.load(&format!("/{facade}/kind{}/sub{i}/7", i % 97), true)
}
