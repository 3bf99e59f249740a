//! Operations, compiled.

use std::any::Any;
use std::collections::HashMap;
use std::fmt::Debug;
use std::sync::Arc;
use std::time::Duration;

use http::StatusCode;
use porch_contract::Position;
use porch_rules::expr::Template;

use crate::documents::Relaxed;

use super::{
    Admission, AnswersPlan, CachePlan, Changes, CompiledBackend, Cors, Examples, Routing,
    RulePlace, Sensitive, Words,
};

/// One operation, compiled.
#[derive(Debug)]
pub struct CompiledOperation {
    /// `operationId`.
    pub id: String,
    /// Where callers find it.
    pub route: Arc<Route>,
    /// Who and what may pass.
    pub admission: Admission,
    /// What is answered where nothing is called.
    pub examples: Option<Arc<Examples>>,
    /// What is called; those that do not wait for one another run at once.
    pub steps: Vec<Step>,
    /// How long several may take together.
    pub within: Option<Duration>,
    /// When the request is refused, in the order of the document.
    pub refusals: Box<[Refusal]>,
    /// What is made of the answers.
    pub reply: Reply,
    /// What is changed of messages that go through; `None`: nothing.
    pub changes: Option<Box<Changes>>,
    /// Whether its replies are kept, or make others untrue; `None`: neither.
    pub cache: Option<Arc<CachePlan>>,
    /// Whether its replies are compressed for callers who take that.
    pub compress: bool,
    /// What of it nobody is shown; `None`: all may be.
    pub sensitive: Option<Arc<Sensitive>>,
    /// What callers are told of problems, the narrowest reach first; `None`: what the porch says.
    pub words: Option<Arc<[Words]>>,
    /// Which pages may call; `None`: those of its own origin.
    pub cors: Option<Arc<Cors>>,
    /// What replies are held against; `None`: they pass.
    pub answers: Option<Arc<AnswersPlan>>,
    /// What of this is said by shared rules, with where.
    pub said: Box<[(Relaxed, RulePlace)]>,
    /// What documents say of it that does not hold.
    pub overridden: Box<[Overridden]>,
    /// Where its wiring stands.
    pub place: Arc<RulePlace>,
    /// The same in its file, to the column.
    pub at: Position,
}

/// A rule that does not hold.
#[derive(Debug)]
pub struct Overridden {
    /// Where it stands.
    pub place: RulePlace,
    /// The rule that holds in its place.
    pub by: RulePlace,
}

/// Where callers find an operation.
#[derive(Debug, Default)]
pub struct Route {
    /// Method.
    pub method: String,
    /// Path template in the facade.
    pub path: String,
    /// Names of the path variables, in order.
    pub variables: Vec<String>,
    /// Those of them that take several segments.
    pub several: Vec<String>,
    /// The path at which callers who speak the backend's own protocol find it.
    pub native: Option<String>,
    /// Whether a trailing variable of several segments may take none.
    pub rest_may_be_empty: bool,
}

/// One call of an operation.
#[derive(Debug)]
pub struct Step {
    /// Name by which its answer is known; `answer` where it is the only one.
    pub name: Arc<str>,
    /// What is called.
    pub call: Arc<dyn Call>,
    /// Index of its backend in the facade.
    pub backend: usize,
    /// Where it goes in place of that; `None`: nowhere.
    pub routing: Option<Box<Routing>>,
    /// Indexes of the steps whose answers it waits for.
    pub needs: Vec<usize>,
    /// Statuses for failures that the backend tells, by their names.
    pub faults: HashMap<String, u16>,
    /// What else there is to it, where it is one of several.
    pub plan: Option<Box<StepPlan>>,
}

/// What there is to one of several calls.
#[derive(Debug)]
pub struct StepPlan {
    /// Where it stands.
    pub place: Arc<RulePlace>,
    /// Whether it is made.
    pub when: Option<Template>,
    /// For what it is made.
    pub each: Option<Each>,
    /// How its pages are followed.
    pub pages: Option<Box<Pages>>,
    /// How the messages of its answer are taken as a list.
    pub messages: Option<Gathering>,
    /// What is made of its answer.
    pub answer: Option<Template>,
    /// Statuses besides those of success that are answers too.
    pub statuses: Vec<u16>,
    /// What stands for its answer's body where there is none.
    pub otherwise: Option<Template>,
    /// Whether it changes something.
    pub writes: bool,
    /// Indexes of all steps that are done before it begins: whose answers it needs, what those wait for, and for one that
    /// changes something what changes something before it.
    pub behind: Vec<usize>,
    /// The call that takes it back.
    pub undo: Option<Step>,
}

