//! Definitions as they are handed over: one file, a folder, a ZIP.

use std::collections::{BTreeMap, BTreeSet};
use std::io::{Cursor, Read};

use porch_contract::{Finding, Position};
use porch_soap::localise::references;
use porch_soap::wsdl::find_name;

use crate::Files;

/// A definition's files and which of them to begin with.
#[derive(Clone, Debug, Default)]
pub struct Source {
    /// The files.
    pub files: Files,
    /// The main one.
    pub main: String,
    /// Where the server is that told it, when one did.
    pub address: String,
    /// Certificates in PEM that the server's own was checked with, where somebody gave them.
    pub trust: String,
    /// The name that it was read with; empty where nobody asked for one.
    pub read_as: String,
    /// Whether it was made here, of samples: nobody wrote what might be odd about it.
    pub made: bool,
    /// Credentials that sample calls carried; the definition says nothing of them.
    pub credentials: Vec<porch_sample::Known>,
}

/// A ZIP may hold at most so many files and, unpacked, bytes.
const MAX_FILES: usize = 10_000;
const MAX_BYTES: u64 = 128 << 20;

/// Whether bytes are a ZIP (its local file header, APPNOTE §4.3.7).
pub fn is_zip(bytes: &[u8]) -> bool {
    bytes.starts_with(b"PK\x03\x04")
}

/// The files in a ZIP, those that could be definitions or documents.
///
/// # Errors
/// What is wrong with it.
pub fn unzip(name: &str, bytes: &[u8]) -> Result<BTreeMap<String, Vec<u8>>, Box<Finding>> {
    let fail = |message: String| Box::new(Finding::error(name, Position::default(), message));
    let mut archive = zip::ZipArchive::new(Cursor::new(bytes))
        .map_err(|e| fail(format!("this ZIP cannot be read: {e}")))?;
    if archive.len() > MAX_FILES {
        return Err(fail(format!(
            "this ZIP holds {} files, more than the {MAX_FILES} that are read",
            archive.len()
        )));
    }
    let (mut files, mut total) = (BTreeMap::new(), 0u64);
    for i in 0..archive.len() {
        let entry = archive
            .by_index(i)
            .map_err(|e| fail(format!("a file of this ZIP cannot be read: {e}")))?;
        // A name that leads out of the archive is none of its files.
        let Some(path) = entry.enclosed_name().filter(|_| entry.is_file()) else {
            continue;
        };
        let path = path.to_string_lossy().replace('\\', "/");
        if path
            .split('/')
            .any(|part| part.starts_with('.') || part == "__MACOSX")
        {
            continue;
        }
        let mut content = Vec::new();
        let mut limited = entry.take(MAX_BYTES - total + 1);
        limited
            .read_to_end(&mut content)
            .map_err(|e| fail(format!("{path} cannot be unpacked: {e}")))?;
        total += content.len() as u64;
        if total > MAX_BYTES {
            return Err(fail(format!(
                "this ZIP unpacks to more than {MAX_BYTES} bytes"
            )));
        }
        files.insert(path, content);
    }
    Ok(files)
}

/// The text of a file in whatever encoding it is; `None` when it is no text that could matter.
fn text_of(bytes: &[u8]) -> Option<String> {
    if porch_grpc::read::is_descriptor_set(bytes) {
        return Some(porch_grpc::read::as_text(bytes));
    }
    porch_soap::decode_document(bytes, None)
        .ok()
        .filter(|t| !t.contains('\0'))
}

impl Source {
    /// The main file's text without a byte order mark and white space before it.
    pub fn main_text(&self) -> &str {
        let text = self.files.get(&self.main).map_or("", String::as_str);
        text.trim_start_matches('\u{feff}').trim_start()
    }

    /// A definition from what was handed over under a name: one file or a ZIP; `main` picks the file to begin with.
    ///
    /// # Errors
    /// When it cannot be read, or when it is not clear where to begin.
    pub fn from_bytes(name: &str, bytes: &[u8], main: Option<&str>) -> Result<Self, Box<Finding>> {
        if is_zip(bytes) {
            return Self::from_files(name, unzip(name, bytes)?, main);
        }
        match text_of(bytes) {
            Some(text) => Ok(Self {
                files: Files::from([(name.to_owned(), text)]),
                main: name.to_owned(),
                ..Self::default()
            }),
            None => Err(Box::new(Finding::error(
                name,
                Position::default(),
                "this is neither text nor a ZIP",
            ))),
        }
    }

