//! The network gate's sluice against this kernel, in a cage: how soon somebody is let through and cut with many on, what an edition costs, how
//! soon the table is back, and what the rules cost a packet beside plain forwarding in the same run.

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::net::{SocketAddr, UdpSocket};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use passeur_sluice::client::Client;
use passeur_sluice::guard::Guard;
use passeur_sluice::plan::{Class, Plan, Reach, Service, Zone};
use passeur_sluice::server;
use passeur_sluice::words::{Admission, Answer, Holder, MARK_FIRST, Order};
use passeur_standins::cage::{self, SITE, VISITOR, Yard};

/// How often somebody comes and goes for a median.
const TIMES: usize = 500;
/// How long packets are counted, and how often in turn.
const COUNTED: Duration = Duration::from_secs(2);
const ROUNDS: usize = 5;

fn plan(edition: i32) -> Plan {
    let all = [Service::Tcp(1, u16::MAX), Service::Udp(1, u16::MAX), Service::Icmp];
    let nets = |all: &[&str]| all.iter().filter_map(|n| n.parse().ok()).collect();
    let internet = Reach {
        to: nets(&["0.0.0.0/0", "::/0"]),
        named: false,
        except: nets(&["10.0.0.0/8", "fd00::/8"]),
        services: all.to_vec(),
    };
    let cranes = Reach {
        to: nets(&["10.80.4.0/24", "fd80:4::/64"]),
        named: true,
        except: vec![],
        services: vec![Service::Tcp(22, 22), Service::Tcp(443, 443), Service::Icmp],
    };
    let zone = Zone {
        name: "yard".into(),
        interface: "yard0".into(),
        networks: nets(&["10.70.0.0/16", "fd70:70::/64"]),
        before: vec![],
        led: vec![80],
        redirect: Some(8_643),
        portal: vec![443],
        resolver: vec![],
    };
    let reaches = BTreeMap::from([("internet".to_owned(), internet), ("cranes".to_owned(), cranes)]);
    Plan { edition, zones: vec![zone], reaches }
}

fn admission(number: u32, hardware: [u8; 6]) -> Admission {
    Admission {
        mark: MARK_FIRST + number,
        interface: "yard0".into(),
        holder: Holder::Link(hardware),
        class: Class { reaches: ["cranes".to_owned(), "internet".to_owned()].into(), rate: None },
        left: Some(1 << 40),
        lease_ms: 3_600_000,
    }
}

fn many(n: u32) -> Vec<Admission> {
    (1..=n).map(|i| admission(i, [2, 0, (i >> 24) as u8, (i >> 16) as u8, (i >> 8) as u8, i as u8])).collect()
}

/// Median and 99th percentile, in milliseconds.
fn shape(mut all: Vec<Duration>) -> (f64, f64) {
    all.sort_unstable();
    let at = |p: f64| all[((all.len() - 1) as f64 * p) as usize].as_secs_f64() * 1_000.0;
    (at(0.5), at(0.99))
}

fn guard() -> Guard {
    Guard::new(PathBuf::from("/usr/sbin/nft"), vec!["yard0".into()]).expect("the kernel's packet filter; run this as root")
}

/// Measures, and says so as a table for docs/performance.md. A sluice that listens ends with its process, so each number of machines has one.
pub fn measure(present: Option<u32>) -> String {
    if let Some(n) = present {
        cage::enter();
        let yard = Yard::build();
        return match n {
            0 => packets(&yard),
            n => with_present(n),
        };
    }
    let mut out = String::from(
        "| present | let through: median, p99 | cut: median, p99 | edition swapped | counters read | table back after a flush | after a restart |\n|---|---|---|---|---|---|---|\n",
    );
    let exe = std::env::current_exe().expect("this program's own file");
    for n in [10, 1_000, 10_000, 0] {
        let done = std::process::Command::new(&exe).args(["network", "--present", &n.to_string()]).output().expect("itself");
        assert!(done.status.success(), "{n} present: {}", String::from_utf8_lossy(&done.stderr));
        let _ = writeln!(out, "{}{}", if n == 0 { "\n" } else { "" }, String::from_utf8_lossy(&done.stdout).trim_end());
    }
    out
}

