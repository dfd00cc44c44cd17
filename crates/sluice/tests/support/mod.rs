//! What tests of the sluice have in common.

use std::collections::BTreeMap;
use std::net::{TcpStream, UdpSocket};
use std::os::unix::net::UnixStream;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use passeur_sluice::client::Client;
use passeur_sluice::guard::Guard;
use passeur_sluice::plan::{Class, Plan, Reach, Service, Zone};
use passeur_sluice::server;
use passeur_sluice::words::{Admission, Holder, MARK_FIRST};
use passeur_standins::cage::{OFFICE, Yard};

/// How an attempt to connect fared.
#[derive(Debug, PartialEq, Eq)]
pub enum Try {
    Open,
    Refused,
    Silence,
}

/// Tries to connect from a machine of the yard.
pub fn connect(yard: &Yard, machine: &str, host: &str, port: u16) -> Try {
    let to = std::net::SocketAddr::new(host.parse().unwrap(), port);
    yard.at(machine, move || match TcpStream::connect_timeout(&to, Duration::from_secs(2)) {
        Ok(_) => Try::Open,
        Err(e) if e.kind() == std::io::ErrorKind::TimedOut => Try::Silence,
        Err(_) => Try::Refused,
    })
}

/// Whether a UDP service answers a machine of the yard.
pub fn udp_answers(yard: &Yard, machine: &str, host: &str, port: u16) -> bool {
    let to = std::net::SocketAddr::new(host.parse().unwrap(), port);
    yard.at(machine, move || {
        let any = if to.is_ipv4() { "0.0.0.0:0" } else { "[::]:0" };
        let socket = UdpSocket::bind(any).unwrap();
        socket.set_read_timeout(Some(Duration::from_secs(1))).unwrap();
        socket.connect(to).unwrap();
        let _ = socket.send(b"hello");
        socket.recv(&mut [0; 10]).is_ok()
    })
}

/// A reach.
fn reach(to: &[&str], except: &[&str], services: &[Service]) -> Reach {
    let of = |all: &[&str]| all.iter().map(|n| n.parse().unwrap()).collect();
    Reach { to: of(to), named: false, except: of(except), services: services.to_vec() }
}

/// The yard's plan: the internet without the cranes, the cranes by their port, and the office's host open to everybody.
pub fn plan(edition: i32) -> Plan {
    let everything = [Service::Tcp(1, u16::MAX), Service::Udp(1, u16::MAX), Service::Icmp];
    let offices = OFFICE.map(|a| format!("{a}/{}", if a.contains(':') { 128 } else { 32 }));
    let reaches = BTreeMap::from([
        ("internet".to_owned(), reach(&["0.0.0.0/0", "::/0"], &["10.80.0.0/16", "fd80::/16"], &everything)),
        ("cranes".to_owned(), reach(&["10.80.4.0/24", "fd80:4::/64"], &[], &[Service::Tcp(22, 22), Service::Icmp])),
        ("office".to_owned(), reach(&[&offices[0], &offices[1]], &[], &[Service::Tcp(443, 443)])),
        ("named".to_owned(), Reach { named: true, ..reach(&[], &[], &[Service::All]) }),
    ]);
    let zone = Zone {
        name: "yard".into(),
        interface: "yard0".into(),
        networks: ["10.70.0.0/24", "fd70:70::/64"].map(|n| n.parse().unwrap()).to_vec(),
        before: vec!["office".into()],
        led: vec![80, 8_080],
        redirect: Some(8_081),
        portal: vec![8_443],
        resolver: vec!["10.70.0.1".parse().unwrap(), "fd70:70::1".parse().unwrap()],
    };
    Plan { edition, zones: vec![zone], reaches }
}

/// A class of reaches.
pub fn class(reaches: &[&str]) -> Class {
    Class { reaches: reaches.iter().map(|r| (*r).to_owned()).collect(), rate: None }
}

/// An admission in the yard.
pub fn admission(number: u32, holder: Holder, reaches: &[&str]) -> Admission {
    Admission {
        mark: MARK_FIRST + number,
        interface: "yard0".into(),
        holder,
        class: class(reaches),
        left: None,
        lease_ms: 60_000,
    }
}

/// A sluice that listens in this process, with a client.
pub fn sluice() -> (Client, tempfile::TempDir) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("sluice.sock");
    let guard = Guard::new(PathBuf::from("/usr/sbin/nft"), vec!["yard0".into()]).unwrap();
    let (at, own) = (path.clone(), rustix::process::getuid().as_raw());
    std::thread::spawn(move || server::run(guard, &at, vec![own]).unwrap());
    // The file is there before anybody listens.
    eventually(|| UnixStream::connect(&path).is_ok());
    (Client::new(&path), dir)
}

/// Waits until something is so.
pub fn eventually(mut is: impl FnMut() -> bool) {
    let began = Instant::now();
    while !is() {
        assert!(began.elapsed() < Duration::from_secs(10), "it never was so");
        std::thread::yield_now();
    }
}
