//! A set of documents, read and checked once; everything that is shown, compiled or released is a view of it.

mod inside;

use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::{Arc, OnceLock};

use porch_contract::{Contract, Finding, Node, Position, Severity, Step, has_errors, suggest};

use crate::compile::{self, Sources};
use crate::compiled::{Checked, CompiledPorch, Definition, Secrets};
use crate::documents::{BackendDoc, EnvironmentDoc, FacadeDoc};
use crate::library::{Content, Digest, Library, ReadContract};
use crate::offers;
use crate::pointers;
use crate::read::{Document, beside};
use crate::shared::{self, Ruled};
use crate::{Documents, Files};

/// A set of documents with all that follows from them.
pub struct Model {
    /// The files.
    pub files: Arc<Files>,
    /// The documents among them.
    pub documents: Documents,
    environment: Option<EnvironmentDoc>,
    contracts: HashMap<String, LazyContract>,
    checked: HashMap<String, OnceLock<Arc<Checked>>>,
    findings: OnceLock<Vec<Finding>>,
    /// What was read and compiled before.
    pub library: Arc<Library>,
}

/// A facade's contract, read when somebody asks for it.
struct LazyContract {
    path: String,
    read: OnceLock<Option<Arc<ReadContract>>>,
}

impl Model {
    /// Reads a set of files. Addresses are those of the environment named `environment` where the files hold it.
    pub fn read(files: Arc<Files>, environment: &str, library: &Arc<Library>) -> Self {
        let documents = Documents::named(&files);
        let here = documents.environments.get(environment);
        let here = here.map(|e| e.doc.clone());
        Self::of(files, documents, here, library)
    }

    /// Reads the files of a release, whose backends have these addresses.
    pub fn released(files: Arc<Files>, here: EnvironmentDoc, library: &Arc<Library>) -> Self {
        let documents = Documents::named(&files);
        Self::of(files, documents, Some(here), library)
    }

    /// A facade of a release, compiled; one that stands on the same files, addresses and secrets and is in use is taken as it
    /// is, without reading anything.
    pub fn of_release(
        name: &str,
        files: &Files,
        here: EnvironmentDoc,
        library: &Arc<Library>,
        secrets: &Secrets<'_>,
    ) -> (Option<Arc<Checked>>, Vec<Finding>) {
        let mut content = Content::default();
        content.add("release").add(name);
        for (path, text) in files {
            content.add(path).add(text);
        }
        for (backend, place) in &here.backends {
            content.add(backend).add(place.address.joined());
        }
        let key = content.digest();
        if let Some(known) = library.checked(&key)
            && known.is_good(secrets)
        {
            let findings = known.findings.clone();
            return (Some(known), findings);
        }
        let model = Self::released(Arc::new(files.clone()), here, library);
        let mut findings = model.documents.findings.clone();
        let checked = model.compile(name, secrets);
        match &checked {
            Some(checked) => {
                library.keep_checked(key, checked);
                findings.extend(checked.findings.iter().cloned());
            }
            None => findings.push(Finding::error(
                "",
                Position::default(),
                format!("there is no facade “{name}”"),
            )),
        }
        (checked, findings)
    }

    fn of(
        files: Arc<Files>,
        mut documents: Documents,
        environment: Option<EnvironmentDoc>,
        library: &Arc<Library>,
    ) -> Self {
        let unknown: Vec<Finding> = documents
            .backends
            .values()
            .filter_map(|b| unknown_kind(b, library))
            .collect();
        documents.findings.extend(unknown);
        let contracts: HashMap<String, LazyContract> = documents
            .facades
            .iter()
            .map(|(name, facade)| {
                let path = beside(&facade.file, &facade.doc.contract);
                let read = OnceLock::new();
                (name.clone(), LazyContract { path, read })
            })
            .collect();
        // What is wrong with a contract is told when it is read as one.
        let paths: HashSet<&str> = contracts.values().map(|c| c.path.as_str()).collect();
        documents.aside.retain(|f| !paths.contains(f.as_str()));
        library.read_aside(&mut documents, &files);
        let checked = documents
            .facades
            .keys()
            .map(|name| (name.clone(), OnceLock::new()))
            .collect();
        Self {
            files,
            documents,
            environment,
            contracts,
            checked,
            findings: OnceLock::new(),
            library: library.clone(),
        }
    }

    /// The contract of a facade, when both can be read.
    pub fn contract(&self, facade: &str) -> Option<&Contract> {
        self.read_contract(facade)?.contract.as_ref()
    }

