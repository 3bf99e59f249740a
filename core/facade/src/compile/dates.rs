//! From when callers should not begin to use an operation (RFC 9745), and from when it is not there any more (RFC 8594).

use porch_rules::expr::Template;

use super::FacadeCompiler;
use super::levels::Level;
use crate::compiled::{Changes, FieldAction, FieldChange};
use crate::units::Day;

impl<'a> FacadeCompiler<'a> {
    /// The dates of an operation, as fields of its replies: the narrowest document that says one holds.
    pub(super) fn dates(&mut self, into: &mut Changes) {
        let levels = self.levels.clone();
        let said = |of: fn(&Level<'a>) -> Option<Day>| {
            let found = levels.iter().rev().find_map(|l| Some((l, of(l)?)));
            found.map(|(level, day)| (level.clone(), day))
        };
        let (deprecation, sunset) = (said(|l| l.deprecation), said(|l| l.sunset));
        if let (Some((_, from)), Some((level, until))) = (&deprecation, &sunset)
            && until < from
        {
            // RFC 9745 §4.
            let message = format!("the sunset is before the deprecation, {from}");
            self.within(level, |c| {
                let at = level.at(&["sunset"]);
                c.wrong(at, message, "nothing ends before it is told of");
            });
        }
        if let Some((level, day)) = deprecation {
            // A date of structured fields (RFC 9745 §2.1, RFC 9651 §3.3.7).
            let value = format!("@{}", day.seconds());
            into.reply.push(self.date(&level, "deprecation", value));
        }
        if let Some((level, day)) = sunset {
            into.reply.push(self.date(&level, "sunset", day.http()));
        }
    }

    fn date(&mut self, level: &Level<'a>, name: &str, value: String) -> FieldChange {
        let line = level.site.node.locate(&level.below(&[name]), true).line;
        let rule = format!("{name} {value}");
        let place = self.within(level, |c| c.change_place(rule, &level.reach, line));
        FieldChange {
            action: FieldAction::Set(Template::Literal(value.into())),
            name: name.to_owned(),
            when: None,
            of_success: false,
            place,
        }
    }
}
