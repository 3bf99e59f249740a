//! `porch serve`: the wiring of the service.

mod given;

use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;

use clap::Args;
use porch_control::{App, AppConfig, FirstAccount, Mail, OpenId};
use porch_gateway::{
    Bound, Certificates, GatewayConfig, Proxies, SecureConfig, Shared, StartError, Trials,
};
use porch_store::Seal;

use self::given::{counts, first_account, mail, openid, origin, proxies, seal, secure};
use crate::config::ProxiesWrite;
use crate::counting::{self, Common, Counts};
use crate::error::CliError;
use crate::{config, descriptors};

/// So often it is looked whether certificates have changed.
const CERTIFICATES: Duration = Duration::from_secs(2);

/// Options of `porch serve`.
#[derive(Args)]
pub(crate) struct ServeOptions {
    /// A TOML file with any of these options.
    #[arg(long, env = "ELM_PORCH_CONFIG", value_name = "FILE")]
    config: Option<PathBuf>,
    /// Where callers are served [default: 127.0.0.1:3810].
    #[arg(long, env = "ELM_PORCH_GATEWAY_LISTEN", value_name = "ADDRESS")]
    gateway: Option<SocketAddr>,
    /// Where callers are served by TLS; nowhere unless given.
    #[arg(long, env = "ELM_PORCH_TLS_LISTEN", value_name = "ADDRESS")]
    tls: Option<SocketAddr>,
    /// Folder with the certificates that callers are shown: NAME.crt or NAME.pem, each with its NAME.key [read again when
    /// files change].
    #[arg(long, env = "ELM_PORCH_CERTIFICATES", value_name = "DIR")]
    certificates: Option<PathBuf>,
    /// Whether callers who come without TLS are told to come with it.
    #[arg(long, env = "ELM_PORCH_TLS_ONLY")]
    tls_only: bool,
    /// Networks of proxies that callers come by: what these say of whom they come for is taken, and nobody else's word.
    #[arg(
        long,
        env = "ELM_PORCH_TRUSTED_PROXIES",
        value_name = "NETWORKS",
        value_delimiter = ','
    )]
    trusted_proxies: Option<Vec<String>>,
    /// What these proxies write of whom they come for; the other fields are then whoever called them's, and dropped.
    #[arg(long, env = "ELM_PORCH_PROXIES_WRITE", value_name = "FIELDS")]
    proxies_write: Option<ProxiesWrite>,
    /// Whether these proxies also write which certificate they were shown (`Client-Cert`, RFC 9440), or take away what callers
    /// wrote there.
    #[arg(long, env = "ELM_PORCH_PROXIES_WRITE_CERTIFICATES")]
    proxies_write_certificates: bool,
    /// Where console and console API are served [default: 127.0.0.1:3820].
    #[arg(long, env = "ELM_PORCH_CONSOLE_LISTEN", value_name = "ADDRESS")]
    console: Option<SocketAddr>,
    /// Where the portal is served [default: 127.0.0.1:3830].
    #[arg(long, env = "ELM_PORCH_PORTAL_LISTEN", value_name = "ADDRESS")]
    portal: Option<SocketAddr>,
    /// How browsers reach the portal, as in https://developers.example [default: by HTTP at the address where it is served].
    #[arg(long, env = "ELM_PORCH_PORTAL_ORIGIN", value_name = "ORIGIN")]
    portal_origin: Option<String>,
    /// How callers reach the gateway, as in https://api.example: portal and console say so [default: the address where they
    /// are served].
    #[arg(long, env = "ELM_PORCH_GATEWAY_ORIGIN", value_name = "ORIGIN")]
    gateway_origin: Option<String>,
    /// A TOML file that says by which server letters are sent (SMTP); none are, and nobody signs up, unless given.
    #[arg(long, env = "ELM_PORCH_MAIL", value_name = "FILE")]
    mail: Option<PathBuf>,
    /// A TOML file that says by which provider those who call sign in to the portal (OpenID Connect).
    #[arg(long, env = "ELM_PORCH_PORTAL_OPENID", value_name = "FILE")]
    portal_openid: Option<PathBuf>,
    /// Whether webhooks of teams may lead by plain HTTP, and to this host and its networks.
    #[arg(long, env = "ELM_PORCH_WEBHOOKS_INSIDE")]
    webhooks_inside: bool,
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
    /// Where limits and quotas are counted: by each node for itself (node), by all nodes of the database together (database), or by
    /// all nodes of a server that speaks the Redis protocol (redis://HOST:PORT) [default: node].
    #[arg(
        long,
        env = "ELM_PORCH_COUNTS",
        value_name = "PLACE",
        hide_env_values = true
    )]
    counts: Option<Counts>,
    /// Folder for what must survive without the database [default: porch-state].
    #[arg(long, env = "ELM_PORCH_STATE", value_name = "DIR")]
    state: Option<PathBuf>,
    /// File with the key that secrets are sealed with; made in the state folder unless given.
    #[arg(long, env = "ELM_PORCH_SECRETS_KEY_FILE", value_name = "FILE")]
    secrets_key_file: Option<PathBuf>,
    /// Number of gateway workers [default: one for each core].
    #[arg(long, env = "ELM_PORCH_WORKERS")]
    workers: Option<usize>,
    /// Seconds that open exchanges may take to end when the service stops [default: 10].
    #[arg(long, env = "ELM_PORCH_DRAIN", value_name = "SECONDS")]
    drain: Option<u64>,
    /// Connections of callers at the same time; more of them wait [default: what the limit of open files leaves, up to 10000].
    #[arg(long, env = "ELM_PORCH_CONNECTIONS", value_name = "NUMBER")]
    connections: Option<usize>,
    /// Megabytes of memory for bodies that are gathered or read whole, all of them together [default: 512].
    #[arg(long, env = "ELM_PORCH_BODY_MEMORY", value_name = "MEGABYTES")]
    body_memory: Option<usize>,
    /// Megabytes of memory for replies that are kept and given again, all of them together [default: 64].
    #[arg(long, env = "ELM_PORCH_CACHE_MEMORY", value_name = "MEGABYTES")]
    cache_memory: Option<usize>,
    /// Whether only publishers may make trial runs; viewers may try what is safe unless given.
    #[arg(long, env = "ELM_PORCH_VIEWERS_DO_NOT_TRY")]
    viewers_do_not_try: bool,
    /// A TOML file that says by which OpenID provider people may sign in to the console besides.
    #[arg(long, env = "ELM_PORCH_OPENID", value_name = "FILE")]
    openid: Option<PathBuf>,
    /// Name of the first administrator, made when there is no account yet; the password is taken from
    /// ELM_PORCH_FIRST_PASSWORD.
    #[arg(long, env = "ELM_PORCH_FIRST_ACCOUNT", value_name = "NAME")]
    first_account: Option<String>,
}

