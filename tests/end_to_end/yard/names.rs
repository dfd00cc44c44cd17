//! Names of reaches: what a machine is told is open before it is told, and nothing else.

use std::net::{IpAddr, SocketAddr, TcpStream, UdpSocket};
use std::time::Duration;

use hickory_proto::op::{Message, Query};
use hickory_proto::rr::{Name, RData, RecordType};
use passeur_standins::cage::{CRANE, ROUTER, SITE, VISITOR};

use super::{on, without_terms};
use crate::support::{Harbour, eventually};

/// The resolver behind the service's: real, and it knows these names alone.
fn dnsmasq(harbour: &Harbour) -> std::process::Child {
    let line = format!(
        "dnsmasq -k --conf-file=/dev/null --no-resolv --no-hosts --pid-file= --user=root --port=5353 --listen-address=127.0.0.1 --bind-interfaces \
         --host-record=edge.elsewhere.example,{},{} --cname=tower.cranes.havrelune.example,edge.elsewhere.example \
         --address=/lies.cranes.havrelune.example/{} --address=/other.example/{}",
        SITE[0], SITE[1], ROUTER[0], SITE[0]
    );
    harbour.yard.start(None, &line)
}

fn question(name: &str, kind: RecordType) -> Vec<u8> {
    let mut message = Message::new();
    message.set_id(4_711).set_recursion_desired(true).add_query(Query::query(Name::from_ascii(name).unwrap(), kind));
    message.to_vec().unwrap()
}

fn addresses(octets: &[u8]) -> Vec<IpAddr> {
    let message = Message::from_vec(octets).unwrap();
    assert_eq!(message.id(), 4_711, "the asker's own number");
    let of = |data: &RData| match data {
        RData::A(a) => Some(IpAddr::V4(a.0)),
        RData::AAAA(a) => Some(IpAddr::V6(a.0)),
        _ => None,
    };
    message.answers().iter().filter_map(|r| of(r.data())).collect()
}

/// What a machine is told over UDP; none where nobody answers.
fn asks(harbour: &Harbour, machine: &str, resolver: &str, name: &str, kind: RecordType) -> Option<Vec<IpAddr>> {
    let (to, octets) = (SocketAddr::new(resolver.parse().unwrap(), 53), question(name, kind));
    harbour.yard.at(machine, move || {
        let any: IpAddr = if to.is_ipv4() { [0, 0, 0, 0].into() } else { std::net::Ipv6Addr::UNSPECIFIED.into() };
        let socket = UdpSocket::bind((any, 0)).unwrap();
        socket.set_read_timeout(Some(Duration::from_secs(3))).unwrap();
        socket.connect(to).unwrap();
        socket.send(&octets).ok()?;
        let mut buffer = [0; 2_000];
        let n = socket.recv(&mut buffer).ok()?;
        Some(addresses(&buffer[..n]))
    })
}

