//! A facade that stands on another one, in the same process.

use super::*;

const CONTRACT: &str = r#"openapi: 3.1.0
info: { title: Kiosk, version: 1.0.0 }
paths:
  /foot/{route}:
    get:
      operationId: footFare
      parameters:
        - { name: route, in: path, required: true, schema: { type: string } }
      responses:
        '200': { description: A fare., content: { application/json: { schema: { type: object } } } }
  /notices:
    post:
      operationId: post
      requestBody: { required: true, content: { application/json: {} } }
      responses:
        '201': { description: Made. }
  /notices/{number}:
    get:
      operationId: posted
      parameters:
        - { name: number, in: path, required: true, schema: { type: string } }
      responses:
        '200': { description: One. }
"#;

const FACADE: &str = "elm-porch: facade/1
name: kiosk
base: /kiosk/v1
contract: kiosk.openapi.yaml
admit: { limits: [{ requests: 3, window: 1h, per: address }] }
operations:
  footFare:
    call: { backend: fares, method: GET, path: '/fares/{route}/foot' }
    reply: { price: '=answer.body.fare' }
  post:
    call: { backend: times, method: POST, path: /notices }
  posted:
    call: { backend: times, method: GET, path: '/notices/{number}' }
";

fn write(folder: &std::path::Path, files: &[(&str, &str)]) {
    std::fs::create_dir_all(folder).unwrap();
    for (name, text) in files {
        std::fs::write(folder.join(name), text).unwrap();
    }
}

const FARES: &str = "elm-porch: backend/1\nname: fares\nkind: http\naddress: facade:sailings\n";
const TIMES: &str = "elm-porch: backend/1\nname: times\nkind: http\naddress: facade:timetable\n";

#[test]
fn a_facade_stands_on_another_with_its_own_keys_limits_and_names() {
    let (porch, key) = Porch::published();
    // What is posted can be read below.
    porch.edit(
        "timetable/timetable.openapi.yaml",
        "  /notices:\n",
        "  /notices/{number}:\n    get:\n      operationId: oneNotice\n      parameters:\n        - { name: number, in: path, required: true, schema: { type: string } }\n      responses:\n        '200': { description: One. }\n  /notices:\n",
    );
    porch.edit(
        "timetable/timetable.facade.yaml",
        "  notice:\n",
        "  oneNotice:\n    call: { backend: timetable, method: GET, path: '/notices/{number}' }\n  notice:\n",
    );
    porch.push_and_release("timetable");
    let folder = porch.folder().join("inside/kiosk");
    write(
        &folder,
        &[
            ("kiosk.openapi.yaml", CONTRACT),
            ("kiosk.facade.yaml", FACADE),
            ("fares.backend.yaml", FARES),
            ("times.backend.yaml", TIMES),
        ],
    );
    let place = porch.folder().join("inside");
    porch.ok(&["push", place.to_str().unwrap()]);
    // Every step is shown, those inside too; and nothing needs to be released for that.
    let tried = porch.client(&["try", "footFare", "route=FAR-MAR"], "");
    let shown = stdout(&tried);
    assert!(tried.status.success(), "{shown}{}", stderr(&tried));
    assert!(shown.contains("sailings/quoteFare"), "{shown}");
    assert!(
        shown.contains("facade:sailings/fares/FAR-MAR/foot"),
        "{shown}"
    );
    porch.ok(&["release", "kiosk", "--yes"]);
    // No key is demanded, and the limit is its own: nothing of the key's is used up inside.
    let fare = || porch.call("GET", "/kiosk/v1/foot/FAR-MAR", "", "");
    let inside = porch.call("GET", "/sailings/v2/fares/FAR-MAR/foot", &key, "");
    let first = fare();
    assert_eq!(
        (first.status, &first.json()),
        (200, &json!({ "price": inside.json()["fare"] })),
        "{}",
        first.text()
    );
    assert!(
        first.headers["ratelimit"].contains("r=2"),
        "{:?}",
        first.headers
    );
    let again = porch.call("GET", "/sailings/v2/fares/FAR-MAR/foot", &key, "");
    let left = |reply: &Http| {
        let text = &reply.headers["ratelimit"];
        let r = text
            .split("r=")
            .nth(1)
            .unwrap()
            .split(';')
            .next()
            .unwrap()
            .to_owned();
        r.parse::<i64>().unwrap()
    };
    assert_eq!(left(&again), left(&inside) - 1);
    // What is wrong inside is told as it is told there.
    let unknown = porch.call("GET", "/kiosk/v1/foot/XXX-YYY", "", "");
    assert_eq!(unknown.status, 404, "{}", unknown.text());
    // A body, and a place that leads to where this facade has it.
    let posted = Http::send(
        "POST",
        &format!("{}/kiosk/v1/notices", porch.gateway),
        &[("content-type", "application/json")],
        br#"{"text":"closed"}"#.to_vec(),
    );
    assert_eq!(posted.status, 201, "{}", posted.text());
    assert_eq!(posted.headers["location"], "/kiosk/v1/notices/17");
    assert_eq!(fare().status, 429);
    // Paused inside is paused.
    porch.ok(&["pause", "facade", "timetable"]);
    let listed = porch.client(&["backend", "probe", "fares"], "");
    assert!(
        stdout(&listed).contains("facade of this porch"),
        "{}",
        stdout(&listed)
    );
}

