//! The reference for added time: a byte relay, which reads nothing of what it carries, on one thread.
//!
//! `bench-relay PORT BACKEND-PORT`

use porch_bench::port;
use tokio::net::{TcpListener, TcpStream};

#[tokio::main(flavor = "current_thread")]
async fn main() -> std::io::Result<()> {
    let (own, backend) = (port(1, 3874), port(2, 3870));
    let listener = TcpListener::bind(("127.0.0.1", own)).await?;
    loop {
        let (mut caller, _) = listener.accept().await?;
        caller.set_nodelay(true)?;
        tokio::spawn(async move {
            let mut there = TcpStream::connect(("127.0.0.1", backend)).await?;
            there.set_nodelay(true)?;
            tokio::io::copy_bidirectional(&mut caller, &mut there).await
        });
    }
}
