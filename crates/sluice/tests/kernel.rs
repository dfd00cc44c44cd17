//! The sluice against a kernel, in a cage: what is closed, opened, counted, cut and put back.

#![allow(clippy::unwrap_used)]

mod support;

use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::{Duration, Instant};

use passeur_sluice::plan::Service;
use passeur_sluice::words::{Admission, Ask, Holder, MARK_FIRST, Order};
use passeur_standins::cage::{self, CRANE, OFFICE, SITE, TABLET, VISITOR, Yard};
use support::{Try, admission, class, connect, eventually, plan, sluice, udp_answers};

/// Octets that pass until nothing more does, or `most` did.
fn read_until_cut(stream: &mut TcpStream, most: usize) -> (usize, std::io::Result<usize>) {
    let (mut total, mut buffer) = (0, vec![0; 65_536]);
    stream.set_read_timeout(Some(Duration::from_secs(1))).unwrap();
    loop {
        match stream.read(&mut buffer) {
            Ok(n) if n > 0 && total < most => total += n,
            other => return (total, other),
        }
    }
}

#[test]
fn a_zone_is_closed_at_once_and_never_in_silence_until_somebody_is_let_through() {
    if !cage::inside("a_zone_is_closed_at_once_and_never_in_silence_until_somebody_is_let_through") {
        return;
    }
    let yard = Yard::build();
    yard.serve();
    // Nothing guards it yet.
    assert_eq!(connect(&yard, "visitor", SITE[0], 80), Try::Open);
    let (client, _dir) = sluice();
    // Before any edition: closed, whatever else has not started yet, and nobody can be let through.
    assert_eq!(client.state().unwrap().edition, None);
    assert_eq!(connect(&yard, "visitor", SITE[0], 80), Try::Refused);
    assert_eq!(connect(&yard, "internet", VISITOR.addresses[1], 80), Try::Refused);
    let early = admission(1, Holder::Link(VISITOR.hardware), &["internet"]);
    assert!(client.order(&Order::Admit(Box::new(early))).is_err());
    client.install(&Order::Install { plan: plan(1), admissions: vec![] }).unwrap();
    for host in SITE {
        let began = Instant::now();
        assert_eq!(connect(&yard, "visitor", host, 80), Try::Refused, "{host}");
        assert!(began.elapsed() < Duration::from_millis(900), "told at once: {:?}", began.elapsed());
        assert!(!udp_answers(&yard, "visitor", host, 5_000));
    }
    // Nor to this machine itself, but for the portal.
    let _ours: Vec<_> = [22, 8_443].map(|p| std::net::TcpListener::bind(("0.0.0.0", p)).unwrap()).into();
    assert_eq!(connect(&yard, "visitor", cage::ROUTER[0], 22), Try::Refused);
    assert_eq!(connect(&yard, "visitor", cage::ROUTER[0], 8_443), Try::Open);
    // The office's host is open to everybody, on its port alone.
    for host in OFFICE {
        assert_eq!(connect(&yard, "visitor", host, 443), Try::Open, "{host}");
        assert_eq!(connect(&yard, "visitor", host, 80), Try::Refused, "{host}");
    }
    client.order(&Order::Admit(Box::new(admission(1, Holder::Link(VISITOR.hardware), &["internet"])))).unwrap();
    for host in SITE {
        assert_eq!(connect(&yard, "visitor", host, 80), Try::Open, "{host}");
        assert!(udp_answers(&yard, "visitor", host, 5_000));
        assert_eq!(connect(&yard, "tablet", host, 80), Try::Refused, "nobody else: {host}");
    }
    // What the reach leaves out stays closed, and another reach opens it on its own ports.
    assert_eq!(connect(&yard, "visitor", CRANE[0], 22), Try::Refused);
    client.order(&Order::Admit(Box::new(admission(1, Holder::Link(VISITOR.hardware), &["internet", "cranes"])))).unwrap();
    for host in CRANE {
        assert_eq!(connect(&yard, "visitor", host, 22), Try::Open, "{host}");
        assert_eq!(connect(&yard, "visitor", host, 80), Try::Refused, "{host}");
    }
    // A new address of the same machine is let through from its first packet; one from outside the zone's networks is not.
    cage::run(
        "ip -n visitor addr add fd70:70::9999/64 dev eth0 nodad preferred_lft 1000 && ip -n visitor addr add 10.71.0.5/32 dev eth0",
    );
    assert!(
        yard.on("visitor", &format!("curl -s --max-time 2 --interface fd70:70::9999 http://[{}]/", SITE[1])).1.contains("served")
    );
    assert!(!yard.on("visitor", &format!("curl -s --max-time 2 --interface 10.71.0.5 http://{}/", SITE[0])).1.contains("served"));
    // Nobody outside begins anything with a machine of the zone.
    let _door = yard.at("visitor", || std::net::TcpListener::bind("0.0.0.0:7777").unwrap());
    assert_eq!(connect(&yard, "internet", VISITOR.addresses[0], 7_777), Try::Refused);
    // An edition without the zone opens nothing.
    client
        .install(&Order::Install { plan: passeur_sluice::plan::Plan { edition: 9, ..Default::default() }, admissions: vec![] })
        .unwrap();
    assert_eq!(connect(&yard, "visitor", SITE[0], 80), Try::Refused);
}

