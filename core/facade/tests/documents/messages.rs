//! Streams among several calls: how much of them is taken must be said, and there must be one.

use super::several::changed;
use super::*;

#[test]
fn what_is_wrong_with_a_list_of_messages_is_told() {
    let mut wrong = Vec::new();
    for (from, to, expected) in [
        (
            "        messages: { at-most: 3, within: 2s }\n",
            "",
            "103:20 StreamPositions is a stream: how much of it is taken is not said (say so many messages, `messages: { at-most: 20 }`, or for so long: `within: 2s`)",
        ),
        (
            "at-most: 3, within",
            "at-most: 0, within",
            "105:21 0 is no number from 1 to 10000 ()",
        ),
        (
            "reply: { positions: =seen.body }",
            "reply: { positions: '=seen.body.map(p, p.speed)' }",
            "106:46 “speed” may be absent (say what happens then: ….p.?speed leaves it out, ….p.?speed.orValue(…) puts something in its place)",
        ),
        (
            "reply: { positions: =seen.body }",
            "reply: { positions: '=[seen.body[0].sped]' }",
            "106:41 the body of seen at […] has no “sped” (did you mean “speed”?)",
        ),
        (
            "operation: HoldSeats",
            "messages: {}\n        operation: HoldSeats",
            "59:9 “messages” has no meaning here: the answer is no stream (streams are those of gRPC servers, and of HTTP: lines of JSON and events)",
        ),
    ] {
        let said = first(&changed(from, to));
        let said = said
            .rsplit_once(".yaml:")
            .map_or(said.as_str(), |(_, s)| s)
            .to_owned();
        if said != expected {
            wrong.push(format!("{to}\n  {said}\n"));
        }
    }
    assert!(wrong.is_empty(), "\n{}", wrong.concat());
}
