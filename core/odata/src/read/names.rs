//! Qualified names and aliases of namespaces (OData CSDL XML 4.01 §5.1.2).

use std::collections::HashMap;

use roxmltree::Node;

/// The namespaces of a document.
pub(crate) struct Names<'a> {
    /// By alias.
    spaces: HashMap<&'a str, &'a str>,
    /// Aliases by namespace.
    aliases: HashMap<&'a str, &'a str>,
}

impl<'a> Names<'a> {
    pub(super) fn of(schemas: &[Node<'a, '_>]) -> Self {
        let (mut spaces, mut aliases) = (HashMap::new(), HashMap::new());
        for schema in schemas {
            let (Some(space), Some(alias)) =
                (schema.attribute("Namespace"), schema.attribute("Alias"))
            else {
                continue;
            };
            spaces.insert(alias, space);
            aliases.insert(space, alias);
        }
        Self { spaces, aliases }
    }

    /// A qualified name with its namespace instead of an alias.
    pub(super) fn full(&self, written: &str) -> String {
        let written = written.trim();
        match written.rsplit_once('.') {
            Some((alias, name)) if self.spaces.contains_key(alias) => {
                format!("{}.{name}", self.spaces[alias])
            }
            _ => written.to_owned(),
        }
    }

    /// A target of annotations as it may be written: with the namespace, and with its alias.
    pub(super) fn spellings(&self, target: &str) -> Vec<String> {
        if target.is_empty() {
            return Vec::new();
        }
        let (of, rest) = target.split_at(target.find(['/', '(']).unwrap_or(target.len()));
        let mut all = vec![target.to_owned()];
        if let Some((space, name)) = of.rsplit_once('.')
            && let Some(alias) = self.aliases.get(space)
        {
            all.push(format!("{alias}.{name}{rest}"));
        }
        all
    }
}
