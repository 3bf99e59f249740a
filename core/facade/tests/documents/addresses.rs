//! Several addresses of a backend: each mistake where it stands.

use super::*;

#[test]
fn weights_and_lists_that_are_none_are_told() {
    const ONE: &str = "timetable: { address: 'http://127.0.0.1:3851' }";
    for (address, expected) in [
        (
            "[{ address: 'http://127.0.0.1:3851', weight: 0 }]".to_owned(),
            "live.environment.yaml:5:25 0 is no weight: 1 to 100 are ()",
        ),
        (
            "[{ adress: 'http://127.0.0.1:3851', weight: 1 }]".to_owned(),
            "live.environment.yaml:5:25 an address, or a list of them, is expected here ()",
        ),
        (
            format!("[{}]", vec!["'http://127.0.0.1:3851'"; 101].join(", ")),
            "live.environment.yaml:5:25 101 addresses, and 100 are the most ()",
        ),
        (
            "[{ address: 'http://127.0.0.1:3851', weight: 3 }, 'http://127.0.0.1:3852']".to_owned(),
            "nothing found",
        ),
    ] {
        let text = format!("timetable: {{ address: {address} }}");
        assert_eq!(
            first(&changed("live.environment.yaml", ONE, &text)),
            expected
        );
    }
}
