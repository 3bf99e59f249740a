//! The booking system: SOAP 1.1, document/literal, strict about the order of elements.

use std::sync::atomic::{AtomicU64, Ordering};

use axum::http::{HeaderMap, StatusCode, Uri};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use axum::{Extension, Router};
use roxmltree::{Document, Node};

use crate::secure::ByTls;

const WSDL: &str = include_str!("../definitions/reservations.wsdl");
const ENVELOPE: &str = "http://schemas.xmlsoap.org/soap/envelope/";
const NS: &str = "urn:skerry-line:reservations:3";
static HOLDS: AtomicU64 = AtomicU64::new(1);

pub(crate) fn routes() -> Router {
    Router::new().route("/reservations", get(definition).post(call))
}

/// The WSDL, with the address at which it was asked for: by TLS, if that is how; HTTP/2 has the host in the target (RFC 9113 §8.3.1).
async fn definition(by_tls: Option<Extension<ByTls>>, uri: Uri, headers: HeaderMap) -> Response {
    let scheme = if by_tls.is_some() { "https" } else { "http" };
    let host = headers.get("host").and_then(|h| h.to_str().ok());
    let host = host.or_else(|| uri.authority().map(|a| a.as_str()));
    let own = host.map_or_else(
        || WSDL.to_owned(),
        |host| WSDL.replace("http://127.0.0.1:3850", &format!("{scheme}://{host}")),
    );
    ([("content-type", "text/xml")], own).into_response()
}

fn envelope(status: StatusCode, body: &str) -> Response {
    let text = format!(
        "<?xml version=\"1.0\" encoding=\"utf-8\"?><env:Envelope xmlns:env=\"{ENVELOPE}\" xmlns:xsi=\"http://www.w3.org/2001/XMLSchema-instance\"><env:Body>{body}</env:Body></env:Envelope>"
    );
    (status, [("content-type", "text/xml; charset=utf-8")], text).into_response()
}

fn fault(code: &str, text: &str, detail: &str) -> Response {
    let detail = if detail.is_empty() {
        String::new()
    } else {
        format!("<detail>{detail}</detail>")
    };
    envelope(
        StatusCode::INTERNAL_SERVER_ERROR,
        &format!(
            "<env:Fault><faultcode>env:{code}</faultcode><faultstring>{}</faultstring>{detail}</env:Fault>",
            escape(text)
        ),
    )
}

fn escape(text: &str) -> String {
    text.replace('&', "&amp;")
        .replace('<', "&lt;")
        .replace('>', "&gt;")
}

async fn call(headers: HeaderMap, body: String) -> Response {
    let Ok(document) = Document::parse(&body) else {
        return fault("Client", "the request is not well-formed", "");
    };
    let root = document.root_element();
    let Some(request) = root
        .children()
        .find(|n| n.has_tag_name((ENVELOPE, "Body")))
        .and_then(|b| b.first_element_child())
    else {
        return fault("Client", "the request has no body", "");
    };
    let login = root.descendants().find(|n| n.has_tag_name((NS, "Login")));
    let text = |of: Option<Node<'_, '_>>, name: &str| {
        of.and_then(|n| n.children().find(|c| c.has_tag_name((NS, name))))
            .and_then(|n| n.text().map(str::to_owned))
            .unwrap_or_default()
    };
    if text(login, "User") != "quay-desk" || text(login, "Password") != "tide & tackle" {
        return fault("Client", "the login is not known", "");
    }
    let action = headers
        .get("soapaction")
        .and_then(|h| h.to_str().ok())
        .unwrap_or_default();
    let name = request.tag_name().name();
    if action != format!("\"{NS}/{name}\"") || request.tag_name().namespace() != Some(NS) {
        return fault(
            "Client",
            &format!("the action {action} does not fit the element {name}"),
            "",
        );
    }
    match name {
        "SearchSailings" => search(request),
        "QuoteFare" => quote(request),
        "HoldSeats" => hold(request),
        "ConfirmBooking" => with_order(request, &["Reference", "PaymentToken"], |v| {
            format!(
                "<r:ConfirmBookingResponse xmlns:r=\"{NS}\"><r:Reference>{}</r:Reference><r:Confirmed>1</r:Confirmed></r:ConfirmBookingResponse>",
                escape(&v[0])
            )
        }),
        "CancelBooking" => cancel(request),
        "GetManifest" => manifest(request),
        other => fault("Client", &format!("there is no operation {other}"), ""),
    }
}

