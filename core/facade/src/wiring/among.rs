//! What the calls of one operation know of each other: whose answers there are, and what is in them.

use std::sync::{Arc, OnceLock};

use porch_rules::expr::Template;
use serde_json::{Map, Value, json};

use super::Shapes;
use crate::compiled::{ANSWER, ITEM, PAGE};

/// What is known of an answer: schemas in a document that may be shared.
#[derive(Clone, Debug)]
pub struct AnswerShape {
    /// The document, once it is made.
    pub document: Arc<OnceLock<Value>>,
    /// The members that lead to the schema of the body.
    pub body: Vec<String>,
    /// The same for the header elements of SOAP answers.
    pub soap_header: Option<Vec<String>>,
}

impl AnswerShape {
    /// A list, with what is known of its items.
    pub(crate) fn of_list(items: Option<(&Value, &Value)>) -> Self {
        let made = items.map(|(document, list)| {
            let components = document.get("components").cloned().unwrap_or_default();
            let items = list.get("items").cloned().unwrap_or_else(|| json!({}));
            json!({ "type": "array", "items": items, "components": components })
        });
        Self::of_schema(made.unwrap_or_else(|| json!({ "type": "array" })))
    }

    /// One that is only the schema of a body.
    fn of_schema(schema: Value) -> Self {
        Self {
            document: Arc::new(OnceLock::from(schema)),
            body: Vec::new(),
            soap_header: None,
        }
    }

    fn at<'s>(&'s self, steps: &[String]) -> Option<(&'s Value, &'s Value)> {
        let document = self.document.get()?;
        let found = steps.iter().try_fold(document, |at, name| at.get(name))?;
        Some((document, found))
    }

    /// The document, and the schema of the body in it.
    pub fn of_body(&self) -> Option<(&Value, &Value)> {
        self.at(&self.body)
    }

    /// The same as a reference is held against it.
    pub fn shapes(&self) -> Shapes<'_> {
        Shapes {
            answer: self.of_body(),
            soap_header: self.of_soap_header(),
        }
    }

    /// The document, and the schema of the header elements in it.
    pub fn of_soap_header(&self) -> Option<(&Value, &Value)> {
        self.at(self.soap_header.as_ref()?)
    }
}

/// The answer of one of several calls, as the others see it.
#[derive(Clone, Debug)]
pub struct NamedAnswer {
    /// The call's name.
    pub name: String,
    /// What is known of it; nothing unless the backend has a definition.
    pub shape: Option<AnswerShape>,
    /// Whether the call may not be made, with nothing in its place.
    pub may_be_absent: bool,
}

/// Where in an operation of several calls a structure stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Spot {
    /// In what a call is made of.
    Call {
        /// Whether it is made for each item of a list.
        each: bool,
    },
    /// In what is made of its answer.
    Answer {
        /// Whether it is made for each item of a list.
        each: bool,
    },
    /// In what is made of all answers.
    Behind,
}

/// What a structure of such an operation may name.
#[derive(Clone, Debug)]
pub struct Among<'a> {
    /// Names of all calls, in the order of the document.
    pub names: &'a [&'a str],
    /// The answers that are known by now.
    pub answers: &'a [NamedAnswer],
    /// The steps below the operation to the call.
    pub place: Vec<String>,
    /// Where the structure stands.
    pub spot: Spot,
    /// The list that items are of.
    pub list: Option<&'a Template>,
    /// Whether it comes in pages: there is a page then, and no item.
    pub pages: bool,
    /// Whether the messages of a stream are taken as a list.
    pub messages: bool,
}

impl<'a> Among<'a> {
    /// Behind the calls.
    pub fn behind(names: &'a [&'a str], answers: &'a [NamedAnswer]) -> Self {
        Self {
            names,
            answers,
            place: Vec::new(),
            spot: Spot::Behind,
            list: None,
            pages: false,
            messages: false,
        }
    }

    /// The roots behind those of the request, in the order of their numbers.
    pub fn roots(&self) -> impl Iterator<Item = &'a str> {
        let one = if self.pages { PAGE } else { ITEM };
        self.names.iter().copied().chain([one, ANSWER])
    }

    /// An answer by its name.
    pub fn answer(&self, name: &str) -> Option<&'a NamedAnswer> {
        self.answers.iter().find(|a| a.name == name)
    }
}

/// The schema of what a structure makes, as far as it can be told from the structure.
fn schema_of(template: &Template) -> Value {
    match template {
        Template::Map(entries) => {
            let members: Map<String, Value> = entries
                .iter()
                .map(|(name, value)| (name.clone(), schema_of(value)))
                .collect();
            // A member whose value may be absent is left out then.
            let is_sure = |value: &Template| match value {
                Template::Expr(expr) => !expr.may_be_absent(),
                _ => true,
            };
            let sure = entries.iter().filter(|(_, value)| is_sure(value));
            let sure: Vec<&String> = sure.map(|(name, _)| name).collect();
            json!({ "type": "object", "properties": members, "required": sure, "additionalProperties": false })
        }
        Template::List(_) => json!({ "type": "array" }),
        Template::Literal(_) | Template::Expr(_) => json!({}),
    }
}

/// What is known of an answer that is shaped, or that is a list of answers.
pub(crate) fn shaped(
    shape: Option<AnswerShape>,
    answer: Option<&Template>,
    is_list: bool,
) -> Option<AnswerShape> {
    match (answer, is_list) {
        (None, false) => shape,
        // What a list of unknown things is made of is known all the same.
        (None, true) => Some(AnswerShape::of_schema(
            match shape.and_then(|s| listed(&s)) {
                Some(list) => list,
                None => json!({ "type": "array" }),
            },
        )),
        (Some(template), false) => Some(AnswerShape::of_schema(schema_of(template))),
        (Some(template), true) => Some(AnswerShape::of_schema(
            json!({ "type": "array", "items": schema_of(template) }),
        )),
    }
}

/// What is known of a list of messages, each of which is what is known.
pub(crate) fn listed_shape(shape: AnswerShape) -> AnswerShape {
    AnswerShape::of_schema(listed(&shape).unwrap_or_else(|| json!({ "type": "array" })))
}

/// The schema of a list of bodies, with the parts that it refers to.
fn listed(shape: &AnswerShape) -> Option<Value> {
    let (document, body) = shape.of_body()?;
    let components = document.get("components").cloned().unwrap_or_default();
    Some(json!({ "type": "array", "items": body, "components": components }))
}
