//! Notes stages down while an exchange runs: the one place where that is done.

use std::time::{Duration, Instant};

use http::{HeaderMap, StatusCode};
use porch_facade::CompiledBackend;

use super::{Message, Stage, StageName};
use crate::answer::Seen;
use crate::outgoing::Outgoing;

/// Notes stages down. When `full` is off, only what is needed to explain a refusal is kept.
pub(crate) struct Recorder {
    pub(crate) full: bool,
    pub(crate) stages: Vec<Stage>,
    pub(crate) started: Instant,
}

impl Recorder {
    pub(crate) fn new(full: bool) -> Self {
        Self {
            full,
            stages: Vec::new(),
            started: Instant::now(),
        }
    }

    /// When a stage begins; the clock is only read when somebody looks.
    pub(crate) fn begin(&self) -> Instant {
        if self.full {
            Instant::now()
        } else {
            self.started
        }
    }

    /// When the last stage ended: since then a stage that refused, and so noted nothing down itself, was at work.
    pub(crate) fn since_last(&self) -> Instant {
        let ended = self.stages.last().map_or(0, |s| s.from_us + s.us);
        self.started + Duration::from_micros(ended)
    }

    /// Ends the stage that began at `from`.
    pub(crate) fn stage(&mut self, name: StageName, from: Instant, fill: impl FnOnce(&mut Stage)) {
        if !self.full {
            return;
        }
        let mut stage = Stage {
            name,
            from_us: from.duration_since(self.started).as_micros() as u64,
            us: from.elapsed().as_micros() as u64,
            ..Stage::default()
        };
        fill(&mut stage);
        self.stages.push(stage);
    }

    /// Adds a note to the stage that ended last, where somebody looks.
    pub(crate) fn note_last(&mut self, note: impl FnOnce() -> String) {
        if let (true, Some(stage)) = (self.full, self.stages.last_mut()) {
            stage.notes.push(note());
        }
    }

    /// The stage of a step, with everything masked that its backend must not see shown.
    pub(crate) fn of_step(
        &mut self,
        (name, from): (StageName, Instant),
        step: &str,
        backend: &CompiledBackend,
        fill: impl FnOnce(&mut Stage),
    ) {
        self.stage(name, from, |stage| {
            stage.step = step.to_owned();
            fill(stage);
            stage.mask(&backend.credentials.mask);
        });
    }
}

/// A request to a backend as it is shown.
pub(crate) fn sent(request: &Outgoing, origin: &str, seen: Seen) -> Message {
    let target = match request.uri.path_and_query() {
        Some(target) => target.as_str(),
        None => "/",
    };
    let head = format!("{} {origin}{target}", request.method);
    message(Message::new(head, &request.fields.to_map(), ""), seen)
}

/// A backend's answer as it is shown.
pub(crate) fn came(status: StatusCode, fields: &HeaderMap, mut seen: Seen) -> Message {
    let own = seen.fields.take();
    let fields = own.as_ref().unwrap_or(fields);
    message(Message::new(status.to_string(), fields, ""), seen)
}

fn message(message: Message, seen: Seen) -> Message {
    if seen.streamed {
        return message.streamed(seen.bytes);
    }
    let message = match &seen.body {
        Some(body) => message.body(body),
        None => message,
    };
    Message {
        bytes: seen.bytes.or(message.bytes),
        ..message
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_refusing_stage_has_the_time_since_the_one_before() {
        let mut recorder = Recorder::new(true);
        assert_eq!(recorder.since_last(), recorder.started);
        let from = recorder.started + Duration::from_micros(40);
        while Instant::now() < from + Duration::from_micros(60) {
            std::hint::spin_loop();
        }
        recorder.stage(StageName::Match, from, |_| ());
        let matched = recorder.stages[0].from_us + recorder.stages[0].us;
        assert!(matched >= 100);
        recorder.stage(StageName::Admit, recorder.since_last(), |_| ());
        assert_eq!(recorder.stages[1].from_us, matched);
    }
}
