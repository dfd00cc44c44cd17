//! The connection to the management socket of one VPN server: its messages, and orders to it.

use std::path::Path;

use passeur_protocols::openvpn::{Command, Event, LINE_MAX, Reader};
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::UnixStream;
use tokio::net::unix::{OwnedReadHalf, OwnedWriteHalf};
use tokio::time::{Duration, timeout};

/// How long a server may take to read what it is told. It reads at once, unless it hangs.
const PATIENCE: Duration = Duration::from_secs(5);

/// What the server says, message by message.
pub struct Incoming {
    lines: BufReader<OwnedReadHalf>,
    reader: Reader,
}

/// Where orders go.
pub struct Outgoing(OwnedWriteHalf);

/// Connects to a server.
///
/// # Errors
/// There is no server, or it does not take the connection: it takes one at a time.
pub async fn connect(socket: &Path) -> std::io::Result<(Incoming, Outgoing)> {
    let (read, write) = UnixStream::connect(socket).await?.into_split();
    Ok((Incoming { lines: BufReader::new(read), reader: Reader::default() }, Outgoing(write)))
}

impl Incoming {
    /// The next message; none once the server closed. It may be dropped while it waits only together with the connection.
    ///
    /// # Errors
    /// The connection broke, or what came is no message of a server.
    pub async fn next(&mut self) -> std::io::Result<Option<Event>> {
        loop {
            let mut line = vec![];
            let most = (LINE_MAX + 2) as u64;
            if (&mut self.lines).take(most).read_until(b'\n', &mut line).await? == 0 {
                return Ok(None);
            }
            if line.pop() != Some(b'\n') {
                return Err(std::io::Error::other("a line that is too long, or cut"));
            }
            // What clients say of themselves may be of any octets.
            let text = String::from_utf8_lossy(&line);
            match self.reader.take(text.trim_end_matches('\r')) {
                Ok(None) => {}
                Ok(Some(event)) => return Ok(Some(event)),
                Err(e) => return Err(std::io::Error::other(e.to_string())),
            }
        }
    }
}

impl Outgoing {
    /// Gives an order.
    ///
    /// # Errors
    /// The connection broke, the server does not read, or the order is longer than it would take: nothing is sent then.
    pub async fn order(&mut self, command: &Command) -> std::io::Result<()> {
        let wire = command.wire().ok_or_else(|| std::io::Error::other("an order that the server would cut"))?;
        match timeout(PATIENCE, self.0.write_all(wire.as_bytes())).await {
            Ok(done) => done,
            Err(_) => Err(std::io::Error::other("the server does not read what it is told")),
        }
    }
}
