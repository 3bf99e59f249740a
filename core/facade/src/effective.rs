//! The rules that act on one operation, in the order in which they act.

use porch_contract::Place;
use serde::Serialize;

use crate::compiled::{CompiledPorch, RulePlace, Wiring};

/// One rule that acts, with the stage of the exchange it acts in.
#[derive(Clone, Debug, Serialize)]
pub struct EffectiveRule {
    /// `match`, `admit`, `prepare`, `call`, `reply` or `record`.
    pub stage: &'static str,
    /// The rule and where it stands.
    #[serde(flatten)]
    pub place: RulePlace,
}

/// The rules that act on an operation.
pub fn effective(porch: &CompiledPorch, operation: u32) -> Vec<EffectiveRule> {
    let op = &porch.operations[operation as usize];
    let (facade, backend) = (&porch.facades[op.facade], &porch.backends[op.backend]);
    let built_in = |rule: String| RulePlace {
        rule,
        reach: "everywhere".into(),
        file: String::new(),
        line: 0,
    };
    let wiring = |rule: String| RulePlace {
        rule,
        ..op.place.clone()
    };
    let mut rules = vec![EffectiveRule {
        stage: "match",
        place: wiring(format!("{} {}{}", op.method, facade.base, op.path)),
    }];
    if let Some(place) = &op.key {
        let mut place = place.clone();
        place.rule = format!(
            "a key is demanded in the header {}",
            facade.key_header_shown
        );
        rules.push(EffectiveRule {
            stage: "admit",
            place,
        });
    }
    rules.extend(op.limits.iter().map(|l| EffectiveRule {
        stage: "admit",
        place: l.place.clone(),
    }));
    rules.push(EffectiveRule {
        stage: "admit",
        place: op.max_body.1.clone(),
    });
    let checked: Vec<&str> = op
        .parameters
        .iter()
        .filter(|p| p.place != Place::Header || p.required)
        .map(|p| p.name.as_str())
        .collect();
    if !checked.is_empty() {
        rules.push(EffectiveRule {
            stage: "admit",
            place: wiring(format!(
                "parameters fit the contract: {}",
                checked.join(", ")
            )),
        });
    }
    match &op.wiring {
        Wiring::Soap(soap) => {
            rules.push(EffectiveRule {
                stage: "prepare",
                place: wiring(format!(
                    "JSON becomes a SOAP envelope for {}",
                    soap.operation
                )),
            });
            rules.push(EffectiveRule {
                stage: "call",
                place: wiring(format!("{} within {:?}", backend.name, backend.timeout)),
            });
            let whole = if soap.reply.is_some() {
                "the answer is shaped as `reply` says"
            } else {
                "the whole answer becomes JSON"
            };
            rules.push(EffectiveRule {
                stage: "reply",
                place: wiring(whole.into()),
            });
        }
        Wiring::Grpc(grpc) => {
            let stream = if grpc.client_streaming {
                "lines of JSON become messages"
            } else {
                "JSON becomes a message"
            };
            rules.push(EffectiveRule {
                stage: "prepare",
                place: wiring(format!("{stream} for {}", grpc.method)),
            });
            if grpc.mask.is_some() {
                rules.push(EffectiveRule {
                    stage: "prepare",
                    place: wiring(
                        "a mask that is not sent is made from the members that are".into(),
                    ),
                });
            }
            rules.push(EffectiveRule {
                stage: "call",
                place: wiring(format!(
                    "{} within {:?}; each message at most {} bytes",
                    backend.name, backend.timeout, grpc.max_message
                )),
            });
            let reply = match (&grpc.reply, grpc.server_streaming) {
                (Some(_), _) => "each message is shaped as `reply` says",
                (None, true) => "each message becomes a line of JSON, or an event, as it comes",
                (None, false) => "the message becomes JSON",
            };
            rules.push(EffectiveRule {
                stage: "reply",
                place: wiring(reply.into()),
            });
        }
        Wiring::Http(http) => {
            let body = if http.body.is_some() {
                "path, query, headers and body are built"
            } else {
                "path, query and headers are built; the body streams through"
            };
            rules.push(EffectiveRule {
                stage: "prepare",
                place: wiring(body.into()),
            });
            rules.push(EffectiveRule {
                stage: "call",
                place: wiring(format!("{} within {:?}", backend.name, backend.timeout)),
            });
            let reply = if http.reply.is_some() {
                "the answer is shaped as `reply` says"
            } else {
                "the answer streams through"
            };
            rules.push(EffectiveRule {
                stage: "reply",
                place: wiring(reply.into()),
            });
        }
    }
    rules.push(EffectiveRule {
        stage: "record",
        place: built_in("usage is counted; a trace is kept when refused, failed or sampled".into()),
    });
    rules
}
