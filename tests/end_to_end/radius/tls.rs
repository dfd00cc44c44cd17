//! RADIUS over TLS, as it was and as RADIUS/1.1: what a connection proves, who is none of a client, and orders to one.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use passeur_service::config::Tls;
use rcgen::{Certificate, KeyPair};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName};
use serde_json::json;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::{TcpListener, TcpSocket, TcpStream};
use tokio_rustls::client::TlsStream;
use tokio_rustls::{TlsAcceptor, TlsConnector};

use super::{ACCEPT, FILTER, PASSWORD, RADIUS, REJECT, REPLY, USER};
use crate::support::{Authority, Nas, Stack, Where, eventually, on_port};

const SWITCH: &str = "127.0.0.14";
const NAME: &str = "switch-3.havrelune.localhost";

struct Switch {
    authority: Authority,
    stack: Stack,
    own: (Certificate, KeyPair),
    /// Where the switch takes orders.
    orders: TcpListener,
}

/// The harbour with a switch that asks over TLS; `proof` says what proves it.
async fn switch(proof: impl FnOnce(&Authority, &Certificate) -> String) -> Switch {
    let authority = Authority::new("radius");
    authority.issue_files("*.havrelune.localhost");
    let own = authority.issue(NAME);
    let orders = TcpListener::bind((SWITCH, 0)).await.unwrap();
    let part = format!(
        "\n[[radius-client]]\nname = \"quay-switches\"\ntitle = \"the switches of the quays\"\naddresses = [\"{SWITCH}\"]\n{}\n\
         dynamic-authorization = {}\n",
        proof(&authority, &own.0),
        orders.local_addr().unwrap().port()
    );
    let tls = Tls { listen: "127.0.0.1:0".parse().unwrap(), certificates: authority.folder.clone() };
    let place = Where { radius: true, tls: Some(tls), ..Where::default() };
    let radius = RADIUS.replace("[\"quay-gateway\", \"quay-doors\"]", "[\"quay-gateway\", \"quay-doors\", \"quay-switches\"]");
    let stack = Stack::guarding(place, |site| format!("{site}\n{}{part}", on_port(&site, &radius))).await;
    Switch { authority, stack, own, orders }
}

fn pinned(_: &Authority, own: &Certificate) -> String {
    format!("certificates = ['''{}''']", own.pem())
}

fn key(pair: &KeyPair) -> PrivateKeyDer<'static> {
    PrivateKeyDer::from_pem_slice(pair.serialize_pem().as_bytes()).unwrap()
}

impl Switch {
    /// Connects from an address, with a certificate or none, by one of these protocols.
    async fn connects(
        &self,
        from: &str,
        own: Option<&(Certificate, KeyPair)>,
        protocols: &[&str],
    ) -> std::io::Result<TlsStream<TcpStream>> {
        let mut roots = rustls::RootCertStore::empty();
        roots.add(self.authority.der()).unwrap();
        let config = rustls::ClientConfig::builder().with_root_certificates(roots);
        let mut config = match own {
            Some((certificate, pair)) => config.with_client_auth_cert(vec![certificate.der().clone()], key(pair)).unwrap(),
            None => config.with_no_client_auth(),
        };
        config.alpn_protocols = protocols.iter().map(|p| p.as_bytes().to_vec()).collect();
        let socket = TcpSocket::new_v4().unwrap();
        socket.bind(SocketAddr::new(from.parse().unwrap(), 0)).unwrap();
        let stream = socket.connect(self.stack.radius_tls()).await?;
        let name = ServerName::try_from("pass.havrelune.localhost").unwrap();
        TlsConnector::from(Arc::new(config)).connect(name, stream).await
    }

    /// Packets of RADIUS as it was, in a connection.
    async fn nas(&self) -> Nas {
        Nas::at(SWITCH, self.stack.radius(), "radsec").await
    }

    async fn is_told(&self, words: &str) {
        super::is_told(&self.stack, words).await;
    }
}

/// The next packet; none where the other end closed.
async fn next(stream: &mut (impl AsyncRead + Unpin)) -> Option<Vec<u8>> {
    let read = async {
        let mut octets = vec![0; 4];
        stream.read_exact(&mut octets).await.ok()?;
        octets.resize(usize::from(u16::from_be_bytes([octets[2], octets[3]])), 0);
        stream.read_exact(&mut octets[4..]).await.ok()?;
        Some(octets)
    };
    tokio::time::timeout(Duration::from_secs(20), read).await.expect("it says something or closes")
}

