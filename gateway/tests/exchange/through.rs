//! What takes something back is carried through, whether or not its caller is still there.

use std::sync::{Condvar, Mutex};

use super::*;

const CONTRACT: &str = "openapi: 3.1.0
info: { title: T, version: 1.0.0 }
paths:
  /book: { post: { operationId: book, responses: { '200': { description: ok, content: { application/json: { schema: { type: object } } } } } } }
  /free: { post: { operationId: free, responses: { '200': { description: ok, content: { application/json: { schema: { type: object } } } } } } }
  /look: { get: { operationId: look, responses: { '200': { description: ok } } } }
";
const FACADE: &str = "operations:
  book:
    calls:
      hold: { backend: b, method: POST, path: /hold, undo: { method: DELETE, path: '/hold/{id}', send: { path: { id: =hold.body.id } } } }
      pay: { backend: b, method: POST, path: /pay, send: { body: { id: =hold.body.id } } }
    reply: { id: =hold.body.id }
  free:
    calls:
      hold: { backend: b, method: POST, path: /hold }
      pay: { backend: b, method: POST, path: /pay, send: { body: { id: =hold.body.id } } }
    reply: { id: =hold.body.id }
  look: { call: { backend: b, path: /look } }
";

/// What the backend was asked for, and whether it may answer who pays.
#[derive(Default)]
struct Desk(Mutex<(Vec<String>, bool)>, Condvar);

impl Desk {
    fn came(&self, line: String) {
        self.0.lock().unwrap().0.push(line);
        self.1.notify_all();
    }

    fn wait(&self, until: impl Fn(&(Vec<String>, bool)) -> bool) {
        let state = self.0.lock().unwrap();
        let patience = Duration::from_secs(20);
        let waited = self.1.wait_timeout_while(state, patience, |s| !until(s));
        let (state, over) = waited.unwrap();
        assert!(!over.timed_out(), "{:?}", state.0);
    }
}

fn stage(desk: &Arc<Desk>) -> Stage {
    stage_of(desk, FACADE)
}

fn stage_of(desk: &Arc<Desk>, facade: &str) -> Stage {
    let desk = desk.clone();
    let backend = Scripted::start(move |_, request| {
        let line = request.lines().next().unwrap_or_default().to_owned();
        let line = line
            .replace(" HTTP/1.1", "")
            .replace("/inner", "")
            .replace("/inside", "");
        if line != "GET /look" {
            desk.came(line.clone());
        }
        if line == "POST /pay" {
            desk.wait(|(_, open)| *open);
            return "HTTP/1.1 500 No\r\nContent-Length: 0\r\n\r\n".into();
        }
        plain("{\"id\": \"H7\"}")
    });
    let porch = compile_slow_with(backend.address, CONTRACT, facade);
    let config = GatewayConfig {
        workers: 1,
        drain: Duration::from_secs(5),
        ..GatewayConfig::at(([127, 0, 0, 1], 0).into())
    };
    Stage::with(porch, Shared::new(), &config)
}

/// A caller who leaves while the second call is waited for.
fn leaves(stage: &Stage, desk: &Desk, path: &str) {
    let mut stream = TcpStream::connect(stage.address()).unwrap();
    let request = format!("POST /f/{path} HTTP/1.1\r\nHost: x\r\nContent-Length: 0\r\n\r\n");
    stream.write_all(request.as_bytes()).unwrap();
    desk.wait(|(lines, _)| lines.last().is_some_and(|l| l == "POST /pay"));
    drop(stream);
    // The worker has turned since, and must have noticed.
    for _ in 0..20 {
        assert_eq!(status(&stage.get("/f/look", "")), 200);
    }
    desk.0.lock().unwrap().1 = true;
    desk.1.notify_all();
}

#[test]
fn what_was_done_is_taken_back_also_where_the_caller_has_left() {
    let desk = Arc::new(Desk::default());
    let stage = stage(&desk);
    leaves(&stage, &desk, "book");
    desk.wait(|(lines, _)| lines.last().is_some_and(|l| l == "DELETE /hold/H7"));
    let (traces, _) = stage.end();
    let book = traces.iter().find(|t| t.operation == "book").unwrap();
    assert_eq!(book.status, 502);
    let why = &book.refusal.as_ref().unwrap().why;
    assert!(why.contains("“hold” was undone"), "{why}");
}

#[test]
fn calls_that_take_too_long_together_end_and_what_was_done_is_taken_back() {
    let desk = Arc::new(Desk::default());
    let facade = FACADE.replace("  book:\n", "  book:\n    timeout: 150ms\n");
    let stage = stage_of(&desk, &facade);
    let request =
        b"POST /f/book HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Length: 0\r\n\r\n";
    let answer = stage.raw(request);
    assert_eq!(status(&answer), 504, "{answer}");
    assert!(
        answer.contains("http_response_timeout") && answer.contains("backend-slow"),
        "{answer}"
    );
    desk.wait(|(lines, _)| lines.last().is_some_and(|l| l == "DELETE /hold/H7"));
    desk.0.lock().unwrap().1 = true;
    desk.1.notify_all();
    let (traces, _) = stage.end();
    let why = &traces[0].refusal.as_ref().unwrap().why;
    assert!(
        why.contains(
            "all calls together have 150ms (`timeout`), and these were waited for still: pay"
        ),
        "{why}"
    );
    assert!(why.contains("“hold” was undone"), "{why}");
}

#[test]
fn what_an_answer_stands_for_was_not_made_and_is_not_taken_back() {
    let desk = Arc::new(Desk::default());
    desk.0.lock().unwrap().1 = true;
    let stage = stage(&desk);
    let trials = Trials::start(stage.shared.clone()).unwrap();
    let request = http::Request::post("/f/book")
        .body(bytes::Bytes::new())
        .unwrap();
    let recorded = porch_gateway::RecordedAnswer {
        status: http::StatusCode::OK,
        fields: [(
            http::header::CONTENT_TYPE,
            "application/json".parse().unwrap(),
        )]
        .into_iter()
        .collect(),
        body: "{\"id\": \"H7\"}".into(),
    };
    let trial = TrialRequest {
        recorded: vec![("hold".to_owned(), recorded)],
        ..trial_of(stage.shared.porch.load_full(), request)
    };
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let reply = runtime.block_on(trials.run(trial)).unwrap();
    // What is paid fails, and nobody was asked to hold anything.
    assert_eq!(reply.status, 502);
    assert_eq!(desk.0.lock().unwrap().0, ["POST /pay"]);
}

#[test]
fn what_takes_nothing_back_ends_with_its_caller() {
    let desk = Arc::new(Desk::default());
    let stage = stage(&desk);
    leaves(&stage, &desk, "free");
    let (traces, _) = stage.end();
    assert!(traces.iter().all(|t| t.operation != "free"), "{traces:?}");
}
