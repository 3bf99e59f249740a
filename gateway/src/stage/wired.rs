//! References to the backend that the facade has elsewhere: by the way its operations are wired.

use std::any::Any;

use porch_facade::kind::http::HttpCall;
use porch_facade::{CompiledBackend, CompiledFacade, CompiledOperation};

/// The path of the facade at which a path of a backend is read; behind the facade's base, and without a query.
pub(super) fn found(
    facade: &CompiledFacade,
    backend: &CompiledBackend,
    path: &str,
) -> Option<String> {
    let mut reading = facade.operations.iter().filter(|o| o.route.method == "GET");
    reading.find_map(|operation| read_at(facade, operation, backend, path))
}

fn read_at(
    facade: &CompiledFacade,
    operation: &CompiledOperation,
    backend: &CompiledBackend,
    path: &str,
) -> Option<String> {
    let [step] = operation.steps.as_slice() else {
        return None;
    };
    let is_called = |at: usize| {
        facade
            .backends
            .get(at)
            .is_some_and(|b| b.name == backend.name)
    };
    let (_, call) = step.ways().find(|(at, _)| is_called(*at))?;
    let call: &dyn Any = &**call;
    let call: &HttpCall = call.downcast_ref()?;
    let route = &operation.route;
    let values = call.values_of(path, &route.variables)?;
    let mut here = route.path.clone();
    for (name, value) in route.variables.iter().zip(values) {
        let several = format!("{{{name}*}}");
        let one = format!("{{{name}}}");
        let at = here.find(&several).map(|at| (at, several.len()));
        let (at, length) = at.or_else(|| here.find(&one).map(|at| (at, one.len())))?;
        here.replace_range(at..at + length, &value);
    }
    Some(here)
}
