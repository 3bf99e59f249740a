//! What the command line asks for.

use crate::Outcome;

/// All cases there are, in the order they run.
pub(super) const CASES: [&str; 23] = [
    "pass-through",
    "soap-1kb",
    "soap-1mb",
    "grpc-1kb",
    "grpc-10000",
    "grpc-stream",
    "full",
    "full-against-own",
    "operations",
    "operations-100000",
    "keys",
    "convert",
    "messages",
    "contracts",
    "callers",
    "changes",
    "cache-hit",
    "added",
    "two-calls",
    "release",
    "memory",
    "known",
    "workers",
];

pub(super) struct Options {
    pub(super) json: bool,
    /// With the programs that are there, to measure again.
    pub(super) built: bool,
    pub(super) only: Option<String>,
    pub(super) seconds: u32,
    pub(super) runs: u32,
}

impl Options {
    pub(super) fn read(arguments: &[String]) -> Outcome<Self> {
        let mut options = Self {
            json: false,
            built: false,
            only: None,
            seconds: 3,
            runs: 5,
        };
        let mut rest = arguments.iter();
        while let Some(argument) = rest.next() {
            match argument.as_str() {
                "--json" => options.json = true,
                "--built" => options.built = true,
                "--seconds" => options.seconds = number(argument, rest.next())?,
                "--runs" => options.runs = number(argument, rest.next())?,
                "--only" => options.only = Some(case(rest.next())?),
                other => return Err(format!("bench: “{other}” is not known")),
            }
        }
        Ok(options)
    }

    pub(super) fn wants(&self, case: &str) -> bool {
        self.only.as_deref().is_none_or(|only| only == case)
    }
}

fn number(option: &str, given: Option<&String>) -> Outcome<u32> {
    given
        .and_then(|n| n.parse::<u32>().ok())
        .filter(|n| (1..=60).contains(n))
        .ok_or_else(|| format!("bench: {option} needs a number from 1 to 60"))
}

fn case(given: Option<&String>) -> Outcome<String> {
    let given = given.map_or("", String::as_str);
    if CASES.contains(&given) {
        return Ok(given.to_owned());
    }
    Err(format!(
        "bench: there is no case “{given}”; there are {}",
        CASES.join(", ")
    ))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(line: &str) -> Outcome<Options> {
        let words: Vec<String> = line.split_whitespace().map(str::to_owned).collect();
        Options::read(&words)
    }

    #[test]
    fn a_case_alone_and_how_long() {
        let options = read("--only soap-1kb --seconds 2 --runs 3 --json").unwrap();
        assert!(options.wants("soap-1kb") && !options.wants("keys"));
        assert_eq!((options.seconds, options.runs), (2, 3));
        assert!(options.json && !options.built);
    }

    #[test]
    fn what_is_wrong_is_said_before_anything_is_built() {
        for (line, said) in [
            ("--only soup", "no case “soup”"),
            ("--only", "no case “”"),
            ("--seconds 0", "--seconds needs a number from 1 to 60"),
            ("--runs many", "--runs needs a number from 1 to 60"),
            ("--fast", "“--fast” is not known"),
        ] {
            let wrong = read(line).err().unwrap();
            assert!(wrong.contains(said), "{line}: {wrong}");
        }
    }
}
