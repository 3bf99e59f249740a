//! Whether what a reference names is there for sure.

use porch_contract::{SchemaView, suggest};
use porch_rules::expr::Step as PathStep;

use super::{Missing, unknown};

pub(super) fn absent(step: &PathStep, of: &str) -> (usize, String, String) {
    let name = &step.name;
    let plain = name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_');
    let (asked, with) = if plain {
        (format!("{of}.?{name}"), format!("{of}.?{name}.orValue(…)"))
    } else {
        (
            format!("{of}[?'{name}']"),
            format!("{of}[?'{name}'].orValue(…)"),
        )
    };
    (
        step.offset,
        format!("“{name}” may be absent"),
        format!("say what happens then: {asked} leaves it out, {with} puts something in its place"),
    )
}

/// The same for a member that is deeper.
fn absent_below(step: &PathStep, at: Vec<&str>) -> Missing {
    let (offset, message, _) = absent(step, "");
    let before: Vec<&str> = ["…"].into_iter().chain(at).collect();
    let help = format!(
        "say what happens then: {0}.?{1} leaves it out, {0}.?{1}.orValue(…) puts something in its place",
        before.join("."),
        step.name
    );
    (offset, message, help)
}

/// Which name was meant, or which there are.
fn near(name: &str, names: &[&str]) -> String {
    match suggest(name, names.iter().copied()) {
        Some(near) => format!("did you mean “{near}”?"),
        None if names.is_empty() => String::new(),
        None => format!("there are: {}", names.join(", ")),
    }
}

/// Follows a reference through a schema.
pub(super) fn walk(view: SchemaView<'_>, steps: &[PathStep], what: &str) -> Result<(), Missing> {
    follow(view, steps, what, false)
}

/// The same behind a step of which it was said what happens where it is absent.
pub(super) fn walk_behind(
    view: SchemaView<'_>,
    steps: &[PathStep],
    what: &str,
) -> Result<(), Missing> {
    follow(view, steps, what, true)
}

fn follow(
    mut view: SchemaView<'_>,
    steps: &[PathStep],
    what: &str,
    said: bool,
) -> Result<(), Missing> {
    for (i, step) in steps.iter().enumerate() {
        if view.is_open() {
            return Ok(());
        }
        let at: Vec<&str> = steps[..i].iter().map(|s| s.name.as_str()).collect();
        if step.index {
            // Of what is no list, as it is known, keys are items (CEL, “Macros”): there is nothing below them.
            // Nor is it said which item is meant, where each has a schema of its own.
            let each = view.value().get("prefixItems").is_some();
            match view.items().filter(|_| !each) {
                Some(items) => view = items,
                None => return Ok(()),
            }
            continue;
        }
        let place = if at.is_empty() {
            what.to_owned()
        } else {
            format!("{what} at {}", at.join("."))
        };
        if view.items().is_some() {
            let help = format!("take one with [0], or each with .map(x, x.{})", step.name);
            return Err((
                step.offset,
                format!("{place} is a list, and has no “{}”", step.name),
                help,
            ));
        }
        let types = view.types();
        if !types.is_empty() && !types.contains(&"object") {
            let message = format!("{place} is {}, and has no “{}”", view.kind(), step.name);
            return Err((step.offset, message, String::new()));
        }
        match view.property(&step.name) {
            Some(below) => {
                if !step.optional
                    && !view.requires(&step.name)
                    && !said
                    && !steps[..i].iter().any(|s| s.optional)
                {
                    return Err(absent_below(step, at));
                }
                view = below;
            }
            None if view.allows_other_members() && view.property_names().is_empty() => {
                return Ok(());
            }
            None => {
                let help = near(&step.name, &view.property_names());
                return Err((step.offset, format!("{place} has no “{}”", step.name), help));
            }
        }
    }
    Ok(())
}

/// Whether a step is one of those that there are.
pub(super) fn one_of(step: &PathStep, what: &str, known: &[&str]) -> Result<(), Missing> {
    match known.contains(&step.name.as_str()) {
        true => Ok(()),
        false => unknown(step, what, known),
    }
}
