//! Shared rules: which of them reach a facade, and what they say there.

mod alone;
mod fill;

use std::collections::{BTreeSet, HashMap, HashSet};

use porch_contract::{Finding, Node, Step, suggest};
use serde_json::{Map, Value};

use self::alone::of_parameter;
pub(crate) use self::alone::on_their_own;
use self::fill::{Filler, only_name};
use crate::documents::{FacadeDoc, OperationDoc, ReachDoc, RulesDoc, RulesHead, UseDoc};
use crate::read::{Document, shape_error};
use crate::{Documents, Files};

/// The values of parameters make all lists of one facade longer by at most so many bytes.
const ROOM: usize = 4 << 20;
/// A facade uses at most so many lists, each of them as often as it has other values.
const MOST: usize = 10_000;

/// One list of shared rules, as it is used somewhere.
pub(crate) struct Ruling<'a> {
    pub(crate) file: &'a str,
    pub(crate) text: &'a str,
    pub(crate) node: &'a Node,
    pub(crate) doc: RulesDoc,
    /// Where values were given for it.
    pub(crate) given_at: Option<(String, usize)>,
}

/// The shared rules that reach a facade.
#[derive(Default)]
pub(crate) struct Ruled<'a> {
    lists: Vec<Ruling<'a>>,
    /// Those that act everywhere.
    everywhere: Vec<usize>,
    /// Those that act on whatever calls a backend.
    backends: HashMap<&'a str, Vec<usize>>,
    /// Those that the facade names.
    facade: Vec<usize>,
    /// Those that its operations name.
    operations: HashMap<&'a str, Vec<usize>>,
}

/// All operations of a facade together have at most so many of them.
const MOST_RULES: usize = 500_000;

/// The names of the shared rules that reach a facade, in whatever way.
pub(crate) fn reaching<'d>(
    documents: &'d Documents,
    facade: &'d FacadeDoc,
) -> impl Iterator<Item = &'d Document<RulesHead>> {
    let operations = facade.operations.values();
    let used = (facade.rules.iter()).chain(operations.flat_map(|o| &o.rules));
    let named: BTreeSet<&str> = used.map(UseDoc::name).collect();
    let mut called: Option<BTreeSet<&str>> = None;
    documents.rules.values().filter(move |rules| {
        let reach = match &rules.doc.reach {
            Some(ReachDoc::Everywhere) => true,
            Some(ReachDoc::Backends(names)) => {
                let called = called.get_or_insert_with(|| facade.backends().collect());
                names.iter().any(|n| called.contains(n.as_str()))
            }
            None => false,
        };
        reach || named.contains(rules.doc.name.as_str())
    })
}

impl<'a> Ruled<'a> {
    /// The shared rules that reach a facade, and what is wrong with them.
    pub(crate) fn of(
        files: &'a Files,
        documents: &'a Documents,
        facade: &'a Document<FacadeDoc>,
    ) -> (Self, Vec<Finding>) {
        let mut reader = Reader {
            files,
            documents,
            facade,
            room: ROOM,
            known: HashMap::new(),
            made: Self::default(),
            findings: Vec::new(),
        };
        for rules in reaching(documents, &facade.doc) {
            let Some(reach) = &rules.doc.reach else {
                continue;
            };
            let Some(list) = reader.list(rules, &Map::new(), None) else {
                continue;
            };
            match reach {
                ReachDoc::Everywhere => reader.made.everywhere.push(list),
                ReachDoc::Backends(names) => {
                    for name in names {
                        reader.made.backends.entry(name).or_default().push(list);
                    }
                }
            }
        }
        reader.made.facade = reader.uses(&[], &facade.doc.rules);
        for (id, doc) in facade
            .doc
            .operations
            .iter()
            .filter(|(_, d)| !d.rules.is_empty())
        {
            let lists = reader.uses(&["operations", id], &doc.rules);
            reader.made.operations.insert(id, lists);
        }
        reader.is_not_too_much();
        (reader.made, reader.findings)
    }

