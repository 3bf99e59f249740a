//! Changes of messages that go through.

use indexmap::IndexMap;
use porch_rules::expr::Template;
use porch_rules::patch::{Action, Change, Patch, Pointer};
use porch_rules::substitute::Substitution;
use schemars::JsonSchema;
use serde::{Deserialize, Deserializer};
use serde_json::Value;

/// Changes of requests and replies, each list made as it is written; a facade's come before an operation's.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ChangesDoc {
    /// Of requests on their way to the backend.
    #[serde(default)]
    pub request: RequestChangesDoc,
    /// Of replies on their way to the caller.
    #[serde(default)]
    pub reply: ReplyChangesDoc,
}

/// Changes of requests, for operations with one `call`.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct RequestChangesDoc {
    /// HTTP: of query parameters.
    #[serde(default)]
    pub query: Vec<FieldChangeDoc>,
    /// Of header fields; credentials for the backend come behind them.
    #[serde(default)]
    pub headers: Vec<FieldChangeDoc>,
    /// HTTP: of the JSON that callers send.
    #[serde(default)]
    pub body: Vec<ChangeDoc>,
}

/// Changes of replies that come of answers; refusals are left alone.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ReplyChangesDoc {
    /// Statuses in place of others: by a status, or by the first digit of many as in `5XX`.
    #[serde(default)]
    pub status: IndexMap<String, u16>,
    /// Of header fields.
    #[serde(default)]
    pub headers: Vec<FieldChangeDoc>,
    /// Of the JSON of replies that succeed; behind `reply`.
    #[serde(default)]
    pub body: Vec<ChangeDoc>,
}

/// One change of named texts: header fields or query parameters.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct FieldChangeDoc {
    /// What is done.
    pub op: FieldOp,
    /// Its name; `*` at the end of one that is removed stands for all that begin so.
    pub name: String,
    /// The other name, where it is renamed or copied.
    pub to: Option<String>,
    /// What is looked for in its values: a regular expression without look-around and back references.
    pub pattern: Option<String>,
    /// What stands in place of what was found; `$1` and `$name` are groups of the pattern.
    pub with: Option<String>,
    /// Its value: a text or an expression. Absent: there is none.
    pub value: Option<Value>,
    /// When it is made, as an expression; always unless given.
    pub when: Option<String>,
}

/// What is done with a header field or query parameter.
#[derive(Clone, Copy, Debug, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub enum FieldOp {
    /// It has this value, and no other.
    Set,
    /// It has this value too.
    Add,
    /// It is taken out.
    Remove,
    /// It has another name.
    Rename,
    /// Another one has the same values.
    Copy,
    /// What a pattern finds in its values is replaced.
    Substitute,
}

impl FieldOp {
    /// As documents write it.
    pub fn name(self) -> &'static str {
        match self {
            FieldOp::Set => "set",
            FieldOp::Add => "add",
            FieldOp::Remove => "remove",
            FieldOp::Rename => "rename",
            FieldOp::Copy => "copy",
            FieldOp::Substitute => "substitute",
        }
    }
}

/// One change of JSON: an operation of JSON Patch (RFC 6902 §4), or one besides.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ChangeDoc {
    /// What is done.
    pub op: ChangeOp,
    /// Where: a JSON Pointer (RFC 6901); `*` stands for every item of a list.
    pub path: String,
    /// Where a value is moved or copied from.
    pub from: Option<String>,
    /// The value, whose parts may be expressions; `item` is the item that `*` stands for.
    #[serde(default, deserialize_with = "even_null")]
    #[schemars(with = "Value")]
    pub value: Option<Value>,
    /// The other name of a member.
    pub to: Option<String>,
    /// What is looked for in a text: a regular expression without look-around and back references.
    pub pattern: Option<String>,
    /// What stands in place of what was found; `$1` and `$name` are groups of the pattern.
    pub with: Option<String>,
    /// So many letters at the end of what is masked are shown; none unless given, and never more than half of them.
    pub keep: Option<u32>,
    /// Whether nothing is done where there is nothing to change; that is a failure unless given.
    #[serde(default)]
    pub may_be_absent: bool,
    /// When it is made, as an expression; always unless given.
    pub when: Option<String>,
}

/// What is done with a part of JSON.
#[derive(Clone, Copy, Debug, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub enum ChangeOp {
    /// RFC 6902 §4.1.
    Add,
    /// RFC 6902 §4.2.
    Remove,
    /// RFC 6902 §4.3.
    Replace,
    /// RFC 6902 §4.4.
    Move,
    /// RFC 6902 §4.5.
    Copy,
    /// RFC 6902 §4.6.
    Test,
    /// Gives a member another name.
    Rename,
    /// Gives a value where there is none.
    Default,
    /// Hides a text.
    Mask,
    /// Replaces what a pattern finds in a text.
    Substitute,
    /// Of replies: leads where a link of the backend leads, by the facade.
    Link,
}

