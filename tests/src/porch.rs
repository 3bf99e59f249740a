//! A service of its own for a test.

use super::*;

/// The administrator of every stage.
pub const ADMIN: (&str, &str) = ("inge", "harbour-lights");

/// A service with its stand-ins, on ports of its own.
pub struct Porch {
    /// Address of the gateway.
    pub gateway: String,
    /// Address of console and API.
    pub console: String,
    /// Address of the portal.
    pub portal: String,
    /// Token of the administrator.
    pub token: String,
    /// The booking system.
    pub reservations: Option<Backend>,
    /// The timetable.
    pub timetable: Option<Backend>,
    /// The timetable that will take its place.
    pub timetable_next: Option<Backend>,
    /// The cargo desk.
    pub cargo_desk: Option<Backend>,
    /// The members' programme.
    pub loyalty: Option<Backend>,
    /// The fleet's service.
    pub vessels: Option<Backend>,
    /// The tides.
    pub tides: Option<Backend>,
    /// The issuer of tokens.
    pub crew_login: Option<Backend>,
    /// Folder with the demo's documents, the stand-ins' addresses filled in.
    pub documents: PathBuf,
    folder: tempfile::TempDir,
    /// Its database.
    pub database: String,
    service: Option<Child>,
}

impl Porch {
    /// Starts a service with nothing published.
    pub fn start() -> Self {
        Self::start_with(&new_database(cluster()), &[])
    }

