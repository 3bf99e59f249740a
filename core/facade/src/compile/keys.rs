//! Keys of documents that have a meaning for some kinds of backends only.

use porch_contract::{Finding, Severity, Step};

use super::{FacadeCompiler, Wired};
use crate::documents::{BackendDoc, OperationDoc};
use crate::read::Document;

impl FacadeCompiler<'_> {
    /// Keys of the facade that none of its backends understands.
    pub(super) fn facade_keys(&mut self) {
        let (facade, documents) = (self.from.facade, self.from.documents);
        let kinds = self.kinds();
        let called: Vec<&str> = facade
            .doc
            .backends()
            .filter_map(|name| documents.backends.get(name))
            .map(|b| b.doc.kind.as_str())
            .collect();
        for key in kinds.keys(|k| k.facade) {
            let understood = called
                .iter()
                .filter_map(|name| kinds.get(name))
                .any(|k| k.keys().facade.contains(&key));
            if understood || facade.node.get(key).is_none() {
                continue;
            }
            let at = facade.node.locate(&[Step::Key(key.into())], true);
            let labels = kinds.with_key(|k| k.facade, key).join(" and ");
            let message = format!("“{key}” has no meaning here");
            self.findings.push(
                Finding::new(Severity::Warning, &facade.file, at, message)
                    .help(format!("it is for facades that call {labels} backends")),
            );
        }
    }

    /// Keys of an operation that its backend does not understand.
    pub(super) fn operation_keys(&mut self, id: &str, doc: &OperationDoc, wired: &Wired) {
        let known = wired.kind.keys().operation;
        self.keys_of_calls(&["operations", id], known, doc.faults.is_empty());
    }

    /// The same for one of several calls.
    pub(super) fn step_keys(&mut self, (id, name): (&str, &str), known: &[&str]) {
        self.keys_of_calls(&["operations", id, "calls", name], known, false);
    }

    fn keys_of_calls(&mut self, place: &[&str], known: &[&str], no_faults: bool) {
        let (facade, kinds) = (self.from.facade, self.kinds());
        let of = place.iter().try_fold(&facade.node, |node, k| node.get(k));
        for key in kinds.keys(|k| k.operation) {
            let steps = place.iter().chain([&key]);
            let steps: Vec<Step> = steps.map(|k| Step::Key((*k).into())).collect();
            let empty = key == "faults" && no_faults;
            let there = of.and_then(|o| o.get(key)).is_some();
            if known.contains(&key) || !there || empty {
                continue;
            }
            let at = facade.node.locate(&steps, true);
            let labels = kinds.with_key(|k| k.operation, key).join(" and ");
            let (what, help) = match key {
                "faults" => ("answers have", ""),
                _ => ("calls have", "use `send` and `reply`"),
            };
            let message = match key {
                "faults" => format!("only {labels} {what} faults"),
                _ => format!("only {labels} {what} “{key}”"),
            };
            self.findings
                .push(Finding::error(&facade.file, at, message).help(help));
        }
    }

    /// Keys of a backend's document that its kind does not understand.
    pub(super) fn backend_keys(&mut self, backend: &Document<BackendDoc>, known: &[&str]) {
        let kinds = self.kinds();
        for key in kinds.keys(|k| k.backend) {
            let is_xml = backend.doc.media_type == Some(crate::MediaType::Xml);
            let fits = known.contains(&key) && (key != "xml" || is_xml);
            // A key that stands deeper has dots between its steps.
            let mut path = key.split('.');
            let there = path.try_fold(&backend.node, |node, step| node.get(step));
            if fits || there.is_none() {
                continue;
            }
            let steps: Vec<Step> = key.split('.').map(|k| Step::Key(k.into())).collect();
            let at = backend.node.locate(&steps, true);
            let help = match key {
                "media-type" | "xml" => {
                    "the generic mapping is for HTTP backends with `media-type: application/xml`; SOAP has a schema".to_owned()
                }
                _ => format!(
                    "it is for {} backends",
                    kinds.with_key(|k| k.backend, key).join(" and ")
                ),
            };
            let own = key.rsplit('.').next().unwrap_or(key);
            let message = format!("“{own}” has no meaning here");
            self.findings
                .push(Finding::error(&backend.file, at, message).help(help));
        }
    }
}
