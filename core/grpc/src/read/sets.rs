//! Descriptor sets, as bytes and as the texts that documents keep.

use std::collections::{BTreeSet, HashMap};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use prost::Message;

use crate::descriptor::{File, RawSet};

/// The bytes of a descriptor set that is a text in base64.
pub fn descriptor_set(text: &str) -> Option<Vec<u8>> {
    let compact: String = text.split_whitespace().collect();
    if compact.len() < 16
        || !compact
            .bytes()
            .all(|b| b.is_ascii_alphanumeric() || b"+/=-_".contains(&b))
    {
        return None;
    }
    let bytes = STANDARD
        .decode(compact.replace('-', "+").replace('_', "/"))
        .ok()?;
    is_descriptor_set(&bytes).then_some(bytes)
}

/// Whether bytes are a `FileDescriptorSet`: each of its files has a name.
pub fn is_descriptor_set(bytes: &[u8]) -> bool {
    bytes.first() == Some(&0x0a)
        && RawSet::decode(bytes).is_ok_and(|set| {
            !set.file.is_empty()
                && set
                    .file
                    .iter()
                    .all(|f| File::decode(f.as_slice()).is_ok_and(|f| !f.name.is_empty()))
        })
}

/// A descriptor set as the text that documents keep: base64 in lines (RFC 2045 §6.8).
pub fn as_text(set: &[u8]) -> String {
    let text = STANDARD.encode(set);
    text.as_bytes()
        .chunks(76)
        .map(|line| format!("{}\n", String::from_utf8_lossy(line)))
        .collect()
}

/// A descriptor set, as a text, with only some of its files and what those import.
pub fn only(text: &str, wanted: &[&str]) -> String {
    let Some(set) = descriptor_set(text) else {
        return text.to_owned();
    };
    let Ok(raw) = RawSet::decode(set.as_slice()) else {
        return text.to_owned();
    };
    let parsed: Vec<File> = raw
        .file
        .iter()
        .filter_map(|f| File::decode(f.as_slice()).ok())
        .collect();
    let by_name: HashMap<&str, &File> = parsed.iter().map(|f| (f.name.as_str(), f)).collect();
    let mut kept: BTreeSet<&str> = BTreeSet::new();
    let mut open: Vec<&str> = wanted.to_vec();
    while let Some(name) = open.pop() {
        if let Some(file) = by_name.get(name)
            && kept.insert(&file.name)
        {
            open.extend(file.dependency.iter().map(String::as_str));
        }
    }
    let file = raw
        .file
        .iter()
        .zip(&parsed)
        .filter(|(_, f)| kept.contains(f.name.as_str()))
        .map(|(bytes, _)| bytes.clone());
    as_text(
        &RawSet {
            file: file.collect(),
        }
        .encode_to_vec(),
    )
}

/// The files of a set's bytes; those that cannot be read are left out.
pub(super) fn decoded(set: &[u8]) -> Vec<File> {
    let Ok(raw) = RawSet::decode(set) else {
        return Vec::new();
    };
    raw.file
        .iter()
        .filter_map(|f| File::decode(f.as_slice()).ok())
        .collect()
}

/// The files of a text that is a descriptor set; none of any other text.
pub(super) fn files_of(text: &str) -> Vec<File> {
    descriptor_set(text).map_or_else(Vec::new, |set| decoded(&set))
}
