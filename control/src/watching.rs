//! Asks addresses of backends whether they are well, where what is served says so, and tells the gateway.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use porch_facade::{CompiledBackend, CompiledPorch, HealthCheck};
use porch_gateway::Shared;
use tokio::sync::mpsc;
use tokio::time::Instant;

/// How often it is looked whether others are to be watched.
const LOOK: Duration = Duration::from_secs(1);
/// So many addresses are asked at the same time.
const AT_ONCE: usize = 64;

type Key = (u64, u32);

/// What is known of one address.
struct Seen {
    backend: Arc<CompiledBackend>,
    check: Arc<HealthCheck>,
    /// When it is asked next; `None` while it is asked.
    next: Option<Instant>,
    /// Good answers, or failures, one behind the other.
    row: u32,
    was_well: bool,
    is_out: bool,
}

impl Seen {
    /// Takes an answer up; whether it goes out or comes back by that.
    fn take(&mut self, is_well: bool) -> bool {
        self.row = match self.was_well == is_well {
            true => self.row.saturating_add(1),
            false => 1,
        };
        self.was_well = is_well;
        let enough = match is_well {
            true => self.check.passes,
            false => self.check.fails,
        };
        let turns = self.is_out == is_well && self.row >= enough;
        self.is_out ^= turns;
        turns
    }
}

/// Watches until the end.
pub(crate) async fn watch(shared: Arc<Shared>) {
    let (mut all, mut of) = (HashMap::new(), None);
    let (answers, mut came) = mpsc::channel(AT_ONCE);
    let mut asking = 0;
    loop {
        let porch = shared.porch.load_full();
        if of.as_ref().is_none_or(|known| !Arc::ptr_eq(known, &porch)) {
            take_up(&shared, &porch, &mut all);
            of = Some(porch);
        }
        let now = Instant::now();
        for (key, seen) in &mut all {
            if asking < AT_ONCE && seen.next.is_some_and(|next| next <= now) {
                seen.next = None;
                asking += 1;
                let (key, answers) = (*key, answers.clone());
                let asked = porch_fetch::ask_health(&seen.backend, key.1 as usize, &seen.check);
                tokio::spawn(async move {
                    let _ = answers.send((key, asked.await)).await;
                });
            }
        }
        let next = all.values().filter_map(|s| s.next).min();
        let until = next.map_or(now + LOOK, |next| next.min(now + LOOK));
        let full = asking == AT_ONCE;
        tokio::select! {
            Some((key, answer)) = came.recv() => {
                asking -= 1;
                if let Some(seen) = all.get_mut(&key) {
                    answered(&shared, key, seen, answer);
                }
            }
            () = tokio::time::sleep_until(until), if !full => {}
        }
    }
}

/// Takes up an answer.
fn answered(shared: &Shared, key: Key, seen: &mut Seen, answer: Result<(), String>) {
    seen.next = Some(Instant::now() + seen.check.every);
    let turned = seen.take(answer.is_ok());
    let address = seen.backend.addresses.get(key.1 as usize);
    let address = address.map_or("", |a| a.authority.as_str());
    match (&answer, seen.is_out) {
        (Err(told), true) => {
            if turned {
                tracing::warn!("{} at {address} is not well: {told}", seen.backend.name);
            }
            shared.watched.set(key.0, key.1, Some(told.as_str().into()));
        }
        (_, false) if turned => {
            tracing::info!("{} at {address} is well again", seen.backend.name);
            shared.watched.set(key.0, key.1, None);
        }
        _ => {}
    }
}

/// Begins with addresses that are new, and lets go of those that are watched no more.
fn take_up(shared: &Shared, porch: &CompiledPorch, all: &mut HashMap<Key, Seen>) {
    let mut kept = HashMap::new();
    for backend in porch.facades.iter().flat_map(|f| &f.backends) {
        let Some(check) = &backend.health else {
            continue;
        };
        for at in 0..backend.addresses.len() as u32 {
            let key = (check.identity, at);
            let seen = all.remove(&key).unwrap_or_else(|| Seen {
                backend: backend.clone(),
                check: check.clone(),
                next: Some(Instant::now()),
                row: 0,
                was_well: true,
                is_out: false,
            });
            kept.entry(key).or_insert(seen);
        }
    }
    for (key, _) in all.drain().filter(|(_, seen)| seen.is_out) {
        shared.watched.set(key.0, key.1, None);
    }
    *all = kept;
}

#[cfg(test)]
mod tests {
    use super::*;

    fn seen() -> Seen {
        let files = [
            (
                "b.yaml",
                "elm-porch: backend/1\nname: b\nkind: http\naddress: http://localhost:1\nhealth: { fails: 3, passes: 2 }\n",
            ),
            (
                "c.yaml",
                "openapi: 3.1.0\ninfo: { title: T, version: 1.0.0 }\npaths: { /a: { get: { operationId: a, responses: { '200': { description: ok } } } } }\n",
            ),
            (
                "f.yaml",
                "elm-porch: facade/1\nname: f\nbase: /f\ncontract: c.yaml\noperations: { a: { call: { backend: b } } }\n",
            ),
        ];
        let files = files.map(|(name, text)| (name.to_owned(), text.to_owned()));
        let model = porch_facade::Model::read(Arc::new(files.into()), "live", &Arc::default());
        let (porch, findings) = model.porch(&["f"], &porch_facade::Secrets::Placeholder);
        assert!(!porch_contract::has_errors(&findings), "{findings:?}");
        let backend = porch.facades[0].backends[0].clone();
        Seen {
            check: backend.health.clone().unwrap(),
            backend,
            next: None,
            row: 0,
            was_well: true,
            is_out: false,
        }
    }

    #[test]
    fn an_address_goes_out_and_comes_back_behind_so_many_in_a_row() {
        let mut seen = seen();
        // Each answer, and whether it is out behind it.
        for (i, (is_well, is_out)) in [
            (true, false),
            (false, false),
            (false, false),
            (true, false),
            (false, false),
            (false, false),
            (false, true),
            (false, true),
            (true, true),
            (false, true),
            (true, true),
            (true, false),
            (true, false),
        ]
        .into_iter()
        .enumerate()
        {
            let before = seen.is_out;
            let turned = seen.take(is_well);
            assert_eq!((seen.is_out, turned), (is_out, before != is_out), "{i}");
        }
    }

    #[test]
    fn what_is_watched_no_more_is_not_left_alone_any_longer() {
        let (shared, _records) = Shared::new();
        let mut seen = seen();
        let key = (seen.check.identity, 0);
        let backend = seen.backend.clone();
        for _ in 0..3 {
            answered(&shared, key, &mut seen, Err("503".into()));
        }
        assert_eq!(shared.watched.told(&backend, 0).as_deref(), Some("503"));
        let mut all = HashMap::from([(key, seen)]);
        take_up(&shared, &CompiledPorch::default(), &mut all);
        assert!(all.is_empty() && shared.watched.told(&backend, 0).is_none());
    }
}