    /// The lists that reach an operation, the widest first: each with the words for its reach, and with what it counts by.
    pub(crate) fn over(
        &self,
        facade: &FacadeDoc,
        id: &str,
        doc: &OperationDoc,
    ) -> Vec<Over<'_, 'a>> {
        let mut all: Vec<Over<'_, 'a>> = Vec::new();
        let over = |i: &usize, reach: String, counted: String| Over {
            list: &self.lists[*i],
            reach,
            counted,
            is_own: false,
        };
        let everywhere = self.everywhere.iter();
        all.extend(everywhere.map(|i| over(i, "everywhere".into(), String::new())));
        if !self.backends.is_empty() {
            let mut seen: HashSet<usize> = HashSet::new();
            for name in may_call(facade, doc) {
                let lists = self.backends.get(name).into_iter().flatten();
                // One that is for several backends acts once.
                for i in lists.filter(|i| seen.insert(**i)) {
                    let words = format!("backend {name}");
                    all.push(over(i, words.clone(), words));
                }
            }
        }
        let name = &facade.name;
        let own = self.facade.iter();
        all.extend(own.map(|i| over(i, format!("facade {name}"), name.clone())));
        all.extend(self.operations.get(id).into_iter().flatten().map(|i| Over {
            is_own: true,
            ..over(i, format!("operation {id}"), format!("{name}/{id}"))
        }));
        all
    }
}

impl Ruled<'_> {
    /// Whether any of them says what is kept of replies.
    pub(crate) fn keeps_any(&self) -> bool {
        self.lists.iter().any(|l| l.doc.cache.is_some())
    }
}

/// A list that reaches an operation.
pub(crate) struct Over<'r, 'a> {
    pub(crate) list: &'r Ruling<'a>,
    /// `everywhere`, `backend tides`, `facade sailings`, `operation quoteFare`.
    pub(crate) reach: String,
    /// What its limits are counted by: all that it reaches.
    pub(crate) counted: String,
    /// Whether the operation itself names it.
    pub(crate) is_own: bool,
}

/// The backends that an operation calls or may be led to, each once, in the order of the document.
fn may_call<'d>(facade: &'d FacadeDoc, doc: &'d OperationDoc) -> impl Iterator<Item = &'d str> {
    let mut all: indexmap::IndexSet<&str> = doc.backends().collect();
    for called in doc.calls_of() {
        if let Some(routing) = facade.routing.get(called) {
            all.extend(routing.backends());
        }
    }
    all.into_iter()
}

struct Reader<'a> {
    files: &'a Files,
    documents: &'a Documents,
    facade: &'a Document<FacadeDoc>,
    room: usize,
    /// Lists by their name and the values that were given.
    known: HashMap<(&'a str, String), Option<usize>>,
    made: Ruled<'a>,
    findings: Vec<Finding>,
}

impl<'a> Reader<'a> {
    /// All that is shared is compiled for each operation that it reaches, and there is an end to that.
    fn is_not_too_much(&mut self) {
        let doc = &self.facade.doc;
        let weight = |i: &usize| self.made.lists[*i].doc.weight();
        let own: usize = self.made.operations.values().flatten().map(weight).sum();
        let of_backends = self.made.backends.values().flatten();
        let wide = self
            .made
            .everywhere
            .iter()
            .chain(&self.made.facade)
            .chain(of_backends);
        let wide: usize = wide.map(weight).sum();
        let all = wide
            .saturating_mul(doc.operations.len())
            .saturating_add(own);
        if all > MOST_RULES {
            let message = format!(
                "{all} rules of other documents act on this facade's operations, and {MOST_RULES} are the most"
            );
            self.wrong(&[Step::Key("name".into())], message, "");
            self.made = Ruled::default();
        }
    }

