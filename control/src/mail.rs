//! Letters by e-mail: SMTP (RFC 5321), tried again with growing gaps.

use std::net::IpAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use lettre::message::Mailbox;
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Certificate, Tls, TlsParameters};
use lettre::{AsyncSmtpTransport, AsyncTransport, Message, Tokio1Executor};
use porch_rules::limit::{Limit, States};
use porch_store::MOST_ATTEMPTS;
use porch_store::entity::mail;
use serde::Deserialize;
use tokio::sync::Notify;

use crate::app::App;
use crate::error::ApiError;

/// How it is set up.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct MailConfig {
    /// Host of the server that takes letters.
    pub server: String,
    /// Its port; 465 by TLS, 587 with STARTTLS, 25 without, unless given.
    pub port: Option<u16>,
    /// How the way there is secured; by TLS from the beginning unless given (RFC 8314 §3.3).
    #[serde(default)]
    pub security: Security,
    /// Who they are from, as in `Skerry Line <portal@skerry.example>`.
    pub from: String,
    /// The name that is shown there.
    pub user: Option<String>,
    /// A file with the password that is shown there.
    pub password_file: Option<PathBuf>,
    /// A file with the certificates that the server's may be signed with, in PEM; those of the machine unless given.
    pub trust_file: Option<PathBuf>,
}

/// How the way to the server is secured.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Security {
    /// By TLS from the beginning (RFC 8314).
    #[default]
    Tls,
    /// By STARTTLS (RFC 3207), and not at all without it.
    Starttls,
    /// Not at all: for a server on this machine.
    None,
}

/// A server that takes letters.
#[derive(Clone)]
pub struct Mail {
    transport: AsyncSmtpTransport<Tokio1Executor>,
    from: Mailbox,
}

impl Mail {
    /// Reads a file that says how letters are sent.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn read(
        file: &Path,
        parse: impl Fn(&str) -> Result<MailConfig, String>,
    ) -> Result<Self, String> {
        let told = |what: &Path, e: String| format!("{}: {e}", what.display());
        let read =
            |path: &Path| std::fs::read_to_string(path).map_err(|e| told(path, e.to_string()));
        let config = parse(&read(file)?).map_err(|e| told(file, e))?;
        Self::of(&config, file.parent().unwrap_or(Path::new("")), read).map_err(|e| told(file, e))
    }

    fn of(
        config: &MailConfig,
        folder: &Path,
        read: impl Fn(&Path) -> Result<String, String>,
    ) -> Result<Self, String> {
        let from = config.from.parse::<Mailbox>();
        let from = from.map_err(|e| format!("`from` is no address: {e}"))?;
        let mut tls = TlsParameters::builder(config.server.clone());
        if let Some(trust) = &config.trust_file {
            let pem = read(&folder.join(trust))?;
            let wrong = |e| format!("`trust-file` holds no certificate: {e}");
            tls = tls.add_root_certificate(Certificate::from_pem(pem.as_bytes()).map_err(wrong)?);
        }
        let tls = || tls.clone().build_rustls().map_err(|e| e.to_string());
        let (tls, usual) = match config.security {
            Security::Tls => (Tls::Wrapper(tls()?), 465),
            Security::Starttls => (Tls::Required(tls()?), 587),
            Security::None => (Tls::None, 25),
        };
        let mut transport = AsyncSmtpTransport::<Tokio1Executor>::builder_dangerous(&config.server)
            .port(config.port.unwrap_or(usual))
            .tls(tls)
            .timeout(Some(Duration::from_secs(20)));
        match (&config.user, &config.password_file) {
            (Some(user), Some(file)) => {
                let password = read(&folder.join(file))?.trim().to_owned();
                transport = transport.credentials(Credentials::new(user.clone(), password));
            }
            (None, None) => {}
            _ => return Err("`user` and `password-file` go together".into()),
        }
        Ok(Self {
            transport: transport.build(),
            from,
        })
    }

    async fn send(&self, letter: &mail::Model) -> Result<(), String> {
        let to = letter
            .to_address
            .parse()
            .map_err(|e| format!("no address: {e}"))?;
        let message = Message::builder()
            .from(self.from.clone())
            .to(Mailbox::new(None, to))
            .subject(letter.subject.clone())
            .body(letter.text.clone())
            .map_err(|e| e.to_string())?;
        let sent = self.transport.send(message).await;
        sent.map(drop).map_err(|e| e.to_string())
    }
}

/// Letters to one address in an hour.
const TO_ONE: Limit = Limit::of(5, Duration::from_secs(3600));
/// Letters that one address of the network may cause in an hour.
const FROM_ONE: Limit = Limit::of(30, Duration::from_secs(3600));

/// How many letters may be caused, and when there are some.
pub(crate) struct Letters {
    counts: States,
    key: blake3::Hash,
    started: Instant,
    some: Notify,
}

