//! Where calls go in place of a backend.

use std::sync::Arc;

use porch_rules::expr::Template;

use super::{Call, CompiledBackend, CompiledFacade, CompiledOperation, RulePlace, Step};

/// A backend that may be called, and what is called of it.
#[derive(Debug)]
pub struct Way {
    /// Index of the backend in the facade.
    pub backend: usize,
    /// What is called.
    pub call: Arc<dyn Call>,
}

/// Where a call goes in place of its backend.
#[derive(Debug, Default)]
pub struct Routing {
    /// The first of these that fits.
    pub choices: Vec<Choice>,
    /// What is called where no answer comes, in this order.
    pub spares: Vec<Spare>,
    /// What gets copies.
    pub shadow: Option<Shadow>,
}

/// A backend that gets copies of calls, whose answers are only compared.
#[derive(Debug)]
pub struct Shadow {
    /// What is called.
    pub way: Way,
    /// Calls whose number is below this one, of [`Share::ALL`].
    pub below: u32,
    /// What is compared besides the status, as it is written and compiled.
    pub compare: Vec<(String, Template)>,
    /// Where that is said.
    pub place: Arc<RulePlace>,
}

/// One backend that a call may go to.
#[derive(Debug)]
pub struct Choice {
    /// What is called; `None`: the call stays where it is.
    pub way: Option<Way>,
    /// When.
    pub when: Option<Template>,
    /// For which callers.
    pub share: Option<Share>,
    /// Where that is said.
    pub place: Arc<RulePlace>,
}

/// A backend that is called where another one gives no answer.
#[derive(Debug)]
pub struct Spare {
    /// What is called.
    pub way: Way,
    /// Where that is said.
    pub place: Arc<RulePlace>,
}

/// A part of the callers: always the same ones, and of a greater share the same ones and more.
#[derive(Debug)]
pub struct Share {
    /// Those whose number is below this one, of [`Share::ALL`]; among callers whom no choice before took.
    pub below: u32,
    /// What callers' numbers hang on besides: the two backends, and nothing that another release changes.
    pub salt: [u8; 32],
    /// By what callers are told apart; by consumer, else by address, where nothing is said.
    pub by: Option<Template>,
}

impl Share {
    /// All callers.
    pub const ALL: u32 = 1_000_000;

    /// Whether a caller is one of them.
    pub fn takes(&self, caller: &[u8]) -> bool {
        let digest = blake3::keyed_hash(&self.salt, caller);
        let first = digest.as_bytes().first_chunk::<8>();
        let number = first.map_or(0, |first| u64::from_le_bytes(*first));
        number % u64::from(Self::ALL) < u64::from(self.below)
    }
}

impl Step {
    /// The backends that it may call, and what of them, its own first.
    pub fn ways(&self) -> impl Iterator<Item = (usize, &Arc<dyn Call>)> {
        let routing = self.routing.as_deref();
        let chosen = routing.into_iter().flat_map(|r| &r.choices);
        let spares = routing.into_iter().flat_map(|r| &r.spares);
        let shadow = routing.and_then(|r| r.shadow.as_ref()).map(|s| &s.way);
        let others = chosen
            .filter_map(|c| c.way.as_ref())
            .chain(spares.map(|s| &s.way));
        let others = others.chain(shadow);
        let own = (self.backend, &self.call);
        std::iter::once(own).chain(others.map(|w| (w.backend, &w.call)))
    }
}

impl CompiledOperation {
    /// Whether it takes back what one of its calls did, where something behind it fails.
    pub fn takes_back(&self) -> bool {
        let mut plans = self.steps.iter().filter_map(|s| s.plan.as_ref());
        plans.any(|plan| plan.undo.is_some())
    }

    /// The backends that it may call, as often as they are named.
    pub fn backends<'f>(
        &'f self,
        facade: &'f CompiledFacade,
    ) -> impl Iterator<Item = &'f CompiledBackend> {
        let all = self.steps.iter().flat_map(Step::ways);
        all.filter_map(|(backend, _)| facade.backends.get(backend).map(|b| &**b))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn share(below: u32, salt: u8) -> Share {
        Share {
            below,
            salt: [salt; 32],
            by: None,
        }
    }

    #[test]
    fn a_greater_share_keeps_its_callers_and_takes_more() {
        let callers: Vec<String> = (0..20_000).map(|i| format!("consumer-{i}")).collect();
        let takes = |share: &Share| -> Vec<bool> {
            callers.iter().map(|c| share.takes(c.as_bytes())).collect()
        };
        let (ten, twenty) = (takes(&share(100_000, 1)), takes(&share(200_000, 1)));
        let number = |all: &[bool]| all.iter().filter(|t| **t).count();
        assert!((1_800..2_200).contains(&number(&ten)), "{}", number(&ten));
        assert!(
            (3_700..4_300).contains(&number(&twenty)),
            "{}",
            number(&twenty)
        );
        assert!(ten.iter().zip(&twenty).all(|(ten, twenty)| *twenty || !ten));
        // Another pair of backends has other callers.
        let other = takes(&share(100_000, 2));
        let both = ten.iter().zip(&other).filter(|(a, b)| **a && **b).count();
        assert!((100..320).contains(&both), "{both}");
        assert_eq!(number(&takes(&share(0, 1))), 0);
        assert_eq!(number(&takes(&share(Share::ALL, 1))), callers.len());
    }
}
