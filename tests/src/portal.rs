//! Those who come by the portal, and the letters that they get.

use super::*;

/// An outbox on ports of its own: letters are sent to one, and read at the other.
pub struct Outbox {
    /// The file that says how letters are sent there.
    pub file: PathBuf,
    /// Where letters and events are read, and events are taken.
    pub page: String,
    _folder: tempfile::TempDir,
}

impl Outbox {
    /// Starts one.
    pub fn start() -> Self {
        let (sender, receiver) = mpsc::channel();
        // It ends with the process.
        std::thread::spawn(move || {
            let runtime = tokio::runtime::Builder::new_current_thread()
                .enable_all()
                .build()
                .unwrap();
            runtime.block_on(async move {
                let any: SocketAddr = ([127, 0, 0, 1], 0).into();
                let served = porch_standins::serve_outbox(any, any, std::future::pending()).await;
                let (smtp, page, server) = served.unwrap();
                sender.send((smtp, page)).unwrap();
                server.await.unwrap();
            });
        });
        let (smtp, page) = receiver.recv().unwrap();
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("letters.toml");
        let text = format!(
            "server = \"127.0.0.1\"\nport = {}\nsecurity = \"none\"\nfrom = \"Skerry Line <developers@skerry.example>\"\n",
            smtp.port()
        );
        std::fs::write(&file, text).unwrap();
        Self {
            file,
            page: format!("http://{page}"),
            _folder: folder,
        }
    }

    /// The letters to an address: subject and text.
    pub fn letters(&self, to: &str) -> Vec<(String, String)> {
        let all = Http::send("GET", &format!("{}/letters", self.page), &[], Vec::new()).json();
        let own = all.as_array().unwrap().iter().filter(|l| l["to"][0] == to);
        let text = |l: &Value, name: &str| l[name].as_str().unwrap().to_owned();
        own.map(|l| (text(l, "subject"), text(l, "text"))).collect()
    }

    /// The events that came, the oldest first.
    pub fn events(&self) -> Vec<Value> {
        let all = Http::send("GET", &format!("{}/events", self.page), &[], Vec::new()).json();
        all.as_array().unwrap().clone()
    }

    /// Waits for so many letters to an address; gives the last one.
    pub fn wait(&self, to: &str, count: usize) -> (String, String) {
        let mut found = Vec::new();
        wait_until(&format!("{count} letters to {to}"), || {
            found = self.letters(to);
            found.len() >= count
        });
        found.pop().unwrap()
    }

    /// The token of the last link to a page in letters to an address.
    pub fn token_for(&self, to: &str, page: &str) -> String {
        let mut token = String::new();
        wait_until(&format!("a link to {page} for {to}"), || {
            let letters = self.letters(to);
            let mut links = letters
                .iter()
                .rev()
                .flat_map(|(_, text)| text.split_whitespace());
            let found = links.find_map(|w| w.split_once(&format!("/{page}#")));
            token = found.map_or(String::new(), |(_, t)| t.to_owned());
            !token.is_empty()
        });
        token
    }

    /// The token of the link in the last letter to an address.
    pub fn token(&self, to: &str, count: usize) -> String {
        let (_, text) = self.wait(to, count);
        let link = text.split_whitespace().find(|w| w.contains('#'));
        let link = link.unwrap_or_else(|| panic!("no link: {text}"));
        link.split('#').nth(1).unwrap().to_owned()
    }
}

/// Somebody at the portal, with the cookie of a session if they have one.
pub struct Visitor {
    portal: String,
    /// What the browser would send.
    pub cookie: String,
}

impl Visitor {
    /// Somebody who has just come.
    pub fn at(porch: &Porch) -> Self {
        Self {
            portal: porch.portal.clone(),
            cookie: String::new(),
        }
    }

    /// Asks the portal's API, as its own page does.
    pub fn ask(&mut self, method: &str, path: &str, body: &Value) -> Http {
        let origin = self.portal.clone();
        self.ask_from(&origin, method, path, body)
    }

    /// The same from a page of another origin.
    pub fn ask_from(&mut self, origin: &str, method: &str, path: &str, body: &Value) -> Http {
        let cookie = self.cookie.clone();
        let mut headers = vec![("content-type", "application/json"), ("origin", origin)];
        if !cookie.is_empty() {
            headers.push(("cookie", &cookie));
        }
        let bytes = match body.is_null() {
            true => Vec::new(),
            false => body.to_string().into_bytes(),
        };
        let reply = Http::send(method, &format!("{}{path}", self.portal), &headers, bytes);
        if let Some(set) = reply.headers.get("set-cookie") {
            self.cookie = set.split(';').next().unwrap().to_owned();
        }
        reply
    }

    /// The same where it must go well; its JSON.
    pub fn ok(&mut self, method: &str, path: &str, body: &Value) -> Value {
        let reply = self.ask(method, path, body);
        assert!(
            (200..300).contains(&reply.status),
            "{method} {path}: {} {}",
            reply.status,
            reply.text()
        );
        match reply.body.is_empty() {
            true => Value::Null,
            false => reply.json(),
        }
    }

    /// The same where it must not.
    pub fn refused(&mut self, status: u16, method: &str, path: &str, body: &Value) -> String {
        let reply = self.ask(method, path, body);
        let text = reply.text();
        assert_eq!(reply.status, status, "{method} {path}: {text}");
        text
    }

    /// Signs up and confirms: somebody with a team of their name.
    pub fn come(porch: &Porch, outbox: &Outbox, name: &str) -> Self {
        let mut visitor = Self::at(porch);
        let email = format!("{name}@example.org");
        let new = json!({ "email": email, "name": name, "password": PASSWORD });
        visitor.ok("POST", "/api/sign-up", &new);
        let token = outbox.token(&email, 1);
        let own = json!({ "token": token, "password": PASSWORD });
        visitor.ok("POST", "/api/confirm", &own);
        visitor
    }
}

/// The password of everybody who comes.
pub const PASSWORD: &str = "harbour fog lantern";

/// Signs in from an address of the loopback range; the status.
pub fn from_address(from: SocketAddr, portal: &str, email: &str, password: &str) -> u16 {
    let task = async {
        let client = reqwest::Client::builder()
            .local_address(from.ip())
            .build()
            .unwrap();
        let body = json!({ "email": email, "password": password }).to_string();
        let request = client
            .post(format!("{portal}/api/session"))
            .header("content-type", "application/json")
            .header("origin", portal)
            .body(body);
        request.send().await.unwrap().status().as_u16()
    };
    tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .unwrap()
        .block_on(task)
}

/// A service with the demo's facades, offers and portal, and an outbox for its letters.
pub fn with_offers() -> (Porch, Outbox) {
    with_offers_and(&[])
}

/// The same with further options of the service.
pub fn with_offers_and(extra: &[&str]) -> (Porch, Outbox) {
    let outbox = Outbox::start();
    let file = outbox.file.to_str().unwrap().to_owned();
    let options = [&["--mail", &file][..], extra].concat();
    let porch = Porch::start_with(&new_database(cluster()), &options);
    porch.publish();
    let offers = ["open-quay", "fortnight-look", "charter-hand"].map(|name| ["--offer", name]);
    porch.ok(&[&["release", "--portal"][..], &offers.concat()].concat());
    (porch, outbox)
}
