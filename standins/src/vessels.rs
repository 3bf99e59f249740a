//! The fleet's service: gRPC with reflection; one service has HTTP rules, the other has none.

use std::collections::BTreeMap;
use std::pin::Pin;
use std::sync::{Arc, Mutex};
use std::time::{Duration, SystemTime};

use axum::Router;
use prost::Message;
use prost_types::value::Kind;
use tokio_stream::{Stream, StreamExt};
use tonic::metadata::MetadataMap;
use tonic::{Code, Request, Response, Status, Streaming};

#[allow(
    clippy::all,
    clippy::pedantic,
    unreachable_pub,
    dead_code,
    missing_docs,
    reason = "made from the definition"
)]
pub mod pb {
    pub mod google {
        pub mod api {
            tonic::include_proto!("google.api");
        }
    }
    pub mod skerry {
        pub mod fleet {
            pub mod v1 {
                tonic::include_proto!("skerry.fleet.v1");
            }
        }
        pub mod berths {
            pub mod v1 {
                tonic::include_proto!("skerry.berths.v1");
            }
        }
    }
}

use pb::google::api::HttpBody;
use pb::skerry::berths::v1::berths_server::{Berths, BerthsServer};
use pb::skerry::berths::v1::{
    AssignBerthRequest, Berth, GetBerthRequest, ListBerthsRequest, ListBerthsResponse,
};
use pb::skerry::fleet::v1::fleet_server::{Fleet, FleetServer};
use pb::skerry::fleet::v1::*;

/// The compiled definition, with everything that it imports.
pub const DESCRIPTORS: &[u8] = include_bytes!(concat!(env!("OUT_DIR"), "/vessels.bin"));

type Many<T> = Pin<Box<dyn Stream<Item = Result<T, Status>> + Send>>;

struct Harbour {
    vessels: Mutex<BTreeMap<String, Vessel>>,
    defects: Mutex<BTreeMap<String, Defect>>,
}

fn time(seconds: i64) -> Option<prost_types::Timestamp> {
    Some(prost_types::Timestamp { seconds, nanos: 0 })
}

fn fleet() -> BTreeMap<String, Vessel> {
    let rows = [
        ("alca", "Alca", 40, State::UnderWay, "Farholt"),
        ("brent", "Brent", 180, State::Moored, "Maren Quay"),
        ("dunlin", "Dunlin", 320, State::UnderWay, "Hollow Bay"),
        ("fulmar", "Fulmar", 12, State::InDock, "Tern Rock"),
    ];
    let make = |(i, (id, title, seats, state, port)): (usize, (&str, &str, u32, State, &str))| {
        let certificate = Certificate {
            authority: "Osprey Sound Harbour Office".into(),
            expires: time(1_861_920_000),
        };
        let remark = |kind: Kind| prost_types::Value { kind: Some(kind) };
        let vessel = Vessel {
            name: format!("vessels/{id}"),
            title: title.into(),
            number: 9_007_199_254_740_993 + i as i64,
            state: state.into(),
            draught: 2.5 + i as f64 / 4.0,
            seats,
            car_decks: (seats > 100).then_some(if seats > 200 { 2 } else { 0 }),
            commissioned: time(725_846_400 + i as i64 * 86_400 * 700),
            turnaround: Some(prost_types::Duration {
                seconds: 1200 + i as i64 * 60,
                nanos: 500_000_000,
            }),
            home_ports: vec![port.into(), "Osprey Sound".into()],
            stores: [("lifejackets".to_owned(), seats as i32 + 20)].into(),
            drive: Some(if i % 2 == 0 {
                vessel::Drive::Diesel(Diesel {
                    engines: 2,
                    litres_an_hour: 81.5,
                })
            } else {
                vessel::Drive::Battery(Battery {
                    kilowatt_hours: 950.25,
                })
            }),
            remarks: Some(prost_types::Struct {
                fields: [
                    ("ramp".to_owned(), remark(Kind::StringValue("bow".into()))),
                    ("bow thruster".to_owned(), remark(Kind::BoolValue(i > 0))),
                ]
                .into(),
            }),
            certificate: Some(prost_types::Any {
                type_url: "type.googleapis.com/skerry.fleet.v1.Certificate".into(),
                value: certificate.encode_to_vec(),
            }),
            call_sign: Some(format!("SK{}", i + 1)),
            seal: vec![0x5e, 0xa1, i as u8],
            changed: time(1_793_000_000),
        };
        (vessel.name.clone(), vessel)
    };
    rows.into_iter().enumerate().map(make).collect()
}

