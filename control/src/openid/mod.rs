//! Signing in by OpenID Connect: the authorization code flow (OpenID Connect Core 1.0 §3.1) with PKCE (RFC 7636), as its client.
//!
//! What the provider says is held against what was set up: its own name, ours, the nonce of the request, its keys. Nothing of
//! an answer is believed before that.

mod browser;
mod provider;

use std::path::Path;

use porch_fetch::Allowed;
use porch_proof::{Algorithm, Expected, KeySet, NotGood, Token};
use porch_store::Role;
use serde::Deserialize;
use serde_json::{Map, Value};
use tokio::sync::Mutex;

pub(crate) use self::browser::{Lost, Returned, Way, arrived};
use self::provider::{Known, form, is_address, short};

/// By how many seconds clocks may differ.
const SKEW: i64 = 30;

/// How it is set up.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct OpenIdConfig {
    /// The provider's address, as it names itself.
    pub issuer: String,
    /// The name by which this service is known there.
    pub client: String,
    /// A file with the secret that this service shows there; none: it is a public client.
    pub secret_file: Option<std::path::PathBuf>,
    /// What people read on the button.
    pub title: Option<String>,
    /// Where the console is, as browsers see it (`https://console.example`); unless given, by HTTP at the host that is asked for.
    pub origin: Option<String>,
    /// The claim that accounts are named by.
    #[serde(default = "preferred")]
    pub name_claim: String,
    /// The claim that says in which groups somebody is.
    #[serde(default = "groups")]
    pub groups_claim: String,
    /// Which role each group has. None at all: administrators make the accounts, and say their roles.
    #[serde(default)]
    pub roles: std::collections::BTreeMap<String, String>,
    /// What is asked for besides `openid`.
    #[serde(default = "profile")]
    pub scope: String,
    /// A file with the certificates that the provider's may be signed with, in PEM; those of the machine unless given.
    pub trust_file: Option<std::path::PathBuf>,
}

fn preferred() -> String {
    "preferred_username".into()
}

fn groups() -> String {
    "groups".into()
}

fn profile() -> String {
    "profile".into()
}

/// A provider by which people sign in.
pub struct OpenId {
    config: OpenIdConfig,
    roles: Vec<(String, Role)>,
    secret: Option<String>,
    allowed: Allowed,
    known: Mutex<Option<Known>>,
}

/// What a browser is sent away with, and must come back with.
pub(crate) struct Begun {
    pub(crate) address: String,
    pub(crate) state: String,
    pub(crate) nonce: String,
    pub(crate) verifier: String,
}

/// What came back.
pub(crate) struct Came<'c> {
    pub(crate) code: &'c str,
    pub(crate) issuer: Option<&'c str>,
    pub(crate) nonce: &'c str,
    pub(crate) verifier: &'c str,
    /// Where it came back to.
    pub(crate) to: &'c str,
}

/// Who somebody is.
pub(crate) struct Person {
    /// The provider and its name for them, which never changes.
    pub(crate) subject: String,
    /// What they are called.
    pub(crate) name: String,
    /// Their e-mail address, where the provider says that it is theirs (Core §5.1, `email_verified`).
    pub(crate) email: Option<String>,
    /// The highest role of their groups.
    pub(crate) role: Option<Role>,
}

impl OpenId {
    /// Reads how it is set up from a TOML file.
    ///
    /// # Errors
    /// What of it cannot be.
    pub fn read(
        path: &Path,
        parse: impl Fn(&str) -> Result<OpenIdConfig, String>,
    ) -> Result<Self, String> {
        let file = |path: &Path| {
            std::fs::read_to_string(path).map_err(|e| format!("{}: {e}", path.display()))
        };
        let mut config = parse(&file(path)?).map_err(|e| format!("{}: {e}", path.display()))?;
        // White space that was pasted is no part of any of them.
        for text in [&mut config.issuer, &mut config.client] {
            *text = text.trim().to_owned();
        }
        let beside = |other: &Path| path.parent().unwrap_or(Path::new(".")).join(other);
        let secret = match &config.secret_file {
            Some(secret) => Some(file(&beside(secret))?.trim().to_owned()),
            None => None,
        };
        let trust = match &config.trust_file {
            Some(trust) => file(&beside(trust))?,
            None => String::new(),
        };
        let mut roles = Vec::new();
        for (group, role) in &config.roles {
            let role = Role::parse(role.trim()).ok_or_else(|| {
                format!(
                    "{}: “{role}” is no role: viewer, publisher and administrator are",
                    path.display()
                )
            })?;
            roles.push((group.trim().to_owned(), role));
        }
        for (what, address) in [
            ("issuer", Some(&config.issuer)),
            ("origin", config.origin.as_ref()),
        ] {
            if let Some(address) = address
                && !is_address(address)
            {
                return Err(format!(
                    "{}: the {what} “{address}” is no address by http or https",
                    path.display()
                ));
            }
        }
        Ok(Self {
            config,
            roles,
            secret,
            // Whoever sets it up says where it is, on this host too.
            allowed: Allowed {
                local: true,
                trust,
                ..Allowed::default()
            },
            known: Mutex::new(None),
        })
    }

