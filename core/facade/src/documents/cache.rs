//! Replies that are kept and given again.

use schemars::JsonSchema;
use serde::Deserialize;

use crate::units::{Size, Span};

/// Replies to GET that are kept and given again (RFC 9111). What replies say of themselves comes first.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct CacheDoc {
    /// Whether replies are kept; they are unless given.
    pub keep: Option<bool>,
    /// How long a reply of success is fresh that does not say so itself.
    pub fresh: Option<Span>,
    /// The same for 404 and 410.
    pub absent: Option<Span>,
    /// How long a reply is given behind that while another one is asked for (RFC 5861 §3), where it does not say so itself.
    pub stale_while_revalidate: Option<Span>,
    /// How long behind that it is given where no other one can be had (RFC 5861 §4), where it does not say so itself.
    pub stale_if_error: Option<Span>,
    /// By what replies are kept apart besides what they say (`Vary`) and what the operation's expressions read: `consumer`,
    /// `key`, `address`, or names of request header fields.
    #[serde(default)]
    pub apart: Vec<String>,
    /// Names by which replies are let go together.
    #[serde(default)]
    pub tags: Vec<String>,
    /// Names of tags whose replies are let go when a request changed something: of operations that are not safe.
    #[serde(default)]
    pub clears: Vec<String>,
    /// Whether callers' `Cache-Control` is heeded (RFC 9111 §5.2.1); it is unless given.
    pub heeds_callers: Option<bool>,
    /// Greatest size of a reply's body that is kept; 1MiB unless given.
    pub most: Option<Size>,
}
