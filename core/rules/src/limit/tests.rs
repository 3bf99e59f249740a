use std::sync::{Arc, Mutex};

use super::*;
use proptest::prelude::*;

const SECOND: Duration = Duration::from_secs(1);

#[test]
fn the_sixth_in_two_minutes_waits_for_the_first_to_leave() {
    let limit = Limit::of(5, Duration::from_secs(120));
    let mut window = Window::new();
    for i in 0..5 {
        let d = window.ask(limit, 1, i * 1000);
        assert!(d.allowed && d.remaining == 4 - i);
    }
    let d = window.ask(limit, 1, 10_000);
    assert_eq!(
        (d.allowed, d.remaining, d.retry_after),
        (false, 0, Duration::from_secs(110))
    );
    assert_eq!(d.reset, Duration::from_secs(114));
    assert!(!window.ask(limit, 1, 119_999).allowed);
    assert!(window.ask(limit, 1, 120_000).allowed);
    assert!(!window.ask(limit, 1, 120_500).allowed);
}

#[test]
fn what_weighs_more_waits_until_there_is_room_for_all_of_it() {
    let limit = Limit::of(10, Duration::from_secs(10));
    let mut window = Window::new();
    for (now, weight) in [(0, 4), (1000, 4)] {
        assert!(window.ask(limit, weight, now).allowed);
    }
    let d = window.ask(limit, 5, 2000);
    assert_eq!((d.allowed, d.remaining), (false, 2));
    assert_eq!(d.retry_after, Duration::from_secs(8));
    assert!(window.ask(limit, 2, 2000).allowed);
    // More than there ever is: as long as there is something to wait for.
    let d = window.ask(limit, 11, 2000);
    assert_eq!((d.allowed, d.retry_after), (false, Duration::from_secs(10)));
    // What weighs nothing always passes.
    assert!(window.ask(limit, 0, 2000).allowed);
}

#[test]
fn what_is_given_back_is_what_was_counted_and_nothing_later() {
    let limit = Limit::of(2, Duration::from_secs(10));
    let mut window = Window::new();
    let first = window.ask(limit, 1, 0);
    assert!(window.ask(limit, 1, 8000).allowed);
    window.give_back(1, first.at);
    // The later one counts on until it leaves the window itself.
    assert!(window.ask(limit, 1, 9000).allowed);
    assert!(!window.ask(limit, 1, 17_999).allowed);
    assert!(window.ask(limit, 1, 18_000).allowed);
    // Given back twice, or long gone: nothing happens.
    window.give_back(1, first.at);
    assert!(!window.ask(limit, 1, 18_000).allowed);
}

#[test]
fn states_are_apart_and_forgotten_when_over() {
    let (states, limit) = (States::new(), Limit::of(1, SECOND));
    let allowed = |id, subject| states.ask(id, subject, limit, 1, 0).allowed;
    assert!(allowed(1, 1) && allowed(1, 2) && allowed(2, 1));
    assert!(!allowed(1, 1));
    assert_eq!(states.len(), 3);
    states.sweep(10_000);
    assert!(states.is_empty());
}

#[test]
fn a_smooth_limit_lets_pass_at_even_distances_behind_a_burst() {
    let limit = Limit {
        most: 10,
        window: SECOND,
        form: Form::Smooth { burst: 3 },
    };
    let states = States::new();
    let ask = |now| states.ask(1, 1, limit, 1, now);
    for left in [2, 1, 0] {
        let d = ask(5000);
        assert_eq!((d.allowed, d.remaining), (true, left));
    }
    let d = ask(5000);
    assert_eq!((d.allowed, d.retry_after), (false, SECOND / 10));
    assert!(!ask(5099).allowed);
    let d = ask(5100);
    assert!(d.allowed);
    states.give_back(1, 1, limit, 1, (d.at, 5100));
    assert!(ask(5100).allowed && !ask(5100).allowed);
    // What has passed by itself since is not given back.
    states.give_back(1, 1, limit, 1, (d.at, 9000));
    let passed = (0..5).filter(|_| ask(9000).allowed).count();
    assert_eq!(passed, 3);
}

