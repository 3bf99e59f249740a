//! Functions, actions and what a container offers of them.

use roxmltree::Node;

use super::{METADATA, Reader, children, is, is_true, named};
use crate::model::{Import, Model, Operation, Property};

impl<'a, 'i> Reader<'a, 'i> {
    pub(super) fn operation(&self, node: Node<'a, 'i>, full: &str) -> Operation {
        Operation {
            full: full.to_owned(),
            name: named(node),
            action: is(&node, "Action"),
            bound: is_true(node, "IsBound"),
            parameters: self.parameters(node, full),
            returns: children(node, "ReturnType")
                .next()
                .map(|r| self.property(r, "")),
            documentation: self.documentation(node, full),
            at: node.range().start,
        }
    }

    fn parameters(&self, node: Node<'a, 'i>, full: &str) -> Vec<Property> {
        let parameters = children(node, "Parameter");
        // What only comes back is no parameter of a call (MC-CSDL §2.1.22, `Mode`).
        let parameters = parameters.filter(|p| p.attribute("Mode") != Some("Out"));
        parameters
            .map(|p| self.property(p, &format!("{full}/{}", named(p))))
            .collect()
    }

    /// What a container offers; before v4 the operation stands there as a whole (MC-CSDL §2.1.21).
    pub(super) fn import(&self, node: Node<'a, 'i>, target: &str, model: &mut Model) {
        let of = node
            .attribute("Function")
            .or_else(|| node.attribute("Action"));
        let mut import = Import {
            name: named(node),
            of: of.map_or_else(|| target.to_owned(), |of| self.names.full(of)),
            method: None,
            at: node.range().start,
        };
        if of.is_none() {
            let method = node.attribute((METADATA, "HttpMethod")).unwrap_or("GET");
            let mut operation = self.operation(node, target);
            operation.action = method != "GET";
            if let Some(written) = node.attribute("ReturnType") {
                operation.returns = Some(Property {
                    of: self.typed(written),
                    nullable: true,
                    ..Property::default()
                });
            }
            import.method = Some(method.to_owned());
            model.operations.push(operation);
        }
        model.imports.push(import);
    }
}
