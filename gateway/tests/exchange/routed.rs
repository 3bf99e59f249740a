//! Calls that go to other backends: by conditions and shares of the callers, and where no answer comes.

use std::collections::HashSet;
use std::sync::Mutex;

use super::*;

const CONTRACT: &str = "openapi: 3.1.0
info: { title: T, version: 1.0.0 }
paths:
  /things/{id}:
    parameters: [{ name: id, in: path, required: true, schema: { type: string } }]
    get: { operationId: look, parameters: [{ name: preview, in: header, schema: { type: string } }], responses: { '200': { description: ok, content: { application/json: { schema: { type: object } } } }, 5XX: { description: no } } }
    post: { operationId: give, requestBody: { content: { '*/*': {} } }, responses: { '200': { description: ok }, 5XX: { description: no } } }
";

/// A backend that says its name, and how often it was asked.
pub(super) fn named(name: &'static str) -> (Scripted, Arc<Mutex<Vec<String>>>) {
    scripted(move |_| plain(&format!("{{\"by\":\"{name}\"}}")))
}

pub(super) fn scripted(
    answer: impl Fn(&str) -> Vec<u8> + Send + Sync + 'static,
) -> (Scripted, Arc<Mutex<Vec<String>>>) {
    let seen: Arc<Mutex<Vec<String>>> = Arc::default();
    let log = seen.clone();
    let backend = Scripted::start(move |_, request| {
        log.lock().unwrap().push(request.to_owned());
        answer(request)
    });
    (backend, seen)
}

const CALLS: &str =
    "operations:\n  look: { call: { backend: b } }\n  give: { call: { backend: b } }\n";

/// The documents of backends at some addresses, each with a login of its own.
fn files(backends: &[(&str, SocketAddr)], facade: &str) -> Files {
    let mut files: Files = BTreeMap::from([
        ("c.yaml".to_owned(), CONTRACT.to_owned()),
        (
            "f.yaml".to_owned(),
            format!("elm-porch: facade/1\nname: f\nbase: /f\ncontract: c.yaml\n{facade}"),
        ),
    ]);
    for (name, address) in backends {
        let circuit = match (*name, facade.contains("# circuit")) {
            ("b", true) => facade.rsplit("# ").next().unwrap_or_default(),
            _ => "",
        };
        files.insert(
            format!("{name}.yaml"),
            format!(
                "elm-porch: backend/1\nname: {name}\nkind: http\naddress: http://{address}/{name}\ntimeout: 2s\n{circuit}\ncredentials: {{ calling: {{ headers: {{ X-Login: {{ secret: {name}-login }} }} }} }}\n"
            ),
        );
    }
    files
}

pub(super) fn stage(backends: &[(&str, SocketAddr)], facade: &str) -> Stage {
    let model = Model::read(Arc::new(files(backends, facade)), "live", &Arc::default());
    assert_eq!(model.documents.findings, []);
    let secrets = backends
        .iter()
        .map(|(name, _)| (format!("{name}-login"), format!("knock-at-{name}")));
    let secrets: HashMap<String, String> = secrets.collect();
    let (porch, findings) = model.porch(&["f"], &Secrets::Known(&secrets));
    assert!(!porch_contract::has_errors(&findings), "{findings:?}");
    Stage::of(porch)
}

/// What a stage's traces say.
fn notes(stage: Stage) -> Vec<String> {
    let (traces, _) = stage.end();
    let stages = traces.iter().flat_map(|t| &t.stages);
    stages.flat_map(|s| s.notes.clone()).collect()
}

/// An address that takes no connection.
pub(super) fn nobody() -> SocketAddr {
    TcpListener::bind("127.0.0.1:0")
        .unwrap()
        .local_addr()
        .unwrap()
}