    /// Starts a service on a database, at an address of the loopback range if wanted (browsers tell sessions apart by it).
    pub fn start_with(database: &str, extra: &[&str]) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let (reservations, timetable) = (
            Backend::start(Standin::Reservations, 0),
            Backend::start(Standin::Timetable, 0),
        );
        let (cargo_desk, loyalty) = (
            Backend::start(Standin::CargoDesk, 0),
            Backend::start(Standin::Loyalty, 0),
        );
        let vessels = Backend::start(Standin::Vessels, 0);
        let tides = Backend::start(Standin::Tides, 0);
        let crew_login = Backend::start(Standin::CrewLogin, 0);
        let timetable_next = Backend::start(Standin::TimetableNext, 0);
        let documents = folder.path().join("documents");
        let places: Vec<(String, String)> = [
            (&reservations, 3850),
            (&timetable, 3851),
            (&cargo_desk, 3852),
            (&loyalty, 3853),
            (&vessels, 3854),
            (&tides, 3858),
            (&timetable_next, 3859),
            (&crew_login, 3861),
        ]
        .map(|(b, port)| (format!("127.0.0.1:{port}"), b.address.to_string()))
        .into();
        copy_documents(
            &root().join("demo/documents"),
            &documents,
            &places
                .iter()
                .map(|(a, b)| (a.as_str(), b.as_str()))
                .collect::<Vec<_>>(),
        );
        let mut porch = Self {
            gateway: String::new(),
            console: String::new(),
            portal: String::new(),
            token: String::new(),
            reservations: Some(reservations),
            timetable: Some(timetable),
            timetable_next: Some(timetable_next),
            cargo_desk: Some(cargo_desk),
            loyalty: Some(loyalty),
            vessels: Some(vessels),
            tides: Some(tides),
            crew_login: Some(crew_login),
            documents,
            folder,
            database: database.to_owned(),
            service: None,
        };
        porch
            .start_service(extra)
            .unwrap_or_else(|e| panic!("the service did not start: {e}"));
        porch.token = porch.sign_in(ADMIN.0, ADMIN.1)["token"]
            .as_str()
            .unwrap()
            .to_owned();
        porch
    }

    /// Another node on the same database, with the same administrator and no stand-ins of its own.
    pub fn beside(&self, extra: &[&str]) -> Self {
        let mut porch = Self {
            gateway: String::new(),
            console: String::new(),
            portal: String::new(),
            token: self.token.clone(),
            reservations: None,
            timetable: None,
            timetable_next: None,
            cargo_desk: None,
            loyalty: None,
            vessels: None,
            tides: None,
            crew_login: None,
            documents: self.documents.clone(),
            folder: tempfile::tempdir().unwrap(),
            database: self.database.clone(),
            service: None,
        };
        porch
            .start_service(extra)
            .unwrap_or_else(|e| panic!("the node did not start: {e}"));
        porch
    }

    /// Starts one with the demo's documents released and a consumer that has a key.
    pub fn published() -> (Self, String) {
        let porch = Self::start();
        let key = porch.publish();
        (porch, key)
    }

    /// Releases the demo's documents; gives a key of the consumer Quayside Kiosk.
    pub fn publish(&self) -> String {
        for (name, value) in [
            ("reservations-user", "quay-desk"),
            ("reservations-password", "tide & tackle"),
        ] {
            self.ok_with(&["secret", "set", name], value);
        }
        self.ok(&["push", self.documents.to_str().unwrap()]);
        self.ok(&[
            "release",
            "sailings",
            "timetable",
            "cargo",
            "loyalty",
            "vessels",
            "berths",
            "harbour",
            "journeys",
        ]);
        self.ok(&["consumer", "create", "Quayside Kiosk"]);
        self.new_key("Quayside Kiosk")
    }

    /// A new key for a consumer.
    pub fn new_key(&self, consumer: &str) -> String {
        self.ok(&["key", "create", consumer])["key"]
            .as_str()
            .unwrap()
            .to_owned()
    }

    /// Starts the service's process; also again after [`Porch::stop_service`].
    pub fn start_service(&mut self, extra: &[&str]) -> Result<(), String> {
        let state = self.folder.path().join("state");
        let (database, extra) = (
            self.database.clone(),
            extra.iter().map(|s| (*s).to_owned()).collect::<Vec<_>>(),
        );
        let log = self.folder.path().join("log");
        let errors = std::fs::OpenOptions::new()
            .create(true)
            .append(true)
            .open(&log)
            .unwrap();
        let mut child = on_lasting_thread(move || {
            let mut command = Command::new("setpriv");
            command
                .args(["--pdeathsig", "KILL"])
                .arg(program("porch"))
                .args([
                    "serve",
                    "--gateway",
                    "127.0.0.1:0",
                    "--console",
                    "127.0.0.1:0",
                    "--portal",
                    "127.0.0.1:0",
                    "--workers",
                    "2",
                ])
                .args(extra);
            command
                .env("ELM_PORCH_DATABASE", database)
                .env("ELM_PORCH_STATE", state)
                .env("ELM_PORCH_FIRST_ACCOUNT", ADMIN.0)
                .env("ELM_PORCH_FIRST_PASSWORD", ADMIN.1);
            command
                .stdin(Stdio::null())
                .stdout(Stdio::piped())
                .stderr(errors)
                .spawn()
                .unwrap()
        });
        let mut output = BufReader::new(child.stdout.take().unwrap());
        for address in [&mut self.gateway, &mut self.console, &mut self.portal] {
            let mut line = String::new();
            output.read_line(&mut line).unwrap();
            if line.starts_with("gateway https://") {
                line.clear();
                output.read_line(&mut line).unwrap();
            }
            match line.split_whitespace().nth(1) {
                Some(url) => *address = url.to_owned(),
                None => {
                    let _ = child.wait();
                    return Err(std::fs::read_to_string(&log).unwrap_or_default());
                }
            }
        }
        std::thread::spawn(move || std::io::copy(&mut output, &mut std::io::sink()));
        self.service = Some(child);
        Ok(())
    }

    /// Runs a statement in its database.
    pub fn sql(&self, statement: &str) {
        let (_, name) = self.database.rsplit_once('/').unwrap();
        cluster().sql_in(name, statement).unwrap();
    }

    /// Tells the service to stop and waits until it has.
    pub fn stop_service(&mut self) {
        if let Some(mut child) = self.service.take() {
            let _ = Command::new("kill")
                .args(["-TERM", &child.id().to_string()])
                .status();
            let _ = child.wait();
        }
    }

    /// Ends the service at once, as a crash does.
    pub fn kill_service(&mut self) {
        if let Some(mut child) = self.service.take() {
            let _ = child.kill();
            let _ = child.wait();
        }
    }

    /// The service's process.
    pub fn pid(&self) -> u32 {
        self.service.as_ref().unwrap().id()
    }

    /// Everything the service has logged.
    pub fn log(&self) -> String {
        std::fs::read_to_string(self.folder.path().join("log")).unwrap_or_default()
    }

    /// A folder of this stage's own.
    pub fn folder(&self) -> &Path {
        self.folder.path()
    }

    /// Signs in over the API.
    pub fn sign_in(&self, name: &str, password: &str) -> Value {
        let body = json!({ "name": name, "password": password }).to_string();
        Http::send(
            "POST",
            &format!("{}/api/session", self.console),
            &[("content-type", "application/json")],
            body.into_bytes(),
        )
        .json()
    }

    /// Calls the API as the administrator.
    pub fn api(&self, method: &str, path: &str, body: &Value) -> Http {
        self.api_as(&self.token, method, path, body)
    }

    /// Calls the API with a token.
    pub fn api_as(&self, token: &str, method: &str, path: &str, body: &Value) -> Http {
        let authorization = format!("Bearer {token}");
        let mut headers = vec![("content-type", "application/json")];
        if !token.is_empty() {
            headers.push(("authorization", &authorization));
        }
        let body = if body.is_null() {
            Vec::new()
        } else {
            body.to_string().into_bytes()
        };
        Http::send(method, &format!("{}{path}", self.console), &headers, body)
    }

    /// Runs the client as the administrator.
    pub fn client(&self, arguments: &[&str], input: &str) -> Output {
        let mut command = Command::new(program("porch"));
        command
            .args(arguments)
            .env("ELM_PORCH_URL", &self.console)
            .env("ELM_PORCH_TOKEN", &self.token)
            .env("ELM_PORCH_GATEWAY", &self.gateway)
            .env("XDG_CONFIG_HOME", self.folder.path());
        let mut child = command
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        child
            .stdin
            .take()
            .unwrap()
            .write_all(input.as_bytes())
            .unwrap();
        child.wait_with_output().unwrap()
    }

    /// Runs the client, which must succeed; gives what it says in JSON.
    pub fn ok(&self, arguments: &[&str]) -> Value {
        self.ok_with(arguments, "")
    }

    /// The same with standard input.
    pub fn ok_with(&self, arguments: &[&str], input: &str) -> Value {
        let all: Vec<&str> = ["--json"].iter().chain(arguments).copied().collect();
        let output = self.client(&all, input);
        let text = String::from_utf8_lossy(&output.stdout);
        assert!(
            output.status.success(),
            "porch {}: {text}{}",
            arguments.join(" "),
            String::from_utf8_lossy(&output.stderr)
        );
        serde_json::from_str(&text).unwrap_or(Value::Null)
    }

    /// Calls the gateway.
    pub fn call(&self, method: &str, path: &str, key: &str, body: &str) -> Http {
        let mut headers = Vec::new();
        if !key.is_empty() {
            headers.push(("api-key", key));
        }
        if !body.is_empty() {
            headers.push(("content-type", "application/json"));
        }
        Http::send(
            method,
            &format!("{}{path}", self.gateway),
            &headers,
            body.as_bytes().to_vec(),
        )
    }

    /// The folder of this stage's documents.
    pub fn documents(&self) -> &Path {
        &self.documents
    }

    /// Changes a document of this stage's folder; the text must be there.
    pub fn edit(&self, file: &str, from: &str, to: &str) {
        let path = self.documents.join(file);
        let text = std::fs::read_to_string(&path).unwrap();
        assert!(text.contains(from), "{from} is not in {file}");
        std::fs::write(&path, text.replacen(from, to, 1)).unwrap();
    }

    /// Pushes this stage's documents and releases a facade.
    pub fn push_and_release(&self, facade: &str) {
        self.ok(&["push", self.documents.to_str().unwrap()]);
        self.ok(&["release", facade]);
    }
}

