//! Reading a definition of whatever kind it is.

use porch_contract::Finding;

use crate::derive::{Derived, Wanted};
use crate::documents::Names;
use crate::kind::standard;
use crate::look::Look;
use crate::source::Source;

/// Whether a source is a definition of some kind.
pub fn is_definition(source: &Source) -> bool {
    // Pages and answers are XML too, or nearly: a definition says what it is by its namespace.
    const NAMESPACES: [&str; 3] = [
        "http://schemas.xmlsoap.org/wsdl/",
        "http://www.w3.org/ns/wsdl",
        "http://www.w3.org/2001/XMLSchema",
    ];
    let text = source.main_text();
    let may = !text.starts_with('<')
        || porch_odata::is_metadata(text)
        || NAMESPACES.iter().any(|n| text.contains(n));
    may && standard::kinds().of(source).is_ok()
}

/// Reads a definition and shows what it offers.
///
/// # Errors
/// When it is none that can be read.
pub fn look(source: &Source) -> Result<Look, Box<Finding>> {
    look_with(source, &|_, _| ())
}

/// The same, telling how far it is: files read, and files in all.
///
/// # Errors
/// When it is none that can be read.
pub fn look_with(
    source: &Source,
    progress: porch_grpc::read::Progress<'_>,
) -> Result<Look, Box<Finding>> {
    standard::kinds().of(source)?.look(source, progress)
}

/// Derives backend, facade and contract from a definition.
///
/// Names are in lower camel case. `name` names backend and facade; `address` stands in place of the one in the definition; `only` picks operations by
/// their name in the definition (none given: all).
///
/// # Errors
/// When the definition cannot be read, or none of its operations can be called.
pub fn derive(
    source: &Source,
    name: &str,
    address: Option<&str>,
    only: &[String],
) -> Result<Derived, Box<Finding>> {
    derive_as(
        source,
        &Wanted {
            name,
            address,
            only,
            names: Names::Camel,
            ..Wanted::default()
        },
    )
}

/// The same, with more to say of what is wanted.
///
/// # Errors
/// As [`derive`].
pub fn derive_as(source: &Source, wanted: &Wanted<'_>) -> Result<Derived, Box<Finding>> {
    named(wanted.name)?;
    let mut derived = standard::kinds().of(source)?.derive(source, wanted)?;
    if !source.trust.is_empty() {
        trusted(&mut derived, &source.trust);
    }
    if !source.read_as.is_empty() {
        read_with(&mut derived, &source.read_as);
    }
    Ok(derived)
}

/// Names are parts of the names of files: what is none is told before anything is written.
fn named(name: &str) -> Result<(), Box<Finding>> {
    let letters = |b: u8| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-';
    let begins = name.starts_with(|c: char| c.is_ascii_lowercase());
    if begins && name.len() <= 64 && name.bytes().all(letters) {
        return Ok(());
    }
    let message = format!("“{name}” is no name of a backend or facade");
    let help =
        "names begin with a small letter and have small letters, digits and hyphens, 64 at most";
    Err(Box::new(
        Finding::error("", Default::default(), message).help(help),
    ))
}

/// Whoever needed a credential to read a definition may take it for one that calls carry as well: they do not.
fn read_with(derived: &mut Derived, who: &str) {
    let mut files = derived.files.iter();
    let shows_nothing =
        files.any(|(name, text)| name.ends_with(".backend.yaml") && !text.contains("\n  calling:"));
    if shows_nothing {
        let message = format!("the definition was read as {who}; calls carry no credential");
        let help =
            "where calls need one, name it below `credentials: calling:` of the backend's document";
        let severity = porch_contract::Severity::Note;
        let note = Finding::new(severity, "", Default::default(), message);
        derived.findings.push(note.help(help));
    }
}

/// The file of what was trusted.
pub(crate) const TRUST: &str = "trust.pem";

/// What was trusted when a definition was read is trusted when its backend is called by TLS.
fn trusted(derived: &mut Derived, pem: &str) {
    let mut needed = false;
    let backends = derived.files.iter_mut();
    for (_, text) in backends.filter(|(name, _)| name.ends_with(".backend.yaml")) {
        let Ok(node) = porch_contract::Node::parse(text) else {
            continue;
        };
        let mut document = node.to_value();
        let address = document["address"].as_str().unwrap_or_default();
        if address.starts_with("https://") {
            document["trust"] = TRUST.into();
            *text = crate::yaml::to_yaml(&document);
            needed = true;
        }
    }
    if needed {
        derived.files.insert(TRUST.to_owned(), pem.to_owned());
    }
}

/// Begins a facade without a backend: a contract that follows from exchanges, whose operations answer with its examples.
///
/// # Errors
/// When the name is none, or the exchanges have no operation.
pub fn begin(
    name: &str,
    title: &str,
    exchanges: &[porch_sample::Exchange],
) -> Result<Derived, Box<Finding>> {
    let learned = porch_sample::learn(exchanges, Some(title));
    let main = "exchanges".to_owned();
    let source = Source {
        files: crate::Files::from([(main.clone(), learned.text)]),
        main,
        made: true,
        ..Source::default()
    };
    let wanted = Wanted {
        name,
        calls_nothing: true,
        ..Wanted::default()
    };
    let mut derived = derive_as(&source, &wanted)?;
    let told = learned.told.into_iter();
    let notes =
        told.map(|t| Finding::new(porch_contract::Severity::Note, "", Default::default(), t));
    derived.findings.extend(notes);
    Ok(derived)
}
