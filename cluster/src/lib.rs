//! A private PostgreSQL cluster on loopback, for the demo and the tests.
//!
//! It uses the server from Debian's packages, in a folder of its own, and dies with its parent. The system's own cluster is
//! left alone.

mod counting;

pub use counting::CountServer;

use std::fs;
use std::hash::{Hash, Hasher};
use std::io::{self, Write};
use std::net::{Ipv4Addr, TcpListener};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};

/// A running cluster; it is stopped when dropped.
pub struct Cluster {
    /// Port on 127.0.0.1.
    pub port: u16,
    password: String,
    bin: PathBuf,
    server: Child,
}

fn fail(message: impl Into<String>) -> io::Error {
    io::Error::other(message.into())
}

/// The newest PostgreSQL server that is installed.
pub fn installed() -> Option<PathBuf> {
    let mut all: Vec<(u32, PathBuf)> = fs::read_dir("/usr/lib/postgresql")
        .ok()?
        .flatten()
        .filter_map(|e| Some((e.file_name().to_str()?.parse().ok()?, e.path().join("bin"))))
        .filter(|(_, bin)| bin.join("postgres").exists())
        .collect();
    all.sort();
    all.pop().map(|(_, bin)| bin)
}

fn is_root() -> bool {
    fs::metadata("/proc/self").is_ok_and(|m| std::os::unix::fs::MetadataExt::uid(&m) == 0)
}

/// A port that is free now.
pub fn free_port() -> io::Result<u16> {
    Ok(TcpListener::bind((Ipv4Addr::LOCALHOST, 0))?
        .local_addr()?
        .port())
}

/// Whether another user can enter every folder above a path: as root, the server runs as `postgres`.
fn enterable(path: &Path) -> bool {
    use std::os::unix::fs::PermissionsExt;
    path.ancestors()
        .skip(1)
        .filter(|p| p.exists())
        .all(|p| fs::metadata(p).is_ok_and(|m| m.permissions().mode() & 0o001 != 0))
}

/// A folder for a cluster: the wanted one, or one below /var/tmp when the server could not enter it.
pub fn place_for(wanted: &Path) -> PathBuf {
    if !is_root() || enterable(wanted) {
        return wanted.to_owned();
    }
    let mut hasher = std::hash::DefaultHasher::new();
    wanted.hash(&mut hasher);
    let hash = hasher.finish();
    PathBuf::from(format!("/var/tmp/elm-porch-{hash:016x}"))
}

/// A command that runs as the server's user and ends when this thread does.
fn as_server(bin: &Path, program: &str) -> Command {
    let mut command = Command::new("setpriv");
    if is_root() {
        command.args(["--reuid=postgres", "--regid=postgres", "--init-groups"]);
    }
    command.args(["--pdeathsig", "INT"]).arg(bin.join(program));
    command.stdin(Stdio::null());
    command
}

/// Makes a cluster in a folder.
fn made(bin: &Path, folder: &Path, data: &Path, secret: &Path) -> io::Result<()> {
    fs::write(secret, random_text()?)?;
    if is_root() {
        run(Command::new("chown")
            .arg("-R")
            .arg("postgres:postgres")
            .arg(folder))?;
    }
    let init = run(as_server(bin, "initdb")
        .arg("-D")
        .arg(data)
        .args([
            "-U",
            "postgres",
            "-E",
            "UTF8",
            "--locale=C.UTF-8",
            "--auth-local=reject",
            "--auth-host=scram-sha-256",
        ])
        .arg("--pwfile")
        .arg(secret));
    if let Err(e) = init {
        let _ = fs::remove_dir_all(data);
        return Err(fail(format!("the database folder cannot be made: {e}")));
    }
    Ok(())
}

/// Where passing clusters lie: the process that made it, and which of its clusters it is.
const PASSING: &str = "elm-porch-passing-";

