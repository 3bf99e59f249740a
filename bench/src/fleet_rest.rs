//! The reference for gRPC: what a team would write by hand for one service, with generated and typed structures.
//!
//! `bench-fleet-rest PORT BACKEND-PORT`: `GET /vessels/{id}`, `GET /vessels`, `GET /positions`

use porch_bench::port;
use std::collections::HashMap;

use axum::body::Body;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use axum::{Json, Router};
use base64::Engine;
use chrono::{DateTime, SecondsFormat, Utc};
use porch_standins::vessels::pb::skerry::fleet::v1 as pb;
use porch_standins::vessels::pb::skerry::fleet::v1::fleet_client::FleetClient;
use serde::Serialize;
use tokio_stream::StreamExt;
use tonic::transport::{Channel, Endpoint};

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Vessel {
    name: String,
    title: String,
    number: String,
    state: &'static str,
    draught: f64,
    seats: u32,
    #[serde(skip_serializing_if = "Option::is_none")]
    car_decks: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    commissioned: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    turnaround: Option<String>,
    home_ports: Vec<String>,
    stores: HashMap<String, i32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    diesel: Option<Diesel>,
    #[serde(skip_serializing_if = "Option::is_none")]
    battery: Option<Battery>,
    #[serde(skip_serializing_if = "Option::is_none")]
    call_sign: Option<String>,
    seal: String,
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Diesel {
    engines: i32,
    litres_an_hour: f32,
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Battery {
    kilowatt_hours: f64,
}

fn time(t: prost_types::Timestamp) -> Option<String> {
    Some(
        DateTime::<Utc>::from_timestamp(t.seconds, t.nanos as u32)?
            .to_rfc3339_opts(SecondsFormat::AutoSi, true),
    )
}

impl From<pb::Vessel> for Vessel {
    fn from(v: pb::Vessel) -> Self {
        let state = v.state().as_str_name();
        let (mut diesel, mut battery) = (None, None);
        match v.drive {
            Some(pb::vessel::Drive::Diesel(d)) => {
                diesel = Some(Diesel {
                    engines: d.engines,
                    litres_an_hour: d.litres_an_hour,
                })
            }
            Some(pb::vessel::Drive::Battery(b)) => {
                battery = Some(Battery {
                    kilowatt_hours: b.kilowatt_hours,
                })
            }
            None => {}
        }
        Self {
            state,
            name: v.name,
            title: v.title,
            number: v.number.to_string(),
            draught: v.draught,
            seats: v.seats,
            car_decks: v.car_decks,
            commissioned: v.commissioned.and_then(time),
            turnaround: v.turnaround.map(|d| {
                if d.nanos == 0 {
                    format!("{}s", d.seconds)
                } else {
                    format!("{}.{:03}s", d.seconds, d.nanos / 1_000_000)
                }
            }),
            home_ports: v.home_ports,
            stores: v.stores,
            diesel,
            battery,
            call_sign: v.call_sign,
            seal: base64::engine::general_purpose::STANDARD.encode(&v.seal),
        }
    }
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Vessels {
    vessels: Vec<Vessel>,
    total: String,
}

#[derive(Serialize)]
struct Position {
    vessel: String,
    latitude: f64,
    longitude: f64,
    speed: f32,
    #[serde(skip_serializing_if = "Option::is_none")]
    time: Option<String>,
}

fn failed(status: &tonic::Status) -> Response {
    let code = if status.code() == tonic::Code::NotFound {
        StatusCode::NOT_FOUND
    } else {
        StatusCode::BAD_GATEWAY
    };
    (code, status.message().to_owned()).into_response()
}

async fn one(State(mut client): State<FleetClient<Channel>>, Path(id): Path<String>) -> Response {
    match client
        .get_vessel(pb::GetVesselRequest {
            name: format!("vessels/{id}"),
        })
        .await
    {
        Ok(answer) => Json(Vessel::from(answer.into_inner())).into_response(),
        Err(status) => failed(&status),
    }
}

async fn list(State(mut client): State<FleetClient<Channel>>) -> Response {
    match client.list_vessels(pb::ListVesselsRequest::default()).await {
        Ok(answer) => {
            let answer = answer.into_inner();
            Json(Vessels {
                vessels: answer.vessels.into_iter().map(Vessel::from).collect(),
                total: answer.total.to_string(),
            })
            .into_response()
        }
        Err(status) => failed(&status),
    }
}

async fn positions(State(mut client): State<FleetClient<Channel>>) -> Response {
    let answer = match client
        .stream_positions(pb::StreamPositionsRequest::default())
        .await
    {
        Ok(answer) => answer.into_inner(),
        Err(status) => return failed(&status),
    };
    let lines = answer.map(|position| {
        let p = position.map_err(std::io::Error::other)?;
        let mut line = serde_json::to_vec(&Position {
            vessel: p.vessel,
            latitude: p.latitude,
            longitude: p.longitude,
            speed: p.speed,
            time: p.time.and_then(time),
        })?;
        line.push(b'\n');
        Ok::<_, std::io::Error>(line)
    });
    (
        [("content-type", "application/x-ndjson")],
        Body::from_stream(lines),
    )
        .into_response()
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<(), Box<dyn std::error::Error>> {
    let (own, backend) = (port(1, 3875), port(2, 3874));
    let endpoint = Endpoint::from_shared(format!("http://127.0.0.1:{backend}"))?
        .initial_stream_window_size(1 << 20)
        .initial_connection_window_size(8 << 20);
    let client = FleetClient::new(endpoint.connect_lazy()).max_decoding_message_size(64 << 20);
    let app = Router::new()
        .route("/vessels/{id}", get(one))
        .route("/vessels", get(list))
        .route("/positions", get(positions))
        .with_state(client);
    let listener = tokio::net::TcpListener::bind(("127.0.0.1", own)).await?;
    use axum::serve::ListenerExt;
    axum::serve(listener.tap_io(|s| drop(s.set_nodelay(true))), app).await?;
    Ok(())
}
