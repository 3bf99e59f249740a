//! What nobody is shown: members, fields and parameters that documents or contracts name, before anything is kept.
//!
//! They are hidden where their names stand, and what stood there is hidden wherever else it stands: a conversion gives
//! them other names.

use std::collections::HashSet;

use porch_facade::{CompiledFacade, CompiledOperation, MASK, Mask, Sensitive};

use super::{Message, Trace};

/// What is shorter is hidden only below its name: it would stand in too much that is something else.
const SHORTEST: usize = 4;
/// Of so many values it is looked where else they stand; where there are more, no body is shown.
const MOST: usize = 32;

/// Hides what is sensitive about an operation in all that is kept of an exchange.
#[cold]
pub(crate) fn hide(trace: &mut Trace, facade: &CompiledFacade, op: &CompiledOperation) {
    let Some(sensitive) = &op.sensitive else {
        return;
    };
    let mut values: Vec<String> = Vec::new();
    let shown = target(&trace.target, sensitive, facade, op, &mut values);
    let asked = std::mem::replace(&mut trace.target, shown);
    let messages = |trace: &mut Trace, f: &mut dyn FnMut(&mut Message)| {
        for stage in &mut trace.stages {
            for message in [&mut stage.before, &mut stage.after].into_iter().flatten() {
                f(message);
            }
        }
    };
    let own = trace.target.clone();
    messages(trace, &mut |message| {
        message.head = message.head.replace(&asked, &own);
        message.head = query_of(&message.head, sensitive, &mut values);
        for (name, value) in &mut message.headers {
            if sensitive.fields.contains(name.as_str()) {
                values.push(std::mem::replace(value, MASK.into()));
            }
        }
        message.body = text(&message.body, sensitive, &mut values);
    });
    if let Some(refusal) = &mut trace.refusal {
        told(&mut refusal.why, sensitive);
    }
    told(&mut trace.misfit, sensitive);
    let notes = trace.stages.iter_mut().flat_map(|s| &mut s.notes);
    notes.for_each(|note| noted(note, sensitive, &mut values));
    // Those of path, query and fields stand first.
    let mut seen = HashSet::new();
    values.retain(|v| v.chars().count() >= SHORTEST && v != MASK && seen.insert(v.clone()));
    if values.len() > MOST {
        messages(trace, &mut |message| message.body = TOO_MUCH.into());
        let notes = trace.stages.iter_mut().flat_map(|s| &mut s.notes);
        notes
            .filter(|note| holds_a_message(note))
            .for_each(|note| *note = TOO_MUCH.into());
        values.truncate(MOST);
    }
    trace.mask(&Mask::of(values.iter().map(String::as_str)));
}

/// Hides it in a text about a message.
pub(crate) fn hide_in(about: &mut String, sensitive: &Sensitive) {
    // An expression, and what came of it.
    if let Some((expression, _)) = about.split_once(": ")
        && expression.starts_with('=')
        && names_one(expression, sensitive)
    {
        *about = format!("{expression}: {MASK}");
        return;
    }
    let mut values = Vec::new();
    *about = text(about, sensitive, &mut values);
    told(about, sensitive);
    values.retain(|v| v.chars().count() >= SHORTEST);
    values.truncate(MOST);
    Mask::of(values.iter().map(String::as_str)).text(about);
}

/// A target whose path and query hide what is sensitive.
fn target(
    target: &str,
    sensitive: &Sensitive,
    facade: &CompiledFacade,
    op: &CompiledOperation,
    values: &mut Vec<String>,
) -> String {
    let (path, query) = match target.split_once('?') {
        Some((path, query)) => (path, Some(query)),
        None => (target, None),
    };
    let names = facade
        .base
        .split('/')
        .chain(op.route.path.split('/').skip(1));
    let names: Vec<&str> = names.collect();
    let mut parts: Vec<&str> = path.split('/').collect();
    for (i, name) in names.iter().enumerate() {
        let hidden =
            |v: &String| name.contains(&format!("{{{v}}}")) || name.contains(&format!("{{{v}*}}"));
        if i >= parts.len() || !name.contains('{') || !sensitive.parameters.iter().any(hidden) {
            continue;
        }
        // The last one may take several segments.
        let last = match name.contains("*}") {
            true => parts.len(),
            false => i + 1,
        };
        for part in &mut parts[i..last] {
            values.push(decoded(part));
            *part = MASK;
        }
    }
    let mut shown = parts.join("/");
    if let Some(query) = query {
        shown.push('?');
        shown.push_str(&form(query, sensitive, values));
    }
    shown
}