/// Removes what processes that have ended left behind.
fn sweep(parent: &Path) {
    for entry in fs::read_dir(parent).into_iter().flatten().flatten() {
        let name = entry.file_name();
        let owner = name
            .to_str()
            .and_then(|n| n.strip_prefix(PASSING))
            .and_then(|n| n.split('-').next())
            .and_then(|n| n.parse::<u32>().ok());
        if owner.is_some_and(|pid| !Path::new(&format!("/proc/{pid}")).exists()) {
            // Another process may be sweeping as well.
            let _ = fs::remove_dir_all(entry.path());
        }
    }
}

impl Cluster {
    /// Starts a cluster that lasts no longer than this process, as tests need it. Its folder is removed by the first
    /// process that makes a passing cluster after this one has ended.
    ///
    /// # Errors
    /// As for [`Cluster::start`].
    pub fn passing() -> io::Result<Self> {
        use std::os::unix::fs::PermissionsExt;
        static NEXT: AtomicU32 = AtomicU32::new(0);
        let parent = Path::new("/var/tmp");
        sweep(parent);
        let number = NEXT.fetch_add(1, Ordering::Relaxed);
        let folder = parent.join(format!("{PASSING}{}-{number}", std::process::id()));
        fs::create_dir(&folder)?;
        fs::set_permissions(&folder, fs::Permissions::from_mode(0o755))?;
        Self::start(&folder, free_port()?, false)
    }

    /// Starts the cluster of a folder, making it first if need be. `durable` keeps what is written across a crash.
    ///
    /// # Errors
    /// When no server is installed, the folder is broken, or the server does not come up; the message says which.
    pub fn start(folder: &Path, port: u16, durable: bool) -> io::Result<Self> {
        let bin = installed()
            .ok_or_else(|| fail("PostgreSQL is not installed: apt-get install postgresql"))?;
        fs::create_dir_all(folder)?;
        let (data, log, secret) = (
            folder.join("data"),
            folder.join("log"),
            folder.join("password"),
        );
        if !data.join("PG_VERSION").exists() {
            if data.exists() {
                return Err(fail(format!(
                    "{} is no database folder: remove it, or start with --fresh",
                    data.display()
                )));
            }
            made(&bin, folder, &data, &secret)?;
        }
        let password = fs::read_to_string(&secret)
            .map_err(|e| fail(format!("{}: {e}; start with --fresh", secret.display())))?;
        let mut output = fs::OpenOptions::new()
            .create(true)
            .append(true)
            .open(&log)?;
        writeln!(output, "-- start")?;
        let mut command = as_server(&bin, "postgres");
        command.arg("-D").arg(&data).args([
            "-c",
            "listen_addresses=127.0.0.1",
            "-c",
            "unix_socket_directories=",
            "-c",
            "max_connections=200",
            "-p",
            &port.to_string(),
        ]);
        if !durable {
            command.args([
                "-c",
                "fsync=off",
                "-c",
                "synchronous_commit=off",
                "-c",
                "full_page_writes=off",
            ]);
        }
        std::os::unix::process::CommandExt::process_group(&mut command, 0);
        let server = command.stdout(output.try_clone()?).stderr(output).spawn()?;
        let mut cluster = Self {
            port,
            password: password.trim().to_owned(),
            bin,
            server,
        };
        cluster.wait(&data, &log)?;
        Ok(cluster)
    }

    fn wait(&mut self, data: &Path, log: &Path) -> io::Result<()> {
        let end = Instant::now() + Duration::from_secs(30);
        loop {
            if let Some(status) = self.server.try_wait()? {
                let text = fs::read_to_string(log).unwrap_or_default();
                let last: Vec<&str> = text.lines().rev().take(3).collect();
                return Err(fail(format!(
                    "PostgreSQL ended at once ({status}): {}",
                    last.into_iter().rev().collect::<Vec<_>>().join(" / ")
                )));
            }
            let own = fs::read_to_string(data.join("postmaster.pid")).unwrap_or_default();
            // The first line is the server's process; a file of an earlier run names another one.
            let ready = own.lines().nth(7).is_some_and(|l| l.trim() == "ready")
                && own.lines().next() == Some(self.server.id().to_string().as_str());
            if ready {
                return Ok(());
            }
            if Instant::now() > end {
                return Err(fail(format!(
                    "PostgreSQL did not come up in 30 s; see {}",
                    log.display()
                )));
            }
            std::thread::sleep(Duration::from_millis(10));
        }
    }

