//! `porch serve`: the wiring of the service.

use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::time::Duration;

use clap::Args;
use porch_control::{App, AppConfig, FirstAccount};
use porch_gateway::{Gateway, GatewayConfig, Shared, Trials};
use porch_store::Seal;

use crate::config;
use crate::error::CliError;

/// Options of `porch serve`.
#[derive(Args)]
pub(crate) struct ServeOptions {
    /// A TOML file with any of these options.
    #[arg(long, env = "ELM_PORCH_CONFIG", value_name = "FILE")]
    config: Option<PathBuf>,
    /// Where callers are served [default: 127.0.0.1:3810].
    #[arg(long, env = "ELM_PORCH_GATEWAY_LISTEN", value_name = "ADDRESS")]
    gateway: Option<SocketAddr>,
    /// Where console and publisher's API are served [default: 127.0.0.1:3820].
    #[arg(long, env = "ELM_PORCH_CONSOLE_LISTEN", value_name = "ADDRESS")]
    console: Option<SocketAddr>,
    /// Address of the PostgreSQL database.
    #[arg(
        long,
        env = "ELM_PORCH_DATABASE",
        value_name = "URL",
        hide_env_values = true
    )]
    database: Option<String>,
    /// The environment that is served [default: live].
    #[arg(long, env = "ELM_PORCH_ENVIRONMENT")]
    environment: Option<String>,
    /// Folder for what must survive without the database [default: porch-state].
    #[arg(long, env = "ELM_PORCH_STATE", value_name = "DIR")]
    state: Option<PathBuf>,
    /// File with the key that secrets are sealed with; made in the state folder unless given.
    #[arg(long, env = "ELM_PORCH_SEAL_KEY_FILE", value_name = "FILE")]
    seal_key_file: Option<PathBuf>,
    /// Number of gateway workers [default: one for each core].
    #[arg(long, env = "ELM_PORCH_WORKERS")]
    workers: Option<usize>,
    /// Seconds that open exchanges may take to end when the service stops [default: 10].
    #[arg(long, env = "ELM_PORCH_DRAIN", value_name = "SECONDS")]
    drain: Option<u64>,
    /// Whether only publishers may make trial runs; viewers may try what is safe unless given.
    #[arg(long, env = "ELM_PORCH_VIEWERS_DO_NOT_TRY")]
    viewers_do_not_try: bool,
    /// Name of the first administrator, made when there is no account yet; the password is taken from
    /// ELM_PORCH_FIRST_PASSWORD.
    #[arg(long, env = "ELM_PORCH_FIRST_ACCOUNT", value_name = "NAME")]
    first_account: Option<String>,
}