    /// The lists that are named at some place.
    fn uses(&mut self, place: &[&str], uses: &'a [UseDoc]) -> Vec<usize> {
        let mut all = Vec::new();
        for (i, used) in uses.iter().enumerate() {
            let keys = place.iter().chain(&["rules"]);
            let steps = keys.map(|k| Step::Key((*k).into()));
            let steps: Vec<Step> = steps.chain([Step::Index(i)]).collect();
            let before = &uses[..i];
            if before.iter().any(|b| b.name() == used.name()) {
                let message = format!("“{}” is used twice here", used.name());
                self.wrong(&steps, message, "");
                continue;
            }
            all.extend(self.used(&steps, used));
        }
        all
    }

    fn wrong(&mut self, steps: &[Step], message: String, help: &str) {
        let at = self.facade.node.locate(steps, false);
        let told = Finding::error(&self.facade.file, at, message);
        self.findings.push(told.help(help));
    }

    fn used(&mut self, steps: &[Step], used: &'a UseDoc) -> Option<usize> {
        let name = used.name();
        let Some(rules) = self.documents.rules.get(name) else {
            if self.documents.may_hold("rules/1", Some(name)) {
                return None; // What is wrong with it is said where it stands.
            }
            let known = self.documents.rules.keys().map(String::as_str);
            let help = match suggest(name, known.clone()) {
                Some(near) => format!("did you mean “{near}”?"),
                None => known_rules(known),
            };
            self.wrong(steps, format!("there are no shared rules “{name}”"), &help);
            return None;
        };
        let nothing = Map::new();
        let with = used.with().unwrap_or(&nothing);
        if rules.doc.reach == Some(ReachDoc::Everywhere) {
            let message = format!("“{name}” acts everywhere, and need not be used");
            self.wrong(steps, message, "leave it out here, or its `reach:` there");
            return None;
        }
        self.values_fit(steps, rules, with).then_some(())?;
        self.list(rules, with, Some(steps))
    }

    /// Whether the values that are given are those that are asked for.
    fn values_fit(
        &mut self,
        steps: &[Step],
        rules: &Document<RulesHead>,
        with: &Map<String, Value>,
    ) -> bool {
        let before = self.findings.len();
        let at = |name: &str| {
            let more = ["with", name].map(|k| Step::Key(k.into()));
            [steps, &more].concat()
        };
        let known = &rules.doc.parameters;
        for (name, value) in with {
            match known.get(name) {
                Some(parameter) if parameter.kind.takes(value) => {}
                Some(parameter) => {
                    let message = format!("“{name}” is {}", parameter.kind.label());
                    let help = format!("so says {}", rules.file);
                    self.wrong(&at(name), message, &help);
                }
                None => {
                    let names = known.keys().map(String::as_str);
                    let near = suggest(name, names);
                    let help = near.map_or_else(String::new, |n| format!("did you mean “{n}”?"));
                    let message = format!("“{}” has no parameter “{name}”", rules.doc.name);
                    self.wrong(&at(name), message, &help);
                }
            }
        }
        let missing = |(name, p): &(&String, &crate::documents::ParameterDoc)| {
            p.default.is_none() && !with.contains_key(*name)
        };
        for (name, _) in known.iter().filter(missing) {
            let message = format!("“{}” needs a value for “{name}”", rules.doc.name);
            let help = format!(
                "write {{ name: {}, with: {{ {name}: … }} }}",
                rules.doc.name
            );
            self.wrong(steps, message, &help);
        }
        self.findings.len() == before
    }

    /// A list with some values, made once.
    fn list(
        &mut self,
        rules: &'a Document<RulesHead>,
        with: &Map<String, Value>,
        used: Option<&[Step]>,
    ) -> Option<usize> {
        let key = (
            rules.doc.name.as_str(),
            Value::Object(with.clone()).to_string(),
        );
        if let Some(known) = self.known.get(&key) {
            return *known;
        }
        let parameters = rules.doc.parameters.iter();
        let wrong = parameters.flat_map(|(name, p)| of_parameter(rules, name, p));
        let wrong: Vec<Finding> = wrong.collect();
        let made = match wrong.is_empty() {
            true => self.made_with(rules, with, used),
            false => None,
        };
        self.findings.extend(wrong);
        self.known.insert(key, made);
        made
    }

