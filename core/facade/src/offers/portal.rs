//! What is wrong with the portal's document.

use std::collections::HashSet;

use porch_contract::{Finding, Step, suggest};

use super::{Told, key};
use crate::Model;
use crate::documents::PortalDoc;
use crate::read::{Document, is_name};

/// Grounds of the portal, light and dark: the sheets and sunken parts on which texts stand.
const LIGHT: [[u8; 3]; 2] = [[0xff, 0xff, 0xff], [0xee, 0xf0, 0xed]];
const DARK: [[u8; 3]; 2] = [[0x10, 0x14, 0x15], [0x1c, 0x22, 0x24]];
/// What a text must have at least (WCAG 2.2 §1.4.3).
const CONTRAST: f64 = 4.5;

/// Relative luminance, from 0 to 1 (WCAG 2.2, “relative luminance”).
fn luminance(rgb: [u8; 3]) -> f64 {
    let linear = |channel: u8| {
        let c = f64::from(channel) / 255.0;
        match c <= 0.040_45 {
            true => c / 12.92,
            false => ((c + 0.055) / 1.055).powf(2.4),
        }
    };
    let [r, g, b] = rgb.map(linear);
    0.2126 * r + 0.7152 * g + 0.0722 * b
}

/// How strongly two colours differ, from 1 to 21.
fn contrast(a: f64, b: f64) -> f64 {
    (a.max(b) + 0.05) / (a.min(b) + 0.05)
}

fn rgb(text: &str) -> Option<[u8; 3]> {
    let hex = text
        .strip_prefix('#')
        .filter(|h| h.len() == 6 && h.is_ascii())?;
    let of = |i: usize| u8::from_str_radix(&hex[i..i + 2], 16).ok();
    Some([of(0)?, of(2)?, of(4)?])
}

/// What is wrong with the portal.
pub(crate) fn of_portal(model: &Model, portal: &Document<PortalDoc>) -> Vec<Finding> {
    let mut told = Told::new(portal);
    let doc = &portal.doc;
    if doc.title.trim().is_empty() {
        told.error(&[key("title")], "it needs a title".into(), "");
    }
    if let Some(logo) = &doc.logo {
        told.file(&model.files, &[key("logo")], logo);
        if !logo.to_ascii_lowercase().ends_with(".svg") {
            let help = "an SVG file is text, as every file of the draft is";
            told.error(&[key("logo")], "a logo is an SVG file".into(), help);
        }
    }
    if let Some(front) = &doc.front {
        told.file(&model.files, &[key("front")], front);
    }
    let mut names = HashSet::new();
    for (i, page) in doc.pages.iter().enumerate() {
        let path = |name: &str| [key("pages"), Step::Index(i), key(name)];
        told.file(&model.files, &path("text"), &page.text);
        if !is_name(&page.name) {
            let help = "names have lower-case letters, digits and hyphens, and begin with a letter";
            told.error(&path("name"), format!("“{}” is no name", page.name), help);
        } else if !names.insert(&page.name) {
            let message = format!("there is a page “{}” already", page.name);
            told.error(&path("name"), message, "each page has a name of its own");
        }
    }
    of_groups(model, &mut told);
    of_colours(&mut told);
    told.findings
}

fn of_groups(model: &Model, told: &mut Told<'_, PortalDoc>) {
    let documents = &model.documents;
    let of = told.of;
    for (i, group) in of.doc.groups.iter().flatten().enumerate() {
        told.who(&[key("groups"), Step::Index(i), key("see")], &group.see);
        for (j, facade) in group.facades.iter().enumerate() {
            let known = documents.facades.contains_key(facade);
            if known || told.is_full() || documents.may_hold("facade/1", Some(facade)) {
                continue;
            }
            let path = [
                key("groups"),
                Step::Index(i),
                key("facades"),
                Step::Index(j),
            ];
            let near = suggest(facade, documents.facades.keys().map(String::as_str));
            let help = near.map_or_else(String::new, |n| format!("did you mean “{n}”?"));
            told.error(&path, format!("there is no facade “{facade}”"), help);
        }
    }
}

fn of_colours(told: &mut Told<'_, PortalDoc>) {
    let colours = &told.of.doc.colours;
    let accents = [
        ("accent", &colours.accent, LIGHT, "darker"),
        ("accent-on-dark", &colours.accent_on_dark, DARK, "lighter"),
    ];
    for (name, colour, grounds, way) in accents {
        let Some(text) = colour else { continue };
        let path = [key("colours"), key(name)];
        let Some(own) = rgb(text) else {
            let help = "write it as in #0b6157";
            told.error(&path, format!("“{text}” is no colour"), help);
            continue;
        };
        let own = luminance(own);
        let least = grounds.map(|g| contrast(own, luminance(g)));
        let least = least.into_iter().fold(f64::INFINITY, f64::min);
        if least < CONTRAST {
            let message = format!("texts in {text} cannot be read well: contrast {least:.2}");
            let help = format!("at least {CONTRAST} is needed (WCAG 2.2 §1.4.3); take a {way} one");
            told.error(&path, message, help);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn contrast_is_that_of_the_standard() {
        let between = |a: &str, b: &str| {
            let of = |text: &str| luminance(rgb(text).unwrap());
            (contrast(of(a), of(b)) * 100.0).round() / 100.0
        };
        assert_eq!(between("#000000", "#ffffff"), 21.0);
        assert_eq!(between("#777777", "#ffffff"), 4.48);
        assert_eq!(between("#767676", "#ffffff"), 4.54);
        assert_eq!(between("#0b6157", "#0b6157"), 1.0);
        assert_eq!(rgb("#12345"), None);
        assert_eq!(rgb("#12345é"), None);
    }
}