#[test]
fn a_cut_stops_what_runs_and_an_edition_that_is_swapped_loses_nothing() {
    if !cage::inside("a_cut_stops_what_runs_and_an_edition_that_is_swapped_loses_nothing") {
        return;
    }
    let yard = Yard::build();
    yard.serve();
    let (client, _dir) = sluice();
    let mine = admission(1, Holder::Link(VISITOR.hardware), &["internet"]);
    client.install(&Order::Install { plan: plan(1), admissions: vec![mine.clone()] }).unwrap();
    // A stream that never pauses, through ten editions.
    let mut stream = yard.at("visitor", || TcpStream::connect((SITE[0], 9_000)).unwrap());
    stream.write_all(b"go\n").unwrap();
    let (mut total, mut buffer) = (0usize, vec![0; 65_536]);
    for edition in 2..12 {
        let done = client.install(&Order::Install { plan: plan(edition), admissions: vec![mine.clone()] }).unwrap();
        assert_eq!((done.added, done.cut, done.kept), (0, 0, 1), "edition {edition}");
        let before = total;
        while total < before + 2_000_000 {
            total += stream.read(&mut buffer).expect("no packet is refused in a swap");
        }
    }
    let counted = client.count().unwrap()[0];
    assert!(counted.down as usize > total && counted.up > 0, "{counted:?} of {total}");
    // Cut: both directions stop at once, whatever is in the pipe.
    client.order(&Order::Cut(vec![mine.mark])).unwrap();
    let (after, end) = read_until_cut(&mut stream, 1 << 30);
    assert!(after < 64 << 20, "what was on its way, and no more: {after}");
    assert!(!matches!(end, Ok(n) if n > 0), "{end:?}");
    assert_eq!(connect(&yard, "visitor", SITE[0], 80), Try::Refused);
    // To cut again, or somebody who is not there, is no error.
    client.order(&Order::Cut(vec![mine.mark, mine.mark + 9])).unwrap();
    assert_eq!(client.count().unwrap(), []);
    // An edition that takes a reach away stops what runs through it.
    client.order(&Order::Admit(Box::new(mine.clone()))).unwrap();
    let mut stream = yard.at("visitor", || TcpStream::connect((SITE[1], 9_000)).unwrap());
    stream.write_all(b"go\n").unwrap();
    assert!(stream.read(&mut buffer).unwrap() > 0);
    let less = admission(1, Holder::Link(VISITOR.hardware), &["cranes"]);
    client.install(&Order::Install { plan: plan(20), admissions: vec![less] }).unwrap();
    assert!(read_until_cut(&mut stream, 1 << 30).0 < 64 << 20);
}