/// The same over TCP.
fn asks_by_tcp(harbour: &Harbour, machine: &str, name: &str) -> Vec<IpAddr> {
    use std::io::{Read, Write};
    let (to, octets) = (SocketAddr::new(ROUTER[0].parse().unwrap(), 53), question(name, RecordType::A));
    harbour.yard.at(machine, move || {
        let mut stream = TcpStream::connect(to).unwrap();
        stream.write_all(&(octets.len() as u16).to_be_bytes()).unwrap();
        stream.write_all(&octets).unwrap();
        let mut head = [0; 2];
        stream.read_exact(&mut head).unwrap();
        let mut answer = vec![0; usize::from(u16::from_be_bytes(head))];
        stream.read_exact(&mut answer).unwrap();
        addresses(&answer)
    })
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_name_leads_to_is_open_before_whoever_asked_is_told() {
    if !Harbour::is_caged("yard::names::what_a_name_leads_to_is_open_before_whoever_asked_is_told") {
        return;
    }
    let harbour = Harbour::new(without_terms).await;
    harbour.yard.serve();
    let mut resolver = dnsmasq(&harbour);
    // The tablet reaches the cranes by name as well, and nobody knew where that name leads.
    assert!(!harbour.reaches("tablet", SITE[0], 22));
    eventually("the resolver answers", async || asks(&harbour, "tablet", ROUTER[0], "other.example", RecordType::A).is_some())
        .await;
    assert!(!harbour.reaches("tablet", SITE[0], 22), "another name that leads there opens nothing");
    let told = asks(&harbour, "tablet", ROUTER[1], "Tower.Cranes.havrelune.example", RecordType::A).unwrap();
    assert!(harbour.reaches("tablet", SITE[0], 22), "at once");
    assert_eq!(told, [SITE[0].parse::<IpAddr>().unwrap()]);
    assert!(!harbour.reaches("tablet", SITE[0], 80), "on its services alone");
    assert!(!harbour.reaches("tablet", SITE[1], 22), "nobody asked for the other family");
    asks(&harbour, "tablet", ROUTER[0], "tower.cranes.havrelune.example", RecordType::AAAA).unwrap();
    assert!(harbour.reaches("tablet", SITE[1], 22) && harbour.reaches("tablet", CRANE[1], 22));
    assert_eq!(asks_by_tcp(&harbour, "visitor", "tower.cranes.havrelune.example"), [SITE[0].parse::<IpAddr>().unwrap()]);
    assert!(!harbour.reaches("visitor", SITE[0], 22), "a name gives nothing to whoever has not the reach");
    // Whoever answers for a name would open the router itself.
    assert_eq!(
        asks(&harbour, "tablet", ROUTER[0], "lies.cranes.havrelune.example", RecordType::A).unwrap(),
        [ROUTER[0].parse::<IpAddr>().unwrap()]
    );
    let (_, named) = harbour.yard.on("internet", "true");
    assert_eq!(named, "");
    let listed = passeur_standins::cage::run("nft list set inet passeur host4-crane-hosts");
    assert!(listed.contains(SITE[0]) && !listed.contains(ROUTER[0]), "{listed}");
    // Not a question, too long, or from where no zone is: no answer, and the next one is answered.
    let flood = harbour.yard.at("visitor", || {
        let socket = UdpSocket::bind("0.0.0.0:0").unwrap();
        for n in 0..3_000usize {
            let _ = socket.send_to(&vec![0xff; n % 1_400], (ROUTER[0], 53));
        }
        socket.set_read_timeout(Some(Duration::from_millis(200))).unwrap();
        socket.recv(&mut [0; 10]).is_ok()
    });
    assert!(!flood);
    eventually("the tablet is answered", async || asks(&harbour, "tablet", ROUTER[0], "other.example", RecordType::A).is_some())
        .await;
    assert_eq!(asks(&harbour, "internet", "10.88.0.1", "other.example", RecordType::A), None, "no resolver for everybody");
    // An edition without the name takes away what it opened.
    let without = harbour.stack.site.replace(", \"*.cranes.havrelune.example\"", "");
    harbour.stack.publish(&without).await;
    assert!(!harbour.reaches("tablet", SITE[0], 22) && harbour.reaches("tablet", CRANE[0], 22));
    resolver.kill().unwrap();
    resolver.wait().unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn an_unknown_machine_that_asks_elsewhere_is_answered_here_and_every_other_way_out_is_refused_at_once() {
    if !Harbour::is_caged(
        "yard::names::an_unknown_machine_that_asks_elsewhere_is_answered_here_and_every_other_way_out_is_refused_at_once",
    ) {
        return;
    }
    let with = |site: String| {
        let resolver = format!("interface = \"yard0\"\nresolver = [\"{}\", \"{}\"]", ROUTER[0], ROUTER[1]);
        without_terms(site).replacen("interface = \"yard0\"", &resolver, 1)
    };
    let harbour = Harbour::new(with).await;
    harbour.yard.serve();
    let mut resolver = dnsmasq(&harbour);
    eventually("a foreign resolver's question is answered by ours", async || {
        asks(&harbour, "visitor", SITE[0], "other.example", RecordType::A).is_some()
    })
    .await;
    assert_eq!(asks(&harbour, "visitor", SITE[1], "other.example", RecordType::A).unwrap(), [SITE[0].parse::<IpAddr>().unwrap()]);
    // Over other ports (DNS over TLS), by QUIC, and whatever else: refused at once, not lost.
    assert!(!harbour.reaches("visitor", SITE[0], 853) && !harbour.reaches("visitor", SITE[0], 443));
    let quic = |machine: &'static str| {
        harbour.yard.at(machine, || {
            let socket = UdpSocket::bind((VISITOR.addresses[0], 0)).unwrap();
            socket.set_read_timeout(Some(Duration::from_secs(3))).unwrap();
            socket.connect((SITE[0], 443)).unwrap();
            socket.send(&[0xc0; 1_200]).unwrap();
            socket.recv(&mut [0; 10]).unwrap_err().kind()
        })
    };
    // "Administratively prohibited" (RFC 1812 5.2.7.1), which a socket reports as unreachable.
    assert_eq!(quic("visitor"), std::io::ErrorKind::HostUnreachable);
    // What its browser asked for is proposed, with why; by either of its addresses, and nothing of a machine that is on.
    let stack = &harbour.stack;
    let proposed = async |machine: &str| {
        let (status, said) = stack.post(&format!("/zones/yard/proposal?seen_from={machine}"), serde_json::json!({})).await;
        assert_eq!(status, 200, "{said}");
        said
    };
    let asked = |said: &serde_json::Value| {
        let needs = said["needs"].as_array().unwrap().clone();
        needs.into_iter().filter(|n| n["code"] == "asked").map(|n| n["host"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    for address in VISITOR.addresses {
        let said = proposed(address).await;
        assert_eq!(asked(&said), ["other.example"], "{said}");
        let document = said["document"].as_str().unwrap();
        assert!(
            document.contains("name = \"yard-asked-443\"") && document.contains("# Keep what signing in needs"),
            "{document}"
        );
    }
    asks(&harbour, "tablet", ROUTER[0], "of.a.tablet.example", RecordType::A);
    assert_eq!(asked(&proposed("10.70.0.10").await), Vec::<String>::new(), "it is on");
    on(&harbour, "farid").await;
    assert!(harbour.reaches("visitor", SITE[0], 443));
    asks(&harbour, "visitor", ROUTER[0], "of.farid.example", RecordType::A);
    assert_eq!(asked(&proposed(VISITOR.addresses[0]).await), ["other.example"], "nobody reads where farid goes");
    let survey = harbour.stack.post("/survey", serde_json::json!({})).await.1.to_string();
    assert!(!survey.contains("zone.names-unseen") && !survey.contains("zone.resolver-elsewhere"), "{survey}");
    resolver.kill().unwrap();
    resolver.wait().unwrap();
}