    fn read_contract(&self, facade: &str) -> Option<&Arc<ReadContract>> {
        let LazyContract { path, read } = self.contracts.get(facade)?;
        read.get_or_init(|| Some(self.library.contract(path, self.files.get(path)?)))
            .as_ref()
    }

    /// The contract of a facade, as the library has it, when both can be read.
    pub fn shared_contract(&self, facade: &str) -> Option<Arc<ReadContract>> {
        self.read_contract(facade).cloned()
    }

    /// The definition of a backend, when it can be read.
    pub fn definition(&self, backend: &str) -> Option<Arc<dyn Definition>> {
        let backend = self.documents.backends.get(backend)?;
        let kind = self.library.kinds.get(&backend.doc.kind)?;
        self.library.definition(&**kind, &self.files, backend).ok()
    }

    /// A facade checked, with every secret taken to be there; `None` when there is no such facade.
    pub fn facade(&self, name: &str) -> Option<Arc<Checked>> {
        let cell = self.checked.get(name)?;
        let facade = self.documents.facades.get(name)?;
        Some(
            cell.get_or_init(|| self.checked_with(facade, &Secrets::Placeholder))
                .clone(),
        )
    }

    /// A facade compiled with secrets; one that stands on the same content and secrets and is in use is taken as it is.
    pub fn compile(&self, name: &str, secrets: &Secrets<'_>) -> Option<Arc<Checked>> {
        match secrets {
            Secrets::Placeholder => self.facade(name),
            Secrets::Known(_) => {
                let facade = self.documents.facades.get(name)?;
                Some(self.checked_with(facade, secrets))
            }
        }
    }

    /// Facades compiled and put together, and everything that was found. Without names: all.
    pub fn porch(&self, names: &[&str], secrets: &Secrets<'_>) -> (CompiledPorch, Vec<Finding>) {
        let all: Vec<&str> = self.documents.facades.keys().map(String::as_str).collect();
        let names = if names.is_empty() { &all } else { names };
        Self::put_together(names, |name| self.compile(name, secrets))
    }

    fn put_together(
        names: &[&str],
        mut of: impl FnMut(&str) -> Option<Arc<Checked>>,
    ) -> (CompiledPorch, Vec<Finding>) {
        let (mut facades, mut findings) = (Vec::new(), Vec::new());
        for name in names {
            match of(name) {
                Some(checked) => {
                    findings.extend(checked.findings.iter().cloned());
                    facades.extend(checked.compiled.clone());
                }
                None => findings.push(Finding::error(
                    "",
                    Position::default(),
                    format!("there is no facade “{name}”"),
                )),
            }
        }
        let (porch, clashes) = CompiledPorch::assemble(0, facades);
        findings.extend(clashes);
        tidy(&mut findings);
        (porch, findings)
    }

    /// Everything that is wrong with the documents, or worth knowing.
    pub fn findings(&self) -> &[Finding] {
        self.findings.get_or_init(|| {
            let mut findings = self.documents.findings.clone();
            let names: Vec<&str> = self.documents.facades.keys().map(String::as_str).collect();
            let found = Self::put_together(&names, |name| self.found(name)).1;
            let found = found.into_iter();
            findings.extend(found.filter(|f| !self.follows_from_what_is_unread(f)));
            findings.extend(self.wrong_inside());
            let own = shared::on_their_own(&self.documents).into_iter();
            let own: Vec<Finding> = own.filter(|f| !findings.contains(f)).collect();
            findings.extend(own);
            findings.extend(self.offer_findings());
            if !self.documents.may_hold("facade/1", None) {
                findings.extend(self.unused_backends());
            }
            pointers::add(&self.files, &mut findings);
            findings
        })
    }

    /// A facade as far as its findings go. What is served with the values of secrets, and stands on the same content, has been
    /// found good and need not be compiled again with placeholders in their place.
    pub fn found(&self, name: &str) -> Option<Arc<Checked>> {
        let facade = self.documents.facades.get(name)?;
        if let Some(known) = self.checked.get(name)?.get() {
            return Some(known.clone());
        }
        let served = self.digest(facade, &Secrets::Known(&HashMap::new()));
        let served = self.library.checked(&served);
        let good = served.filter(|s| s.compiled.is_some() && !has_errors(&s.findings));
        good.or_else(|| self.facade(name))
    }