/// The texts of the children, when they stand in exactly this order; a name that ends in `?` may be absent.
fn in_order(request: Node<'_, '_>, names: &[&str]) -> Result<Vec<String>, Box<Response>> {
    let mut children = request.children().filter(Node::is_element).peekable();
    let mut values = Vec::new();
    for name in names {
        let (name, optional) = name.strip_suffix('?').map_or((*name, false), |n| (n, true));
        match children.next_if(|c| c.has_tag_name((NS, name))) {
            Some(child) => values.push(child.text().unwrap_or_default().to_owned()),
            None if optional => values.push(String::new()),
            None => {
                return Err(Box::new(fault(
                    "Client",
                    &format!("{name} is missing or not in its place"),
                    "",
                )));
            }
        }
    }
    match children.next() {
        Some(extra) => Err(Box::new(fault(
            "Client",
            &format!("{} is not expected", extra.tag_name().name()),
            "",
        ))),
        None => Ok(values),
    }
}

fn with_order(
    request: Node<'_, '_>,
    names: &[&str],
    answer: impl FnOnce(Vec<String>) -> String,
) -> Response {
    match in_order(request, names) {
        Ok(values) => envelope(StatusCode::OK, &answer(values)),
        Err(refused) => *refused,
    }
}

fn unknown_route(route: &str) -> Response {
    fault(
        "Client",
        &format!("There is no route {route}"),
        &format!(
            "<r:UnknownRoute xmlns:r=\"{NS}\"><r:RouteCode>{}</r:RouteCode></r:UnknownRoute>",
            escape(route)
        ),
    )
}

fn quote(request: Node<'_, '_>) -> Response {
    let values = match in_order(request, &["RouteCode", "FareClass", "Passengers"]) {
        Ok(values) => values,
        Err(refused) => return *refused,
    };
    // Thousandths of a crown: money is never a binary float here.
    let base: u64 = match values[0].as_str() {
        "FAR-MAR" => 760_125,
        "MAR-TER" => 431_500,
        "TER-HOL" => 289_990,
        other => return unknown_route(other),
    };
    let factor = match values[1].as_str() {
        "foot" => 100,
        "bicycle" => 125,
        "car" => 420,
        "cabin" => 610,
        other => return fault("Client", &format!("there is no fare class {other}"), ""),
    };
    let Ok(passengers) = values[2].parse::<u64>() else {
        return fault("Client", "Passengers is no number", "");
    };
    let total = base * factor / 100 * passengers;
    let amount = format!("{}.{:03}", total / 1000, total % 1000);
    let body = format!(
        "<QuoteFareResponse xmlns=\"{NS}\"><Fare><Amount>{amount}</Amount><Currency>SKC</Currency><ValidUntil>2027-06-30</ValidUntil></Fare></QuoteFareResponse>"
    );
    envelope(StatusCode::OK, &body)
}