/// A value that may be `null`.
fn even_null<'de, D: Deserializer<'de>>(from: D) -> Result<Option<Value>, D::Error> {
    Value::deserialize(from).map(Some)
}

/// What is wrong with a change: the key, and why.
pub(crate) type Wrong = (&'static str, String);

/// Makes structures ready: by the key that they stand below.
pub(crate) type Ready<'r> = &'r mut dyn FnMut(&'static str, &Value) -> Option<Template>;

impl ChangeDoc {
    /// Makes the change ready; `None` where a structure of it is wrong, which was told.
    pub(crate) fn ready(&self, template: Ready<'_>) -> Result<Option<Change>, Wrong> {
        let path = Pointer::parse(&self.path).map_err(|why| ("path", why))?;
        self.only_its_own()?;
        let Some(action) = self.action(template)? else {
            return Ok(None);
        };
        let when = match &self.when {
            Some(text) => match template("when", &Value::String(text.clone())) {
                Some(when) => Some(when),
                None => return Ok(None),
            },
            None => None,
        };
        Ok(Some(Change {
            action,
            path,
            may_be_absent: self.may_be_absent,
            when,
        }))
    }

    fn action(&self, template: Ready<'_>) -> Result<Option<Action>, Wrong> {
        let needs = |key: &str| ("op", format!("it needs `{key}:`"));
        let value = match (self.op, &self.value) {
            (ChangeOp::Add | ChangeOp::Replace | ChangeOp::Test | ChangeOp::Default, None) => {
                return Err(needs("value"));
            }
            (_, Some(value)) => match template("value", value) {
                Some(made) => made,
                None => return Ok(None),
            },
            (_, None) => Template::Literal(Value::Null),
        };
        let from = match (self.op, &self.from) {
            (ChangeOp::Move | ChangeOp::Copy, None) => return Err(needs("from")),
            (_, Some(from)) => Pointer::parse(from).map_err(|why| ("from", why))?,
            (_, None) => Pointer::default(),
        };
        Ok(Some(match self.op {
            ChangeOp::Add => Action::Add(value),
            ChangeOp::Remove => Action::Remove,
            ChangeOp::Replace => Action::Replace(value),
            ChangeOp::Move => Action::Move(from),
            ChangeOp::Copy => Action::Copy(from),
            ChangeOp::Test => Action::Test(value),
            ChangeOp::Default => Action::Default(value),
            ChangeOp::Substitute => Action::Substitute(substitution(&self.pattern, &self.with)?),
            ChangeOp::Link => Action::Link,
            ChangeOp::Mask => Action::Mask(self.keep.unwrap_or(0) as usize),
            ChangeOp::Rename => match &self.to {
                Some(to) => Action::Rename(to.clone()),
                None => return Err(needs("to")),
            },
        }))
    }

    /// Members that an operation does not know are passed over by RFC 6902 §4; here they are mistakes but for those that it
    /// has itself.
    fn only_its_own(&self) -> Result<(), Wrong> {
        let is = |all: &[ChangeOp]| all.contains(&self.op);
        let told = |key: &'static str| (key, format!("“{key}” has no meaning here"));
        if self.to.is_some() && !is(&[ChangeOp::Rename]) {
            return Err(told("to"));
        }
        if self.keep.is_some() && !is(&[ChangeOp::Mask]) {
            return Err(told("keep"));
        }
        for (key, there) in [
            ("pattern", self.pattern.is_some()),
            ("with", self.with.is_some()),
        ] {
            if there && !is(&[ChangeOp::Substitute]) {
                return Err(told(key));
            }
        }
        if self.may_be_absent && is(&[ChangeOp::Test]) {
            return Err(told("may-be-absent"));
        }
        Ok(())
    }
}

/// A pattern and what stands in its place.
pub(crate) fn substitution(
    pattern: &Option<String>,
    with: &Option<String>,
) -> Result<Substitution, Wrong> {
    let needs = |key: &str| ("op", format!("it needs `{key}:`"));
    let pattern = pattern.as_ref().ok_or_else(|| needs("pattern"))?;
    let with = with.as_ref().ok_or_else(|| needs("with"))?;
    Substitution::new(pattern, with)
}

/// A list of changes whose values have no names to use.
///
/// # Errors
/// What is wrong with it.
pub fn patch_of(list: &Value) -> Result<Patch, String> {
    let docs: Vec<ChangeDoc> = Vec::deserialize(list).map_err(|e| e.to_string())?;
    let mut changes = Vec::new();
    for doc in &docs {
        let mut ready = |_: &'static str, value: &Value| Template::compile(value, &[]).ok();
        let change = doc.ready(&mut ready).map_err(|(_, why)| why)?;
        changes.push(change.ok_or("an expression is wrong")?);
    }
    Patch::new(changes).map_err(|(_, why)| why)
}
