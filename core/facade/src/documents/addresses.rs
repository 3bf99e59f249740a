//! Where backends are called, as documents say it.

use schemars::JsonSchema;
use serde::Deserialize;

const ADDRESS: &str = r"^\s*https?://([A-Za-z0-9_.-]+|\[[0-9A-Fa-f:.]+\])(:[0-9]{1,5})?(/([A-Za-z0-9._~!$&'()*+,;=:@/-]|%[0-9A-Fa-f]{2})*)?\s*$";
const ONE_ADDRESS: &str = r"^\s*(facade:\s*[a-z0-9-]{1,64}|https?://([A-Za-z0-9_.-]+|\[[0-9A-Fa-f:.]+\])(:[0-9]{1,5})?(/([A-Za-z0-9._~!$&'()*+,;=:@/-]|%[0-9A-Fa-f]{2})*)?)\s*$";

/// One address or several; `facade:NAME` is another facade of the porch, which is carried out in the same process.
#[derive(Clone, Debug, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(
    untagged,
    expecting = "an address, or a list of them, is expected here"
)]
pub enum Addresses {
    /// One.
    One(#[schemars(regex(pattern = ONE_ADDRESS))] String),
    /// Several, which share the calls.
    Many(#[schemars(length(min = 1))] Vec<AddressDoc>),
}

/// One of several addresses.
#[derive(Clone, Debug, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(untagged)]
pub enum AddressDoc {
    /// As it is.
    Text(#[schemars(regex(pattern = ADDRESS))] String),
    /// With its weight.
    Weighted(WeightedDoc),
}

/// An address that gets more of the calls than others, or fewer.
#[derive(Clone, Debug, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct WeightedDoc {
    /// The address.
    #[schemars(regex(pattern = ADDRESS))]
    pub address: String,
    /// So many calls of as many as all weights are together; 1 unless given.
    #[schemars(range(min = 1, max = 100))]
    pub weight: u32,
}

impl AddressDoc {
    fn parts(&self) -> (&str, u32) {
        match self {
            AddressDoc::Text(text) => (text, 1),
            AddressDoc::Weighted(of) => (&of.address, of.weight),
        }
    }
}

impl Addresses {
    /// All of them.
    pub fn all(&self) -> Vec<&str> {
        self.weighted().into_iter().map(|(text, _)| text).collect()
    }

    /// All of them, with their weights.
    pub fn weighted(&self) -> Vec<(&str, u32)> {
        match self {
            Addresses::One(one) => vec![(one.as_str(), 1)],
            Addresses::Many(many) => many.iter().map(AddressDoc::parts).collect(),
        }
    }

    /// As one text, with blanks between them; a weight stands behind `#`, which no address has.
    pub fn joined(&self) -> String {
        let all = self.weighted().into_iter();
        let all = all.map(|(text, weight)| match weight {
            1 => text.to_owned(),
            weight => format!("{}#{weight}", text.trim()),
        });
        all.collect::<Vec<_>>().join(" ")
    }

    /// From one text, with blanks between them.
    pub fn from_joined(text: &str) -> Self {
        let all = text.split_whitespace().map(|one| {
            let weighted = one.rsplit_once('#');
            match weighted.and_then(|(address, weight)| Some((address, weight.parse().ok()?))) {
                Some((address, weight)) => AddressDoc::Weighted(WeightedDoc {
                    address: address.to_owned(),
                    weight,
                }),
                None => AddressDoc::Text(one.to_owned()),
            }
        });
        let all: Vec<AddressDoc> = all.collect();
        match all.as_slice() {
            [] | [AddressDoc::Text(_)] => Self::One(text.to_owned()),
            _ => Self::Many(all),
        }
    }

    /// The first.
    pub fn first(&self) -> Option<&str> {
        self.all().into_iter().next()
    }
}
