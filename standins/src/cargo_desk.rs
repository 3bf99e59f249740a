//! The cargo desk: SOAP 1.2, rpc/literal, its schemas in three files, its definition handed out as a ZIP.

use std::collections::BTreeMap;
use std::io::{Cursor, Write};
use std::sync::{Arc, Mutex};

use axum::Router;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use roxmltree::{Document, Node};
use zip::write::SimpleFileOptions;

const FILES: [(&str, &str); 4] = [
    (
        "cargo-desk.wsdl",
        include_str!("../definitions/cargo-desk/cargo-desk.wsdl"),
    ),
    (
        "schemas/common.xsd",
        include_str!("../definitions/cargo-desk/schemas/common.xsd"),
    ),
    (
        "schemas/consignment.xsd",
        include_str!("../definitions/cargo-desk/schemas/consignment.xsd"),
    ),
    (
        "schemas/labels.xsd",
        include_str!("../definitions/cargo-desk/schemas/labels.xsd"),
    ),
];
const ENVELOPE: &str = "http://www.w3.org/2003/05/soap-envelope";
const NS: &str = "urn:skerry-line:cargo-desk:1";
const KN: &str = "urn:skerry-line:consignments:1";
const XSI: &str = "http://www.w3.org/2001/XMLSchema-instance";
/// A picture of one black and one white point (PNG).
const PICTURE: [u8; 67] = [
    0x89, 0x50, 0x4e, 0x47, 0x0d, 0x0a, 0x1a, 0x0a, 0x00, 0x00, 0x00, 0x0d, 0x49, 0x48, 0x44, 0x52,
    0x00, 0x00, 0x00, 0x02, 0x00, 0x00, 0x00, 0x01, 0x01, 0x00, 0x00, 0x00, 0x00, 0xdc, 0x59, 0x42,
    0x27, 0x00, 0x00, 0x00, 0x0a, 0x49, 0x44, 0x41, 0x54, 0x78, 0xda, 0x63, 0x70, 0x00, 0x00, 0x00,
    0x42, 0x00, 0x41, 0x84, 0xbf, 0x8e, 0x62, 0x00, 0x00, 0x00, 0x00, 0x49, 0x45, 0x4e, 0x44, 0xae,
    0x42, 0x60, 0x82,
];

/// The consignments as they were booked: the XML of their inside, by number.
type Desk = Arc<Mutex<BTreeMap<u32, String>>>;

pub(crate) fn routes() -> Router {
    let desk = Desk::default();
    if let Ok(mut all) = desk.lock() {
        all.insert(
            2041,
            "<k:from>Farholt</k:from><k:to>Tern Rock</k:to><k:container><k:mark>crate 17</k:mark><k:feet>20</k:feet></k:container><k:goods xsi:type=\"k:Dangerous\" un=\"1203\"><k:what>Petrol in drums</k:what><k:weight>1520.250</k:weight><k:classes>3 9</k:classes></k:goods><k:goods xsi:type=\"k:General\"><k:what>Rope &amp; tackle</k:what><k:weight xsi:nil=\"true\"/></k:goods>".into(),
        );
        all.insert(2042, "<k:from>Farholt</k:from><k:to>Hollow Bay</k:to><k:pallets>3</k:pallets><k:goods xsi:type=\"k:Livestock\"><k:what>Sheep</k:what><k:weight unit=\"t\">0.9</k:weight><k:heads>14</k:heads></k:goods><k:notes><k:note>Keep dry</k:note></k:notes>".into());
    }
    Router::new()
        .route(
            "/cargo-desk",
            get(|headers| file(headers, "cargo-desk.wsdl")).post(call),
        )
        .route("/rehearsal", post(call))
        .route(
            "/schemas/{name}",
            get(
                |headers, axum::extract::Path(name): axum::extract::Path<String>| async move {
                    file(headers, &format!("schemas/{name}")).await
                },
            ),
        )
        .route("/cargo-desk.zip", get(archive))
        .with_state(desk)
}

fn with_host(headers: &HeaderMap, text: &str) -> String {
    let host = headers
        .get("host")
        .and_then(|h| h.to_str().ok())
        .unwrap_or("127.0.0.1");
    text.replace("127.0.0.1:3852", host)
}

