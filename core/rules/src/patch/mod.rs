//! Changes of JSON in place, in the manner of JSON Patch (RFC 6902).
//!
//! Its operations are `add`, `remove`, `replace`, `move`, `copy` and `test`, with the meaning that they have there. Besides:
//! `*` in a path stands for every item of a list; values may be expressions, which see the item that is changed; `rename`
//! gives a member another name, `default` gives a value where there is none, `mask` leaves the ends of a text alone,
//! `substitute` replaces what a pattern finds, `link` leads where a link leads by the facade;
//! and any of them may say when it is made, and that what it changes may be absent. All are made, or none.

mod act;
mod pointer;
mod swift;

use serde_json::Value;

pub use pointer::Pointer;

use crate::expr::{EvalError, Template, Val};
use crate::substitute::Substitution;
use act::Failed;

/// One change may meet at most so many places.
const MOST: usize = 100_000;
/// All changes of a list may put so much into a value: its parts, and 64 letters for one of them.
const MADE: usize = 1_000_000;

/// A list of changes, which are made one behind the other.
#[derive(Debug, Default)]
pub struct Patch {
    changes: Vec<Change>,
    /// How they are made while bytes are read, where that can be.
    plan: Option<swift::Plan>,
}

/// One change.
#[derive(Debug)]
pub struct Change {
    /// What is done.
    pub action: Action,
    /// Where.
    pub path: Pointer,
    /// Whether nothing is done where there is nothing to change.
    pub may_be_absent: bool,
    /// When it is made; always where nothing is said.
    pub when: Option<Template>,
}

/// What a change does.
#[derive(Debug)]
pub enum Action {
    /// Puts a value there: a member, or an item before others (RFC 6902 §4.1).
    Add(Template),
    /// Takes the value away (§4.2).
    Remove,
    /// Puts another value in its place (§4.3).
    Replace(Template),
    /// Takes a value from elsewhere (§4.4).
    Move(Pointer),
    /// Copies a value from elsewhere (§4.5).
    Copy(Pointer),
    /// Whether the value is another one (§4.6): if not, no change is made at all.
    Test(Template),
    /// Gives a member another name, at its place.
    Rename(String),
    /// Puts a value there unless there is one.
    Default(Template),
    /// Hides a text but for so many letters at its end.
    Mask(usize),
    /// Replaces what a pattern finds in a text.
    Substitute(Substitution),
    /// Leads where a link of the backend leads, by the facade.
    Link,
}

impl Action {
    /// Its name in documents.
    pub fn name(&self) -> &'static str {
        match self {
            Action::Add(_) => "add",
            Action::Remove => "remove",
            Action::Replace(_) => "replace",
            Action::Move(_) => "move",
            Action::Copy(_) => "copy",
            Action::Test(_) => "test",
            Action::Rename(_) => "rename",
            Action::Default(_) => "default",
            Action::Mask(_) => "mask",
            Action::Substitute(_) => "substitute",
            Action::Link => "link",
        }
    }

    /// The value that it makes.
    pub fn value(&self) -> Option<&Template> {
        match self {
            Action::Add(v) | Action::Replace(v) | Action::Test(v) | Action::Default(v) => Some(v),
            _ => None,
        }
    }

    /// Where it takes a value from.
    pub fn from(&self) -> Option<&Pointer> {
        match self {
            Action::Move(from) | Action::Copy(from) => Some(from),
            _ => None,
        }
    }
}

/// Gives structures their values, for the item that is changed, where a path goes through a list.
pub trait Values {
    /// The value of a structure; `None` when it is absent.
    ///
    /// # Errors
    /// The text of the expression that failed, and why.
    fn value(
        &self,
        template: &Template,
        item: Option<&Value>,
    ) -> Result<Option<Value>, (String, EvalError)>;

    /// A link of the backend as one of the facade; `None` for what leads elsewhere.
    ///
    /// # Errors
    /// Where it cannot be said.
    fn link(&self, _link: &str) -> Result<Option<String>, String> {
        Ok(None)
    }
}

/// Why no change was made.
#[derive(Debug, PartialEq, Eq, thiserror::Error)]
#[error("change {number} ({action} {path}): {why}")]
pub struct PatchError {
    /// The number of the change, from 1.
    pub number: usize,
    /// What it does.
    pub action: &'static str,
    /// Its path as it is written.
    pub path: String,
    /// What is wrong.
    pub why: String,
}

impl Patch {
    /// These changes, in this order.
    ///
    /// # Errors
    /// The number of a change that cannot be made in any value, from 0, and why.
    pub fn new(changes: Vec<Change>) -> Result<Self, (usize, String)> {
        for (i, change) in changes.iter().enumerate() {
            change.sound().map_err(|why| (i, why))?;
        }
        let plan = swift::Plan::of(&changes);
        Ok(Self { changes, plan })
    }

    /// Makes all of them in bytes of JSON, without a value of the whole; `None` where that cannot be, or goes wrong: the other
    /// way tells then.
    pub fn swift(&self, bytes: &[u8], values: &dyn Values) -> Option<Vec<u8>> {
        swift::apply(self.plan.as_ref()?, &self.changes, bytes, values)
    }

    /// The changes.
    pub fn changes(&self) -> &[Change] {
        &self.changes
    }

    /// Makes all of them in a value; where one cannot be made, there is no value.
    ///
    /// # Errors
    /// The first that could not be made.
    pub fn apply(&self, mut value: Value, values: &dyn Values) -> Result<Value, PatchError> {
        let mut left = MADE;
        for (i, change) in self.changes.iter().enumerate() {
            let made = act::change(change, &mut value, values, &mut left);
            made.map_err(|Failed(why)| PatchError {
                number: i + 1,
                action: change.action.name(),
                path: change.path.to_string(),
                why,
            })?;
        }
        Ok(value)
    }
}

impl Change {
    /// Whether it can be made at all.
    fn sound(&self) -> Result<(), String> {
        let path = &self.path;
        if let Some(from) = self.action.from() {
            if from.shared() != path.shared() {
                return Err(
                    "what is taken from a list goes to the same item of it: both paths are the same up to their last “*”"
                        .into(),
                );
            }
            let (own, of) = (path.tokens(), from.tokens());
            if matches!(self.action, Action::Move(_)) && own.len() > of.len() && own.starts_with(of)
            {
                return Err("a value cannot be moved into itself".into());
            }
        }
        let is_root = path.tokens().is_empty();
        match &self.action {
            Action::Rename(_) if is_root => Err("the whole body has no name".into()),
            Action::Remove if is_root => Err("the whole body cannot be taken away".into()),
            _ => Ok(()),
        }
    }
}

/// Whether two values are equal (RFC 6902 §4.6): numbers by what they are.
fn equal(a: &Value, b: &Value) -> bool {
    Val::of(a).same(&Val::of(b))
}
