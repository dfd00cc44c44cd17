//! A cage for tests that need networks: namespaces of mounts, network and processes that vanish with the test, however it ends. The host's
//! network is never touched.
//!
//! In the cage stands the yard: this machine as a router with `yard0` (a bridge that two machines are plugged into, `visitor` and `tablet`)
//! and `wan0`, behind which is `internet`, a namespace with a few addresses.

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::os::unix::net::{UnixListener, UnixStream};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, Command, Output, Stdio};
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Mutex};

/// Says that this process runs in a cage already, with a name that no other process has.
const INSIDE: &str = "PASSEUR_CAGE";
/// The folder of the sockets through which servers outside are reached.
const RELAYS: &str = "PASSEUR_CAGE_RELAYS";

/// The router's addresses on the yard.
pub const ROUTER: [&str; 2] = ["10.70.0.1", "fd70:70::1"];
/// Addresses of hosts behind the router.
pub const CRANE: [&str; 2] = ["10.80.4.7", "fd80:4::7"];
/// The same.
pub const OFFICE: [&str; 2] = ["10.88.0.2", "fd88::2"];
/// The same.
pub const SITE: [&str; 2] = ["192.0.2.3", "2001:db8:88::3"];

/// A machine that is plugged into the yard.
#[derive(Clone, Copy, Debug)]
pub struct Machine {
    pub name: &'static str,
    pub hardware: [u8; 6],
    pub addresses: [&'static str; 2],
}

/// A visitor's machine.
pub const VISITOR: Machine =
    Machine { name: "visitor", hardware: [0x02, 0x70, 0, 0, 0, 0x09], addresses: ["10.70.0.9", "fd70:70::9"] };
/// A tablet.
pub const TABLET: Machine =
    Machine { name: "tablet", hardware: [0x02, 0x70, 0, 0, 0, 0x0a], addresses: ["10.70.0.10", "fd70:70::a"] };

/// How a hardware address is written.
pub fn written(hardware: &[u8; 6]) -> String {
    hardware.map(|b| format!("{b:02x}")).join(":")
}

/// A name that no other process has, in a cage or outside.
pub fn name() -> String {
    std::env::var(INSIDE).unwrap_or_else(|_| std::process::id().to_string())
}

/// Whether this is the cage. Outside, runs the test of this name in one and returns after it: the caller returns then.
///
/// # Panics
/// The test failed in the cage, or there can be none: it needs root, or a user that may make namespaces.
pub fn inside(test: &str) -> bool {
    inside_reaching(test, &[])
}

/// The same, where servers on loopback outside are reached at the same ports of loopback inside: through sockets in a folder, which no
/// network namespace keeps apart.
///
/// # Panics
/// See [`inside`].
pub fn inside_reaching(test: &str, ports: &[u16]) -> bool {
    if std::env::var_os(INSIDE).is_some() {
        if let Ok(folder) = std::env::var(RELAYS) {
            for port in ports {
                let socket = Path::new(&folder).join(port.to_string());
                let listener = TcpListener::bind(("127.0.0.1", *port)).expect("a port of the cage's own loopback");
                std::thread::spawn(move || {
                    for near in listener.incoming().flatten() {
                        if let Ok(far) = UnixStream::connect(&socket) {
                            both_ways(near, far);
                        }
                    }
                });
            }
        }
        return true;
    }
    static NEXT: AtomicU32 = AtomicU32::new(1);
    let own = format!("{}_{}", std::process::id(), NEXT.fetch_add(1, Ordering::Relaxed));
    let folder = std::env::temp_dir().join(format!("passeur-cage-{own}"));
    std::fs::create_dir_all(&folder).expect("a folder");
    for port in ports.iter().copied() {
        let listener = UnixListener::bind(folder.join(port.to_string())).expect("a socket");
        std::thread::spawn(move || {
            for near in listener.incoming().flatten() {
                if let Ok(far) = TcpStream::connect(("127.0.0.1", port)) {
                    both_ways(near, far);
                }
            }
        });
    }
    let mut command = caged();
    // What is run by name alone is run there too.
    command.args(["--exact", test, "--nocapture", "--test-threads=1", "--include-ignored"]);
    let done = command.env(INSIDE, own).env(RELAYS, &folder).output().expect("unshare of util-linux");
    let _ = std::fs::remove_dir_all(&folder);
    let said = format!("{}{}", String::from_utf8_lossy(&done.stdout), String::from_utf8_lossy(&done.stderr));
    let denied = !done.status.success() && said.lines().count() < 3;
    assert!(
        !denied,
        "this test needs a network of its own: run it as root, or where a user may make namespaces ({})",
        said.trim()
    );
    assert!(done.status.success() && said.contains("1 passed"), "in its cage the test says:\n{said}");
    false
}

/// This program, in a cage.
fn caged() -> Command {
    let exe = std::env::current_exe().expect("this program's own file");
    let prepare = "mount -t tmpfs t /run && mkdir -p /run/netns && ip link set lo up && exec \"$@\"";
    let mut command = Command::new("unshare");
    command
        .args(["--mount", "--net", "--pid", "--fork", "--kill-child=KILL", "--mount-proc", "bash", "-c", prepare, "_"])
        .arg(exe);
    command
}

/// The same for a program that is no test: goes on in a cage with its own arguments, and ends with what it ended with there.
pub fn enter() {
    if std::env::var_os(INSIDE).is_some() {
        return;
    }
    let done = caged().args(std::env::args().skip(1)).env(INSIDE, std::process::id().to_string()).status();
    std::process::exit(done.ok().and_then(|s| s.code()).unwrap_or(1));
}

/// A connection that is passed on, each way on a thread.
trait Stream: Read + Write + Send + Sized + 'static {
    fn again(&self) -> std::io::Result<Self>;
    fn close(&self);
}