async fn file(headers: HeaderMap, name: &str) -> Response {
    match FILES.iter().find(|(n, _)| *n == name) {
        Some((_, text)) => {
            ([("content-type", "text/xml")], with_host(&headers, text)).into_response()
        }
        None => StatusCode::NOT_FOUND.into_response(),
    }
}

/// The definition as a ZIP, as it is handed over to partners.
async fn archive(headers: HeaderMap) -> Response {
    let mut zip = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for (name, text) in FILES {
        let added = zip.start_file(
            format!("cargo-desk-definition/{name}"),
            SimpleFileOptions::default(),
        );
        if added.is_err() || zip.write_all(with_host(&headers, text).as_bytes()).is_err() {
            return StatusCode::INTERNAL_SERVER_ERROR.into_response();
        }
    }
    match zip.finish() {
        Ok(bytes) => ([("content-type", "application/zip")], bytes.into_inner()).into_response(),
        Err(_) => StatusCode::INTERNAL_SERVER_ERROR.into_response(),
    }
}

fn escape(text: &str) -> String {
    text.replace('&', "&amp;")
        .replace('<', "&lt;")
        .replace('>', "&gt;")
        .replace('"', "&quot;")
}

fn envelope(body: &str) -> String {
    format!(
        "<?xml version=\"1.0\"?><env:Envelope xmlns:env=\"{ENVELOPE}\" xmlns:xsi=\"{XSI}\" xmlns:k=\"{KN}\"><env:Body>{body}</env:Body></env:Envelope>"
    )
}

fn answer(name: &str, parts: &str) -> Response {
    (
        [("content-type", "application/soap+xml; charset=utf-8")],
        envelope(&format!(
            "<d:{name}Response xmlns:d=\"{NS}\">{parts}</d:{name}Response>"
        )),
    )
        .into_response()
}

fn fault(code: &str, subcode: &str, reasons: &[(&str, &str)], detail: &str) -> Response {
    let texts: String = reasons
        .iter()
        .map(|(lang, text)| format!("<env:Text xml:lang=\"{lang}\">{}</env:Text>", escape(text)))
        .collect();
    let subcode = if subcode.is_empty() {
        String::new()
    } else {
        format!("<env:Subcode><env:Value xmlns:d=\"{NS}\">d:{subcode}</env:Value></env:Subcode>")
    };
    let detail = if detail.is_empty() {
        String::new()
    } else {
        format!("<env:Detail>{detail}</env:Detail>")
    };
    let body = envelope(&format!(
        "<env:Fault><env:Code><env:Value>env:{code}</env:Value>{subcode}</env:Code><env:Reason>{texts}</env:Reason>{detail}</env:Fault>"
    ));
    let status = if code == "Sender" {
        StatusCode::BAD_REQUEST
    } else {
        StatusCode::INTERNAL_SERVER_ERROR
    };
    (
        status,
        [("content-type", "application/soap+xml; charset=utf-8")],
        body,
    )
        .into_response()
}

fn wrong(what: &str) -> Response {
    fault("Sender", "", &[("en", what)], "")
}

async fn call(State(desk): State<Desk>, headers: HeaderMap, body: String) -> Response {
    let kind = headers
        .get("content-type")
        .and_then(|h| h.to_str().ok())
        .unwrap_or_default();
    let Ok(document) = Document::parse(&body) else {
        return wrong("the request is not well-formed");
    };
    let root = document.root_element();
    if !root.has_tag_name((ENVELOPE, "Envelope")) || !kind.starts_with("application/soap+xml") {
        return fault(
            "VersionMismatch",
            "",
            &[("en", "SOAP 1.2 is spoken here")],
            "",
        );
    }
    let request = root
        .children()
        .find(|n| n.has_tag_name((ENVELOPE, "Body")))
        .and_then(|b| b.first_element_child());
    let Some(request) = request.filter(|r| r.tag_name().namespace() == Some(NS)) else {
        return wrong("the body holds no operation of this desk");
    };
    let name = request.tag_name().name();
    let action = match name {
        "BookConsignment" => "Book",
        "FindConsignments" => "Find",
        "GetConsignment" => "Get",
        "GetLabel" => "Label",
        "AddNote" => "Note",
        other => return wrong(&format!("there is no operation {other}")),
    };
    if !kind.contains(&format!("action=\"{NS}/{action}\"")) {
        return wrong(&format!(
            "the media type {kind} does not name the action of {name}"
        ));
    }
    let Ok(mut all) = desk.lock() else {
        return StatusCode::INTERNAL_SERVER_ERROR.into_response();
    };
    match name {
        "BookConsignment" => book(request, &mut all),
        "FindConsignments" => find(request, &all),
        "AddNote" => StatusCode::ACCEPTED.into_response(),
        _ => one(request, &all),
    }
}