#[test]
fn a_period_counts_from_its_beginning_and_begins_anew_with_the_next() {
    let of = |from| Limit {
        most: 5,
        window: Duration::from_secs(3600),
        form: Form::Fixed { from },
    };
    let states = States::new();
    let d = states.ask(1, 1, of(0), 3, 1000);
    assert_eq!((d.allowed, d.remaining), (true, 2));
    let refused = states.ask(1, 1, of(0), 3, 2000);
    let wait = Duration::from_secs(3598);
    assert_eq!((refused.allowed, refused.retry_after), (false, wait));
    states.give_back(1, 1, of(0), 3, (d.at, 2000));
    assert_eq!(states.used(1, 1, 0), Some(0));
    assert!(states.ask(1, 1, of(0), 5, 2000).allowed);
    assert!(states.ask(1, 1, of(3_600_000), 5, 3_600_000).allowed);
    // A clock that goes back comes to no fresh period.
    assert!(!states.ask(1, 1, of(0), 1, 2000).allowed);
    assert_eq!(states.used(1, 1, 3_600_000), Some(5));
}

#[test]
fn subjects_that_are_made_up_share_what_is_left_when_there_are_too_many() {
    let (states, limit) = (States::new(), Limit::of(1, SECOND));
    let known = states.ask(1, 0, limit, 1, 0);
    assert!(known.allowed);
    let most = 64 * 200;
    for subject in 1..most * 3 {
        states.ask(1, subject, limit, 1, 0);
    }
    assert!(states.len() as u64 <= most + 64, "{}", states.len());
    // Who was there is told apart still; others are not, and none of them passes in vain.
    assert!(!states.ask(1, 0, limit, 1, 0).allowed);
    let others = (0..1000).filter(|i| states.ask(1, most * 4 + i, limit, 1, 0).allowed);
    assert!(others.count() <= 64);
}

/// A log in memory, with room for some.
#[derive(Clone, Default)]
struct Paper(Arc<Mutex<Vec<Counted>>>);

impl Log for Paper {
    fn note(&mut self, counted: &Counted) -> bool {
        let mut all = self.0.lock().unwrap();
        all.push(*counted);
        all.len() < 20
    }

    fn restart(&mut self, all: &mut dyn Iterator<Item = Counted>) {
        *self.0.lock().unwrap() = all.collect();
    }
}

#[test]
fn what_a_wrong_clock_dated_far_ahead_shuts_nobody_out() {
    let (year, now) = (31_536_000_000, 1_000_000);
    let counted = |form, at| Counted {
        limit: 1,
        subject: u64::from(form),
        at,
        weight: 1,
        window: 1000,
        form,
    };
    let all = vec![
        counted(b's', now + year),
        counted(b'm', (now + year) * 1_000_000),
        counted(b'f', now + year),
        counted(b'?', 0),
    ];
    let all = (0..SHARDS).map(|_| (all.clone(), Box::new(Paper::default()) as Box<dyn Log>));
    let states = States::of_logs(all, now);
    for form in [
        Form::Sliding,
        Form::Smooth { burst: 1 },
        Form::Fixed { from: now },
    ] {
        let subject = match form {
            Form::Sliding => b's',
            Form::Smooth { .. } => b'm',
            Form::Fixed { .. } => b'f',
        };
        let limit = Limit {
            most: 1,
            window: SECOND,
            form,
        };
        let ask = |now| states.ask(1, u64::from(subject), limit, 1, now).allowed;
        assert_eq!(ask(now), matches!(form, Form::Fixed { .. }), "{form:?}");
        assert!(
            matches!(form, Form::Fixed { .. }) || ask(now + 2000),
            "{form:?}"
        );
    }
}

