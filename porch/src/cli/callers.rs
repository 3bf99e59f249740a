//! Commands of who calls: consumers, what they show, what they have agreed to, and how much they have used.

use std::path::PathBuf;

use clap::{Args, Subcommand};

#[derive(Subcommand)]
pub(crate) enum ConsumerCommand {
    /// List consumers with their keys.
    List {
        /// Only those with a text in their name, owner or labels.
        #[arg(long, default_value = "")]
        search: String,
    },
    /// Show a consumer: its credentials, what it has agreed to, and what it has called in the last seven days.
    Show {
        /// Its name.
        name: String,
    },
    /// Register a consumer.
    Create {
        /// Its name.
        name: String,
        /// The account that looks after it.
        #[arg(long, default_value = "")]
        owner: String,
        /// What it may be, for operations that take only some; may stand several times.
        #[arg(long = "role", value_name = "ROLE")]
        roles: Vec<String>,
        /// What people sort consumers by; may stand several times.
        #[arg(long = "label", value_name = "LABEL")]
        labels: Vec<String>,
    },
    /// Change a consumer; what is not said stays as it is.
    Change(ConsumerChangeArgs),
    /// Give a consumer a name and password, or another password for a name that it has; read from standard input.
    Password {
        /// Its name.
        consumer: String,
        /// The name that is shown with the password; that of the consumer unless given.
        #[arg(long)]
        name: Option<String>,
        /// Take the name and its password away.
        #[arg(long)]
        remove: bool,
    },
    /// Note that tokens which an issuer signs for a client are a consumer's.
    Token {
        /// Its name.
        consumer: String,
        /// The issuer, as its tokens name it.
        #[arg(long)]
        issuer: String,
        /// The client, as its tokens name it.
        #[arg(long)]
        client: String,
        /// They are its no more.
        #[arg(long)]
        remove: bool,
    },
    /// Note a key that a consumer signs requests with (RFC 9421).
    SigningKey {
        /// Its name.
        consumer: String,
        /// What the key is known by (`keyid`).
        keyid: String,
        /// A file with the public key, in PEM or as a JSON Web Key; without it, a secret that both have is read from standard input.
        #[arg(long, value_name = "FILE")]
        public_key: Option<PathBuf>,
        /// Take the key away.
        #[arg(long)]
        remove: bool,
    },
    /// Note a certificate that a consumer shows by TLS: it is known by its fingerprint, or, where a document's authorities signed
    /// it, by a name in it.
    Certificate {
        /// Its name.
        consumer: String,
        /// A file with the certificate, in PEM.
        #[arg(
            long,
            value_name = "FILE",
            required_unless_present = "known_by",
            conflicts_with = "known_by"
        )]
        file: Option<PathBuf>,
        /// What it is known by in place of that: dns:NAME, uri:URI, email:ADDRESS, ip:ADDRESS, subject:SUBJECT or sha256:FINGERPRINT.
        #[arg(long, value_name = "NAME")]
        known_by: Option<String>,
        /// Take the certificate away.
        #[arg(long, requires = "known_by")]
        remove: bool,
    },
    /// Take a consumer away, with all that it shows and has agreed to; what would break is said first.
    Delete {
        /// Its name.
        name: String,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
}

#[derive(Args)]
pub(crate) struct ConsumerChangeArgs {
    /// Its name.
    pub(crate) name: String,
    /// The account that looks after it.
    #[arg(long)]
    pub(crate) owner: Option<String>,
    /// All of its roles from now on; may stand several times.
    #[arg(long = "role", value_name = "ROLE")]
    pub(crate) roles: Vec<String>,
    /// It has no role any more.
    #[arg(long, conflicts_with = "roles")]
    pub(crate) no_roles: bool,
    /// All of its labels from now on; may stand several times.
    #[arg(long = "label", value_name = "LABEL")]
    pub(crate) labels: Vec<String>,
    /// It may call what it has agreed to and nothing else (true), or everything that its credentials do not narrow (false).
    #[arg(long, value_name = "BOOL")]
    pub(crate) bound: Option<bool>,
}

#[derive(Args)]
pub(crate) struct Opening {
    /// A facade that it opens; may stand several times. Every one unless given.
    #[arg(long = "facade", value_name = "NAME")]
    pub(crate) facades: Vec<String>,
    /// The number of an agreement that it is for; may stand several times. All of its consumer's unless given.
    #[arg(long = "agreement", value_name = "NUMBER")]
    pub(crate) agreements: Vec<i64>,
}

