//! The places of one line that nodes have together: asked for while somebody is in it, and given back.

use std::sync::Arc;
use std::time::Duration;

use porch_facade::WhenApart;
use porch_rules::limit::{PlacesAsked, PlacesTold};
use tokio::sync::{Notify, oneshot};

use super::{Held, Key, Line, Lines, NoPlace};
use crate::count::{Away, CommonCounts};

/// So long a node has its places without being heard of.
const LASTS: Duration = Duration::from_secs(10);
/// So often it says that it is there.
pub(super) const HEARD: Duration = Duration::from_secs(1);
/// So often it asks for more while somebody waits.
const ASKS: Duration = Duration::from_millis(15);
/// So long it keeps places that nobody uses here.
pub(super) const KEEPS: Duration = Duration::from_millis(100);

/// Asks for the places of one line.
pub(super) struct Asker {
    pub(super) lines: std::sync::Weak<Lines>,
    pub(super) key: Key,
    pub(super) apart: WhenApart,
    pub(super) common: Arc<dyn CommonCounts>,
    pub(super) wakes: Arc<Notify>,
}

impl Asker {
    pub(super) async fn run(self) {
        // What it has, if it ends early, is over before others have it.
        while let Some(asked) = self.asked() {
            let told = self.common.places(self.key.0, self.key.1, asked).await;
            let Some(pause) = self.heard(asked, told) else {
                return;
            };
            let woken = tokio::time::timeout(pause, self.wakes.notified()).await;
            if woken.is_ok() && self.may_rest() {
                // One has ended, and another may come at once: what it had is kept for it a little.
                let _ = tokio::time::timeout(KEEPS, self.wakes.notified()).await;
            }
        }
    }

    /// Whether nobody waits, here or elsewhere.
    fn may_rest(&self) -> bool {
        let Some(lines) = self.lines.upgrade() else {
            return false;
        };
        let all = lines.lock();
        let line = all.get(&self.key);
        let yields = |line: &Line| line.together.as_ref().is_some_and(|t| t.yields);
        line.is_some_and(|line| line.waiting.is_empty() && !yields(line))
    }

    /// What is asked for now.
    fn asked(&self) -> Option<PlacesAsked> {
        let lines = self.lines.upgrade()?;
        let mut all = lines.lock();
        let line = all.get_mut(&self.key)?;
        line.tidy();
        let together = line.together.as_mut()?;
        let wanted = line.inside.saturating_add(line.waiting.len() as u64);
        let wanted = wanted.min(together.most).max(line.inside);
        // What is not wanted any more is not taken either, from before it is said.
        together.may = together.may.min(wanted);
        together.questions += 1;
        together.woken = false;
        Some(PlacesAsked {
            most: together.most,
            held: together.may.max(line.inside),
            wanted,
            served: std::mem::take(&mut together.served),
            lasts: LASTS.as_millis() as u64,
        })
    }

    /// What was told: lets in whom there is room for. How long until it is asked again; nothing, where nobody is there any more.
    fn heard(&self, asked: PlacesAsked, told: Result<PlacesTold, Away>) -> Option<Duration> {
        let lines = self.lines.upgrade()?;
        let mut entered = Vec::new();
        let refused;
        let pause = {
            let mut all = lines.lock();
            let line = all.get_mut(&self.key)?;
            let together = line.together.as_mut()?;
            match told {
                Ok(told) => {
                    together.may = told.may;
                    together.yields = told.yields;
                    together.away = None;
                }
                Err(away) => {
                    let share = together.most / self.common.state().nodes.max(1);
                    together.may = match self.apart {
                        WhenApart::Refuse => 0,
                        WhenApart::Share => share,
                    };
                    together.yields = false;
                    together.away = Some(away);
                }
            }
            while let Some(who) = line.next() {
                entered.push(who);
            }
            refused = line.refused(self.apart);
            if line.inside == 0 && line.waiting.is_empty() && asked.wanted == 0 {
                all.remove(&self.key);
                None
            } else {
                Some(line.pause(asked))
            }
        };
        for who in entered {
            // One who has just gone gives the place on when this is dropped.
            drop(who.send(Ok(lines.held(self.key))));
        }
        for (who, why) in refused {
            drop(who.send(Err(why)));
        }
        pause
    }
}

type Refused = Vec<(oneshot::Sender<Result<Held, NoPlace>>, NoPlace)>;

impl Line {
    /// Those who are told now that there is no place: all, where it cannot be known; else those who do not wait for one to end.
    fn refused(&mut self, apart: WhenApart) -> Refused {
        let away = self.refuses(apart);
        let questions = self.together.as_ref().map_or(0, |t| t.questions);
        let waiting = std::mem::take(&mut self.waiting);
        let before = waiting.len();
        let mut refused = Refused::new();
        for waiter in waiting {
            match &away {
                Some(why) => refused.push((waiter.who, NoPlace::Away(why.clone()))),
                None if waiter.waits || waiter.after >= questions => self.waiting.push_back(waiter),
                None => refused.push((waiter.who, NoPlace::Full(before - 1))),
            }
        }
        refused
    }

    /// How long until it is asked again.
    fn pause(&self, asked: PlacesAsked) -> Duration {
        let may = self.together.as_ref().map_or(0, |t| t.may);
        match self.waiting.is_empty() {
            false => ASKS,
            true if may > self.inside || asked.wanted != self.inside => KEEPS,
            true => HEARD,
        }
    }
}
