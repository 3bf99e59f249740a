//! Problems in the facade's own words.

use http::{HeaderMap, HeaderValue, header};
use porch_facade::{Of, Words};

use super::{Problem, TYPE};
use crate::language;

/// By language.
type Said = [(Box<str>, Box<str>)];

impl Problem {
    /// The last part of its type, where that is the porch's own.
    fn reason(&self) -> &str {
        self.kind.strip_prefix(TYPE).unwrap_or_default()
    }

    /// Says it in other words: each part as the first of them says it that is for such problems.
    #[cold]
    pub(crate) fn in_words_of(&mut self, all: &[Words], request: &HeaderMap) {
        let (reason, status) = (self.reason().to_owned(), self.status.as_u16());
        let all: Vec<&Words> = all.iter().filter(|w| w.of.fits(&reason, status)).collect();
        // Whoever worded a refusal worded it for its case: words for many problems are not for it.
        let is_own = reason == "refused" || reason.is_empty();
        let said = |of: fn(&Words) -> &Said| {
            let fit = all
                .iter()
                .filter(|w| !is_own || matches!(w.of, Of::Reason(_)));
            fit.map(|w| of(w)).find(|said| !said.is_empty())
        };
        let (title, detail) = (said(|w| &w.title), said(|w| &w.detail));
        self.say(title, detail, request);
        if let Some(kind) = all.iter().find_map(|w| w.kind.as_deref())
            && !reason.is_empty()
        {
            kind.clone_into(&mut self.kind);
        }
        if let Some(help) = all.iter().find_map(|w| w.help.as_ref()) {
            self.headers.push((header::LINK, help.clone()));
        }
        for (name, value) in all.iter().flat_map(|w| &w.members) {
            // What the problem says itself, and what a narrower reach says, stays.
            if !self.extra.contains_key(name) {
                self.extra.insert(name.clone(), value.clone());
            }
        }
    }

    /// Title and detail in the language that the caller likes best.
    fn say(&mut self, title: Option<&Said>, detail: Option<&Said>, request: &HeaderMap) {
        let several = |said: Option<&Said>| said.is_some_and(|s| s.len() > 1);
        let ranges = match several(title) || several(detail) {
            true => {
                let vary = HeaderValue::from_static("accept-language");
                self.headers.push((header::VARY, vary));
                language::ranges(request)
            }
            false => Vec::new(),
        };
        let mut spoken: Option<Box<str>> = None;
        let mut pick = |said: &Said| {
            let same = spoken
                .as_ref()
                .and_then(|l| said.iter().find(|(tag, _)| tag == l));
            let liked = || language::choose(&ranges, said, |(tag, _)| tag);
            let (tag, text) = same.or_else(liked).or(said.first())?;
            if spoken.is_none() && !tag.is_empty() {
                spoken = Some(tag.clone());
            }
            Some(text.to_string())
        };
        if let Some(text) = title.and_then(&mut pick) {
            self.title = text;
        }
        if let Some(text) = detail.and_then(&mut pick) {
            self.detail = text;
        }
        if let Some(Ok(tag)) = spoken.map(|tag| HeaderValue::from_str(&tag)) {
            self.headers.push((header::CONTENT_LANGUAGE, tag));
        }
    }
}
