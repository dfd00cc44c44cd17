//! Upstreams that do what they are told, request by request, and waiting for what a node learns in its own time.

use std::collections::VecDeque;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpListener;

/// What a connection does with each of its requests, in order: bytes to answer, or none to close without a word.
pub type Script = Vec<Option<&'static str>>;

/// An upstream with a script for each connection; the last one serves all further connections.
pub struct Scripted {
    pub address: SocketAddr,
    /// Head and body of every request, as one text.
    pub seen: Arc<Mutex<Vec<String>>>,
    task: tokio::task::JoinHandle<()>,
}

/// A whole answer that keeps the connection open.
pub const OK: &str = "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok";

impl Scripted {
    pub async fn new(scripts: Vec<Script>) -> Scripted {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        let seen: Arc<Mutex<Vec<String>>> = Arc::default();
        let kept = seen.clone();
        let task = tokio::spawn(async move {
            let mut scripts: VecDeque<Script> = scripts.into();
            while let Ok((mut stream, _)) = listener.accept().await {
                let script = if scripts.len() > 1 { scripts.pop_front() } else { scripts.front().cloned() }.unwrap_or_default();
                let kept = kept.clone();
                tokio::spawn(async move {
                    for answer in script {
                        let Some(request) = read_request(&mut stream).await else { return };
                        kept.lock().unwrap().push(request);
                        match answer {
                            Some(bytes) => stream.write_all(bytes.as_bytes()).await.unwrap_or_default(),
                            None => return,
                        }
                    }
                });
            }
        });
        Scripted { address, seen, task }
    }

    /// Every request so far.
    pub fn requests(&self) -> Vec<String> {
        self.seen.lock().unwrap().clone()
    }
}

impl Drop for Scripted {
    fn drop(&mut self) {
        self.task.abort();
    }
}

/// One request: its head, and as much body as the head promises.
pub async fn read_request(stream: &mut (impl AsyncReadExt + Unpin)) -> Option<String> {
    let mut bytes = Vec::new();
    loop {
        if let Some(at) = bytes.windows(4).position(|w| w == b"\r\n\r\n") {
            let head = String::from_utf8_lossy(&bytes[..at]).to_lowercase();
            let length = head.lines().find_map(|l| l.strip_prefix("content-length: ")).and_then(|v| v.parse().ok()).unwrap_or(0);
            let chunked = head.contains("transfer-encoding: chunked");
            let body = &bytes[at + 4..];
            if (chunked && body.ends_with(b"0\r\n\r\n")) || (!chunked && body.len() >= length) {
                return Some(String::from_utf8_lossy(&bytes).into_owned());
            }
        }
        let mut buffer = [0; 4096];
        match stream.read(&mut buffer).await {
            Ok(n) if n > 0 => bytes.extend_from_slice(&buffer[..n]),
            _ => return None,
        }
    }
}

/// Asks until the answer is yes; what takes longer than a minute is a failure, on a busy machine too.
pub async fn eventually(what: &str, mut ask: impl AsyncFnMut() -> bool) {
    let began = Instant::now();
    while !ask().await {
        assert!(began.elapsed() < Duration::from_secs(60), "{what}: not within a minute");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}
