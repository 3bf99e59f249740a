//! Compiling what nobody is shown: what documents name, and what the contract marks.

use std::collections::HashSet;
use std::sync::Arc;

use http::HeaderName;
use porch_contract::{Finding, Step};
use serde_json::Value;

use super::FacadeCompiler;
use super::levels::Level;
use crate::compiled::{RulePlace, Sensitive};

/// What a contract marks as sensitive, by names.
#[derive(Default)]
pub(super) struct Marked {
    members: HashSet<String>,
    fields: HashSet<String>,
    parameters: HashSet<String>,
}

impl Marked {
    /// Schemas with `format: password` (OpenAPI 3.1, format registry) or `x-sensitive: true`.
    pub(super) fn of(document: &Value) -> Self {
        let mut marked = Self::default();
        let mut open = vec![document];
        while let Some(value) = open.pop() {
            match value {
                Value::Object(map) => {
                    let properties = map.get("properties").and_then(Value::as_object);
                    for (name, schema) in properties.into_iter().flatten() {
                        if is_marked(schema) {
                            marked.members.insert(name.clone());
                        }
                    }
                    marked.parameter(value);
                    open.extend(map.values());
                }
                Value::Array(items) => open.extend(items),
                _ => {}
            }
        }
        marked
    }

    fn parameter(&mut self, value: &Value) {
        let text = |key: &str| value.get(key).and_then(Value::as_str);
        let (Some(place), Some(name)) = (text("in"), text("name")) else {
            return;
        };
        if !is_marked(value) && !value.get("schema").is_some_and(is_marked) {
            return;
        }
        match place {
            "header" => drop(self.fields.insert(name.to_ascii_lowercase())),
            "path" | "query" => drop(self.parameters.insert(name.to_owned())),
            _ => {}
        }
    }
}

fn is_marked(schema: &Value) -> bool {
    schema.get("format").and_then(Value::as_str) == Some("password")
        || schema.get("x-sensitive") == Some(&Value::Bool(true))
}

impl<'a> FacadeCompiler<'a> {
    /// What of the operation at hand nobody is shown: all that is said, by whatever reach.
    pub(super) fn sensitive(&mut self) -> Option<Arc<Sensitive>> {
        let levels = self.levels.clone();
        let said: Vec<&Level<'a>> = levels.iter().filter(|l| l.sensitive.is_some()).collect();
        let contract = self.from.contract;
        let marked = self.marked.get_or_init(|| Marked::of(&contract.document));
        let names = said
            .iter()
            .map(|l| format!("{} {}\n", l.site.file, l.reach));
        let key: String = names.collect();
        if let Some(known) = self.hidden.get(&key) {
            return known.clone();
        }
        let mut made = Sensitive {
            members: marked.members.clone(),
            fields: marked.fields.clone(),
            parameters: marked.parameters.clone(),
            places: Vec::new(),
        };
        if !made.is_empty() {
            let rule = "what the contract marks as sensitive is masked in traces";
            made.places.push(Arc::new(RulePlace::built_in(rule)));
        }
        for level in said {
            self.within(level, |c| c.add_sensitive(level, &mut made));
        }
        let made = (!made.is_empty()).then(|| Arc::new(made));
        self.hidden.insert(key, made.clone());
        made
    }

    fn add_sensitive(&mut self, level: &Level<'a>, into: &mut Sensitive) {
        let Some(doc) = level.sensitive else { return };
        for (i, name) in doc.fields.iter().enumerate() {
            if name.parse::<HeaderName>().is_err() {
                let mut steps = level.below(&["sensitive", "fields"]);
                steps.push(Step::Index(i));
                let at = self.here.node.locate(&steps, false);
                let message = format!("“{name}” is no name of a header field");
                self.findings
                    .push(Finding::error(self.here.file, at, message));
            }
            into.fields.insert(name.to_ascii_lowercase());
        }
        into.members.extend(doc.members.iter().cloned());
        into.parameters.extend(doc.parameters.iter().cloned());
        let all = doc.members.iter().chain(&doc.fields).chain(&doc.parameters);
        let names: Vec<&str> = all.map(String::as_str).collect();
        let rule = format!("masked in traces: {}", names.join(", "));
        let place = self.said_at(level, &["sensitive"], rule);
        into.places.push(Arc::new(place));
    }
}