/// Options of the command line and of the file, made one: what the command line says goes before.
struct Settings {
    gateway: SocketAddr,
    console: SocketAddr,
    portal: SocketAddr,
    portal_origin: Option<String>,
    gateway_origin: Option<String>,
    mail: Option<Mail>,
    portal_openid: Option<OpenId>,
    webhooks_inside: bool,
    workers: usize,
    drain: Duration,
    first: Option<FirstAccount>,
    seal: Seal,
    environment: String,
    state: PathBuf,
    database: String,
    connections: usize,
    body_memory: usize,
    cache_memory: usize,
    viewers_do_not_try: bool,
    secure: Option<SecureConfig>,
    proxies: Proxies,
    counts: Counts,
    openid: Option<OpenId>,
}

impl Settings {
    fn gateway_config(&self) -> GatewayConfig {
        GatewayConfig {
            address: self.gateway,
            workers: self.workers,
            drain: self.drain,
            connections: self.connections,
            secure: self.secure.clone(),
            proxies: self.proxies.clone(),
            ..GatewayConfig::at(self.gateway)
        }
    }

    /// What the control plane is set up with, and what is not its own.
    fn app_config(
        self,
        gateway: String,
        portal: String,
    ) -> (AppConfig, Option<FirstAccount>, Seal, Option<SecureConfig>) {
        let config = AppConfig {
            environment: self.environment,
            state: self.state,
            database: self.database,
            gateway: self.gateway_origin.unwrap_or(gateway),
            viewers_do_not_try: self.viewers_do_not_try,
            openid: self.openid.map(std::sync::Arc::new),
            portal,
            mail: self.mail,
            portal_openid: self.portal_openid.map(std::sync::Arc::new),
            webhooks_inside: self.webhooks_inside,
        };
        (config, self.first, self.seal, self.secure)
    }