    /// A definition from several files; `main` picks the one to begin with.
    ///
    /// # Errors
    /// When it is not clear where to begin.
    pub fn from_files(
        name: &str,
        files: BTreeMap<String, Vec<u8>>,
        main: Option<&str>,
    ) -> Result<Self, Box<Finding>> {
        let files: Files = files
            .into_iter()
            .filter_map(|(n, bytes)| Some((n, text_of(&bytes)?)))
            .collect();
        let fail = |message: String, help: String| {
            Box::new(Finding::error(name, Position::default(), message).help(help))
        };
        if let Some(main) = main {
            return match find_name(files.keys().map(String::as_str), "", main) {
                Some(found) => Ok(Self {
                    main: found.to_owned(),
                    files: files.clone(),
                    ..Self::default()
                }),
                None => {
                    let near = porch_contract::suggest(main, files.keys().map(String::as_str));
                    Err(fail(
                        format!("there is no file “{main}”"),
                        near.map_or_else(String::new, |n| format!("did you mean “{n}”?")),
                    ))
                }
            };
        }
        let mut mains = beginnings(&files);
        if mains.is_empty()
            && let Some((one, _)) = files
                .iter()
                .find(|(_, t)| porch_grpc::read::is_definition(t))
        {
            // A gRPC definition is all of its files together.
            return Ok(Self {
                main: one.clone(),
                files,
                ..Self::default()
            });
        }
        if mains.is_empty() {
            mains = descriptions(&files);
        }
        match mains.as_slice() {
            [one] => Ok(Self {
                main: one.clone(),
                files: files.clone(),
                ..Self::default()
            }),
            [] => Err(fail(
                "no definition was found in it".into(),
                "a WSDL 1.1, .proto files, a descriptor set or an OpenAPI document is needed"
                    .into(),
            )),
            several => Err(fail(
                format!("it holds {} definitions", several.len()),
                format!("say which to begin with: {}", several.join(", ")),
            )),
        }
    }
}

/// Whether a text is a WSDL, by its first element and not by its name.
fn is_wsdl(text: &str) -> bool {
    text.trim_start().starts_with('<')
        && text.contains("http://schemas.xmlsoap.org/wsdl/")
        && text.contains("definitions")
}

/// The OpenAPI documents that a definition may begin with: of several, those that no other refers to.
fn descriptions(files: &Files) -> Vec<String> {
    let found = files
        .iter()
        .filter(|(_, text)| porch_describe::is_description(text));
    let all: Vec<String> = found.map(|(n, _)| n.clone()).collect();
    if all.len() <= 1 {
        return all;
    }
    let referred: BTreeSet<String> = all
        .iter()
        .flat_map(|from| {
            let others = porch_describe::files_beside(from, &files[from]);
            others.into_iter().filter(move |to| to != from)
        })
        .collect();
    let roots: Vec<String> = all
        .iter()
        .filter(|m| !referred.contains(*m))
        .cloned()
        .collect();
    if roots.is_empty() { all } else { roots }
}

/// The WSDL documents that a definition may begin with: of several, those that no other imports and that have a service.
fn beginnings(files: &Files) -> Vec<String> {
    let all: Vec<String> = files
        .iter()
        .filter(|(_, text)| is_wsdl(text))
        .map(|(n, _)| n.clone())
        .collect();
    if all.len() <= 1 {
        return all;
    }
    let names = || files.keys().map(String::as_str);
    let imported: BTreeSet<&str> = all
        .iter()
        .flat_map(|from| {
            references(&files[from])
                .into_iter()
                .filter_map(move |(_, location)| find_name(names(), from, &location))
                .filter(move |to| to != from)
        })
        .collect();
    let those = |keep: &dyn Fn(&String) -> bool, among: Vec<String>| {
        let kept: Vec<String> = among.iter().filter(|m| keep(m)).cloned().collect();
        if kept.is_empty() { among } else { kept }
    };
    let roots = those(&|m| !imported.contains(m.as_str()), all);
    those(&|m| files[m].contains("service"), roots)
}
