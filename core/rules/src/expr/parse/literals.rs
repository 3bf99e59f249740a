//! Literals, lists and maps.

use super::*;

impl Parser<'_> {
    pub(super) fn list(&mut self, end: &str) -> Result<Vec<Node>, ParseError> {
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

    pub(super) fn map(&mut self) -> Parsed {
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

    pub(super) fn number(&mut self, negative: bool) -> Result<Literal, ParseError> {
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

    pub(super) fn string(&mut self, raw: bool) -> Result<String, ParseError> {
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
