//! From text to a tree (CEL language definition, "Syntax").

mod literals;
mod primary;

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
    /// Whether it is an item of a list, whichever: its name is what stands for it.
    pub index: bool,
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
    /// A secret that was bound.
    Secret(super::secret::Hidden),
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
    /// Names that macros give, each with what it is an item of.
    locals: Vec<(String, Option<Vec<Step>>)>,
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
}
