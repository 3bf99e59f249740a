//! What callers are told when they are refused.

use std::net::IpAddr;
use std::time::Duration;

use http::header;
use porch_facade::{
    CompiledFacade, CompiledOperation, CredentialKind, Demanded, RoleRule, RulePlace,
};
use porch_rules::grant::{Consumer, Grant};
use serde_json::json;

use super::Problem;
pub(crate) use super::of_failure::bad_answer;
use crate::body::ReadFailure;
use crate::budget::NoRoom;
use crate::failure::Mistake;
use crate::fields::PROXY_STATUS;
use crate::trace::StageName;

pub(crate) fn bad_path(why: &str) -> Box<Problem> {
    let title = "The path is not valid";
    Problem::new(400, "path", title, format!("{why}."), StageName::Match)
}

/// A request whose host is not one (RFC 9112 §3.2).
pub(crate) fn bad_host(why: &str) -> Box<Problem> {
    let title = "The host is not valid";
    let detail = format!("A request names one host in its header field Host: {why}.");
    Problem::new(400, "host", title, detail, StageName::Match)
}

/// A transfer coding other than chunked (RFC 9112 §6.1).
pub(crate) fn unknown_transfer_coding() -> Box<Problem> {
    let title = "The transfer coding is not understood";
    let detail = "Send the body chunked, or with its length.";
    Problem::new(501, "transfer-coding", title, detail, StageName::Match)
}

/// A request that is led in a circle (RFC 9110 §7.6.3).
pub(crate) fn a_loop() -> Box<Problem> {
    let title = "Loop detected";
    let detail = "The request came through here several times already.";
    Problem::new(508, "loop-detected", title, detail, StageName::Match)
        .why("it came through porches eight times: a backend's address leads back here (Via)")
}

/// A reply that is only wanted if it is kept (RFC 9111 §5.2.1.7).
pub(crate) fn not_kept(op: &CompiledOperation) -> Box<Problem> {
    let title = "The reply is not kept";
    let detail = "It was only wanted if it need not be asked for.";
    Problem::new(504, "not-kept", title, detail, StageName::Prepare).by(&op.place)
}

pub(crate) fn nothing_here(path: &str) -> Box<Problem> {
    let detail = "Nothing is published at this host and path.";
    Problem::new(404, "not-found", "Nothing here", detail, StageName::Match)
        .why(format!("no facade has {path}"))
}

pub(crate) fn other_methods(allowed: &str) -> Box<Problem> {
    let detail = format!("This path takes {allowed}.");
    Problem::new(
        405,
        "method",
        "Method not allowed",
        detail,
        StageName::Match,
    )
    .header(header::ALLOW, allowed)
}

pub(crate) fn paused(op: &CompiledOperation) -> Box<Problem> {
    let detail = "This operation is paused by its publisher.";
    Problem::new(503, "paused", "Paused", detail, StageName::Match)
        .why("the facade or the operation is paused")
        .by(&op.place)
        .header(header::RETRY_AFTER, "60")
}

pub(crate) fn not_acceptable(offered: &[&str], op: &CompiledOperation) -> Box<Problem> {
    let detail = format!("This operation gives {}.", offered.join(" or "));
    let title = "Not in a media type you accept";
    Problem::new(406, "not-acceptable", title, detail, StageName::Admit).by(&op.place)
}

/// An operation that calls nothing, whose contract has nothing that can be answered.
pub(crate) fn no_example(op: &CompiledOperation) -> Box<Problem> {
    let detail = "This operation has no backend yet, and its contract has no example.";
    let title = "Nothing to answer yet";
    Problem::new(501, "no-example", title, detail, StageName::Reply).by(&op.place)
}

/// A credential that is missing or not good; `challenges` say how each kind is shown (RFC 9110 §11.6.1). What is not good is
/// told alike, whatever is wrong with it.
pub(crate) fn no_credential(
    demanded: &Demanded,
    hint: Option<String>,
    why: String,
    challenges: impl Iterator<Item = String>,
) -> Box<Problem> {
    let mut rules = demanded.rules.iter();
    let keys = rules.all(|r| matches!(r.kind, CredentialKind::Key(_)));
    let (kind, title, wrong) = match keys {
        true => ("key", "A key is needed", "The key is not valid."),
        false => (
            "credential",
            "A credential is needed",
            "The credential is not valid.",
        ),
    };
    let detail = hint.unwrap_or_else(|| wrong.to_owned());
    let mut problem = Problem::new(401, kind, title, detail, StageName::Admit).why(why);
    if let Some(first) = demanded.rules.first() {
        problem = problem.by(&first.place);
    }
    challenges.fold(problem, |problem, challenge| {
        problem.header(header::WWW_AUTHENTICATE, &challenge)
    })
}