/// A head whose query hides it.
fn query_of(head: &str, sensitive: &Sensitive, values: &mut Vec<String>) -> String {
    match head.split_once('?') {
        Some((before, query)) => format!("{before}?{}", form(query, sensitive, values)),
        None => head.to_owned(),
    }
}

/// `application/x-www-form-urlencoded`, as in a query.
fn form(text: &str, sensitive: &Sensitive, values: &mut Vec<String>) -> String {
    let pairs = text.split('&').map(|pair| match pair.split_once('=') {
        Some((name, value)) if sensitive.parameters.contains(&decoded(name)) => {
            values.push(decoded(value));
            format!("{name}={MASK}")
        }
        _ => pair.to_owned(),
    });
    pairs.collect::<Vec<_>>().join("&")
}

fn decoded(text: &str) -> String {
    match porch_facade::percent_decode(text, true) {
        Some(decoded) => decoded.into_owned(),
        None => text.to_owned(),
    }
}

/// A body, or what is told of one: JSON and XML by the names in it, else a form.
fn text(body: &str, sensitive: &Sensitive, values: &mut Vec<String>) -> String {
    let trimmed = body.trim_start();
    let is_form = !trimmed.contains(['{', '<', '"']) && trimmed.contains('=');
    if is_form {
        return form(body, sensitive, values);
    }
    if sensitive.members.is_empty() {
        return body.to_owned();
    }
    let (mut shown, mut rest) = (String::with_capacity(body.len()), body);
    while let Some(at) = rest.find(['"', '<']) {
        shown.push_str(&rest[..at]);
        rest = &rest[at..];
        let taken = match rest.as_bytes()[0] {
            b'"' => member(rest, sensitive),
            _ => element(rest, sensitive),
        };
        let (length, hidden) = taken;
        shown.push_str(&rest[..length]);
        rest = &rest[length..];
        if hidden > 0 {
            scalars(&rest[..hidden], values);
            let quoted = rest.starts_with(['"', '[', '{']) || !rest[..hidden].contains('<');
            shown.push_str(match shown.ends_with('>') || !quoted {
                true => MASK,
                false => "\"••••\"",
            });
            rest = &rest[hidden..];
        }
    }
    shown.push_str(rest);
    shown
}

/// A text in quotes: how long it is, with a colon and blanks behind it where it is a sensitive member's name; and how long
/// the value is then.
fn member(text: &str, sensitive: &Sensitive) -> (usize, usize) {
    let end = quoted(text);
    let behind = text[end..].trim_start();
    let Some(value) = behind.strip_prefix(':') else {
        return (end, 0);
    };
    let name = serde_json::from_str::<String>(&text[..end]).unwrap_or_default();
    if !sensitive.members.contains(&name) {
        return (end, 0);
    }
    let value = value.trim_start();
    (text.len() - value.len(), value_length(value))
}

/// A tag: how long it is; and where it opens a sensitive element, how long all is until that closes.
fn element(text: &str, sensitive: &Sensitive) -> (usize, usize) {
    let Some(end) = text.find('>').map(|at| at + 1) else {
        return (text.len(), 0);
    };
    let tag = &text[1..end - 1];
    let name = tag
        .split([' ', '\t', '\r', '\n', '/'])
        .next()
        .unwrap_or_default();
    let local = name.rsplit(':').next().unwrap_or_default();
    if tag.ends_with('/') || local.is_empty() || !sensitive.members.contains(local) {
        return (end, 0);
    }
    let closes = format!("</{name}");
    let length = text[end..].find(&closes).unwrap_or(text.len() - end);
    (end, length)
}