    fn made_with(
        &mut self,
        rules: &'a Document<RulesHead>,
        with: &Map<String, Value>,
        used: Option<&[Step]>,
    ) -> Option<usize> {
        if self.made.lists.len() >= MOST {
            let message = format!("a facade uses shared rules with at most {MOST} sets of values");
            self.wrong(used.unwrap_or_default(), message, "");
            return None;
        }
        let doc = match filled(rules, with, &mut self.room) {
            Ok(doc) => doc,
            Err(wrong) => {
                self.tell(wrong, used, with);
                return None;
            }
        };
        let given_at = used.filter(|_| !with.is_empty()).map(|steps| {
            let at = self.facade.node.locate(steps, false);
            (self.facade.file.clone(), at.line)
        });
        self.made.lists.push(Ruling {
            file: &rules.file,
            text: self.files.get(&rules.file).map_or("", String::as_str),
            node: &rules.node,
            doc,
            given_at,
        });
        Some(self.made.lists.len() - 1)
    }

    /// What is wrong of a value that was given is told where it was given.
    fn tell(&mut self, wrong: Vec<Misfit>, used: Option<&[Step]>, with: &Map<String, Value>) {
        for misfit in wrong {
            let given = misfit.parameter.filter(|p| with.contains_key(p));
            match (used, given) {
                (Some(steps), Some(name)) => {
                    let more = ["with", &name].map(|k| Step::Key(k.into()));
                    let help = format!("it is used at {}", misfit.finding.place());
                    let message = misfit.finding.message;
                    self.wrong(&[steps, &more].concat(), message, &help);
                }
                _ => self.findings.push(misfit.finding),
            }
        }
    }
}

fn known_rules<'n>(known: impl Iterator<Item = &'n str>) -> String {
    let some: Vec<&str> = known.take(12).collect();
    match some.as_slice() {
        [] => "a document of them begins with `elm-porch: rules/1`".to_owned(),
        some => format!("known are {}", some.join(", ")),
    }
}

/// Something wrong with rules that were filled in, and the parameter that it is a value of.
struct Misfit {
    finding: Finding,
    parameter: Option<String>,
}

/// Keys in which no parameter is named.
pub(crate) const OF_ITSELF: [&str; 6] = [
    "elm-porch",
    "name",
    "title",
    "reach",
    "parameters",
    "defaults",
];

/// A list with values for its parameters.
fn filled(
    rules: &Document<RulesHead>,
    with: &Map<String, Value>,
    room: &mut usize,
) -> Result<RulesDoc, Vec<Misfit>> {
    let mut values: Map<String, Value> = Map::new();
    for (name, parameter) in &rules.doc.parameters {
        let value = with.get(name).or(parameter.default.as_ref());
        values.extend(value.map(|v| (name.clone(), v.clone())));
    }
    let raw = rules.node.to_value();
    let mut filler = Filler::new(&values, *room);
    let mut all = Map::new();
    for (key, value) in raw.as_object().into_iter().flatten() {
        let made = match OF_ITSELF.contains(&key.as_str()) {
            true => value.clone(),
            false => filler.top(key, value),
        };
        all.insert(key.clone(), made);
    }
    *room = filler.room;
    if !filler.wrong.is_empty() {
        let wrong = filler
            .wrong
            .into_iter()
            .map(|(steps, message, help)| Misfit {
                finding: Finding::error(&rules.file, rules.node.locate(&steps, false), message)
                    .help(help),
                parameter: None,
            });
        return Err(wrong.collect());
    }
    serde_path_to_error::deserialize(Value::Object(all)).map_err(|e| {
        let mut path = e.path().iter();
        let place = path.try_fold(&raw, |at, step| match step {
            serde_path_to_error::Segment::Map { key } => at.get(key),
            serde_path_to_error::Segment::Seq { index } => at.get(index),
            _ => Some(at),
        });
        let text = place.and_then(Value::as_str).and_then(only_name);
        vec![Misfit {
            parameter: text.map(str::to_owned),
            finding: shape_error(&rules.file, &rules.node, &e),
        }]
    })
}
