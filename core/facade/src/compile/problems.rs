//! Compiling what callers are told of problems.

use std::sync::Arc;

use http::{HeaderValue, Uri};
use porch_contract::{Finding, Step, suggest};
use serde_json::Value;

use super::FacadeCompiler;
use super::levels::Level;
use super::refusals::OWN;
use crate::compiled::{Of, REASONS, RulePlace, Words};
use crate::documents::{ProblemDoc, Texts};

/// By language.
type Said = Vec<(Box<str>, Box<str>)>;

impl<'a> FacadeCompiler<'a> {
    /// What callers of the operation at hand are told, the narrowest reach first; operations of which the same documents say
    /// something share it.
    pub(super) fn words(&mut self) -> Option<Arc<[Words]>> {
        let levels = self.levels.clone();
        let said = levels.iter().rev().filter(|l| !l.problems.is_empty());
        let said: Vec<&Level<'a>> = said.collect();
        if said.is_empty() {
            return None;
        }
        let names = said
            .iter()
            .map(|l| format!("{} {}\n", l.site.file, l.reach));
        let key: String = names.collect();
        if let Some(known) = self.worded.get(&key) {
            return Some(known.clone());
        }
        let mut all: Vec<Words> = Vec::new();
        for level in said {
            let mut own = self.within(level, |c| c.words_of(level));
            // What is said of a reason goes before what is said of a status, and that before what is said of many.
            own.sort_by_key(|words| match words.of {
                Of::Reason(_) => 0,
                Of::Status(_) => 1,
                Of::Class(_) => 2,
            });
            all.extend(own);
        }
        let all: Arc<[Words]> = all.into();
        self.worded.insert(key, all.clone());
        Some(all)
    }

    fn words_of(&mut self, level: &Level<'a>) -> Vec<Words> {
        let all = level.problems.iter();
        all.filter_map(|(key, doc)| self.one(level, key, doc))
            .collect()
    }

    fn one(&mut self, level: &Level<'a>, key: &str, doc: &ProblemDoc) -> Option<Words> {
        let steps = level.below(&["problems", key]);
        let below = |more: &[&str]| {
            let more: Vec<Step> = more.iter().map(|k| Step::Key((*k).into())).collect();
            [steps.as_slice(), &more].concat()
        };
        let before = self.findings.len();
        let of = self.of_which(&steps, key);
        let title = self.said_in(&below(&["title"]), doc.title.as_ref());
        let detail = self.said_in(&below(&["detail"]), doc.detail.as_ref());
        let help = doc
            .help
            .as_ref()
            .and_then(|help| self.page(&below(&["help"]), help));
        if doc
            .kind
            .as_ref()
            .is_some_and(|kind| kind.parse::<Uri>().is_err())
        {
            let message = "a type is a URI".to_owned();
            self.wrong_words(
                &below(&["type"]),
                message,
                "as in https://skerry.example/problems/tide (RFC 9457 §3.1.1)",
            );
        }
        let mut members = Vec::new();
        for (name, value) in &doc.members {
            let steps = below(&["members", name]);
            if OWN.contains(&name.as_str()) {
                let message = format!("“{name}” is a problem's own member");
                self.wrong_words(
                    &steps,
                    message,
                    "say it beside `members:`, or call yours another name",
                );
            } else if has_expression(value) {
                let message = "there are no expressions here".to_owned();
                self.wrong_words(&steps, message, "`refuse:` words problems of your own; a text that begins with “=” begins with “==”");
            }
            members.push((name.clone(), literal(value)));
        }
        let at = self.here.node.locate(&steps, true);
        let place = RulePlace {
            rule: format!("words of the facade's own for {key}").into(),
            reach: level.reach.clone(),
            file: self.shared.text(self.here.file),
            line: at.line,
        };
        (self.findings.len() == before).then_some(Words {
            of: of?,
            title,
            detail,
            kind: doc.kind.as_deref().map(Into::into),
            help,
            members,
            place: Arc::new(place),
        })
    }