/// Length of a text in quotes at the beginning; all of it where it does not end.
fn quoted(text: &str) -> usize {
    let mut chars = text.char_indices().skip(1);
    while let Some((at, c)) = chars.next() {
        match c {
            '\\' => drop(chars.next()),
            '"' => return at + 1,
            _ => {}
        }
    }
    text.len()
}

/// Length of a JSON value at the beginning of a text; all of it where it does not end.
fn value_length(text: &str) -> usize {
    let (mut at, mut depth) = (0, 0usize);
    while let Some(c) = text[at..].chars().next() {
        match c {
            '"' => {
                at += quoted(&text[at..]);
                if depth == 0 {
                    return at;
                }
                continue;
            }
            '{' | '[' => depth += 1,
            '}' | ']' if depth <= 1 => return if depth == 1 { at + 1 } else { at },
            '}' | ']' => depth -= 1,
            ',' if depth == 0 => return at,
            _ if c.is_whitespace() && depth == 0 => return at,
            _ => {}
        }
        at += c.len_utf8();
    }
    text.len()
}

/// A text of XML without its references; as it is where one stands for nothing.
fn plain(text: &str) -> String {
    let mut plain = String::with_capacity(text.len());
    match porch_soap::xml::push_text(&mut plain, text) {
        Ok(()) => plain,
        Err(_) => text.to_owned(),
    }
}

/// What is told of values, by the pointers to them: of a sensitive one no value is told.
fn told(text: &mut String, sensitive: &Sensitive) {
    let parts: Vec<String> = text
        .split("; ")
        .map(|part| match names_one(part, sensitive) {
            true => unquoted(part),
            false => part.to_owned(),
        })
        .collect();
    *text = parts.join("; ");
}

/// What stands in place of what is not shown.
const TOO_MUCH: &str = "(not shown: it holds too much that is sensitive)";

/// Whether a note may hold a message, or a part of one.
fn holds_a_message(note: &str) -> bool {
    note.contains(['{', '[', '<'])
}

/// A note of a parameter's value, or of a message that was made.
fn noted(note: &mut String, sensitive: &Sensitive, values: &mut Vec<String>) {
    if holds_a_message(note) {
        *note = text(note, sensitive, values);
    }
    if let Some((name, _)) = note.split_once(" = ")
        && names_one(name, sensitive)
    {
        *note = format!("{name} = {MASK}");
    }
}

/// Whether a text has a sensitive name among its words.
fn names_one(text: &str, sensitive: &Sensitive) -> bool {
    let mut words = text.split(|c: char| !(c.is_alphanumeric() || matches!(c, '_' | '-' | '$')));
    words.any(|word| {
        sensitive.members.contains(word)
            || sensitive.parameters.contains(word)
            || sensitive.fields.contains(word)
    })
}

/// A text with what stands in it in quotes hidden.
fn unquoted(text: &str) -> String {
    let (mut shown, mut rest) = (String::new(), text);
    while let Some((before, behind)) = rest.split_once('“') {
        let end = behind
            .find('”')
            .map_or(behind.len(), |at| at + '”'.len_utf8());
        shown.push_str(before);
        shown.push_str(MASK);
        rest = &behind[end..];
    }
    shown.push_str(rest);
    shown
}

