//! Lists and maps from JSON.

use super::pull::Next;
use super::to_wire::{Result, ToWire};
use crate::types::*;

impl ToWire<'_, '_, '_> {
    pub(super) fn list(&mut self, field: &Field, depth: usize) -> Result<()> {
        if self.json.peek()? != Next::Array {
            return self.wrong("an array");
        }
        self.json.enter()?;
        let before = self.out.len();
        let mut start = 0;
        if field.packed {
            self.out.extend_from_slice(field.length_tag().bytes());
            start = self.open();
        }
        let (mut first, mut i) = (true, 0usize);
        while self.json.element(first)? {
            first = false;
            let since = self.mistakes.len();
            if self.json.peek()? == Next::Null && !self.takes_null(field) {
                self.json.null()?;
                self.mistake("a list holds no null");
            } else {
                if !field.packed {
                    self.out.extend_from_slice(field.tag.bytes());
                }
                self.value(field.kind, depth)?;
                if let Kind::Group(_) = field.kind {
                    self.out
                        .extend_from_slice(Tag::new(field.number, END_GROUP).bytes());
                }
            }
            if self.mistakes.len() > since {
                self.below(since, &i.to_string());
            }
            i += 1;
        }
        if field.packed && self.out.len() == start {
            self.out.truncate(before);
        } else if field.packed {
            self.close(start);
        }
        Ok(())
    }

    pub(super) fn map(&mut self, field: &Field, key: Kind, depth: usize) -> Result<()> {
        if self.json.peek()? != Next::Object {
            return self.wrong("an object");
        }
        self.json.enter()?;
        let mut first = true;
        // A few names are looked through; many are hashed.
        let (mut few, mut names) = (Vec::new(), std::collections::HashSet::new());
        while let Some(name) = self.json.member(first)? {
            first = false;
            let since = self.mistakes.len();
            let twice = few.contains(&name) || (!names.is_empty() && names.contains(&name));
            if twice {
                self.mistake("stands twice");
            }
            self.out.extend_from_slice(field.length_tag().bytes());
            let entry = self.open();
            self.out
                .extend_from_slice(Tag::new(1, key.wire_type()).bytes());
            if let Err(message) = self.text(key, &name) {
                self.mistake(format!("as a key {message}"));
            }
            if self.json.peek()? == Next::Null && !self.takes_null(field) {
                self.json.null()?;
                self.mistake("a map holds no null");
            } else {
                self.out
                    .extend_from_slice(Tag::new(2, field.kind.wire_type()).bytes());
                self.value(field.kind, depth)?;
            }
            self.close(entry);
            if self.mistakes.len() > since {
                self.below(since, &name);
            }
            if few.len() < 12 {
                few.push(name);
            } else {
                names.insert(name);
            }
        }
        Ok(())
    }
}
