//! Requests for offers: asked, granted and turned down, each with its line in the audit and with both sides told.

use porch_facade::{Granting, Renewing};
use porch_store::entity::{agreement, consumer, offer_request};
use porch_store::{AgreementChange, NewAgreement, NewMessage, NewRequest, now_ms};
use serde_json::{Value, json};

use super::Directory;
use super::objects::Turn;
use crate::error::ApiError;
use crate::publication::Offer;

/// Somebody asks for an offer.
pub(crate) struct Asking<'a> {
    /// Number of the consumer.
    pub(crate) consumer: i64,
    pub(crate) offer: &'a Offer,
    /// What whoever asks writes.
    pub(crate) why: &'a str,
    /// The version of the text that is accepted.
    pub(crate) accepted: Option<&'a str>,
}

/// How an agreement ends.
pub(crate) struct Ending<'a> {
    pub(crate) agreement: i64,
    /// When, in milliseconds since 1970; the agreement's own end stays where it is sooner.
    pub(crate) at: i64,
    pub(crate) why: &'a str,
    /// Whether it is those who call that end it.
    pub(crate) by_caller: bool,
}

/// A request and what followed from it.
pub(crate) type Decided = (offer_request::Model, consumer::Model);

fn conflict(title: impl Into<String>, help: &str) -> ApiError {
    ApiError::new(409, title, help)
}

/// What was accepted, as it is kept.
fn acceptance(asking: &Asking<'_>, who: &str) -> Result<Option<Value>, ApiError> {
    let Some(accept) = &asking.offer.doc.accept else {
        return Ok(None);
    };
    match asking.accepted {
        Some(version) if version == accept.version => Ok(Some(json!({
            "version": version,
            "digest": asking.offer.digest(),
            "by": who,
            "at": now_ms(),
        }))),
        Some(_) => Err(conflict(
            "The text that is accepted has changed",
            "Read it again, and accept it as it is now.",
        )),
        None => Err(ApiError::new(
            400,
            "The text of the offer is not accepted",
            format!("Accept version {}.", accept.version),
        )),
    }
}

/// When an agreement begins and ends that follows from an offer now; one that goes on begins where the last one ends.
fn period(offer: &Offer, before: &[agreement::Model]) -> (i64, Option<i64>) {
    let now = now_ms();
    let last = before.iter().filter(|a| a.ended.is_none() && !a.paused);
    let last = last.filter_map(|a| a.until_at).max();
    let from = last.map_or(now, |until| until.max(now));
    let lasts = offer.doc.lasts.map(|span| span.0.as_millis());
    let until = lasts.map(|ms| from.saturating_add(i64::try_from(ms).unwrap_or(i64::MAX)));
    (from, until)
}

/// Whether a consumer may ask for an offer, after what it asked for and has.
fn may_ask(
    offer: &Offer,
    asked: &[offer_request::Model],
    has: &[agreement::Model],
) -> Result<(), ApiError> {
    let title = offer.title();
    if asked.iter().any(|r| r.state == "open") {
        let title = format!("{title} was asked for already");
        return Err(conflict(
            title,
            "Wait for the answer, or withdraw the request.",
        ));
    }
    let now = now_ms();
    let holds = |a: &&agreement::Model| a.until_at.is_none_or(|until| until > now);
    let holding: Vec<&agreement::Model> = has.iter().filter(holds).collect();
    if offer.doc.renewed == Renewing::Never && !has.is_empty() {
        let title = format!("{title} is had once");
        return Err(conflict(title, "There are other offers."));
    }
    match holding.as_slice() {
        [] => Ok(()),
        [only] if only.until_at.is_some() && offer.doc.renewed == Renewing::ByAsking => Ok(()),
        [_] if offer.doc.renewed == Renewing::ByAsking => {
            let title = format!("An agreement of {title} holds already");
            Err(conflict(
                title,
                "It has no end: nothing needs to be renewed.",
            ))
        }
        _ => {
            let title = format!("An agreement of {title} holds already");
            Err(conflict(title, "Ask again when it ends."))
        }
    }
}

