//! The first sitting.

use std::path::PathBuf;

use super::*;

#[test]
fn from_a_wsdl_to_a_released_call_that_explains_its_refusal() {
    let sitting = Sitting::begin();
    sitting.look();
    sitting.derive();
    sitting.edit_the_shape();
    sitting.push();
    sitting.try_it();
    sitting.limit_and_release();
    let (id, key) = sitting.call();
    sitting.explain(&id, &key);
}

/// Somebody who publishes a service for the first time.
struct Sitting {
    porch: Porch,
    wsdl: String,
    folder: PathBuf,
}

impl Sitting {
    fn begin() -> Self {
        let porch = Porch::start();
        let address = &porch.reservations.as_ref().unwrap().address;
        Self {
            wsdl: format!("http://{address}/reservations?wsdl"),
            folder: porch.folder().join("derived"),
            porch,
        }
    }

    fn documents(&self) -> &str {
        self.folder.to_str().unwrap()
    }

    fn edit(&self, name: &str, from: &str, to: &str) {
        let path = self.folder.join(name);
        let text = std::fs::read_to_string(&path).unwrap();
        assert!(text.contains(from), "{from} is not in {text}");
        std::fs::write(path, text.replace(from, to)).unwrap();
    }

    /// Look.
    fn look(&self) {
        let look = self.porch.ok(&["look", &self.wsdl]);
        assert_eq!(look["kind"], "soap");
        let quote = &look["operations"][1];
        assert_eq!(
            (
                &quote["source"],
                &quote["method"],
                &quote["path"],
                &quote["available"]
            ),
            (
                &json!("QuoteFare"),
                &json!("GET"),
                &json!("/fares/{routeCode}"),
                &json!(true)
            )
        );
    }

    /// Derive: what is written passes the check as it is.
    fn derive(&self) {
        let derived = self.porch.ok(&[
            "derive",
            &self.wsdl,
            "-o",
            self.documents(),
            "--name",
            "fares",
            "--only",
            "QuoteFare",
        ]);
        assert_eq!(derived["operations"], 1);
        let checked = self.porch.ok(&["check", self.documents()]);
        assert_eq!(
            (&checked["ok"], &checked["findings"]),
            (&json!(true), &json!([]))
        );
    }

    /// Edit the shape, and misspell a field on the way.
    fn edit_the_shape(&self) {
        self.edit(
            "fares.openapi.yaml",
            "/fares/{routeCode}",
            "/fares/{routeCode}/{fareClass}",
        );
        self.edit(
            "fares.openapi.yaml",
            "- name: fareClass\n          in: query",
            "- name: fareClass\n          in: path",
        );
        self.edit("fares.facade.yaml", "=query.fareClass", "=path.fareClas");
        let output = self.porch.client(&["check", self.documents()], "");
        assert_eq!(output.status.code(), Some(1));
        let text = stdout(&output);
        assert!(
            text.contains("fares.facade.yaml:15:24: error: the path has no variable “fareClas”"),
            "{text}"
        );
        assert!(text.contains("help: did you mean “fareClass”?"), "{text}");
        self.edit("fares.facade.yaml", "=path.fareClas", "=path.fareClass");
        // An environment that is not there has no addresses that could be right.
        let elsewhere = ["check", self.documents(), "--environment", "livv"];
        let output = self.porch.client(&elsewhere, "");
        assert_eq!(output.status.code(), Some(2));
        let said = String::from_utf8(output.stderr).unwrap();
        assert!(said.contains("hold no environment “livv”"), "{said}");
    }

    /// Push: in the draft, and nowhere else.
    fn push(&self) {
        for (name, value) in [
            ("fares-user", " quay-desk \n"),
            ("fares-password", "tide & tackle\n"),
        ] {
            self.porch.ok_with(&["secret", "set", name], value);
        }
        let pushed = self.porch.ok(&["push", self.documents()]);
        assert_eq!(pushed["unreleased"], json!(["fares"]));
        let compare = self.porch.ok(&["compare"]);
        assert_eq!(
            (&compare[0]["facade"], &compare[0]["status"]),
            (&json!("fares"), &json!("new"))
        );
        assert_eq!(
            self.porch
                .call("GET", "/fares/v1/fares/FAR-MAR/car?passengers=2", "", "")
                .status,
            404
        );
    }