#[derive(Clone, PartialEq, Message)]
struct RpcStatus {
    #[prost(int32, tag = "1")]
    code: i32,
    #[prost(string, tag = "2")]
    message: String,
    #[prost(message, repeated, tag = "3")]
    details: Vec<prost_types::Any>,
}

#[derive(Clone, PartialEq, Message)]
struct FieldViolation {
    #[prost(string, tag = "1")]
    field: String,
    #[prost(string, tag = "2")]
    description: String,
}

#[derive(Clone, PartialEq, Message)]
struct BadRequest {
    #[prost(message, repeated, tag = "1")]
    field_violations: Vec<FieldViolation>,
}

#[derive(Clone, PartialEq, Message)]
struct RetryInfo {
    #[prost(message, optional, tag = "1")]
    retry_delay: Option<prost_types::Duration>,
}

#[derive(Clone, PartialEq, Message)]
struct ErrorInfo {
    #[prost(string, tag = "1")]
    reason: String,
    #[prost(string, tag = "2")]
    domain: String,
}

fn detail(name: &str, message: &impl Message) -> prost_types::Any {
    prost_types::Any {
        type_url: format!("type.googleapis.com/google.rpc.{name}"),
        value: message.encode_to_vec(),
    }
}

fn status(code: Code, message: &str, details: Vec<prost_types::Any>) -> Status {
    let all = RpcStatus {
        code: code as i32,
        message: message.into(),
        details,
    };
    Status::with_details(code, message, all.encode_to_vec().into())
}

fn unknown(name: &str) -> Status {
    let info = ErrorInfo {
        reason: "NO_SUCH_VESSEL".into(),
        domain: "fleet.skerry.example".into(),
    };
    status(
        Code::NotFound,
        &format!("there is no {name}"),
        vec![detail("ErrorInfo", &info)],
    )
}

fn bad(field: &str, description: &str) -> Status {
    let bad = BadRequest {
        field_violations: vec![FieldViolation {
            field: field.into(),
            description: description.into(),
        }],
    };
    status(
        Code::InvalidArgument,
        "the request cannot be used",
        vec![detail("BadRequest", &bad)],
    )
}

#[tonic::async_trait]
impl Fleet for Arc<Harbour> {
    async fn list_vessels(
        &self,
        request: Request<ListVesselsRequest>,
    ) -> Result<Response<ListVesselsResponse>, Status> {
        let asked = request.into_inner();
        let all = self
            .vessels
            .lock()
            .map_err(|_| Status::internal("poisoned"))?;
        let port = asked
            .harbour
            .strip_prefix("harbours/")
            .unwrap_or(&asked.harbour)
            .replace('-', " ")
            .to_lowercase();
        let filter = asked.filter.unwrap_or_default();
        let fits = |v: &&Vessel| {
            (port.is_empty() || v.home_ports.iter().any(|p| p.to_lowercase() == port))
                && (asked.states.is_empty() || asked.states.contains(&v.state))
                && v.seats >= filter.min_seats
                && filter
                    .commissioned_before
                    .is_none_or(|t| v.commissioned.is_some_and(|c| c.seconds < t.seconds))
        };
        let found: Vec<Vessel> = all.values().filter(fits).cloned().collect();
        let from: usize = asked.page_token.parse().unwrap_or(0);
        let size = if asked.page_size > 0 {
            asked.page_size as usize
        } else {
            50
        };
        // Many more than there are, for whoever measures: the same ones again.
        let page: Vec<Vessel> = if size > 1000 {
            found
                .iter()
                .cycle()
                .take(if found.is_empty() { 0 } else { size })
                .cloned()
                .collect()
        } else {
            found.iter().skip(from).take(size).cloned().collect()
        };
        let next = if size <= 1000 && from + size < found.len() {
            (from + size).to_string()
        } else {
            String::new()
        };
        Ok(Response::new(ListVesselsResponse {
            total: found.len() as i64,
            vessels: page,
            next_page_token: next,
        }))
    }

