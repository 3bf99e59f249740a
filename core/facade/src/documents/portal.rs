//! The portal: what those who call are shown.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::NAME;
use super::offers::Audience;

const COLOUR: &str = "^#[0-9a-fA-F]{6}$";

/// What those who call are shown (`elm-porch: portal/1`).
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct PortalDoc {
    /// Always `portal/1`.
    #[serde(rename = "elm-porch")]
    #[schemars(extend("const" = "portal/1"))]
    pub elm_porch: String,
    /// Name; there is one portal.
    #[schemars(regex(pattern = NAME))]
    pub name: String,
    /// What it is called on every page.
    #[schemars(length(min = 1))]
    pub title: String,
    /// What it is for, in a sentence.
    #[serde(default)]
    pub summary: String,
    /// File of a picture (SVG) beside this one; the title alone unless given.
    pub logo: Option<String>,
    /// Colours of its own.
    #[serde(default)]
    pub colours: ColoursDoc,
    /// File of what stands on the first page, in Markdown (CommonMark), beside this one.
    pub front: Option<String>,
    /// Further pages.
    #[serde(default)]
    pub pages: Vec<PageDoc>,
    /// What is shown, in this order; every facade that is served, to everyone, unless given.
    pub groups: Option<Vec<GroupDoc>>,
    /// Audience may make an account; everybody unless given.
    #[serde(default)]
    pub sign_up: SignUp,
    /// Who may see example answers in place of calls; `everyone` unless given.
    #[serde(default)]
    pub examples: Audience,
}

/// Colours. Whether texts on them can be read is checked (WCAG 2.2 §1.4.3).
#[derive(Clone, Debug, Default, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ColoursDoc {
    /// Of buttons and links on light ground, as in `#0b6157`.
    #[schemars(regex(pattern = COLOUR))]
    pub accent: Option<String>,
    /// The same on dark ground.
    #[schemars(regex(pattern = COLOUR))]
    pub accent_on_dark: Option<String>,
}

/// A page in Markdown.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct PageDoc {
    /// Name, which is in its address.
    #[schemars(regex(pattern = NAME))]
    pub name: String,
    /// What it is called.
    #[schemars(length(min = 1))]
    pub title: String,
    /// File of its text, beside this document.
    pub text: String,
}

/// Facades that are shown together.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct GroupDoc {
    /// What they have in common.
    #[schemars(length(min = 1))]
    pub title: String,
    /// The same in a sentence.
    #[serde(default)]
    pub summary: String,
    /// The facades, in this order.
    pub facades: Vec<String>,
    /// Audience sees them; `everyone` unless given.
    #[serde(default)]
    pub see: Audience,
}

/// Audience may make an account.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum SignUp {
    /// Everybody, whose e-mail address is confirmed.
    #[default]
    Everyone,
    /// Whoever a member of a team has invited.
    Invited,
}