#[test]
fn a_quota_and_a_rate_are_kept_by_the_kernel_and_a_lease_ends_by_itself() {
    if !cage::inside("a_quota_and_a_rate_are_kept_by_the_kernel_and_a_lease_ends_by_itself") {
        return;
    }
    let yard = Yard::build();
    yard.serve();
    let (client, _dir) = sluice();
    let mut mine = admission(1, Holder::Link(VISITOR.hardware), &["internet"]);
    mine.left = Some(3_000_000);
    client.install(&Order::Install { plan: plan(1), admissions: vec![mine.clone()] }).unwrap();
    let begin = || {
        let mut stream = yard.at("visitor", || TcpStream::connect((SITE[0], 9_000)).unwrap());
        stream.write_all(b"go\n").unwrap();
        stream
    };
    let (passed, _) = read_until_cut(&mut begin(), 20_000_000);
    assert!((2_500_000..=3_000_000).contains(&passed), "{passed} of 3,000,000");
    let counted = client.count().unwrap()[0];
    assert!(counted.up + counted.down <= 3_000_000, "{counted:?}");
    // More was given: it goes on. And a rate holds it back.
    mine.left = None;
    mine.class.rate = Some(500_000);
    client.order(&Order::Admit(Box::new(mine.clone()))).unwrap();
    let (began, mut stream, mut total, mut buffer) = (Instant::now(), begin(), 0, vec![0; 65_536]);
    while total < 1_000_000 {
        total += stream.read(&mut buffer).unwrap();
    }
    let took = began.elapsed();
    // The kernel lets through at once what a second and the burst allow, and the rest at the rate.
    assert!(took > Duration::from_millis(700), "1 MB at half a megabyte a second: {took:?}");
    // A lease that nobody renews ends in the kernel; one that is renewed does not.
    mine.class.rate = None;
    mine.lease_ms = 400;
    client.order(&Order::Admit(Box::new(mine.clone()))).unwrap();
    assert_eq!(connect(&yard, "visitor", SITE[0], 80), Try::Open);
    eventually(|| connect(&yard, "visitor", SITE[0], 80) == Try::Refused);
    client.order(&Order::Renew { marks: vec![mine.mark], lease_ms: 60_000 }).unwrap();
    assert_eq!(connect(&yard, "visitor", SITE[0], 80), Try::Open);
    client.order(&Order::Renew { marks: vec![mine.mark], lease_ms: 90_000 }).unwrap();
    let held = client.held().unwrap();
    assert!(held[0].expires_ms.is_some_and(|ms| ms > 80_000), "{held:?}");
}