    async fn get_vessel(
        &self,
        request: Request<GetVesselRequest>,
    ) -> Result<Response<Vessel>, Status> {
        let metadata = request.metadata().clone();
        let name = request.into_inner().name;
        if name == "vessels/ghost" {
            let retry = RetryInfo {
                retry_delay: Some(prost_types::Duration {
                    seconds: 1,
                    nanos: 500_000_000,
                }),
            };
            return Err(status(
                Code::Unavailable,
                "the fog is too thick",
                vec![detail("RetryInfo", &retry)],
            ));
        }
        let all = self
            .vessels
            .lock()
            .map_err(|_| Status::internal("poisoned"))?;
        let vessel = all.get(&name).cloned().ok_or_else(|| unknown(&name))?;
        let mut response = Response::new(vessel);
        echo(&metadata, response.metadata_mut());
        Ok(response)
    }

    async fn update_vessel(
        &self,
        request: Request<UpdateVesselRequest>,
    ) -> Result<Response<Vessel>, Status> {
        let asked = request.into_inner();
        let Some(sent) = asked.vessel else {
            return Err(bad("vessel", "must be there"));
        };
        let mut all = self
            .vessels
            .lock()
            .map_err(|_| Status::internal("poisoned"))?;
        let vessel = all.get_mut(&sent.name).ok_or_else(|| unknown(&sent.name))?;
        for path in asked.update_mask.unwrap_or_default().paths {
            match path.as_str() {
                "title" => vessel.title.clone_from(&sent.title),
                "seats" => vessel.seats = sent.seats,
                "state" => vessel.state = sent.state,
                "draught" => vessel.draught = sent.draught,
                "home_ports" => vessel.home_ports.clone_from(&sent.home_ports),
                "car_decks" => vessel.car_decks = sent.car_decks,
                "name" => {}
                other => return Err(bad(&format!("update_mask.{other}"), "cannot be changed")),
            }
        }
        Ok(Response::new(vessel.clone()))
    }

    async fn retire_vessel(
        &self,
        request: Request<GetVesselRequest>,
    ) -> Result<Response<()>, Status> {
        let name = request.into_inner().name;
        let mut all = self
            .vessels
            .lock()
            .map_err(|_| Status::internal("poisoned"))?;
        all.remove(&name)
            .map(|_| Response::new(()))
            .ok_or_else(|| unknown(&name))
    }

    async fn report_defect(
        &self,
        request: Request<ReportDefectRequest>,
    ) -> Result<Response<Defect>, Status> {
        let asked = request.into_inner();
        let mut defect = asked.defect.unwrap_or_default();
        if defect.text.is_empty() {
            return Err(bad("defect.text", "must say what is wrong"));
        }
        let mut all = self
            .defects
            .lock()
            .map_err(|_| Status::internal("poisoned"))?;
        let number = all.len() + 1;
        defect.name = format!("{}/defects/{number}", asked.vessel);
        defect.severity = if asked.urgent {
            5
        } else {
            defect.severity.max(1)
        };
        all.insert(defect.name.clone(), defect.clone());
        Ok(Response::new(defect))
    }

    async fn get_defect(
        &self,
        request: Request<GetDefectRequest>,
    ) -> Result<Response<Defect>, Status> {
        let name = request.into_inner().name;
        let all = self
            .defects
            .lock()
            .map_err(|_| Status::internal("poisoned"))?;
        all.get(&name)
            .cloned()
            .map(Response::new)
            .ok_or_else(|| unknown(&name))
    }

