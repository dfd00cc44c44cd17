//! Bytes on the wire, for what no well-behaved client sends, and an upstream that answers whatever it is told.

use std::net::SocketAddr;
use std::sync::{Arc, Mutex};

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};

/// Sends bytes and reads until the other side closes.
pub async fn raw(address: SocketAddr, bytes: &str) -> String {
    let mut stream = TcpStream::connect(address).await.unwrap();
    stream.write_all(bytes.as_bytes()).await.unwrap();
    let mut out = Vec::new();
    let _ = stream.read_to_end(&mut out).await;
    String::from_utf8_lossy(&out).into_owned()
}

/// An upstream that answers every connection with the same bytes and keeps what it saw.
pub struct RawUpstream {
    pub address: SocketAddr,
    pub seen: Arc<Mutex<Vec<String>>>,
    task: tokio::task::JoinHandle<()>,
}

impl RawUpstream {
    /// With `hold`, the connection stays open after the answer and echoes what comes.
    pub async fn new(answer: &'static str, hold: bool) -> RawUpstream {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        let seen: Arc<Mutex<Vec<String>>> = Arc::default();
        let kept = seen.clone();
        let task = tokio::spawn(async move {
            while let Ok((mut stream, _)) = listener.accept().await {
                let kept = kept.clone();
                tokio::spawn(async move {
                    let mut head = Vec::new();
                    while !head.windows(4).any(|w| w == b"\r\n\r\n") {
                        let mut buffer = [0; 4096];
                        match stream.read(&mut buffer).await {
                            Ok(n) if n > 0 => head.extend_from_slice(&buffer[..n]),
                            _ => return,
                        }
                    }
                    kept.lock().unwrap().push(String::from_utf8_lossy(&head).into_owned());
                    let _ = stream.write_all(answer.as_bytes()).await;
                    if hold {
                        let (mut read, mut write) = stream.split();
                        let _ = tokio::io::copy(&mut read, &mut write).await;
                    }
                });
            }
        });
        RawUpstream { address, seen, task }
    }
}

impl Drop for RawUpstream {
    fn drop(&mut self) {
        self.task.abort();
    }
}
