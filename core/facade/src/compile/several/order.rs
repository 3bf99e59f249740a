//! Which call waits for which, from what their expressions name.

use porch_contract::Severity;
use serde_json::Value;

use super::{FacadeCompiler, Of};
use crate::documents::NamedCallDoc;

/// Names that mean something else in expressions, or will.
const TAKEN: [&str; 14] = [
    "path", "query", "header", "body", "caller", "answer", "item", "page", "terms", "claims",
    "secret", "cookie", "exchange", "reply",
];

/// Words that no expression may use as a name (CEL, "Syntax", `RESERVED`), and those that are values.
const RESERVED: [&str; 22] = [
    "true",
    "false",
    "null",
    "in",
    "as",
    "break",
    "const",
    "continue",
    "else",
    "for",
    "function",
    "if",
    "import",
    "let",
    "loop",
    "namespace",
    "package",
    "return",
    "var",
    "void",
    "while",
    "has",
];

/// Whose answers each call waits for, and an order in which none comes before those.
pub(super) struct Order {
    /// For each call the numbers of those that it waits for.
    pub(super) needs: Vec<Vec<usize>>,
    /// All of them.
    pub(super) sequence: Vec<usize>,
    /// For each call whether it changes something.
    pub(super) writes: Vec<bool>,
    /// For each call all of those that are done before it begins.
    pub(super) behind: Vec<Vec<usize>>,
}

impl Order {
    /// What changes something runs one behind the other, in the order of the document as far as their needs have none.
    fn of(needs: Vec<Vec<usize>>, sequence: Vec<usize>, writes: Vec<bool>) -> Self {
        let mut behind: Vec<Vec<usize>> = vec![Vec::new(); needs.len()];
        for (at, i) in sequence.iter().enumerate() {
            let before = sequence[..at].iter().copied();
            let before = before.filter(|b| writes[*i] && writes[*b]);
            let direct: Vec<usize> = needs[*i].iter().copied().chain(before).collect();
            let mut all: Vec<usize> = direct.iter().flat_map(|b| behind[*b].clone()).collect();
            all.extend(direct);
            all.sort_unstable();
            all.dedup();
            behind[*i] = all;
        }
        Self {
            needs,
            sequence,
            writes,
            behind,
        }
    }
}

impl<'a> FacadeCompiler<'a> {
    /// The order of an operation's calls; `None` where they wait for each other.
    pub(super) fn order(&mut self, of: Of<'a>, names: &[&str]) -> Option<Order> {
        if !self.sound_names(of, names) {
            return None;
        }
        let calls = || of.doc.calls.values();
        let needs: Vec<Vec<usize>> = calls().map(|doc| self.needs(doc, names)).collect();
        let method = &of.contract_op.method;
        let writes: Vec<bool> = calls().map(|doc| doc.changes_something(method)).collect();
        let mut sequence: Vec<usize> = Vec::new();
        loop {
            let is_open = |i: &usize| !sequence.contains(i);
            let ready = |i: &usize| needs[*i].iter().all(|n| sequence.contains(n));
            // What changes something comes behind what does so before it in the document, unless that waits for it.
            let in_turn = |i: &usize| !(writes[*i] && (0..*i).any(|b| writes[b] && is_open(&b)));
            let mut all = (0..names.len()).filter(|i| is_open(i) && ready(i));
            let first = all.clone().next();
            match all.find(in_turn).or(first) {
                Some(next) => sequence.push(next),
                None if sequence.len() == names.len() => break,
                None => {
                    self.circle(of, names, &needs, &sequence);
                    return None;
                }
            }
        }
        self.undone_by_what_is_known(of, names, &needs);
        Some(Order::of(needs, sequence, writes))
    }