/// The texts and numbers in a piece of JSON or XML.
fn scalars(piece: &str, values: &mut Vec<String>) {
    let mut rest = piece;
    while let Some(c) = rest.chars().next() {
        let length = match c {
            '"' => {
                let length = quoted(rest);
                let text = serde_json::from_str(&rest[..length]);
                values.push(text.unwrap_or_else(|_| rest[..length].trim_matches('"').to_owned()));
                length
            }
            '<' => rest.find('>').map_or(rest.len(), |at| at + 1),
            '{' | '}' | '[' | ']' | ',' | ':' => 1,
            c if c.is_whitespace() => c.len_utf8(),
            _ => {
                let length = rest
                    .find(['"', '<', '{', '}', '[', ']', ','])
                    .unwrap_or(rest.len());
                let text = rest[..length].trim();
                if !matches!(text, "true" | "false" | "null") {
                    values.push(plain(text));
                }
                length
            }
        };
        rest = &rest[length..];
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sensitive() -> Sensitive {
        let names = |all: &[&str]| all.iter().map(|n| (*n).to_owned()).collect();
        Sensitive {
            members: names(&["name", "cards"]),
            parameters: names(&["name"]),
            ..Sensitive::default()
        }
    }

    fn hidden(body: &str) -> (String, Vec<String>) {
        let mut values = Vec::new();
        let shown = text(body, &sensitive(), &mut values);
        (shown, values)
    }

    #[test]
    fn what_stands_below_a_sensitive_name_is_hidden_and_nothing_else() {
        for (body, shown, values) in [
            (
                r#"{"name":"Kari","to":"name"}"#,
                r#"{"name":"••••","to":"name"}"#,
                vec!["Kari"],
            ),
            (
                r#"{ "na\u006de" : "a\"b" , "x": 1}"#,
                r#"{ "na\u006de" : "••••" , "x": 1}"#,
                vec!["a\"b"],
            ),
            (
                r#"{"cards":[4111,{"n":"42"},null],"b":2}"#,
                r#"{"cards":"••••","b":2}"#,
                vec!["4111", "n", "42"],
            ),
            (r#"{"name":true}"#, r#"{"name":"••••"}"#, vec![]),
            (r#"{"name":12.5}"#, r#"{"name":"••••"}"#, vec!["12.5"]),
            (
                "<a><s:name x=\"1\">Kari &amp; P&#xE9;r</s:name><b>c</b><name/></a>",
                "<a><s:name x=\"1\">••••</s:name><b>c</b><name/></a>",
                vec!["Kari & Pér"],
            ),
            (
                "name=Kari+N%C3%A6ss&b=2",
                "name=••••&b=2",
                vec!["Kari Næss"],
            ),
            // What is cut off.
            (r#"{"name":"Kar"#, r#"{"name":"••••""#, vec!["\"Kar"]),
            ("<name>Kar", "<name>••••", vec!["Kar"]),
            ("<name", "<name", vec![]),
            (r#"{"name":"#, r#"{"name":"#, vec![]),
            ("", "", vec![]),
            ("\"", "\"", vec![]),
        ] {
            let (now, found) = hidden(body);
            assert_eq!(now, shown);
            let found: Vec<&str> = found.iter().map(|v| v.trim_matches('"')).collect();
            let values: Vec<&str> = values.iter().map(|v: &&str| v.trim_matches('"')).collect();
            assert_eq!(found, values, "{body}");
        }
    }

    #[test]
    fn what_is_told_of_a_sensitive_value_does_not_tell_it() {
        let mut text =
            "/body/name “Kari” is too long; /body/to “Farholt” is no quay; 3 of /body/cards/0"
                .to_owned();
        told(&mut text, &sensitive());
        assert_eq!(
            text,
            "/body/name •••• is too long; /body/to “Farholt” is no quay; 3 of /body/cards/0"
        );
    }

    #[test]
    fn notes_hide_parameters_and_messages_and_nothing_else() {
        for (note, shown) in [
            ("name = \"Kari\"", "name = ••••"),
            (
                r#"the input in JSON: {"name":"Kari","to":["Farholt"]}"#,
                r#"the input in JSON: {"name":"••••","to":["Farholt"]}"#,
            ),
            (
                "GET /a/{name} is the operation “x”",
                "GET /a/{name} is the operation “x”",
            ),
            (
                "calls go on when =header[?'x'].orValue('') == 'y' && true",
                "calls go on when =header[?'x'].orValue('') == 'y' && true",
            ),
        ] {
            let mut now = note.to_owned();
            noted(&mut now, &sensitive(), &mut Vec::new());
            assert_eq!(now, shown);
        }
    }

    proptest::proptest! {
        #[test]
        fn nothing_breaks_it(body in r#"[{}\[\]"<>/:,\\nameé=& ]{0,60}"#) {
            let (shown, _) = hidden(&body);
            proptest::prop_assert!(shown.len() <= body.len() * 20 + 20);
        }
    }
}