impl Directory {
    /// Asks for an offer. Where no person need say yes, it is granted at once.
    pub(crate) async fn ask(&self, who: &str, asking: &Asking<'_>) -> Result<Decided, ApiError> {
        let offer = asking.offer;
        let accepted = acceptance(asking, who)?;
        let change = self.change(who).await?;
        let consumer = change.held_consumer(asking.consumer).await?;
        let (asked, has) = change
            .asked_and_agreed(consumer.id, &offer.doc.name)
            .await?;
        may_ask(offer, &asked, &has)?;
        let new = NewRequest {
            consumer: consumer.id,
            offer: &offer.doc.name,
            why: asking.why,
            accepted,
        };
        let made = change.create_request(&new).await?;
        let object = format!("request {}", made.id);
        let detail = json!({ "offer": made.offer, "consumer": consumer.name });
        change.audit("made", &object, detail).await?;
        let detail = json!({ "request": made.id, "offer": made.offer, "consumer": consumer.name });
        if offer.doc.granted == Granting::AtOnce {
            let granted = self
                .grant_in(&change, (made, &consumer), offer, ("", &has))
                .await?;
            let told = ("granted", object, detail);
            self.commit(change, (consumer.id, &[]), told).await?;
            return Ok((granted, consumer));
        }
        let (name, title) = (&consumer.name, offer.title());
        let publishers = NewMessage {
            kind: "request-made",
            team: None,
            subject: &format!("{name} asks for {title}"),
            text: &match asking.why {
                "" => format!("{who} asks for {title}, for {name}."),
                why => format!("{who} asks for {title}, for {name}: {why}"),
            },
            detail: detail.clone(),
        };
        change.tell(&publishers).await?;
        let own = NewMessage {
            kind: "request-made",
            team: consumer.team_id,
            subject: &format!("You asked for {title}"),
            text: &format!(
                "A person looks at your request for {name}. You are told what comes of it."
            ),
            detail,
        };
        if consumer.team_id.is_some() {
            change.tell(&own).await?;
        }
        change.commit_alone().await?;
        Ok((made, consumer))
    }

    /// Grants a request: what follows is an agreement with the offer's terms as they are now.
    pub(crate) async fn grant(
        &self,
        who: &str,
        request: i64,
        offer: &Offer,
        reason: &str,
    ) -> Result<Decided, ApiError> {
        let change = self.change(who).await?;
        let open = change.open_request(request).await?;
        let consumer = change.held_consumer(open.consumer_id).await?;
        let (_, has) = change.asked_and_agreed(consumer.id, &open.offer).await?;
        let granted = self
            .grant_in(&change, (open, &consumer), offer, (reason, &has))
            .await?;
        let detail = json!({ "offer": granted.offer, "consumer": consumer.name, "agreement": granted.agreement_id, "reason": reason });
        let told = ("granted", format!("request {request}"), detail);
        self.commit(change, (consumer.id, &[]), told).await?;
        Ok((granted, consumer))
    }

    async fn grant_in(
        &self,
        change: &Turn,
        (request, consumer): (offer_request::Model, &consumer::Model),
        offer: &Offer,
        (reason, has): (&str, &[agreement::Model]),
    ) -> Result<offer_request::Model, ApiError> {
        let (from_at, until_at) = period(offer, has);
        let new = NewAgreement {
            consumer: consumer.name.clone(),
            offer: offer.doc.name.clone(),
            terms: json!(offer.doc.terms),
            opens: Some(offer.opens.clone()),
            from_at,
            until_at,
            request_id: Some(request.id),
            accepted: request.accepted.clone(),
        };
        let made = change.create_agreement(&new).await?;
        change.bind_consumer(consumer.id).await?;
        let granted = change
            .decide_request(request, ("granted", reason), Some(made.id))
            .await?;
        if let Some(team) = consumer.team_id {
            let (name, title) = (&consumer.name, offer.title());
            let until = until_at.map_or_else(
                || "without end".to_owned(),
                |at| format!("until {}", day(at)),
            );
            let text = match reason {
                "" => format!("{name} may call what {title} opens, {until}."),
                why => format!("{name} may call what {title} opens, {until}. {why}"),
            };
            let told = NewMessage {
                kind: "request-granted",
                team: Some(team),
                subject: &format!("{title} is granted"),
                text: &text,
                detail: json!({ "request": granted.id, "agreement": made.id, "offer": granted.offer, "consumer": name }),
            };
            change.tell(&told).await?;
        }
        Ok(granted)
    }

