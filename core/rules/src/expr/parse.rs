//! From text to a tree (CEL language definition, "Syntax").

use porch_contract::suggest;

use super::FUNCTIONS;

/// What is wrong with an expression.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct ParseError {
    /// Characters before the place.
    pub offset: usize,
    /// What is wrong.
    pub message: String,
}

/// One step of a reference.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Step {
    /// The member's name.
    pub name: String,
    /// Whether it was asked for with `?`, or through `has()`.
    pub optional: bool,
    /// Characters of the expression before it.
    pub offset: usize,
}

/// A value that an expression names.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Reference {
    /// The root and the members below it.
    pub steps: Vec<Step>,
    /// Whether the path is whole: false when an index that is only known at run time follows.
    pub fixed: bool,
}

#[derive(Debug)]
pub(super) enum Node {
    Literal(Literal),
    Root(usize),
    Local(usize),
    Member {
        of: Box<Node>,
        name: String,
        optional: bool,
    },
    Index {
        of: Box<Node>,
        at: Box<Node>,
        optional: bool,
    },
    Has {
        of: Box<Node>,
        name: String,
    },
    Not(Box<Node>),
    Negate(Box<Node>),
    And(Box<Node>, Box<Node>),
    Or(Box<Node>, Box<Node>),
    If(Box<Node>, Box<Node>, Box<Node>),
    Binary(Op, Box<Node>, Box<Node>),
    Call(&'static str, Vec<Node>),
    Matches(Box<Node>, regex::Regex),
    Macro {
        kind: Macro,
        over: Box<Node>,
        local: usize,
        body: Box<Node>,
    },
    List(Vec<Node>),
    Map(Vec<(Node, Node)>),
}

#[derive(Debug)]
pub(super) enum Literal {
    Null,
    Bool(bool),
    Int(i64),
    Double(f64),
    Str(String),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Op {
    Add,
    Sub,
    Mul,
    Div,
    Rem,
    Eq,
    Ne,
    Lt,
    Le,
    Gt,
    Ge,
    In,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Macro {
    All,
    Exists,
    ExistsOne,
    Map,
    Filter,
}

const MAX_LENGTH: usize = 4000;
const MAX_DEPTH: usize = 40;
const MAX_NODES: usize = 400;

pub(super) fn parse(source: &str, roots: &[&str]) -> Result<(Node, Vec<Reference>), ParseError> {
    if source.len() > MAX_LENGTH {
        return Err(ParseError {
            offset: 0,
            message: format!("longer than {MAX_LENGTH} bytes"),
        });
    }
    let chars: Vec<char> = source.chars().collect();
    let mut parser = Parser {
        chars: &chars,
        pos: 0,
        roots,
        locals: Vec::new(),
        references: Vec::new(),
        depth: 0,
        nodes: 0,
    };
    let node = parser.expression()?;
    parser.space();
    if parser.pos < chars.len() {
        return parser.fail(format!("“{}” is not expected here", parser.word()));
    }
    Ok((node, parser.references))
}

struct Parser<'a> {
    chars: &'a [char],
    pos: usize,
    roots: &'a [&'a str],
    locals: Vec<String>,
    references: Vec<Reference>,
    depth: usize,
    nodes: usize,
}

type Parsed = Result<Node, ParseError>;

impl Parser<'_> {
    fn fail<T>(&self, message: impl Into<String>) -> Result<T, ParseError> {
        Err(ParseError {
            offset: self.pos,
            message: message.into(),
        })
    }

    /// What stands at the place, for a message.
    fn word(&self) -> String {
        let rest = &self.chars[self.pos.min(self.chars.len())..];
        let name: String = rest
            .iter()
            .take_while(|c| c.is_alphanumeric() || **c == '_')
            .take(30)
            .collect();
        if name.is_empty() {
            rest.first()
                .map_or_else(|| "the end".into(), char::to_string)
        } else {
            name
        }
    }

