//! What the gate of tunnels and RADIUS costs, measured by `./run bench vpn` on the harbour of the tests. Nothing here is a test: each writes its lines
//! of the table in docs/performance.md to a file.

use std::io::Write;
use std::time::{Duration, Instant};

use passeur_protocols::radius::{Code, Packet, Secret};
use serde_json::json;

use crate::radius::{ACCEPT, AUTHORIZE_ONLY, GATEWAY, SERVICE, USER, quays};
use crate::support::{Nas, Person, Sea};
use crate::tunnels::servers::{at_the_gate, says_yes, scripted};
use crate::tunnels::{OFFICE, answers, opens, present};

/// How many ask at once.
const AT_ONCE: u16 = 16;
const SECONDS: u64 = 5;
/// How often a tunnel is opened for a median.
const TIMES: usize = 10;

/// Keeps a line of the table.
fn keep(line: &str) {
    let file = std::env::var("PASSEUR_BENCH_INTO").expect("run by ./run bench vpn");
    let mut file = std::fs::OpenOptions::new().append(true).create(true).open(file).unwrap();
    writeln!(file, "{line}").unwrap();
}

/// Median and 99th percentile, in milliseconds.
fn shape(mut all: Vec<Duration>) -> (f64, f64) {
    all.sort_unstable();
    let at = |p: f64| all[((all.len() - 1) as f64 * p) as usize].as_secs_f64() * 1_000.0;
    (at(0.5), at(0.99))
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "a measurement: ./run bench vpn"]
async fn radius_requests() {
    let stack = quays(|site| site).await;
    let to = stack.radius();
    let until = Instant::now() + Duration::from_secs(SECONDS);
    let tasks = (0..AT_ONCE).map(|n| {
        tokio::spawn(async move {
            let nas = Nas::at("127.0.0.11", to, GATEWAY).await;
            let mut all = vec![];
            while Instant::now() < until {
                let number = format!("{n}-{}", all.len());
                let began = Instant::now();
                let told = nas.asks(&nas.request(&[(USER, b"anouk"), (SERVICE, &AUTHORIZE_ONLY), (44, number.as_bytes())])).await;
                assert_eq!(told.code, ACCEPT, "{told:?}");
                all.push(began.elapsed());
            }
            all
        })
    });
    let mut all = vec![];
    for task in tasks.collect::<Vec<_>>() {
        all.extend(task.await.unwrap());
    }
    let (count, (median, p99)) = (all.len() as u64 / SECONDS, shape(all));
    keep(&format!(
        "| RADIUS: Authorize-Only, {AT_ONCE} at once, look-up cached, each with a session and its crossing | {count} a second, median {median:.0} ms, p99 {p99:.0} ms |"
    ));
    let nas = Nas::at("127.0.0.11", to, GATEWAY).await;
    let request = nas.request(&[(USER, b"anouk"), (SERVICE, &AUTHORIZE_ONLY)]);
    let secret = Secret::new(GATEWAY.as_bytes());
    let (began, mut count) = (Instant::now(), 0u64);
    while began.elapsed() < Duration::from_secs(2) {
        let packet = Packet::read(&request).unwrap();
        secret.proves(&packet).unwrap();
        assert!(secret.answer(Code::AccessAccept, &packet, vec![]).is_some());
        count += 1;
    }
    let each = count as f64 / began.elapsed().as_secs_f64();
    keep(&format!("| RADIUS: the codec alone, read, proven and answered, one core | {each:.0} a second |"));
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "a measurement: ./run bench vpn"]
async fn browser_to_first_packet() {
    if !Sea::is_caged("measured::browser_to_first_packet") {
        return;
    }
    let sea = Sea::new(|site| site).await;
    sea.harbour.yard.serve();
    let (mut answered, mut reached, mut closed) = (vec![], vec![], vec![]);
    for n in 0..TIMES {
        let client = sea.connect_by_browser(&format!("n{n}"));
        let mut person = Person::new();
        let page = opens(&sea, &mut person, &client, 1, "anouk").await;
        let began = Instant::now();
        let page = answers(&mut person, &page, "yes").await;
        answered.push(began.elapsed());
        assert!(page.body.contains("The tunnel is open"), "{}", page.body);
        while !sea.harbour.reaches("pilot", OFFICE[0], 80) {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
        reached.push(began.elapsed());
        let sessions: Vec<_> =
            sea.harbour.stack.get("/sessions").await.as_array().unwrap().iter().map(|s| s["id"].clone()).collect();
        let began = Instant::now();
        sea.harbour.stack.post("/sessions/end", json!({"sessions": sessions})).await;
        closed.push(began.elapsed());
        drop(client);
        while !present(&sea).await.is_empty() {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    }
    let ((yes, _), (packet, _), (cut, _)) = (shape(answered), shape(reached), shape(closed));
    keep(&format!("| OpenVPN: from the person's yes until the page says that the tunnel is open | median {yes:.0} ms |"));
    keep(&format!("| OpenVPN: from the person's yes until the first connection through it | median {packet:.0} ms |"));
    keep(&format!("| OpenVPN: ending the session, until the call returns and nothing passes | median {cut:.0} ms |"));
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "a measurement: ./run bench vpn"]
async fn two_hundred_tunnels_cut() {
    if !Sea::is_caged("measured::two_hundred_tunnels_cut") {
        return;
    }
    const TUNNELS: usize = 200;
    let sea = Sea::without_servers(|site| {
        site.replacen("devices = 2\nwhen-full = \"end-oldest\"\nauthority", &format!("devices = {TUNNELS}\nauthority"), 1)
            .replace("browser = \"same-address\"\n", "")
    })
    .await;
    let (_server, mut talk) = scripted(&sea).await;
    let mut anouk = at_the_gate(&sea, "anouk").await;
    let began = Instant::now();
    for n in 0..TUNNELS {
        let id = n as u64 + 1;
        talk.connects(id, 1, &format!("192.0.{}.{}", n / 200, n % 200 + 1)).await;
        let url = talk.asked(id).await;
        let (page, ()) = tokio::join!(says_yes(&mut anouk, &url), async {
            talk.until(|l| l.starts_with("client-auth ").then_some(())).await;
            talk.until(|l| (l == "END").then_some(())).await;
        });
        assert!(page.contains("The tunnel is open"), "{page}");
        talk.stands(id).await;
    }
    let each = began.elapsed().as_secs_f64() * 1_000.0 / TUNNELS as f64;
    let machines = sea.harbour.open_in_kernel() - TUNNELS;
    let sessions: Vec<_> = sea.harbour.stack.get("/sessions").await.as_array().unwrap().iter().map(|s| s["id"].clone()).collect();
    let began = Instant::now();
    sea.harbour.stack.post("/sessions/end", json!({"sessions": sessions})).await;
    let closed = began.elapsed();
    assert_eq!(sea.harbour.open_in_kernel(), machines, "nothing is open when the call returns");
    let mut ended = std::collections::BTreeSet::new();
    while ended.len() < TUNNELS {
        ended.insert(talk.until(|l| l.strip_prefix("client-kill ")?.strip_suffix(" HALT").map(str::to_owned)).await);
    }
    let killed = began.elapsed();
    keep(&format!(
        "| {TUNNELS} tunnels, one after the other, at a scripted server: asked, answered and let in | {each:.0} ms each |"
    ));
    keep(&format!(
        "| {TUNNELS} tunnels of one session cut: nothing passes, and every client is told to end | {:.0} ms, {:.0} ms |",
        closed.as_secs_f64() * 1_000.0,
        killed.as_secs_f64() * 1_000.0
    ));
}
