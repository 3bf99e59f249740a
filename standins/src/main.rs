//! Runs all stand-ins on loopback.

use std::net::SocketAddr;

use clap::Parser;
use porch_standins::{Standin, serve};

/// Simulated backends of Skerry Line.
#[derive(Parser)]
struct Options {
    /// Port of the booking system.
    #[arg(long, default_value_t = 3850)]
    reservations: u16,
    /// Port of the timetable.
    #[arg(long, default_value_t = 3851)]
    timetable: u16,
    /// Port of the cargo desk.
    #[arg(long, default_value_t = 3852)]
    cargo_desk: u16,
    /// Port of the members' programme.
    #[arg(long, default_value_t = 3853)]
    loyalty: u16,
    /// Port of the fleet's service.
    #[arg(long, default_value_t = 3854)]
    vessels: u16,
}

#[tokio::main]
async fn main() -> std::process::ExitCode {
    let options = Options::parse();
    let stop = || async {
        let _ = tokio::signal::ctrl_c().await;
    };
    let mut servers = Vec::new();
    let all = [
        ("reservations", Standin::Reservations, options.reservations),
        ("timetable", Standin::Timetable, options.timetable),
        ("cargo-desk", Standin::CargoDesk, options.cargo_desk),
        ("loyalty", Standin::Loyalty, options.loyalty),
        ("vessels", Standin::Vessels, options.vessels),
    ];
    for (name, standin, port) in all {
        match serve(standin, SocketAddr::from(([127, 0, 0, 1], port)), stop()).await {
            Ok((address, server)) => {
                println!("{name} http://{address}");
                servers.push(tokio::spawn(server));
            }
            Err(e) => {
                eprintln!("standins: {name} cannot listen on port {port}: {e}");
                return std::process::ExitCode::FAILURE;
            }
        }
    }
    for server in servers {
        let _ = server.await;
    }
    std::process::ExitCode::SUCCESS
}
