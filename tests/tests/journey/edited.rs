//! A contract that was edited elsewhere, read in again.

use super::*;

#[test]
fn an_edited_contract_keeps_its_wiring_by_client_and_console() {
    let porch = Porch::start();
    let folder = porch.folder().join("edited/days");
    let place = folder.to_str().unwrap();
    let backend = porch.timetable.as_ref().unwrap().address;
    porch.ok(&[
        "derive",
        &format!("http://{backend}/openapi.json"),
        "--name",
        "days",
        "-o",
        place,
    ]);
    let contract = std::fs::read_to_string(folder.join("days.openapi.yaml")).unwrap();
    let edited = porch.folder().join("from-elsewhere.yaml");
    let renamed = contract.replace("operationId: tt", "operationId: departures");
    std::fs::write(&edited, format!("# at the quay\n{renamed}")).unwrap();
    let update = |file: &std::path::Path| {
        let file = file.to_str().unwrap();
        porch.client(
            &["derive", file, "--name", "days", "--update", "-o", place],
            "",
        )
    };
    let told = stdout(&update(&edited));
    assert!(told.contains("“tt” is called “departures” now"), "{told}");
    let wiring = std::fs::read_to_string(folder.join("days.facade.yaml")).unwrap();
    assert!(
        wiring.contains("  departures:") && wiring.contains("path: /tt"),
        "{wiring}"
    );
    porch.ok(&["push", porch.folder().join("edited").to_str().unwrap()]);
    porch.ok(&["release", "days", "--yes"]);
    porch.ok(&["consumer", "create", "Tide Clock"]);
    let key = porch.new_key("Tide Clock");
    let day = || porch.call("GET", "/days/v1/tt?r=FAR-MAR&d=2027-05-14", &key, "");
    assert_eq!(day().json()["departures"][0], "06:40", "{}", day().text());
    // By the console, which puts what was found into the draft.
    let more = renamed.replace(
        "paths:\n",
        "paths:\n  /quays:\n    get:\n      operationId: quays\n      responses:\n        '200':\n          description: quays\n          content: { application/json: { schema: { type: array, items: { type: string } }, example: [Farholt] } }\n",
    );
    let request = json!({ "files": { "new.yaml": more }, "name": "days" });
    let updated = porch.api("POST", "/api/update", &request).json();
    assert_eq!(
        updated["changes"][0], "“quays” is new: it answers with examples until it has a `call`",
        "{updated}"
    );
    let put = json!({ "files": updated["files"], "remove": updated["removed"], "revisions": updated["revisions"] });
    assert_eq!(porch.api("PUT", "/api/draft", &put).status, 200);
    // Somebody else's change in between is not written over.
    assert_eq!(porch.api("PUT", "/api/draft", &put).status, 409);
    porch.ok(&["release", "days", "--yes"]);
    let quays = porch.call("GET", "/days/v1/quays", &key, "");
    assert_eq!(quays.json(), json!(["Farholt"]), "{}", quays.text());
    assert_eq!(day().status, 200);
    // A description of the backend is not the facade's contract.
    let wrong = update(&porch.folder().join("edited/days/days.backend.yaml"));
    assert!(!wrong.status.success());
    let elsewhere = porch.folder().join("backend.json");
    let of_backend = r#"{"openapi":"3.1.0","info":{"title":"x","version":"1"},"servers":[{"url":"http://10.0.0.7/tt"}],"paths":{"/a":{"get":{"responses":{}}}}}"#;
    std::fs::write(&elsewhere, of_backend).unwrap();
    let wrong = update(&elsewhere);
    assert!(
        stderr(&wrong).contains("it is not its contract"),
        "{}",
        stderr(&wrong)
    );
}