/// How the messages of a stream are taken as a list.
#[derive(Clone, Copy, Debug)]
pub struct Gathering {
    /// So many of them.
    pub at_most: usize,
    /// For so long, where that is said.
    pub within: Option<Duration>,
}

impl Gathering {
    /// The same for people who ask what it does.
    pub fn told(&self) -> String {
        let most = self.at_most;
        match self.within {
            None => format!("of its messages at most {most} are a list"),
            Some(within) => {
                format!(
                    "of its messages those that come within {within:?} are a list, at most {most}"
                )
            }
        }
    }

    /// What is told where there may be more.
    pub fn told_most(&self) -> String {
        format!("its first {} messages are a list", self.at_most)
    }

    /// What is told where its time is over.
    pub fn told_within(&self, number: usize) -> String {
        let ms = self.within.unwrap_or_default().as_millis();
        format!("the {number} messages that came within {ms} ms are a list")
    }
}

/// A call that is made for each item of a list.
#[derive(Debug)]
pub struct Each {
    /// The list.
    pub list: Template,
    /// So many items at most.
    pub at_most: usize,
    /// So many at once.
    pub at_once: usize,
}

/// How a list that comes in pages is followed.
#[derive(Debug)]
pub struct Pages {
    /// What the page is called by at first.
    pub first: Template,
    /// The items of one.
    pub items: Template,
    /// What the next one is called by.
    pub next: Template,
    /// So many at most.
    pub at_most: usize,
}

/// A refusal in the facade's own words.
#[derive(Debug)]
pub struct Refusal {
    /// The number of the level that says it, from the widest reach to the narrowest.
    pub(crate) level: usize,
    /// When.
    pub when: Template,
    /// Indexes of the steps whose answers it looks at.
    pub needs: Vec<usize>,
    /// Status.
    pub status: u16,
    /// What kind of problem it is (RFC 9457 §3.1.1), where that is said.
    pub kind: Option<String>,
    /// What is wrong.
    pub title: String,
    /// What is wrong this time.
    pub detail: Option<Template>,
    /// More members.
    pub members: Vec<(String, Template)>,
    /// Where it stands.
    pub place: Arc<RulePlace>,
}

/// What is made of the answers.
#[derive(Debug, Default)]
pub struct Reply {
    /// The body to build; the only answer's own when not given.
    pub body: Option<Template>,
    /// Its status where there are several answers: the first of success that the contract has.
    pub status: StatusCode,
    /// Whether an expression of the operation's own, or of several calls, needs the caller's body.
    pub reads_body: bool,
    /// Whether a refusal or a change looks into the answer of the only call.
    pub looks_into: bool,
    /// Whether the answer of the only call is read whole, to be changed in place.
    pub is_changed: bool,
}

/// A call of one protocol, compiled. What carries it out knows the protocol, and takes it apart by its type.
pub trait Call: Any + Debug + Send + Sync {
    /// The kind of backend that it calls.
    fn kind(&self) -> &'static str;

    /// Whether callers send several messages, of which each may have the size that a body may.
    fn takes_messages(&self) -> bool {
        false
    }

    /// Whether callers get several messages.
    fn gives_messages(&self) -> bool {
        false
    }

    /// Whether an answer may be of several messages.
    fn may_give_messages(&self) -> bool {
        self.gives_messages()
    }

    /// What it does, for people who ask which rules act.
    fn rules(&self, backend: &CompiledBackend, reply: &Reply) -> CallRules;
}

/// What a call does, in words.
#[derive(Debug, Default)]
pub struct CallRules {
    /// How its request is made.
    pub prepare: Vec<String>,
    /// How the backend is called.
    pub call: String,
    /// What is made of its answer.
    pub reply: String,
}