#[derive(Clone, Debug)]
struct Step {
    subject: u64,
    weight: u64,
    later: u64,
    back: bool,
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let step = (0u64..3, 0u64..4, 0u64..200, any::<bool>());
    let step = step.prop_map(|(subject, weight, later, back)| Step {
        subject,
        weight,
        later,
        back,
    });
    proptest::collection::vec(step, 1..150)
}

proptest! {
    /// At no moment have more than the limit passed in the window before it; and a limit is never stricter than one
    /// slice makes it.
    #[test]
    fn never_more_than_the_limit_in_any_window(most in prop_oneof![1u64..20, 257u64..300], steps in proptest::collection::vec(0u64..40, 1..900)) {
        let limit = Limit::of(most, SECOND);
        let (mut window, mut now, mut passed) = (Window::new(), 0, Vec::new());
        for step in steps {
            now += step;
            let d = window.ask(limit, 1, now);
            let recent = passed.iter().filter(|t| **t + 1000 > now).count() as u64;
            let slack = passed.iter().filter(|t| **t + 1000 + 1000 / SLICES > now).count() as u64;
            if d.allowed {
                prop_assert!(recent < most);
                passed.push(now);
            } else {
                prop_assert!(slack >= most);
                prop_assert!(window.ask(limit, 1, now + d.retry_after.as_millis() as u64).allowed);
                passed.push(now + d.retry_after.as_millis() as u64);
                now += d.retry_after.as_millis() as u64;
            }
        }
    }

    /// In any window at most as many pass smoothly as the rate and one burst make.
    #[test]
    fn a_smooth_limit_is_never_exceeded(most in 1u64..50, burst in 1u64..5, steps in proptest::collection::vec(0u64..60, 1..400)) {
        let limit = Limit { most, window: SECOND, form: Form::Smooth { burst } };
        let (mut pace, mut now, mut passed) = (Pace::default(), 10_000, Vec::new());
        for step in steps {
            now += step;
            if pace.ask(limit, burst, 1, now).allowed {
                passed.push(now);
                let recent = passed.iter().filter(|t| **t + 1000 > now).count() as u64;
                prop_assert!(recent < most + burst + 1, "{recent}");
            }
        }
    }

    /// What was written down gives the same answers as what was in memory, whenever the memory is lost.
    #[test]
    fn what_was_counted_survives_the_loss_of_memory(most in prop_oneof![1u64..12, 257u64..260], which in 0usize..3, steps in steps()) {
        let form = [Form::Sliding, Form::Smooth { burst: 2 }, Form::Fixed { from: 0 }][which];
        let limit = Limit::of(most, SECOND);
        let papers: Vec<Paper> = (0..states::SHARDS).map(|_| Paper::default()).collect();
        let read = |now| {
            let logs = papers.iter().map(|p| (p.0.lock().unwrap().clone(), Box::new(p.clone()) as Box<dyn Log>));
            States::of_logs(logs.collect::<Vec<_>>(), now)
        };
        let (steady, mut lost, mut now) = (States::new(), read(1000), 1000);
        for (i, step) in steps.iter().enumerate() {
            now += step.later;
            let form = match form {
                Form::Fixed { .. } => Form::Fixed { from: now / 1000 * 1000 },
                other => other,
            };
            let limit = Limit { form, ..limit };
            let wanted = steady.ask(7, step.subject, limit, step.weight, now);
            let mut given = lost.ask(7, step.subject, limit, step.weight, now);
            // What was refused is not given back.
            given.at = if given.allowed { given.at } else { wanted.at };
            prop_assert_eq!(wanted, given, "step {}", i);
            if step.back && given.allowed && step.weight > 0 {
                steady.give_back(7, step.subject, limit, step.weight, (given.at, now));
                lost.give_back(7, step.subject, limit, step.weight, (given.at, now));
            }
            if i % 7 == 3 {
                lost = read(now);
            }
        }
    }
}
