//! The wiring of one operation: its structures compiled, every reference in them checked.

mod among;
mod fits;
mod lent;
mod used;

use std::cell::RefCell;
use std::collections::HashSet;
use std::sync::{Arc, OnceLock};

use porch_contract::{
    Contract, Finding, Operation as ContractOperation, Position, Severity, Step, suggest,
};
use porch_rules::expr::Template;
use serde_json::Value;

use crate::compiled::{ANSWER, CompiledBackend, Definition, Secrets};
use crate::documents::{CallDoc, FacadeDoc, OperationDoc};
use crate::read::Document;
pub use among::{Among, AnswerShape, NamedAnswer, Spot};
pub(crate) use among::{listed_shape, shaped};
pub(crate) use fits::Templates;
pub use fits::{Shapes, Target};
pub use lent::Lent;
pub(crate) use lent::Use;
pub use used::Used;

/// At most so many names are listed where none is near to what was written.
const LISTED: usize = 12;

/// Compiles one call; what is wrong is noted down.
pub struct CallCompiler<'a> {
    /// The facade's document.
    pub facade: &'a Document<FacadeDoc>,
    /// Its text.
    pub text: &'a str,
    /// Its contract.
    pub contract: &'a Contract,
    /// The operation in the contract.
    pub contract_op: &'a ContractOperation,
    /// The `operationId`.
    pub id: &'a str,
    /// The operation's wiring.
    pub doc: &'a OperationDoc,
    /// Which backend is called, and what of it.
    pub call: &'a CallDoc,
    /// The backend that is called.
    pub backend: &'a CompiledBackend,
    /// What it says of itself.
    pub definition: Arc<dyn Definition>,
    /// What the operations of the definition that the facade calls take and give, found when the first asks for it: many of
    /// them have the same types.
    pub sides: Arc<OnceLock<Value>>,
    /// Where its expressions get secrets from.
    pub lent: &'a Lent<'a>,
    /// What it may name of the others, where it is one of several calls.
    pub among: Option<&'a Among<'a>>,
    /// Where it is noted down what its expressions read of callers.
    pub used: &'a RefCell<Used>,
    /// What was found.
    pub findings: &'a mut Vec<Finding>,
}

impl<'a> CallCompiler<'a> {
    /// Whether secrets are only taken to be there.
    pub fn placeholders(&self) -> bool {
        matches!(self.lent.from, Secrets::Placeholder)
    }

    /// The names of the definition's operations that the facade calls of this backend.
    pub fn called_names(&self) -> HashSet<&'a str> {
        let all = self.facade.doc.operations.values();
        all.flat_map(|o| o.called())
            .filter(|(backend, _)| {
                let own = self.backend.name.as_str();
                *backend == own || self.facade.doc.leads(backend, own)
            })
            .map(|(_, operation)| operation)
            .collect()
    }

    /// The steps to a place of the wiring.
    pub fn path(&self, rest: &[&str]) -> Vec<Step> {
        let key = |k: &str| Step::Key(k.to_owned());
        let mut steps = vec![key("operations"), key(self.id)];
        let rest = match (self.among, rest) {
            // One of several says itself which backend it calls, and what of it.
            (Some(among), ["call", rest @ ..] | rest) => {
                steps.extend(among.place.iter().map(|k| key(k)));
                rest
            }
            (None, rest) => rest,
        };
        steps.extend(rest.iter().map(|k| key(k)));
        steps
    }

    /// Where a value of the wiring stands.
    pub fn at(&self, rest: &[&str]) -> Position {
        self.facade.node.locate(&self.path(rest), false)
    }

    /// Where a key of the wiring stands.
    pub fn at_key(&self, rest: &[&str]) -> Position {
        self.facade.node.locate(&self.path(rest), true)
    }

    /// Where a value of the facade stands.
    pub fn facade_at(&self, keys: &[&str]) -> Position {
        let steps: Vec<Step> = keys.iter().map(|k| Step::Key((*k).to_owned())).collect();
        self.facade.node.locate(&steps, false)
    }

    /// Notes an error down.
    pub fn error(&mut self, at: Position, message: impl Into<String>, help: impl Into<String>) {
        self.findings
            .push(Finding::error(&self.facade.file, at, message).help(help));
    }

    /// Notes a warning down.
    pub fn warn(&mut self, at: Position, message: impl Into<String>, help: impl Into<String>) {
        self.findings
            .push(Finding::new(Severity::Warning, &self.facade.file, at, message).help(help));
    }

    /// Which of some names was meant, or what there is.
    pub fn known_names<'n>(
        &self,
        name: &str,
        known: impl Iterator<Item = &'n str> + Clone,
    ) -> String {
        match suggest(name, known.clone()) {
            Some(near) => format!("did you mean “{near}”?"),
            None => {
                let listed: Vec<&str> = known.clone().take(LISTED).collect();
                let more = known.count() - listed.len();
                let rest = if more > 0 {
                    format!(" and {more} more")
                } else {
                    String::new()
                };
                format!("it has: {}{rest}", listed.join(", "))
            }
        }
    }

    /// Compiles a structure and checks every reference in it.
    pub fn template(
        &mut self,
        value: &Value,
        path: &[Step],
        reply: bool,
        shapes: &Shapes<'_>,
        target: Option<&Target<'_>>,
    ) -> Option<Template> {
        let values_are = if reply { Use::Here } else { Use::Sent };
        self.template_as(values_are, (value, path), reply, shapes, target)
    }

    /// The same where it is said what becomes of the values.
    pub(crate) fn template_as(
        &mut self,
        values_are: Use,
        (value, path): (&Value, &[Step]),
        reply: bool,
        shapes: &Shapes<'_>,
        target: Option<&Target<'_>>,
    ) -> Option<Template> {
        let templates = Templates {
            file: &self.facade.file,
            text: self.text,
            node: &self.facade.node,
            contract: self.contract,
            operation: self.contract_op,
            among: self.among,
            of_item: false,
            values_are,
            lent: self.lent,
            used: self.used,
        };
        let (template, found) = templates.compile(value, path, reply, shapes, target);
        self.findings.extend(found);
        template
    }

    /// Compiles `reply` and checks it against the contract.
    pub fn reply(&mut self, shapes: &Shapes<'_>) -> Option<Template> {
        let reply = self.doc.reply.as_ref()?;
        let contract: &'a Contract = self.contract;
        let target = self.contract_op.reply.as_ref().map(|schema| Target {
            what: "the contract's reply".into(),
            root: &contract.document,
            schema,
        });
        let path = self.path(&["reply"]);
        let template = self.template(reply, &path, true, shapes, target.as_ref());
        // The whole answer is what goes through anyway.
        template.filter(|t| {
            t.as_plain_path()
                .is_none_or(|p| !p.iter().map(|s| s.name.as_str()).eq(["answer", "body"]))
        })
    }
}

/// Whether a template names a root.
pub fn uses(template: &Template, root: &str) -> bool {
    let mut found = false;
    template.each_expr(&mut Vec::new(), &mut |_, expr| {
        found |= expr.references().iter().any(|r| r.steps[0].name == root)
    });
    found
}

/// Whether a template names more of the only answer than its status and fields: what is in it must be read then.
pub(crate) fn looks_into(template: &Template) -> bool {
    let mut found = false;
    template.each_expr(&mut Vec::new(), &mut |_, expr| {
        let mut named = expr.references().iter().map(|r| r.steps.as_slice());
        found |= named.any(|steps| {
            let part = steps.get(1).map(|s| s.name.as_str());
            steps[0].name == ANSWER && !matches!(part, Some("status" | "header"))
        });
    });
    found
}