    /// Turns a request down with a reason, or withdraws it.
    pub(crate) async fn decline(
        &self,
        who: &str,
        request: i64,
        (state, reason): (&str, &str),
    ) -> Result<Decided, ApiError> {
        let change = self.change(who).await?;
        let open = change.open_request(request).await?;
        let consumer = change.held_consumer(open.consumer_id).await?;
        let decided = change.decide_request(open, (state, reason), None).await?;
        let detail = json!({ "request": request, "offer": decided.offer, "consumer": consumer.name, "reason": reason });
        let what = match state {
            "withdrawn" => "withdrew",
            _ => "turned down",
        };
        let object = format!("request {request}");
        change.audit(what, &object, detail.clone()).await?;
        let team = match state {
            "withdrawn" => None,
            _ => consumer.team_id,
        };
        let subject = match state {
            "withdrawn" => format!("{} asks for {} no more", consumer.name, decided.offer),
            _ => format!("Your request for {} is turned down", decided.offer),
        };
        let kind = format!("request-{state}");
        let told = NewMessage {
            kind: &kind,
            team,
            subject: &subject,
            text: reason,
            detail,
        };
        if state == "withdrawn" || team.is_some() {
            change.tell(&told).await?;
        }
        change.commit_alone().await?;
        Ok((decided, consumer))
    }

    /// Ends an agreement at a time, and tells the other side.
    pub(crate) async fn end_agreement(
        &self,
        who: &str,
        ending: &Ending<'_>,
    ) -> Result<agreement::Model, ApiError> {
        let change = self.change(who).await?;
        let known = change.held_agreement(ending.agreement).await?;
        let consumer = change.held_consumer(known.consumer_id).await?;
        let now = now_ms();
        if known.until_at.is_some_and(|until| until <= now) {
            return Err(conflict("It has ended already", ""));
        }
        let at = known.until_at.map_or(ending.at, |own| own.min(ending.at));
        let wanted = AgreementChange {
            until_at: Some(Some(at)),
            ended: Some(json!({ "by": who, "at": now, "why": ending.why })),
            ..AgreementChange::default()
        };
        let changed = change.change_agreement(known.id, &wanted).await?;
        let detail = json!({ "agreement": known.id, "offer": changed.offer, "consumer": consumer.name, "until_at": at, "why": ending.why });
        let team = match ending.by_caller {
            true => None,
            false => consumer.team_id,
        };
        if ending.by_caller || team.is_some() {
            let told = NewMessage {
                kind: "agreement-ending",
                team,
                subject: &format!(
                    "The agreement of {} on {} ends",
                    consumer.name, changed.offer
                ),
                text: &match ending.why {
                    "" => format!("It ends on {}.", day(at)),
                    why => format!("It ends on {}. {why}", day(at)),
                },
                detail: detail.clone(),
            };
            change.tell(&told).await?;
        }
        let told = ("ended", format!("agreement {}", known.id), detail);
        self.commit(change, (consumer.id, &[]), told).await?;
        Ok(changed)
    }
}

/// A day as people write it for everybody (ISO 8601), in UTC.
pub(crate) fn day(ms: i64) -> String {
    let at = chrono::DateTime::from_timestamp_millis(ms);
    at.map_or_else(String::new, |at| at.format("%Y-%m-%d").to_string())
}