    fn space(&mut self) {
        while self.chars.get(self.pos).is_some_and(|c| c.is_whitespace()) {
            self.pos += 1;
        }
    }

    fn eat(&mut self, text: &str) -> bool {
        self.space();
        let len = text.chars().count();
        let here = self
            .chars
            .get(self.pos..self.pos + len)
            .is_some_and(|s| s.iter().copied().eq(text.chars()));
        if here {
            self.pos += len;
        }
        here
    }

    fn expect(&mut self, text: &str) -> Result<(), ParseError> {
        if self.eat(text) {
            Ok(())
        } else {
            self.fail(format!("“{text}” is expected, not “{}”", self.word()))
        }
    }

    fn count(&mut self) -> Result<(), ParseError> {
        self.nodes += 1;
        if self.nodes > MAX_NODES {
            self.fail(format!("more than {MAX_NODES} parts"))
        } else {
            Ok(())
        }
    }

    fn expression(&mut self) -> Parsed {
        self.depth += 1;
        if self.depth > MAX_DEPTH {
            return self.fail(format!("nested more than {MAX_DEPTH} levels deep"));
        }
        let condition = self.or()?;
        let node = if self.eat("?") {
            let then = self.expression()?;
            self.expect(":")?;
            let other = self.expression()?;
            Node::If(Box::new(condition), Box::new(then), Box::new(other))
        } else {
            condition
        };
        self.depth -= 1;
        Ok(node)
    }

    fn or(&mut self) -> Parsed {
        let mut left = self.and()?;
        while self.eat("||") {
            self.count()?;
            left = Node::Or(Box::new(left), Box::new(self.and()?));
        }
        Ok(left)
    }

    fn and(&mut self) -> Parsed {
        let mut left = self.relation()?;
        while self.eat("&&") {
            self.count()?;
            left = Node::And(Box::new(left), Box::new(self.relation()?));
        }
        Ok(left)
    }

    fn relation(&mut self) -> Parsed {
        let mut left = self.sum()?;
        loop {
            let op = [
                ("==", Op::Eq),
                ("!=", Op::Ne),
                ("<=", Op::Le),
                (">=", Op::Ge),
                ("<", Op::Lt),
                (">", Op::Gt),
            ]
            .into_iter()
            .find(|(t, _)| self.eat(t));
            let op = match op {
                Some((_, op)) => op,
                None if self.keyword("in") => Op::In,
                None if self.eat("=") => {
                    self.pos -= 1;
                    return self.fail("“=” compares nothing: write “==”");
                }
                None => return Ok(left),
            };
            self.count()?;
            left = Node::Binary(op, Box::new(left), Box::new(self.sum()?));
        }
    }

    fn keyword(&mut self, word: &str) -> bool {
        self.space();
        let end = self.pos + word.len();
        let bounded = self
            .chars
            .get(end)
            .is_none_or(|c| !c.is_alphanumeric() && *c != '_');
        bounded && self.eat(word)
    }

    fn sum(&mut self) -> Parsed {
        let mut left = self.product()?;
        loop {
            let op = if self.eat("+") {
                Op::Add
            } else if self.eat("-") {
                Op::Sub
            } else {
                return Ok(left);
            };
            self.count()?;
            left = Node::Binary(op, Box::new(left), Box::new(self.product()?));
        }
    }

    fn product(&mut self) -> Parsed {
        let mut left = self.unary()?;
        loop {
            let op = if self.eat("*") {
                Op::Mul
            } else if self.eat("/") {
                Op::Div
            } else if self.eat("%") {
                Op::Rem
            } else {
                return Ok(left);
            };
            self.count()?;
            left = Node::Binary(op, Box::new(left), Box::new(self.unary()?));
        }
    }

