//! A hundred nodes that share one place of counts: what they let pass in true time, call by call.

use std::collections::BTreeMap;

use super::*;

/// Numbers that look drawn, the same for each seed (xorshift64*).
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: u64) -> u64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        (self.0.wrapping_mul(0x2545_f491_4f6c_dd1d) >> 33) % sides.max(1)
    }
}

/// One of the nodes.
struct Node {
    leases: Leases,
    /// When its process began: what was asked before has no answer.
    life: u32,
    /// How far its wall's clock is from the true one, in milliseconds.
    off: i64,
    /// Calls in a thousand milliseconds.
    rate: u64,
}

/// What is under way between nodes and the shared place.
enum Letter {
    Ask {
        node: usize,
        life: u32,
        want: Want,
        rule: Limit,
        sent: u64,
    },
    Answer {
        node: usize,
        life: u32,
        granted: Granted,
        rule: Limit,
        sent: u64,
    },
    Back(Returned),
}

/// What happens, and what came of it.
struct World {
    rule: Limit,
    dice: Dice,
    nodes: Vec<Node>,
    account: Account,
    /// Written down and read again when the shared place starts anew.
    post: BTreeMap<u64, Vec<Letter>>,
    /// Moments at which calls passed, with the period that they were counted in.
    passed: Vec<(u64, u64)>,
    /// A place that is asked for each call, and answers at once: what could have passed.
    ideal: States,
    could: u64,
    offered: u64,
    asked: u64,
}

const KEY: (u64, u64) = (1, 1);
/// Far from the beginning of time.
const BEGIN: u64 = 1_000_000;

impl World {
    fn new(rule: Limit, nodes: usize, seed: u64) -> Self {
        let mut dice = Dice(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1);
        let nodes = (0..nodes).map(|_| Node {
            leases: Leases::default(),
            life: 0,
            off: dice.roll(8000) as i64 - 4000,
            rate: 1 + dice.roll(40),
        });
        let nodes = nodes.collect();
        Self {
            account: Account::new(rule.form),
            rule,
            dice,
            nodes,
            post: BTreeMap::new(),
            passed: Vec::new(),
            ideal: States::new(),
            could: 0,
            offered: 0,
            asked: 0,
        }
    }

    /// The limit as a node has it: periods are those of its own clock.
    fn rule_at(&self, node: usize, now: u64) -> Limit {
        match self.rule.form {
            Form::Fixed { .. } => {
                let own = now.saturating_add_signed(self.nodes[node].off);
                let length = self.rule.window_ms();
                Limit {
                    form: Form::Fixed {
                        from: own / length * length,
                    },
                    ..self.rule
                }
            }
            _ => self.rule,
        }
    }

    fn send(&mut self, now: u64, letter: Letter) {
        let at = now + 1 + self.dice.roll(12);
        self.post.entry(at).or_default().push(letter);
    }

    fn decided(&mut self, decision: &Decision, rule: Limit, now: u64) {
        let period = match rule.form {
            Form::Fixed { .. } => decision.at,
            _ => 0,
        };
        if decision.allowed {
            self.passed.push((now, period));
        }
    }

    fn call(&mut self, node: usize, now: u64) {
        let (rule, nodes) = (self.rule_at(node, now), self.nodes.len() as u64);
        self.offered += 1;
        self.could += u64::from(self.ideal.ask(1, 1, rule, 1, now).allowed);
        match self.nodes[node].leases.take(KEY, rule, 1, nodes, now) {
            Taken::Decided(decision) if decision.allowed && self.dice.roll(50) == 0 => {
                // Refused further on, it used up nothing.
                let returned = Returned {
                    key: KEY,
                    rule,
                    weight: 1,
                    at: decision.at,
                };
                self.nodes[node].leases.give_back(returned, now);
            }
            Taken::Decided(decision) => self.decided(&decision, rule, now),
            Taken::Ask(want) => {
                self.asked += 1;
                let life = self.nodes[node].life;
                self.send(
                    now,
                    Letter::Ask {
                        node,
                        life,
                        want,
                        rule,
                        sent: now,
                    },
                );
            }
        }
    }

    fn read(&mut self, letter: Letter, now: u64) {
        match letter {
            Letter::Ask {
                node,
                life,
                want,
                rule,
                sent,
            } => {
                let granted = self.account.take(rule, want, now);
                self.send(
                    now,
                    Letter::Answer {
                        node,
                        life,
                        granted,
                        rule,
                        sent,
                    },
                );
            }
            Letter::Answer {
                node,
                life,
                granted,
                rule,
                sent,
            } => {
                if self.nodes[node].life != life {
                    return;
                }
                // The call passes when it was counted: its answer is on the way for as long as every answer.
                self.nodes[node]
                    .leases
                    .granted(KEY, rule, &granted, sent, now);
                self.decided(&granted.decision, rule, now);
            }
            Letter::Back(r) => self.account.give_back(r.rule, r.weight, r.at, now),
        }
    }

    fn run(&mut self, length: u64) {
        for now in BEGIN..BEGIN + length {
            for letter in self.post.remove(&now).unwrap_or_default() {
                self.read(letter, now);
            }
            for node in 0..self.nodes.len() {
                if self.dice.roll(1000) < self.nodes[node].rate {
                    self.call(node, now);
                }
                if now % 100 == node as u64 % 100 {
                    for returned in self.nodes[node].leases.returned(now) {
                        self.send(now, Letter::Back(returned));
                    }
                }
            }
            if self.dice.roll(400) == 0 {
                // Killed, and begun anew: what it had been lent is nobody's any more.
                let node = self.dice.roll(self.nodes.len() as u64) as usize;
                self.nodes[node].life += 1;
                self.nodes[node].leases = Leases::default();
            }
            if self.dice.roll(1500) == 0 {
                self.account = Account::read(&self.account.write()).unwrap();
            }
        }
    }

