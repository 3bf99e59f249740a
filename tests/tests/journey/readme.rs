//! The tour of the README, copied line by line, on a stage of its own.

use super::*;

/// A command of the README with the lines that it says come of it; `None` where some are left out.
struct Told {
    command: String,
    lines: Vec<Option<String>>,
}

fn told() -> Vec<Told> {
    let readme = std::fs::read_to_string(porch_tests::root().join("README.md")).unwrap();
    let from = readme.find("**1. Look**").unwrap();
    let to = readme.find("**7. The console**").unwrap();
    let mut all: Vec<Told> = Vec::new();
    let mut inside = false;
    for line in readme[from..to].lines() {
        if line.starts_with("```") {
            inside = !inside;
        } else if !inside {
            continue;
        } else if let Some(command) = line.strip_prefix("$ ") {
            all.push(Told {
                command: command.to_owned(),
                lines: Vec::new(),
            });
        } else if let Some(last) = all.last_mut() {
            let shown = (line.trim() != "…").then(|| line.to_owned());
            last.lines.push(shown);
        }
    }
    all
}

/// A line without what differs each time: times taken, ports, how wide a table is.
fn plain(line: &str) -> String {
    let mut out = String::new();
    for word in line.split_whitespace() {
        let bare = word.trim_end_matches([',', '.']);
        // How long something took may well be told in another unit.
        let unit = ["µs", "ms", "s", "seconds"].contains(&bare);
        let number = bare.parse::<f64>().is_ok();
        let word = if number || unit { "N" } else { word };
        let ports: Vec<&str> = word.split("127.0.0.1:").collect();
        for (i, part) in ports.iter().enumerate() {
            let part = if i > 0 {
                part.trim_start_matches(|c: char| c.is_ascii_digit())
            } else {
                part
            };
            out.push_str(part);
        }
        out.push(' ');
    }
    out
}

#[test]
fn the_tour_of_the_readme_works_as_it_is_copied() {
    let (porch, key) = Porch::published();
    let folder = tempfile::tempdir().unwrap();
    let bin = folder.path().join("bin");
    std::fs::create_dir_all(&bin).unwrap();
    std::os::unix::fs::symlink(program("porch"), bin.join("porch")).unwrap();
    let path = format!("{}:{}", bin.display(), std::env::var("PATH").unwrap());
    let reservations = porch.reservations.as_ref().unwrap().address.to_string();
    let told = told();
    assert!(told.len() > 15, "{}", told.len());
    for Told { command, lines } in &told {
        let run = command.replace("127.0.0.1:3850", &reservations);
        let after = |_: &()| {
            let output = std::process::Command::new("bash")
                .args(["-c", &run])
                .current_dir(folder.path())
                .envs([
                    ("PATH", path.as_str()),
                    ("NO_COLOR", "1"),
                    ("ELM_PORCH_URL", &porch.console),
                    ("ELM_PORCH_GATEWAY", &porch.gateway),
                    ("ELM_PORCH_TOKEN", &porch.token),
                    ("ELM_PORCH_KEY", &key),
                ])
                .output()
                .unwrap();
            (output.status.success(), stdout(&output), stderr(&output))
        };
        // What was just refused is written about once a second.
        if command.contains("trace --status") {
            wait_until("the refusal is written", || {
                !porch
                    .ok(&["trace", "--status", "429"])
                    .as_array()
                    .unwrap()
                    .is_empty()
            });
        }
        let (good, out, err) = after(&());
        let wrong = lines.iter().flatten().any(|l| l.contains(": error: "));
        assert_eq!(good, !wrong, "$ {command}\n{out}{err}");
        let said: Vec<String> = out.lines().chain(err.lines()).map(plain).collect();
        for line in lines.iter().flatten().filter(|l| !l.trim().is_empty()) {
            let line = plain(line);
            assert!(
                said.contains(&line),
                "$ {command}\nno line {line}\nin {said:#?}"
            );
        }
    }
}

/// Everything in the guide and the README that is a command of the client, wherever it stands.
fn commands() -> Vec<(String, String)> {
    let guide = porch_tests::root().join("docs/guide");
    let pages = std::fs::read_dir(guide).unwrap();
    let mut pages: Vec<_> = pages.map(|page| page.unwrap().path()).collect();
    pages.push(porch_tests::root().join("README.md"));
    let mut all = Vec::new();
    for page in pages {
        let text = std::fs::read_to_string(&page).unwrap();
        let name = page.file_name().unwrap().to_string_lossy().into_owned();
        let lines = text.lines().filter_map(|l| l.strip_prefix("$ "));
        let spans = text.lines().flat_map(|l| l.split('`').skip(1).step_by(2));
        for command in lines.chain(spans).filter(|c| c.starts_with("porch ")) {
            all.push((name.clone(), command.to_owned()));
        }
    }
    all
}

/// The client knows all that the pages say of it: no command, option or argument is made up or has another name by now.
#[test]
fn every_command_of_the_guide_is_one_that_the_client_has() {
    let folder = tempfile::tempdir().unwrap();
    let commands = commands();
    assert!(commands.len() > 50, "{}", commands.len());
    let mut wrong = Vec::new();
    for (page, command) in &commands {
        // What runs until it is stopped, and what is not said to its end.
        if command.starts_with("porch serve") || command.contains('…') {
            continue;
        }
        let mut line = command.replacen("porch", program("porch").to_str().unwrap(), 1);
        // Numbers stand for themselves, and what is only named needs no arguments.
        line = line.replace(" N", " 1");
        if command.split_whitespace().count() == 2 {
            line.push_str(" --help");
        }
        let output = std::process::Command::new("bash")
            .args(["-c", &line])
            .current_dir(folder.path())
            .stdin(std::process::Stdio::null())
            .env("ELM_PORCH_URL", "http://127.0.0.1:1")
            .env("ELM_PORCH_GATEWAY", "http://127.0.0.1:1")
            .env("ELM_PORCH_TOKEN", "none")
            .output()
            .unwrap();
        if output.status.code() == Some(2) {
            wrong.push(format!("{page}: {command}\n{}", stderr(&output)));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
