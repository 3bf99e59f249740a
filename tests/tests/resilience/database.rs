//! Without the database.

use super::*;

#[test]
fn callers_are_served_while_the_database_is_away_and_after_a_restart_without_it() {
    let mut cluster = new_cluster();
    let mut porch = Porch::start_with(&new_database(&cluster), &[]);
    let key = porch.publish();
    without_limits(&porch);
    assert_eq!(porch.call("GET", FARE, &key, "").status, 200);
    cluster.stop();
    for _ in 0..50 {
        assert_eq!(
            porch.call("GET", FARE, &key, "").json()["fare"].to_string(),
            "760.125"
        );
        assert_eq!(porch.call("GET", FARE, "", "").status, 401);
    }
    let refused = porch.api("GET", "/api/overview", &json!(null));
    assert_eq!(
        (refused.status, refused.json()["title"].as_str().unwrap()),
        (503, "The database does not answer")
    );
    assert_eq!(
        porch.client(&["release", "sailings"], "").status.code(),
        Some(1)
    );

    // Started without the database: the last release from disk, keys and secrets included, and it says so.
    porch.stop_service();
    porch.start_service(&[]).unwrap();
    assert!(
        porch.log().contains("is served from disk"),
        "{}",
        porch.log()
    );
    assert_eq!(
        porch.call("GET", FARE, &key, "").json()["fare"].to_string(),
        "760.125"
    );
    let health = Http::send("GET", &format!("{}/health", porch.console), &[], Vec::new()).json();
    assert_eq!(
        (
            &health["database"],
            &health["from_disk"],
            &health["release"]
        ),
        (&json!(false), &json!(true), &json!(2))
    );
}

#[test]
fn a_service_without_database_and_release_says_so_and_ends() {
    let mut cluster = new_cluster();
    let database = new_database(&cluster);
    let mut porch = Porch::start_with(&database, &[]);
    porch.stop_service();
    std::fs::remove_file(porch.folder().join("state/served.json")).unwrap();
    cluster.stop();
    let error = porch.start_service(&[]).unwrap_err();
    assert!(
        error.contains("there is no release on disk to serve"),
        "{error}"
    );
}

#[test]
fn keys_made_at_the_same_time_are_all_there_after_a_restart_without_the_database() {
    let mut cluster = new_cluster();
    let mut porch = Porch::start_with(&new_database(&cluster), &[]);
    porch.publish();
    without_limits(&porch);
    let make = |i: usize| {
        let facades = ["sailings", "cargo"][i % 2];
        let end = i.is_multiple_of(3).then_some(4_102_444_800_000i64);
        let body = json!({ "label": format!("{i}"), "ends_at": end, "facades": [facades] });
        let made = porch.api("POST", "/api/consumers/Quayside%20Kiosk/keys", &body);
        assert_eq!(made.status, 201, "{}", made.text());
        made.json()["key"].as_str().unwrap().to_owned()
    };
    let keys: Vec<String> = std::thread::scope(|scope| {
        let makers: Vec<_> = (0..48).map(|i| scope.spawn(move || make(i))).collect();
        makers.into_iter().map(|m| m.join().unwrap()).collect()
    });
    porch.stop_service();
    cluster.stop();
    porch.start_service(&[]).unwrap();
    assert!(porch.log().contains("is served from disk"));
    for (i, key) in keys.iter().enumerate() {
        let opens = if i % 2 == 0 { 200 } else { 403 };
        assert_eq!(porch.call("GET", FARE, key, "").status, opens, "{i}");
    }
}
