//! The OpenAPI document of the console API: what the routes say of themselves, and what is the same for all of them.

use std::collections::BTreeSet;

use porch_store::Role;
use serde_json::{Map, Value, json};

/// Methods and paths of a document, as in `get /api/draft`.
pub(super) fn routes_of(document: &Value) -> BTreeSet<String> {
    let mut routes = BTreeSet::new();
    for (path, item) in document["paths"].as_object().into_iter().flatten() {
        for method in item.as_object().into_iter().flat_map(Map::keys) {
            routes.insert(format!("{method} {path}"));
        }
    }
    routes
}

/// Adds what is the same everywhere: how one signs in, what a role is refused, what a body that cannot be read gets, and the
/// shape of every refusal. `needs` tells the role that a route asks for.
pub(super) fn complete(mut document: Value, needs: &dyn Fn(&str) -> Option<Role>) -> Value {
    let components = &mut document["components"];
    components["schemas"]["Problem"] = problem();
    components["responses"] = common_responses();
    components["securitySchemes"] = json!({
        "token": { "type": "http", "scheme": "bearer", "description": "The token that `POST /api/session` gives, or one that `POST /api/tokens` made for a machine (RFC 6750, section 2.1)." },
        "session": { "type": "apiKey", "in": "cookie", "name": "porch-session", "description": "The cookie that the console gets when somebody signs in; behind a proxy that speaks TLS its name begins with `__Host-`." },
    });
    document["security"] = json!([{ "token": [] }, { "session": [] }]);
    // Relative to where the document is (OpenAPI 3.1, section 4.8.5).
    document["servers"] =
        json!([{ "url": "/", "description": "The service that has this document." }]);
    for (path, item) in document["paths"].as_object_mut().into_iter().flatten() {
        for (method, operation) in item.as_object_mut().into_iter().flatten() {
            one(operation, needs(&format!("{method} {path}")));
        }
    }
    document
}

fn one(operation: &mut Value, role: Option<Role>) {
    let summary = operation["summary"].as_str().unwrap_or_default().to_owned();
    if operation.get("description").is_none() {
        let who = match role {
            None => "Everybody may call it.".to_owned(),
            Some(role) => format!("Whoever has the role `{}` may call it.", role.name()),
        };
        operation["description"] = json!(format!("{summary} {who}"));
    }
    let takes = |name: &str| operation.get(name).is_some();
    let (body, parameters) = (takes("requestBody"), takes("parameters"));
    let mut add = Vec::new();
    if body || parameters {
        add.push("400");
    }
    if body {
        add.extend(["413", "415"]);
    }
    match role {
        None => operation["security"] = json!([]),
        Some(Role::Viewer) => add.push("401"),
        Some(_) => add.extend(["401", "403"]),
    }
    let Some(responses) = operation["responses"].as_object_mut() else {
        return;
    };
    for status in add {
        responses.entry(status).or_insert_with(|| json!({}));
    }
    for (status, response) in responses.iter_mut() {
        described(status, response, &summary);
    }
    let parameters = operation
        .get_mut("parameters")
        .and_then(Value::as_array_mut);
    for parameter in parameters.into_iter().flatten() {
        let name = parameter["name"].as_str().unwrap_or_default().to_owned();
        let described = parameter["description"]
            .as_str()
            .is_some_and(|d| !d.is_empty());
        if !described {
            parameter["description"] = json!(parameter_text(&name));
        }
    }
}

fn described(status: &str, response: &mut Value, summary: &str) {
    if !matches!(status.as_bytes(), [b'4' | b'5', ..]) {
        response["description"] = json!(match status {
            "204" => "It is done.",
            _ => summary,
        });
    } else if COMMON.iter().any(|(known, _, _)| *known == status) {
        *response = json!({ "$ref": format!("#/components/responses/{}", named(status)) });
    } else {
        response["description"] = json!("What is wrong, and what to do.");
        response["content"] = problem_content();
    }
}

fn parameter_text(name: &str) -> &'static str {
    match name {
        "facade" => "Name of the facade.",
        "operation" | "id" => "Its id; of an exchange the beginning is enough.",
        "consumer" => "Name of the consumer.",
        "prefix" => "What the key is known by.",
        "number" => "Number of the release.",
        "name" => "Name of the account.",
        _ => "See the operation.",
    }
}

/// Status, name and description of the refusals that many routes have.
const COMMON: [(&str, &str, &str); 8] = [
    (
        "400",
        "Unreadable",
        "The body or a parameter cannot be read.",
    ),
    (
        "401",
        "NotSignedIn",
        "Nobody is signed in, or the session is over.",
    ),
    ("403", "NotAllowed", "The account's role does not allow it."),
    ("404", "Missing", "There is nothing of that name."),
    (
        "409",
        "Conflict",
        "It is taken, or somebody changed it in the meantime.",
    ),
    ("413", "TooLarge", "The body is too large."),
    ("415", "NotJson", "The body is not said to be JSON."),
    (
        "422",
        "Unfit",
        "What was sent can be read and has errors; nothing was changed. `findings` lists them.",
    ),
];

fn named(status: &str) -> &'static str {
    let found = COMMON.iter().find(|(known, _, _)| *known == status);
    found.map_or("Unreadable", |(_, name, _)| name)
}

fn common_responses() -> Value {
    let one = |(_, name, description): &(&str, &str, &str)| {
        let response = json!({ "description": description, "content": problem_content() });
        ((*name).to_owned(), response)
    };
    Value::Object(COMMON.iter().map(one).collect())
}

fn problem_content() -> Value {
    json!({ "application/problem+json": { "schema": { "$ref": "#/components/schemas/Problem" } } })
}

/// A problem document (RFC 9457, section 3).
fn problem() -> Value {
    json!({
        "type": "object",
        "description": "What went wrong (RFC 9457).",
        "required": ["title", "status"],
        "properties": {
            "title": { "type": "string", "description": "What happened." },
            "status": { "type": "integer", "description": "The status code." },
            "detail": { "type": "string", "description": "What to do about it." },
            "findings": { "type": "array", "items": { "$ref": "#/components/schemas/Finding" } },
        },
    })
}