fn with_present(n: u32) -> String {
    let _ = std::process::Command::new("nft").args(["flush", "ruleset"]).status();
    let folder = std::env::temp_dir().join(format!("passeur-bench-{}-{n}", cage::name()));
    std::fs::create_dir_all(&folder).expect("a folder");
    let socket = folder.join("sluice.sock");
    let (at, own) = (socket.clone(), rustix::process::getuid().as_raw());
    // What another process left is taken over.
    let mut before = guard();
    assert!(matches!(before.obey(Order::Install { plan: plan(1), admissions: many(n) }), Answer::Compared(_)));
    drop(before);
    let began = Instant::now();
    let mut first = guard();
    let taken = first.obey(Order::Install { plan: plan(1), admissions: many(n) });
    assert!(matches!(taken, Answer::Compared(c) if c.added == 0 && c.cut == 0), "{taken:?}");
    let took = began.elapsed();
    std::thread::spawn(move || server::run(first, &at, vec![own]));
    let client = Client::new(&socket);
    while client.state().is_err() {
        std::thread::yield_now();
    }
    client.install(&Order::Install { plan: plan(1), admissions: many(n) }).expect("an edition");
    let (mut admitted, mut cut) = (vec![], vec![]);
    for i in 0..TIMES as u32 {
        let one = admission(50_000 + i, [2, 1, 0, 0, (i >> 8) as u8, i as u8]);
        let mark = one.mark;
        let began = Instant::now();
        client.order(&Order::Admit(Box::new(one))).expect("somebody let through");
        admitted.push(began.elapsed());
        let began = Instant::now();
        client.order(&Order::Cut(vec![mark])).expect("somebody cut");
        cut.push(began.elapsed());
    }
    let began = Instant::now();
    client.install(&Order::Install { plan: plan(2), admissions: many(n) }).expect("another edition");
    let swapped = began.elapsed();
    let began = Instant::now();
    assert_eq!(client.count().expect("counters").len(), n as usize);
    let counted = began.elapsed();
    let began = Instant::now();
    let _ = std::process::Command::new("nft").args(["flush", "ruleset"]).status();
    while !client.state().is_ok_and(|s| s.restored > 0) {
        std::thread::yield_now();
    }
    let restored = began.elapsed();
    let ((a, a99), (c, c99)) = (shape(admitted), shape(cut));
    let ms = |d: Duration| d.as_secs_f64() * 1_000.0;
    let _ = std::fs::remove_dir_all(&folder);
    format!(
        "| {n} | {a:.2} ms, {a99:.2} ms | {c:.2} ms, {c99:.2} ms | {:.0} ms | {:.0} ms | {:.0} ms | {:.0} ms |",
        ms(swapped),
        ms(counted),
        ms(restored),
        ms(took)
    )
}

/// The least that a packet filter with memory of connections does: one rule, for connections that exist.
const TRACKED: &str = "add table inet t; add chain inet t f { type filter hook forward priority 0; }; add rule inet t f ct state established accept";

/// Small packets from a machine to the internet: without any rules, with connections tracked and nothing else, and with the rules and 10,000
/// present, in turn.
fn packets(yard: &Yard) -> String {
    let to = SocketAddr::new(SITE[0].parse().expect("an address"), 5_000);
    let (sink, source) = (yard.at("internet", move || UdpSocket::bind(to)), yard.at("visitor", || UdpSocket::bind("0.0.0.0:0")));
    let (Ok(sink), Ok(source)) = (sink, source) else { return "no sockets in the cage".to_owned() };
    let received = Arc::new(AtomicU64::new(0));
    let counter = received.clone();
    std::thread::spawn(move || {
        let mut buffer = [0; 100];
        while sink.recv(&mut buffer).is_ok() {
            counter.fetch_add(1, Ordering::Relaxed);
        }
    });
    let stop = Arc::new(AtomicBool::new(false));
    let stopped = stop.clone();
    let sender = std::thread::spawn(move || {
        while !stopped.load(Ordering::Relaxed) {
            let _ = source.send_to(&[7; 64], to);
        }
    });
    let count = || {
        let (began, before) = (Instant::now(), received.load(Ordering::Relaxed));
        while began.elapsed() < COUNTED {
            std::thread::sleep(Duration::from_millis(50));
        }
        (received.load(Ordering::Relaxed) - before) as f64 / began.elapsed().as_secs_f64()
    };
    let mut guard = guard();
    let (mut to_plain, mut to_tracked) = (vec![], vec![]);
    let (mut plain_all, mut tracked_all, mut guarded_all) = (vec![], vec![], vec![]);
    for round in 0..ROUNDS {
        let _ = std::process::Command::new("nft").args(["flush", "ruleset"]).status();
        let plain = count();
        let _ = std::process::Command::new("nft").arg(TRACKED).status();
        let tracked = count();
        let _ = std::process::Command::new("nft").args(["flush", "ruleset"]).status();
        let mut all = many(10_000);
        all.push(admission(60_000, VISITOR.hardware));
        let done = guard.obey(Order::Install { plan: plan(round as i32 + 1), admissions: all });
        assert!(matches!(done, Answer::Compared(_)), "{done:?}");
        let guarded = count();
        to_plain.push(guarded / plain);
        to_tracked.push(guarded / tracked);
        plain_all.push(plain);
        tracked_all.push(tracked);
        guarded_all.push(guarded);
    }
    stop.store(true, Ordering::Relaxed);
    let _ = sender.join();
    let median = |all: &mut Vec<f64>| {
        all.sort_by(f64::total_cmp);
        all[all.len() / 2]
    };
    format!(
        "Packets of 64 octets from one machine, {ROUNDS} rounds in turn, medians: {:.0} a second by plain forwarding, {:.0} with connections tracked alone, {:.0} through the rules with 10,000 present: {:.2} times the first, {:.2} times the second.",
        median(&mut plain_all),
        median(&mut tracked_all),
        median(&mut guarded_all),
        median(&mut to_plain),
        median(&mut to_tracked)
    )
}
