//! What structures of an operation of several calls name.

use porch_contract::SchemaView;
use porch_rules::expr::{Step as PathStep, Template};

use super::super::among::{Among, Spot};
use super::walk::{absent, walk};
use super::{Missing, Shapes, Templates};
use crate::compiled::{ANSWER, ITEM, PAGE};

impl Templates<'_> {
    /// The same for a name that an operation of several calls knows.
    pub(super) fn of_several(
        &self,
        among: &Among<'_>,
        name: &str,
        (first, rest): (&PathStep, &[PathStep]),
        shapes: &Shapes<'_>,
    ) -> Result<(), Missing> {
        match (name, among.answer(name)) {
            (ITEM, _) => match self.item(among, shapes) {
                Some(view) => walk(view, rest, "an item of the list"),
                None => Ok(()),
            },
            (PAGE, _) if among.pages => Ok(()),
            (ANSWER, _) => self.answer(first, rest, shapes),
            (_, None) => Ok(()),
            (_, Some(answer)) => {
                if answer.may_be_absent && !first.optional {
                    let (offset, message, help) = absent(first, name);
                    return Err((
                        offset,
                        format!("{message}: “{name}” may not be called"),
                        help,
                    ));
                }
                let known = answer.shape.as_ref();
                let shapes = Shapes {
                    answer: known.and_then(|s| s.of_body()),
                    soap_header: known.and_then(|s| s.of_soap_header()),
                };
                let what = format!("the body of {name}");
                self.of_answer((first, rest), &shapes, &what, answer.may_be_absent)
            }
        }
    }

    /// What each item of a list is, where that is known.
    fn item<'v>(&'v self, among: &'v Among<'v>, shapes: &Shapes<'v>) -> Option<SchemaView<'v>> {
        match among.list? {
            Template::Expr(expr) => self.view_of(expr, shapes)?.items(),
            _ => None,
        }
    }

    /// Whether a root may be named where a structure stands.
    pub(super) fn may_name(&self, root: &str, reply: bool) -> Result<(), String> {
        let Some(among) = self.among else {
            return match root {
                ANSWER if !reply => Err("there is no answer yet".into()),
                _ => Ok(()),
            };
        };
        match (root, among.spot) {
            (ITEM, Spot::Call { each: true } | Spot::Answer { each: true }) => Ok(()),
            (ITEM, _) => Err("there is an “item” only where a call has `each:`".into()),
            (ANSWER, Spot::Answer { .. }) => Ok(()),
            (ANSWER, _) => Err(format!(
                "of several calls each answer has a name: {}",
                among.names.join(", ")
            )),
            _ => Ok(()),
        }
    }
}