    /// Try: every step, before any release.
    fn try_it(&self) {
        let trial = self.porch.ok(&[
            "try",
            "quoteFare",
            "routeCode=FAR-MAR",
            "fareClass=car",
            "passengers=2",
        ]);
        assert_eq!(
            (&trial["status"], &trial["released"]),
            (&json!(200), &json!(false))
        );
        let stages: Vec<&str> = trial["trace"]["stages"]
            .as_array()
            .unwrap()
            .iter()
            .map(|s| s["name"].as_str().unwrap())
            .collect();
        assert_eq!(stages, ["match", "admit", "prepare", "call", "reply"]);
        let envelope = trial["trace"]["stages"][2]["after"]["body"]
            .as_str()
            .unwrap();
        assert!(envelope.contains("<n1:RouteCode>FAR-MAR</n1:RouteCode><n1:FareClass>car</n1:FareClass><n1:Passengers>2</n1:Passengers>"), "{envelope}");
        assert!(
            envelope.contains("<n1:Password>••••</n1:Password>") && !envelope.contains("tackle"),
            "{envelope}"
        );
        assert_eq!(
            trial["body"],
            r#"{"fare":{"amount":6385.050,"currency":"SKC","validUntil":"2027-06-30"}}"#
        );
    }

    /// A limit, then release.
    fn limit_and_release(&self) {
        self.edit(
            "fares.facade.yaml",
            "credentials: [key]",
            "credentials: [key]\n  limits:\n    - { requests: 5, window: 2m }",
        );
        self.porch.ok(&["push", self.documents()]);
        let released = self.porch.ok(&["release", "fares", "--note", "first"]);
        assert_eq!(
            (&released["number"], &released["taken"]),
            (&json!(1), &json!(["fares"]))
        );
        assert_eq!(self.porch.ok(&["compare"])[0]["status"], "same");
    }

    /// Call: without a key, with one, once too often, with a fault. The id of the exchange that was one too many, and the key.
    fn call(&self) -> (String, String) {
        let refused = self.quote("", "FAR-MAR");
        assert_eq!(
            (
                refused.status,
                refused.header("content-type"),
                refused.header("www-authenticate")
            ),
            (
                401,
                "application/problem+json",
                "Key realm=\"fares\", header=\"API-Key\""
            )
        );
        assert_eq!(refused.json()["title"], "A key is needed");
        self.porch.ok(&["consumer", "create", "Quayside Kiosk"]);
        let key = self.porch.new_key("Quayside Kiosk");
        self.until_the_limit(&key);
        let sixth = self.quote(&key, "FAR-MAR");
        assert_eq!(sixth.status, 429);
        let wait: u32 = sixth.header("retry-after").parse().unwrap();
        assert!((100..=120).contains(&wait), "{wait}");
        let id = sixth.json()["instance"]
            .as_str()
            .unwrap()
            .rsplit(':')
            .next()
            .unwrap()
            .to_owned();

        self.porch.ok(&["consumer", "create", "Tide Clock"]);
        let other = self.porch.new_key("Tide Clock");
        let fault = self.quote(&other, "FAR-HOL");
        assert_eq!(
            (fault.status, &fault.json()["fault"]["detail"]),
            (422, &json!({"routeCode": "FAR-HOL"}))
        );
        (id, key)
    }

    fn quote(&self, key: &str, route: &str) -> Http {
        let path = format!("/fares/v1/fares/{route}/car?passengers=2");
        self.porch.call("GET", &path, key, "")
    }

    fn until_the_limit(&self, key: &str) {
        for left in (0..5).rev() {
            let reply = self.quote(key, "FAR-MAR");
            assert_eq!(
                (reply.status, reply.text().as_str()),
                (
                    200,
                    r#"{"fare":{"amount":6385.050,"currency":"SKC","validUntil":"2027-06-30"}}"#
                )
            );
            assert_eq!(reply.header("ratelimit-policy"), "\"fares\";q=5;w=120");
            assert!(
                reply
                    .header("ratelimit")
                    .starts_with(&format!("\"fares\";r={left};t=")),
                "{}",
                reply.header("ratelimit")
            );
        }
    }

    /// Explain: the rule, its reach, its document and line.
    fn explain(&self, id: &str, key: &str) {
        wait_until("the trace is written", || {
            self.porch.client(&["explain", id], "").status.success()
        });
        let explained = self.porch.ok(&["explain", id]);
        let refusal = &explained["trace"]["refusal"];
        assert_eq!(
            (
                &refusal["rule"],
                &refusal["reach"],
                &refusal["file"],
                &refusal["line"]
            ),
            (
                &json!("limit 5 in 2m per consumer"),
                &json!("facade fares"),
                &json!("fares.facade.yaml"),
                &json!(9)
            )
        );
        let text = stdout(&self.porch.client(&["explain", id], ""));
        assert!(
            text.contains("The consumer “Quayside Kiosk”") && text.contains("fares.facade.yaml:9"),
            "{text}"
        );
        assert!(!text.contains(&key[9..]), "the key's secret is shown");
    }
}