    /// The files that a facade stands on: its document, its contract, its backends and their definitions. A release keeps
    /// them together, so that a facade is served exactly as it was checked.
    pub fn bundle(&self, facade: &str) -> Option<Files> {
        let facade = self.documents.facades.get(facade)?;
        let names = self.names_of(facade);
        Some(
            names
                .into_iter()
                .filter_map(|n| self.files.get(&n).map(|t| (n, t.clone())))
                .collect(),
        )
    }

    /// A facade's document and its contract, unless another facade has it too; and the backends that only it calls.
    pub fn own_files(&self, facade: &str) -> Option<(Vec<String>, Vec<String>)> {
        let own = self.documents.facades.get(facade)?;
        let others = || {
            self.documents
                .facades
                .values()
                .filter(|f| f.file != own.file)
        };
        let contract = |f: &Document<FacadeDoc>| beside(&f.file, &f.doc.contract);
        let mut files = vec![own.file.clone()];
        let its = contract(own);
        if self.files.contains_key(&its) && others().all(|f| contract(f) != its) {
            files.push(its);
        }
        let called: HashSet<&str> = others().flat_map(|f| f.doc.backends()).collect();
        let backends = self.backends_of(own).map(|b| b.doc.name.clone());
        let unused = backends.filter(|b| !called.contains(b.as_str())).collect();
        Some((files, unused))
    }

    /// The backends that a facade calls, each once.
    pub fn backends_of<'m>(
        &'m self,
        facade: &'m Document<FacadeDoc>,
    ) -> impl Iterator<Item = &'m Document<BackendDoc>> {
        let names: BTreeSet<&str> = facade.doc.backends().collect();
        names
            .into_iter()
            .filter_map(|n| self.documents.backends.get(n))
    }

    /// The names of the shared rules that reach a facade, in whatever way.
    pub fn rules_of<'m>(&'m self, facade: &str) -> impl Iterator<Item = &'m str> {
        let facade = self.documents.facades.get(facade).into_iter();
        let all = facade.flat_map(|f| shared::reaching(&self.documents, &f.doc));
        all.map(|r| r.doc.name.as_str())
    }

    fn names_of(&self, facade: &Document<FacadeDoc>) -> BTreeSet<String> {
        let mut names = BTreeSet::from([
            facade.file.clone(),
            beside(&facade.file, &facade.doc.contract),
        ]);
        let mut add = |file: &str, level: &Node| {
            names.extend(files_of(level).map(|name| beside(file, name)));
        };
        add(&facade.file, &facade.node);
        for operation in facade
            .node
            .get("operations")
            .into_iter()
            .flat_map(Node::entries)
        {
            add(&facade.file, &operation.2);
        }
        let rules = shared::reaching(&self.documents, &facade.doc);
        rules.for_each(|r| add(&r.file, &r.node));
        let rules = shared::reaching(&self.documents, &facade.doc);
        names.extend(rules.map(|r| r.file.clone()));
        for backend in self.backends_of(facade) {
            names.insert(backend.file.clone());
            let calling = &backend.doc.credentials.calling;
            let beside_it =
                (backend.doc.trust.iter()).chain(calling.certificate.iter().map(|c| &c.file));
            names.extend(beside_it.map(|file| beside(&backend.file, file)));
            if let Some(kind) = self.library.kinds.get(&backend.doc.kind) {
                names.extend(kind.sources(&self.files, backend));
            }
        }
        names
    }

    /// A hash of all that a facade stands on, but for the values of secrets.
    fn digest(&self, facade: &Document<FacadeDoc>, secrets: &Secrets<'_>) -> Digest {
        let mut content = Content::default();
        content.add(match secrets {
            Secrets::Placeholder => "checked",
            Secrets::Known(_) => "with secrets",
        });
        content.add(&facade.doc.name);
        for name in self.names_of(facade) {
            if let Some(text) = self.files.get(&name) {
                content.add(&name).add(text);
            }
        }
        let here = self.environment.as_ref();
        for backend in self.backends_of(facade) {
            if let Some(place) = here.and_then(|e| e.backends.get(&backend.doc.name)) {
                content.add(&backend.doc.name).add(place.address.joined());
            }
        }
        content.digest()
    }

    fn checked_with(&self, facade: &Document<FacadeDoc>, secrets: &Secrets<'_>) -> Arc<Checked> {
        let key = self.digest(facade, secrets);
        if let Some(known) = self.library.checked(&key)
            && (matches!(secrets, Secrets::Placeholder) || known.is_good(secrets))
        {
            return known;
        }
        let made = Arc::new(self.check(facade, secrets));
        self.library.keep_checked(key, &made);
        made
    }

    fn check(&self, facade: &Document<FacadeDoc>, secrets: &Secrets<'_>) -> Checked {
        let Some(read) = self.read_contract(&facade.doc.name) else {
            return Checked {
                compiled: None,
                findings: vec![self.no_contract(facade)],
            };
        };
        let mut findings = read.findings.clone();
        let compiled = read.contract.as_ref().map(|contract| {
            let (ruled, found) = Ruled::of(&self.files, &self.documents, facade);
            findings.extend(found);
            let (compiled, found) = compile::facade(&Sources {
                ruled: &ruled,
                files: &self.files,
                documents: &self.documents,
                facade,
                contract_file: &beside(&facade.file, &facade.doc.contract),
                contract,
                environment: self.environment.as_ref(),
                secrets,
                library: &self.library,
            });
            findings.extend(found);
            Arc::new(compiled)
        });
        Checked { compiled, findings }
    }

    fn no_contract(&self, facade: &Document<FacadeDoc>) -> Finding {
        let path = beside(&facade.file, &facade.doc.contract);
        let at = facade.node.locate(&[Step::Key("contract".into())], false);
        let near = suggest(&path, self.files.keys().map(String::as_str))
            .map_or_else(String::new, |n| format!("did you mean “{n}”?"));
        Finding::error(&facade.file, at, format!("there is no file “{path}”")).help(near)
    }

    /// Whether something is only missing because the document that would have it cannot be read.
    fn follows_from_what_is_unread(&self, finding: &Finding) -> bool {
        let named = |text: &str| text.split(['“', '”']).nth(1).map(str::to_owned);
        let Some(name) = named(&finding.message) else {
            return false;
        };
        let documents = &self.documents;
        if finding.message == compile::no_backend(&name) {
            return documents.may_hold("backend/1", Some(&name));
        }
        finding.message == compile::no_address(&name) && documents.may_hold("environment/1", None)
    }

    /// What is wrong with offers and the portal.
    pub fn offer_findings(&self) -> Vec<Finding> {
        let documents = &self.documents;
        let offers = documents.offers.values();
        let offers = offers.flat_map(|o| offers::of_offer(self, o));
        let portals = documents.portals.values();
        let mut all: Vec<Finding> = offers
            .chain(portals.flat_map(|p| offers::of_portal(self, p)))
            .collect();
        for other in documents.portals.values().skip(1) {
            let first = &documents.portals[0].file;
            let message = format!("there is a portal in {first} already");
            let found = Finding::error(&other.file, other.node.at, message);
            all.push(found.help("one environment has one portal"));
        }
        all
    }

    fn unused_backends(&self) -> Vec<Finding> {
        let used: HashSet<&str> = self
            .documents
            .facades
            .values()
            .flat_map(|f| f.doc.backends())
            .collect();
        let unused = self.documents.backends.iter();
        unused
            .filter(|(name, _)| !used.contains(name.as_str()))
            .map(|(name, backend)| {
                let message = format!("no facade uses the backend “{name}”");
                Finding::new(Severity::Note, &backend.file, backend.node.at, message)
            })
            .collect()
    }
}

