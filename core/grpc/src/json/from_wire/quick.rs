//! The quick way: fields in the order of their numbers, each once, lists in one piece.

use super::*;

/// How a message is to be read on.
pub(super) enum Flow {
    Done,
    /// The quick way cannot go on.
    Again,
}

/// A field's first value, and where what follows it stands.
struct Run<'m, 'b> {
    of: &'m MessageType,
    field: &'m Field,
    first: Raw<'b>,
    number: u32,
    /// Its tag, as the message wrote it.
    tag: &'b [u8],
    depth: usize,
}

impl<'b> Run<'_, 'b> {
    /// The next value, where the same field goes on.
    #[inline]
    fn next(&self, wire: &'b [u8], pos: &mut usize) -> Result<Option<Raw<'b>>> {
        if !wire[*pos..].starts_with(self.tag) {
            return Ok(None);
        }
        *pos += self.tag.len();
        let raw = read_value(wire, pos, self.number, self.first.wire_type);
        raw.map(Some)
            .ok_or_else(|| WireError::CutOff(place(self.of, self.field)))
    }
}

impl FromWire<'_, '_> {
    pub(super) fn quick(
        &mut self,
        of: &MessageType,
        wire: &[u8],
        depth: usize,
        start: usize,
    ) -> Result<Flow> {
        let (mut pos, mut next, mut oneofs) = (0, 0usize, 0u64);
        while pos < wire.len() {
            let tag_at = pos;
            let cut = || WireError::CutOff(of.name.to_string());
            let (number, wire_type) = read_tag(wire, &mut pos).ok_or_else(cut)?;
            let Some(index) = of.index(number) else {
                read_value(wire, &mut pos, number, wire_type).ok_or_else(cut)?;
                continue;
            };
            if index < next {
                return Ok(Flow::Again);
            }
            let field = &of.fields[index];
            if let Some(choice) = field.oneof {
                let bit = 1u64.checked_shl(u32::from(choice)).unwrap_or(0);
                if bit == 0 || oneofs & bit != 0 {
                    return Ok(Flow::Again);
                }
                oneofs |= bit;
            }
            let raw = read_value(wire, &mut pos, number, wire_type)
                .ok_or_else(|| WireError::CutOff(place(of, field)))?;
            if self.options.defaults {
                self.defaults(&of.fields[next..index], start)?;
            }
            next = index + 1;
            if field.cardinality == Cardinality::Single {
                if !self.skipped(field, &raw) {
                    self.key(field, start);
                    self.value(of, field, field.kind, &raw, depth, false)?;
                }
                continue;
            }
            if self.is_no_element(field, &raw) {
                next = index;
                continue;
            }
            self.key(field, start);
            let run = Run {
                of,
                field,
                first: raw,
                number,
                tag: &wire[tag_at..tag_at + varint_len(wire, tag_at)],
                depth,
            };
            self.run(&run, wire, &mut pos)?;
        }
        if self.options.defaults {
            self.defaults(&of.fields[next..], start)?;
        }
        Ok(Flow::Done)
    }

    /// An empty packed record of a list.
    fn is_no_element(&self, field: &Field, raw: &Raw<'_>) -> bool {
        raw.wire_type == LENGTH
            && raw.bytes.is_empty()
            && field.cardinality == Cardinality::Repeated
            && field.kind.packable()
            && !self.options.defaults
    }

    /// A list or map in one piece.
    #[inline]
    fn run<'b>(&mut self, run: &Run<'_, 'b>, wire: &'b [u8], pos: &mut usize) -> Result<()> {
        let Run {
            of, field, depth, ..
        } = *run;
        if let Cardinality::Map { key } = field.cardinality {
            let Some(second) = run.next(wire, pos)? else {
                return self.map(of, field, key, &[run.first], depth);
            };
            let mut entries = vec![run.first, second];
            while let Some(raw) = run.next(wire, pos)? {
                entries.push(raw);
            }
            return self.map(of, field, key, &entries, depth);
        }
        self.out.push(b'[');
        let list = self.out.len();
        self.element(of, field, &run.first, depth, false, list)?;
        while let Some(raw) = run.next(wire, pos)? {
            self.element(of, field, &raw, depth, false, list)?;
        }
        self.out.push(b']');
        Ok(())
    }
}
