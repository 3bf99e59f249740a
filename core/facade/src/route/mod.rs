//! From host, method and path to an operation.

pub(crate) mod overlap;
mod path;
mod search;

use std::collections::HashMap;
use std::hash::BuildHasherDefault;

use porch_contract::{Fnv, Mixed, PathTemplate, Segment};
use smallvec::SmallVec;

pub use path::{Normalised, normalise, percent_decode, percent_encode_segment};

use crate::index::OperationIndex;
use path::spelled;
use search::Search;

type Literals = HashMap<Box<str>, u32, BuildHasherDefault<Fnv>>;

#[derive(Debug, Default)]
struct Node {
    literals: Literals,
    parameter: Option<u32>,
    rest: Option<u32>,
    /// Segments of text and variables, those with more text first. Few have any.
    mixed: Box<[(Mixed, u32)]>,
    /// What stands behind a colon at the end of the last segment, when the template ends here with a verb.
    verbs: Literals,
    methods: Vec<(Box<str>, OperationIndex)>,
}

/// All routes of a release.
///
/// Literal segments win over those with variables in them, those over parameters, parameters over multi-segment parameters, from left to right; a template with a
/// verb wins over the same without one, and one that goes on behind a multi-segment parameter over one that ends with it.
#[derive(Debug)]
pub struct Router {
    nodes: Vec<Node>,
    any_host: u32,
    hosts: HashMap<Box<str>, u32, BuildHasherDefault<Fnv>>,
}

/// Segments that variables took.
pub type Captured<'p> = SmallVec<[&'p str; 4]>;

/// An operation that was found.
#[derive(Debug, PartialEq, Eq)]
pub struct Matched<'p> {
    /// Index of the operation.
    pub operation: OperationIndex,
    /// The segments that the variables took, as they stand in the path; the last may hold several.
    pub captured: Captured<'p>,
}

/// Why nothing was found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Miss {
    /// Nothing is published there.
    Path,
    /// Something is, with these methods only.
    Method(Vec<Box<str>>),
}

/// Paths with more segments than this match nothing.
const MAX_SEGMENTS: usize = 64;
/// A search that has not found anything after so many steps gives up: several multi-segment parameters in one template
/// can be laid over a path in many ways.
const MAX_STEPS: u32 = 20_000;

impl Default for Router {
    fn default() -> Self {
        Self {
            nodes: vec![Node::default()],
            any_host: 0,
            hosts: HashMap::default(),
        }
    }
}

impl Router {
    /// Adds a route.
    ///
    /// # Errors
    /// The operation that has the same route already: names of variables do not tell routes apart.
    pub fn insert(
        &mut self,
        host: Option<&str>,
        base: &str,
        path: &PathTemplate,
        method: &str,
        operation: OperationIndex,
    ) -> Result<(), OperationIndex> {
        let mut at = match host {
            None => self.any_host,
            Some(host) => match self.hosts.get(host.to_ascii_lowercase().as_str()) {
                Some(at) => *at,
                None => {
                    let at = self.add();
                    self.hosts.insert(host.to_ascii_lowercase().into(), at);
                    at
                }
            },
        };
        let base: Vec<Segment> = base
            .split('/')
            .filter(|s| !s.is_empty())
            .map(|s| Segment::Literal(s.to_owned()))
            .collect();
        for segment in base.iter().chain(&path.segments) {
            at = self.below(at, segment);
        }
        if let Some(verb) = &path.verb {
            at = match self.nodes[at as usize].verbs.get(verb.as_str()) {
                Some(next) => *next,
                None => {
                    let next = self.add();
                    let verbs = &mut self.nodes[at as usize].verbs;
                    verbs.insert(verb.as_str().into(), next);
                    next
                }
            };
        }
        let methods = &mut self.nodes[at as usize].methods;
        if let Some((_, other)) = methods.iter().find(|(m, _)| **m == *method) {
            return Err(*other);
        }
        // Most have one method only.
        methods.reserve_exact(1);
        methods.push((method.into(), operation));
        Ok(())
    }

