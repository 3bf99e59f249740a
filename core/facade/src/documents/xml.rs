//! Options of the generic mapping between XML and JSON.

use schemars::JsonSchema;
use serde::Deserialize;

/// Options of the generic mapping between XML and JSON.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct XmlDoc {
    /// What tells attributes and texts from elements.
    #[serde(default)]
    pub marks: MarksDoc,
    /// Names of elements that are always arrays.
    #[serde(default)]
    pub repeated: Vec<String>,
    /// Whether texts that look like a number or a boolean become one.
    #[serde(default)]
    pub typed: bool,
    /// Name of the outermost element, which JSON does not show.
    pub document: Option<String>,
}

/// What tells attributes and texts from elements, in the JSON of XML.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct MarksDoc {
    /// What stands before the name of an attribute; `@` unless given.
    pub attribute: Option<String>,
    /// The member for text beside attributes; `#text` unless given.
    pub text: Option<String>,
    /// The member for text and elements that must keep their order; `#content` unless given.
    pub content: Option<String>,
}

impl XmlDoc {
    /// The mapping with these options.
    pub fn mapping(&self) -> porch_soap::generic::Mapping {
        let default = porch_soap::generic::Mapping::default();
        porch_soap::generic::Mapping {
            attribute: self.marks.attribute.clone().unwrap_or(default.attribute),
            text: self.marks.text.clone().unwrap_or(default.text),
            content: self.marks.content.clone().unwrap_or(default.content),
            repeated: self.repeated.clone(),
            typed: self.typed,
            root: self.document.clone(),
        }
    }
}
