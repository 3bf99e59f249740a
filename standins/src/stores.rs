//! The ship's stores: what there is to take along, as an OData v4 service.

mod answer;
mod metadata;

use std::sync::{Arc, Mutex};

use axum::body::Bytes;
use axum::extract::State;
use axum::http::{HeaderMap, Method, StatusCode, Uri};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use axum::{Json, Router};
use serde_json::{Value, json};

use answer::{Asked, asked, page, refused, text_of};

/// A page has so many entities.
const PAGE: usize = 3;

#[derive(Default)]
struct Stores {
    goods: Vec<Value>,
    lots: Vec<Value>,
}

type Shared = Arc<Mutex<Stores>>;

pub(crate) fn routes() -> Router {
    let goods = [
        ("TAR-7", "Tar, black", "paint", 12, "14.50"),
        ("ROPE-20", "Rope, 20 mm", "rope", 3, "2.10"),
        ("LAMP'S", "Wick for the lamp's holder", "light", 40, "0.90"),
        ("BUOY-A", "Buoy, small", "buoy", 0, "88.00"),
        ("ROPE-32", "Rope, 32 mm", "rope", 7, "4.75"),
    ];
    let goods = goods.map(|(code, name, kind, left, price)| {
        let price: Value = serde_json::from_str(price).unwrap_or_default();
        json!({ "Code": code, "Name": name, "Kind": kind, "Left": left, "Price": price, "Counted": "2027-05-14T06:00:00Z" })
    });
    let lots = [
        ("ROPE-20", 1, "Farholt"),
        ("ROPE-20", 2, "Maren Quay"),
        ("LAMP'S", 1, "Tern Rock"),
    ];
    let lots =
        lots.map(|(good, number, quay)| json!({ "Good": good, "Number": number, "Quay": quay }));
    let stores = Stores {
        goods: goods.into(),
        lots: lots.into(),
    };
    Router::new()
        .route("/.well-known/api-catalog", get(catalogue))
        .fallback(any)
        .with_state(Arc::new(Mutex::new(stores)))
}

/// What there is to publish here (RFC 9727).
async fn catalogue() -> Response {
    let kind = "application/linkset+json; profile=\"https://www.rfc-editor.org/info/rfc9727\"";
    let linkset = json!({ "linkset": [{
        "anchor": "/stores/",
        "service-desc": [{ "href": "/stores/$metadata", "type": "application/xml", "title": "Ship's stores" }],
    }] });
    ([("content-type", kind)], linkset.to_string()).into_response()
}

async fn any(
    State(stores): State<Shared>,
    method: Method,
    uri: Uri,
    headers: HeaderMap,
    body: Bytes,
) -> Response {
    let Some(path) = uri.path().strip_prefix("/stores") else {
        return refused(StatusCode::NOT_FOUND, "there is nothing here");
    };
    let path = path.trim_matches('/');
    if path == "$metadata" {
        return ([("content-type", "application/xml")], metadata::TEXT).into_response();
    }
    let field = |name: &str| {
        headers
            .get(name)
            .and_then(|v| v.to_str().ok())
            .unwrap_or_default()
    };
    if !field("accept").contains("application/json") {
        return (
            StatusCode::NOT_ACCEPTABLE,
            "this catalogue answers whoever accepts application/json",
        )
            .into_response();
    }
    let root = format!("http://{}/stores", field("host"));
    let query = uri.query().unwrap_or_default();
    let asked = match asked(path, query) {
        Ok(asked) => asked,
        Err(why) => return refused(StatusCode::BAD_REQUEST, &why),
    };
    let body: Value = serde_json::from_slice(&body).unwrap_or_default();
    let Ok(mut stores) = stores.lock() else {
        return StatusCode::INTERNAL_SERVER_ERROR.into_response();
    };
    stores.answer(&method, &asked, &body, &root)
}

