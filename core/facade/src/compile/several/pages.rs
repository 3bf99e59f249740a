//! Calls that are made several times: for each of a list, or for page after page.

use porch_contract::{Severity, Step};
use porch_rules::expr::Template;
use serde_json::Value;

use super::{FacadeCompiler, Of};
use crate::compiled::{Each, Gathering, Pages, Step as Call};
use crate::documents::{NamedCallDoc, PagesDoc};
use crate::kind::Compiled;
use crate::wiring::{Among, AnswerShape, Shapes, Spot, listed_shape, shaped, uses};

/// Items of a list, and those that are called for at once, and pages, where nothing is said.
const DEFAULT_ITEMS: u32 = 100;
const DEFAULT_AT_ONCE: u32 = 4;
const DEFAULT_PAGES: u32 = 20;

impl<'a> FacadeCompiler<'a> {
    /// How the pages of a call are followed, where it has some; and what is known of what the others see of its answer.
    pub(super) fn listed(
        &mut self,
        (of, name, doc): (Of<'a>, &str, &NamedCallDoc),
        among: &Among<'_>,
        (shape, answer): (Option<AnswerShape>, Option<&Template>),
    ) -> (Option<Box<Pages>>, Option<AnswerShape>) {
        if doc.pages.is_none() {
            return (None, shaped(shape, answer, doc.each.is_some()));
        }
        match self.pages((of, name, doc), among, shape.as_ref()) {
            Some((pages, listed)) => (Some(Box::new(pages)), Some(listed)),
            None => (None, None),
        }
    }

    /// How the pages of a call are followed, and what is known of the list that comes of it.
    fn pages(
        &mut self,
        (of, name, doc): (Of<'a>, &str, &NamedCallDoc),
        among: &Among<'_>,
        shape: Option<&AnswerShape>,
    ) -> Option<(Pages, AnswerShape)> {
        let pages = doc.pages.as_ref()?;
        if !self.only_pages((of, name, doc)) {
            return None;
        }
        let shapes = Shapes {
            answer: shape.and_then(|s| s.of_body()),
            soap_header: shape.and_then(|s| s.of_soap_header()),
        };
        let PagesDoc { items, next, .. } = pages;
        let first = self.of_page((of, name, "first"), among, &pages.first, &Shapes::default())?;
        let among = Among {
            spot: Spot::Answer { each: false },
            ..among.clone()
        };
        let mut of_answer = |key: &str, text: &String| {
            let keys = ["operations", of.id, "calls", name, "pages", key];
            if !text.starts_with('=') || text.starts_with("==") {
                let message = format!("“{text}” is a text, and no expression");
                let help = format!("an expression begins with “=”: `={text}`");
                self.tell_at(Severity::Error, &keys, message, &help);
                return None;
            }
            self.of_page(
                (of, name, key),
                &among,
                &Value::String(text.clone()),
                &shapes,
            )
        };
        let (items, next) = (of_answer("items", items), of_answer("next", next));
        let (items, next) = (items?, next?);
        let listed = AnswerShape::of_list(listed(&items, shape));
        let keys = ["operations", of.id, "calls", name, "pages", "at-most"];
        let at_most = self.count(&keys, pages.at_most, (DEFAULT_PAGES, 1_000));
        let pages = Pages {
            first,
            items,
            next,
            at_most,
        };
        Some((pages, listed))
    }

    /// A call for each of a list.
    pub(super) fn each(
        &mut self,
        id: &str,
        name: &str,
        list: Template,
        doc: &NamedCallDoc,
    ) -> Each {
        let keys = |key| ["operations", id, "calls", name, key];
        Each {
            list,
            at_most: self.count(&keys("at-most"), doc.at_most, (DEFAULT_ITEMS, 10_000)),
            at_once: self.count(&keys("at-once"), doc.at_once, (DEFAULT_AT_ONCE, 64)),
        }
    }

    /// How the messages of a call's answer are taken as a list, where they are; and what is known of the answer then.
    pub(super) fn messages(
        &mut self,
        of: (Of<'a>, &str, &NamedCallDoc),
        made: Option<&Compiled>,
    ) -> (Option<Gathering>, Option<AnswerShape>) {
        let shape = made.and_then(|made| made.shape.clone());
        match self.gathering(of, made) {
            Some(gathering) => (Some(gathering), shape.map(listed_shape)),
            None => (None, shape),
        }
    }

    fn gathering(
        &mut self,
        (of, name, doc): (Of<'a>, &str, &NamedCallDoc),
        made: Option<&Compiled>,
    ) -> Option<Gathering> {
        let messages = doc.messages.as_ref()?;
        let keys = |key| ["operations", of.id, "calls", name, "messages", key];
        let here = &keys("")[..5];
        if doc.pages.is_some() {
            let message = "“messages” has no meaning beside `pages:`".to_owned();
            self.tell_at(Severity::Error, here, message, "a page is one answer");
        }
        if made.is_some_and(|made| !made.call.may_give_messages()) {
            let message = "“messages” has no meaning here: the answer is no stream".to_owned();
            let help = "streams are those of gRPC servers, and of HTTP: lines of JSON and events";
            self.tell_at(Severity::Error, here, message, help);
        }
        let most = (DEFAULT_ITEMS, 10_000);
        Some(Gathering {
            at_most: self.count(&keys("at-most"), messages.at_most, most),
            within: messages.within.map(|span| span.0),
        })
    }

    /// A number that is given, or the usual one.
    fn count(&mut self, keys: &[&str], given: Option<u32>, (usual, most): (u32, u32)) -> usize {
        let count = given.unwrap_or(usual);
        if !(1..=most).contains(&count) {
            let message = format!("{count} is no number from 1 to {most}");
            self.tell_at(Severity::Error, keys, message, "");
        }
        count.clamp(1, most) as usize
    }

    fn of_page(
        &mut self,
        (of, name, key): (Of<'a>, &str, &str),
        among: &Among<'_>,
        value: &Value,
        shapes: &Shapes<'_>,
    ) -> Option<Template> {
        let steps = ["operations", of.id, "calls", name, "pages", key];
        let steps = steps.map(|k| Step::Key(k.to_owned()));
        self.template_of(of, (&steps, value), among, shapes, None)
    }

    /// What has no meaning beside pages.
    fn only_pages(&mut self, (of, name, doc): (Of<'a>, &str, &NamedCallDoc)) -> bool {
        let before = self.findings.len();
        for (key, there) in [
            ("each", doc.each.is_some()),
            ("answer", doc.answer.is_some()),
            ("undo", doc.undo.is_some()),
        ] {
            if there {
                let keys = ["operations", of.id, "calls", name, key];
                let message = format!("“{key}” has no meaning beside `pages:`");
                let help = "`items` says what a page gives";
                self.tell_at(Severity::Error, &keys, message, help);
            }
        }
        if doc.changes_something(&of.contract_op.method) {
            let keys = ["operations", of.id, "calls", name, "pages"];
            let message = "what changes something is not made again for each page".to_owned();
            let help = "say `writes: false` where it does not";
            self.tell_at(Severity::Error, &keys, message, help);
        }
        self.findings.len() == before
    }
}

/// What is known of the list that an expression names in an answer.
fn listed<'s>(items: &Template, shape: Option<&'s AnswerShape>) -> Option<(&'s Value, &'s Value)> {
    let (document, body) = shape?.of_body()?;
    let path = items.as_plain_path()?;
    let ["answer", "body", rest @ ..] =
        &path.iter().map(|s| s.name.as_str()).collect::<Vec<_>>()[..]
    else {
        return None;
    };
    let mut view = porch_contract::SchemaView::new(document, body);
    for name in rest {
        view = view.property(name)?;
    }
    Some((document, view.value()))
}

pub(super) fn plan_reads_body(step: &Call) -> bool {
    let Some(plan) = &step.plan else { return false };
    let list = plan.each.as_ref().map(|e| &e.list);
    let pages = plan
        .pages
        .iter()
        .flat_map(|p| [&p.first, &p.items, &p.next]);
    [&plan.when, &plan.answer, &plan.otherwise]
        .into_iter()
        .flatten()
        .chain(list)
        .chain(pages)
        .any(|t| uses(t, "body"))
}