/// A caller that is known and has not the role that it takes (RFC 9110 §15.5.4).
pub(crate) fn no_role(consumer: &Consumer, own: &[&str], rule: &RoleRule) -> Box<Problem> {
    let wanted = rule.any.join(" or ");
    let title = "Another role is needed";
    let detail = format!("This takes the role {wanted}.");
    let own = match own {
        [] => "no role".to_owned(),
        some => some.join(", "),
    };
    Problem::new(403, "role", title, detail, StageName::Admit)
        .why(format!(
            "{} has {own}, and this takes {wanted}",
            consumer.name
        ))
        .by(&rule.place)
        .with("roles", json!(rule.any))
}

/// A credential that is for agreements of which none holds here now.
pub(crate) fn no_agreement(
    (facade, op): (&CompiledFacade, &CompiledOperation),
    grant: &Grant,
    now: i64,
    place: &RulePlace,
) -> Box<Problem> {
    let title = "An agreement is needed";
    let what = format!("{}/{}", facade.name, op.id);
    let all = grant.consumer.agreements.iter();
    let mut would = all.filter(|a| a.is_open(&facade.name, &op.id));
    let hint = match would.next() {
        None => "Ask for an offer that opens it.".to_owned(),
        Some(a) if a.paused => format!("That of {} is paused.", a.offer),
        Some(a) if a.until <= now => format!("That of {} has ended.", a.offer),
        Some(a) if a.from > now => format!("That of {} has not begun.", a.offer),
        Some(a) => format!("That of {} is not one that the credential is for.", a.offer),
    };
    let detail = format!("No agreement holds for {what} now. {hint}");
    let why = format!(
        "of what {} of {} is for, no agreement holds for {what} now",
        grant.told(),
        grant.consumer.name,
    );
    Problem::new(403, "agreement", title, detail, StageName::Admit)
        .of(grant)
        .why(why)
        .by(place)
}

pub(crate) fn seconds(d: Duration) -> u64 {
    d.as_millis().div_ceil(1000) as u64
}

/// A request that does not fit the contract, every mistake listed.
pub(crate) fn mistakes(
    list: Vec<Mistake>,
    op: &CompiledOperation,
    stage: StageName,
) -> Box<Problem> {
    let errors: Vec<_> = list
        .iter()
        .map(|(pointer, detail)| json!({ "pointer": pointer, "detail": detail }))
        .collect();
    let why = list
        .iter()
        .map(|(pointer, detail)| format!("{pointer} {detail}"))
        .collect::<Vec<_>>()
        .join("; ");
    let detail = if list.len() == 1 {
        why.clone()
    } else {
        format!("{} values do not fit; see `errors`.", list.len())
    };
    let title = "The request does not fit the contract";
    // The wiring's place, but not its rule: the call itself has done nothing yet.
    let mut place = (*op.place).clone();
    place.rule = "the request fits the contract".into();
    Problem::new(400, "contract", title, detail, stage)
        .why(why)
        .by(&place)
        .with("errors", json!(errors))
}

/// A body that is larger than allowed.
pub(crate) fn too_large(op: &CompiledOperation) -> Box<Problem> {
    let most = op.admission.max_body;
    let detail = format!("The body may have at most {most} bytes.");
    let title = "The body is too large";
    Problem::new(413, "body-size", title, detail, StageName::Admit).by(&op.admission.max_body_place)
}

pub(crate) fn body_unreadable(failure: ReadFailure, op: &CompiledOperation) -> Box<Problem> {
    let (status, kind, title, detail) = match failure {
        ReadFailure::TooLarge => return too_large(op),
        ReadFailure::NoRoom(room) => return no_room(room, op, StageName::Admit),
        ReadFailure::TooSlow => (
            408,
            "request-slow",
            "The request is too slow",
            "Its body did not arrive in time.",
        ),
        ReadFailure::BrokenOff => (
            400,
            "request-broke-off",
            "The request broke off",
            "Its body is not complete.",
        ),
    };
    Problem::new(status, kind, title, detail, StageName::Admit).by(&op.place)
}

/// A good key that is for other facades (RFC 9110 §15.5.4): the caller is known, and so no challenge is made.
pub(crate) fn not_granted(
    facade: &CompiledFacade,
    grant: &Grant,
    place: &RulePlace,
) -> Box<Problem> {
    let detail = format!("The credential is good, but not for {}.", facade.name);
    let opened = grant.opens.iter().flat_map(|o| o.facades.iter().flatten());
    let opened: Vec<&str> = opened.map(String::as_str).collect();
    let why = format!(
        "{} of {} opens {} only",
        grant.told(),
        grant.consumer.name,
        opened.join(", ")
    );
    Problem::new(403, "not-granted", "Not granted", detail, StageName::Admit)
        .of(grant)
        .why(why)
        .by(place)
}