    fn of(options: ServeOptions, file: config::FileConfig) -> Result<Self, CliError> {
        let loopback = |port| SocketAddr::from(([127, 0, 0, 1], port));
        let database = options.database.or(file.database).ok_or_else(|| {
            CliError::new("no database was named")
                .help("give --database postgres://…, or ELM_PORCH_DATABASE")
                .usage()
        })?;
        let state = options.state.or(file.state);
        let state = state.unwrap_or_else(|| "porch-state".into());
        std::fs::create_dir_all(&state)
            .map_err(|e| CliError::new(format!("the state folder {}: {e}", state.display())))?;
        let seal_key = options.secrets_key_file.or(file.secrets_key_file);
        let gateway = options.gateway.or(file.gateway);
        let console = options.console.or(file.console);
        let workers = options.workers.or(file.workers);
        let environment = options.environment.or(file.environment);
        Ok(Self {
            gateway: gateway.unwrap_or_else(|| loopback(3810)),
            console: console.unwrap_or_else(|| loopback(3820)),
            portal: options
                .portal
                .or(file.portal)
                .unwrap_or_else(|| loopback(3830)),
            portal_origin: origin("portal", options.portal_origin.or(file.portal_origin))?,
            gateway_origin: origin("gateway", options.gateway_origin.or(file.gateway_origin))?,
            mail: mail(options.mail.or(file.mail).as_deref())?,
            portal_openid: openid(options.portal_openid.or(file.portal_openid).as_deref())?,
            webhooks_inside: options.webhooks_inside || file.webhooks_inside.unwrap_or(false),
            workers: workers
                .unwrap_or_else(|| std::thread::available_parallelism().map_or(2, usize::from)),
            drain: Duration::from_secs(options.drain.or(file.drain).unwrap_or(10)),
            first: first_account(options.first_account)?,
            seal: seal(seal_key.as_deref(), &state)?,
            environment: environment.unwrap_or_else(|| "live".into()),
            state,
            database,
            connections: options
                .connections
                .or(file.connections)
                .unwrap_or_else(descriptors::for_callers),
            body_memory: options.body_memory.or(file.body_memory).unwrap_or(512) << 20,
            cache_memory: options.cache_memory.or(file.cache_memory).unwrap_or(64) << 20,
            viewers_do_not_try: options.viewers_do_not_try
                || file.viewers_do_not_try.unwrap_or(false),
            openid: openid(options.openid.or(file.openid).as_deref())?,
            counts: counts(options.counts, file.counts.as_deref())?,
            proxies: proxies(
                options.trusted_proxies.or(file.trusted_proxies),
                options.proxies_write.or(file.proxies_write),
            )?
            .with_certificates(
                options.proxies_write_certificates
                    || file.proxies_write_certificates.unwrap_or(false),
            ),
            secure: secure(
                options.tls.or(file.tls),
                options.certificates.or(file.certificates),
                options.tls_only || file.tls_only.unwrap_or(false),
            )?,
        })
    }
}

/// Shows other certificates once their files change; those that cannot be read are told of, and the old ones stay.
async fn look_after(certificates: std::sync::Arc<Certificates>) {
    let mut tick = tokio::time::interval(CERTIFICATES);
    loop {
        tick.tick().await;
        let certificates = certificates.clone();
        let read = tokio::task::spawn_blocking(move || {
            certificates
                .refresh()
                .map(|other| other.then(|| certificates.names()))
        });
        match read.await {
            Ok(Ok(Some(names))) => tracing::info!("other certificates: {}", names.join(", ")),
            Ok(Err(e)) => tracing::error!("certificates: {e}; those of before are shown"),
            _ => {}
        }
    }
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
    let settings = Settings::of(options, file)?;
    let runtime = tokio::runtime::Builder::new_multi_thread()
        .worker_threads(2)
        .enable_all()
        .build()
        .map_err(|e| CliError::new(e.to_string()))?;
    runtime.block_on(serve(settings))
}