    fn unary(&mut self) -> Parsed {
        self.count()?;
        self.space();
        if self.chars.get(self.pos) == Some(&'!') && self.chars.get(self.pos + 1) != Some(&'=') {
            self.pos += 1;
            return self.nested(|p| Ok(Node::Not(Box::new(p.unary()?))));
        }
        if self.eat("-") {
            self.space();
            if self.chars.get(self.pos).is_some_and(char::is_ascii_digit) {
                let literal = self.number(true)?;
                return self.postfix(Node::Literal(literal), None);
            }
            return self.nested(|p| Ok(Node::Negate(Box::new(p.unary()?))));
        }
        self.postfix_of_primary()
    }

    fn nested(&mut self, f: impl FnOnce(&mut Self) -> Parsed) -> Parsed {
        self.depth += 1;
        if self.depth > MAX_DEPTH {
            return self.fail(format!("nested more than {MAX_DEPTH} levels deep"));
        }
        let node = f(self)?;
        self.depth -= 1;
        Ok(node)
    }

    fn postfix_of_primary(&mut self) -> Parsed {
        self.space();
        let at = self.pos;
        let Some(c) = self.chars.get(self.pos).copied() else {
            return self.fail("a value is expected, not the end");
        };
        match c {
            '(' => {
                self.pos += 1;
                let node = self.expression()?;
                self.expect(")")?;
                self.postfix(node, None)
            }
            '[' => {
                self.pos += 1;
                let items = self.list("]")?;
                self.postfix(Node::List(items), None)
            }
            '{' => {
                self.pos += 1;
                let node = self.map()?;
                self.postfix(node, None)
            }
            '"' | '\'' => {
                let text = self.string(false)?;
                self.postfix(Node::Literal(Literal::Str(text)), None)
            }
            'r' if matches!(self.chars.get(self.pos + 1), Some('"' | '\'')) => {
                self.pos += 1;
                let text = self.string(true)?;
                self.postfix(Node::Literal(Literal::Str(text)), None)
            }
            _ if c.is_ascii_digit() => {
                let literal = self.number(false)?;
                self.postfix(Node::Literal(literal), None)
            }
            _ if c.is_ascii_alphabetic() || c == '_' => self.name(at),
            _ => self.fail(format!("a value is expected, not “{c}”")),
        }
    }

    fn identifier(&mut self) -> Result<String, ParseError> {
        self.space();
        let from = self.pos;
        while self
            .chars
            .get(self.pos)
            .is_some_and(|c| c.is_ascii_alphanumeric() || *c == '_')
        {
            self.pos += 1;
        }
        if from == self.pos || self.chars[from].is_ascii_digit() {
            self.pos = from;
            return self.fail(format!("a name is expected, not “{}”", self.word()));
        }
        Ok(self.chars[from..self.pos].iter().collect())
    }

    fn name(&mut self, at: usize) -> Parsed {
        let name = self.identifier()?;
        match name.as_str() {
            "true" | "false" => {
                return self.postfix(Node::Literal(Literal::Bool(name == "true")), None);
            }
            "null" => return self.postfix(Node::Literal(Literal::Null), None),
            _ => {}
        }
        if self.eat("(") {
            if name == "has" {
                return self.has(at);
            }
            let arguments = self.list(")")?;
            let node = self.call(at, &name, arguments)?;
            return self.postfix(node, None);
        }
        if let Some(local) = self.locals.iter().rposition(|l| *l == name) {
            return self.postfix(Node::Local(local), None);
        }
        let Some(root) = self.roots.iter().position(|r| *r == name) else {
            let near = suggest(&name, self.roots.iter().copied()).map_or_else(
                || format!("; known are {}", self.roots.join(", ")),
                |n| format!("; did you mean “{n}”?"),
            );
            return Err(ParseError {
                offset: at,
                message: format!("“{name}” is not known here{near}"),
            });
        };
        let reference = Reference {
            steps: vec![Step {
                name,
                optional: false,
                offset: at,
            }],
            fixed: true,
        };
        self.postfix(Node::Root(root), Some(reference))
    }