    /// What people read on the button.
    pub(crate) fn title(&self) -> &str {
        self.config.title.as_deref().unwrap_or(&self.config.issuer)
    }

    /// Where the console is, as browsers see it.
    pub(crate) fn origin(&self, host: &str) -> String {
        match &self.config.origin {
            Some(origin) => origin.trim_end_matches('/').to_owned(),
            None => format!("http://{host}"),
        }
    }

    /// Whether groups say which role somebody has.
    pub(crate) fn says_roles(&self) -> bool {
        !self.roles.is_empty()
    }

    /// Where a browser is sent to sign in (Core §3.1.2.1).
    ///
    /// # Errors
    /// Why it cannot be.
    pub(crate) async fn begin(&self, to: &str) -> Result<Begun, String> {
        let known = self.known(false).await?;
        let drawn =
            || crate::api::drawn().map_err(|_| "the system gives no random bytes".to_owned());
        let (state, nonce, verifier) = (drawn()?, drawn()?, drawn()?);
        let challenge = porch_proof::challenge_of(&verifier);
        let scope = format!("openid {}", self.config.scope);
        let query = form(&[
            ("response_type", "code"),
            ("client_id", &self.config.client),
            ("redirect_uri", to),
            ("scope", scope.trim()),
            ("state", &state),
            ("nonce", &nonce),
            ("code_challenge", &challenge),
            ("code_challenge_method", "S256"),
        ]);
        let with = if known.authorization.contains('?') {
            '&'
        } else {
            '?'
        };
        Ok(Begun {
            address: format!("{}{with}{query}", known.authorization),
            state,
            nonce,
            verifier,
        })
    }

    /// Who came back (Core §3.1.3).
    ///
    /// # Errors
    /// Why nobody did.
    pub(crate) async fn finish(&self, came: &Came<'_>, now: i64) -> Result<Person, String> {
        let known = self.known(false).await?;
        // Another provider's answer is none of this one's (RFC 9207 §2.4).
        match came.issuer {
            Some(issuer) if issuer != self.config.issuer => {
                return Err(format!("the answer is from {}", short(issuer)));
            }
            None if known.names_itself => {
                return Err("the answer does not say whose it is (`iss`)".into());
            }
            _ => {}
        }
        let token = self.redeem(&known, came).await?;
        let claims = match self.verified(&token, &known.keys, now) {
            // Its keys may have changed since.
            Err(NotGood::UnknownKey(_)) => {
                let known = self.known(true).await?;
                self.verified(&token, &known.keys, now)
            }
            done => done,
        };
        let claims = claims.map_err(|e| format!("the ID token is not good: {e}"))?;
        self.person(&claims, came.nonce)
    }

    fn verified(
        &self,
        token: &str,
        keys: &KeySet,
        now: i64,
    ) -> Result<Map<String, Value>, NotGood> {
        let expected = Expected {
            issuer: self.config.issuer.clone(),
            audience: vec![self.config.client.clone()],
            algorithms: vec![
                Algorithm::Es256,
                Algorithm::Rs256,
                Algorithm::Ps256,
                Algorithm::EdDsa,
            ],
            types: vec!["jwt".into(), String::new()],
            skew: SKEW,
        };
        Token::read(token)?.verify(keys, &expected, now)
    }