async fn asks(stream: &mut (impl AsyncRead + AsyncWrite + Unpin), octets: &[u8]) -> Option<Vec<u8>> {
    stream.write_all(octets).await.ok()?;
    stream.flush().await.ok()?;
    next(stream).await
}

/// A packet of RADIUS/1.1 (RFC 9765 section 4.2): a token, no proofs, and nothing hidden.
fn plain(code: u8, token: u32, attributes: &[(u8, &[u8])]) -> Vec<u8> {
    let mut out = vec![code, 0, 0, 0];
    out.extend(token.to_be_bytes());
    out.extend([0; 12]);
    for (kind, value) in attributes {
        out.extend([*kind, u8::try_from(value.len() + 2).unwrap()]);
        out.extend(*value);
    }
    let length = u16::try_from(out.len()).unwrap().to_be_bytes();
    out[2..4].copy_from_slice(&length);
    out
}

/// Texts of a kind in an answer.
fn texts(octets: &[u8], kind: u8) -> Vec<String> {
    let (mut at, mut out) = (20, vec![]);
    while at + 2 <= octets.len() {
        let length = usize::from(octets[at + 1]);
        if octets[at] == kind {
            out.push(String::from_utf8_lossy(&octets[at + 2..at + length]).into_owned());
        }
        at += length;
    }
    out
}