    fn has(&mut self, at: usize) -> Parsed {
        let before = self.references.len();
        let inner = self.expression()?;
        self.expect(")")?;
        match inner {
            Node::Member { of, name, .. } => {
                for reference in &mut self.references[before..] {
                    if let Some(last) = reference.steps.last_mut() {
                        last.optional = true;
                    }
                }
                self.postfix(Node::Has { of, name }, None)
            }
            _ => Err(ParseError {
                offset: at,
                message: "has() asks for a member: has(a.b)".into(),
            }),
        }
    }

    fn call(&self, at: usize, name: &str, arguments: Vec<Node>) -> Parsed {
        let Some(known) = FUNCTIONS.iter().find(|f| **f == name) else {
            let near = suggest(name, FUNCTIONS)
                .map_or_else(String::new, |n| format!("; did you mean “{n}”?"));
            return Err(ParseError {
                offset: at,
                message: format!("there is no function “{name}”{near}"),
            });
        };
        let wanted = match *known {
            "replace" => 3,
            "startsWith" | "endsWith" | "contains" | "matches" | "orValue" => 2,
            _ => 1,
        };
        if arguments.len() != wanted {
            return Err(ParseError {
                offset: at,
                message: format!(
                    "{name} takes {wanted} values (with the one before the point), not {}",
                    arguments.len()
                ),
            });
        }
        if *known == "matches"
            && let [_, Node::Literal(Literal::Str(pattern))] = arguments.as_slice()
        {
            let regex = regex::RegexBuilder::new(pattern)
                .size_limit(1 << 18)
                .build();
            let regex = regex.map_err(|_| ParseError {
                offset: at,
                message: format!("“{pattern}” is no regular expression (RE2 syntax)"),
            })?;
            let Some(of) = arguments.into_iter().next() else {
                return self.fail("matches needs a text");
            };
            return Ok(Node::Matches(Box::new(of), regex));
        }
        if *known == "matches" {
            return Err(ParseError {
                offset: at,
                message:
                    "the pattern of matches must be written out, so that it is checked beforehand"
                        .into(),
            });
        }
        Ok(Node::Call(known, arguments))
    }

    /// Members, indexes and method calls behind a value; `reference` follows along while the path is fixed.
    fn postfix(&mut self, mut node: Node, mut reference: Option<Reference>) -> Parsed {
        loop {
            self.space();
            let at = self.pos;
            if self.eat(".") {
                self.count()?;
                let optional = self.eat("?");
                let name_at = self.pos;
                let name = if self.eat("`") {
                    self.quoted_name()?
                } else {
                    self.identifier()?
                };
                if !optional && self.eat("(") {
                    node = self.method(name_at, node, &name, &mut reference)?;
                } else {
                    if let Some(r) = &mut reference {
                        r.steps.push(Step {
                            name: name.clone(),
                            optional,
                            offset: name_at,
                        });
                    }
                    node = Node::Member {
                        of: Box::new(node),
                        name,
                        optional,
                    };
                }
            } else if self.eat("[") {
                self.count()?;
                let optional = self.eat("?");
                let index = self.expression()?;
                self.expect("]")?;
                match (&index, &mut reference) {
                    (Node::Literal(Literal::Str(name)), Some(r)) => {
                        r.steps.push(Step {
                            name: name.clone(),
                            optional,
                            offset: at,
                        });
                        node = Node::Member {
                            of: Box::new(node),
                            name: name.clone(),
                            optional,
                        };
                        continue;
                    }
                    (_, Some(r)) => r.fixed = false,
                    _ => {}
                }
                self.references.extend(reference.take());
                node = Node::Index {
                    of: Box::new(node),
                    at: Box::new(index),
                    optional,
                };
            } else {
                self.references.extend(reference);
                return Ok(node);
            }
        }
    }

    /// A name between back quotes, for members with characters that names do not have (CEL syntax extension).
    fn quoted_name(&mut self) -> Result<String, ParseError> {
        let from = self.pos;
        while self.chars.get(self.pos).is_some_and(|c| *c != '`') {
            self.pos += 1;
        }
        let name = self.chars[from..self.pos].iter().collect();
        self.expect("`")?;
        Ok(name)
    }