    type StreamPositionsStream = Many<Position>;

    async fn stream_positions(
        &self,
        request: Request<StreamPositionsRequest>,
    ) -> Result<Response<Self::StreamPositionsStream>, Status> {
        let asked = request.into_inner();
        let interval = asked.interval.map_or(Duration::from_millis(500), |d| {
            Duration::new(d.seconds.max(0) as u64, d.nanos.max(0) as u32)
        });
        let names: Vec<String> = self
            .vessels
            .lock()
            .map_err(|_| Status::internal("poisoned"))?
            .keys()
            .cloned()
            .collect();
        let (count, fail_after) = (asked.count, asked.fail_after);
        let (sender, receiver) = tokio::sync::mpsc::channel(4);
        tokio::spawn(async move {
            for i in 0.. {
                if count > 0 && i >= count {
                    return;
                }
                let last = fail_after > 0 && i >= fail_after;
                let message = if last {
                    Err(Status::data_loss("the radar went dark"))
                } else {
                    Ok(position(&names, i as usize))
                };
                // The caller has left when nobody takes it.
                if sender.send(message).await.is_err() || last {
                    return;
                }
                if !interval.is_zero() {
                    tokio::time::sleep(interval).await;
                }
            }
        });
        Ok(Response::new(Box::pin(
            tokio_stream::wrappers::ReceiverStream::new(receiver),
        )))
    }

    async fn upload_log_book(
        &self,
        request: Request<Streaming<LogEntry>>,
    ) -> Result<Response<LogBookSummary>, Status> {
        let mut entries = request.into_inner();
        let mut summary = LogBookSummary::default();
        while let Some(entry) = entries.next().await {
            let entry = entry?;
            if entry.text.is_empty() {
                return Err(bad(
                    &format!("entries[{}].text", summary.entries),
                    "must not be empty",
                ));
            }
            summary.entries += 1;
            summary.characters += entry.text.chars().count() as i64;
            summary.last = entry.text;
        }
        Ok(Response::new(summary))
    }

    type PilotStream = Many<PilotAnswer>;

    async fn pilot(
        &self,
        request: Request<Streaming<PilotQuestion>>,
    ) -> Result<Response<Self::PilotStream>, Status> {
        let mut number = 0;
        let answers = request.into_inner().map(move |question| {
            number += 1;
            question.map(|q| PilotAnswer {
                text: format!("{}: steady as she goes", q.text),
                number,
            })
        });
        Ok(Response::new(Box::pin(answers)))
    }

    async fn get_deck_plan(
        &self,
        request: Request<GetVesselRequest>,
    ) -> Result<Response<HttpBody>, Status> {
        let name = request.into_inner().name;
        let drawing = format!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 90 20\"><path d=\"M2 10 10 2h70v16H10z\" fill=\"#d7e3ea\"/><text x=\"14\" y=\"13\" font-size=\"6\">{name}</text></svg>"
        );
        Ok(Response::new(HttpBody {
            content_type: "image/svg+xml".into(),
            data: drawing.into_bytes(),
            extensions: Vec::new(),
        }))
    }

    async fn get_file(&self, request: Request<GetFileRequest>) -> Result<Response<File>, Status> {
        let path = request.into_inner().path;
        Ok(Response::new(File {
            text: format!("what lies at {path}"),
            path,
        }))
    }
}

/// Metadata that was sent is told back, so that one can see what arrived.
fn echo(from: &MetadataMap, to: &mut MetadataMap) {
    if let Some(value) = from.get("x-voyage") {
        to.insert("x-voyage-seen", value.clone());
    }
    if let Some(value) = from.get_bin("x-chart-bin") {
        to.insert_bin("x-chart-seen-bin", value.clone());
    }
    if let Some(Ok(value)) = from
        .get("grpc-timeout")
        .map(|v| v.to_str().map(str::to_owned))
        && let Ok(value) = value.parse()
    {
        to.insert("x-deadline-seen", value);
    }
}

