//! Commands and options: declared once; help, completion and man pages come from here.

mod accounts;
mod callers;
mod calling;
mod definitions;
mod offers;
mod teams;
mod webhooks;

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand};

pub(crate) use self::accounts::{AccountCommand, SessionCommand, TokenCommand};
pub(crate) use self::callers::{
    AgreementCommand, ConsumerChangeArgs, ConsumerCommand, KeyChangeArgs, KeyCommand, Opening,
    QuotaCommand,
};
pub(crate) use self::calling::{BacktestArgs, CallArgs};
pub(crate) use self::definitions::{DeriveArgs, LookArgs, NameStyle, NewArgs, Reading};
pub(crate) use self::offers::OfferCommand;
pub(crate) use self::teams::TeamCommand;
pub(crate) use self::webhooks::{MessageCommand, WebhookCommand};

use crate::serve::ServeOptions;

/// Publish backend services behind a facade: look, derive, check, push, try, release.
#[derive(Parser)]
#[command(
    name = "porch",
    version,
    propagate_version = true,
    after_help = "Exit codes: 0 done, 1 refused or failed, 2 wrong usage."
)]
pub(crate) struct Cli {
    /// Write JSON for machines.
    #[arg(long, global = true)]
    pub(crate) json: bool,
    /// Address of the service.
    #[arg(long, global = true, env = "ELM_PORCH_URL", value_name = "URL")]
    pub(crate) url: Option<String>,
    /// Token, in place of the session that `porch login` keeps.
    #[arg(
        long,
        global = true,
        env = "ELM_PORCH_TOKEN",
        value_name = "TOKEN",
        hide_env_values = true
    )]
    pub(crate) token: Option<String>,
    #[command(subcommand)]
    pub(crate) command: Command,
}

#[derive(Subcommand)]
pub(crate) enum Command {
    /// Run the service.
    Serve(Box<ServeOptions>),
    /// Read a definition and show what it offers, and what it would look like as REST.
    Look(LookArgs),
    /// Write backend, facade and contract documents for a definition, ready to edit.
    Derive(DeriveArgs),
    /// Begin a facade without a backend: operations answer with examples of its contract.
    New(NewArgs),
    /// Check documents without a service.
    Check(CheckArgs),
    /// Put documents into the draft; callers see nothing of it.
    Push(PushArgs),
    /// Write the draft to files.
    Pull {
        /// Folder to write to.
        folder: PathBuf,
    },
    /// Carry out one exchange against the draft, stage by stage.
    Try(TryArgs),
    /// Show how the draft differs from what is served.
    Compare {
        /// Only this facade.
        facade: Option<String>,
    },
    /// Try limits and quotas of the draft with what was called lately: who would have been refused, when, and how often.
    Backtest(BacktestArgs),
    /// Make facades of the draft what callers are served.
    Release(ReleaseArgs),
    /// List releases, or make an older one what callers are served.
    Rollback(RollbackArgs),
    /// Stop a facade, an operation, a consumer or a key at once.
    Pause(PauseArgs),
    /// Replies that the gateway keeps and gives again.
    #[command(subcommand)]
    Cache(CacheCommand),
    /// End a pause.
    Resume(PauseArgs),
    /// Call a published operation as a consumer would.
    Call(CallArgs),
    /// Show recent exchanges.
    Trace(TraceArgs),
    /// Tell why one exchange got the reply it got.
    Explain {
        /// The exchange's id, or the beginning of it.
        id: String,
        /// Show every stage.
        #[arg(long)]
        stages: bool,
    },
    /// Show who calls what, how often, how fast.
    Usage {
        /// The last so many minutes.
        #[arg(long, default_value_t = 60)]
        minutes: i64,
        /// What copies of calls to other backends gave, in place of who calls.
        #[arg(long)]
        copies: bool,
    },
    /// List facades of the draft, or take one out of it.
    #[command(subcommand)]
    Facade(FacadeCommand),
    /// List backends of the draft, or ask one whether it is there.
    #[command(subcommand)]
    Backend(BackendCommand),
    /// List the shared rules of the draft, and what they reach.
    Rules,
    /// List, register and look after consumers.
    #[command(subcommand)]
    Consumer(ConsumerCommand),
    /// List, make, change, renew, end and look for keys.
    #[command(subcommand)]
    Key(KeyCommand),
    /// List offers, and grant requests for them or turn them down.
    #[command(subcommand)]
    Offer(OfferCommand),
    /// List teams of the portal, and give them roles.
    #[command(subcommand)]
    Team(TeamCommand),
    /// List what publishers were told, and tell the teams that use a facade something.
    #[command(subcommand)]
    Message(MessageCommand),
    /// List, add, pause and remove webhooks, and see what became of their events.
    #[command(subcommand)]
    Webhook(WebhookCommand),
    /// List, make, change and end what consumers have agreed to.
    #[command(subcommand)]
    Agreement(AgreementCommand),
    /// Show how far quotas are used, and add to them.
    #[command(subcommand)]
    Quota(QuotaCommand),
    /// List and set secrets.
    #[command(subcommand)]
    Secret(SecretCommand),
    /// List, make, change and end accounts.
    #[command(subcommand)]
    Account(AccountCommand),
    /// List, make and end tokens with which machines act in one's own name.
    #[command(subcommand)]
    Token(TokenCommand),
    /// List and end one's own sessions.
    #[command(subcommand)]
    Session(SessionCommand),
    /// Show who changed what.
    Audit,
    /// Sign in and keep the session.
    Login {
        /// Name of the account.
        name: String,
    },
    /// Sign out.
    Logout,
    /// Show who is signed in, and where.
    Whoami,
    /// Write a completion script for a shell.
    #[command(hide = true)]
    Complete {
        /// The shell to write it for.
        shell: clap_complete::Shell,
    },
    /// Write the OpenAPI document of the console API.
    #[command(hide = true)]
    Openapi {
        /// That of the portal's API.
        #[arg(long)]
        portal: bool,
    },
    /// Write man pages.
    #[command(hide = true)]
    Man {
        /// Folder to write to.
        folder: PathBuf,
    },
}