fn unknown_kind(backend: &Document<BackendDoc>, library: &Library) -> Option<Finding> {
    if library.kinds.get(&backend.doc.kind).is_some() {
        return None;
    }
    let at = backend.node.locate(&[Step::Key("kind".into())], false);
    let message = format!("“{}” is not known here", backend.doc.kind);
    let help = format!("known are {}", library.kinds.names().join(", "));
    Some(Finding::error(&backend.file, at, message).help(help))
}

/// Each finding once, the worst first.
fn tidy(findings: &mut Vec<Finding>) {
    let mut seen = HashSet::new();
    findings.retain(|f| seen.insert(format!("{f:?}")));
    findings.sort_by(|a, b| {
        b.severity
            .cmp(&a.severity)
            .then_with(|| (&a.file, a.line, a.column).cmp(&(&b.file, b.line, b.column)))
    });
}

/// The files that the credentials of a level name.
fn files_of(level: &Node) -> impl Iterator<Item = &str> {
    let all = level.get("admit").and_then(|a| a.get("credentials"));
    let all = all.into_iter().flat_map(Node::items);
    let named = [
        ("certificate", "authorities"),
        ("certificate", "revoked"),
        ("token", "trust"),
    ];
    all.flat_map(move |c| named.map(|(kind, name)| c.get(kind)?.get(name)?.text()))
        .flatten()
}
