//! Bytes of JSON (RFC 8259) held against a schema while they are read, and no value is made of them.
//!
//! Most bodies are as they should be, and this says so at a fraction of the cost. It never tells what is wrong: whatever it is not
//! sure of is read into a value and looked at by [`crate::check`]. Where it says that a body fits, the body is JSON, no object has
//! a member twice, and the schema takes it.

mod parts;
mod scalars;

use crate::From;
use crate::node::{ANYTHING, Id, Node, Several};

/// Values within values and schemas within schemas; readers of JSON take 128.
const MAX_DEPTH: usize = 100;
/// How often all of the bytes may be looked at, for schemas that say several things of the same value.
const TIMES: usize = 16;
/// What short bodies may take all the same.
const AT_LEAST: usize = 4096;

/// Whether bytes are surely JSON that fits; `false` says nothing.
pub(crate) fn fits(nodes: &[Node], from: From, root: Id, json: &[u8]) -> bool {
    // Readers of JSON take no other encoding (RFC 8259 §8.1).
    let Ok(text) = std::str::from_utf8(json) else {
        return false;
    };
    let mut reading = Reading {
        nodes,
        from,
        text,
        at: 0,
        depth: 0,
        left: AT_LEAST.saturating_add(json.len().saturating_mul(TIMES)),
    };
    reading.blanks();
    let fits = reading.value(root) == Some(true);
    reading.blanks();
    fits && reading.at == text.len()
}

/// Each part answers whether it fits, with the place behind it where it does; nothing where that is not sure.
struct Reading<'n, 't> {
    nodes: &'n [Node],
    from: From,
    text: &'t str,
    at: usize,
    depth: usize,
    left: usize,
}

impl<'n, 't> Reading<'n, 't> {
    fn peek(&self) -> Option<u8> {
        self.text.as_bytes().get(self.at).copied()
    }

    fn blanks(&mut self) {
        while matches!(self.peek(), Some(b' ' | b'\n' | b'\r' | b'\t')) {
            self.at += 1;
        }
    }

    /// Goes past a sign that must stand here.
    fn past(&mut self, sign: u8) -> Option<()> {
        (self.peek()? == sign).then(|| self.at += 1)
    }

    fn charge(&mut self, work: usize) -> Option<()> {
        self.left = self.left.checked_sub(work)?;
        Some(())
    }

    fn value(&mut self, id: Id) -> Option<bool> {
        let nodes = self.nodes;
        let node = nodes.get(id as usize)?;
        if node.never || (node.read_only && self.from == From::Callers) {
            return Some(false);
        }
        if self.depth == MAX_DEPTH {
            return None;
        }
        self.charge(1)?;
        self.depth += 1;
        let fits = self.node(node);
        self.depth -= 1;
        fits
    }

    fn node(&mut self, node: &'n Node) -> Option<bool> {
        let from = self.at;
        match node.refers {
            Some(id) if !node.says_itself() => {
                if !self.value(id)? {
                    return Some(false);
                }
            }
            refers => {
                if !self.own(node)? {
                    return Some(false);
                }
                if let Some(id) = refers
                    && !self.again(from, id)?
                {
                    return Some(false);
                }
            }
        }
        if let Some(said) = &node.several {
            let behind = self.at;
            if !self.several(said, from)? {
                return Some(false);
            }
            self.at = behind;
        }
        Some(true)
    }

    /// The value that begins at a place, held against another schema too; it was read to its end before.
    fn again(&mut self, from: usize, id: Id) -> Option<bool> {
        let behind = self.at;
        self.charge(behind.saturating_sub(from))?;
        self.at = from;
        let fits = self.value(id)?;
        self.at = behind;
        Some(fits)
    }

    /// Core §10.2.
    fn several(&mut self, said: &'n Several, from: usize) -> Option<bool> {
        for id in &said.all {
            if !self.again(from, *id)? {
                return Some(false);
            }
        }
        if !said.any.is_empty() && self.fitting(&said.any, from, 1)? == 0 {
            return Some(false);
        }
        if !said.one.is_empty() && self.fitting(&said.one, from, 2)? != 1 {
            return Some(false);
        }
        if let Some(id) = said.not
            && self.again(from, id)?
        {
            return Some(false);
        }
        let Some(when) = said.when else {
            return Some(true);
        };
        let next = match self.again(from, when)? {
            true => said.then,
            false => said.otherwise,
        };
        match next {
            Some(id) => self.again(from, id),
            None => Some(true),
        }
    }

    /// How many of several schemas fit; not more are looked for than are asked for.
    fn fitting(&mut self, ids: &[Id], from: usize, enough: usize) -> Option<usize> {
        let mut count = 0;
        for id in ids {
            count += usize::from(self.again(from, *id)?);
            if count == enough {
                break;
            }
        }
        Some(count)
    }

    /// What a schema says itself, by no other one; the value is read to its end.
    fn own(&mut self, node: &'n Node) -> Option<bool> {
        match self.peek()? {
            b'{' => self.object(node),
            b'[' => self.list(node),
            b'"' => self.string(node),
            b'-' | b'0'..=b'9' => self.number(node),
            _ => self.word(node),
        }
    }

    /// A part of which the schema says nothing.
    fn anything(&mut self) -> Option<bool> {
        self.value(ANYTHING)
    }
}

#[cfg(test)]
mod tests {
    use serde_json::{Value, json};

    use crate::{From, Schemas, Validator};

    fn of(schema: &Value) -> Validator {
        let mut schemas = Schemas::of(schema, From::Callers);
        let added = [schemas.add(schema)];
        schemas.ready(&added).remove(0)
    }

