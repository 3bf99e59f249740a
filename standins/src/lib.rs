//! Stand-ins: small simulated backends of Skerry Line, for the demo and the tests.
//!
//! They are honest servers on libraries of their own and share no code with what they test. Each can be told to
//! misbehave ([`Mood`]), by `PUT /_mood` with a JSON document.

mod cargo_desk;
mod crew_login;
mod loyalty;
mod mood;
mod outbox;
mod reservations;
mod secure;
mod stores;
mod tides;
mod timetable;
pub mod vessels;

use std::future::Future;
use std::net::SocketAddr;

use axum::Router;
use axum::serve::ListenerExt;
use tokio::net::TcpListener;

pub use mood::{Mood, Moods};
pub use outbox::serve_outbox;
pub use secure::{Authority, serve_secure};

/// The backends there are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Standin {
    /// The booking system: SOAP 1.1.
    Reservations,
    /// The timetable: HTTP and JSON.
    Timetable,
    /// The timetable that will take its place: the same calls.
    TimetableNext,
    /// The cargo desk: SOAP 1.2, rpc/literal.
    CargoDesk,
    /// The members' programme: HTTP and XML.
    Loyalty,
    /// The ship's stores: OData v4.
    Stores,
    /// Tides: HTTP and JSON, small and quick.
    Tides,
    /// The crew's login: an issuer of tokens.
    CrewLogin,
    /// The fleet: gRPC.
    Vessels,
}

/// The routes of a stand-in, with its mood switch.
pub fn router(standin: Standin) -> Router {
    let moods = Moods::default();
    let routes = match standin {
        Standin::Reservations => reservations::routes(),
        Standin::Timetable => timetable::routes(),
        Standin::TimetableNext => timetable::next_routes(),
        Standin::CargoDesk => cargo_desk::routes(),
        Standin::Loyalty => loyalty::routes(),
        Standin::Stores => stores::routes(),
        Standin::Tides => tides::routes(),
        Standin::CrewLogin => crew_login::routes(),
        Standin::Vessels => vessels::routes(),
    };
    mood::with(routes, moods)
}

/// Serves a stand-in until `stop` is done; gives its address and the server.
///
/// # Errors
/// When the address cannot be listened on.
pub async fn serve(
    standin: Standin,
    address: SocketAddr,
    stop: impl Future<Output = ()> + Send + 'static,
) -> std::io::Result<(SocketAddr, impl Future<Output = std::io::Result<()>>)> {
    let listener = TcpListener::bind(address).await?;
    let address = listener.local_addr()?;
    // Answers of several small writes would otherwise wait for one another.
    let listener = listener.tap_io(|stream| drop(stream.set_nodelay(true)));
    Ok((address, async move {
        axum::serve(listener, router(standin))
            .with_graceful_shutdown(stop)
            .await
    }))
}
