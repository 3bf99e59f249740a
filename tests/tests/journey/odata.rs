//! A catalogue of entities, published from its metadata.

use super::*;
use porch_standins::Standin;
use porch_tests::Backend;

/// The stores, published; the key of a consumer.
fn published(porch: &Porch, stores: &Backend) -> String {
    let folder = porch.folder().join("stocked/stores");
    let address = format!("http://{}/", stores.address);
    let place = folder.to_str().unwrap();
    let derived = porch.client(&["derive", &address, "--name", "stores", "-o", place], "");
    let told = stderr(&derived);
    assert!(derived.status.success(), "{told}");
    assert!(
        told.contains("/stores/$metadata, in its catalogue"),
        "{told}"
    );
    let checked = porch.client(&["check", place], "");
    assert!(
        stdout(&checked).contains("nothing wrong"),
        "{}",
        stdout(&checked)
    );
    porch.ok(&["push", porch.folder().join("stocked").to_str().unwrap()]);
    porch.ok(&["release", "stores", "--yes"]);
    porch.ok(&["consumer", "create", "Tide Clock"]);
    porch.new_key("Tide Clock")
}

#[test]
fn entities_are_listed_page_by_page_read_made_changed_and_deleted() {
    let porch = Porch::start();
    let stores = Backend::start(Standin::Stores, 0);
    let key = published(&porch, &stores);
    let get = |path: &str| porch.call("GET", path, &key, "");
    // Page by page: the link leads on at the facade.
    let first = get("/stores/v1/Goods?$count=true");
    let page = first.json();
    assert_eq!(
        (first.status, &page["@odata.count"]),
        (200, &json!(5)),
        "{}",
        first.text()
    );
    assert_eq!(page["value"].as_array().unwrap().len(), 3);
    assert_eq!(page["value"][0]["Price"].to_string(), "14.50");
    let next = page["@odata.nextLink"]
        .as_str()
        .unwrap_or_else(|| panic!("{page}"));
    assert_eq!(next, "?$skiptoken=3");
    let last = get(&format!("/stores/v1/Goods{next}")).json();
    assert_eq!(last["value"].as_array().unwrap().len(), 2, "{last}");
    assert!(last.get("@odata.nextLink").is_none(), "{last}");
    let some = get("/stores/v1/Goods?$filter=Kind%20eq%20'rope'&$select=Code").json();
    assert_eq!(
        some["value"],
        json!([{ "Code": "ROPE-20" }, { "Code": "ROPE-32" }])
    );
    // A quote in a key is a quote, and ends nothing.
    let lamp = get("/stores/v1/Goods/LAMP'S");
    assert_eq!(
        (lamp.status, &lamp.json()["Left"]),
        (200, &json!(40)),
        "{}",
        lamp.text()
    );
    let ends = get("/stores/v1/Goods/x')%20or%20('1'%20eq%20'1");
    assert_eq!(ends.status, 404, "{}", ends.text());
    let lots = get("/stores/v1/Goods/LAMP%27S/Lots").json();
    assert_eq!(lots["value"][0]["Quay"], "Tern Rock", "{lots}");
    let lot = get("/stores/v1/Lots/ROPE-20/2");
    assert_eq!(lot.json()["Quay"], "Maren Quay", "{}", lot.text());
    // A key that is no number, and an option that is none, never get there.
    assert_eq!(get("/stores/v1/Lots/ROPE-20/two").status, 400);
    let wrong = get("/stores/v1/Goods?$filtr=Left%20eq%200");
    assert_eq!(wrong.status, 400);
    assert!(wrong.text().contains("$filter"), "{}", wrong.text());
    // Changes.
    let post = |body: &str| porch.call("POST", "/stores/v1/Goods", &key, body);
    assert_eq!(post(r#"{"Code":"KNIFE"}"#).status, 400);
    let computed = post(r#"{"Code":"KNIFE","Name":"Knife","Counted":"2027-05-14T06:00:00Z"}"#);
    assert_eq!(computed.status, 400, "{}", computed.text());
    let made = post(r#"{"Code":"KNIFE","Name":"Knife","Left":4,"Shelf":"Dry"}"#);
    assert_eq!(made.status, 201, "{}", made.text());
    assert_eq!(made.headers["location"], "/stores/v1/Goods/KNIFE");
    let changed = porch.call("PATCH", "/stores/v1/Goods/KNIFE", &key, r#"{"Left":9}"#);
    assert_eq!(changed.json()["Left"], 9, "{}", changed.text());
    let taken = porch.call(
        "POST",
        "/stores/v1/Goods/KNIFE/take",
        &key,
        r#"{"Number":2}"#,
    );
    assert_eq!(taken.json(), json!({ "value": 7 }), "{}", taken.text());
    let few = get("/stores/v1/short?Below=4&$select=Code").json();
    assert_eq!(
        few["value"],
        json!([{ "Code": "ROPE-20" }, { "Code": "BUOY-A" }])
    );
    assert_eq!(
        porch
            .call("DELETE", "/stores/v1/Goods/KNIFE", &key, "")
            .status,
        204
    );
    assert_eq!(get("/stores/v1/Goods/KNIFE").status, 404);
}
