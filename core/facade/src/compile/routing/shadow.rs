//! Compiling which backend gets copies of calls.

use porch_contract::{Severity, Step};
use porch_rules::expr::Template;

use super::super::FacadeCompiler;
use super::super::refusals::Seen;
use super::{Routed, Stands, below, key};
use crate::compiled::{Shadow, Share};
use crate::documents::ShadowDoc;

/// So many expressions are compared at most.
const MOST: usize = 32;

impl<'a> FacadeCompiler<'a> {
    pub(super) fn shadow(
        &mut self,
        of: Routed<'_, 'a>,
        stands: &Stands<'a>,
        doc: &'a ShadowDoc,
    ) -> Option<Shadow> {
        let steps = below(&stands.steps, &[key("shadow")]);
        if let Some((why, help)) = not_copied(of) {
            // What stands at the facade is for those of its operations that it fits.
            if stands.steps[0] != key("routing") {
                self.tell_once(Severity::Error, &steps, why.to_owned(), help);
            }
            return None;
        }
        let way = self.way(of, &doc.backend, &below(&steps, &[key("backend")]));
        let percent = doc.share.unwrap_or(100.0);
        if !(0.0..=100.0).contains(&percent) {
            let message = format!("{percent} is no share of a hundred calls");
            let at = below(&steps, &[key("share")]);
            self.tell_once(Severity::Error, &at, message, "shares are from 0 to 100");
            return None;
        }
        if doc.compare.len() > MOST {
            let message = format!(
                "{} things are compared, and {MOST} are the most",
                doc.compare.len()
            );
            self.tell_once(
                Severity::Error,
                &below(&steps, &[key("compare")]),
                message,
                "",
            );
            return None;
        }
        let mut compare = Vec::new();
        for (i, text) in doc.compare.iter().enumerate() {
            let at = below(&steps, &[key("compare"), Step::Index(i)]);
            compare.push((text.clone(), self.compared(of, &at, text)?));
        }
        let (from, to) = (&of.wired.backend.name, &doc.backend);
        let mut rule =
            format!("{percent} of a hundred calls of {from} are copied to {to}; compared: status");
        doc.compare
            .iter()
            .for_each(|text| rule.push_str(&format!(", {text}")));
        Some(Shadow {
            way: way?,
            below: (percent / 100.0 * f64::from(Share::ALL)).round() as u32,
            compare,
            place: self.place_of_routing(stands, &steps, rule),
        })
    }

    /// An expression over both answers.
    fn compared(&mut self, of: Routed<'_, 'a>, steps: &[Step], text: &str) -> Option<Template> {
        let before = std::mem::take(&mut self.findings);
        let seen = Seen::Answer(of.shape);
        let made = self.expression((steps, text, "value"), of.contract_op, seen);
        let found = std::mem::replace(&mut self.findings, before);
        self.new_ones(found, "");
        made
    }
}

/// Why calls are not copied, and what helps.
fn not_copied(of: Routed<'_, '_>) -> Option<(&'static str, &'static str)> {
    if of.among.is_some() {
        return Some((
            "of several calls none is copied",
            "a shadow is for operations with one `call`",
        ));
    }
    if !matches!(of.contract_op.method.as_str(), "GET" | "HEAD") {
        return Some((
            "a copy of what changes something would change it twice",
            "a shadow is for GET",
        ));
    }
    of.streams.then_some(("a stream is not copied", ""))
}
