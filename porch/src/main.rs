//! `porch`: the service and its client in one program.

mod accounts;
mod backends;
mod backtest;
mod callers;
mod calling;
mod cli;
mod client;
mod config;
mod counting;
mod descriptors;
mod error;
mod input;
mod kept;
mod local;
mod objects;
mod offers;
mod publishing;
mod pulled;
mod releasing;
mod remote;
mod rules;
mod serve;
mod show;
mod signing;
mod sources;
mod teams;
mod trying;
mod watch;
mod webhooks;

use std::process::ExitCode;

use clap::{CommandFactory, Parser};

use crate::cli::{Cli, Command};
use crate::error::CliError;

fn main() -> ExitCode {
    let cli = Cli::parse();
    let json = cli.json;
    match run(cli) {
        Ok(true) => ExitCode::SUCCESS,
        Ok(false) => ExitCode::FAILURE,
        Err(e) => {
            if json {
                show::say(&e.to_json().to_string());
            } else {
                eprintln!("{e}");
            }
            ExitCode::from(e.code)
        }
    }
}

/// Runs one command; `false` when it was carried out and found something wrong.
fn run(cli: Cli) -> Result<bool, CliError> {
    let Cli {
        json,
        command,
        url,
        token,
    } = cli;
    match command {
        Command::Serve(options) => return serve::run(*options),
        Command::Check(args) => return local::check(&args, json),
        Command::Complete { shell } => {
            let mut script = Vec::new();
            clap_complete::generate(shell, &mut Cli::command(), "porch", &mut script);
            show::say(String::from_utf8_lossy(&script).trim_end());
            return Ok(true);
        }
        Command::Openapi { portal } => {
            let document = match portal {
                true => porch_control::portal_openapi(),
                false => porch_control::openapi(),
            };
            let document = document.map_err(|e| CliError::new(e.to_string()))?;
            show::say(&document);
            return Ok(true);
        }
        Command::Man { folder } => return local::man(&folder),
        _ => {}
    }
    let runtime = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .map_err(|e| CliError::new(format!("no runtime: {e}")))?;
    runtime.block_on(async {
        let show = show::Show { json };
        match command {
            Command::Look(args) => local::look(&args, &show).await,
            Command::New(args) => local::new(&args, &show),
            Command::Derive(args) if args.keep_secrets => {
                let client = client::Client::new(url, token)?;
                local::derive(&args, Some(&client), &show).await
            }
            Command::Derive(args) => local::derive(&args, None, &show).await,
            Command::Call(args) => trying::call(&args, &show).await,
            command => {
                let client = client::Client::new(url, token)?;
                remote::dispatch(command, &client, &show).await
            }
        }
    })
}
