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
    // The line feed that echo adds is not worth a word; anything else is told.
    let line = input.strip_suffix('\n').unwrap_or(&input);
    let line = line.strip_suffix('\r').unwrap_or(line);
    if line.trim() != line {
        eprintln!("porch: white space around the {what} was taken away");
    }
    Ok(line.trim().to_owned())
}
