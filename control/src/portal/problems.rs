//! What callers are told where they are refused, and what they do about it.

use serde::Serialize;
use utoipa::ToSchema;

use crate::api::Json;

/// Statuses, the last parts of problems' types, and what to do.
const PROBLEMS: [(u16, &str, &str); 32] = [
    (
        400,
        "contract",
        "Mend the request: “errors” lists what does not fit the contract, and where.",
    ),
    (400, "host", "Call the host that the documentation names."),
    (
        400,
        "not-counted",
        "Send what calls are counted by here: the detail names it.",
    ),
    (
        400,
        "path",
        "Mend the path: a character of it is not encoded as it should be.",
    ),
    (
        401,
        "credential",
        "Show a credential that is good; WWW-Authenticate says which are taken.",
    ),
    (
        401,
        "key",
        "Show a key that is good: look whether it was ended, and whether it was copied whole.",
    ),
    (
        401,
        "digest",
        "Send Content-Digest of the body that is sent (RFC 9530).",
    ),
    (
        403,
        "agreement",
        "Ask for an offer that opens the operation, or renew the agreement: the detail says which.",
    ),
    (
        403,
        "network",
        "Call from a network that is let in; the publisher knows which.",
    ),
    (
        403,
        "not-granted",
        "Use a credential that opens this operation.",
    ),
    (
        403,
        "origin",
        "Call from a page of an origin that is let in, or not from a browser.",
    ),
    (403, "role", "Ask for the role that the detail names."),
    (
        403,
        "refused",
        "The publisher refuses such requests: the detail says why.",
    ),
    (
        404,
        "not-found",
        "Look at method and path: there is no such operation.",
    ),
    (405, "method", "Use one of the methods of the field Allow."),
    (
        406,
        "not-acceptable",
        "Ask for a media type that there is: the detail names them.",
    ),
    (
        413,
        "body-size",
        "Send less: the detail says how much is taken.",
    ),
    (
        415,
        "media-type",
        "Send the body in a media type that is taken, and say which in Content-Type.",
    ),
    (
        415,
        "coding",
        "Send the body without that Content-Encoding.",
    ),
    (
        429,
        "rate-limit",
        "Wait as long as Retry-After says, and call less often.",
    ),
    (
        429,
        "quota",
        "Wait for the next period, which Retry-After gives; or ask for an offer with more.",
    ),
    (
        429,
        "at-once",
        "Have fewer calls under way at the same time.",
    ),
    (
        429,
        "guessing",
        "Wait: too many wrong credentials came from this address.",
    ),
    (
        501,
        "no-example",
        "Ask for an example that there is: by Accept and the parameters.",
    ),
    (
        502,
        "backend-answer",
        "Try again later; tell the publisher the id of the reply if it stays.",
    ),
    (
        502,
        "answer-contract",
        "Tell the publisher the id of the reply: the answer did not fit the contract.",
    ),
    (502, "backend-unreachable", "Try again later."),
    (
        503,
        "paused",
        "The publisher has stopped it for now: try again later.",
    ),
    (
        503,
        "overloaded",
        "Try again a little later, with growing gaps.",
    ),
    (
        503,
        "backend-busy",
        "Try again a little later, with growing gaps.",
    ),
    (
        504,
        "backend-slow",
        "Try again later; what changes something may have been done all the same.",
    ),
    (
        504,
        "not-kept",
        "Ask without `only-if-cached`: no reply is kept.",
    ),
];

/// A kind of problem (RFC 9457).
#[derive(Serialize, ToSchema)]
pub(crate) struct ProblemKind {
    status: u16,
    /// Its `type`.
    #[serde(rename = "type")]
    kind: String,
    /// What whoever called does about it.
    todo: &'static str,
}

/// The kinds of problems that callers may be told of, and what they do about each. A publisher may have words of their own for some.
#[utoipa::path(get, path = "/api/problems", responses((status = 200, body = Vec<ProblemKind>)))]
pub(crate) async fn problems() -> Json<Vec<ProblemKind>> {
    let all = PROBLEMS.iter().map(|(status, reason, todo)| ProblemKind {
        status: *status,
        kind: format!("urn:elm-porch:problem:{reason}"),
        todo,
    });
    Json(all.collect())
}

#[cfg(test)]
mod tests {
    use porch_facade::REASONS;

    use super::PROBLEMS;

    #[test]
    fn each_is_a_reason_that_there_is_and_stands_here_once() {
        for (status, reason, _) in PROBLEMS {
            assert!(REASONS.contains(&reason), "{reason}");
            assert!((400..600).contains(&status), "{status}");
            let same = PROBLEMS.iter().filter(|(_, other, _)| *other == reason);
            assert_eq!(same.count(), 1, "{reason}");
        }
        assert!(PROBLEMS.is_sorted_by_key(|(status, _, _)| *status));
    }
}