#[derive(Subcommand)]
pub(crate) enum KeyCommand {
    /// List keys, with whose they are, what they open and when they were used.
    List {
        /// Only those of consumers with a text in their name, owner or labels.
        #[arg(long, default_value = "")]
        search: String,
    },
    /// Make a key; it is shown whole this once.
    Create {
        /// The consumer it is for.
        consumer: String,
        /// What it is for.
        #[arg(long, default_value = "")]
        label: String,
        /// Days until it ends.
        #[arg(long)]
        days: Option<u32>,
        #[command(flatten)]
        opens: Opening,
    },
    /// Change a key; what is not said stays as it is.
    Change(KeyChangeArgs),
    /// Make a key that opens what another one does; both are good for a while.
    Renew {
        /// What the old key is known by.
        prefix: String,
        /// Days for which the old key is good still; 0: it ends now.
        #[arg(long, default_value_t = 7)]
        keep: u32,
        /// Days until the new key ends.
        #[arg(long)]
        days: Option<u32>,
        /// What the new key is for; as the old one unless given.
        #[arg(long)]
        label: Option<String>,
    },
    /// End a key now.
    End {
        /// What the key is known by.
        prefix: String,
    },
    /// Take away a key that has ended.
    Delete {
        /// What the key is known by.
        prefix: String,
    },
    /// Look for keys in files and folders: whoever finds one there can use it.
    Find {
        /// Files and folders.
        #[arg(required = true)]
        paths: Vec<PathBuf>,
    },
}

#[derive(Args)]
pub(crate) struct KeyChangeArgs {
    /// What the key is known by.
    pub(crate) prefix: String,
    /// What it is for.
    #[arg(long)]
    pub(crate) label: Option<String>,
    /// Days from now until it ends.
    #[arg(long)]
    pub(crate) days: Option<u32>,
    /// It does not end.
    #[arg(long, conflicts_with = "days")]
    pub(crate) endless: bool,
    #[command(flatten)]
    pub(crate) opens: Opening,
    /// It opens every facade.
    #[arg(long, conflicts_with = "facades")]
    pub(crate) every_facade: bool,
    /// It is for all agreements of its consumer.
    #[arg(long, conflicts_with = "agreements")]
    pub(crate) every_agreement: bool,
}

#[derive(Subcommand)]
pub(crate) enum AgreementCommand {
    /// List agreements.
    List {
        /// Only those with a text in the names of offer or consumer, or in its owner.
        #[arg(long, default_value = "")]
        search: String,
        /// Only those of an offer.
        #[arg(long, value_name = "NAME")]
        offer: Option<String>,
        /// Only those that have not ended.
        #[arg(long)]
        holding: bool,
    },
    /// Note what a consumer has agreed to.
    Create {
        /// The consumer.
        consumer: String,
        /// The name of what was offered.
        offer: String,
        /// A term that rules read: name=value, where a whole number is one, and anything else a text. As in the offer of this
        /// name, where there is one, unless given.
        #[arg(long = "term", value_name = "NAME=VALUE")]
        terms: Vec<String>,
        /// A facade that it opens; may stand several times. Without facades and operations: what the offer of this name opens,
        /// else every facade.
        #[arg(long = "facade", value_name = "NAME")]
        facades: Vec<String>,
        /// An operation that it opens, as FACADE/OPERATION; may stand several times.
        #[arg(long = "operation", value_name = "FACADE/OPERATION")]
        operations: Vec<String>,
        /// Days that it lasts; as long as the offer of this name says, else without end, unless given.
        #[arg(long)]
        days: Option<u32>,
    },
    /// Change an agreement; what is not said stays as it is.
    Change {
        /// Its number.
        number: i64,
        /// All of its terms from now on: name=value.
        #[arg(long = "term", value_name = "NAME=VALUE")]
        terms: Vec<String>,
        /// Days from now until it ends.
        #[arg(long)]
        days: Option<u32>,
    },
    /// End an agreement, and tell those who call.
    End {
        /// Its number.
        number: i64,
        /// Not at once: it goes on for as long as its offer says that notice takes.
        #[arg(long)]
        notice: bool,
        /// Why.
        #[arg(long, default_value = "")]
        why: String,
    },
    /// Take an agreement away, as if it had not been made.
    Delete {
        /// Its number.
        number: i64,
    },
}

#[derive(Subcommand)]
pub(crate) enum QuotaCommand {
    /// Show how far quotas are used, by whoever has called in their periods.
    List,
    /// Add something to a consumer's quota, once: for the period that runs now.
    Add {
        /// The consumer.
        consumer: String,
        /// How much is added.
        amount: u64,
        /// The facade that the quota is of, or FACADE/OPERATION where not all of its operations have the same.
        #[arg(long, value_name = "FACADE")]
        of: String,
        /// Why; it stands in the audit.
        #[arg(long)]
        why: String,
    },
    /// Show what publishers and consumers were told of quotas.
    Told {
        /// Only of a consumer.
        #[arg(long, default_value = "")]
        consumer: String,
    },
}
