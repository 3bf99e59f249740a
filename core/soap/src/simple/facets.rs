//! Facets: checked on values, and as JSON Schema has them.

use super::*;

impl Simple {
    pub(super) fn check_facets(&self, text: &str) -> Result<(), String> {
        if !self.enumeration.is_empty() && !self.enumeration.iter().any(|e| e == text) {
            let near = porch_contract::suggest(text, self.enumeration.iter().map(String::as_str));
            let help = near.map_or_else(String::new, |n| format!("; did you mean “{n}”?"));
            return Err(format!(
                "“{}” is none of {}{help}",
                short(text),
                self.enumeration.join(", ")
            ));
        }
        if let Some((_, source)) = self
            .patterns
            .iter()
            .find(|(regex, _)| !regex.is_match(text))
        {
            return Err(format!(
                "“{}” does not fit the pattern {source}",
                short(text)
            ));
        }
        let length = match &self.base {
            Base::List(_) => text.split_ascii_whitespace().count(),
            Base::Base64 => from_base64(text).map_or(0, |o| o.len()),
            Base::Hex => text.len() / 2,
            _ => text.chars().count(),
        };
        if self.length.0.is_some_and(|min| length < min) {
            return Err(format!(
                "{length} characters, but at least {} are needed",
                self.length.0.unwrap_or(0)
            ));
        }
        if self.length.1.is_some_and(|max| length > max) {
            return Err(format!(
                "{length} characters, but at most {} are allowed",
                self.length.1.unwrap_or(0)
            ));
        }
        if matches!(self.base, Base::Decimal | Base::Integer) {
            self.check_number(text)?;
        }
        Ok(())
    }

    pub(super) fn check_number(&self, text: &str) -> Result<(), String> {
        use std::cmp::Ordering::{Equal, Greater, Less};
        if let Some((min, exclusive)) = &self.min {
            match compare_decimals(text, min) {
                Less => return Err(format!("{text} is less than {min}")),
                Equal if *exclusive => return Err(format!("{text} must be more than {min}")),
                _ => {}
            }
        }
        if let Some((max, exclusive)) = &self.max {
            match compare_decimals(text, max) {
                Greater => return Err(format!("{text} is more than {max}")),
                Equal if *exclusive => return Err(format!("{text} must be less than {max}")),
                _ => {}
            }
        }
        let (whole, fraction) = text
            .trim_start_matches(['-', '+'])
            .split_once('.')
            .unwrap_or((text.trim_start_matches(['-', '+']), ""));
        let (whole, fraction) = (
            whole.trim_start_matches('0').len(),
            fraction.trim_end_matches('0').len(),
        );
        if self.digits.0.is_some_and(|total| whole + fraction > total) {
            return Err(format!(
                "{text} has more than {} digits",
                self.digits.0.unwrap_or(0)
            ));
        }
        if self.digits.1.is_some_and(|max| fraction > max) {
            return Err(format!(
                "{text} has more than {} digits behind the point",
                self.digits.1.unwrap_or(0)
            ));
        }
        Ok(())
    }
}
