//! Parameters of operations (OpenAPI 3.1 §4.8.12).

use serde_json::Value;

use super::{ContractReader, json_schema};
use crate::{Node, SchemaView};

/// Where a parameter stands in a request (OpenAPI 3.1 §4.8.12.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Place {
    /// In the path.
    Path,
    /// In the query string.
    Query,
    /// Among the header fields.
    Header,
}

impl Parameter {
    /// Whether it is an object whose members stand in the query by their own names.
    pub fn takes_any_name(&self) -> bool {
        let form = |s: Shape| s.style == Style::Form && s.explode;
        self.place == Place::Query && self.shape.is_some_and(form)
    }
}

/// How a parameter is written (OpenAPI 3.1 §4.8.12.2).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Shape {
    /// Its style.
    pub style: Style,
    /// Whether each item or member stands for itself.
    pub explode: bool,
}

/// What a parameter looks like.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Style {
    /// `a,b` and `k,v`: `simple`.
    Simple,
    /// `name=a,b`, and `k=v` when exploded: `form`.
    Form,
    /// `;name=a`: `matrix` (RFC 6570 §3.2.7).
    Matrix,
    /// `.a`: `label` (RFC 6570 §3.2.5).
    Label,
    /// `name[k]=v`: `deepObject`.
    Deep,
    /// With this between the values: `spaceDelimited` and `pipeDelimited`.
    Delimited(char),
    /// JSON (`content`).
    Json,
    /// Of another media type, which nobody looks into.
    Opaque,
}

/// One parameter of an operation.
#[derive(Clone, Debug)]
pub struct Parameter {
    /// Its name.
    pub name: String,
    /// Where it stands.
    pub place: Place,
    /// Whether it must be there.
    pub required: bool,
    /// Its schema, or an empty object.
    pub schema: Value,
    /// How a list is written in one value: what stands between its items; `None`: it stands once for each.
    pub between: Option<char>,
    /// Whether it is written in some way that expressions do not take apart: an object, or JSON.
    pub other: bool,
    /// How it is written, where that is not as one plain value, or as a list of them.
    pub shape: Option<Shape>,
    /// Whether it may be there without a value (`allowEmptyValue`).
    pub may_be_empty: bool,
    /// What it means.
    pub description: String,
    /// A value to try it with, where the contract gives a short one (OpenAPI 3.1 §4.8.12).
    pub example: Option<Value>,
}

