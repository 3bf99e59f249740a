//! Compiling from which networks callers may call.

use std::net::IpAddr;
use std::sync::Arc;

use ipnet::IpNet;
use porch_contract::{Finding, Step};

use super::FacadeCompiler;
use super::levels::{Level, Scope};
use crate::compiled::Networks;
use crate::documents::NetworksDoc;

/// Networks of one list, at most.
const MOST: usize = 1_000;

impl<'a> FacadeCompiler<'a> {
    /// The rules of networks that hold: those of every level. What reaches several operations is compiled once.
    pub(super) fn networks(&mut self) -> Box<[Arc<Networks>]> {
        let mut all = Vec::new();
        for level in self.levels.clone().iter() {
            let Some(doc) = &level.admit.networks else {
                continue;
            };
            if level.scope == Scope::Operation {
                all.extend(self.networks_of(level, doc));
                continue;
            }
            let key = (level.reach.clone(), level.site.file.to_owned());
            let known = match self.shared.networks.get(&key) {
                Some(known) => known.clone(),
                None => {
                    let made = self.networks_of(level, doc);
                    self.shared.networks.insert(key, made.clone());
                    made
                }
            };
            all.extend(known);
        }
        all.into()
    }

    fn networks_of(&mut self, level: &Level<'a>, doc: &NetworksDoc) -> Option<Arc<Networks>> {
        if doc.allow.is_empty() && doc.deny.is_empty() {
            let at = level.at(&["admit", "networks"]);
            let help = "add `allow: [10.20.0.0/16]` or `deny:`, or leave it out";
            let finding = Finding::error(level.site.file, at, "no network is named").help(help);
            self.findings.push(finding);
            return None;
        }
        Some(Arc::new(Networks {
            allow: self.list(level, "allow", &doc.allow),
            deny: self.list(level, "deny", &doc.deny),
            place: self.said_at(level, &["admit", "networks"], words(doc)),
        }))
    }

    fn list(&mut self, level: &Level<'a>, key: &str, texts: &[String]) -> Vec<IpNet> {
        let mut nets = Vec::new();
        let mut wrong = |i: Option<usize>, message: String, help: &str| {
            let mut steps = level.below(&["admit", "networks", key]);
            steps.extend(i.map(Step::Index));
            let at = level.site.node.locate(&steps, false);
            self.findings
                .push(Finding::error(level.site.file, at, message).help(help));
        };
        if texts.len() > MOST {
            let message = format!("{} networks, and {MOST} are the most", texts.len());
            wrong(None, message, "");
        }
        for (i, text) in texts.iter().take(MOST).enumerate() {
            match network(text) {
                Some(net) if net.trunc() == net => nets.push(net),
                Some(net) => {
                    let message = format!("“{text}” is an address within a network");
                    let help = format!("the network is {}", net.trunc());
                    wrong(Some(i), message, &help);
                }
                None => {
                    let message = format!("“{text}” is no network");
                    let help = "networks are written as 10.20.0.0/16 or 2001:db8::/32, single addresses as they are";
                    wrong(Some(i), message, help);
                }
            }
        }
        nets
    }
}

/// A network, or one address (RFC 4632 §3.1, RFC 4291 §2.3).
fn network(text: &str) -> Option<IpNet> {
    let text = text.trim();
    let one = || text.parse::<IpAddr>().ok().map(IpNet::from);
    text.parse().ok().or_else(one)
}

fn words(doc: &NetworksDoc) -> String {
    const SHOWN: usize = 5;
    let listed = |all: &[String]| {
        let more = all.len().saturating_sub(SHOWN);
        let rest = match more {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        all[..all.len() - more].join(", ") + &rest
    };
    match (doc.allow.as_slice(), doc.deny.as_slice()) {
        ([], []) => "callers of every network".to_owned(),
        ([], deny) => format!("no callers of {}", listed(deny)),
        (allow, []) => format!("only callers of {}", listed(allow)),
        (allow, deny) => format!(
            "only callers of {}, but none of {}",
            listed(allow),
            listed(deny)
        ),
    }
}
