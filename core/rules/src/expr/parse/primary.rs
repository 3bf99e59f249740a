//! Names, calls and what stands behind them.

use super::*;

impl Parser<'_> {
    pub(super) fn postfix_of_primary(&mut self) -> Parsed {
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

    pub(super) fn identifier(&mut self) -> Result<String, ParseError> {
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

    pub(super) fn name(&mut self, at: usize) -> Parsed {
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
        if let Some(local) = self.locals.iter().rposition(|(l, _)| *l == name) {
            let of = self.locals[local].1.clone();
            let reference = of.map(|steps| Reference {
                steps,
                fixed: false,
            });
            return self.postfix(Node::Local(local), reference);
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
                index: false,
                offset: at,
            }],
            fixed: true,
        };
        self.postfix(Node::Root(root), Some(reference))
    }

    pub(super) fn has(&mut self, at: usize) -> Parsed {
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

    pub(super) fn call(&self, at: usize, name: &str, arguments: Vec<Node>) -> Parsed {
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
            // With the most parts that there may be, or without (CEL strings extension).
            "split" if arguments.len() == 3 => 3,
            "split" => 2,
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
    pub(super) fn postfix(&mut self, mut node: Node, mut reference: Option<Reference>) -> Parsed {
        loop {
            self.space();
            let at = self.pos;
            if self.eat(".") {
                self.count()?;
                node = self.behind_dot(node, &mut reference)?;
            } else if self.eat("[") {
                self.count()?;
                node = self.behind_bracket(at, node, &mut reference)?;
            } else {
                self.references.extend(reference);
                return Ok(node);
            }
        }
    }

    fn behind_dot(&mut self, of: Node, reference: &mut Option<Reference>) -> Parsed {
        let optional = self.eat("?");
        let name_at = self.pos;
        let name = if self.eat("`") {
            self.quoted_name()?
        } else {
            self.identifier()?
        };
        if !optional && self.eat("(") {
            return self.method(name_at, of, &name, reference);
        }
        if let Some(r) = reference {
            r.steps.push(Step {
                name: name.clone(),
                optional,
                index: false,
                offset: name_at,
            });
        }
        Ok(Node::Member {
            of: Box::new(of),
            name,
            optional,
        })
    }

    fn behind_bracket(&mut self, at: usize, of: Node, reference: &mut Option<Reference>) -> Parsed {
        let optional = self.eat("?");
        let index = self.expression()?;
        self.expect("]")?;
        match (index, reference.as_mut()) {
            (Node::Literal(Literal::Str(name)), Some(r)) => {
                r.steps.push(Step {
                    name: name.clone(),
                    optional,
                    index: false,
                    offset: at,
                });
                Ok(Node::Member {
                    of: Box::new(of),
                    name,
                    optional,
                })
            }
            (index @ Node::Literal(Literal::Int(_)), Some(r)) => {
                r.fixed = false;
                r.steps.push(item("[…]", optional, at));
                Ok(Node::Index {
                    of: Box::new(of),
                    at: Box::new(index),
                    optional,
                })
            }
            (index, r) => {
                if let Some(r) = r {
                    r.fixed = false;
                }
                self.references.extend(reference.take());
                Ok(Node::Index {
                    of: Box::new(of),
                    at: Box::new(index),
                    optional,
                })
            }
        }
    }

    /// A name between back quotes, for members with characters that names do not have (CEL syntax extension).
    pub(super) fn quoted_name(&mut self) -> Result<String, ParseError> {
        let from = self.pos;
        while self.chars.get(self.pos).is_some_and(|c| *c != '`') {
            self.pos += 1;
        }
        let name = self.chars[from..self.pos].iter().collect();
        self.expect("`")?;
        Ok(name)
    }

    pub(super) fn method(
        &mut self,
        at: usize,
        of: Node,
        name: &str,
        reference: &mut Option<Reference>,
    ) -> Parsed {
        let list = reference.as_ref().map(|r| r.steps.clone());
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
        let items = list.map(|mut steps| {
            steps.push(item(&local, false, at));
            steps
        });
        self.locals.push((local, items));
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
}

/// An item of a list, as a step to what is below it.
fn item(name: &str, optional: bool, offset: usize) -> Step {
    Step {
        name: name.to_owned(),
        optional,
        index: true,
        offset,
    }
}
