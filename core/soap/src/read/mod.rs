//! SOAP → JSON: answers, from bytes to bytes.
//!
//! [`AnswerReader`] is fed the answer in pieces of any size and appends JSON as it goes. It is strict where exactness
//! is at stake (a text that its type rules out, an element that is cut off) and tolerant where the meaning is clear
//! (an element nobody declared, a missing one); what it tolerated is kept in [`AnswerReader::notes`].

mod reader;

use std::sync::Arc;

use crate::NotEncoded;
use crate::plan::{Member, Plan, TypePlan};
use crate::wsdl::{Message, Operation};
use crate::xml::XmlError;

pub use self::reader::AnswerReader;

/// What an answer may hold.
#[derive(Debug)]
pub struct AnswerPlan {
    /// The types.
    pub plan: Arc<Plan>,
    /// The body, if the operation answers at all.
    pub output: Option<Message>,
    /// Header elements that answers carry.
    pub headers: Vec<Member>,
    /// Declared faults.
    pub faults: Vec<(String, Member)>,
    /// Whether messages are encoded by SOAP's rules: its attributes are expected then.
    pub encoded: bool,
    /// Whether no answer is expected.
    pub one_way: bool,
    /// Whether answers have an element that never holds anything.
    pub nothing: bool,
}

impl AnswerPlan {
    /// What an operation's answers hold.
    pub fn of(plan: Arc<Plan>, operation: &Operation) -> Self {
        Self {
            output: operation.output.clone(),
            headers: operation.output_headers.clone(),
            faults: operation.faults.clone(),
            encoded: operation.encoded,
            one_way: operation.one_way,
            nothing: operation.answers_nothing(&plan),
            plan,
        }
    }

    /// Whether an empty body can be a complete answer.
    pub fn may_be_empty(&self) -> bool {
        match self.output.as_ref().map(|o| (o, self.plan.get(o.type_id))) {
            None => true,
            Some((output, TypePlan::Object(object))) => {
                output.rpc || !object.members.iter().any(Member::required)
            }
            Some((output, TypePlan::List(_))) => output.rpc,
            _ => false,
        }
    }
}

/// What an answer was.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Answer {
    /// The declared answer; its JSON was written.
    Body,
    /// An envelope with an empty body.
    Empty,
    /// A fault; the JSON of its detail, if it had one, was written.
    Fault(Fault),
}

/// A SOAP fault (SOAP 1.1 §4.4, SOAP 1.2 part 1 §5.4).
#[derive(Clone, Debug, Default, PartialEq, Eq, serde::Serialize)]
pub struct Fault {
    /// Local part of the code: `Client`, `Server`, `Sender`, `Receiver` …
    pub code: String,
    /// Local part of the innermost subcode.
    pub subcode: String,
    /// Who found the fault on the way: `faultactor` (SOAP 1.1 §4.4), `Role` (SOAP 1.2 part 1 §5.4.4).
    pub actor: String,
    /// The text for people: the English one, else the first.
    pub reason: String,
    /// All texts by language, when there are several.
    pub reasons: Vec<(String, String)>,
    /// Local name of the declared detail element.
    pub detail: Option<String>,
}

impl Fault {
    /// Whether the fault says that the request was wrong, not the server.
    pub fn is_callers(&self) -> bool {
        matches!(self.code.split('.').next(), Some("Client" | "Sender"))
    }
}

/// Why an answer could not be understood.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum AnswerError {
    /// Not well-formed.
    #[error("the answer is not well-formed XML: {0}")]
    Xml(#[from] XmlError),
    /// Not in the encoding that it says.
    #[error("the answer is not {}", .0.0)]
    Encoding(#[from] NotEncoded),
    /// Well-formed, but no envelope.
    #[error("the answer is no SOAP envelope: it begins with <{0}>")]
    NoEnvelope(String),
    /// An envelope with the wrong element in its body.
    #[error("the answer's body holds <{0}>, not <{1}>")]
    OtherElement(String, String),
    /// A text that its type rules out.
    #[error("{0}: {1}")]
    Value(String, String),
    /// A list in pieces: only a [gathering](AnswerReader::gathering) reader puts them together.
    #[error("{0}: the elements of this list do not stand together")]
    Apart(String),
}
