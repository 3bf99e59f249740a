//! Options of `porch webhook` and `porch message`.

use clap::Subcommand;

#[derive(Subcommand)]
pub(crate) enum WebhookCommand {
    /// List the publishers' webhooks.
    List,
    /// Send the publishers' messages to an address, as signed CloudEvents.
    Add {
        /// Where they are sent.
        #[arg(value_name = "URL")]
        address: String,
        /// A kind of message, as in request-made; may stand several times. All of them unless given.
        #[arg(long = "kind", value_name = "KIND")]
        kinds: Vec<String>,
    },
    /// Send nothing for a while; what is told meanwhile waits.
    Pause {
        /// Its number.
        number: i64,
    },
    /// Send again, and what waited.
    Resume {
        /// Its number.
        number: i64,
    },
    /// Remove a webhook.
    Remove {
        /// Its number.
        number: i64,
    },
    /// List the events of a webhook, and what became of each.
    Events {
        /// Number of the webhook.
        number: i64,
        /// So many at most.
        #[arg(long, default_value_t = 100)]
        most: usize,
    },
    /// Send an event once more.
    Again {
        /// Number of the webhook.
        number: i64,
        /// Number of the event.
        event: i64,
    },
}

#[derive(Subcommand)]
pub(crate) enum MessageCommand {
    /// List what the publishers were told, the newest first.
    List {
        /// So many at most.
        #[arg(long, default_value_t = 100)]
        most: usize,
    },
    /// Tell the teams that use a facade something, as that it will change: in the portal, by e-mail and by webhook.
    Send {
        /// Those who use this facade are told.
        #[arg(long)]
        facade: String,
        /// Only those who use this operation; may stand several times.
        #[arg(long = "operation", value_name = "ID")]
        operations: Vec<String>,
        /// What it is about, in a line.
        #[arg(long)]
        subject: String,
        /// The rest.
        #[arg(long)]
        text: String,
    },
}
