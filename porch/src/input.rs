//! Passwords and secrets, from standard input.

use std::io::Read;

use crate::error::CliError;

/// Standard input without the white space around it.
pub(crate) fn read_input(what: &str) -> Result<String, CliError> {
    use std::io::IsTerminal;
    let mut input = String::new();
    if std::io::stdin().is_terminal() {
        eprint!("{what}: ");
        std::io::stdin()
            .read_line(&mut input)
            .map_err(|e| CliError::new(e.to_string()))?;
    } else {
        std::io::stdin()
            .take(1 << 20)
            .read_to_string(&mut input)
            .map_err(|e| CliError::new(e.to_string()))?;
    }
    Ok(without_space(what, &input))
}

/// The first two lines of standard input, each without the white space around it.
pub(crate) fn read_two(first: &str, second: &str) -> Result<(String, String), CliError> {
    use std::io::{BufRead, IsTerminal};
    let asks = std::io::stdin().is_terminal();
    let mut from = std::io::stdin().lock().take(1 << 20);
    let mut read = |what: &str| {
        if asks {
            eprint!("{what}: ");
        }
        let mut line = String::new();
        let read = from.read_line(&mut line);
        read.map_err(|e| CliError::new(e.to_string()))?;
        Ok(without_space(what, &line))
    };
    Ok((read(first)?, read(second)?))
}

fn without_space(what: &str, input: &str) -> String {
    // The line feed that echo adds is not worth a word; anything else is told.
    let line = input.strip_suffix('\n').unwrap_or(input);
    let line = line.strip_suffix('\r').unwrap_or(line);
    if line.trim() != line {
        eprintln!("porch: white space around the {what} was taken away");
    }
    line.trim().to_owned()
}

/// Asks whether to go on, after what is told. Where nobody can be asked, `--yes` is demanded.
pub(crate) fn agreed(told: &str, question: &str, yes: bool) -> Result<(), CliError> {
    use std::io::IsTerminal;
    if yes {
        return Ok(());
    }
    if !std::io::stdin().is_terminal() {
        let help = "nobody can be asked here: say --yes to go on all the same";
        return Err(CliError::new(format!("{}\n  {question}", told.trim_end())).help(help));
    }
    eprint!("{told}{question} [y/N] ");
    let mut answer = String::new();
    std::io::stdin()
        .read_line(&mut answer)
        .map_err(|e| CliError::new(e.to_string()))?;
    match answer.trim().to_ascii_lowercase().as_str() {
        "y" | "yes" => Ok(()),
        _ => Err(CliError::new("nothing was changed")),
    }
}