#[test]
fn whatever_somebody_else_does_to_the_table_is_put_back() {
    if !cage::inside("whatever_somebody_else_does_to_the_table_is_put_back") {
        return;
    }
    let yard = Yard::build();
    yard.serve();
    let (client, _dir) = sluice();
    let mine = Admission { left: Some(1 << 40), ..admission(1, Holder::Link(VISITOR.hardware), &["internet"]) };
    client.install(&Order::Install { plan: plan(1), admissions: vec![mine] }).unwrap();
    client.order(&Order::Names([("named".to_owned(), [OFFICE[0].parse().unwrap()].into())].into())).unwrap();
    let tablet = passeur_sluice::book::keys_of("yard0", &Holder::Link(TABLET.hardware)).remove(0);
    assert_eq!(tablet.0, "machines");
    let mark = passeur_sluice::words::MARK_FIRST + 1;
    for (number, harm) in [
        "nft flush ruleset".to_owned(),
        "nft delete table inet passeur".to_owned(),
        "nft insert rule inet passeur forward accept".to_owned(),
        "nft flush chain inet passeur outward".to_owned(),
        format!("nft add element inet passeur machines '{{ \"yard0\" . {} : {mark} }}'", cage::written(&TABLET.hardware)),
        "nft flush map inet passeur machines".to_owned(),
        "nft add rule inet passeur class-1 accept".to_owned(),
        // What opens more without any rule or machine that is new.
        format!("nft add element inet passeur host4-named '{{ {} }}'", SITE[0]),
        "nft flush map inet passeur cap".to_owned(),
        format!(
            "nft 'delete element inet passeur way {{ {mark} }}; add element inet passeur way {{ {mark} : jump free-internet }}'"
        ),
    ]
    .into_iter()
    .enumerate()
    {
        let began = Instant::now();
        cage::run(&harm);
        eventually(|| client.state().unwrap().restored == number as u64 + 1);
        let took = began.elapsed();
        assert!(took < Duration::from_millis(1_000), "{harm}: {took:?}");
        println!("{harm}: put back after {took:?}");
        let state = client.state().unwrap();
        assert!(state.found.is_some() && state.trouble.is_none(), "{harm}: {state:?}");
        assert_eq!(connect(&yard, "visitor", SITE[0], 80), Try::Open, "{harm}");
        assert_eq!(connect(&yard, "tablet", SITE[0], 80), Try::Refused, "{harm}");
    }
    // What others do to tables of theirs is no matter, and our own changes are not taken for somebody else's.
    cage::run("nft add table inet theirs && nft add chain inet theirs c && nft delete table inet theirs");
    for n in 2..40 {
        client.order(&Order::Admit(Box::new(admission(n, Holder::Link([2, 9, 9, 9, 9, n as u8]), &["internet"])))).unwrap();
    }
    client.order(&Order::Cut((2..40).map(|n| passeur_sluice::words::MARK_FIRST + n).collect())).unwrap();
    client.order(&Order::Names([("named".to_owned(), [SITE[0].parse().unwrap()].into())].into())).unwrap();
    assert_eq!(client.state().unwrap().restored, 10);
}

#[test]
fn a_thousand_come_in_at_once_and_each_is_there_once() {
    if !cage::inside("a_thousand_come_in_at_once_and_each_is_there_once") {
        return;
    }
    let _yard = Yard::build();
    let (client, dir) = sluice();
    client.install(&Order::Install { plan: plan(1), admissions: vec![] }).unwrap();
    let socket = dir.path().join("sluice.sock");
    std::thread::scope(|scope| {
        for part in 0..4u16 {
            let own = passeur_sluice::client::Client::new(&socket);
            scope.spawn(move || {
                for n in part * 250..(part + 1) * 250 {
                    let [a, b] = n.to_be_bytes();
                    let holder = Holder::Link([2, 1, 1, 1, a, b]);
                    own.order(&Order::Admit(Box::new(admission(u32::from(n), holder, &["internet"])))).unwrap();
                }
            });
        }
    });
    let held = client.held().unwrap();
    assert!(held.len() == 1_000 && held.iter().all(|h| h.expires_ms.is_some()), "{}", held.len());
}

