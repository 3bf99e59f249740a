//! What OpenAPI 3.1 has of objects and their members (section 4.8), and what is read of each.

use Kind::{Any, Apart, Flag, Map, One, Reference, Schema, Text, Texts};

/// What a member is.
#[derive(Clone, Copy)]
pub(crate) enum Kind {
    /// A text; numbers are taken as theirs.
    Text,
    /// True or false.
    Flag,
    /// A list of texts.
    Texts,
    /// Whatever it is.
    Any,
    /// Read apart from the others, or not published.
    Apart,
    /// A schema.
    Schema,
    /// An object of a shape.
    One(&'static Shape),
    /// Such objects by name.
    Map(&'static Shape),
    /// Such objects by name, each of which may be a reference.
    Reference(&'static Shape),
}

/// An object of the standard.
pub(crate) struct Shape {
    /// What it is called.
    pub(crate) what: &'static str,
    /// Its members.
    pub(crate) members: &'static [(&'static str, Kind)],
    /// Those it must have; without them it is left out.
    pub(crate) required: &'static [&'static str],
    /// Where such things stand below `components`.
    pub(crate) components: &'static str,
}

const fn shape(
    what: &'static str,
    members: &'static [(&'static str, Kind)],
    required: &'static [&'static str],
    components: &'static str,
) -> Shape {
    Shape {
        what,
        members,
        required,
        components,
    }
}

/// Section 4.8.3.
pub(crate) static CONTACT: Shape = shape(
    "contact",
    &[("name", Text), ("url", Text), ("email", Text)],
    &[],
    "",
);
/// Section 4.8.4.
pub(crate) static LICENSE: Shape = shape(
    "license",
    &[("name", Text), ("identifier", Text), ("url", Text)],
    &["name"],
    "",
);
/// Section 4.8.2.
pub(crate) static INFO: Shape = shape(
    "info",
    &[
        ("title", Text),
        ("summary", Text),
        ("description", Text),
        ("termsOfService", Text),
        ("contact", One(&CONTACT)),
        ("license", One(&LICENSE)),
        ("version", Text),
    ],
    &[],
    "",
);
/// Section 4.8.11.
pub(crate) static DOCS: Shape = shape(
    "externalDocs",
    &[("description", Text), ("url", Text)],
    &["url"],
    "",
);
/// Section 4.8.22.
pub(crate) static TAG: Shape = shape(
    "tag",
    &[
        ("name", Text),
        ("description", Text),
        ("externalDocs", One(&DOCS)),
    ],
    &["name"],
    "",
);
/// Section 4.8.19.
pub(crate) static EXAMPLE: Shape = shape(
    "example",
    &[
        ("summary", Text),
        ("description", Text),
        ("value", Any),
        ("externalValue", Text),
    ],
    &[],
    "examples",
);
/// Section 4.8.15; what tells how a part is written.
pub(crate) static ENCODING: Shape = shape(
    "encoding",
    &[
        ("contentType", Text),
        ("headers", Reference(&HEADER)),
        ("style", Text),
        ("explode", Flag),
        ("allowReserved", Flag),
    ],
    &[],
    "",
);
/// Section 4.8.14.
pub(crate) static MEDIA: Shape = shape(
    "media type",
    &[
        ("schema", Schema),
        ("example", Any),
        ("examples", Reference(&EXAMPLE)),
        ("encoding", Map(&ENCODING)),
    ],
    &[],
    "",
);
/// Section 4.8.21.
pub(crate) static HEADER: Shape = shape(
    "header",
    &[
        ("description", Text),
        ("required", Flag),
        ("deprecated", Flag),
        ("style", Text),
        ("explode", Flag),
        ("schema", Schema),
        ("content", Map(&MEDIA)),
        ("example", Any),
        ("examples", Reference(&EXAMPLE)),
    ],
    &[],
    "headers",
);
/// Section 4.8.12.
pub(crate) static PARAMETER: Shape = shape(
    "parameter",
    &[
        ("name", Text),
        ("in", Text),
        ("description", Text),
        ("required", Flag),
        ("deprecated", Flag),
        ("allowEmptyValue", Flag),
        ("style", Text),
        ("explode", Flag),
        ("allowReserved", Flag),
        ("schema", Schema),
        ("content", Map(&MEDIA)),
        ("example", Any),
        ("examples", Reference(&EXAMPLE)),
    ],
    &["name", "in"],
    "parameters",
);
/// Section 4.8.13.
pub(crate) static BODY: Shape = shape(
    "requestBody",
    &[
        ("description", Text),
        ("content", Map(&MEDIA)),
        ("required", Flag),
    ],
    &["content"],
    "requestBodies",
);
/// Section 4.8.17. Links name operations of the backend, and are not published.
pub(crate) static RESPONSE: Shape = shape(
    "response",
    &[
        ("description", Text),
        ("headers", Reference(&HEADER)),
        ("content", Map(&MEDIA)),
        ("links", Apart),
    ],
    &[],
    "responses",
);
/// Section 4.8.10; parameters, bodies and responses are read one by one.
pub(crate) static OPERATION: Shape = shape(
    "operation",
    &[
        ("operationId", Text),
        ("tags", Texts),
        ("summary", Text),
        ("description", Text),
        ("externalDocs", One(&DOCS)),
        ("deprecated", Flag),
        ("parameters", Apart),
        ("requestBody", Apart),
        ("responses", Apart),
        ("callbacks", Apart),
        ("security", Apart),
        ("servers", Apart),
    ],
    &[],
    "",
);
/// Section 4.8.25.
pub(crate) static DISCRIMINATOR: Shape = shape(
    "discriminator",
    &[("propertyName", Text), ("mapping", Any)],
    &["propertyName"],
    "",
);
/// Section 4.8.26.
pub(crate) static XML: Shape = shape(
    "xml",
    &[
        ("name", Text),
        ("namespace", Text),
        ("prefix", Text),
        ("attribute", Flag),
        ("wrapped", Flag),
    ],
    &[],
    "",
);
