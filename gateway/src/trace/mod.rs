//! Traces: one exchange, stage by stage, before and after each change, secrets masked.

mod recorder;
pub(crate) mod sensitive;

use http::HeaderMap;
use porch_facade::{MASK, Mask, RulePlace};
use porch_rules::key::{hide_keys, keys_in};
use serde::{Deserialize, Serialize};

pub(crate) use recorder::{Recorder, came, sent};

/// A stage of an exchange.
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum StageName {
    /// Host and path to an operation.
    #[default]
    Match,
    /// Credentials, limits, sizes, contract.
    Admit,
    /// The backend's request.
    Prepare,
    /// The backend's answer.
    Call,
    /// What is made of it.
    Reply,
    /// Usage and trace.
    Record,
}

impl std::fmt::Display for StageName {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            StageName::Match => "match",
            StageName::Admit => "admit",
            StageName::Prepare => "prepare",
            StageName::Call => "call",
            StageName::Reply => "reply",
            StageName::Record => "record",
        })
    }
}

/// The record of one exchange.
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Trace {
    /// The exchange's id: its trace id (W3C Trace Context §3.2.2.3).
    pub id: String,
    /// When it began, in milliseconds since 1970.
    pub at: i64,
    /// Number of the release that served it; 0 for a trial run.
    pub release: u64,
    /// Facade, or empty.
    pub facade: String,
    /// `operationId`, or empty.
    pub operation: String,
    /// Number of the consumer, 0 when unknown.
    pub consumer: i64,
    /// Name of the consumer, or empty.
    pub consumer_name: String,
    /// What the key is known by, or empty.
    pub key: String,
    /// The caller's address.
    pub address: String,
    /// Method.
    pub method: String,
    /// Path and query.
    pub target: String,
    /// Status of the reply.
    pub status: u16,
    /// Microseconds from first to last.
    pub us: u64,
    /// Why there was no normal reply.
    pub refusal: Option<Refusal>,
    /// What of the reply does not fit the contract, where callers get it all the same.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub misfit: String,
    /// The stages, in order.
    pub stages: Vec<Stage>,
}

/// Why an exchange was refused or failed.
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Refusal {
    /// The stage that said so.
    pub stage: StageName,
    /// Why, with everything that helps the publisher.
    pub why: String,
    /// The rule, its reach, its document and line.
    pub rule: String,
    /// Reach of the rule.
    pub reach: String,
    /// Document of the rule.
    pub file: String,
    /// Line in the document.
    pub line: usize,
}

impl Trace {
    /// Whole keys that stand where they can be read on the way: in the target, or in a body.
    pub(crate) fn keys_in_the_open(&self) -> Vec<(&'static str, String)> {
        let messages = self.stages.iter().flat_map(|s| [&s.before, &s.after]);
        let bodies = messages.flatten().map(|m| ("a body", &m.body));
        let all = std::iter::once(("the target", &self.target)).chain(bodies);
        let found = all.flat_map(|(place, text)| {
            keys_in(text)
                .into_iter()
                .map(move |k| (place, k.to_owned()))
        });
        let mut found: Vec<_> = found.take(10).collect();
        found.dedup();
        found
    }

    /// Takes keys out of everything that is shown, whether or not they are good, wherever they were sent.
    pub(crate) fn hide_keys(&mut self) {
        let hide = |text: &mut String| {
            hide_keys(text, MASK);
        };
        hide(&mut self.target);
        hide(&mut self.misfit);
        if let Some(refusal) = &mut self.refusal {
            hide(&mut refusal.why);
        }
        for stage in &mut self.stages {
            stage.notes.iter_mut().for_each(hide);
            for message in [&mut stage.before, &mut stage.after].into_iter().flatten() {
                hide(&mut message.head);
                hide(&mut message.body);
                message
                    .headers
                    .iter_mut()
                    .for_each(|(_, value)| hide(value));
            }
        }
    }

    /// Masks secrets in everything that is shown.
    pub(crate) fn mask(&mut self, mask: &Mask) {
        if mask.is_empty() {
            return;
        }
        mask.text(&mut self.target);
        mask.text(&mut self.misfit);
        if let Some(refusal) = &mut self.refusal {
            mask.text(&mut refusal.why);
        }
        for stage in &mut self.stages {
            stage.mask(mask);
        }
    }
}