    /// Address of a database.
    pub fn url(&self, database: &str) -> String {
        format!(
            "postgres://postgres:{}@127.0.0.1:{}/{database}",
            self.password, self.port
        )
    }

    /// Runs one statement in the maintenance database.
    ///
    /// # Errors
    /// What psql says.
    pub fn sql(&self, statement: &str) -> io::Result<String> {
        self.sql_in("postgres", statement)
    }

    /// Runs one statement in a database.
    ///
    /// # Errors
    /// What psql says.
    pub fn sql_in(&self, database: &str, statement: &str) -> io::Result<String> {
        let mut command = Command::new(self.bin.join("psql"));
        command.args([
            "-X",
            "-q",
            "-A",
            "-t",
            "-v",
            "ON_ERROR_STOP=1",
            "-d",
            &self.url(database),
            "-c",
            statement,
        ]);
        run(&mut command)
    }

    /// Makes a database unless it is there.
    ///
    /// # Errors
    /// What psql says.
    pub fn ensure_database(&self, name: &str) -> io::Result<()> {
        if self
            .sql(&format!(
                "select 1 from pg_database where datname = '{name}'"
            ))?
            .trim()
            != "1"
        {
            self.sql(&format!("create database {name}"))?;
        }
        Ok(())
    }

    /// The server's process.
    pub fn pid(&self) -> u32 {
        self.server.id()
    }

    /// Whether the server still runs.
    pub fn is_running(&mut self) -> bool {
        matches!(self.server.try_wait(), Ok(None))
    }

    /// Stops the server, ending open connections.
    pub fn stop(&mut self) {
        let _ = Command::new("kill")
            .args(["-INT", &self.server.id().to_string()])
            .status();
        let end = Instant::now() + Duration::from_secs(15);
        while self.is_running() && Instant::now() < end {
            std::thread::sleep(Duration::from_millis(10));
        }
    }
}

impl Drop for Cluster {
    fn drop(&mut self) {
        if self.is_running() {
            self.stop();
        }
    }
}

fn random_text() -> io::Result<String> {
    let mut bytes = [0u8; 16];
    io::Read::read_exact(&mut fs::File::open("/dev/urandom")?, &mut bytes)?;
    Ok(bytes.iter().map(|b| format!("{b:02x}")).collect())
}

fn run(command: &mut Command) -> io::Result<String> {
    let output = command.stdin(Stdio::null()).output()?;
    if output.status.success() {
        return Ok(String::from_utf8_lossy(&output.stdout).into_owned());
    }
    Err(fail(
        String::from_utf8_lossy(&output.stderr).trim().to_owned(),
    ))
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;

    #[test]
    fn what_ended_processes_left_is_removed_and_nothing_else() {
        let parent = std::env::temp_dir().join(format!("porch-sweep-{}", std::process::id()));
        let own = format!("{PASSING}{}-0", std::process::id());
        // No process has this number: the kernel's greatest is 4194304.
        let ended = format!("{PASSING}4294967295-0");
        for name in [&own, &ended, "elm-porch-0123", "elm-porch-passing-x"] {
            fs::create_dir_all(parent.join(name).join("data")).unwrap();
        }
        sweep(&parent);
        let left = |name: &str| parent.join(name).exists();
        assert!(left(&own) && left("elm-porch-0123") && left("elm-porch-passing-x"));
        assert!(!left(&ended));
        fs::remove_dir_all(&parent).unwrap();
    }
}