#[test]
fn circles_and_facades_that_are_not_there_are_found_before_a_release_and_bounded_behind_it() {
    let porch = Porch::start();
    let folder = porch.folder().join("round");
    let one = |name: &str, on: &str| {
        let contract = format!(
            "openapi: 3.1.0\ninfo: {{ title: x, version: '1' }}\npaths:\n  /a:\n    get:\n      operationId: {name}A\n      responses: {{ '200': {{ description: x }} }}\n"
        );
        let facade = format!(
            "elm-porch: facade/1\nname: {name}\nbase: /{name}\ncontract: {name}.openapi.yaml\noperations:\n  {name}A:\n    call: {{ backend: {name}-on, method: GET, path: /a }}\n"
        );
        let backend =
            format!("elm-porch: backend/1\nname: {name}-on\nkind: http\naddress: 'facade:{on}'\n");
        write(
            &folder.join(name),
            &[
                (&format!("{name}.openapi.yaml"), contract.as_str()),
                (&format!("{name}.facade.yaml"), facade.as_str()),
                ("on.backend.yaml", backend.as_str()),
            ],
        );
    };
    one("left", "right");
    let check = || porch.client(&["check", folder.to_str().unwrap()], "");
    let told = stdout(&check());
    assert!(
        told.contains("there is no facade “right” that “left-on” could be"),
        "{told}"
    );
    one("right", "left");
    let told = stdout(&check());
    assert!(
        told.contains("the facade “left” stands on itself"),
        "{told}"
    );
    // Each for itself can be released while the other stands on something else.
    one("right", "left-not-yet");
    one("left", "right");
    std::fs::remove_dir_all(folder.join("right")).unwrap();
    let backend = porch.timetable.as_ref().unwrap().address;
    let real =
        format!("elm-porch: backend/1\nname: left-on\nkind: http\naddress: http://{backend}\n");
    std::fs::write(folder.join("left/on.backend.yaml"), real).unwrap();
    porch.ok(&["push", folder.to_str().unwrap()]);
    porch.ok(&["release", "left", "--yes"]);
    one("right", "left");
    porch.ok(&["push", folder.to_str().unwrap()]);
    porch.ok(&["release", "right", "--yes"]);
    assert_eq!(porch.call("GET", "/right/a", "", "").status, 404);
    let round = "elm-porch: environment/1\nname: live\nbackends: { left-on: { address: 'facade:right' } }\n";
    write(&folder, &[("live.environment.yaml", round)]);
    let pushed = porch.client(&["push", folder.to_str().unwrap()], "");
    assert!(
        stdout(&pushed).contains("stands on itself"),
        "{}",
        stdout(&pushed)
    );
    let released = porch.client(&["release", "left", "--yes"], "");
    let told = format!("{}{}", stdout(&released), stderr(&released));
    assert!(
        !released.status.success() && told.contains("stands on itself"),
        "{told}"
    );
    // Somebody takes the one below away.
    porch.ok(&["facade", "delete", "left", "--yes"]);
    porch.ok(&["release", "left", "--yes"]);
    let gone = porch.call("GET", "/right/a", "", "");
    assert_eq!(gone.status, 502, "{}", gone.text());
    assert!(gone.text().contains("not served"), "{}", gone.text());
}
