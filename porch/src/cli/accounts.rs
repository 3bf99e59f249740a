//! Commands of who publishes: accounts, their sessions, and the tokens of their machines.

use clap::Subcommand;

#[derive(Subcommand)]
pub(crate) enum AccountCommand {
    /// List accounts.
    List,
    /// Make an account; its password is read from standard input, unless it signs in by OpenID alone.
    Create {
        /// Its name.
        name: String,
        /// viewer, publisher or administrator.
        #[arg(long, default_value = "publisher")]
        role: String,
        /// Without a password: whoever the OpenID provider calls by this name.
        #[arg(long)]
        openid: bool,
    },
    /// Change an account's role, or its password, which is read from standard input; a new password ends its sessions.
    Change {
        /// Its name.
        name: String,
        /// viewer, publisher or administrator.
        #[arg(long, required_unless_present = "password")]
        role: Option<String>,
        /// Read a new password.
        #[arg(long)]
        password: bool,
    },
    /// Change one's own password: the old one and the new one are read from standard input, a line each. One's sessions end.
    Password,
    /// End all sessions of an account.
    SignOut {
        /// Its name.
        name: String,
        /// Take away the tokens of its machines too.
        #[arg(long)]
        tokens: bool,
    },
    /// End an account, its sessions and its tokens.
    End {
        /// Its name.
        name: String,
    },
}

#[derive(Subcommand)]
pub(crate) enum TokenCommand {
    /// List one's own tokens; administrators see all.
    List,
    /// Make a token; it is shown once. Machines show it in ELM_PORCH_TOKEN, or as `Authorization: Bearer`.
    Create {
        /// What it is for.
        label: String,
        /// What it may do at most: viewer, publisher or administrator.
        #[arg(long, default_value = "viewer")]
        role: String,
        /// Days until it ends, 366 at most.
        #[arg(long, default_value_t = 90)]
        days: u32,
    },
    /// Take a token away.
    End {
        /// Its number in the list.
        id: i64,
    },
}

#[derive(Subcommand)]
pub(crate) enum SessionCommand {
    /// List one's own sessions.
    List,
    /// End one of them, or all.
    End {
        /// Its number in the list.
        #[arg(required_unless_present = "all", conflicts_with = "all")]
        id: Option<i64>,
        /// All of them, this one too.
        #[arg(long)]
        all: bool,
    },
}
