//! The path and query that a caller would send.

use std::collections::BTreeMap;

use porch_facade::percent_encode_segment;
use serde_json::Value;

use crate::error::ApiError;

/// Values by their names.
pub(crate) type Values = BTreeMap<String, Value>;

fn text(value: &Value) -> String {
    value
        .as_str()
        .map_or_else(|| value.to_string(), |s| s.trim().to_owned())
}

/// The path and query that a caller would send.
pub(crate) fn target(
    path: &Values,
    query: &Values,
    base: &str,
    template: &str,
) -> Result<String, ApiError> {
    let mut target = base.to_owned();
    for segment in template.split('/').skip(1) {
        target.push('/');
        // A verb may stand behind a variable: `{name}:cancel`.
        match segment.strip_prefix('{').and_then(|s| s.split_once('}')) {
            Some((variable, verb)) => {
                let name = variable.trim_end_matches('*');
                let value = path.get(name).map(text).filter(|t| !t.is_empty());
                let value = value.ok_or_else(|| {
                    ApiError::new(
                        422,
                        format!("The path variable “{name}” has no value"),
                        "Give it one.",
                    )
                })?;
                // One that takes several segments has slashes between them.
                let mut parts = value.split('/').filter(|_| variable.ends_with('*'));
                match parts.next() {
                    Some(first) => {
                        percent_encode_segment(&mut target, first);
                        for part in parts {
                            target.push('/');
                            percent_encode_segment(&mut target, part);
                        }
                    }
                    None => percent_encode_segment(&mut target, &value),
                }
                target.push_str(verb);
            }
            None => target.push_str(segment),
        }
    }
    let mut mark = '?';
    for (name, value) in query.iter().filter(|(_, v)| !v.is_null()) {
        // A list stands once for each of its values.
        let values = match value {
            Value::Array(values) => values.as_slice(),
            one => std::slice::from_ref(one),
        };
        for value in values {
            target.push(mark);
            mark = '&';
            percent_encode_segment(&mut target, name);
            target.push('=');
            percent_encode_segment(&mut target, &text(value));
        }
    }
    Ok(target)
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn made(path: &Value, query: &Value, template: &str) -> Result<String, ApiError> {
        let values = |v: &Value| serde_json::from_value(v.clone()).unwrap();
        target(&values(path), &values(query), "/f", template)
    }

    #[test]
    fn values_stand_where_the_template_has_their_names() {
        for (template, path, query, wanted) in [
            ("/a/{x}", json!({ "x": "b c" }), json!({}), "/f/a/b%20c"),
            ("/a/{x}", json!({ "x": 7 }), json!({}), "/f/a/7"),
            ("/a/{x}", json!({ "x": "b/c" }), json!({}), "/f/a/b%2Fc"),
            (
                "/a/{x*}",
                json!({ "x": "b/c d" }),
                json!({}),
                "/f/a/b/c%20d",
            ),
            (
                "/a/{x}:cancel",
                json!({ "x": "7" }),
                json!({}),
                "/f/a/7:cancel",
            ),
            (
                "/a/{x*}:cancel",
                json!({ "x": "b/7" }),
                json!({}),
                "/f/a/b/7:cancel",
            ),
            ("/a:find", json!({}), json!({}), "/f/a:find"),
            ("/", json!({}), json!({}), "/f/"),
            (
                "/a",
                json!({}),
                json!({ "q": "x&y=z", "n": 5, "none": null, "yes": true }),
                "/f/a?n=5&q=x%26y%3Dz&yes=true",
            ),
            (
                "/a",
                json!({}),
                json!({ "port": ["FAR", "MAR"], "empty": [] }),
                "/f/a?port=FAR&port=MAR",
            ),
        ] {
            let made = made(&path, &query, template);
            assert_eq!(made.unwrap(), wanted, "{template} {path} {query}");
        }
    }

    #[test]
    fn a_variable_without_a_value_is_named() {
        for path in [json!({}), json!({ "x": "" }), json!({ "y": "1" })] {
            let wrong = made(&path, &json!({}), "/a/{x}:cancel").unwrap_err();
            assert!(
                format!("{wrong:?}").contains("“x” has no value"),
                "{wrong:?}"
            );
        }
    }
}
