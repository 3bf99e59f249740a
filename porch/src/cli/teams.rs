//! Options of `porch team`.

use clap::Subcommand;

#[derive(Subcommand)]
pub(crate) enum TeamCommand {
    /// List teams with their members and consumers.
    List {
        /// Only those with a text in their names.
        #[arg(long, default_value = "")]
        search: String,
    },
    /// Give a team its roles, which offers and groups of the portal may ask for.
    Change {
        /// Its number.
        number: i64,
        /// A role; may stand several times. None: it has none any more.
        #[arg(long = "role", value_name = "NAME")]
        roles: Vec<String>,
    },
}