#[tokio::test(flavor = "multi_thread")]
async fn a_switch_asks_and_tells_over_one_connection_that_its_certificate_proves() {
    let switch = switch(pinned).await;
    let nas = switch.nas().await;
    // As it was (RFC 6614): many requests over one connection, with the secret that everybody knows, and with a proof or without.
    for protocols in [&[][..], &["radius/1.0"]] {
        let mut stream = switch.connects(SWITCH, Some(&switch.own), protocols).await.unwrap();
        let alive = nas.packet(12, 1, [1; 16], &[], true);
        assert_eq!(nas.reads(&alive, &asks(&mut stream, &alive).await.unwrap()).code, ACCEPT, "somebody is there");
        let user: (u8, &[u8]) = (USER, b"anouk");
        let request = nas.request(&[user, (PASSWORD, b"spring-tide")]);
        let told = nas.reads(&request, &asks(&mut stream, &request).await.unwrap());
        assert_eq!((told.code, told.texts(FILTER)), (ACCEPT, vec!["quay-staff".to_owned()]), "{told:?}");
        let request = nas.packet(1, 8, [8; 16], &[user, (PASSWORD, b"wrong")], false);
        let told = nas.reads(&request, &asks(&mut stream, &request).await.unwrap());
        assert_eq!(told.code, REJECT, "{told:?}");
        let told = asks(&mut stream, &nas.accounting(&[(40, &[0, 0, 0, 7]), (4, &[127, 0, 0, 14])])).await.unwrap();
        assert_eq!(told[0], 5, "what it tells is written");
    }
    // RADIUS/1.1: two requests at once are told apart by their tokens, and a password is what it is.
    let mut stream = switch.connects(SWITCH, Some(&switch.own), &["radius/1.0", "radius/1.1"]).await.unwrap();
    assert_eq!(stream.get_ref().1.alpn_protocol(), Some(&b"radius/1.1"[..]), "the better one is chosen");
    let both = [
        plain(1, 77, &[(USER, b"anouk"), (PASSWORD, b"wrong")]),
        plain(1, 78, &[(USER, b"lucie"), (PASSWORD, b"keeper-of-keys"), (33, b"a proxy's")]),
    ];
    stream.write_all(&both.concat()).await.unwrap();
    let mut said = std::collections::BTreeMap::new();
    for _ in both {
        let octets = next(&mut stream).await.unwrap();
        assert_eq!((octets[1], &octets[8..20]), (0, &[0; 12][..]), "an identifier is none, and nothing stands behind the token");
        assert!(texts(&octets, 80).is_empty(), "no proof is in it");
        said.insert(u32::from_be_bytes(octets[4..8].try_into().unwrap()), octets);
    }
    assert_eq!((said[&77][0], said[&78][0]), (REJECT, ACCEPT), "{:?}", texts(&said[&78], REPLY));
    assert_eq!(texts(&said[&78], 33), ["a proxy's"]);
    let told = asks(&mut stream, &plain(4, 79, &[(40, &[0, 0, 0, 7]), (4, &[127, 0, 0, 14])])).await.unwrap();
    assert_eq!((told[0], &told[4..8]), (5, &[0, 0, 0, 79][..]));
    switch.stack.settle().await;
    let on = switch.stack.get("/presences?gate=quays").await;
    assert_eq!(on["presences"].as_array().unwrap().len(), 0, "nobody is on at a switch that starts: {on}");
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_is_not_the_switch_asks_nothing_over_tls() {
    let switch = switch(|authority, _| {
        let pem = std::fs::read_to_string(authority.file()).unwrap();
        format!("authorities = ['''{pem}''']\nhost = \"{NAME}\"")
    })
    .await;
    let alive = plain(12, 1, &[]);
    let new = ["radius/1.1"];
    // The name that the authority certified.
    let mut stream = switch.connects(SWITCH, Some(&switch.own), &new).await.unwrap();
    assert_eq!(asks(&mut stream, &alive).await.unwrap()[0], ACCEPT);
    // From where no such client sends there is no handshake, whatever is shown.
    assert!(switch.connects("127.0.0.13", Some(&switch.own), &new).await.is_err());
    switch.is_told("A RADIUS request came from 127.0.0.13, where no client sends from").await;
    // No certificate, another name of the authority, and the name by another authority.
    let other = Authority::new("other");
    for (own, why) in [
        (None, "it showed none"),
        (Some(switch.authority.issue("switch-4.havrelune.localhost")), "it is not of switch-3.havrelune.localhost"),
        (Some(other.issue(NAME)), "none of these authorities issued it"),
        (Some(switch.authority.issue_with(NAME, |p| p.not_after = rcgen::date_time_ymd(2020, 1, 1))), "it ran out"),
        (
            Some(switch.authority.issue_with(NAME, |p| p.extended_key_usages = vec![rcgen::ExtendedKeyUsagePurpose::ServerAuth])),
            "its extended key usage is another",
        ),
    ] {
        let mut stream = switch.connects(SWITCH, own.as_ref(), &new).await.unwrap();
        assert_eq!(asks(&mut stream, &alive).await, None, "{why}");
        switch.is_told(why).await;
    }
    // What is no TLS, and a client that speaks another protocol in it.
    let raw = TcpSocket::new_v4().unwrap();
    raw.bind(SocketAddr::new(SWITCH.parse().unwrap(), 0)).unwrap();
    let mut stream = raw.connect(switch.stack.radius_tls()).await.unwrap();
    stream.write_all(&alive).await.unwrap();
    let mut rest = vec![];
    let _ = stream.read_to_end(&mut rest).await;
    switch.is_told("came to no TLS").await;
    assert!(switch.connects(SWITCH, Some(&switch.own), &["h2"]).await.is_err());
    // A client with a certificate asks nothing by UDP, also with the secret that everybody knows.
    let nas = switch.nas().await;
    nas.send(&nas.packet(12, 1, [1; 16], &[], true)).await;
    assert_eq!(nas.heard(Duration::from_millis(300)).await, None);
    switch.is_told("asked without TLS").await;
    // What is no packet, a proof that is wrong, and a code that no server takes: the connection is over.
    for (protocols, octets) in [
        (&["radius/1.1"][..], vec![1, 0, 0, 3]),
        (&["radius/1.1"], vec![1, 0, 255, 255]),
        (&["radius/1.1"], plain(99, 1, &[])),
        (&["radius/1.1"], plain(40, 1, &[])),
        (&["radius/1.0"], Nas::at(SWITCH, switch.stack.radius(), "another").await.request(&[(USER, b"anouk")])),
        (&["radius/1.0"], Nas::at(SWITCH, switch.stack.radius(), "another").await.accounting(&[(40, &[0, 0, 0, 7])])),
    ] {
        let mut stream = switch.connects(SWITCH, Some(&switch.own), protocols).await.unwrap();
        assert_eq!(asks(&mut stream, &octets).await, None, "{octets:?}");
    }
    // The survey names it, as long as what came of late is kept.
    let (_, survey) = switch.stack.post("/survey", json!({})).await;
    assert!(survey.to_string().contains("radius.certificate-fails"), "{survey}");
    // Taken out of the site file, an open connection asks nothing more.
    let mut stream = switch.connects(SWITCH, Some(&switch.own), &new).await.unwrap();
    assert_eq!(asks(&mut stream, &alive).await.unwrap()[0], ACCEPT);
    let without = switch.stack.site.replace(&format!("host = \"{NAME}\""), "host = \"switch-5.havrelune.localhost\"");
    assert_eq!(switch.stack.publish(&without).await.0, 200);
    assert_eq!(asks(&mut stream, &alive).await, None);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_that_is_ended_here_is_ended_at_the_switch_over_tls() {
    let switch = switch(pinned).await;
    let mut stream = switch.connects(SWITCH, Some(&switch.own), &["radius/1.1"]).await.unwrap();
    let request = plain(1, 5, &[(USER, b"anouk"), (PASSWORD, b"spring-tide"), (44, b"port-7"), (4, &[127, 0, 0, 14])]);
    assert_eq!(asks(&mut stream, &request).await.unwrap()[0], ACCEPT);
    let ends = async {
        let all = switch.stack.get("/sessions").await;
        let of = all.as_array().unwrap().iter().find(|s| s["name"].to_string().contains("anouk")).unwrap()["id"].clone();
        switch.stack.post("/sessions/end", json!({"sessions": [of]})).await;
    };
    let takes = async |own: &(Certificate, KeyPair), says: Option<u8>| {
        let config = rustls::ServerConfig::builder().with_client_cert_verifier(
            rustls::server::WebPkiClientVerifier::builder(Arc::new({
                let mut roots = rustls::RootCertStore::empty();
                roots.add(switch.authority.der()).unwrap();
                roots
            }))
            .build()
            .unwrap(),
        );
        let mut config = config.with_single_cert(vec![own.0.der().clone()], key(&own.1)).unwrap();
        config.alpn_protocols = vec![b"radius/1.1".to_vec()];
        let (tcp, _) = tokio::time::timeout(Duration::from_secs(60), switch.orders.accept()).await.expect("it orders").unwrap();
        let mut stream = TlsAcceptor::from(Arc::new(config)).accept(tcp).await.unwrap();
        let shown: Vec<CertificateDer<'static>> = stream.get_ref().1.peer_certificates().unwrap().to_vec();
        assert!(!shown.is_empty(), "the service shows who it is");
        let order = next(&mut stream).await?;
        if let Some(code) = says {
            let mut answer = plain(code, 0, &[]);
            answer[4..8].copy_from_slice(&order[4..8]);
            stream.write_all(&answer).await.unwrap();
            stream.flush().await.unwrap();
        }
        Some(order)
    };
    // Somebody else at that port is told nothing: the order comes again, and the switch says yes.
    let stranger = switch.authority.issue("stranger.havrelune.localhost");
    let ((), first) = tokio::join!(ends, takes(&stranger, Some(41)));
    assert_eq!(first, None, "nobody but the switch hears whose session is to end");
    let order = takes(&switch.own, Some(41)).await.unwrap();
    assert_eq!((order[0], order[1], texts(&order, 44)), (40, 0, vec!["port-7".to_owned()]));
    assert!(texts(&order, 80).is_empty() && !texts(&order, 55).is_empty(), "{order:?}");
    switch.is_told("to end the session: ").await;
    eventually("it is over there", async || switch.stack.get("/presences?gate=quays").await["presences"] == json!([])).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn another_implementation_asks_over_tls() {
    let switch = switch(pinned).await;
    let folder = &switch.authority.folder;
    let (certificate, key) = (folder.join("switch.crt"), folder.join("switch.secret"));
    std::fs::write(&certificate, switch.own.0.pem()).unwrap();
    std::fs::write(&key, switch.own.1.serialize_pem()).unwrap();
    let peer = concat!(env!("CARGO_MANIFEST_DIR"), "/peers/gateway_tls.py");
    let port = switch.stack.radius_tls().port().to_string();
    let of = |path: &std::path::Path| path.display().to_string();
    let ran = tokio::process::Command::new("/usr/bin/python3")
        .args([peer, "127.0.0.1", &port, SWITCH, &of(&switch.authority.file()), &of(&certificate), &of(&key), "anouk"])
        .args(["wrong", "spring-tide"])
        .kill_on_drop(true)
        .output();
    let ran = tokio::time::timeout(Duration::from_secs(60), ran).await.expect("it ends").unwrap();
    let said = String::from_utf8_lossy(&ran.stdout).into_owned();
    let lines: Vec<serde_json::Value> = said.lines().map(|l| serde_json::from_str(l).unwrap()).collect();
    let wanted = [
        json!({"code": REJECT, "proven": true, "filters": []}),
        json!({"code": ACCEPT, "proven": true, "filters": ["quay-staff"]}),
    ];
    assert_eq!(lines, wanted, "{said}{}", String::from_utf8_lossy(&ran.stderr));
}