#[test]
fn names_open_as_they_lead_and_a_machine_behind_a_router_is_known_by_its_address() {
    if !cage::inside("names_open_as_they_lead_and_a_machine_behind_a_router_is_known_by_its_address") {
        return;
    }
    let yard = Yard::build();
    yard.serve();
    let (client, _dir) = sluice();
    let by_address = |n, a: &str| admission(n, Holder::Address(a.parse().unwrap()), &["named"]);
    let all = vec![by_address(1, VISITOR.addresses[0]), by_address(2, VISITOR.addresses[1])];
    client.install(&Order::Install { plan: plan(1), admissions: all.clone() }).unwrap();
    let names = |addresses: &[&str]| {
        let set = addresses.iter().map(|a| a.parse().unwrap()).collect();
        client.order(&Order::Names([("named".to_owned(), set)].into())).unwrap();
    };
    assert_eq!(connect(&yard, "visitor", SITE[0], 80), Try::Refused);
    names(&SITE);
    // The kernel is asked what it would do, and says what it does.
    let way = |address: &str, to: &str, service| {
        let holder = Holder::Address(address.parse().unwrap());
        client.way(Ask { interface: "yard0".into(), holder, to: vec![to.parse().unwrap()], service }).unwrap()
    };
    for host in SITE {
        assert_eq!(connect(&yard, "visitor", host, 80), Try::Open, "{host}");
        assert_eq!(connect(&yard, "tablet", host, 80), Try::Refused, "{host}");
        let found = way(VISITOR.addresses[0], host, Service::Tcp(80, 80));
        assert!(found.by[0].as_deref() == Some("named") && found.mark.is_some() && found.expires_ms.is_some(), "{found:?}");
        let found = way(TABLET.addresses[0], host, Service::Tcp(80, 80));
        assert_eq!((found.by, found.mark, found.reaches.len()), (vec![None], None, 0));
    }
    assert_eq!(way(VISITOR.addresses[0], OFFICE[0], Service::Tcp(80, 80)).by, [None]);
    // An edition that has the name still leads there; the next look may find another address.
    client.install(&Order::Install { plan: plan(2), admissions: all }).unwrap();
    assert_eq!(connect(&yard, "visitor", SITE[0], 80), Try::Open);
    names(&[OFFICE[0]]);
    assert_eq!(connect(&yard, "visitor", SITE[0], 80), Try::Refused);
    assert_eq!(connect(&yard, "visitor", OFFICE[0], 80), Try::Open);
}

#[test]
fn a_machine_that_has_an_address_of_each_family_is_one_and_leaves_with_both() {
    if !cage::inside("a_machine_that_has_an_address_of_each_family_is_one_and_leaves_with_both") {
        return;
    }
    let yard = Yard::build();
    yard.serve();
    let (client, _dir) = sluice();
    let of = |a: &[&str; 2]| Holder::Pair(a[0].parse().unwrap(), a[1].parse().unwrap());
    let mine = admission(1, of(&VISITOR.addresses), &["internet"]);
    client.install(&Order::Install { plan: plan(1), admissions: vec![mine.clone()] }).unwrap();
    for host in SITE {
        assert_eq!(connect(&yard, "visitor", host, 80), Try::Open, "{host}");
        assert_eq!(connect(&yard, "tablet", host, 80), Try::Refused, "{host}");
    }
    // Both are one to the questions that are asked, and neither is anybody else's.
    let way = |holder| client.way(Ask { interface: "yard0".into(), holder, to: vec![], service: Service::Icmp }).unwrap();
    assert_eq!(way(mine.holder).mark, Some(MARK_FIRST + 1));
    assert_eq!(way(of(&[VISITOR.addresses[0], TABLET.addresses[1]])).mark, None);
    let other = admission(2, Holder::Address(VISITOR.addresses[1].parse().unwrap()), &["internet"]);
    assert!(client.order(&Order::Admit(Box::new(other.clone()))).is_err());
    // With other rights it is known by both still; cut, by none.
    client.order(&Order::Admit(Box::new(admission(1, mine.holder, &["cranes"])))).unwrap();
    assert_eq!(connect(&yard, "visitor", SITE[1], 80), Try::Refused);
    client.order(&Order::Cut(vec![mine.mark])).unwrap();
    assert_eq!(way(mine.holder).mark, None);
    client.order(&Order::Admit(Box::new(other))).unwrap();
    assert_eq!(connect(&yard, "visitor", SITE[1], 80), Try::Open);
    assert_eq!(connect(&yard, "visitor", SITE[0], 80), Try::Refused);
    // Compared as a whole, one address of the pair is not enough.
    client.install(&Order::Install { plan: plan(2), admissions: vec![mine.clone()] }).unwrap();
    for host in SITE {
        assert_eq!(connect(&yard, "visitor", host, 80), Try::Open, "{host}");
    }
}

