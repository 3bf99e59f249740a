//! The operations of sets: entities listed, read, made, changed and deleted, and what they lead to.

use serde_json::{Map, Value, json};

use crate::build::{Builder, json_body, references};
use crate::calls::{Key, key};
use crate::model::{Link, Set, Version};
use crate::names::{capital, encoded, small};

/// What a set's operations have in common.
pub(crate) struct Place {
    /// The set's path, with a key where one entity is meant.
    pub(crate) ours: String,
    pub(crate) theirs: String,
    pub(crate) parameters: Vec<Value>,
    pub(crate) path: Map<String, Value>,
    /// The word for one of its entities.
    pub(crate) word: String,
}

impl Place {
    fn below(&self, ours: &str, theirs: &str) -> (String, String) {
        (
            format!("{}/{ours}", self.ours),
            format!("{}/{theirs}", self.theirs),
        )
    }
}

impl Builder<'_> {
    /// All operations of a set.
    pub(crate) fn set(&mut self, set: &Set) {
        if !self.model.structures.contains_key(&set.of) {
            let message = format!(
                "“{}” is of the type “{}”, which is not there",
                set.name, set.of
            );
            return self.warn(set.at, message);
        }
        let word = self.word(set);
        let name = encoded(&set.name);
        let whole = |of: Key, word: String| Place {
            ours: format!("/{name}{}", of.ours),
            theirs: format!("/{name}{}", of.theirs),
            parameters: of.parameters,
            path: of.path,
            word,
        };
        if set.single {
            let place = whole(Key::default(), set.name.clone());
            self.entity(set, &place);
            return self.bound(&set.of, false, &place);
        }
        let all = whole(Key::default(), set.name.clone());
        self.collection(set, &all, &word);
        self.bound(&set.of, true, &all);
        match key(self.model, &set.of) {
            Some(key) => {
                let place = whole(key, word);
                self.entity(set, &place);
                self.bound(&set.of, false, &place);
            }
            None => {
                let message = format!(
                    "the key of “{}” cannot be written in an address: its entities are listed only",
                    set.name
                );
                self.note(set.at, message);
            }
        }
    }

    /// One entity's word: that of its type, unless several sets have it.
    fn word(&self, set: &Set) -> String {
        let alone = self.sets_of(&set.of) == 1;
        match self.model.structures.get(&set.of) {
            Some(of) if alone => of.name.clone(),
            _ => format!("{}Item", set.name),
        }
    }

    fn collection(&mut self, set: &Set, place: &Place, word: &str) {
        let tags = json!([set.name]);
        let summary = format!("The entities of {}", set.name);
        if set.may.list {
            let schema = self.listed(&set.of);
            let mut op = json!({
                "operationId": self.id(&format!("list{}", capital(&set.name))), "summary": summary, "tags": tags,
                "parameters": references(&self.options(&set.of, true)),
                "responses": { "200": json_body("The entities.", schema) },
            });
            if !set.documentation.is_empty() {
                op["description"] = json!(set.documentation);
            }
            let reply = self.paged();
            self.add("GET", place, op, reply);
        }
        if set.may.insert {
            let schema = self.schemas.new_entity(&set.of);
            let made = self.single(&set.of);
            let op = json!({
                "operationId": self.id(&format!("create{}", capital(word))),
                "summary": format!("Makes an entity of {}", set.name), "tags": tags,
                "requestBody": { "required": true, "content": { "application/json": { "schema": schema } } },
                "responses": { "201": json_body("The entity.", made), "204": { "description": "It was made." } },
            });
            self.add("POST", place, op, None);
        }
    }

    fn entity(&mut self, set: &Set, place: &Place) {
        let tags = json!([set.name]);
        let word = capital(&place.word);
        if set.may.get {
            let schema = self.single(&set.of);
            let op = json!({
                "operationId": self.id(&format!("get{word}")), "summary": format!("One entity of {}", set.name), "tags": tags,
                "parameters": references(&self.options(&set.of, false)),
                "responses": { "200": json_body("The entity.", schema), "404": { "description": "It is not there." } },
            });
            self.add("GET", place, op, None);
        }
        if set.may.update {
            let schema = self.schemas.reference(&set.of).unwrap_or_else(|| json!({}));
            let changed = self.single(&set.of);
            let op = json!({
                "operationId": self.id(&format!("update{word}")),
                "summary": format!("Changes what is given of an entity of {}", set.name), "tags": tags,
                "parameters": [if_match()],
                "requestBody": { "required": true, "content": { "application/json": { "schema": schema } } },
                "responses": { "200": json_body("The entity.", changed), "204": { "description": "It was changed." } },
            });
            // Before v4 it is a method of its own (MS-ODATA §2.2.7.2.4).
            let method = match self.model.version {
                Version::Four => "PATCH",
                Version::Two => "MERGE",
            };
            self.add_as("PATCH", method, place, op, None);
        }
        if set.may.delete && !set.single {
            let op = json!({
                "operationId": self.id(&format!("delete{word}")), "summary": format!("Deletes an entity of {}", set.name),
                "tags": tags, "parameters": [if_match()], "responses": { "204": { "description": "It was deleted." } },
            });
            self.add("DELETE", place, op, None);
        }
        if set.may.get {
            self.stream(set, place, &tags);
            for link in self.model.links(&set.of) {
                if self.is_full() {
                    break;
                }
                self.link(link, place, &tags);
            }
        }
    }

    /// The content of a media entity (OData URL Conventions 4.01 §4.13).
    fn stream(&mut self, set: &Set, place: &Place, tags: &Value) {
        if !self.model.structures.get(&set.of).is_some_and(|s| s.stream) {
            return;
        }
        let word = capital(&place.word);
        let op = json!({
            "operationId": self.id(&format!("get{word}Content")), "summary": format!("The content of an entity of {}", set.name),
            "tags": tags, "responses": { "200": { "description": "The content.", "content": { "*/*": {} } } },
        });
        let (ours, theirs) = place.below("$value", "$value");
        let call = self.call("GET", theirs, place, None);
        self.put(
            &ours,
            "GET",
            &place.parameters,
            op,
            crate::Call {
                send: without_headers(call.send),
                ..call
            },
        );
    }

    /// What an entity leads to.
    fn link(&mut self, link: &Link, place: &Place, tags: &Value) {
        if !self.model.structures.contains_key(&link.to.name) {
            return;
        }
        let (verb, schema) = match link.to.collection {
            true => ("list", self.listed(&link.to.name)),
            false => ("get", self.single(&link.to.name)),
        };
        let id = format!("{verb}{}{}", capital(&place.word), capital(&link.name));
        let mut op = json!({
            "operationId": self.id(&id), "summary": format!("{} of {}", link.name, small(&place.word)), "tags": tags,
            "parameters": references(&self.options(&link.to.name, link.to.collection)),
            "responses": { "200": json_body("What it leads to.", schema) },
        });
        if !link.to.collection {
            op["responses"]["204"] = json!({ "description": "It leads to nothing." });
        }
        if !link.documentation.is_empty() {
            op["description"] = json!(link.documentation);
        }
        let reply = match link.to.collection {
            true => self.paged(),
            false => None,
        };
        let name = encoded(&link.name);
        let (ours, theirs) = place.below(&name, &name);
        let call = self.call("GET", theirs, place, reply);
        self.put(&ours, "GET", &place.parameters, op, call);
    }
}

/// A condition on what is changed (RFC 9110 §13.1.1).
fn if_match() -> Value {
    json!({ "name": "If-Match", "in": "header", "schema": { "type": "string" },
        "description": "The entity's tag, so that a change of somebody else is not written over" })
}

fn without_headers(mut send: Map<String, Value>) -> Map<String, Value> {
    send.remove("headers");
    send
}
