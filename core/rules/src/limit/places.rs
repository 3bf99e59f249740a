//! Places among what may be under way at the same time, where several nodes have some of them.
//!
//! A node asks for as many as it has under way and waiting; it is told how many it may have, until a moment: what a node has that is
//! not heard of any more is free from then on. Where not all that is wanted is there, whoever has waited longest goes first: the
//! others give what comes free with them.

/// Nodes at one limit's subject, at most.
const MOST_NODES: usize = 1000;
/// Bytes of a node's name, at most.
const MOST_NAME: usize = 64;

/// What one node has.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Part {
    node: Box<str>,
    /// So many it may have under way.
    has: u64,
    /// Since when it wants more than it has; 0: it does not. Milliseconds.
    since: u64,
    /// Until when it has them.
    until: u64,
}

/// What all nodes have.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Places(Vec<Part>);

/// What a node asks for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PlacesAsked {
    /// How many there are in all.
    pub most: u64,
    /// How many it has under way.
    pub held: u64,
    /// How many it has under way or waiting.
    pub wanted: u64,
    /// Whether any of its own that waited got a place since it last asked.
    pub served: bool,
    /// For how many milliseconds it may have them without being heard of.
    pub lasts: u64,
}

/// What it is told.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct PlacesTold {
    /// How many it may have under way.
    pub may: u64,
    /// Whether what comes free with it is somebody else's.
    pub yields: bool,
}

impl Places {
    /// As it was written; nothing, where it is none.
    pub fn read(bytes: &[u8]) -> Self {
        let text = std::str::from_utf8(bytes).unwrap_or_default();
        let part = |line: &str| {
            let mut parts = line.split(' ');
            let node = parts
                .next()
                .filter(|n| !n.is_empty() && n.len() <= MOST_NAME)?;
            let mut number = || parts.next()?.parse().ok();
            Some(Part {
                node: node.into(),
                has: number()?,
                since: number()?,
                until: number()?,
            })
        };
        Self(text.lines().take(MOST_NODES).filter_map(part).collect())
    }

    /// As it is written.
    pub fn write(&self) -> Vec<u8> {
        let line = |p: &Part| format!("{} {} {} {}\n", p.node, p.has, p.since, p.until);
        let text: String = self.0.iter().map(line).collect();
        text.into_bytes()
    }

    /// The moment from which on nothing of it matters.
    pub fn over_at(&self) -> u64 {
        self.0.iter().map(|p| p.until).max().unwrap_or(0)
    }