impl Letters {
    pub(crate) fn new() -> Self {
        let mut random = [0u8; 32];
        // Without it, subjects could be foreseen; nothing else hangs on it.
        let _ = getrandom::fill(&mut random);
        Self {
            counts: States::new(),
            key: blake3::hash(&random),
            started: Instant::now(),
            some: Notify::new(),
        }
    }

    fn asked(&self, limit: Limit, kind: u64, whom: &str) -> bool {
        let hash = blake3::keyed_hash(self.key.as_bytes(), whom.as_bytes());
        let subject = hash
            .as_bytes()
            .first_chunk()
            .copied()
            .map_or(0, u64::from_le_bytes);
        let now = self.started.elapsed().as_millis() as u64;
        self.counts.ask(kind, subject, limit, 1, now).allowed
    }

    /// Whether an address may get one more letter that it did not ask for while signed in.
    pub(crate) fn may_have(&self, email: &str) -> bool {
        self.asked(TO_ONE, 1, email)
    }

    /// Whether an address of the network may cause one more.
    pub(crate) fn may_cause(&self, address: IpAddr) -> Result<(), ApiError> {
        match self.asked(FROM_ONE, 2, &address.to_string()) {
            true => Ok(()),
            false => Err(ApiError::new(
                429,
                "Too many letters were asked for",
                "Try again in an hour.",
            )),
        }
    }

    /// There are letters to be sent.
    pub(crate) fn wake(&self) {
        self.some.notify_one();
    }

    pub(crate) fn sweep(&self) {
        self.counts.sweep(self.started.elapsed().as_millis() as u64);
    }
}

/// How long to wait behind so many attempts, in milliseconds: half a minute, twice as long each time, at most six hours.
fn wait(attempts: i32) -> i64 {
    let doubled = u32::try_from(attempts.saturating_sub(1))
        .unwrap_or(0)
        .min(20);
    (30_000_i64 << doubled).min(6 * 3_600_000)
}

/// Sends letters as they come.
pub(crate) async fn send(app: Arc<App>) {
    let Some(mail) = app.config.mail.clone() else {
        return;
    };
    loop {
        let due = match app.database.store() {
            Ok(store) => store.letters_due(20).await.unwrap_or_default(),
            Err(_) => Vec::new(),
        };
        if due.is_empty() {
            let some = app.letters.some.notified();
            let _ = tokio::time::timeout(Duration::from_secs(5), some).await;
            continue;
        }
        for letter in due {
            one(&app, &mail, &letter).await;
        }
    }
}

async fn one(app: &App, mail: &Mail, letter: &mail::Model) {
    let sent = mail.send(letter).await;
    let Ok(store) = app.database.store() else {
        return;
    };
    let noted = match sent {
        Ok(()) => store.letter_done(letter.id).await,
        Err(e) if letter.attempts >= MOST_ATTEMPTS => {
            tracing::error!("letter {} is given up: {e}", letter.id);
            store.letter_done(letter.id).await
        }
        Err(e) => {
            tracing::warn!("letter {} cannot be sent now: {e}", letter.id);
            store.letter_later(letter.id, wait(letter.attempts)).await
        }
    };
    if let Err(e) = noted {
        tracing::warn!("what became of letter {} cannot be noted: {e}", letter.id);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn gaps_grow_and_do_not_grow_for_ever() {
        let waits: Vec<i64> = [1, 2, 3, 9, 100].into_iter().map(wait).collect();
        assert_eq!(waits, [30_000, 60_000, 120_000, 7_680_000, 21_600_000]);
    }

    #[test]
    fn one_address_gets_few_letters_and_another_one_its_own() {
        let letters = Letters::new();
        let allowed = |email: &str| (0..7).filter(|_| letters.may_have(email)).count();
        assert_eq!((allowed("a@b.example"), allowed("c@b.example")), (5, 5));
        let from = |last| IpAddr::from([127, 0, 0, last]);
        assert_eq!(
            (0..40)
                .filter(|_| letters.may_cause(from(1)).is_ok())
                .count(),
            30
        );
        assert!(letters.may_cause(from(2)).is_ok());
    }

    #[test]
    fn what_is_wrong_with_the_set_up_is_said() {
        let of = |text: &str| {
            let config: MailConfig = toml::from_str(text).map_err(|e| e.to_string())?;
            Mail::of(&config, Path::new(""), |p| {
                Err(format!("{}: not there", p.display()))
            })
        };
        let good = "server = 'mail.example'\nfrom = 'Skerry Line <portal@skerry.example>'\nsecurity = 'none'\n";
        assert!(of(good).is_ok());
        for (more, part) in [
            ("user = 'quay'", "go together"),
            ("user = 'quay'\npassword-file = 'gone'", "not there"),
            ("trust-file = 'gone'", "not there"),
            ("sender = 'x'", "sender"),
        ] {
            let told = of(&format!("{good}{more}\n")).err().unwrap_or_default();
            assert!(told.contains(part), "{more}: {told}");
        }
        let told = of("server = 'x'\nfrom = 'nobody'\n")
            .err()
            .unwrap_or_default();
        assert!(told.contains("`from`"), "{told}");
    }
}
