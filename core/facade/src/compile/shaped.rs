//! Parameters that are objects, lists in a path, JSON or cookies (OpenAPI 3.1 §4.8.12.2).

use porch_contract::{
    Contract, Operation as ContractOperation, ParamType, Parameter, Place, SchemaView, Style,
};

use super::FacadeCompiler;
use crate::compiled::{ShapedKind, ShapedPlace, ShapedPlan};

impl FacadeCompiler<'_> {
    /// The parameters of an operation that are looked at besides; none where nothing is held against the contract.
    pub(super) fn shaped(&self, op: &ContractOperation, checks: bool) -> Box<[ShapedPlan]> {
        let cookies = op.cookies.iter().map(|p| (p, ShapedPlace::Cookie));
        let others = op.parameters.iter().filter_map(|p| {
            let place = match p.place {
                Place::Query => ShapedPlace::Query,
                Place::Header => ShapedPlace::Header,
                Place::Path => ShapedPlace::Path(op.path.variables().position(|v| v == p.name)?),
            };
            Some((p, place))
        });
        let all = others.chain(cookies).filter(|_| checks);
        all.filter_map(|(p, place)| self.shaped_one(p, place))
            .collect()
    }

    fn shaped_one(&self, p: &Parameter, place: ShapedPlace) -> Option<ShapedPlan> {
        let shape = p.shape.filter(|s| s.style != Style::Opaque)?;
        let view = self.from.contract.view(&p.schema);
        Some(ShapedPlan {
            name: p.name.as_str().into(),
            place,
            shape,
            kind: kind(self.from.contract, view),
            required: p.required && !matches!(place, ShapedPlace::Path(_)),
            schema: self.kept.get(&p.schema).cloned(),
        })
    }
}

/// What is read of a value by its schema.
fn kind(contract: &Contract, view: SchemaView<'_>) -> ShapedKind {
    let types = view.types();
    if types.contains(&"array") {
        let of = view.items().map_or(ParamType::Text, |i| i.param_type());
        return ShapedKind::List(of);
    }
    if !types.contains(&"object") {
        return ShapedKind::One(view.param_type());
    }
    const MOST: usize = 500;
    let members = view.members().into_iter().take(MOST).map(|(name, of)| {
        let list = of.types().contains(&"array");
        let one = of.items().filter(|_| list).unwrap_or(of).param_type();
        (name.to_owned(), one, list)
    });
    let others = view.value().get("additionalProperties");
    let others = others.map_or(ParamType::Text, |of| contract.view(of).param_type());
    ShapedKind::Object(members.collect(), others)
}
