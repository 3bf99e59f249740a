//! What ends soon: agreements that go on by themselves do, and those who call are told of the rest once.

use std::sync::PoisonError;
use std::time::{Duration, Instant};

use porch_facade::Renewing;
use porch_store::{AgreementChange, NewMessage, now_ms};
use serde_json::json;

use super::Directory;
use super::offers::day;
use crate::error::ApiError;
use crate::publication::Offered;

/// So long before an end people are told of it, in milliseconds.
const BEFORE: i64 = 7 * 24 * 3_600_000;
/// So long before an end what goes on by itself does; what lasts less, in the last tenth.
const LAST_DAY: i64 = 24 * 3_600_000;

/// How long before its end an agreement that lasts so long goes on.
pub(super) fn lead(lasts: i64) -> i64 {
    (lasts / 10).min(LAST_DAY)
}

/// Who uses what will be gone is looked at so often.
const AGAIN: Duration = Duration::from_secs(3600);

impl Directory {
    /// Lets agreements go on that do so by themselves, and tells of those and of keys that end. Whether anything was changed
    /// or told.
    pub(crate) async fn look_at_ends(&self, offered: &Offered) -> Result<bool, ApiError> {
        let mut any = false;
        let named = |goes_on: bool| -> Vec<String> {
            let offers = offered.offers.iter();
            let own = offers.filter(|(_, o)| (o.doc.renewed == Renewing::ByItself) == goes_on);
            own.map(|(name, _)| name.clone()).collect()
        };
        any |= self.go_on(offered, &named(true)).await?;
        any |= self.tell_of_agreements(&named(false)).await?;
        any |= self.tell_of_keys().await?;
        any |= self.tell_of_sunsets(offered).await?;
        Ok(any)
    }

    async fn go_on(&self, offered: &Offered, names: &[String]) -> Result<bool, ApiError> {
        let store = self.database.store()?;
        let now = now_ms();
        let mut any = false;
        for (found, consumer) in store.agreements_ending(names, now + LAST_DAY).await? {
            let lasts = offered.offers.get(&found.offer).and_then(|o| o.doc.lasts);
            let (Some(lasts), Some(until)) = (lasts, found.until_at) else {
                continue;
            };
            let lasts = i64::try_from(lasts.0.as_millis()).unwrap_or(i64::MAX);
            if until - now > lead(lasts) {
                continue;
            }
            let change = self.change("the offer").await?;
            let wanted = AgreementChange {
                until_at: Some(Some(until.saturating_add(lasts))),
                ..AgreementChange::default()
            };
            // Another node may have done it meanwhile, or somebody ended it.
            let now = change.held_agreement(found.id).await?;
            if now.until_at != found.until_at || now.ended.is_some() {
                continue;
            }
            change.change_agreement(found.id, &wanted).await?;
            let detail = json!({ "offer": found.offer, "until_at": until.saturating_add(lasts) });
            let told = ("renewed", format!("agreement {}", found.id), detail);
            self.commit(change, (consumer.id, &[]), told).await?;
            any = true;
        }
        Ok(any)
    }

    async fn tell_of_agreements(&self, names: &[String]) -> Result<bool, ApiError> {
        let store = self.database.store()?;
        let mut any = false;
        for (found, consumer) in store.agreements_ending(names, now_ms() + BEFORE).await? {
            let (Some(team), Some(until)) = (consumer.team_id, found.until_at) else {
                continue;
            };
            let subject = format!(
                "{} of {} ends on {}",
                found.offer,
                consumer.name,
                day(until)
            );
            let told = NewMessage {
                kind: "agreement-ending",
                team: Some(team),
                subject: &subject,
                text: "Ask for it again before, or for another offer: calls that it opens are refused from then on.",
                detail: json!({ "agreement": found.id, "consumer": consumer.name, "until_at": until }),
            };
            let change = store.change("the offer").await?;
            any |= change
                .tell_once(&told, &format!("agreement {} {until}", found.id))
                .await?;
            change.commit().await?;
        }
        Ok(any)
    }

    /// Those who use what will be gone are told a month and a week before, once each.
    async fn tell_of_sunsets(&self, offered: &Offered) -> Result<bool, ApiError> {
        let store = self.database.store()?;
        let (now, mut any) = (now_ms(), false);
        for sunset in &offered.sunsets {
            let left = sunset.on.seconds() * 1000 - now;
            let Some(days) = [7, 30].into_iter().find(|d| left <= d * LAST_DAY) else {
                continue;
            };
            if left < 0 {
                continue;
            }
            let (facade, on) = (&sunset.facade, sunset.on);
            // Who is told is looked at once in a while: it may be very many.
            let looked = format!("{facade} {on} {days}");
            if !self.is_due(&looked) {
                continue;
            }
            let ids = sunset.operations.iter().map(String::as_str);
            let change = store.change("the release").await?;
            for (team, opened) in change.teams_that_use(facade, ids).await? {
                let own = |id: &&String| {
                    opened.contains(facade) || opened.contains(&format!("{facade}/{id}"))
                };
                let ids: Vec<&String> = sunset.operations.iter().filter(own).collect();
                let shown: Vec<&str> = ids.iter().take(20).map(|id| id.as_str()).collect();
                let told = NewMessage {
                    kind: "sunset",
                    team: Some(team),
                    subject: &format!("{} of {facade} may be gone from {on}", ids.len()),
                    text: &format!(
                        "From {on} these may not be there any more: {}.",
                        shown.join(", ")
                    ),
                    detail: json!({ "facade": facade, "operations": ids, "on": on.to_string() }),
                };
                let about = format!("sunset {facade} {on} {days} {team}");
                any |= change.tell_once(&told, &about).await?;
            }
            change.commit().await?;
            let mut all = self.looked.lock().unwrap_or_else(PoisonError::into_inner);
            all.insert(looked, Instant::now());
        }
        Ok(any)
    }

    /// Whether something was not looked at in the last hour.
    fn is_due(&self, what: &str) -> bool {
        let mut looked = self.looked.lock().unwrap_or_else(PoisonError::into_inner);
        looked.retain(|_, at| at.elapsed() < AGAIN);
        !looked.contains_key(what)
    }

    async fn tell_of_keys(&self) -> Result<bool, ApiError> {
        let store = self.database.store()?;
        let mut any = false;
        for (key, consumer) in store.keys_ending(now_ms() + BEFORE).await? {
            let until = key.ends_at.unwrap_or_default();
            let subject = format!(
                "The key {} of {} ends on {}",
                key.prefix,
                consumer.name,
                day(until)
            );
            let told = NewMessage {
                kind: "key-ending",
                team: consumer.team_id,
                subject: &subject,
                text: "Make another one before: calls with it are refused from then on.",
                detail: json!({ "key": key.prefix, "consumer": consumer.name, "until_at": until }),
            };
            let change = store.change("the offer").await?;
            any |= change
                .tell_once(&told, &format!("key {} {until}", key.prefix))
                .await?;
            change.commit().await?;
        }
        Ok(any)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_goes_on_does_so_in_its_last_day_or_tenth() {
        assert_eq!(lead(365 * LAST_DAY), LAST_DAY);
        assert_eq!(lead(3_600_000), 360_000);
    }
}
