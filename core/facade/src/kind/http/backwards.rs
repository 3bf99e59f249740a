//! From a path of the backend back to the path variables of an operation.

use std::borrow::Cow;

use super::{HttpCall, PathPart};
use crate::route::{percent_decode, percent_encode_segment};

impl HttpCall {
    /// The values of an operation's path variables with which this call has a path; `None` where it never has it, or where that
    /// cannot be told from the path. What a variable may take is taken as by requests: each as much as it can.
    pub fn values_of(&self, path: &str, variables: &[String]) -> Option<Vec<String>> {
        if self.fixed_query.is_some() || self.query.as_ref().is_some_and(|q| !q.is_empty()) {
            return None;
        }
        let mut values: Vec<Option<String>> = vec![None; variables.len()];
        let mut rest = path;
        let mut parts = self.path.iter().peekable();
        while let Some(part) = parts.next() {
            if let PathPart::Fixed(text) = part {
                rest = rest.strip_prefix(text.as_str())?;
                continue;
            }
            let end = rest.find('/').unwrap_or(rest.len());
            let end = match (part, parts.peek()) {
                (PathPart::CapturedRest(_), None) => rest.len(),
                (PathPart::CapturedRest(_), Some(_)) => return None,
                (_, Some(PathPart::Fixed(next))) => {
                    // Its text up to the next slash stands in this segment.
                    let inner = next.split('/').next().unwrap_or_default();
                    rest[..end]
                        .rfind(inner)
                        .filter(|_| !inner.is_empty())
                        .unwrap_or(end)
                }
                (_, Some(_)) => return None,
                (_, None) => end,
            };
            let (taken, behind) = rest.split_at(end);
            rest = behind;
            if taken.is_empty() || taken.contains(['{', '}']) {
                return None;
            }
            let (at, value) = origin(part, taken, variables)?;
            values[at] = Some(value);
        }
        if !rest.is_empty() {
            return None;
        }
        values.into_iter().collect()
    }
}

/// The variable that a part of a path is made of, and its value as it stands in a path.
fn origin(part: &PathPart, taken: &str, variables: &[String]) -> Option<(usize, String)> {
    let expr = match part {
        PathPart::Captured(at) | PathPart::CapturedRest(at) => {
            return Some((*at, taken.to_owned()));
        }
        PathPart::Value(expr) => expr.source().strip_prefix("path.")?,
        PathPart::Fixed(_) => return None,
    };
    let (name, how) = match expr.split_once('.') {
        Some((name, how)) => (name, how),
        None => (expr, ""),
    };
    let at = variables.iter().position(|v| v == name)?;
    let decoded = percent_decode(taken, false)?;
    let value: Cow<'_, str> = match how {
        "" => decoded,
        // Texts as literals, whose quotes are doubled.
        r#"replace("'", "''")"# => {
            let single = decoded.replace("''", "");
            if single.contains('\'') {
                return None;
            }
            decoded.replace("''", "'").into()
        }
        _ => return None,
    };
    let mut encoded = String::with_capacity(taken.len());
    percent_encode_segment(&mut encoded, &value);
    Some((at, encoded))
}

#[cfg(test)]
mod tests {
    use porch_rules::expr::Expr;

    use super::*;

    fn call(path: Vec<PathPart>) -> HttpCall {
        HttpCall {
            own: false,
            method: None,
            path,
            fixed_query: None,
            query: None,
            fixed: None,
            headers: Vec::new(),
            body: None,
            is_form: false,
            reads_body: false,
        }
    }

    fn fixed(text: &str) -> PathPart {
        PathPart::Fixed(text.into())
    }

    #[test]
    fn a_path_leads_back_to_the_variables_that_it_was_made_of() {
        let variables = ["code".to_owned(), "lot".to_owned()];
        let made = |source: &str| PathPart::Value(Expr::compile(source, &["path"]).unwrap());
        let quoted = call(vec![
            fixed("/Lots(Good='"),
            made(r#"path.code.replace("'", "''")"#),
            fixed("',Number="),
            PathPart::Captured(1),
            fixed(")/x"),
        ]);
        let of = |path: &str| quoted.values_of(path, &variables);
        let both = |a: &str, b: &str| Some(vec![a.to_owned(), b.to_owned()]);
        assert_eq!(of("/Lots(Good='A%2F7',Number=2)/x"), both("A%2F7", "2"));
        assert_eq!(
            of("/Lots(Good='LAMP''S',Number=2)/x"),
            both("LAMP%27S", "2")
        );
        for other in [
            "/Lots(Good='A'B',Number=2)/x",
            "/Lots(Good='',Number=2)/x",
            "/Lots(Good='A',Number=2)/y",
            "/Lots(Good='A',Number=2)/x/y",
            "/Lots(Good='A/B',Number=2)/x",
            "/Lots",
            "",
        ] {
            assert_eq!(of(other), None, "{other}");
        }
        let rest = call(vec![fixed("/f/"), PathPart::CapturedRest(0)]);
        assert_eq!(
            rest.values_of("/f/a/b", &variables[..1]),
            Some(vec!["a/b".to_owned()])
        );
        // What is not made of the variable alone does not lead back.
        let upper = call(vec![fixed("/f/"), made("path.code.upperAscii()")]);
        assert_eq!(upper.values_of("/f/A", &variables[..1]), None);
    }
}