fn search(request: Node<'_, '_>) -> Response {
    with_order(request, &["From", "To?", "On"], |v| {
        let sailing = |id: &str,
                       route: &str,
                       time: &str,
                       seats: &str,
                       legs: &[(&str, &str, u32)],
                       tail: &str| {
            let legs: String = legs.iter().map(|(a, b, m)| format!("<r:Leg><r:From>{a}</r:From><r:To>{b}</r:To><r:Minutes>{m}</r:Minutes></r:Leg>")).collect();
            format!(
                "<r:Sailing><r:Id>{id}</r:Id><r:RouteCode>{route}</r:RouteCode><r:Departs>{}T{time}:00Z</r:Departs><r:Legs>{legs}</r:Legs>{seats}{tail}</r:Sailing>",
                escape(&v[2])
            )
        };
        let list = if v[0] == "Farholt" {
            [
                sailing(
                    "S-17",
                    "FAR-MAR",
                    "08:30",
                    "<r:SeatsLeft>42</r:SeatsLeft>",
                    &[("Farholt", "Maren Quay", 55)],
                    "<r:Vessel>Lantern</r:Vessel><r:Remark>Swell expected &amp; likely</r:Remark>",
                ),
                sailing(
                    "S-18",
                    "FAR-TER",
                    "12:15",
                    "<r:SeatsLeft xsi:nil=\"true\"/>",
                    &[
                        ("Farholt", "Maren Quay", 55),
                        ("Maren Quay", "Tern Rock", 40),
                    ],
                    "",
                ),
            ]
            .concat()
        } else {
            String::new()
        };
        format!(
            "<r:SearchSailingsResponse xmlns:r=\"{NS}\"><r:Sailings>{list}</r:Sailings></r:SearchSailingsResponse>"
        )
    })
}

fn hold(request: Node<'_, '_>) -> Response {
    let children: Vec<_> = request
        .children()
        .filter(Node::is_element)
        .map(|n| n.tag_name().name())
        .collect();
    if !matches!(
        children.as_slice(),
        ["SailingId", "FareClass", "Passengers"]
            | ["SailingId", "FareClass", "Passengers", "Contact"]
    ) {
        return fault("Client", "the elements are not in their places", "");
    }
    let sailing = request
        .first_element_child()
        .and_then(|n| n.text())
        .unwrap_or_default();
    let seats = request
        .descendants()
        .filter(|n| n.has_tag_name((NS, "Passenger")))
        .count() as u64;
    if sailing == "S-99" || seats > 20 {
        return fault(
            "Client",
            "There are not enough seats",
            &format!(
                "<r:SailingFull xmlns:r=\"{NS}\"><r:SailingId>{}</r:SailingId><r:SeatsLeft>3</r:SeatsLeft></r:SailingFull>",
                escape(sailing)
            ),
        );
    }
    let total = 760_125 * seats;
    let reference = HOLDS.fetch_add(1, Ordering::Relaxed);
    let expires = chrono::Utc::now() + chrono::Duration::minutes(20);
    let body = format!(
        "<r:HoldSeatsResponse xmlns:r=\"{NS}\"><r:Reference>H-{reference}</r:Reference><r:Expires>{}</r:Expires><r:Total><r:Amount>{}.{:03}</r:Amount><r:Currency>SKC</r:Currency></r:Total></r:HoldSeatsResponse>",
        expires.format("%Y-%m-%dT%H:%M:%SZ"),
        total / 1000,
        total % 1000
    );
    envelope(StatusCode::OK, &body)
}

fn cancel(request: Node<'_, '_>) -> Response {
    with_order(request, &["Reference", "Reason?"], |v| {
        let refund = if v[0].starts_with('H') {
            "<r:Refund xsi:nil=\"true\"/>".to_owned()
        } else {
            "<r:Refund><r:Amount>0.500</r:Amount><r:Currency>SKC</r:Currency></r:Refund>".into()
        };
        format!("<r:CancelBookingResponse xmlns:r=\"{NS}\">{refund}</r:CancelBookingResponse>")
    })
}

fn manifest(request: Node<'_, '_>) -> Response {
    with_order(request, &["SailingId", "Rows?"], |v| {
        let rows: u32 = v[1].parse().unwrap_or(200).min(2_000_000);
        let mut list = String::new();
        for i in 0..rows {
            list.push_str(&format!("<r:Passenger><r:Name>Passenger {i} of Osprey Sound</r:Name><r:Born>19{:02}-03-{:02}</r:Born></r:Passenger>", i % 100, i % 28 + 1));
        }
        format!(
            "<r:GetManifestResponse xmlns:r=\"{NS}\"><r:SailingId>{}</r:SailingId><r:Passengers>{list}</r:Passengers></r:GetManifestResponse>",
            escape(&v[0])
        )
    })
}