impl Drop for Porch {
    fn drop(&mut self) {
        if let Some(mut child) = self.service.take() {
            let _ = child.kill();
            let _ = child.wait();
        }
        if std::thread::panicking() {
            eprintln!("--- log of the service\n{}", self.log());
        }
    }
}

/// Address of a new, empty database.
pub fn new_database(cluster: &Cluster) -> String {
    static NEXT: AtomicU32 = AtomicU32::new(0);
    let name = format!("t{}", NEXT.fetch_add(1, Ordering::Relaxed));
    cluster.sql(&format!("create database {name}")).unwrap();
    cluster.url(&name)
}

fn copy_documents(from: &Path, to: &Path, replace: &[(&str, &str)]) {
    std::fs::create_dir_all(to).unwrap();
    for entry in std::fs::read_dir(from).unwrap().flatten() {
        let target = to.join(entry.file_name());
        if entry.path().is_dir() {
            copy_documents(&entry.path(), &target, replace);
        } else {
            let text = std::fs::read_to_string(entry.path()).unwrap();
            // In two steps: a port that was given may begin with one that is replaced.
            let mark = |i: usize| format!("{{place {i}}}");
            let mut text = text;
            for (i, (from, _)) in replace.iter().enumerate() {
                text = text.replace(from, &mark(i));
            }
            for (i, (_, to)) in replace.iter().enumerate() {
                text = text.replace(&mark(i), to);
            }
            std::fs::write(target, text).unwrap();
        }
    }
}