/// A caller of a network that may not call.
pub(crate) fn other_network(address: IpAddr, place: &RulePlace) -> Box<Problem> {
    let detail = format!(
        "Calls from {} are not admitted here.",
        address.to_canonical()
    );
    let title = "Not from this network";
    Problem::new(403, "network", title, detail, StageName::Admit)
        .why(format!("the caller's address is {address}: {}", place.rule))
        .by(place)
}

/// There is no memory for a body now, or there never will be.
pub(crate) fn no_room(room: NoRoom, op: &CompiledOperation, stage: StageName) -> Box<Problem> {
    let (title, detail) = (
        "Overloaded",
        "Too much is under way. Try again in a second.",
    );
    let problem = match (room, stage) {
        (NoRoom::Now, _) => {
            Problem::new(503, "overloaded", title, detail, stage).header(header::RETRY_AFTER, "1")
        }
        (NoRoom::Ever(..), StageName::Reply) => {
            let title = "The backend's answer cannot be used";
            let detail = "It is too large for what is made of it.";
            Problem::new(502, "backend-answer", title, detail, stage)
        }
        (NoRoom::Ever(..), _) => {
            let title = "The body is too large";
            let detail = "It holds more than can be read. Send less at a time.";
            Problem::new(413, "body-size", title, detail, stage)
        }
    };
    problem.why(room.to_string()).by(&op.place)
}

pub(crate) fn not_understood(taken: &[String], came: &str, op: &CompiledOperation) -> Box<Problem> {
    let detail = format!("Send {}; {came} came.", taken.join(" or "));
    let title = "Media type not understood";
    Problem::new(415, "media-type", title, detail, StageName::Admit)
        .by(&op.place)
        .header(header::ACCEPT, &taken.join(", "))
}

/// A body in a content coding, where it must be read here (RFC 9110 §12.5.3, §15.5.16).
pub(crate) fn coded(op: &CompiledOperation) -> Box<Problem> {
    let detail = "The body must be read here: send it with no content coding, or with one of gzip and deflate.";
    let title = "Content coding not understood";
    Problem::new(415, "coding", title, detail, StageName::Admit)
        .by(&op.place)
        .header(header::ACCEPT_ENCODING, "gzip, deflate, identity")
}

/// Several calls that took too long together.
pub(crate) fn late_together(
    op: &CompiledOperation,
    names: &[&str],
    within: Duration,
) -> Box<Problem> {
    let title = "The backends are too slow";
    let detail = "Not all answers came in time. Try again later.";
    let why = format!(
        "all calls together have {within:?} (`timeout`), and these were waited for still: {}",
        names.join(", ")
    );
    Problem::new(504, "backend-slow", title, detail, StageName::Call)
        .why(why)
        .by(&op.place)
        .header(PROXY_STATUS, "elm-porch; error=http_response_timeout")
}

/// An operation that nothing here can carry out.
pub(crate) fn not_wired(op: &CompiledOperation) -> Box<Problem> {
    let detail = "This operation cannot be carried out.";
    Problem::new(500, "wiring", "Not wired", detail, StageName::Prepare).by(&op.place)
}

/// A token that cannot be held against the keys of its issuer, since these cannot be had: no fault of the caller.
pub(crate) fn no_issuer(why: &str, place: &RulePlace) -> Box<Problem> {
    let title = "The token cannot be checked";
    let detail = "Its issuer gives no keys now. Try again in a moment.";
    Problem::new(503, "issuer", title, detail, StageName::Admit)
        .why(why)
        .by(place)
        .header(header::RETRY_AFTER, "5")
}

/// A good token that is no consumer's (RFC 9110 §15.5.4).
pub(crate) fn nobodys(why: String, place: &RulePlace) -> Box<Problem> {
    let detail = "The token is good, and nobody is registered for it here.";
    Problem::new(403, "not-granted", "Not granted", detail, StageName::Admit)
        .why(why)
        .by(place)
}

/// A body that is not what its signed digest says (RFC 9530): somebody changed it on the way, or the caller took another one.
pub(crate) fn other_body(why: String, demanded: &Demanded) -> Box<Problem> {
    let title = "The body is not the one that was signed";
    let detail = "Its Content-Digest says something else.";
    let problem = Problem::new(401, "digest", title, detail, StageName::Admit).why(why);
    match demanded.rules.first() {
        Some(rule) => problem.by(&rule.place),
        None => problem,
    }
}
