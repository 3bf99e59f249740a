//! JSON (RFC 8259) read to its end without a value: what is skipped is sound.

/// Values may stand so deep in one another.
const DEEPEST: usize = 120;

/// A text, and how far it was read.
pub(super) struct Scan<'t> {
    text: &'t str,
    at: usize,
}

impl<'t> Scan<'t> {
    pub(super) fn of(text: &'t str) -> Self {
        Self { text, at: 0 }
    }

    fn peek(&self) -> Option<u8> {
        self.text.as_bytes().get(self.at).copied()
    }

    fn blanks(&mut self) {
        while matches!(self.peek(), Some(b' ' | b'\n' | b'\r' | b'\t')) {
            self.at += 1;
        }
    }

    /// Reads one letter, behind blanks.
    pub(super) fn open(&mut self, letter: u8) -> Option<()> {
        self.blanks();
        (self.peek()? == letter).then(|| self.at += 1)
    }

    /// Nothing but blanks is left.
    pub(super) fn end(&mut self) -> Option<()> {
        self.blanks();
        self.peek().is_none().then_some(())
    }

    /// Whether one more member or item comes before the end of what was opened.
    pub(super) fn more(&mut self, end: u8, first: &mut bool) -> Option<bool> {
        self.blanks();
        if self.peek()? == end {
            // Behind a comma something comes.
            self.at += 1;
            return Some(false);
        }
        if !std::mem::replace(first, false) {
            self.open(b',')?;
            self.blanks();
            if self.peek()? == end {
                return None;
            }
        }
        Some(true)
    }

    /// A name with its colon; one with an escape is not looked at.
    pub(super) fn name(&mut self) -> Option<&'t str> {
        self.blanks();
        let text = self.text_here()?;
        let name = &text[1..text.len() - 1];
        if name.contains('\\') {
            return None;
        }
        self.open(b':')?;
        Some(name)
    }

    /// A value as it is written.
    pub(super) fn value(&mut self) -> Option<&'t str> {
        self.blanks();
        let from = self.at;
        self.skip(0)?;
        Some(&self.text[from..self.at])
    }

    fn skip(&mut self, deep: usize) -> Option<()> {
        self.blanks();
        match self.peek()? {
            b'"' => self.text_here().map(drop),
            b'{' | b'[' if deep >= DEEPEST => None,
            open @ (b'{' | b'[') => {
                self.at += 1;
                let end = if open == b'{' { b'}' } else { b']' };
                let mut first = true;
                while self.more(end, &mut first)? {
                    if open == b'{' {
                        self.blanks();
                        self.text_here()?;
                        self.open(b':')?;
                    }
                    self.skip(deep + 1)?;
                }
                Some(())
            }
            b't' => self.word("true"),
            b'f' => self.word("false"),
            b'n' => self.word("null"),
            _ => self.number(),
        }
    }

    fn word(&mut self, word: &str) -> Option<()> {
        self.text[self.at..]
            .starts_with(word)
            .then(|| self.at += word.len())
    }

    fn digits(&mut self) -> Option<()> {
        let from = self.at;
        while self.peek().is_some_and(|b| b.is_ascii_digit()) {
            self.at += 1;
        }
        (self.at > from).then_some(())
    }

    /// A number (RFC 8259 §6).
    fn number(&mut self) -> Option<()> {
        if self.peek() == Some(b'-') {
            self.at += 1;
        }
        match self.peek()? {
            b'0' => self.at += 1,
            _ => self.digits()?,
        }
        if self.peek() == Some(b'.') {
            self.at += 1;
            self.digits()?;
        }
        if matches!(self.peek(), Some(b'e' | b'E')) {
            self.at += 1;
            if matches!(self.peek(), Some(b'+' | b'-')) {
                self.at += 1;
            }
            self.digits()?;
        }
        Some(())
    }

    /// A text with its quotes (RFC 8259 §7); one with escapes by numbers is left to others, since halves of pairs are none.
    fn text_here(&mut self) -> Option<&'t str> {
        let bytes = self.text.as_bytes();
        let from = self.at;
        if *bytes.get(from)? != b'"' {
            return None;
        }
        let mut at = from + 1;
        loop {
            match *bytes.get(at)? {
                b'"' => break,
                b'\\' => match *bytes.get(at + 1)? {
                    b'"' | b'\\' | b'/' | b'b' | b'f' | b'n' | b'r' | b't' => at += 2,
                    _ => return None,
                },
                b if b < 0x20 => return None,
                _ => at += 1,
            }
        }
        self.at = at + 1;
        Some(&self.text[from..self.at])
    }
}
