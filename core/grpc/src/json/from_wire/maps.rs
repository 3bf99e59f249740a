//! Maps from the wire: entries in any order, the last of a key counts.

use super::*;

impl FromWire<'_, '_> {
    pub(super) fn map(
        &mut self,
        of: &MessageType,
        field: &Field,
        key: Kind,
        entries: &[Raw<'_>],
        depth: usize,
    ) -> Result<()> {
        self.out.push(b'{');
        let list = self.out.len();
        if let [one] = entries {
            let (k, v) = entry_of(of, field, key, one)?;
            self.entry(of, field, key, (k.as_ref(), v.as_ref()), depth, list)?;
        } else {
            let parts: Vec<_> = entries
                .iter()
                .map(|entry| entry_of(of, field, key, entry))
                .collect::<Result<_>>()?;
            // The last entry of a key counts.
            let identity = |raw: &Option<Raw<'_>>| {
                raw.map_or((0, Vec::new()), |r| (r.number, r.bytes.to_vec()))
            };
            let mut seen = HashSet::new();
            let keep: Vec<bool> = parts
                .iter()
                .rev()
                .map(|(k, _)| seen.insert(identity(k)))
                .collect();
            for ((k, v), _) in parts
                .iter()
                .zip(keep.iter().rev())
                .filter(|(_, keep)| **keep)
            {
                self.entry(of, field, key, (k.as_ref(), v.as_ref()), depth, list)?;
            }
        }
        self.out.push(b'}');
        Ok(())
    }

    fn entry(
        &mut self,
        of: &MessageType,
        field: &Field,
        key: Kind,
        (k, v): (Option<&Raw<'_>>, Option<&Raw<'_>>),
        depth: usize,
        list: usize,
    ) -> Result<()> {
        if v.is_some_and(|raw| self.skipped(field, raw)) {
            return Ok(());
        }
        if self.out.len() > list {
            self.out.push(b',');
        }
        self.map_key(of, field, key, k)?;
        self.out.push(b':');
        match v {
            Some(raw) => self.value(of, field, field.kind, raw, depth, true),
            None => self.zero(field.kind),
        }
    }

    fn map_key(
        &mut self,
        of: &MessageType,
        field: &Field,
        key: Kind,
        raw: Option<&Raw<'_>>,
    ) -> Result<()> {
        if key == Kind::String {
            return match raw {
                Some(raw) => self.value(of, field, key, raw, 0, true),
                None => self.zero(key),
            };
        }
        // Numbers and booleans are texts as names of members.
        let at = self.out.len();
        match raw {
            Some(raw) => self.value(of, field, key, raw, 0, true)?,
            None => self.zero(key)?,
        }
        if self.out.get(at) != Some(&b'"') {
            self.out.insert(at, b'"');
            self.out.push(b'"');
        }
        Ok(())
    }
}

type Entry<'b> = (Option<Raw<'b>>, Option<Raw<'b>>);

/// Key and value of a map's entry.
fn entry_of<'b>(of: &MessageType, field: &Field, key: Kind, entry: &Raw<'b>) -> Result<Entry<'b>> {
    if entry.wire_type != LENGTH {
        return Err(WireError::OtherType(
            place(of, field),
            wire_name(entry.wire_type),
        ));
    }
    let (mut pos, mut k, mut v) = (0, None, None);
    while pos < entry.bytes.len() {
        let cut = || WireError::CutOff(place(of, field));
        let (number, wire_type) = read_tag(entry.bytes, &mut pos).ok_or_else(cut)?;
        let raw = read_value(entry.bytes, &mut pos, number, wire_type).ok_or_else(cut)?;
        match number {
            1 if wire_type == key.wire_type() => k = Some(raw),
            2 if wire_type == field.kind.wire_type() => v = Some(raw),
            1 | 2 => return Err(WireError::OtherType(place(of, field), wire_name(wire_type))),
            _ => {}
        }
    }
    Ok((k, v))
}