/// A part of a request; parts have no namespace (WSDL 1.1 §3.5).
fn part<'a, 'i>(request: Node<'a, 'i>, name: &str) -> Option<Node<'a, 'i>> {
    request.children().find(|n| n.has_tag_name(name))
}

fn part_text<'a>(request: Node<'a, '_>, name: &str) -> &'a str {
    part(request, name)
        .and_then(|n| n.text())
        .unwrap_or_default()
}

fn book(request: Node<'_, '_>, all: &mut BTreeMap<u32, String>) -> Response {
    let made = part(request, "consignment")
        .ok_or_else(|| refused("the part consignment is missing"))
        .and_then(consignment);
    let (inside, pieces) = match made {
        Ok(made) => made,
        Err(Refused(why)) => return wrong(&why),
    };
    let number = all.keys().next_back().map_or(2041, |n| n + 1);
    all.insert(number, inside);
    let charge = 120 * pieces;
    answer(
        "BookConsignment",
        &format!("<number>C-{number:04}</number><charge currency=\"SKC\">{charge}.500</charge>"),
    )
}

fn find(request: Node<'_, '_>, all: &BTreeMap<u32, String>) -> Response {
    let from = format!("<k:from>{}</k:from>", escape(part_text(request, "from")));
    let found: String = all
        .iter()
        .filter(|(_, c)| c.contains(&from))
        .map(|(n, c)| format!("<k:consignment><k:number>C-{n:04}</k:number>{c}</k:consignment>"))
        .collect();
    answer(
        "FindConsignments",
        &format!("<consignments>{found}</consignments>"),
    )
}

/// What asks for one consignment, or its label.
fn one(request: Node<'_, '_>, all: &BTreeMap<u32, String>) -> Response {
    let asked = part_text(request, "number");
    let number = asked.trim().strip_prefix("C-").and_then(|n| n.parse().ok());
    let found = number.and_then(|n: u32| Some((n, all.get(&n)?)));
    let Some((n, c)) = found else {
        let english = format!("There is no consignment {asked}");
        let german = format!("Es gibt keine Sendung {asked}");
        return fault(
            "Sender",
            "Unknown",
            &[("en", &english), ("de", &german)],
            &format!(
                "<k:UnknownConsignment><k:number>{}</k:number></k:UnknownConsignment>",
                escape(asked)
            ),
        );
    };
    if request.tag_name().name() == "GetLabel" {
        return label(n);
    }
    answer(
        "GetConsignment",
        &format!("<consignment priority=\"1\"><k:number>C-{n:04}</k:number>{c}</consignment>"),
    )
}

/// The label as MTOM has it: the picture in a part of its own.
fn label(number: u32) -> Response {
    let checksum: u32 = PICTURE.iter().map(|b| u32::from(*b)).sum::<u32>() + number;
    let body = envelope(&format!(
        "<d:GetLabelResponse xmlns:d=\"{NS}\"><label xmlns:l=\"urn:skerry-line:labels:1\"><l:mediaType>image/png</l:mediaType><l:picture><xop:Include xmlns:xop=\"http://www.w3.org/2004/08/xop/include\" href=\"cid:picture%40cargo-desk\"/></l:picture><l:checksum>{checksum:08X}</l:checksum></label></d:GetLabelResponse>"
    ));
    let mut out = format!("--tide-line\r\nContent-Type: application/xop+xml; charset=utf-8; type=\"application/soap+xml\"\r\nContent-ID: <root@cargo-desk>\r\n\r\n{body}\r\n--tide-line\r\nContent-Type: image/png\r\nContent-Transfer-Encoding: binary\r\nContent-ID: <picture@cargo-desk>\r\n\r\n").into_bytes();
    out.extend_from_slice(&PICTURE);
    out.extend_from_slice(b"\r\n--tide-line--\r\n");
    ([("content-type", "multipart/related; type=\"application/xop+xml\"; start=\"<root@cargo-desk>\"; start-info=\"application/soap+xml\"; boundary=\"tide-line\"")], out).into_response()
}