    /// Who the claims of a good token are of (Core §2, §3.1.3.7).
    fn person(&self, claims: &Map<String, Value>, nonce: &str) -> Result<Person, String> {
        let text = |name: &str| claims.get(name).and_then(Value::as_str);
        if text("nonce") != Some(nonce) {
            return Err("the ID token is not for this request (`nonce`)".into());
        }
        let several = matches!(claims.get("aud"), Some(Value::Array(all)) if all.len() > 1);
        match text("azp") {
            Some(party) if party != self.config.client => {
                return Err(format!("the ID token was made for {}", short(party)));
            }
            None if several => {
                return Err(
                    "the ID token is for several, and does not say for whom first (`azp`)".into(),
                );
            }
            _ => {}
        }
        let subject = text("sub").filter(|s| (1..=255).contains(&s.len()));
        let subject = subject.ok_or("the ID token does not say who it is (`sub`)")?;
        let claim = &self.config.name_claim;
        let name = text(claim).map(str::trim).unwrap_or_default();
        if name.is_empty() || name.chars().count() > 80 || name.chars().any(char::is_control) {
            return Err(format!(
                "the ID token has no name in “{claim}”, of 1 to 80 characters"
            ));
        }
        // As a list, or as scopes are written (RFC 6749 §3.3).
        let groups: Vec<&str> = match claims.get(&self.config.groups_claim) {
            Some(Value::Array(all)) => all.iter().filter_map(Value::as_str).collect(),
            Some(Value::String(text)) => text.split_whitespace().collect(),
            _ => Vec::new(),
        };
        let own = self
            .roles
            .iter()
            .filter(|(group, _)| groups.contains(&group.as_str()));
        Ok(Person {
            subject: format!("{} {subject}", self.config.issuer),
            name: name.to_owned(),
            email: text("email")
                .filter(|_| claims.get("email_verified") == Some(&Value::Bool(true)))
                .map(str::to_owned),
            role: own.map(|(_, role)| *role).max(),
        })
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn openid() -> OpenId {
        OpenId {
            config: OpenIdConfig {
                issuer: "https://login.example".into(),
                client: "porch".into(),
                secret_file: None,
                title: None,
                origin: None,
                name_claim: preferred(),
                groups_claim: groups(),
                roles: Default::default(),
                scope: profile(),
                trust_file: None,
            },
            roles: vec![
                ("deck".into(), Role::Viewer),
                ("bridge".into(), Role::Publisher),
            ],
            secret: None,
            allowed: Allowed::default(),
            known: Mutex::new(None),
        }
    }

    #[test]
    fn somebody_is_who_the_token_says_for_this_request_and_for_us() {
        let good = json!({
            "sub": "crew-11", "aud": "porch", "nonce": "n1", "preferred_username": " mikkel ", "groups": ["deck", "bridge"],
        });
        let of = |change: &Value| {
            let mut claims = good.clone();
            for (name, value) in change.as_object().unwrap() {
                claims[name] = value.clone();
            }
            openid().person(claims.as_object().unwrap(), "n1")
        };
        let person = of(&json!({})).unwrap();
        assert_eq!(person.subject, "https://login.example crew-11");
        assert_eq!(
            (&*person.name, person.role),
            ("mikkel", Some(Role::Publisher))
        );
        assert_eq!(
            of(&json!({"groups": "deck galley"})).unwrap().role,
            Some(Role::Viewer)
        );
        assert_eq!(
            of(&json!({"groups": ["decks", 7, null]})).unwrap().role,
            None
        );
        assert_eq!(of(&json!({"groups": null})).unwrap().role, None);
        assert!(of(&json!({"aud": ["porch", "x"], "azp": "porch"})).is_ok());
        for (change, part) in [
            (json!({"nonce": "n2"}), "`nonce`"),
            (json!({"nonce": null}), "`nonce`"),
            (json!({"azp": "x"}), "was made for x"),
            (json!({"aud": ["porch", "x"]}), "`azp`"),
            (json!({"sub": ""}), "`sub`"),
            (json!({"sub": 7}), "`sub`"),
            (json!({"sub": "x".repeat(256)}), "`sub`"),
            (json!({"preferred_username": null}), "no name"),
            (json!({"preferred_username": "  "}), "no name"),
            (json!({"preferred_username": "a\nb"}), "no name"),
            (json!({"preferred_username": "x".repeat(81)}), "no name"),
        ] {
            let told = of(&change).err().unwrap_or_default();
            assert!(told.contains(part), "{change}: {told}");
        }
    }

    #[test]
    fn what_is_sent_in_forms_is_encoded() {
        assert_eq!(provider::encoded("a b&c=+é"), "a+b%26c%3D%2B%C3%A9");
        assert_eq!(form(&[("a", "1 2"), ("b", "&")]), "a=1+2&b=%26");
    }
}