    /// Lets go of room for more routes.
    pub fn shrink(&mut self) {
        self.nodes.shrink_to_fit();
    }

    /// The node that a segment leads to, made when there is none.
    fn below(&mut self, at: u32, segment: &Segment) -> u32 {
        let normal =
            |text: &str| normalise(text).map_or_else(|_| text.into(), |n| n.path.into_owned());
        let text = match segment {
            Segment::Literal(text) => normal(text),
            Segment::Mixed(mixed) => return self.below_mixed(at, &mixed.with_texts(spelled)),
            _ => String::new(),
        };
        let node = &self.nodes[at as usize];
        let known = match segment {
            Segment::Literal(_) => node.literals.get(text.as_str()).copied(),
            Segment::Parameter(_) => node.parameter,
            Segment::Rest(_) => node.rest,
            Segment::Mixed(_) => None,
        };
        if let Some(known) = known {
            return known;
        }
        let next = self.add();
        let node = &mut self.nodes[at as usize];
        match segment {
            Segment::Literal(_) => drop(node.literals.insert(text.into(), next)),
            Segment::Parameter(_) => node.parameter = Some(next),
            Segment::Rest(_) => node.rest = Some(next),
            Segment::Mixed(_) => {}
        }
        next
    }

    fn below_mixed(&mut self, at: u32, mixed: &Mixed) -> u32 {
        let mut known = self.nodes[at as usize].mixed.iter();
        let known = known.find(|(m, _)| m.is_like(mixed));
        if let Some((_, next)) = known {
            return *next;
        }
        let next = self.add();
        let known = &mut self.nodes[at as usize].mixed;
        let mut all = std::mem::take(known).into_vec();
        let place = all.partition_point(|(m, _)| m.fixed() >= mixed.fixed());
        all.insert(place, (mixed.clone(), next));
        *known = all.into();
        next
    }

    /// Whether any route is for one host only.
    pub fn has_hosts(&self) -> bool {
        !self.hosts.is_empty()
    }

    fn add(&mut self) -> u32 {
        self.nodes.push(Node::default());
        self.nodes.len() as u32 - 1
    }

    /// Finds the operation for a normalised path. `HEAD` is answered by `GET` where it has no operation of its own
    /// (RFC 9110 §9.3.2).
    ///
    /// # Errors
    /// See [`Miss`].
    pub fn find<'p>(
        &self,
        host: Option<&str>,
        method: &str,
        path: &'p str,
    ) -> Result<Matched<'p>, Miss> {
        let mut offsets = SmallVec::<[usize; 16]>::new();
        let body = usize::from(path.starts_with('/'));
        if path.len() > body {
            offsets.push(body);
            let slashes = path.bytes().enumerate().skip(body);
            for (at, _) in slashes.filter(|(_, b)| *b == b'/') {
                if offsets.len() == MAX_SEGMENTS {
                    return Err(Miss::Path);
                }
                offsets.push(at + 1);
            }
        }
        let mut search = Search {
            router: self,
            path,
            offsets: &offsets,
            method,
            allowed: Vec::new(),
            captured: Captured::new(),
            steps: MAX_STEPS,
        };
        let own_host = host.and_then(|h| self.hosts.get(h)).copied();
        for start in own_host.into_iter().chain([self.any_host]) {
            if let Some(operation) = search.walk(start, 0) {
                return Ok(Matched {
                    operation,
                    captured: search.captured,
                });
            }
        }
        let mut allowed = search.allowed;
        if allowed.is_empty() {
            return Err(Miss::Path);
        }
        if allowed.iter().any(|m| **m == *"GET") && !allowed.iter().any(|m| **m == *"HEAD") {
            allowed.push("HEAD".into());
        }
        allowed.sort();
        allowed.dedup();
        Err(Miss::Method(allowed))
    }
}

#[cfg(test)]
mod tests;
