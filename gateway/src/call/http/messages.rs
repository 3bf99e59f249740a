//! Answers of several messages, taken as a list: lines of JSON, JSON text sequences, events.

use http::{header, response};
use http_body_util::BodyExt;
use porch_facade::Gathering;
use serde_json::Value;
use tokio::time::Instant;

use crate::answer::{Content, MAX_ANSWER, Passed, Seen, Whole};
use crate::backend::Came;
use crate::call::{Context, Read};
use crate::failure::Failure;
use crate::media;

/// How messages stand one behind the other.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Form {
    /// A line each.
    Lines,
    /// A record separator before each (RFC 7464 §2.1).
    Sequence,
    /// Events (HTML, “Server-sent events”, 9.2.6): the data of each.
    Events,
}

impl Form {
    fn of(essence: &str) -> Option<Self> {
        match essence {
            "application/x-ndjson" | "application/jsonl" => Some(Self::Lines),
            "application/json-seq" => Some(Self::Sequence),
            "text/event-stream" => Some(Self::Events),
            _ => None,
        }
    }

    fn between(self) -> u8 {
        match self {
            Self::Sequence => 0x1e,
            Self::Lines | Self::Events => b'\n',
        }
    }
}

/// Takes messages out of what came.
struct Splitter {
    form: Form,
    buffer: Vec<u8>,
    /// So much of the buffer is taken already, and so much was looked at.
    taken: usize,
    looked: usize,
    /// The data of the event at hand.
    data: Option<Vec<u8>>,
}

impl Splitter {
    fn new(form: Form) -> Self {
        Self {
            form,
            buffer: Vec::new(),
            taken: 0,
            looked: 0,
            data: None,
        }
    }

    fn push(&mut self, bytes: &[u8]) {
        self.buffer.drain(..self.taken);
        self.looked -= self.taken;
        self.taken = 0;
        self.buffer.extend_from_slice(bytes);
    }

    /// The next message that is there whole; what has nothing in it is none.
    fn next(&mut self) -> Option<Vec<u8>> {
        loop {
            let between = self.form.between();
            let rest = &self.buffer[self.looked..];
            let Some(at) = rest.iter().position(|b| *b == between) else {
                self.looked = self.buffer.len();
                return None;
            };
            let (from, to) = (self.taken, self.looked + at);
            (self.taken, self.looked) = (to + 1, to + 1);
            let piece = self.buffer[from..to].to_vec();
            if let Some(message) = self.piece(&piece) {
                return Some(message);
            }
        }
    }

    /// What is left where no more comes. An event that is not ended by an empty line is none.
    fn last(&mut self) -> Option<Vec<u8>> {
        let piece = self.buffer.split_off(self.taken);
        match self.form {
            Form::Events => None,
            _ => self.piece(&piece),
        }
    }

    fn piece(&mut self, piece: &[u8]) -> Option<Vec<u8>> {
        let piece = piece.strip_suffix(b"\r").unwrap_or(piece);
        if self.form != Form::Events {
            let piece = piece.trim_ascii();
            return (!piece.is_empty()).then(|| piece.to_vec());
        }
        if piece.is_empty() {
            return self.data.take();
        }
        let of = piece.strip_prefix(b"data")?;
        let value = match of {
            [] => &[][..],
            [b':', b' ', rest @ ..] | [b':', rest @ ..] => rest,
            _ => return None,
        };
        match &mut self.data {
            Some(data) => {
                data.push(b'\n');
                data.extend_from_slice(value);
            }
            None => self.data = Some(value.to_vec()),
        }
        None
    }
}

/// Takes the messages of an answer as a list, as many and for as long as is said.
pub(super) async fn gathered(
    cx: &Context<'_>,
    head: response::Parts,
    body: Came,
    of: &Gathering,
) -> Read {
    let mut seen = Seen::default();
    let answer = match list(cx, &head, body, of).await {
        Ok((list, told)) => {
            if cx.keep {
                seen.notes.push(told);
                seen.body = Some(Value::Array(list.clone()).to_string().into());
            }
            let body = Content::Value(Value::Array(list));
            Ok(Whole::of(head.status, &head.headers, body, Passed::All))
        }
        Err(failure) => Err(failure),
    };
    Read {
        status: head.status,
        fields: head.headers,
        seen,
        notes: Vec::new(),
        answer,
    }
}

