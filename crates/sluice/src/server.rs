//! Listens on the Unix socket. Whoever asks must be the user that the service runs as, by what the kernel says of the peer (unix(7),
//! SO_PEERCRED). A connection is a thread; orders are obeyed one at a time.

use std::io::{self, BufRead, BufReader, Read, Write};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};

use rustix::net::{RecvFlags, recv, sockopt};

use crate::guard::Guard;
use crate::words::{Answer, LINE_MAX, Order};

/// The most connections at a time: the service has one, and an engineer may have another.
const CONNECTIONS_MAX: usize = 8;

/// Listens until the process ends. `peers` are the users that may ask.
///
/// # Errors
/// The socket cannot be made.
pub fn run(guard: Guard, path: &Path, peers: Vec<u32>) -> io::Result<()> {
    let _ = std::fs::remove_file(path);
    let listener = UnixListener::bind(path)?;
    // Who may connect is decided by who they are.
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o666))?;
    let guard = Arc::new(Mutex::new(guard));
    let watched = guard.clone();
    std::thread::Builder::new().name("watch".to_owned()).spawn(move || watch(&watched))?;
    let open = Arc::new(AtomicUsize::new(0));
    eprintln!("listening on {}", path.display());
    for stream in listener.incoming() {
        let Ok(stream) = stream else { continue };
        let peer = sockopt::socket_peercred(&stream).map(|c| c.uid.as_raw());
        if !peer.as_ref().is_ok_and(|uid| peers.contains(uid)) {
            eprintln!("user {peer:?} may not ask and was turned away");
            continue;
        }
        if open.fetch_add(1, Ordering::AcqRel) >= CONNECTIONS_MAX {
            open.fetch_sub(1, Ordering::AcqRel);
            continue;
        }
        let (guard, counted) = (guard.clone(), open.clone());
        let started = std::thread::Builder::new().name("asked".to_owned()).spawn(move || {
            if let Err(e) = serve(&guard, &stream) {
                eprintln!("a connection ended: {e}");
            }
            counted.fetch_sub(1, Ordering::AcqRel);
        });
        if started.is_err() {
            open.fetch_sub(1, Ordering::AcqRel);
        }
    }
    Ok(())
}

fn serve(guard: &Mutex<Guard>, stream: &UnixStream) -> io::Result<()> {
    let mut reader = BufReader::new(stream);
    loop {
        let mut line = Vec::new();
        let length = reader.by_ref().take(LINE_MAX).read_until(b'\n', &mut line)?;
        if length == 0 {
            return Ok(());
        }
        if line.last() != Some(&b'\n') {
            return Err(io::Error::other("a line is too long, or cut short"));
        }
        let answer = match serde_json::from_slice::<Order>(&line) {
            Ok(order) => guard.lock().unwrap_or_else(|e| e.into_inner()).obey(order),
            Err(e) => Answer::Refused(format!("not an order: {e}")),
        };
        let mut out = serde_json::to_vec(&answer).map_err(io::Error::other)?;
        out.push(b'\n');
        (&*stream).write_all(&out)?;
    }
}

/// Waits for changes of nf_tables by anybody, and looks after each.
fn watch(guard: &Mutex<Guard>) {
    let socket = match crate::kernel::watch() {
        Ok(socket) => socket,
        Err(e) => {
            eprintln!("changes by others are not seen: {e}");
            return;
        }
    };
    let mut buffer = vec![0u8; 64 << 10];
    loop {
        // What came does not matter, nor whether some was lost: the generation says whether to look.
        match recv(&socket, &mut buffer[..], RecvFlags::empty()) {
            Ok(_) | Err(rustix::io::Errno::NOBUFS | rustix::io::Errno::INTR) => {
                guard.lock().unwrap_or_else(|e| e.into_inner()).look();
            }
            Err(e) => {
                eprintln!("changes by others are seen no more: {e}");
                return;
            }
        }
    }
}