#[test]
fn a_condition_sends_calls_elsewhere_with_that_ones_path_and_login() {
    let ((b, at_b), (next, at_next)) = (named("b"), named("next"));
    let facade = format!(
        "{CALLS}routing:\n  b: {{ choose: [{{ backend: next, when: \"=header[?'preview'].orValue('') == 'yes'\" }}] }}\n"
    );
    let stage = stage(&[("b", b.address), ("next", next.address)], &facade);
    let answer = stage.get("/f/things/1", "");
    assert!(answer.ends_with("{\"by\":\"b\"}"), "{answer}");
    let answer = stage.get("/f/things/1", "Preview: yes\r\n");
    assert!(answer.ends_with("{\"by\":\"next\"}"), "{answer}");
    let (at_b, at_next) = (at_b.lock().unwrap(), at_next.lock().unwrap());
    assert!(at_b[0].starts_with("GET /b/things/1 ") && at_b[0].contains("knock-at-b"));
    assert!(at_next[0].starts_with("GET /next/things/1 "), "{at_next:?}");
    assert!(at_next[0].contains("knock-at-next") && !at_next[0].contains("knock-at-b"));
    let notes = notes(stage);
    let told =
        "calls of b go to next when =header[?'preview'].orValue('') == 'yes' (facade f, f.yaml:9)";
    let all = notes.iter().filter(|n| *n == told).count();
    assert_eq!(all, 1, "{notes:?}");
}

#[test]
fn a_share_takes_the_same_callers_each_time_and_a_greater_one_takes_more() {
    let ((b, _), (next, _)) = (named("b"), named("next"));
    let mut taken: Vec<HashSet<String>> = Vec::new();
    for share in ["10", "20", "100"] {
        let facade = format!(
            "{CALLS}routing:\n  b: {{ choose: [{{ backend: next, share: {share}, by: =path.id }}] }}\n"
        );
        let stage = stage(&[("b", b.address), ("next", next.address)], &facade);
        let asked = || -> HashSet<String> {
            let all = (0..200).map(|i| format!("c{i}"));
            all.filter(|id| {
                stage
                    .get(&format!("/f/things/{id}"), "")
                    .ends_with("\"next\"}")
            })
            .collect()
        };
        let first = asked();
        assert_eq!(first, asked(), "the same each time");
        taken.push(first);
    }
    assert!(
        taken[0].is_subset(&taken[1]),
        "moving up moves only new ones"
    );
    assert!((8..40).contains(&taken[0].len()), "{}", taken[0].len());
    assert!(taken[1].len() > taken[0].len() && taken[1].len() < 75);
    assert_eq!(taken[2].len(), 200);
}

#[test]
fn a_caller_without_a_name_is_known_by_its_address() {
    let ((b, _), (next, _)) = (named("b"), named("next"));
    let facade = format!("{CALLS}routing:\n  b: {{ choose: [{{ backend: next, share: 50 }}] }}\n");
    let stage = stage(&[("b", b.address), ("next", next.address)], &facade);
    let answers: HashSet<String> = (0..20)
        .map(|_| {
            stage
                .get("/f/things/1", "")
                .lines()
                .last()
                .unwrap()
                .to_owned()
        })
        .collect();
    assert_eq!(answers.len(), 1, "{answers:?}");
}

const SPARES: &str = "routing:\n  b: { spares: [old, oldest] }\n";

#[test]
fn where_no_connection_is_taken_a_spare_is_called_with_the_whole_body() {
    let (oldest, seen) = named("oldest");
    let facade = format!("{CALLS}{SPARES}");
    let (b, old) = (nobody(), nobody());
    let all = [("b", b), ("old", old), ("oldest", oldest.address)];
    let stage = stage(&all, &facade);
    let answer = stage.raw(b"POST /f/things/1 HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Type: text/plain\r\nContent-Length: 5\r\n\r\ncrate");
    assert_eq!(status(&answer), 200, "{answer}");
    assert!(answer.ends_with("{\"by\":\"oldest\"}"), "{answer}");
    {
        let seen = seen.lock().unwrap();
        assert!(
            seen[0].ends_with("\r\n\r\ncrate") && seen[0].contains("knock-at-oldest"),
            "{seen:?}"
        );
    }
    // Known to take none, they are passed over by whichever of both workers knows.
    for _ in 0..8 {
        assert_eq!(status(&stage.get("/f/things/1", "")), 200);
    }
    let notes = notes(stage);
    let told = |text: &str| notes.iter().filter(|n| n.starts_with(text)).count();
    let refused = told("no connection to b");
    assert!((1..=2).contains(&refused), "{notes:?}");
    let lately =
        "b took no connection lately: where b gives no answer, old is called (facade f, f.yaml:9)";
    assert_eq!(told(lately), 9 - refused, "{notes:?}");
}