fn position(names: &[String], i: usize) -> Position {
    let vessel = names
        .get(i % names.len().max(1))
        .cloned()
        .unwrap_or_default();
    let step = (i / names.len().max(1)) as f64;
    let row = (i % names.len().max(1)) as f64;
    let angle = step / 14.0 + row;
    Position {
        vessel,
        latitude: 61.2 + 0.11 * (row + 1.0) * angle.sin() / 2.0,
        longitude: 6.1 + 0.2 * (row + 1.0) * angle.cos() / 2.0,
        speed: 9.5 + row as f32 * 2.25,
        time: Some(SystemTime::now().into()),
    }
}

#[tonic::async_trait]
impl Berths for Arc<Harbour> {
    async fn list_berths(
        &self,
        request: Request<ListBerthsRequest>,
    ) -> Result<Response<ListBerthsResponse>, Status> {
        let harbour = request.into_inner().harbour;
        Ok(Response::new(ListBerthsResponse {
            berths: berths()
                .into_iter()
                .filter(|b| harbour.is_empty() || b.harbour == harbour)
                .collect(),
        }))
    }

    async fn get_berth(
        &self,
        request: Request<GetBerthRequest>,
    ) -> Result<Response<Berth>, Status> {
        let id = request.into_inner().berth_id;
        berths()
            .into_iter()
            .find(|b| b.berth_id == id)
            .map(Response::new)
            .ok_or_else(|| unknown(&id))
    }

    async fn assign_berth(
        &self,
        request: Request<AssignBerthRequest>,
    ) -> Result<Response<Berth>, Status> {
        let asked = request.into_inner();
        let mut berth = berths()
            .into_iter()
            .find(|b| b.berth_id == asked.berth_id)
            .ok_or_else(|| unknown(&asked.berth_id))?;
        berth.vessel = asked.vessel;
        Ok(Response::new(berth))
    }

    type WatchBerthStream = Many<Berth>;

    async fn watch_berth(
        &self,
        request: Request<GetBerthRequest>,
    ) -> Result<Response<Self::WatchBerthStream>, Status> {
        let id = request.into_inner().berth_id;
        let found: Vec<Result<Berth, Status>> = berths()
            .into_iter()
            .filter(|b| b.berth_id == id)
            .map(Ok)
            .collect();
        Ok(Response::new(Box::pin(tokio_stream::iter(found))))
    }
}

fn berths() -> Vec<Berth> {
    [
        ("f1", "Farholt", "vessels/alca", 62.5),
        ("f2", "Farholt", "", 48.0),
        ("m1", "Maren Quay", "vessels/brent", 110.0),
    ]
    .map(|(id, harbour, vessel, length)| Berth {
        berth_id: id.into(),
        harbour: harbour.into(),
        vessel: vessel.into(),
        length,
    })
    .into()
}

/// The services, with reflection of both versions.
pub fn services() -> tonic::service::Routes {
    let harbour = Arc::new(Harbour {
        vessels: Mutex::new(fleet()),
        defects: Mutex::default(),
    });
    let mut routes = tonic::service::Routes::builder();
    routes.add_service(
        FleetServer::new(harbour.clone())
            .accept_compressed(tonic::codec::CompressionEncoding::Gzip)
            .send_compressed(tonic::codec::CompressionEncoding::Gzip),
    );
    routes.add_service(BerthsServer::new(harbour));
    let reflection = || {
        tonic_reflection::server::Builder::configure()
            .register_encoded_file_descriptor_set(DESCRIPTORS)
    };
    if let (Ok(v1), Ok(v1alpha)) = (reflection().build_v1(), reflection().build_v1alpha()) {
        routes.add_service(v1);
        routes.add_service(v1alpha);
    }
    routes.routes()
}

/// The services and the page with the chart.
pub(crate) fn routes() -> Router {
    let chart = axum::routing::get(|| async { axum::response::Html(include_str!("chart.html")) });
    services().into_axum_router().route("/chart", chart)
}