    /// A node asks, at a moment.
    pub fn ask(&mut self, node: &str, asked: PlacesAsked, now: u64) -> PlacesTold {
        self.0.retain(|p| p.until > now);
        let at = self.0.iter().position(|p| *p.node == *node);
        let own = at.map(|at| self.0.swap_remove(at));
        let others = self
            .0
            .iter()
            .fold(0_u64, |sum, p| sum.saturating_add(p.has));
        let (had, since) = own.map_or((0, 0), |p| (p.has, p.since));
        // Who waits has waited for so long; who was given something begins anew.
        let waits = match since == 0 || asked.served {
            true => now,
            false => since,
        };
        let yields = self
            .0
            .iter()
            .any(|p| p.since > 0 && (p.since, &*p.node) < (waits, node));
        let free = asked.most.saturating_sub(others);
        let may = match yields {
            true => asked.wanted.min(asked.held).min(free),
            false => asked.wanted.min(free),
        };
        // What is under way is under way, also where fewer may be than before.
        let has = asked.held.max(may);
        if asked.wanted > 0 && (at.is_some() || self.0.len() < MOST_NODES) {
            self.0.push(Part {
                node: node.into(),
                has,
                since: match asked.wanted > has {
                    false => 0,
                    true if has > had => now,
                    true => waits,
                },
                until: now.saturating_add(asked.lasts),
            });
        } else if at.is_none() && asked.wanted > 0 {
            return PlacesTold::default();
        }
        PlacesTold { may, yields }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn asked(held: u64, wanted: u64) -> PlacesAsked {
        PlacesAsked {
            most: 4,
            held,
            wanted,
            served: false,
            lasts: 1000,
        }
    }

    #[test]
    fn what_one_has_no_other_gets_until_it_is_given_back_or_not_heard_of() {
        let mut places = Places::default();
        assert_eq!(places.ask("a", asked(0, 3), 0).may, 3);
        assert_eq!(places.ask("b", asked(0, 3), 0).may, 1);
        assert_eq!(Places::read(&places.write()), places);
        // It gives two back.
        assert_eq!(places.ask("a", asked(1, 1), 10).may, 1);
        assert_eq!(places.ask("b", asked(1, 3), 10).may, 3);
        // One that is heard of keeps what it has; the other's are free.
        assert_eq!(places.ask("b", asked(3, 4), 900).may, 3);
        assert_eq!(places.ask("b", asked(3, 4), 1010).may, 4);
        assert_eq!(places.ask("b", asked(0, 0), 1020), PlacesTold::default());
        assert_eq!(places, Places::default());
    }

    #[test]
    fn who_waits_longest_is_given_what_comes_free() {
        let mut places = Places::default();
        assert_eq!(places.ask("a", asked(0, 9), 1).may, 4);
        assert_eq!(places.ask("b", asked(0, 2), 5).may, 0);
        // As long as nothing comes free with the one, both wait, and it waits longer.
        let told = places.ask("a", asked(4, 9), 6);
        assert_eq!((told.may, told.yields), (4, false));
        // One of its own was served: what comes free now is the other's.
        let served = |held: u64| PlacesAsked {
            served: true,
            ..asked(held, 9)
        };
        let told = places.ask("a", served(4), 7);
        assert_eq!((told.may, told.yields), (4, true));
        let told = places.ask("a", asked(3, 9), 8);
        assert_eq!((told.may, told.yields), (3, true));
        assert_eq!(places.ask("b", asked(0, 2), 9).may, 1);
        // The other wants one more, and has waited less long now.
        let told = places.ask("a", asked(2, 9), 10);
        assert_eq!((told.may, told.yields), (3, false));
    }

    /// Nodes that come, ask, serve, and are killed, at random: the same numbers at every run.
    #[test]
    fn never_more_than_there_are_and_nobody_is_left_out() {
        let mut seed = 7_u64;
        let mut drawn = |below: u64| {
            seed ^= seed << 13;
            seed ^= seed >> 7;
            seed ^= seed << 17;
            seed % below
        };
        let mut places = Places::default();
        // What each has under way and may have, and when it was killed.
        let mut nodes: Vec<(u64, u64, u64)> = vec![(0, 0, 0); 9];
        let mut served = [0_u64; 9];
        for now in 1..200_000_u64 {
            let n = drawn(9) as usize;
            let (mut held, may, dead) = nodes[n];
            if dead > now {
                continue;
            }
            if drawn(5_000) == 0 {
                // What it had under way ended with it.
                nodes[n] = (0, 0, now + drawn(3_000));
                continue;
            }
            // Some end; what comes free goes to its own who wait, as many as it may have.
            held -= drawn(held + 1);
            let own = may.saturating_sub(held);
            held += own;
            let asked = PlacesAsked {
                served: own > 0,
                ..asked(held, held + 3)
            };
            let told = places.ask(&format!("n{n}"), asked, now);
            let more = told.may.saturating_sub(held);
            held += more;
            served[n] += own + more;
            let keeps = if told.yields { 0 } else { held };
            nodes[n] = (held, keeps, 0);
            let all: u64 = nodes.iter().map(|(held, ..)| held).sum();
            assert!(all <= 4, "{all} at {now}: {nodes:?}");
        }
        let (least, most) = (served.iter().min().unwrap(), served.iter().max().unwrap());
        assert!(*least * 3 > *most, "{served:?}");
    }

    #[test]
    fn what_is_no_such_count_is_none() {
        for text in ["", "a", "a 1 2", "a x 1 1", "\u{0}", " 1 2 3"] {
            assert_eq!(Places::read(text.as_bytes()), Places::default(), "{text}");
        }
        assert_eq!(Places::read(&[0xff, 0xfe]), Places::default());
    }
}