    /// The greatest number of calls in any window; `late` is how much later than counted one may have been seen here.
    fn most_in_a_window(&self, late: u64) -> u64 {
        let window = self.rule.window_ms() - late;
        let (mut first, mut most) = (0, 0);
        for (i, (at, _)) in self.passed.iter().enumerate() {
            while self.passed[first].0 + window <= *at {
                first += 1;
            }
            most = most.max(i + 1 - first);
        }
        most as u64
    }
}

/// An answer's longest time on its way.
const LATE: u64 = 12;

#[test]
fn a_hundred_nodes_never_let_pass_more_than_one() {
    let window = Duration::from_secs(10);
    let mut told = Vec::new();
    for seed in 1..=3 {
        // Nearly as much as is offered, half of it, a little, and so little that there is less than one for each node.
        for most in [17_000, 8_000, 1_000, 40, 7] {
            let mut world = World::new(Limit::of(most, window), 100, seed);
            world.run(40_000);
            let seen = world.most_in_a_window(LATE);
            assert!(seen <= most, "seed {seed}: {seen} of {most}");
            let lost = world.could as f64 - world.passed.len() as f64;
            let vain = lost / world.could as f64;
            assert!(vain < 0.1, "seed {seed}, {most}: {vain}");
            let asked = world.asked as f64 / world.offered as f64;
            told.push(format!("{most}: {vain:.4} ({asked:.2} asked)"));
            assert!(world.passed.len() as u64 > most);
        }
    }
    eprintln!(
        "refused of those that could have passed: {}",
        told.join(", ")
    );
}

#[test]
fn periods_hold_what_they_may_whichever_clock_is_ahead() {
    for seed in 1..=6 {
        let form = Form::Fixed { from: 0 };
        let rule = Limit {
            form,
            ..Limit::of(2_000, Duration::from_secs(10))
        };
        let mut world = World::new(rule, 100, seed);
        world.run(45_000);
        let mut counted: BTreeMap<u64, u64> = BTreeMap::new();
        for (_, period) in &world.passed {
            *counted.entry(*period).or_default() += 1;
        }
        assert!(counted.len() >= 4, "{counted:?}");
        assert!(
            counted.values().all(|n| *n <= 2_000),
            "seed {seed}: {counted:?}"
        );
        // Those in the middle are used up.
        assert!(
            counted.values().filter(|n| **n > 1_700).count() >= 3,
            "{counted:?}"
        );
    }
}

#[test]
fn what_comes_at_even_distances_does_so_from_a_hundred_nodes() {
    for (burst, seed) in [(1, 1), (50, 2), (500, 3)] {
        let form = Form::Smooth { burst };
        let rule = Limit {
            form,
            ..Limit::of(5_000, Duration::from_secs(10))
        };
        let mut world = World::new(rule, 100, seed);
        world.run(30_000);
        let seen = world.most_in_a_window(LATE);
        assert!(seen < 5_000 + burst, "{seen} with bursts of {burst}");
        assert!(world.passed.len() > 9_000, "{}", world.passed.len());
    }
}

#[test]
fn bytes_that_are_no_account_are_none() {
    let rule = Limit::of(300, Duration::from_secs(10));
    let mut account = Account::new(Form::Sliding);
    let want = Want {
        weight: 3,
        more: 40,
        hold: 500,
        nodes: 2,
    };
    let granted = account.take(rule, want, 5_000);
    assert_eq!((granted.more, granted.decision.remaining), (40, 297));
    let bytes = account.write();
    let mut again = Account::read(&bytes).unwrap();
    let none = Want::default();
    assert_eq!(again.take(rule, none, 5_000).decision.remaining, 257);
    assert_eq!(again.charge(rule, 7, 5_000), 50);
    for end in 0..bytes.len() {
        let cut = Account::read(&bytes[..end]);
        assert!(cut.is_none() || (end - 17) % 16 == 0, "{end}");
    }
    assert!(Account::read(&[b'x'; 40]).is_none());
    assert!(Account::read(&[b's', 255, 255, 255]).is_none());
}

#[test]
fn what_another_number_refused_is_asked_again() {
    let (small, large) = (
        Limit::of(1, Duration::from_secs(10)),
        Limit::of(2, Duration::from_secs(10)),
    );
    let (mut leases, mut account) = (Leases::default(), Account::new(Form::Sliding));
    let mut call = |rule: Limit, now: u64| match leases.take(KEY, rule, 1, 1, now) {
        Taken::Decided(decision) => (decision.allowed, "here"),
        Taken::Ask(want) => {
            let granted = account.take(rule, want, now);
            leases.granted(KEY, rule, &granted, now, now);
            (granted.decision.allowed, "asked")
        }
    };
    assert_eq!(call(small, 1000), (true, "asked"));
    assert_eq!(call(small, 1001), (false, "asked"));
    // A moment later it is known still; a while later it is asked again.
    assert_eq!(call(small, 1002), (false, "here"));
    assert_eq!(call(large, 1003), (true, "asked"));
    assert_eq!(call(small, 1060), (false, "asked"));
}
