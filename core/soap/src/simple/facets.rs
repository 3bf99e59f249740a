//! Facets: checked on values, and as JSON Schema has them.

use super::*;

impl Simple {
    pub(super) fn check_facets(&self, text: &str) -> Result<(), ValueError> {
        if !self.enumeration.is_empty() && !self.enumeration.iter().any(|e| e == text) {
            let near = porch_contract::suggest(text, self.enumeration.iter().map(String::as_str));
            return Err(ValueError::NotListed {
                text: short(text).to_string(),
                listed: self.enumeration.join(", "),
                near: near.map(str::to_owned),
            });
        }
        if let Some((_, source)) = self
            .patterns
            .iter()
            .find(|(regex, _)| !regex.is_match(text))
        {
            return Err(ValueError::Pattern(
                short(text).to_string(),
                source.to_string(),
            ));
        }
        let length = match &self.base {
            _ if self.length == (None, None) => 0,
            Base::List(_) => text.split_ascii_whitespace().count(),
            Base::Base64 => from_base64(text).map_or(0, |o| o.len()),
            Base::Hex => text.len() / 2,
            _ => text.chars().count(),
        };
        match self.length {
            (Some(min), _) if length < min => return Err(ValueError::Short(length, min)),
            (_, Some(max)) if length > max => return Err(ValueError::Long(length, max)),
            _ => {}
        }
        if matches!(self.base, Base::Decimal | Base::Integer) {
            self.check_number(text)?;
        }
        Ok(())
    }

    pub(super) fn check_number(&self, text: &str) -> Result<(), ValueError> {
        use std::cmp::Ordering::{Equal, Greater, Less};
        let beyond = |how, bound: &String| ValueError::Bound(text.to_owned(), how, bound.clone());
        if let Some((min, exclusive)) = &self.min {
            match compare_decimals(text, min) {
                Less => return Err(beyond("is less than", min)),
                Equal if *exclusive => return Err(beyond("must be more than", min)),
                _ => {}
            }
        }
        if let Some((max, exclusive)) = &self.max {
            match compare_decimals(text, max) {
                Greater => return Err(beyond("is more than", max)),
                Equal if *exclusive => return Err(beyond("must be less than", max)),
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
        let text = || text.to_owned();
        match self.digits {
            (Some(total), _) if whole + fraction > total => {
                Err(ValueError::Digits(text(), total, ""))
            }
            (_, Some(max)) if fraction > max => {
                Err(ValueError::Digits(text(), max, " behind the point"))
            }
            _ => Ok(()),
        }
    }
}