    /// What a call names of the others.
    fn needs(&self, doc: &NamedCallDoc, names: &[&str]) -> Vec<usize> {
        let texts = [&doc.when, &doc.each].into_iter().flatten();
        let texts: Vec<Value> = texts.map(|t| Value::String(t.clone())).collect();
        let pages = doc.pages.iter();
        let pages = pages.flat_map(|p| {
            [
                p.first.clone(),
                p.items.as_str().into(),
                p.next.as_str().into(),
            ]
        });
        let texts: Vec<Value> = texts.into_iter().chain(pages).collect();
        let values = [&doc.send, &doc.soap_headers, &doc.answer, &doc.otherwise];
        let all = texts.iter().chain(values.into_iter().flatten());
        let mut needs: Vec<usize> = all.flat_map(|v| self.named(v, names)).collect();
        needs.sort_unstable();
        needs.dedup();
        needs
    }

    /// Tells of calls that wait for each other, along one such circle.
    fn circle(&mut self, of: Of<'_>, names: &[&str], needs: &[Vec<usize>], done: &[usize]) {
        let is_open = |i: &usize| !done.contains(i);
        let Some(mut at) = (0..names.len()).find(is_open) else {
            return;
        };
        // Whoever waits for somebody who waits comes to a circle in so many steps.
        let mut walked = Vec::new();
        while !walked.contains(&at) {
            walked.push(at);
            match needs[at].iter().copied().find(is_open) {
                Some(next) => at = next,
                None => break,
            }
        }
        let from = walked.iter().position(|i| *i == at).unwrap_or(0);
        let circle = &walked[from..];
        let message = match circle {
            [one] => format!("“{}” waits for its own answer", names[*one]),
            many => {
                let told: Vec<&str> = many.iter().chain([&many[0]]).map(|i| names[*i]).collect();
                format!("calls wait for each other: {}", told.join(" needs "))
            }
        };
        let help = match circle {
            [_] => "below `answer:` it is called `answer`",
            _ => "take one of the references out",
        };
        let key = ["operations", of.id, "calls", names[circle[0]]];
        self.tell_at(Severity::Error, &key, message, help);
    }

    /// What undoes a call may name its answer, and those that it waited for.
    fn undone_by_what_is_known(&mut self, of: Of<'_>, names: &[&str], needs: &[Vec<usize>]) {
        for (i, (name, doc)) in of.doc.calls.iter().enumerate() {
            let send = doc.undo.as_ref().and_then(|u| u.send.as_ref());
            let Some(send) = send else { continue };
            let mut known = vec![i];
            let mut next = 0;
            while let Some(at) = known.get(next) {
                let more = needs[*at].iter().filter(|n| !known.contains(n));
                let more: Vec<usize> = more.copied().collect();
                known.extend(more);
                next += 1;
            }
            let strangers = self.named(send, names);
            let strangers = strangers.into_iter().filter(|n| !known.contains(n));
            let strangers: Vec<&str> = strangers.map(|n| names[n]).collect();
            if strangers.is_empty() {
                continue;
            }
            let message = format!(
                "when “{name}” is undone, the answer of {} may not be there",
                strangers.join(", ")
            );
            let help = format!("what undoes it may name {name} and what {name} waits for");
            let key = ["operations", of.id, "calls", name, "undo"];
            self.tell_at(Severity::Error, &key, message, &help);
        }
    }

    /// Names of calls are names in expressions.
    fn sound_names(&mut self, of: Of<'_>, names: &[&str]) -> bool {
        let before = self.findings.len();
        for name in names {
            let mut letters = name.bytes();
            let begins = letters.next().is_some_and(|b| b.is_ascii_lowercase());
            let plain = begins && letters.all(|b| b.is_ascii_alphanumeric() || b == b'_');
            let key = ["operations", of.id, "calls", name];
            let help = "expressions name its answer by it";
            if TAKEN.contains(name) || RESERVED.contains(name) {
                let message =
                    format!("a call cannot be named “{name}”, which means something else");
                self.tell_at(Severity::Error, &key, message, help);
            } else if !plain {
                let message = format!(
                    "“{name}” is no name of a call: a small letter, then letters and digits"
                );
                self.tell_at(Severity::Error, &key, message, help);
            }
        }
        self.findings.len() == before
    }
}
