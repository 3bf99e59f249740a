//! A private server that speaks the Redis protocol, on loopback, for the tests and the benchmarks.

use std::fs;
use std::io::{self, Read, Write};
use std::net::{Ipv4Addr, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use crate::{fail, free_port};

/// A running server, which writes down what it counts; it is ended when dropped.
pub struct CountServer {
    /// Port on 127.0.0.1.
    pub port: u16,
    folder: PathBuf,
    /// Whether it writes each change to the disk before it answers.
    durable: bool,
    server: Option<Child>,
}

impl CountServer {
    /// Starts one with its files in a folder.
    ///
    /// # Errors
    /// When it is not installed, or does not answer within ten seconds.
    pub fn start(folder: &Path) -> io::Result<Self> {
        Self::start_with(folder, true)
    }

    /// The same; one that is not durable writes to the disk once a second.
    ///
    /// # Errors
    /// When it is not installed, or does not answer within ten seconds.
    pub fn start_with(folder: &Path, durable: bool) -> io::Result<Self> {
        fs::create_dir_all(folder)?;
        let mut server = Self {
            port: free_port()?,
            folder: folder.to_owned(),
            durable,
            server: None,
        };
        server.start_again()?;
        Ok(server)
    }

    /// The address that it is reached at.
    pub fn url(&self) -> String {
        format!("redis://127.0.0.1:{}", self.port)
    }

    /// Ends it at once, as a crash does.
    pub fn kill(&mut self) {
        if let Some(mut child) = self.server.take() {
            let _ = child.kill();
            let _ = child.wait();
        }
    }

    /// Starts it again, with what it has written down.
    ///
    /// # Errors
    /// When it does not answer within ten seconds.
    pub fn start_again(&mut self) -> io::Result<()> {
        let log = fs::File::create(self.folder.join("log"))?;
        let port = self.port.to_string();
        let child = Command::new("setpriv")
            .args(["--pdeathsig", "KILL", "redis-server"])
            .args(["--bind", "127.0.0.1", "--port", &port])
            .args(["--appendonly", "yes", "--appendfsync"])
            .arg(if self.durable { "always" } else { "everysec" })
            .args(["--save", "", "--dir"])
            .arg(&self.folder)
            .stdin(Stdio::null())
            .stdout(log)
            .stderr(Stdio::null())
            .spawn()?;
        self.server = Some(child);
        let begun = Instant::now();
        while !self.answers() {
            if begun.elapsed() > Duration::from_secs(10) {
                let log = fs::read_to_string(self.folder.join("log")).unwrap_or_default();
                return Err(fail(format!("redis-server does not answer: {log}")));
            }
            std::thread::yield_now();
        }
        Ok(())
    }

    fn answers(&self) -> bool {
        let ask = || -> io::Result<bool> {
            let mut stream = TcpStream::connect((Ipv4Addr::LOCALHOST, self.port))?;
            stream.set_read_timeout(Some(Duration::from_secs(1)))?;
            stream.write_all(b"PING\r\n")?;
            let mut answer = [0; 7];
            stream.read_exact(&mut answer)?;
            Ok(&answer == b"+PONG\r\n")
        };
        ask().unwrap_or(false)
    }
}

impl Drop for CountServer {
    fn drop(&mut self) {
        self.kill();
    }
}
