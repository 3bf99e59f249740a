//! Compiling which certificates of callers are taken.

use std::sync::Arc;

use porch_contract::{Finding, Step, stable_id};
use porch_tls::Authorities;

use super::FacadeCompiler;
use super::levels::Level;
use crate::compiled::CertificateRule;
use crate::documents::CallersCertificateDoc;
use crate::read::beside;

impl<'a> FacadeCompiler<'a> {
    pub(super) fn certificate(
        &mut self,
        level: &Level<'a>,
        i: usize,
        doc: &CallersCertificateDoc,
    ) -> Option<Arc<CertificateRule>> {
        let mut wrong = |key: &str, message: String, help: &str| {
            let mut steps = level.below(&["admit", "credentials"]);
            let below = [Step::Index(i), Step::Key("certificate".into())];
            steps.extend(below);
            steps.push(Step::Key(key.into()));
            let at = level.site.node.locate(&steps, false);
            let finding = Finding::error(level.site.file, at, message).help(help);
            self.findings.push(finding);
        };
        let file = |name: &str| {
            let path = beside(level.site.file, name);
            let text = self.from.files.get(&path).map(String::as_str);
            text.ok_or(format!("there is no file “{path}”"))
        };
        let Some(authorities) = &doc.authorities else {
            if doc.revoked.is_some() {
                let message = "what nobody signed is not revoked".to_owned();
                wrong(
                    "revoked",
                    message,
                    "say whose list it is with `authorities`",
                );
                return None;
            }
            let id = 0;
            let authorities = None;
            return Some(Arc::new(CertificateRule { id, authorities }));
        };
        let pem = match file(authorities) {
            Ok(pem) => pem,
            Err(message) => {
                wrong("authorities", message, "");
                return None;
            }
        };
        let revoked = match doc.revoked.as_deref().map(file).transpose() {
            Ok(revoked) => revoked,
            Err(message) => {
                wrong("revoked", message, "");
                return None;
            }
        };
        match Authorities::read(pem, revoked) {
            Ok(read) => Some(Arc::new(CertificateRule {
                id: stable_id(&format!("{pem}\0{}", revoked.unwrap_or_default())),
                authorities: Some(read),
            })),
            Err(why) => {
                let key = match Authorities::read(pem, None) {
                    Ok(_) => "revoked",
                    Err(_) => "authorities",
                };
                wrong(key, format!("it cannot be used: {why}"), "");
                None
            }
        }
    }
}