#[test]
fn an_unknown_machines_http_is_led_to_the_portal_and_its_questions_to_our_resolver() {
    if !cage::inside("an_unknown_machines_http_is_led_to_the_portal_and_its_questions_to_our_resolver") {
        return;
    }
    let yard = Yard::build();
    yard.serve();
    let (client, _dir) = sluice();
    client.install(&Order::Install { plan: plan(1), admissions: vec![] }).unwrap();
    let portal = std::net::TcpListener::bind("[::]:8081").unwrap();
    let resolver = std::net::UdpSocket::bind("[::]:53").unwrap();
    let asked = std::thread::spawn(move || {
        let mut names = vec![];
        for _ in 0..2 {
            let mut buffer = [0; 100];
            let (n, from) = resolver.recv_from(&mut buffer).unwrap();
            names.push(String::from_utf8_lossy(&buffer[..n]).into_owned());
            resolver.send_to(b"ours", from).unwrap();
        }
        names
    });
    for host in SITE {
        let mut stream = yard.at("visitor", move || TcpStream::connect((host, 8_080)).unwrap());
        let (ours, _) = portal.accept().unwrap();
        // Where it wanted to go is known.
        let wanted = match host.contains(':') {
            false => rustix::net::sockopt::ip_original_dst(&ours).map(|a| a.to_string()),
            true => rustix::net::sockopt::ipv6_original_dst(&ours).map(|a| a.to_string()),
        };
        assert!(wanted.as_ref().is_ok_and(|w| w.contains(host) && w.ends_with(":8080")), "{wanted:?}");
        (&ours).write_all(b"portal").unwrap();
        drop(ours);
        let mut said = String::new();
        stream.read_to_string(&mut said).unwrap();
        assert_eq!(said, "portal");
        // The answer comes from whom was asked.
        let answer = yard.at("visitor", move || {
            let socket = std::net::UdpSocket::bind(if host.contains(':') { "[::]:0" } else { "0.0.0.0:0" }).unwrap();
            socket.connect((host, 53)).unwrap();
            socket.send(host.as_bytes()).unwrap();
            let mut buffer = [0; 10];
            socket.recv(&mut buffer).map(|n| String::from_utf8_lossy(&buffer[..n]).into_owned())
        });
        assert_eq!(answer.unwrap(), "ours", "{host}");
    }
    assert_eq!(asked.join().unwrap(), SITE);
    // TLS is led nowhere.
    assert_eq!(connect(&yard, "visitor", SITE[0], 443), Try::Refused);
}

