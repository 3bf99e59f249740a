//! The publisher's journey, through the real client and real HTTP: look, derive, check, push, try, release, call, explain.
#![allow(
    clippy::too_many_lines,
    reason = "a scenario, or a table of cases, is told in one piece"
)]

mod backtest;
mod beginnings;
mod callers;
mod certificates;
mod edited;
mod first;
mod inside;
mod odata;
mod readme;
mod releases;
mod routed;
mod several;
mod shared;
mod shown;
mod withdrawing;

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};

use porch_tests::{Http, Porch, program, wait_until};
use serde_json::{Value, json};

fn stdout(output: &std::process::Output) -> String {
    String::from_utf8_lossy(&output.stdout).into_owned()
}

fn stderr(output: &std::process::Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned()
}

#[test]
fn pauses_act_at_once_and_end_the_same_way() {
    let (porch, key) = Porch::published();
    let fare = || {
        porch
            .call("GET", "/sailings/v2/fares/FAR-MAR/foot", &key, "")
            .status
    };
    let tt = || {
        porch
            .call(
                "GET",
                "/timetable/v1/routes/FAR-MAR/days/2027-05-14",
                "",
                "",
            )
            .status
    };
    porch.ok(&["pause", "operation", "timetable/departures"]);
    assert_eq!((tt(), fare()), (503, 200));
    porch.ok(&["resume", "operation", "timetable/departures"]);
    porch.ok(&["pause", "facade", "timetable"]);
    assert_eq!(tt(), 503);
    porch.ok(&["resume", "facade", "timetable"]);
    assert_eq!(tt(), 200);
    porch.ok(&["pause", "consumer", "Quayside Kiosk"]);
    assert_eq!(fare(), 401);
    porch.ok(&["resume", "consumer", "Quayside Kiosk"]);
    porch.ok(&["key", "end", &key]);
    assert_eq!(fare(), 401);
    let second = porch.new_key("Quayside Kiosk");
    assert_eq!(
        porch
            .call("GET", "/sailings/v2/fares/FAR-MAR/foot", &second, "")
            .status,
        200
    );
    assert_eq!(
        porch
            .client(&["pause", "facade", "nowhere"], "")
            .status
            .code(),
        Some(1)
    );
}

#[test]
fn the_client_keeps_its_manners() {
    let porch = Porch::start();
    let plain = |arguments: &[&str]| {
        std::process::Command::new(program("porch"))
            .args(arguments)
            .env_remove("ELM_PORCH_URL")
            .env_remove("ELM_PORCH_TOKEN")
            .env("XDG_CONFIG_HOME", porch.folder())
            .output()
            .unwrap()
    };
    assert_eq!(plain(&["lok"]).status.code(), Some(2));
    assert_eq!(plain(&["call", "no-slash"]).status.code(), Some(2));
    let unreachable = plain(&["--url", "http://127.0.0.1:9", "compare"]);
    assert_eq!(
        (unreachable.status.code(), stdout(&unreachable).as_str()),
        (Some(1), "")
    );
    assert!(
        stderr(&unreachable).contains("cannot be reached")
            && stderr(&unreachable).contains("porch serve")
    );
    let json: Value = serde_json::from_slice(
        &plain(&["--json", "--url", "http://127.0.0.1:9", "compare"]).stdout,
    )
    .unwrap();
    assert!(
        json["error"]["message"]
            .as_str()
            .unwrap()
            .contains("cannot be reached")
    );
    let missing = plain(&["look", "nowhere.wsdl"]);
    assert!(stderr(&missing).contains("there is no file or folder “nowhere.wsdl”"));
    assert!(stdout(&plain(&["complete", "bash"])).contains("porch"));
    let man = porch.folder().join("man");
    assert!(plain(&["man", man.to_str().unwrap()]).status.success());
    assert!(man.join("porch-release.1").exists());

    // A session of its own, kept and forgotten; pasted white space is taken away and told.
    let login = |input: &str| {
        let mut command = std::process::Command::new(program("porch"));
        command
            .env_remove("ELM_PORCH_TOKEN")
            .args(["--url", &porch.console, "login", "inge"])
            .env("XDG_CONFIG_HOME", porch.folder());
        let mut child = command
            .stdin(std::process::Stdio::piped())
            .stdout(std::process::Stdio::piped())
            .stderr(std::process::Stdio::piped())
            .spawn()
            .unwrap();
        std::io::Write::write_all(&mut child.stdin.take().unwrap(), input.as_bytes()).unwrap();
        child.wait_with_output().unwrap()
    };
    assert_eq!(login("wrong").status.code(), Some(1));
    let signed_in = login("  harbour-lights ");
    assert!(
        signed_in.status.success()
            && stderr(&signed_in).contains("white space around the password was taken away"),
        "{}",
        stderr(&signed_in)
    );
    assert!(stdout(&plain(&["whoami"])).starts_with("inge (administrator) at http://127.0.0.1:"));
    assert!(plain(&["logout"]).status.success());
    assert_eq!(
        plain(&["--url", &porch.console, "whoami"]).status.code(),
        Some(1)
    );
}