#[derive(Args)]
pub(crate) struct CheckArgs {
    /// Files and folders.
    #[arg(required = true)]
    pub(crate) paths: Vec<PathBuf>,
    /// The environment whose addresses are meant.
    #[arg(long, default_value = "live")]
    pub(crate) environment: String,
    /// Print the rules that act on an operation (FACADE/OPERATION, or only OPERATION).
    #[arg(long, value_name = "OPERATION")]
    pub(crate) rules: Option<String>,
}

#[derive(Args)]
pub(crate) struct PushArgs {
    /// Folders (their files keep their paths below it) and files.
    #[arg(required = true)]
    pub(crate) paths: Vec<PathBuf>,
    /// Remove from the folders of the draft that are pushed what is not here any more; other folders stay as they are.
    #[arg(long)]
    pub(crate) remove: bool,
}

#[derive(Args)]
pub(crate) struct ReleaseArgs {
    /// Names of the facades. One that is not in the draft any more is no longer served.
    #[arg(required_unless_present_any = ["offers", "portal"])]
    pub(crate) facades: Vec<String>,
    /// An offer that is taken too; may stand several times. One that is not in the draft any more is no longer offered.
    #[arg(long = "offer", value_name = "NAME")]
    pub(crate) offers: Vec<String>,
    /// The portal's document is taken too.
    #[arg(long)]
    pub(crate) portal: bool,
    /// What it is for.
    #[arg(long, default_value = "")]
    pub(crate) note: String,
    /// Do not ask, also when callers lose something.
    #[arg(long)]
    pub(crate) yes: bool,
}

#[derive(Args)]
pub(crate) struct RollbackArgs {
    /// Number of the release; without it, releases are listed.
    pub(crate) number: Option<i64>,
    /// Take only this facade back; everything else stays as it is.
    #[arg(long, value_name = "NAME", requires = "number")]
    pub(crate) facade: Option<String>,
    /// Do not ask, also when callers lose something.
    #[arg(long)]
    pub(crate) yes: bool,
}

#[derive(Args)]
pub(crate) struct TryArgs {
    /// The operation: FACADE/OPERATION, or only OPERATION where that is clear.
    pub(crate) operation: String,
    /// Values of path variables, query parameters and cookies: name=value.
    pub(crate) values: Vec<String>,
    /// Body in JSON; @FILE reads it from a file.
    #[arg(short, long)]
    pub(crate) body: Option<String>,
    /// Header fields: name:value.
    #[arg(short = 'H', long = "header")]
    pub(crate) headers: Vec<String>,
    /// An answer in place of a call: NAME=JSON, NAME=@FILE or NAME:STATUS=JSON; `answer` is the name of an only call.
    #[arg(long = "answer", value_name = "NAME=JSON")]
    pub(crate) answers: Vec<String>,
    /// An exchange that was kept (`porch trace`): what its calls were answered stands in place of them.
    #[arg(long = "answers-of", value_name = "EXCHANGE")]
    pub(crate) answers_of: Option<String>,
}

#[derive(Args)]
pub(crate) struct TraceArgs {
    /// Only this facade.
    #[arg(long, default_value = "")]
    pub(crate) facade: String,
    /// Only this operation.
    #[arg(long, default_value = "")]
    pub(crate) operation: String,
    /// Only this consumer.
    #[arg(long, default_value = "")]
    pub(crate) consumer: String,
    /// `refused`, `failed`, or a status.
    #[arg(long, default_value = "")]
    pub(crate) status: String,
    /// At most so many.
    #[arg(long, default_value_t = 20)]
    pub(crate) most: u64,
}

#[derive(Args)]
pub(crate) struct PauseArgs {
    /// `facade NAME`, `operation FACADE/ID`, `consumer NAME`, `agreement NUMBER` or `key PREFIX`.
    #[arg(value_parser = ["facade", "operation", "consumer", "agreement", "key"])]
    pub(crate) what: String,
    /// Its name.
    pub(crate) name: String,
}