async fn list(
    cx: &Context<'_>,
    head: &response::Parts,
    mut body: Came,
    of: &Gathering,
) -> Result<(Vec<Value>, String), Failure> {
    let essence = media::essence(&head.headers);
    let Some(form) = Form::of(&essence) else {
        let shown = if essence.is_empty() {
            "nothing"
        } else {
            &essence
        };
        let why = format!("it says that it is {shown}, and no stream of messages is that");
        return Err(Failure::Answer(why));
    };
    if media::is_coded(&head.headers) {
        let coding = head.headers.get(header::CONTENT_ENCODING);
        let why = format!("its content coding {coding:?} was not asked for");
        return Err(Failure::Answer(why));
    }
    let end = of.within.map(|within| Instant::now() + within);
    let (mut all, mut came) = (Vec::new(), 0);
    let mut splitter = Splitter::new(form);
    loop {
        while let Some(message) = splitter.next() {
            all.push(json(cx, &message, all.len())?);
            if all.len() == of.at_most {
                return Ok((all, of.told_most()));
            }
        }
        let silent = Instant::now() + cx.backend.idle;
        let until = end.map_or(silent, |end| end.min(silent));
        match tokio::time::timeout_at(until, body.frame()).await {
            Err(_) if end == Some(until) => {
                let told = of.told_within(all.len());
                return Ok((all, told));
            }
            Err(_) => return Err(Failure::Silent),
            Ok(None) => {
                if let Some(message) = splitter.last() {
                    all.push(json(cx, &message, all.len())?);
                }
                let told = format!("its {} messages are a list", all.len());
                return Ok((all, told));
            }
            Ok(Some(Err(e))) => {
                let why = format!("it broke off in the middle of its answer: {e}");
                return Err(Failure::Answer(why));
            }
            Ok(Some(Ok(frame))) => {
                let Ok(data) = frame.into_data() else {
                    continue;
                };
                came += data.len();
                if came > MAX_ANSWER {
                    let why = format!("it has more than {MAX_ANSWER} bytes");
                    return Err(Failure::Answer(why));
                }
                cx.share.gather(data.len())?;
                splitter.push(&data);
            }
        }
    }
}

fn json(cx: &Context<'_>, message: &[u8], number: usize) -> Result<Value, Failure> {
    cx.share.read(message)?;
    let number = number + 1;
    serde_json::from_slice(message)
        .map_err(|e| Failure::Answer(format!("its message {number} is no JSON: {e}")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn messages_are_found_in_pieces_of_any_size() {
        for (form, text, expected) in [
            (
                Form::Lines,
                "{\"a\":1}\n\r\n  [2]\r\n3",
                vec!["{\"a\":1}", "[2]", "3"],
            ),
            (Form::Lines, "", vec![]),
            (
                Form::Sequence,
                "\x1e{\"a\":\n1}\n\x1e\x1e2\n\x1e3\n",
                vec!["{\"a\":\n1}", "2", "3"],
            ),
            (
                Form::Events,
                ": hello\nevent: x\ndata: {\"a\":\ndata:1}\r\n\r\ndata\n\ndata: 2\n\nid: 7\n\ndata: 3\n",
                vec!["{\"a\":\n1}", "", "2"],
            ),
        ] {
            for size in [1, 2, 3, 7, 1000] {
                let mut splitter = Splitter::new(form);
                let mut all = Vec::new();
                for piece in text.as_bytes().chunks(size) {
                    splitter.push(piece);
                    while let Some(message) = splitter.next() {
                        all.push(String::from_utf8(message).expect("a text"));
                    }
                }
                all.extend(
                    splitter
                        .last()
                        .map(|m| String::from_utf8(m).expect("a text")),
                );
                assert_eq!(all, expected, "{form:?} in pieces of {size}");
            }
        }
    }
}
