//! The fleet's service: gRPC with reflection; one service has HTTP rules, the other has none.

mod berths;
mod data;
mod fleet;
mod status;

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

use status::{RetryInfo, bad, detail, status, unknown};

/// The compiled definition, with everything that it imports.
pub const DESCRIPTORS: &[u8] = include_bytes!(concat!(env!("OUT_DIR"), "/vessels.bin"));

type Many<T> = Pin<Box<dyn Stream<Item = Result<T, Status>> + Send>>;

struct Harbour {
    vessels: Mutex<BTreeMap<String, Vessel>>,
    defects: Mutex<BTreeMap<String, Defect>>,
}

/// The services, with reflection of both versions.
pub fn services() -> tonic::service::Routes {
    let harbour = Arc::new(Harbour {
        vessels: Mutex::new(data::fleet()),
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
    let chart =
        axum::routing::get(|| async { axum::response::Html(include_str!("../chart.html")) });
    services().into_axum_router().route("/chart", chart)
}