impl ContractReader<'_> {
    /// The parameters of an operation, those of its path item first: cookies, or all others.
    pub(super) fn those_of(
        &mut self,
        item: &Node,
        operation: &Node,
        cookies: bool,
    ) -> Vec<Parameter> {
        let mut all = self.parameters(item.get("parameters"), cookies);
        for own in self.parameters(operation.get("parameters"), cookies) {
            all.retain(|p: &Parameter| p.name != own.name || p.place != own.place);
            all.push(own);
        }
        all
    }

    /// The parameters of a list: cookies, or all others.
    fn parameters(&mut self, node: Option<&Node>, cookies: bool) -> Vec<Parameter> {
        let mut list = Vec::new();
        for item in node.map_or(&[][..], Node::items) {
            let value = self.deref(&item.to_value());
            let text = |name: &str| value.get(name).and_then(Value::as_str).unwrap_or_default();
            // Each is read with those of its own.
            if cookies != (text("in") == "cookie") {
                continue;
            }
            let place = match text("in") {
                "path" => Place::Path,
                "query" => Place::Query,
                "header" => Place::Header,
                "cookie" => Place::Header,
                other => {
                    let message = format!(
                        "a parameter's `in` is path, query, header or cookie, not “{other}”"
                    );
                    self.error(item.at, message, "");
                    continue;
                }
            };
            // `{name*}` has the star in its name, as far as other tools are concerned.
            let star = if place == Place::Path {
                text("name").strip_suffix('*')
            } else {
                None
            };
            let name = star.unwrap_or(text("name")).to_owned();
            let is_true = |name: &str| value.get(name) == Some(&Value::Bool(true));
            let required = place == Place::Path || is_true("required");
            let schema = value
                .get("schema")
                .cloned()
                .unwrap_or(Value::Object(Default::default()));
            let schema = SchemaView::new(&self.document, &schema).value().clone();
            let types = SchemaView::new(&self.document, &schema).types();
            let other = value.get("content").is_some() || types.contains(&"object");
            let shape = shape(place, cookies, &value, &types);
            let of_json = || json_schema(&value).unwrap_or(Value::Object(Default::default()));
            let schema = match shape {
                Some(Shape {
                    style: Style::Json, ..
                }) => of_json(),
                _ => schema,
            };
            list.push(Parameter {
                shape,
                may_be_empty: place == Place::Query && is_true("allowEmptyValue"),
                between: between(place, text("style"), value.get("explode")),
                other,
                name,
                place,
                required,
                schema,
                description: text("description").to_owned(),
                example: self.example(&value),
            });
        }
        list
    }

    /// The first example of a parameter that is one short value.
    fn example(&self, parameter: &Value) -> Option<Value> {
        const SHORT: usize = 200;
        let named = parameter.get("examples").and_then(Value::as_object);
        let mut named = named.into_iter().flatten().filter_map(|(_, example)| {
            let view = SchemaView::new(&self.document, example);
            view.value().get("value")
        });
        let given = parameter.get("example").or_else(|| named.next())?;
        match given {
            Value::String(text) if text.len() > SHORT => None,
            Value::Array(_) | Value::Object(_) | Value::Null => None,
            short => Some(short.clone()),
        }
    }
}

/// How a parameter is written, where it is no plain value and no list of them in query or header.
fn shape(place: Place, cookie: bool, value: &Value, types: &[&str]) -> Option<Shape> {
    let explode = value.get("explode").and_then(Value::as_bool);
    if let Some(content) = value.get("content").and_then(Value::as_object) {
        let json = content.keys().any(|name| {
            let name = name.split(';').next().unwrap_or_default().trim();
            name == "application/json" || name.ends_with("+json")
        });
        let style = if json { Style::Json } else { Style::Opaque };
        let explode = false;
        return Some(Shape { style, explode });
    }
    let written = value.get("style").and_then(Value::as_str);
    let style = match (place, written.unwrap_or_default()) {
        (Place::Query, "deepObject") => Style::Deep,
        (Place::Query, "spaceDelimited") => Style::Delimited(' '),
        (Place::Query, "pipeDelimited") => Style::Delimited('|'),
        (Place::Query, _) => Style::Form,
        (Place::Path, "matrix") => Style::Matrix,
        (Place::Path, "label") => Style::Label,
        (Place::Header, _) if cookie => Style::Form,
        (Place::Path | Place::Header, _) => Style::Simple,
    };
    let (list, object) = (types.contains(&"array"), types.contains(&"object"));
    let plain = match style {
        Style::Matrix | Style::Label => false,
        _ if cookie => false,
        _ => !(object || list && place == Place::Path),
    };
    let explode = explode.unwrap_or(style == Style::Form);
    (!plain).then_some(Shape { style, explode })
}

/// What stands between the items of a list (OpenAPI 3.1 §4.8.12.2, `style` and `explode`).
fn between(place: Place, style: &str, explode: Option<&Value>) -> Option<char> {
    let explode = explode.and_then(Value::as_bool);
    match (place, style) {
        (Place::Query, "spaceDelimited") if explode != Some(true) => Some(' '),
        (Place::Query, "pipeDelimited") if explode != Some(true) => Some('|'),
        (Place::Query, _) => (explode == Some(false)).then_some(','),
        (Place::Path, "" | "simple") | (Place::Header, _) => Some(','),
        (Place::Path, _) => None,
    }
}
