//! Members that stand twice in one object.
//!
//! RFC 8259 §4 leaves it open which of two members of the same name counts: one that is checked here and another that is read
//! elsewhere would let pass what the contract rules out.

use std::collections::HashSet;
use std::fmt;

use serde::de::{DeserializeSeed, Deserializer, Error, MapAccess, SeqAccess, Visitor};

/// What is wrong with a text of JSON in which some object has a member twice; nothing when each stands once, or when it is no
/// JSON at all.
pub fn doubled(json: &[u8]) -> Option<String> {
    let mut found = None;
    let mut reader = serde_json::Deserializer::from_slice(json);
    // Whatever else is wrong with it is told by whoever reads it.
    let _ = Once(&mut found).deserialize(&mut reader);
    found
}

struct Once<'f>(&'f mut Option<String>);

impl<'de> DeserializeSeed<'de> for Once<'_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Once<'_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("JSON")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<(), A::Error> {
        let mut names = HashSet::new();
        while let Some(name) = map.next_key::<String>()? {
            if names.contains(&name) {
                const SHOWN: usize = 60;
                let shown: String = name.chars().take(SHOWN).collect();
                *self.0 = Some(format!("has the member “{shown}” twice in one object"));
                return Err(A::Error::custom("doubled"));
            }
            names.insert(name);
            map.next_value_seed(Once(&mut *self.0))?;
        }
        Ok(())
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<(), A::Error> {
        while list.next_element_seed(Once(&mut *self.0))?.is_some() {}
        Ok(())
    }

    fn visit_unit<E>(self) -> Result<(), E> {
        Ok(())
    }

    fn visit_bool<E>(self, _: bool) -> Result<(), E> {
        Ok(())
    }

    fn visit_i64<E>(self, _: i64) -> Result<(), E> {
        Ok(())
    }

    fn visit_u64<E>(self, _: u64) -> Result<(), E> {
        Ok(())
    }

    fn visit_f64<E>(self, _: f64) -> Result<(), E> {
        Ok(())
    }

    fn visit_str<E>(self, _: &str) -> Result<(), E> {
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::doubled;

    #[test]
    fn only_members_of_the_same_object_are_doubled() {
        let told = |text: &str| doubled(text.as_bytes());
        for once in [
            r#"{"a":{"a":1},"b":[{"a":1.50},{"a":-2e400}]}"#,
            "[1,true,null,\"x\"]",
            "{",
            "",
        ] {
            assert_eq!(told(once), None, "{once}");
        }
        let twice = "has the member “name” twice in one object";
        for text in [
            r#"{"name":1,"name":2}"#,
            r#"[{"x":[{"name":1,"\u006eame":2}]}]"#,
        ] {
            assert_eq!(told(text).as_deref(), Some(twice), "{text}");
        }
        assert_eq!(told(&"[".repeat(100_000)), None);
    }
}
