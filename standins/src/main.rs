//! Runs all stand-ins on loopback.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::process::ExitCode;

use clap::Parser;
use porch_standins::{Authority, Standin, serve, serve_outbox, serve_secure};
use tokio::task::JoinHandle;

/// Simulated backends of Skerry Line.
#[derive(Parser)]
struct Options {
    /// Port of the booking system.
    #[arg(long, default_value_t = 3850)]
    reservations: u16,
    /// Port of the timetable.
    #[arg(long, default_value_t = 3851)]
    timetable: u16,
    /// Port of the timetable that will take its place.
    #[arg(long, default_value_t = 3859)]
    timetable_next: u16,
    /// Port of the cargo desk.
    #[arg(long, default_value_t = 3852)]
    cargo_desk: u16,
    /// Port of the members' programme.
    #[arg(long, default_value_t = 3853)]
    loyalty: u16,
    /// Port of the fleet's service.
    #[arg(long, default_value_t = 3854)]
    vessels: u16,
    /// Folder of the authority that signs for the stand-ins by TLS; made when it is not there. None without it.
    #[arg(long, value_name = "DIR")]
    tls: Option<PathBuf>,
    /// Port of the booking system by TLS.
    #[arg(long, default_value_t = 3855)]
    reservations_tls: u16,
    /// Port of the ship's stores.
    #[arg(long, default_value_t = 3857)]
    stores: u16,
    /// Port of the tides.
    #[arg(long, default_value_t = 3858)]
    tides: u16,
    /// Port of the crew's login.
    #[arg(long, default_value_t = 3861)]
    crew_login: u16,
    /// Port of the outbox's page.
    #[arg(long, default_value_t = 3862)]
    outbox: u16,
    /// Port at which the outbox takes letters.
    #[arg(long, default_value_t = 3863)]
    outbox_smtp: u16,
    /// Port of the members' programme by TLS.
    #[arg(long, default_value_t = 3856)]
    loyalty_tls: u16,
}

#[tokio::main]
async fn main() -> ExitCode {
    match start(Options::parse()).await {
        Ok(servers) => {
            // The outbox listens twice.
            println!("all {} listen", servers.len() + 1);
            for server in servers {
                let _ = server.await;
            }
            ExitCode::SUCCESS
        }
        Err(e) => {
            eprintln!("standins: {e}");
            ExitCode::FAILURE
        }
    }
}

type Server = JoinHandle<std::io::Result<()>>;

async fn start(options: Options) -> Result<Vec<Server>, String> {
    let stop = || async {
        let _ = tokio::signal::ctrl_c().await;
    };
    let local = |port| SocketAddr::from(([127, 0, 0, 1], port));
    let failed = |name, port, e| format!("{name} cannot listen on port {port}: {e}");
    let mut servers = Vec::new();
    let all = [
        ("reservations", Standin::Reservations, options.reservations),
        ("timetable", Standin::Timetable, options.timetable),
        (
            "timetable-next",
            Standin::TimetableNext,
            options.timetable_next,
        ),
        ("cargo-desk", Standin::CargoDesk, options.cargo_desk),
        ("loyalty", Standin::Loyalty, options.loyalty),
        ("vessels", Standin::Vessels, options.vessels),
        ("stores", Standin::Stores, options.stores),
        ("tides", Standin::Tides, options.tides),
        ("crew-login", Standin::CrewLogin, options.crew_login),
    ];
    for (name, standin, port) in all {
        let served = serve(standin, local(port), stop()).await;
        let (address, server) = served.map_err(|e| failed(name, port, e))?;
        println!("{name} http://{address}");
        servers.push(tokio::spawn(server));
    }
    let (smtp, page) = (local(options.outbox_smtp), local(options.outbox));
    let served = serve_outbox(smtp, page, stop()).await;
    let (smtp, page, server) = served.map_err(|e| failed("outbox", options.outbox, e))?;
    println!("outbox http://{page}");
    println!("outbox-smtp smtp://{smtp}");
    servers.push(tokio::spawn(server));
    let Some(folder) = &options.tls else {
        return Ok(servers);
    };
    let authority = Authority::of_folder(folder).map_err(|e| format!("no certificates: {e}"))?;
    let secure = [
        (
            "reservations",
            Standin::Reservations,
            options.reservations_tls,
        ),
        ("loyalty", Standin::Loyalty, options.loyalty_tls),
    ];
    for (name, standin, port) in secure {
        let served = serve_secure(standin, local(port), &authority, stop()).await;
        let (address, server) = served.map_err(|e| failed(name, port, e))?;
        println!("{name} https://{address}");
        servers.push(tokio::spawn(server));
    }
    Ok(servers)
}
