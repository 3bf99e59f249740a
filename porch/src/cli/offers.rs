//! Options of `porch offer`.

use clap::Subcommand;

#[derive(Subcommand)]
pub(crate) enum OfferCommand {
    /// List the offers that are served.
    List,
    /// Show an offer whole.
    Show {
        /// Its name.
        name: String,
    },
    /// Make a link with which the portal is shown as the draft has it, good for an hour.
    Preview,
    /// List requests for offers.
    Requests {
        /// Only those in a state.
        #[arg(long, value_parser = ["open", "granted", "turned-down", "withdrawn"])]
        state: Option<String>,
        /// Only those with a text in the names of offer or consumer, in who asked or in what was written.
        #[arg(long, default_value = "")]
        search: String,
    },
    /// Grant a request: an agreement follows, with the terms that the offer has now.
    Grant {
        /// Its number.
        number: i64,
        /// What those who asked are told besides.
        #[arg(long, default_value = "")]
        reason: String,
    },
    /// Turn a request down.
    TurnDown {
        /// Its number.
        number: i64,
        /// Why; those who asked are told.
        #[arg(long)]
        reason: String,
    },
}