#[test]
fn what_may_have_been_done_is_only_asked_of_a_spare_where_it_is_safe() {
    for (failure, status_of_it, told) in [
        (
            "HTTP/1.1 503 Not now\r\nContent-Length: 4\r\n\r\nbusy",
            503,
            "b answered 503 Service Unavailable: where b gives no answer, old is called",
        ),
        ("", 502, "broke off"),
    ] {
        let (b, at_b) = scripted(move |_| failure.as_bytes().to_vec());
        let (old, at_old) = named("old");
        let facade = format!("{CALLS}routing:\n  b: {{ spares: [old] }}\n");
        let backends = [("b", b.address), ("old", old.address)];
        let stage = stage(&backends, &facade);
        let answer = stage.get("/f/things/1", "");
        assert!(answer.ends_with("{\"by\":\"old\"}"), "{answer}");
        assert_eq!(
            (at_b.lock().unwrap().len(), at_old.lock().unwrap().len()),
            (1, 1)
        );
        let posted = stage.raw(b"POST /f/things/1 HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Type: text/plain\r\nContent-Length: 5\r\n\r\ncrate");
        assert_eq!(status(&posted), status_of_it, "{posted}");
        assert_eq!(
            (at_b.lock().unwrap().len(), at_old.lock().unwrap().len()),
            (2, 1)
        );
        let notes = notes(stage);
        assert!(notes.iter().any(|n| n.contains(told)), "{notes:?}");
    }
}

#[test]
fn the_last_failure_tells_of_those_before_it_and_of_no_secret() {
    let facade = format!("{CALLS}routing:\n  b: {{ spares: [old] }}\n");
    let all = [("b", nobody()), ("old", nobody())];
    let stage = stage(&all, &facade);
    let answer = stage.get("/f/things/1", "");
    assert_eq!(status(&answer), 502, "{answer}");
    let (traces, _) = stage.end();
    let why = &traces[0].refusal.as_ref().unwrap().why;
    assert!(
        why.contains("no connection to old") && why.contains("before it: no connection to b"),
        "{why}"
    );
    assert!(!format!("{traces:?}").contains("knock-at"), "{traces:?}");
}

#[test]
fn one_of_several_calls_goes_elsewhere_too_and_what_is_undone_stays() {
    let (b, _) = scripted(|_| b"HTTP/1.1 503 No\r\nContent-Length: 0\r\n\r\n".to_vec());
    let (old, at_old) = named("old");
    let facade = "operations:
  look:
    calls:
      first: { backend: b, path: /one }
      second: { backend: b, path: /two, send: { query: { by: =first.body.by } }, writes: true, undo: { path: /back } }
    reply: { by: =first.body.by, second: =second.body.by }
routing: { b: { spares: [old] } }
";
    let stage = stage(&[("b", b.address), ("old", old.address)], facade);
    let answer = stage.get("/f/things/1", "");
    assert_eq!(status(&answer), 502, "{answer}");
    let asked: Vec<String> = at_old
        .lock()
        .unwrap()
        .iter()
        .map(|r| r.lines().next().unwrap().to_owned())
        .collect();
    assert_eq!(asked, ["GET /old/one HTTP/1.1"]);
}

#[test]
fn whoever_stays_is_taken_by_nothing_behind_that() {
    let ((b, _), (next, _)) = (named("b"), named("next"));
    let facade = format!(
        "{CALLS}routing:\n  b: {{ choose: [{{ backend: b, when: =path.id == 'partner' }}, {{ backend: next }}] }}\n"
    );
    let stage = stage(&[("b", b.address), ("next", next.address)], &facade);
    for (id, by) in [("partner", "b"), ("other", "next")] {
        let answer = stage.get(&format!("/f/things/{id}"), "");
        assert!(
            answer.ends_with(&format!("{{\"by\":\"{by}\"}}")),
            "{answer}"
        );
    }
    let notes = notes(stage);
    let told = "calls of b stay there when =path.id == 'partner' (facade f, f.yaml:9)";
    assert!(notes.iter().any(|n| n == told), "{notes:?}");
}