impl Stream for TcpStream {
    fn again(&self) -> std::io::Result<TcpStream> {
        self.try_clone()
    }
    fn close(&self) {
        let _ = self.shutdown(std::net::Shutdown::Write);
    }
}

impl Stream for UnixStream {
    fn again(&self) -> std::io::Result<UnixStream> {
        self.try_clone()
    }
    fn close(&self) {
        let _ = self.shutdown(std::net::Shutdown::Write);
    }
}

fn both_ways<A: Stream, B: Stream>(near: A, far: B) {
    let (Ok(mut from_near), Ok(mut from_far)) = (near.again(), far.again()) else { return };
    let (mut near, mut far) = (near, far);
    std::thread::spawn(move || {
        let _ = std::io::copy(&mut from_near, &mut far);
        far.close();
    });
    std::thread::spawn(move || {
        let _ = std::io::copy(&mut from_far, &mut near);
        near.close();
    });
}

/// Runs a command and says what it printed; fails with what it said otherwise.
pub fn run(line: &str) -> String {
    let done = sh(None, line);
    assert!(done.status.success(), "{line}: {}", String::from_utf8_lossy(&done.stderr));
    String::from_utf8_lossy(&done.stdout).into_owned()
}

fn sh(namespace: Option<&str>, line: &str) -> Output {
    command(namespace, line).output().expect("a shell")
}

fn command(namespace: Option<&str>, line: &str) -> Command {
    match namespace {
        None => {
            let mut command = Command::new("bash");
            command.args(["-c", line]);
            command
        }
        Some(name) => {
            let mut command = Command::new("ip");
            command.args(["netns", "exec", name, "bash", "-c", line]);
            command
        }
    }
}

/// The yard, which goes with the cage.
pub struct Yard(());

impl Yard {
    /// Builds it; only in a cage.
    pub fn build() -> Yard {
        assert!(std::env::var_os(INSIDE).is_some(), "the yard stands in a cage");
        let mut lines = vec![
            // Nobody else is here: an address counts at once.
            "sysctl -qw net.ipv6.conf.default.accept_dad=0 net.ipv6.conf.all.accept_dad=0".to_owned(),
            "ip link add name yard0 type bridge && ip link set yard0 address 02:70:00:00:00:01 up".to_owned(),
            "ip addr add 10.70.0.1/24 dev yard0 && ip addr add fd70:70::1/64 dev yard0 nodad && ip addr add fe80::1/64 dev yard0 nodad".into(),
            "ip netns add internet && ip -n internet link set lo up".into(),
            "ip netns exec internet sysctl -qw net.ipv6.conf.default.accept_dad=0 net.ipv6.conf.all.accept_dad=0".into(),
            "ip link add name wan0 type veth peer name eth0 netns internet && ip link set wan0 up && ip -n internet link set eth0 up".into(),
            "ip addr add 10.88.0.1/24 dev wan0 && ip addr add fd88::1/64 dev wan0 nodad".into(),
            "sysctl -qw net.ipv4.ip_forward=1 net.ipv6.conf.all.forwarding=1".into(),
        ];
        lines.push(format!(
            "ip -n internet addr add {}/24 dev eth0 && ip -n internet addr add {}/64 dev eth0 nodad",
            OFFICE[0], OFFICE[1]
        ));
        lines.push("ip -n internet route add default via 10.88.0.1 && ip -n internet -6 route add default via fd88::1".into());
        for [v4, v6] in [CRANE, SITE] {
            lines.push(format!("ip -n internet addr add {v4}/32 dev lo && ip -n internet addr add {v6}/128 dev lo nodad"));
            lines.push(format!("ip route add {v4} via {} && ip -6 route add {v6} via {}", OFFICE[0], OFFICE[1]));
        }
        for (number, machine) in [VISITOR, TABLET].iter().enumerate() {
            let Machine { name, hardware, addresses } = machine;
            lines.push(format!("ip netns add {name} && ip -n {name} link set lo up"));
            lines.push(format!(
                "ip link add name port{number} type veth peer name eth0 netns {name} address {} && ip link set port{number} master yard0 up",
                written(hardware)
            ));
            lines.push(format!("ip netns exec {name} sysctl -qw net.ipv6.conf.eth0.accept_dad=0 net.ipv6.conf.all.accept_dad=0"));
            lines.push(format!("ip -n {name} link set eth0 up && ip -n {name} addr add {}/24 dev eth0", addresses[0]));
            lines.push(format!("ip -n {name} addr add {}/64 dev eth0 nodad", addresses[1]));
            lines.push(format!(
                "ip -n {name} route add default via {} && ip -n {name} -6 route add default via {}",
                ROUTER[0], ROUTER[1]
            ));
        }
        run(&lines.join(" && "));
        Yard(())
    }