#[test]
fn a_sluice_that_was_killed_takes_over_what_it_left_and_cuts_what_should_not_be() {
    if !cage::inside("a_sluice_that_was_killed_takes_over_what_it_left_and_cuts_what_should_not_be") {
        return;
    }
    let yard = Yard::build();
    yard.serve();
    let dir = tempfile::tempdir().unwrap();
    let socket = dir.path().join("s");
    let start = || {
        let mut command = std::process::Command::new(env!("CARGO_BIN_EXE_passeur-sluice"));
        command.args(["--peer", "0", "--interface", "yard0", "--socket"]).arg(&socket);
        let child = command.stderr(std::process::Stdio::null()).spawn().unwrap();
        eventually(|| std::os::unix::net::UnixStream::connect(&socket).is_ok());
        child
    };
    let client = passeur_sluice::client::Client::new(&socket);
    let mut child = start();
    let all = [1, 2].map(|n| admission(n, Holder::Link([VISITOR, TABLET][n as usize - 1].hardware), &["internet"]));
    client.install(&Order::Install { plan: plan(1), admissions: all.to_vec() }).unwrap();
    let mut stream = yard.at("visitor", || TcpStream::connect((SITE[0], 9_000)).unwrap());
    stream.write_all(b"go\n").unwrap();
    child.kill().unwrap();
    child.wait().unwrap();
    assert!(client.state().is_err(), "nobody answers");
    // Who is through stays through; nobody else comes in.
    let mut buffer = vec![0; 65_536];
    assert!(stream.read(&mut buffer).unwrap() > 0);
    assert_eq!(connect(&yard, "tablet", SITE[0], 80), Try::Open);
    let mut child = start();
    let counted = client.count().unwrap();
    assert_eq!(counted.len(), 2, "what was counted is there: {counted:?}");
    let done = client.install(&Order::Install { plan: plan(1), admissions: vec![all[0].clone()] }).unwrap();
    assert_eq!((done.added, done.cut, done.kept), (0, 1, 1));
    assert!(stream.read(&mut buffer).unwrap() > 0, "no packet is lost");
    assert_eq!(connect(&yard, "tablet", SITE[0], 80), Try::Refused);
    child.kill().unwrap();
    child.wait().unwrap();
    // Somebody else's user may not ask.
    let mut other = std::process::Command::new(env!("CARGO_BIN_EXE_passeur-sluice"));
    other
        .args(["--peer", "12345", "--interface", "yard0", "--socket"])
        .arg(dir.path().join("t"))
        .stderr(std::process::Stdio::null());
    let mut other = other.spawn().unwrap();
    // Refused by whoever listens there, and not because nobody does yet.
    eventually(|| std::os::unix::net::UnixStream::connect(dir.path().join("t")).is_ok());
    let refused = passeur_sluice::client::Client::new(&dir.path().join("t"));
    assert!(refused.state().is_err(), "user 0 was not named");
    other.kill().unwrap();
    other.wait().unwrap();
}

#[test]
fn what_is_wrong_in_an_order_changes_nothing() {
    if !cage::inside("what_is_wrong_in_an_order_changes_nothing") {
        return;
    }
    let yard = Yard::build();
    yard.serve();
    let (client, _dir) = sluice();
    let mine = admission(1, Holder::Link(VISITOR.hardware), &["internet"]);
    client.install(&Order::Install { plan: plan(1), admissions: vec![mine.clone()] }).unwrap();
    let install = |change: &dyn Fn(&mut passeur_sluice::plan::Plan)| {
        let mut plan = plan(2);
        change(&mut plan);
        client.install(&Order::Install { plan, admissions: vec![] }).map(|_| ()).unwrap_err().to_string()
    };
    let said = [
        install(&|p| p.zones[0].interface = "wan0".into()),
        install(&|p| p.zones[0].name = "a; flush ruleset".into()),
        install(&|p| p.zones[0].interface = "yard0\" accept".into()),
        install(&|p| p.zones[0].before.push("nothing".into())),
        install(&|p| p.zones.push(p.zones[0].clone())),
        install(&|p| {
            let reach = p.reaches["internet"].clone();
            p.reaches.insert("x}".into(), reach);
        }),
    ];
    insta::assert_snapshot!(said.join("\n"));
    let admit = |change: &dyn Fn(&mut passeur_sluice::words::Admission)| {
        let mut one = admission(2, Holder::Link(TABLET.hardware), &["internet"]);
        change(&mut one);
        client.order(&Order::Admit(Box::new(one))).unwrap_err().to_string()
    };
    let said = [
        admit(&|a| a.mark = 7),
        admit(&|a| a.interface = "wan0".into()),
        admit(&|a| a.class = class(&["nothing"])),
        admit(&|a| a.holder = Holder::Link(VISITOR.hardware)),
        admit(&|a| a.lease_ms = 0),
    ];
    insta::assert_snapshot!(said.join("\n"));
    assert_eq!(client.state().unwrap().edition, Some(1));
    assert_eq!(connect(&yard, "visitor", SITE[0], 80), Try::Open);
    assert_eq!(connect(&yard, "tablet", SITE[0], 80), Try::Refused);
}
