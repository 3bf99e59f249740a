//! A command line as a shell reads it (POSIX.1-2017, Shell Command Language §2.2, §2.3), as far as pasted commands use it.

use crate::NoSample;

/// A part of a command line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Part {
    /// A word, its quotes taken away.
    Word(String),
    /// The command ends here.
    End,
    /// What follows is for something else: another program, or a file.
    Aside,
}

/// Takes a text apart.
///
/// # Errors
/// When a quote does not end, or something would have to be carried out first.
pub(crate) fn parts(text: &str) -> Result<Vec<Part>, NoSample> {
    let mut reader = Reader {
        rest: text.chars().peekable(),
        parts: Vec::new(),
        word: None,
    };
    reader.all()?;
    Ok(reader.parts)
}

struct Reader<'t> {
    rest: std::iter::Peekable<std::str::Chars<'t>>,
    parts: Vec<Part>,
    word: Option<String>,
}

impl Reader<'_> {
    fn all(&mut self) -> Result<(), NoSample> {
        while let Some(c) = self.rest.next() {
            match c {
                '\\' => self.escaped(),
                '\'' => self.single()?,
                '"' => self.double()?,
                '$' if self.rest.peek() == Some(&'\'') => self.ansi()?,
                '$' if self.rest.peek() == Some(&'(') => return Err(carried_out("$(")),
                '`' => return Err(carried_out("`")),
                '#' if self.word.is_none() => self.comment(),
                '\n' | ';' => self.end(Part::End),
                '&' => {
                    let next = self.rest.next_if_eq(&'&');
                    // A lone one lets the command run on its own: it ends there as well.
                    let _ = next;
                    self.end(Part::End);
                }
                '|' | '>' | '<' => {
                    // The number of a stream stands before what leads it away.
                    if self.word.as_deref().is_some_and(|w| matches!(w, "1" | "2")) {
                        self.word = None;
                    }
                    let rest = [self.rest.next_if(|n| matches!(n, '|' | '>' | '&'))];
                    let or = c == '|' && rest[0] == Some('|');
                    self.end(if or { Part::End } else { Part::Aside });
                }
                c if c.is_whitespace() => self.end_word(),
                c => self.word().push(c),
            }
        }
        self.end(Part::End);
        Ok(())
    }

    fn word(&mut self) -> &mut String {
        self.word.get_or_insert_default()
    }

    fn end_word(&mut self) {
        self.parts.extend(self.word.take().map(Part::Word));
    }

    fn end(&mut self, part: Part) {
        self.end_word();
        self.parts.push(part);
    }

    /// A backslash outside of quotes: with a line's end it is nothing at all.
    fn escaped(&mut self) {
        match self.rest.next() {
            Some('\n') => {}
            // Blanks behind the backslash were not meant: the line goes on.
            Some('\r') => drop(self.rest.next_if_eq(&'\n')),
            Some(c) => self.word().push(c),
            None => {}
        }
    }

    fn comment(&mut self) {
        while self.rest.next_if(|c| *c != '\n').is_some() {}
    }

    fn single(&mut self) -> Result<(), NoSample> {
        self.word();
        loop {
            match self.rest.next() {
                Some('\'') => return Ok(()),
                Some(c) => self.word().push(c),
                None => return Err(unended('\'')),
            }
        }
    }

    fn double(&mut self) -> Result<(), NoSample> {
        self.word();
        loop {
            match self.rest.next() {
                Some('"') => return Ok(()),
                Some('\\') => match self.rest.next() {
                    Some('\n') => {}
                    Some(c @ ('"' | '\\' | '$' | '`')) => self.word().push(c),
                    Some(c) => self.word().extend(['\\', c]),
                    None => return Err(unended('"')),
                },
                Some('`') => return Err(carried_out("`")),
                Some('$') if self.rest.peek() == Some(&'(') => return Err(carried_out("$(")),
                Some(c) => self.word().push(c),
                None => return Err(unended('"')),
            }
        }
    }

    /// `$'…'`, in which a backslash begins a character (POSIX.1-2024 §2.2.4).
    fn ansi(&mut self) -> Result<(), NoSample> {
        self.rest.next();
        self.word();
        loop {
            let c = match self.rest.next() {
                Some('\'') => return Ok(()),
                Some('\\') => match self.rest.next() {
                    Some('n') => '\n',
                    Some('r') => '\r',
                    Some('t') => '\t',
                    Some('x') => self.code(2),
                    Some('u') => self.code(4),
                    Some(c) => c,
                    None => return Err(unended('\'')),
                },
                Some(c) => c,
                None => return Err(unended('\'')),
            };
            self.word().push(c);
        }
    }

    /// A character by its number, of so many digits at most.
    fn code(&mut self, most: usize) -> char {
        let mut number = 0;
        for _ in 0..most {
            match self.rest.next_if(char::is_ascii_hexdigit) {
                Some(digit) => number = number * 16 + digit.to_digit(16).unwrap_or(0),
                None => break,
            }
        }
        char::from_u32(number).unwrap_or(char::REPLACEMENT_CHARACTER)
    }
}

fn unended(quote: char) -> NoSample {
    let message = format!("a quote ({quote}) is opened and not closed");
    NoSample::new(message, "paste the whole command line")
}

fn carried_out(what: &str) -> NoSample {
    let message = format!("`{what}` asks for another command to be carried out first");
    NoSample::new(message, "put its result in its place")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn words(text: &str) -> Vec<String> {
        let parts = parts(text).unwrap();
        let shown = parts.into_iter().map(|p| match p {
            Part::Word(word) => word,
            Part::End => "END".into(),
            Part::Aside => "ASIDE".into(),
        });
        shown.collect()
    }

    #[test]
    fn quotes_and_ends_of_lines_are_read_as_a_shell_does() {
        for (text, told) in [
            ("a b", &["a", "b", "END"][..]),
            ("a \\\n  b", &["a", "b", "END"]),
            ("a \\\r\n  b", &["a", "b", "END"]),
            ("'a b'\"c d\"e", &["a bc de", "END"]),
            ("'' \"\"", &["", "", "END"]),
            (r#""a\"b\\c\n$d""#, &["a\"b\\c\\n$d", "END"]),
            (r"'a\nb'", &["a\\nb", "END"]),
            (r"$'a\nb\'c\u00e9\x41'", &["a\nb'c\u{e9}A", "END"]),
            ("it\\'s", &["it's", "END"]),
            ("a # b\nc", &["a", "END", "c", "END"]),
            ("a#b", &["a#b", "END"]),
            ("a | b 2> c", &["a", "ASIDE", "b", "ASIDE", "c", "END"]),
            (
                "a && b; c & d",
                &["a", "END", "b", "END", "c", "END", "d", "END"],
            ),
        ] {
            assert_eq!(words(text), told, "{text}");
        }
        for text in ["'a", "\"a", "$'a", "a `b`", "a $(b)", "\"$(b)\"", "\"`b`\""] {
            assert!(parts(text).is_err(), "{text}");
        }
    }
}
