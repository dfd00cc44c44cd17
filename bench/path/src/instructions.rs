//! Instructions that a request costs outside the kernel, counted by valgrind: the figure that says the same on a busy machine as on a quiet
//! one. One connection asks; the process under it is one of those of [`crate::rounds`].

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::path::Path;
use std::process::{Command, Stdio};

use crate::gate::cookies;
use crate::load::BROWSER;
use crate::process::Running;

/// Requests before counting, and requests that are counted.
const WARM: usize = 300;
const COUNTED: usize = 1_000;

/// Measures, and returns the table.
pub fn measure() -> String {
    let upstream = Running::start(&["upstream"]);
    let at = upstream.clear.to_string();
    let folder = std::env::temp_dir().join(format!("passeur-instructions-{}", std::process::id()));
    std::fs::create_dir_all(&folder).expect("a folder");
    let mut text = String::from("\n| instructions a request, outside the kernel | | ratio |\n|---|---|---|\n");
    let mut first = None;
    for (role, words) in [("bare", "bare pass-through"), ("shape", "the path's shape"), ("gate", "Passeur")] {
        let each = count(role, &at, &folder.join(role));
        let bare = *first.get_or_insert(each);
        text.push_str(&format!("| {words} | {each} | {:.2} |\n", each as f64 / bare as f64));
    }
    let _ = std::fs::remove_dir_all(&folder);
    text
}

fn count(role: &str, upstream: &str, out: &Path) -> u64 {
    let file = format!("--callgrind-out-file={}", out.display());
    let me = std::env::current_exe().expect("our own path");
    let mut valgrind = Command::new("valgrind");
    valgrind.args(["--quiet", "--tool=callgrind", &file]).arg(me).args([role, upstream]).stderr(Stdio::null());
    let process = Running::spawn(valgrind);
    let mut connection = TcpStream::connect(process.clear).expect("a connection");
    let ask = request(process.clear);
    (0..WARM).for_each(|_| exchange(&mut connection, &ask));
    control("-z", process.id());
    (0..COUNTED).for_each(|_| exchange(&mut connection, &ask));
    control("-d", process.id());
    let dump = std::fs::read_to_string(out.with_extension("1")).expect("what valgrind counted");
    let total = dump.lines().rev().find_map(|l| l.strip_prefix("totals: ")?.parse::<u64>().ok());
    total.expect("a total") / COUNTED as u64
}

fn control(what: &str, process: u32) {
    let done =
        Command::new("callgrind_control").args([what, &process.to_string()]).stdout(Stdio::null()).stderr(Stdio::null()).status();
    assert!(done.is_ok_and(|s| s.success()), "callgrind_control {what}");
}

/// The request of the load.
fn request(at: SocketAddr) -> Vec<u8> {
    let browser: String = BROWSER.iter().map(|(name, value)| format!("{name}: {value}\r\n")).collect();
    let (port, cookie) = (at.port(), cookies().swap_remove(0));
    format!("GET /1k HTTP/1.1\r\nhost: g0.bench.localhost:{port}\r\n{browser}cookie: {cookie}\r\n\r\n").into_bytes()
}

/// One request and its whole answer.
fn exchange(connection: &mut TcpStream, ask: &[u8]) {
    connection.write_all(ask).expect("a request");
    let (mut answer, mut part) = (vec![], [0; 16 * 1024]);
    loop {
        let n = connection.read(&mut part).expect("an answer");
        assert!(n > 0, "the answer is whole");
        answer.extend_from_slice(&part[..n]);
        let text = String::from_utf8_lossy(&answer);
        if let Some((head, body)) = text.split_once("\r\n\r\n") {
            assert!(head.starts_with("HTTP/1.1 200"), "{head}");
            let length = head.lines().find_map(|l| l.to_ascii_lowercase().strip_prefix("content-length: ")?.parse().ok());
            if body.len() == length.unwrap_or(0) {
                return;
            }
        }
    }
}