pub(crate) fn run(options: ServeOptions) -> Result<bool, CliError> {
    let file = config::read(options.config.as_deref())?;
    tracing_subscriber::fmt()
        .with_env_filter(
            tracing_subscriber::EnvFilter::try_from_env("ELM_PORCH_LOG")
                .unwrap_or_else(|_| "info,sqlx=warn,sea_orm_migration=warn".into()),
        )
        .with_writer(std::io::stderr)
        .with_target(false)
        .init();
    let loopback = |port| SocketAddr::from(([127, 0, 0, 1], port));
    let gateway_address = options
        .gateway
        .or(file.gateway)
        .unwrap_or_else(|| loopback(3810));
    let console_address = options
        .console
        .or(file.console)
        .unwrap_or_else(|| loopback(3820));
    let database = options.database.or(file.database).ok_or_else(|| {
        CliError::new("no database was named")
            .help("give --database postgres://…, or ELM_PORCH_DATABASE")
            .usage()
    })?;
    let state = options
        .state
        .or(file.state)
        .unwrap_or_else(|| "porch-state".into());
    std::fs::create_dir_all(&state)
        .map_err(|e| CliError::new(format!("the state folder {}: {e}", state.display())))?;
    let seal = seal(
        options.seal_key_file.or(file.seal_key_file).as_deref(),
        &state,
    )?;
    let workers = options
        .workers
        .or(file.workers)
        .unwrap_or_else(|| std::thread::available_parallelism().map_or(2, usize::from));
    let drain = Duration::from_secs(options.drain.or(file.drain).unwrap_or(10));
    let first = match (
        options.first_account,
        std::env::var("ELM_PORCH_FIRST_PASSWORD"),
    ) {
        (Some(name), Ok(password)) => Some(FirstAccount { name, password }),
        (Some(_), Err(_)) => {
            return Err(CliError::new("the first administrator has no password")
                .help("set ELM_PORCH_FIRST_PASSWORD")
                .usage());
        }
        _ => None,
    };
    let runtime = tokio::runtime::Builder::new_multi_thread()
        .worker_threads(2)
        .enable_all()
        .build()
        .map_err(|e| CliError::new(e.to_string()))?;
    runtime.block_on(async move {
        let (shared, records) = Shared::new();
        let trials = Trials::start(shared.clone()).map_err(|e| CliError::new(e.to_string()))?;
        // Both listeners are bound before anything else begins, so that a port in use leaves nothing half-started.
        let listener = tokio::net::TcpListener::bind(console_address)
            .await
            .map_err(|e| in_use("console", console_address, "--console", &e))?;
        let console_address = listener.local_addr().unwrap_or(console_address);
        let config = GatewayConfig {
            address: gateway_address,
            workers,
            drain,
        };
        let gateway = Gateway::start(&config, &shared).map_err(|e| {
            CliError::new(e.to_string())
                .help("end what listens there, or choose another with --gateway")
        })?;
        let app = App::new(
            AppConfig {
                environment: options
                    .environment
                    .or(file.environment)
                    .unwrap_or_else(|| "live".into()),
                state,
                database,
                gateway: format!("http://{}", gateway.address),
                viewers_do_not_try: options.viewers_do_not_try
                    || file.viewers_do_not_try.unwrap_or(false),
            },
            shared.clone(),
            trials,
            seal,
        );
        if let Err(why) = porch_control::start_jobs(app.clone(), shared, records, first).await {
            gateway.stop();
            return Err(CliError::new(why.to_string()));
        }
        println!("gateway http://{}", gateway.address);
        println!("console http://{console_address}");
        use std::io::Write;
        let _ = std::io::stdout().flush();
        let served = porch_control::serve(listener, app, until_told());
        tokio::select! {
            result = served => result.map_err(|e| CliError::new(format!("the console: {e}")))?,
            () = until_told() => {}
        }
        tracing::info!("stopping: open exchanges may take {drain:?} to end");
        let _ = tokio::task::spawn_blocking(move || gateway.stop()).await;
        // What was counted last is written by the jobs' next tick.
        tokio::time::sleep(Duration::from_millis(700)).await;
        Ok(true)
    })
}

fn in_use(what: &str, address: SocketAddr, flag: &str, error: &std::io::Error) -> CliError {
    CliError::new(format!("the {what} cannot listen on {address}: {error}")).help(format!(
        "end what listens there, or choose another with {flag}"
    ))
}

/// Done when the service is told to stop.
async fn until_told() {
    let mut terminate =
        match tokio::signal::unix::signal(tokio::signal::unix::SignalKind::terminate()) {
            Ok(terminate) => terminate,
            Err(_) => return std::future::pending().await,
        };
    tokio::select! {
        _ = tokio::signal::ctrl_c() => {}
        _ = terminate.recv() => {}
    }
}

/// The seal of the key in the environment, in a file, or of a new key in the state folder.
fn seal(file: Option<&Path>, state: &Path) -> Result<Seal, CliError> {
    if let Ok(key) = std::env::var("ELM_PORCH_SEAL_KEY") {
        return Seal::new(&key).map_err(|e| CliError::new(format!("ELM_PORCH_SEAL_KEY: {e}")));
    }
    let own = state.join("seal.key");
    let path = file.unwrap_or(&own);
    let fail = |e: String| CliError::new(format!("{}: {e}", path.display()));
    if file.is_none() && !path.exists() {
        let key = Seal::new_key().map_err(|e| fail(e.to_string()))?;
        write_private(path, &key).map_err(|e| fail(e.to_string()))?;
        tracing::info!(
            "made a key to seal secrets with: {}; keep a copy of it apart from the database's",
            path.display()
        );
    }
    let text = std::fs::read_to_string(path).map_err(|e| fail(e.to_string()))?;
    Seal::new(&text).map_err(|e| fail(e.to_string()))
}

fn write_private(path: &Path, text: &str) -> std::io::Result<()> {
    use std::io::Write;
    use std::os::unix::fs::OpenOptionsExt;
    let mut file = std::fs::OpenOptions::new()
        .write(true)
        .create_new(true)
        .mode(0o600)
        .open(path)?;
    file.write_all(text.as_bytes())
}