impl Stage {
    /// Masks secrets in everything that is shown.
    pub(crate) fn mask(&mut self, mask: &Mask) {
        if mask.is_empty() {
            return;
        }
        for note in &mut self.notes {
            mask.text(note);
        }
        for message in [&mut self.before, &mut self.after].into_iter().flatten() {
            message.mask(mask);
        }
    }
}

impl Refusal {
    pub(crate) fn new(stage: StageName, why: impl Into<String>, place: &RulePlace) -> Self {
        Self {
            stage,
            why: why.into(),
            rule: place.rule.to_string(),
            reach: place.reach.to_string(),
            file: place.file.to_string(),
            line: place.line,
        }
    }
}

/// One stage of an exchange.
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Stage {
    /// Which.
    pub name: StageName,
    /// The step it belongs to, where an operation has several.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub step: String,
    /// Microseconds from the beginning of the exchange to that of the stage.
    pub from_us: u64,
    /// Microseconds it took.
    pub us: u64,
    /// What was found, decided or tolerated.
    pub notes: Vec<String>,
    /// The message before it.
    pub before: Option<Message>,
    /// The message after it.
    pub after: Option<Message>,
}

/// A message as it was at some point.
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Message {
    /// Request or status line.
    pub head: String,
    /// Header fields.
    pub headers: Vec<(String, String)>,
    /// The body, or its beginning.
    pub body: String,
    /// Length of the whole body in bytes, when known.
    pub bytes: Option<u64>,
}

/// At most this much of a body is kept.
const MAX_BODY: usize = 16 * 1024;
/// Header fields that are never shown.
const MASKED: [&str; 6] = [
    "authorization",
    "proxy-authorization",
    "cookie",
    "set-cookie",
    "api-key",
    "x-api-key",
];

impl Message {
    pub(crate) fn new(head: String, headers: &HeaderMap, masked: &str) -> Self {
        let headers = headers
            .iter()
            .map(|(name, value)| {
                let hide = MASKED.contains(&name.as_str()) || name.as_str() == masked;
                let text = if hide {
                    MASK.to_owned()
                } else {
                    String::from_utf8_lossy(value.as_bytes()).into_owned()
                };
                (name.to_string(), text)
            })
            .collect();
        Self {
            head,
            headers,
            body: String::new(),
            bytes: None,
        }
    }

    pub(crate) fn body(mut self, bytes: &[u8]) -> Self {
        let shown = &bytes[..bytes.len().min(MAX_BODY)];
        let mut text = String::from_utf8_lossy(shown).into_owned();
        if shown.len() < bytes.len() {
            text.push('…');
        }
        self.body = text;
        self.bytes = Some(bytes.len() as u64);
        self
    }

    /// Masks secrets wherever they stand.
    pub(crate) fn mask(&mut self, mask: &Mask) {
        match self.body.strip_suffix('…').map(str::to_owned) {
            Some(mut kept) => {
                mask.cut_text(&mut kept);
                self.body = kept + "…";
            }
            None => mask.text(&mut self.body),
        }
        mask.text(&mut self.head);
        for (_, value) in &mut self.headers {
            mask.text(value);
        }
    }

    pub(crate) fn streamed(mut self, length: Option<u64>) -> Self {
        self.body = "(streamed through)".into();
        self.bytes = length;
        self
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn secrets_are_masked_as_xml_and_where_the_end_of_what_is_kept_cuts_them_in_two() {
        let mask = Mask::of(["tide & tackle"]);
        let shown = |body: &str| {
            let mut message = Message::default().body(body.as_bytes());
            message.mask(&mask);
            message.body
        };
        assert_eq!(
            shown("a tide & tackle b tide &amp; tackle"),
            "a •••• b ••••"
        );
        let cut = shown(&format!(
            "{}tide &amp; ta{}",
            "x".repeat(MAX_BODY - 13),
            "ckle and more"
        ));
        assert!(cut.ends_with("x••••…") && !cut.contains("tide"));
    }
}
