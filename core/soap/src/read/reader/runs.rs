//! Runs of values: members that follow each other as the schema has them, written as the one before them was.
//!
//! Of most answers this is the greater part. Where the text does not stand there letter by letter, nothing is taken, and it is
//! read token by token.

use super::ends::member_value;
use super::*;

/// How a child without attributes was written: what its prefix stands for, which its siblings share.
#[derive(Clone, Copy)]
pub(super) struct Written {
    prefix: [u8; Written::LONGEST],
    length: u8,
    namespace: u16,
}

impl Written {
    const LONGEST: usize = 13;

    fn of(prefix: &str, namespace: u16) -> Option<Self> {
        let mut written = Self {
            prefix: [0; Self::LONGEST],
            length: u8::try_from(prefix.len()).ok()?,
            namespace,
        };
        let place = written.prefix.get_mut(..prefix.len())?;
        place.copy_from_slice(prefix.as_bytes());
        Some(written)
    }

    fn prefix(&self) -> &[u8] {
        &self.prefix[..usize::from(self.length)]
    }
}

/// Of the members that may follow, so many are tried.
const TRIED: usize = 8;

impl AnswerReader {
    /// Remembers how the child just begun was written. Its own attributes may have declared its prefix, for itself alone.
    pub(super) fn learn(&mut self, prefix: &str, member: &Member) {
        if member.kind != MemberKind::Element || self.scanner.has_attributes() {
            return;
        }
        if let Some(Frame::Object(frame)) = self.frames.last_mut()
            && !frame.bare
        {
            frame.written = Written::of(prefix, member.namespace);
        }
    }

    /// How the children of the element just begun may be written: as its siblings, where it declares nothing itself.
    pub(super) fn inherited(&self) -> Option<Written> {
        match self.frames.last() {
            _ if self.scanner.has_attributes() => None,
            Some(Frame::Object(frame)) => frame.written,
            Some(Frame::List { written, .. }) => *written,
            _ => None,
        }
    }

    /// Reads values as long as they follow each other as expected.
    #[inline]
    pub(super) fn run(
        &mut self,
        plan: &AnswerPlan,
        text: &str,
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        let Some(Frame::Object(ObjectFrame {
            type_id,
            written: Some(written),
            ..
        })) = self.frames.last()
        else {
            return Ok(());
        };
        let (type_id, written) = (*type_id, *written);
        match plan.plan.get(type_id) {
            TypePlan::Object(object) if object.text.is_none() && self.attachments.is_empty() => {
                while self.value_ahead(plan, object, &written, text, out)? {}
                Ok(())
            }
            _ => Ok(()),
        }
    }

    /// Reads one value; whether there was one.
    #[inline]
    fn value_ahead(
        &mut self,
        plan: &AnswerPlan,
        object: &ObjectPlan,
        written: &Written,
        text: &str,
        out: &mut Vec<u8>,
    ) -> Result<bool, AnswerError> {
        let Some(ahead) = self.scanner.ahead(text, written.prefix()) else {
            return Ok(false);
        };
        let Some(Frame::Object(frame)) = self.frames.last() else {
            return Ok(false);
        };
        let (next, seen) = (frame.next, &self.seen[frame.seen_from..]);
        let following = object.members.iter().enumerate().skip(next).take(TRIED);
        let found = following.into_iter().find(|(_, member)| {
            member.kind == MemberKind::Element
                && member.namespace == written.namespace
                && ahead.is(&member.local)
        });
        let Some((index, member)) = found else {
            return Ok(false);
        };
        let TypePlan::Simple(simple) = plan.plan.get(member.type_id) else {
            return Ok(false);
        };
        if member.items.is_some() || (seen[index] && !member.many) {
            return Ok(false);
        }
        let Some(value) = self.scanner.take_leaf(text, &ahead, &member.local) else {
            return Ok(false);
        };
        if self.begin_member(object, index, &member.local, out)? {
            member_value(simple, member, value, out)?;
            self.gathered(out);
        }
        Ok(true)
    }
}