    /// Runs a command on a machine: whether it worked, and what it printed.
    pub fn on(&self, machine: &str, line: &str) -> (bool, String) {
        let done = sh(Some(machine), line);
        (done.status.success(), format!("{}{}", String::from_utf8_lossy(&done.stdout), String::from_utf8_lossy(&done.stderr)))
    }

    /// Starts a command on a machine; it ends with the cage, or when it is ended by whoever holds it.
    pub fn start(&self, machine: Option<&str>, line: &str) -> Child {
        let mut command = command(machine, &format!("exec {line}"));
        command.stdin(Stdio::null()).process_group(0).spawn().expect("a shell")
    }

    /// Servers on the internet: 80, 443 and 22 say that they served, 9000 sends without end, UDP 5000 answers.
    pub fn serve(&self) {
        let (tcp, udp) = self.at("internet", || {
            let tcp = [80, 443, 22, 9_000].map(|port| (port, TcpListener::bind(("::", port)).expect("a port of the internet")));
            // Each address of its own, so that it answers from there.
            (tcp, SITE.map(|host| UdpSocket::bind((host, 5_000)).expect("a port of the internet")))
        });
        for (port, listener) in tcp {
            std::thread::spawn(move || {
                for stream in listener.incoming().flatten() {
                    std::thread::spawn(move || answer(port, stream));
                }
            });
        }
        for socket in udp {
            std::thread::spawn(move || {
                let mut buffer = [0; 1_500];
                while let Ok((n, from)) = socket.recv_from(&mut buffer) {
                    let _ = socket.send_to(&buffer[..n], from);
                }
            });
        }
    }

    /// Passes on what comes to a port of loopback here to an address as a machine of the yard would reach it: the one that `by` names when a
    /// connection is opened.
    pub fn pass_on(&self, port: u16, to: SocketAddr, by: Arc<Mutex<&'static str>>) {
        let listener = TcpListener::bind(("127.0.0.1", port)).expect("a port of loopback");
        std::thread::spawn(move || {
            for near in listener.incoming().flatten() {
                let machine = *by.lock().expect("nobody panics with it");
                std::thread::spawn(move || {
                    let far = at(machine, move || TcpStream::connect_timeout(&to, std::time::Duration::from_secs(3)));
                    if let Ok(far) = far {
                        both_ways(near, far);
                    }
                });
            }
        });
    }

    /// Passes on what comes to a port of a machine's own loopback: to an address as that machine reaches it, or to this machine's loopback, as a
    /// name under localhost leads there.
    pub fn pass_on_at(&self, machine: &'static str, port: u16, to: Option<SocketAddr>) {
        let listener = at(machine, move || TcpListener::bind(("127.0.0.1", port)).expect("a port of its loopback"));
        std::thread::spawn(move || {
            for near in listener.incoming().flatten() {
                std::thread::spawn(move || {
                    let far = match to {
                        Some(to) => at(machine, move || TcpStream::connect(to)),
                        None => TcpStream::connect(("127.0.0.1", port)),
                    };
                    if let Ok(far) = far {
                        both_ways(near, far);
                    }
                });
            }
        });
    }

    /// Does something in the network of a machine, on a thread that stays there; what it opens stays there as well.
    pub fn at<T: Send + 'static>(&self, machine: &str, what: impl FnOnce() -> T + Send + 'static) -> T {
        at(machine, what)
    }
}

fn answer(port: u16, mut stream: TcpStream) {
    if port == 9_000 {
        let part = vec![7; 16_384];
        while stream.write_all(&part).is_ok() {}
        return;
    }
    let _ = stream.read(&mut [0; 2_000]);
    let _ = stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 6\r\nConnection: close\r\n\r\nserved");
}

fn at<T: Send + 'static>(machine: &str, what: impl FnOnce() -> T + Send + 'static) -> T {
    let file = std::fs::File::open(format!("/run/netns/{machine}")).expect("a namespace of the yard");
    let thread = std::thread::spawn(move || {
        let kind = rustix::thread::LinkNameSpaceType::Network;
        rustix::thread::move_into_link_name_space(std::os::fd::AsFd::as_fd(&file), Some(kind)).expect("a namespace to enter");
        what()
    });
    thread.join().expect("what was done there")
}