    fn schema() -> Value {
        json!({ "type": "object", "required": ["reference", "legs"], "additionalProperties": false, "properties": {
            "reference": { "type": "string", "pattern": "^[A-Z]{2}-[0-9]{4}$" }, "booked": { "format": "date" },
            "id": { "readOnly": true }, "price": { "type": "number", "exclusiveMinimum": 0, "maximum": 100.5 },
            "legs": { "type": "array", "minItems": 1, "maxItems": 3, "items": { "$ref": "#/$defs/leg" } },
            "more": { "additionalProperties": { "type": ["integer", "null"] } },
            "pay": { "oneOf": [{ "required": ["card"] }, { "required": ["cash"], "properties": { "cash": { "const": true } } }] },
        }, "$defs": { "leg": { "allOf": [{ "required": ["to"] }, { "properties": { "to": { "maxLength": 5 } } }] } } })
    }

    const GOOD: [&str; 6] = [
        r#"{"reference":"SK-0417","legs":[{"to":"Maren"}]}"#,
        " { \"legs\" : [ { \"to\" : \"a\\n\\u00e9\" } , {\"to\":\"\", \"x\":[1,-2.5e+3,{}]} ] ,\n\t\"reference\":\"SK-0417\" } ",
        r#"{"reference":"SK-0417","legs":[{"to":"M"}],"booked":"2027-04-02","price":0.25}"#,
        r#"{"reference":"SK-0417","legs":[{"to":"M"}],"more":{"a":1,"b":null,"c":-0},"price":100.5}"#,
        r#"{"reference":"SK-0417","legs":[{"to":"M"}],"pay":{"cash":true}}"#,
        r#"{"reference":"SK-0417","legs":[{"to":"M"}],"pay":{"card":"x","cash":false}}"#,
    ];

    #[test]
    fn what_fits_is_known_without_a_value() {
        let validator = of(&schema());
        for text in GOOD {
            assert!(validator.surely_fits(text.as_bytes()), "{text}");
        }
    }

    /// Nothing that is no JSON, has a member twice, or does not fit is taken, whichever byte is another or missing.
    #[test]
    fn it_is_never_sure_of_what_does_not_fit() {
        let validator = of(&schema());
        let fits = |bytes: &[u8]| match serde_json::from_slice::<Value>(bytes) {
            Ok(value) => crate::doubled(bytes).is_none() && validator.fits(&value),
            Err(_) => false,
        };
        let (mut sure, mut not) = (0, 0);
        let mut held = |bytes: &[u8]| {
            if validator.surely_fits(bytes) {
                assert!(fits(bytes), "{}", String::from_utf8_lossy(bytes));
                sure += 1;
            } else {
                not += 1;
            }
        };
        for text in GOOD {
            for at in 0..text.len() {
                let mut bytes = text.as_bytes().to_vec();
                for other in b"\"\\{}[],:0159-+.eEtfnul \n\x00\x1f\x7f\xc3\xff" {
                    bytes[at] = *other;
                    held(&bytes);
                }
                held(&text.as_bytes()[..at]);
                held(&text.as_bytes()[at..]);
                held(&[&text.as_bytes()[..at], &text.as_bytes()[at + 1..]].concat());
            }
        }
        assert!(sure > 500 && not > 5_000, "{sure} {not}");
        for text in [
            r#"{"reference":"SK-0417","legs":[{"to":"M"}],"reference":"SK-0417"}"#,
            r#"{"reference":"SK-0417","legs":[{"to":"M","x":1,"x":1}]}"#,
            r#"{"reference":"SK-0417","legs":[{"to":"M"}],"id":"made here"}"#,
            r#"{"reference":"SK-0417","legs":[{"to":"\ud800"}]}"#,
            r#"{"reference":"SK-0417","legs":[{"to":"M"}],"pay":{"card":1,"cash":true}}"#,
            r#"{"reference":"SK-0417","legs":[{"to":"M"}],"price":100.50001}"#,
        ] {
            assert!(!validator.surely_fits(text.as_bytes()), "{text}");
        }
    }

    #[test]
    fn many_members_are_told_apart_too() {
        let validator = of(&json!({ "additionalProperties": { "type": "integer" } }));
        let members = |names: &mut dyn Iterator<Item = usize>| {
            let all: Vec<String> = names.map(|n| format!("\"m{n}\":{n}")).collect();
            format!("{{{}}}", all.join(","))
        };
        assert!(validator.surely_fits(members(&mut (0..5_000)).as_bytes()));
        let twice = members(&mut (0..5_000).chain([17]));
        assert!(!validator.surely_fits(twice.as_bytes()));
    }

    /// Schemas that lead to themselves, and forms within forms, end.
    #[test]
    fn its_work_is_bounded() {
        let around = json!({ "$ref": "#" });
        assert!(!of(&around).surely_fits(b"1"));
        let forms = json!({ "anyOf": [{ "type": "null" }, { "items": { "$ref": "#" } }, { "items": { "$ref": "#" } }, { "not": {} }] });
        let deep = format!("{}{}", "[".repeat(90), "]".repeat(90));
        of(&forms).surely_fits(deep.as_bytes());
        let all = json!({ "allOf": [{ "items": { "$ref": "#" } }, { "items": { "$ref": "#" } }] });
        assert!(!of(&all).surely_fits(deep.as_bytes()));
        assert!(!of(&json!(true)).surely_fits("[".repeat(1_000_000).as_bytes()));
    }
}