    fn wrong_words(&mut self, steps: &[Step], message: String, help: &str) {
        let at = self.here.node.locate(steps, false);
        let told = Finding::error(self.here.file, at, message);
        self.findings.push(told.help(help));
    }

    /// Which problems a key means.
    fn of_which(&mut self, steps: &[Step], key: &str) -> Option<Of> {
        let status = key.parse().ok().filter(|s| (400..600).contains(s));
        let class = match key {
            "4XX" | "4xx" => Some(4),
            "5XX" | "5xx" => Some(5),
            _ => None,
        };
        if let Some(of) = status.map(Of::Status).or(class.map(Of::Class)) {
            return Some(of);
        }
        if REASONS.contains(&key) {
            return Some(Of::Reason(key.into()));
        }
        let at = self.here.node.locate(steps, true);
        let message = format!("“{key}” is no status of an error, and no reason of a problem");
        let help = match suggest(key, REASONS) {
            Some(near) => format!("did you mean “{near}”?"),
            None => format!("write 404, 5XX, or one of {}", REASONS.join(", ")),
        };
        let told = Finding::error(self.here.file, at, message);
        self.findings.push(told.help(help));
        None
    }

    /// Texts by their languages (RFC 5646 §2.1).
    fn said_in(&mut self, steps: &[Step], texts: Option<&Texts>) -> Said {
        let all = texts.map_or_else(Vec::new, Texts::all);
        if matches!(texts, Some(Texts::Many(_))) {
            for (tag, _) in all.iter().filter(|(tag, _)| !is_tag(tag)) {
                let steps = [steps, &[Step::Key((*tag).into())]].concat();
                let message = format!("“{tag}” is no tag of a language");
                self.wrong_words(&steps, message, "as in en, nn or en-GB (RFC 5646)");
            }
            if all.is_empty() {
                self.wrong_words(steps, "there is no text".into(), "");
            }
        }
        let own = |(tag, text): (&str, &str)| -> (Box<str>, Box<str>) {
            (tag.into(), plain(text).into())
        };
        all.into_iter().map(own).collect()
    }

    /// A link to a page (RFC 8288 §3).
    fn page(&mut self, steps: &[Step], help: &str) -> Option<HeaderValue> {
        let is_page =
            help.starts_with('/') || help.starts_with("http://") || help.starts_with("https://");
        let is_uri = help.parse::<Uri>().is_ok() && !help.contains(['<', '>', '"', ' ']);
        let link = HeaderValue::from_str(&format!("<{help}>; rel=\"help\""));
        match link {
            Ok(link) if is_page && is_uri => Some(link),
            _ => {
                let message = format!("“{help}” is no address of a page");
                self.wrong_words(steps, message, "as in https://skerry.example/help/limits");
                None
            }
        }
    }
}

/// A text that begins with `==` begins with `=`, as everywhere.
fn plain(text: &str) -> &str {
    text.strip_prefix('=')
        .filter(|t| t.starts_with('='))
        .unwrap_or(text)
}

fn literal(value: &Value) -> Value {
    match value {
        Value::String(text) => Value::String(plain(text).to_owned()),
        Value::Array(items) => items.iter().map(literal).collect(),
        Value::Object(map) => {
            let members = map.iter().map(|(k, v)| (k.clone(), literal(v)));
            Value::Object(members.collect())
        }
        other => other.clone(),
    }
}

fn has_expression(value: &Value) -> bool {
    match value {
        Value::String(text) => text.starts_with('=') && !text.starts_with("=="),
        Value::Array(items) => items.iter().any(has_expression),
        Value::Object(map) => map.values().any(has_expression),
        _ => false,
    }
}

fn is_tag(tag: &str) -> bool {
    let mut parts = tag.split('-');
    let is_part =
        |p: &str| (1..=8).contains(&p.len()) && p.bytes().all(|b| b.is_ascii_alphanumeric());
    let first = parts.next().unwrap_or_default();
    is_part(first) && first.bytes().all(|b| b.is_ascii_alphabetic()) && parts.all(is_part)
}