#[derive(Subcommand)]
pub(crate) enum FacadeCommand {
    /// List facades of the draft, with how each stands to what is served.
    List,
    /// Take a facade out of the draft: its document and its contract.
    Delete {
        /// Its name.
        name: String,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
}

#[derive(Subcommand)]
pub(crate) enum BackendCommand {
    /// List the backends of the draft.
    List,
    /// Ask each address of a backend whether it is there, with the credentials that it is called with.
    Probe {
        /// Its name.
        name: String,
    },
}

#[derive(Subcommand)]
pub(crate) enum SecretCommand {
    /// List the names of secrets.
    List,
    /// Set a secret; its value is read from standard input.
    Set {
        /// Its name.
        name: String,
    },
}

#[derive(Subcommand)]
pub(crate) enum CacheCommand {
    /// Show how much is kept, and of which operations.
    Show,
    /// Let go of kept replies: all that fit everything that is said.
    Purge(PurgeArgs),
}

#[derive(Args)]
pub(crate) struct PurgeArgs {
    /// Of a facade.
    #[arg(long, required_unless_present_any = ["path", "tag", "all"])]
    pub(crate) facade: Option<String>,
    /// Of one of its operations.
    #[arg(long, requires = "facade")]
    pub(crate) operation: Option<String>,
    /// Whose paths begin so, as callers write them.
    #[arg(long)]
    pub(crate) path: Option<String>,
    /// That have a tag.
    #[arg(long)]
    pub(crate) tag: Option<String>,
    /// All of them.
    #[arg(long, conflicts_with_all = ["facade", "operation", "path", "tag"])]
    pub(crate) all: bool,
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::*;

    fn parsed(line: &str) -> Result<Cli, clap::Error> {
        Cli::try_parse_from(format!("porch {line}").split_whitespace())
    }

    #[test]
    fn the_commands_hold_together() {
        Cli::command().debug_assert();
    }

    #[test]
    fn every_command_says_what_it_does() {
        fn all(command: &clap::Command, path: &str) {
            let name = format!("{path} {}", command.get_name());
            let about = command.get_about().map(ToString::to_string);
            assert!(about.is_some_and(|a| a.len() > 5), "{name} says nothing");
            for argument in command.get_arguments().filter(|a| !a.is_hide_set()) {
                let id = argument.get_id();
                let told = argument.get_help().is_some() || argument.get_long_help().is_some();
                assert!(
                    told || matches!(id.as_str(), "help" | "version"),
                    "{name} {id}"
                );
            }
            for inner in command.get_subcommands() {
                all(inner, &name);
            }
        }
        let mut root = Cli::command();
        root.build();
        for command in root.get_subcommands().filter(|c| c.get_name() != "help") {
            all(command, "porch");
        }
    }

    #[test]
    fn what_people_type_is_understood() {
        for line in [
            "look reservations.wsdl",
            "look http://127.0.0.1:3850/reservations?wsdl --allow-local",
            "derive reservations.wsdl --name reservations --output out",
            "check demo/documents",
            "push demo/documents",
            "pull here",
            "try sailings quoteFare route=FAR-MAR",
            "cache show",
            "cache purge --facade sailings --operation quoteFare",
            "cache purge --all",
            "compare",
            "compare sailings",
            "release sailings vessels --note first",
            "consumer create Kiosk --owner desk",
            "consumer list --search kiosk",
            "consumer change Kiosk --role clerk --role pilot",
            "consumer delete Kiosk --yes",
            "key create Kiosk --label one --facade sailings --agreement 3",
            "key renew abcdefgh --keep 3 --days 90",
            "key change abcdefgh --endless --every-facade",
            "key find demo",
            "agreement create Kiosk open-quay --term requests=7 --days 14",
            "agreement create Kiosk open-quay --facade sailings --operation cargo/listConsignments",
            "agreement list --offer open-quay --holding",
            "agreement end 3 --notice --why moved",
            "offer list",
            "offer requests --state open",
            "offer grant 3",
            "team list --search gull",
            "team change 3 --role partner",
            "offer turn-down 3 --reason full",
            "release --offer open-quay --portal",
            "quota add Kiosk 100 --of sailings --why festival",
            "secret set name",
            "account create tove --role publisher",
            "--json compare",
            "compare --json",
            "--url http://127.0.0.1:3820 compare",
        ] {
            assert!(
                parsed(line).is_ok(),
                "{line}: {}",
                parsed(line).err().unwrap()
            );
        }
    }

    #[test]
    fn what_cannot_be_meant_is_refused_with_a_word_on_what_can() {
        for (line, said) in [
            ("", "Usage"),
            ("comapre", "compare"),
            ("look", "Usage"),
            ("push", "Usage"),
            ("pull", "folder"),
            ("compare a b", "unexpected"),
            ("cache purge", "--facade"),
            ("cache purge --operation quoteFare --path /x", "--facade"),
            ("cache purge --all --tag x", "--all"),
            ("account create", "Usage"),
            ("release --nota x", "--note"),
            ("release", "facades"),
            ("offer turn-down 3", "--reason"),
        ] {
            let wrong = parsed(line).err().unwrap().to_string();
            assert!(
                wrong.to_lowercase().contains(&said.to_lowercase()),
                "{line}: {wrong}"
            );
        }
    }
}