async fn serve(settings: Settings) -> Result<bool, CliError> {
    let (states, journals) = counting::of_before(&settings.state)?;
    let (bodies, kept) = (settings.body_memory, settings.cache_memory);
    let common = Common::of(&settings.counts, &settings.environment, &settings.state)?;
    let (shared, records) = Shared::with_counters(bodies, kept, Box::new(states), common.counts());
    let trials = Trials::start(shared.clone()).map_err(|e| CliError::new(e.to_string()))?;
    // All listeners are bound before anything else begins, so that a port in use leaves nothing half-started.
    let (listener, console_address) = bound_at("console", settings.console).await?;
    let (portal, portal_address) = bound_at("portal", settings.portal).await?;
    let portal_origin = settings.portal_origin.clone();
    let portal_origin = portal_origin.unwrap_or_else(|| format!("http://{portal_address}"));
    shared.welcome_portal(&portal_origin);
    let drain = settings.drain;
    let config = settings.gateway_config();
    let not_there = |e: StartError| {
        CliError::new(e.to_string())
            .help("end what listens there, or choose another with --gateway")
    };
    let bound = Bound::new(config).map_err(not_there)?;
    let gateway_origin = match (&settings.secure, bound.secure) {
        (Some(secure), Some(address)) if secure.only => format!("https://{address}"),
        _ => format!("http://{}", bound.address),
    };
    let (config, first, seal, tls) = settings.app_config(gateway_origin, portal_origin);
    let app = App::new(config, shared.clone(), trials, seal);
    porch_control::start_jobs(app.clone(), shared.clone(), records, first)
        .await
        .map_err(|why| CliError::new(why.to_string()))?;
    // Whoever comes now finds what was released.
    tokio::spawn(counting::sync(journals));
    let lent = common.start(&app);
    let gateway = bound.listen(&shared).map_err(not_there)?;
    for (what, address) in [("console", console_address), ("portal", portal_address)] {
        if shares_a_name(gateway.address, address) {
            tracing::warn!(
                "{what} and gateway listen on one address, and cookies know no ports (RFC 6265 §8.5): give the {what} a host name of its own"
            );
        }
    }
    println!("gateway http://{}", gateway.address);
    if let (Some(address), Some(secure)) = (gateway.secure, tls) {
        println!("gateway https://{address}");
        tokio::spawn(look_after(secure.certificates));
    }
    println!("console http://{console_address}");
    println!("portal http://{portal_address}");
    use std::io::Write;
    let _ = std::io::stdout().flush();
    let told = async {
        until_told().await;
        tracing::info!("stopping: open exchanges may take {drain:?} to end");
    };
    both(listener, portal, app, told).await;
    let _ = tokio::task::spawn_blocking(move || gateway.stop()).await;
    if let Some(lent) = lent {
        lent.stop().await;
    }
    // What was counted last is written by the jobs' next tick.
    tokio::time::sleep(Duration::from_millis(700)).await;
    Ok(true)
}

/// A listener of the control plane, and where it is.
async fn bound_at(
    what: &str,
    address: SocketAddr,
) -> Result<(tokio::net::TcpListener, SocketAddr), CliError> {
    let listener = tokio::net::TcpListener::bind(address).await;
    let listener = listener.map_err(|e| in_use(what, address, &format!("--{what}"), &e))?;
    let address = listener.local_addr().unwrap_or(address);
    Ok((listener, address))
}

/// Serves console and portal until the service is told to stop.
async fn both(
    console: tokio::net::TcpListener,
    portal: tokio::net::TcpListener,
    app: std::sync::Arc<App>,
    told: impl Future<Output = ()>,
) {
    let (stop, stopped) = tokio::sync::oneshot::channel::<()>();
    let portal = porch_control::serve_portal(portal, app.clone(), descriptors::OF_PORTAL, async {
        let _ = stopped.await;
    });
    let portal = tokio::spawn(portal);
    porch_control::serve(console, app, descriptors::OF_CONSOLE, told).await;
    drop(stop);
    let _ = portal.await;
}

/// Whether a browser would take console and gateway for one host. On this machine alone there is nobody to mislead.
fn shares_a_name(gateway: SocketAddr, console: SocketAddr) -> bool {
    gateway.ip() == console.ip() && !gateway.ip().is_loopback()
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_address_for_both_is_only_told_where_others_reach_it() {
        for (gateway, console, told) in [
            ("0.0.0.0:3810", "0.0.0.0:3820", true),
            ("192.0.2.7:80", "192.0.2.7:3820", true),
            ("192.0.2.7:80", "192.0.2.8:80", false),
            ("127.0.0.1:3810", "127.0.0.1:3820", false),
            ("[::1]:3810", "[::1]:3820", false),
        ] {
            let told_now = shares_a_name(gateway.parse().unwrap(), console.parse().unwrap());
            assert_eq!(told_now, told, "{gateway} {console}");
        }
    }
}