impl Stores {
    fn answer(&mut self, method: &Method, asked: &Asked, body: &Value, root: &str) -> Response {
        let key = asked.first_key();
        match (method.as_str(), asked.names().as_slice(), key) {
            ("GET", [], _) => {
                let sets =
                    ["Goods", "Lots"].map(|s| json!({ "name": s, "kind": "EntitySet", "url": s }));
                Json(json!({ "value": sets })).into_response()
            }
            ("GET", ["Goods"], None) => page(&self.goods, asked, root, "Goods"),
            ("GET", ["Lots"], None) => page(&self.lots, asked, root, "Lots"),
            ("GET", ["Lots"], Some(_)) => {
                let (good, number) = (asked.named("Good"), asked.named("Number"));
                let is = |l: &&Value| l["Good"] == good && text_of(&l["Number"]) == number;
                found(self.lots.iter().find(is))
            }
            ("GET", ["Goods"], Some(code)) => found(self.good(&code)),
            ("GET", ["Goods", "Lots"], Some(code)) => {
                let of = self.lots.iter().filter(|l| l["Good"] == code.as_str());
                page(
                    &of.cloned().collect::<Vec<_>>(),
                    asked,
                    root,
                    &format!("Goods('{code}')/Lots"),
                )
            }
            ("GET", ["short"], _) => {
                let below: i64 = asked.named("Below").parse().unwrap_or_default();
                let few = self
                    .goods
                    .iter()
                    .filter(|g| g["Left"].as_i64() < Some(below));
                page(
                    &few.cloned().collect::<Vec<_>>(),
                    asked,
                    root,
                    &format!("short(Below={below})"),
                )
            }
            ("POST", ["Goods"], None) => self.make(body, root),
            ("POST", ["Goods", "Skerry.Stores.take"], Some(code)) => self.take(&code, body),
            ("PATCH", ["Goods"], Some(code)) => self.change(&code, body),
            ("DELETE", ["Goods"], Some(code)) => {
                let before = self.goods.len();
                self.goods.retain(|g| g["Code"] != code.as_str());
                match before == self.goods.len() {
                    true => found(None),
                    false => StatusCode::NO_CONTENT.into_response(),
                }
            }
            _ => refused(StatusCode::NOT_FOUND, "there is nothing here"),
        }
    }

    fn good(&self, code: &str) -> Option<&Value> {
        self.goods.iter().find(|g| g["Code"] == code)
    }

    fn make(&mut self, body: &Value, root: &str) -> Response {
        let code = body["Code"].as_str().unwrap_or_default().to_owned();
        if code.is_empty() || self.good(&code).is_some() {
            return refused(StatusCode::BAD_REQUEST, "the code is missing or taken");
        }
        self.goods.push(body.clone());
        let location = format!("{root}/Goods('{}')", code.replace('\'', "''"));
        (
            StatusCode::CREATED,
            [("location", location)],
            Json(body.clone()),
        )
            .into_response()
    }

    fn change(&mut self, code: &str, body: &Value) -> Response {
        let Some(good) = self.goods.iter_mut().find(|g| g["Code"] == code) else {
            return found(None);
        };
        if let (Some(members), Some(changes)) = (good.as_object_mut(), body.as_object()) {
            members.extend(changes.clone());
        }
        Json(good.clone()).into_response()
    }

    fn take(&mut self, code: &str, body: &Value) -> Response {
        let wanted = body["Number"].as_i64().unwrap_or_default();
        let Some(good) = self.goods.iter_mut().find(|g| g["Code"] == code) else {
            return found(None);
        };
        let left = good["Left"].as_i64().unwrap_or_default() - wanted;
        if left < 0 {
            return refused(StatusCode::CONFLICT, "there are not so many");
        }
        good["Left"] = json!(left);
        Json(json!({ "value": left })).into_response()
    }
}

fn found(entity: Option<&Value>) -> Response {
    match entity {
        Some(entity) => ([("etag", "W/\"s-1\"")], Json(entity.clone())).into_response(),
        None => refused(StatusCode::NOT_FOUND, "it is not there"),
    }
}
