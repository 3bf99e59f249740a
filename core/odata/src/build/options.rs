//! System query options (OData URL Conventions 4.01 §5.1; MS-ODATA §2.2.3.6.1).
//!
//! Each is one component, however many operations have it.

use serde_json::{Value, json};

use super::Builder;
use crate::model::Version;

/// So many properties are named where it is said what may be asked for.
const MAX_NAMED: usize = 40;

fn named<'n>(names: impl Iterator<Item = &'n str>) -> String {
    let names: Vec<&str> = names.take(MAX_NAMED + 1).collect();
    match names.len() {
        n if n > MAX_NAMED => format!("{} …", names[..MAX_NAMED].join(", ")),
        _ => names.join(", "),
    }
}

/// An option: its name, and a reference to what is said of it.
pub(crate) type Asked = (&'static str, Value);

impl Builder<'_> {
    /// The options that a request for entities of a type may have.
    pub(crate) fn options(&mut self, of: &str, several: bool) -> Vec<Asked> {
        let mut all = vec![self.of_type("$select", of)];
        if self.model.links(of).next().is_some() {
            all.push(self.of_type("$expand", of));
        }
        if !several {
            return all;
        }
        all.push(self.of_type("$filter", of));
        let names: &[&'static str] = match self.model.version {
            Version::Four => &[
                "$orderby",
                "$top",
                "$skip",
                "$count",
                "$search",
                "$skiptoken",
            ],
            Version::Two => &["$orderby", "$top", "$skip", "$inlinecount", "$skiptoken"],
        };
        for name in names {
            all.push(self.component(name, &name[1..], |_| general(name)));
        }
        all
    }

    /// An option that says something of a type.
    fn of_type(&mut self, name: &'static str, of: &str) -> Asked {
        let component = match self.schemas.name_of(of) {
            Some(own) => format!("{own}.{}", &name[1..]),
            None => name[1..].to_owned(),
        };
        self.component(name, &component, |builder| {
            let properties = || named(builder.model.properties(of).map(|p| p.name.as_str()));
            let links = || named(builder.model.links(of).map(|l| l.name.as_str()));
            let description = match name {
                "$select" => format!("What to answer with, with commas between: {}", properties()),
                "$expand" => format!(
                    "What to answer with besides, with commas between: {}",
                    links()
                ),
                _ => format!("A condition on {}", properties()),
            };
            (description, json!({ "type": "string" }))
        })
    }

    fn component(
        &mut self,
        name: &'static str,
        component: &str,
        made: impl FnOnce(&Self) -> (String, Value),
    ) -> Asked {
        if !self.parameters.contains_key(component) {
            let (description, schema) = made(self);
            let said = json!({ "name": name, "in": "query", "description": description, "schema": schema });
            self.parameters.insert(component.to_owned(), said);
        }
        (
            name,
            json!({ "$ref": format!("#/components/parameters/{component}") }),
        )
    }
}

/// What is said of an option whatever the type is.
fn general(name: &str) -> (String, Value) {
    let (description, schema) = match name {
        "$orderby" => (
            "What to order by, each with ` desc` behind it for the other direction",
            json!({ "type": "string" }),
        ),
        "$top" => (
            "So many at most",
            json!({ "type": "integer", "minimum": 0 }),
        ),
        "$skip" => (
            "So many are left out at the beginning",
            json!({ "type": "integer", "minimum": 0 }),
        ),
        "$count" => (
            "Whether to answer with how many there are",
            json!({ "type": "boolean" }),
        ),
        "$inlinecount" => (
            "Whether to answer with how many there are",
            json!({ "type": "string", "enum": ["allpages", "none"] }),
        ),
        "$search" => ("Words to look for", json!({ "type": "string" })),
        _ => (
            "Where the page before this one ended",
            json!({ "type": "string" }),
        ),
    };
    (description.to_owned(), schema)
}

/// References to what is said of options.
pub(crate) fn references(options: &[Asked]) -> Vec<Value> {
    options.iter().map(|(_, to)| to.clone()).collect()
}
