//! Explanations: a trace in words.

use porch_gateway::{Refusal, StageName, Trace};

/// Why an exchange got the reply it got, in sentences.
pub(crate) fn explain(trace: &Trace) -> Vec<String> {
    let mut lines = Vec::new();
    let who = match (trace.consumer_name.as_str(), trace.key.as_str()) {
        ("", _) => format!("A caller at {}", trace.address),
        (name, key) => format!("The consumer “{name}” (key {key}…, at {})", trace.address),
    };
    lines.push(format!(
        "{who} sent {} {} and got {}.",
        trace.method, trace.target, trace.status
    ));
    if !trace.operation.is_empty() {
        let served = if trace.release == 0 {
            "a trial run of the draft".to_owned()
        } else {
            format!("release {}", trace.release)
        };
        lines.push(format!(
            "It is the operation “{}” of the facade “{}”, in {served}.",
            trace.operation, trace.facade
        ));
    }
    if !trace.misfit.is_empty() {
        lines.push(format!(
            "Callers got it all the same, but {}.",
            trace.misfit
        ));
    }
    match &trace.refusal {
        Some(refusal) => lines.extend(why(refusal)),
        None => {
            let called = trace.stages.iter().any(|s| s.name == StageName::Call);
            let part = match called {
                true => ", and the backend's part can be seen in the stage “call”",
                false if trace.stages.is_empty() => "",
                false => "; no backend was called",
            };
            lines.push(format!(
                "Nothing refused it; it took {} µs{part}.",
                trace.us
            ));
        }
    }
    lines
}

fn why(refusal: &Refusal) -> Vec<String> {
    let mut lines = vec![format!(
        "The stage “{}” ended it: {}.",
        refusal.stage,
        refusal.why.trim_end_matches('.')
    )];
    if !refusal.rule.is_empty() {
        let place = if refusal.file.is_empty() {
            "built in".to_owned()
        } else {
            format!("{}:{}", refusal.file, refusal.line)
        };
        lines.push(format!(
            "The rule is “{}”, its reach {}, written in {place}.",
            refusal.rule, refusal.reach
        ));
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_refusal_names_stage_rule_reach_and_line() {
        let trace = Trace {
            consumer_name: "Quayside Kiosk".into(),
            key: "dsnfd6qu".into(),
            address: "127.0.0.1".into(),
            method: "GET".into(),
            target: "/sailings/v2/fares".into(),
            status: 429,
            operation: "quoteFare".into(),
            facade: "sailings".into(),
            release: 3,
            refusal: Some(Refusal {
                why: "too many.".into(),
                rule: "limit 7 in 90s per consumer".into(),
                reach: "facade sailings".into(),
                file: "sailings.facade.yaml".into(),
                line: 9,
                ..Refusal::default()
            }),
            ..Trace::default()
        };
        assert_eq!(
            explain(&trace),
            [
                "The consumer “Quayside Kiosk” (key dsnfd6qu…, at 127.0.0.1) sent GET /sailings/v2/fares and got 429.",
                "It is the operation “quoteFare” of the facade “sailings”, in release 3.",
                "The stage “match” ended it: too many.",
                "The rule is “limit 7 in 90s per consumer”, its reach facade sailings, written in sailings.facade.yaml:9.",
            ]
        );
        let trial = Trace {
            operation: "quoteFare".into(),
            us: 7,
            ..Trace::default()
        };
        let lines = explain(&trial);
        assert!(
            lines[0].starts_with("A caller at") && lines[1].ends_with("a trial run of the draft.")
        );
        assert!(lines[2].contains("7 µs"));
    }
}
