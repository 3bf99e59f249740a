//! What expressions may do with secrets, and what they may name of callers.

use std::sync::Arc;

use porch_contract::{Finding, Step, suggest};
use porch_rules::expr::{Expr, Reference, Template};

use super::walk::{absent, one_of};
use super::{Missing, PathStep, Templates};
use crate::compiled::{OF_CALLER, REQUEST_ROOTS, SECRET, Secrets};
use crate::read::inside;
use crate::wiring::lent::Use;

impl Templates<'_> {
    /// Whether a reference to a secret is one that the environment has.
    pub(super) fn a_secret(&self, reference: &Reference) -> Result<(), Missing> {
        let root = &reference.steps[0];
        let help = || "write `secret.NAME`, or `secret['NAME']`".to_owned();
        let [_, name] = reference.steps.as_slice() else {
            let message = "one secret is named at a time, and nothing below it".to_owned();
            return Err((root.offset, message, help()));
        };
        if name.optional || !reference.fixed {
            let message = "a secret is there, or the document is not released".to_owned();
            return Err((root.offset, message, help()));
        }
        let (Secrets::Known(known), None) = (self.lent.from, self.lent.value(&name.name)) else {
            return Ok(());
        };
        let near = suggest(&name.name, known.keys().map(String::as_str));
        let set = || format!("set it with `porch secret set {}`", name.name);
        let help = near.map_or_else(set, |n| format!("did you mean “{n}”?"));
        let message = format!("the environment has no secret “{}”", name.name);
        Err((name.offset, message, help))
    }

    /// Puts secrets in their places where nothing else is wrong; what is compared with schemas names them still.
    pub(super) fn bind_all(
        &self,
        template: &mut Template,
        path: &[Step],
        findings: &mut Vec<Finding>,
    ) {
        let number = REQUEST_ROOTS.iter().position(|root| *root == SECRET);
        let Some(number) = number.filter(|_| !porch_contract::has_errors(findings)) else {
            return;
        };
        template.each_expr_mut(&mut Vec::new(), &mut |inner, expr| {
            if let Err((offset, message, help)) = self.bind(expr, number) {
                let at = self.node.locate(&self.full(path, inner), false);
                let at = inside(self.text, at, offset + 1);
                findings.push(Finding::error(self.file, at, message).help(help));
            }
        });
    }

    /// Puts secrets in their places, and says where they would be shown.
    fn bind(&self, expr: &mut Expr, root: usize) -> Result<(), Missing> {
        let named = expr.references().iter().find(|r| r.steps[0].name == SECRET);
        let Some(offset) = named.map(|r| r.steps[0].offset) else {
            return Ok(());
        };
        expr.bind(&mut |number, name| {
            let of_secret = number == root;
            of_secret.then(|| self.lent.value(name).map(Arc::from))?
        });
        let (may_not, shows) = (Use::refuses(self.values_are), expr.shows_secrets());
        match (may_not, shows) {
            (Some((message, help)), true) => Err((offset, message.into(), help.into())),
            (None, true) if expr.takes_secrets_apart() => {
                let message = "a secret is sent as it is, or with texts before and behind it";
                Err((
                    offset,
                    message.into(),
                    "as in `'Token ' + secret.NAME`".into(),
                ))
            }
            _ => Ok(()),
        }
    }

    /// Whether what a reference names of the caller is known, and is there for sure.
    pub(super) fn of_caller(&self, root: &str, first: &PathStep) -> Result<(), Missing> {
        let may_be_absent = match root {
            "caller" => {
                return one_of(first, "of the caller is not known", &OF_CALLER);
            }
            // Which terms there are, agreements say; where they are counted by, a call without them is refused.
            "terms" => self.values_are != Use::Counted,
            _ => true,
        };
        match first.optional || !may_be_absent {
            true => Ok(()),
            false => Err(absent(first, root)),
        }
    }
}