/// What a consignment lacks, told to the caller in a fault.
#[derive(Debug)]
struct Refused(String);

fn refused(why: impl Into<String>) -> Refused {
    Refused(why.into())
}

/// Checks a consignment as strictly as its schema; gives its inside again, and how many kinds of goods it has.
fn consignment(node: Node<'_, '_>) -> Result<(String, usize), Refused> {
    let mut children = node.children().filter(Node::is_element).peekable();
    let mut out = String::new();
    let mut text = |name: &str, optional: bool, out: &mut String| match children
        .next_if(|c| c.has_tag_name((KN, name)))
    {
        Some(child) => {
            push_element(out, name, "", child);
            Ok(true)
        }
        None if optional => Ok(false),
        None => Err(refused(format!("{name} is missing or not in its place"))),
    };
    text("number", true, &mut String::new())?;
    text("from", false, &mut out)?;
    text("to", false, &mut out)?;
    if !text("pallets", true, &mut out)? {
        let container = children
            .next_if(|c| c.has_tag_name((KN, "container")))
            .ok_or_else(|| refused("container or pallets must be there"))?;
        push_container(&mut out, container)?;
    }
    let mut pieces = 0;
    while let Some(one) = children.next_if(|c| c.has_tag_name((KN, "goods"))) {
        pieces += 1;
        push_goods(&mut out, one)?;
    }
    if pieces == 0 {
        return Err(refused("there are no goods"));
    }
    if let Some(notes) = children.next_if(|c| c.has_tag_name((KN, "notes"))) {
        out.push_str("<k:notes>");
        for note in notes.children().filter(Node::is_element) {
            push_element(&mut out, "note", "", note);
        }
        out.push_str("</k:notes>");
    }
    match children.next() {
        Some(extra) => Err(refused(format!(
            "{} is not expected",
            extra.tag_name().name()
        ))),
        None => Ok((out, pieces)),
    }
}

/// An element of the consignments' namespace with another's text.
fn push_element(out: &mut String, name: &str, attributes: &str, of: Node<'_, '_>) {
    let text = escape(of.text().unwrap_or_default());
    out.push_str(&format!("<k:{name}{attributes}>{text}</k:{name}>"));
}

fn push_container(out: &mut String, container: Node<'_, '_>) -> Result<(), Refused> {
    let inside: Vec<_> = container.children().filter(Node::is_element).collect();
    let [mark, feet] = inside.as_slice() else {
        return Err(refused("a container has mark and feet"));
    };
    out.push_str("<k:container>");
    push_element(out, "mark", "", *mark);
    push_element(out, "feet", "", *feet);
    out.push_str("</k:container>");
    Ok(())
}

fn push_goods(out: &mut String, goods: Node<'_, '_>) -> Result<(), Refused> {
    let named = goods
        .attribute((XSI, "type"))
        .ok_or_else(|| refused("goods are abstract: xsi:type must say which"))?;
    let (prefix, kind) = named.split_once(':').unwrap_or(("", named));
    if goods.lookup_namespace_uri((!prefix.is_empty()).then_some(prefix)) != Some(KN) {
        return Err(refused(format!(
            "the type {named} is of no known namespace"
        )));
    }
    let attribute = |of: Node<'_, '_>, name: &str| {
        of.attribute(name)
            .map_or_else(String::new, |v| format!(" {name}=\"{}\"", escape(v)))
    };
    let un = attribute(goods, "un");
    if (kind == "Dangerous") == un.is_empty()
        || !matches!(kind, "General" | "Livestock" | "Dangerous")
    {
        return Err(refused(format!(
            "{kind} goods cannot stand there like this"
        )));
    }
    out.push_str(&format!("<k:goods xsi:type=\"k:{kind}\"{un}>"));
    for child in goods.children().filter(Node::is_element) {
        let name = child.tag_name().name();
        if child.tag_name().namespace() != Some(KN)
            || !["what", "weight", "heads", "classes"].contains(&name)
        {
            return Err(refused(format!("{name} is not expected in goods")));
        }
        let nil = child.attribute((XSI, "nil"));
        let nil = nil.map_or("", |_| " xsi:nil=\"true\"");
        let attributes = format!("{nil}{}", attribute(child, "unit"));
        push_element(out, name, &attributes, child);
    }
    out.push_str("</k:goods>");
    Ok(())
}