    fn method(
        &mut self,
        at: usize,
        of: Node,
        name: &str,
        reference: &mut Option<Reference>,
    ) -> Parsed {
        self.references.extend(reference.take());
        let kind = match name {
            "all" => Macro::All,
            "exists" => Macro::Exists,
            "exists_one" => Macro::ExistsOne,
            "map" => Macro::Map,
            "filter" => Macro::Filter,
            _ => {
                let mut arguments = vec![of];
                arguments.extend(self.list(")")?);
                return self.call(at, name, arguments);
            }
        };
        let local = self.identifier()?;
        self.expect(",")?;
        self.locals.push(local);
        let index = self.locals.len() - 1;
        let body = self.expression()?;
        self.locals.pop();
        self.expect(")")?;
        Ok(Node::Macro {
            kind,
            over: Box::new(of),
            local: index,
            body: Box::new(body),
        })
    }

    fn list(&mut self, end: &str) -> Result<Vec<Node>, ParseError> {
        let mut items = Vec::new();
        loop {
            if self.eat(end) {
                return Ok(items);
            }
            if !items.is_empty() {
                self.expect(",")?;
                if self.eat(end) {
                    return Ok(items);
                }
            }
            items.push(self.expression()?);
        }
    }

    fn map(&mut self) -> Parsed {
        let mut entries = Vec::new();
        loop {
            if self.eat("}") {
                return Ok(Node::Map(entries));
            }
            if !entries.is_empty() {
                self.expect(",")?;
            }
            let key = self.expression()?;
            self.expect(":")?;
            entries.push((key, self.expression()?));
        }
    }

    fn number(&mut self, negative: bool) -> Result<Literal, ParseError> {
        let from = self.pos;
        let mut is_double = false;
        while let Some(c) = self.chars.get(self.pos) {
            match c {
                '0'..='9' => {}
                '.' if self
                    .chars
                    .get(self.pos + 1)
                    .is_some_and(char::is_ascii_digit) =>
                {
                    is_double = true
                }
                'e' | 'E' => is_double = true,
                '+' | '-' if matches!(self.chars[self.pos - 1], 'e' | 'E') => {}
                _ => break,
            }
            self.pos += 1;
        }
        let digits: String = self.chars[from..self.pos].iter().collect();
        let text = if negative {
            format!("-{digits}")
        } else {
            digits
        };
        let literal = if is_double {
            text.parse()
                .ok()
                .filter(|d: &f64| d.is_finite())
                .map(Literal::Double)
        } else {
            text.parse().ok().map(Literal::Int)
        };
        literal.ok_or_else(|| ParseError {
            offset: from,
            message: format!("“{text}” is no number of 64 bits"),
        })
    }

    fn string(&mut self, raw: bool) -> Result<String, ParseError> {
        let from = self.pos;
        let quote = self.chars[self.pos];
        self.pos += 1;
        let mut text = String::new();
        loop {
            let Some(c) = self.chars.get(self.pos).copied() else {
                return Err(ParseError {
                    offset: from,
                    message: "a text without an end".into(),
                });
            };
            self.pos += 1;
            match c {
                _ if c == quote => return Ok(text),
                '\\' if !raw => {
                    let escaped = self.chars.get(self.pos).copied();
                    self.pos += 1;
                    text.push(match escaped {
                        Some('n') => '\n',
                        Some('t') => '\t',
                        Some('r') => '\r',
                        Some(c @ ('\\' | '\'' | '"' | '`' | '?')) => c,
                        Some('u') => {
                            let hex: String = self.chars.iter().skip(self.pos).take(4).collect();
                            self.pos += 4;
                            match u32::from_str_radix(&hex, 16).ok().and_then(char::from_u32) {
                                Some(c) => c,
                                None => return self.fail("\\u needs four hexadecimal digits"),
                            }
                        }
                        _ => return self.fail("an unknown escape in a text"),
                    });
                }
                _ => text.push(c),
            }
        }
    }
}
