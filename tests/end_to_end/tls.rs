//! Our own listeners under TLS: the certificate by name, HTTP/1.1 and HTTP/2, certificates exchanged while it runs.

use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;

use passeur_links::resolve::Resolver;
use reqwest::{Certificate, Client, Version};
use rustls::pki_types::ServerName;
use tokio::net::TcpStream;

use crate::support::{Authority, Stack, eventually};

/// The demo with its gate at the TLS port.
async fn stack(folder: &Path) -> (Stack, u16) {
    let port = std::sync::Mutex::new(0);
    let stack = Stack::with_tls(Some(folder.to_owned()), |site, tls| {
        *port.lock().unwrap() = tls;
        let at = site.find("address = \"http://berths").unwrap();
        let end = at + site[at..].find('\n').unwrap();
        format!("{}address = \"https://berths.havrelune.localhost:{tls}\"{}", &site[..at], &site[end..])
    })
    .await;
    let port = *port.lock().unwrap();
    (stack, port)
}

fn client(authority: &Authority) -> reqwest::ClientBuilder {
    Client::builder().dns_resolver(Resolver).no_proxy().tls_certs_only([Certificate::from_der(&authority.der()).unwrap()])
}

/// The certificate a listener shows for a name; none when the handshake fails.
async fn shown(authority: &Authority, address: SocketAddr, name: &str) -> Option<Vec<u8>> {
    let mut roots = rustls::RootCertStore::empty();
    roots.add(authority.der()).unwrap();
    let config = rustls::ClientConfig::builder().with_root_certificates(roots).with_no_client_auth();
    let tcp = TcpStream::connect(address).await.unwrap();
    let name = ServerName::try_from(name.to_owned()).unwrap();
    let stream = tokio_rustls::TlsConnector::from(Arc::new(config)).connect(name, tcp).await.ok()?;
    Some(stream.get_ref().1.peer_certificates()?.first()?.to_vec())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_gate_is_served_under_tls_by_both_versions_of_http() {
    let authority = Authority::new("tls");
    authority.issue_files("*.havrelune.localhost");
    let (stack, port) = stack(&authority.folder).await;
    let url = format!("https://berths.havrelune.localhost:{port}/received");
    for (builder, version) in [(client(&authority), Version::HTTP_2), (client(&authority).http1_only(), Version::HTTP_11)] {
        let answer = builder.build().unwrap().get(&url).header("accept", "application/json").send().await.unwrap();
        assert_eq!((answer.status().as_u16(), answer.version()), (401, version));
        assert_eq!(answer.headers()["content-type"], "application/problem+json");
    }
    // A navigating browser is sent to sign in, and its binding cookie has the prefix that a sibling host cannot set.
    let http = client(&authority).redirect(reqwest::redirect::Policy::none()).build().unwrap();
    let answer = http.get(&url).header("accept", "text/html").send().await.unwrap();
    assert_eq!(answer.status(), 303);
    let cookie = answer.headers()["set-cookie"].to_str().unwrap().to_owned();
    assert!(cookie.starts_with("__Host-passeur-binding=") && cookie.contains("; Secure"), "{cookie}");
    drop(stack);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_certificate_follows_the_name_and_is_exchanged_while_it_runs() {
    let authority = Authority::new("names");
    authority.issue_files("*.havrelune.localhost");
    authority.issue_files("berths.havrelune.localhost");
    let (_stack, port) = stack(&authority.folder).await;
    let address = SocketAddr::from(([127, 0, 0, 1], port));
    let of = async |name: &str| shown(&authority, address, name).await;
    let (berths, other) = (of("berths.havrelune.localhost").await, of("locks.havrelune.localhost").await);
    assert!(berths.is_some() && other.is_some() && berths != other, "the exact name wins over the asterisk");
    for stranger in ["havrelune.localhost", "a.b.havrelune.localhost", "evil.example"] {
        assert!(of(stranger).await.is_none(), "{stranger}");
    }
    authority.issue_files("berths.havrelune.localhost");
    eventually("the new certificate is shown", async || of("berths.havrelune.localhost").await != berths).await;
    // A file that cannot be used leaves the last good ones.
    let good = of("berths.havrelune.localhost").await;
    std::fs::write(authority.folder.join("berths.havrelune.localhost.key"), "not a key").unwrap();
    std::fs::write(authority.folder.join("zz.pem"), "nothing").unwrap();
    let restarted = passeur_gateway_reads(&authority.folder);
    assert!(restarted.contains("no key can be read"), "{restarted}");
    assert_eq!(of("berths.havrelune.localhost").await, good);
}

/// What a start with this folder would say.
fn passeur_gateway_reads(folder: &Path) -> String {
    passeur_gateway::tls::Certificates::read(folder).map(|_| String::new()).unwrap_or_else(|e| e.to_string())
}

fn count(node: &serde_json::Value, name: &str) -> u64 {
    let all = node["counters"].as_array().unwrap();
    all.iter().find(|c| c["name"] == name).unwrap_or_else(|| panic!("{node}"))["count"].as_u64().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn handshakes_that_go_nowhere_are_capped_for_each_address() {
    let authority = Authority::new("handshakes");
    authority.issue_files("*.havrelune.localhost");
    let (stack, port) = stack(&authority.folder).await;
    let mut held = vec![];
    for _ in 0..100 {
        held.push(TcpStream::connect(("127.0.0.1", port)).await.unwrap());
    }
    eventually("those above the cap are turned away", async || count(&stack.get("/node").await, "turned away, handshakes") >= 36)
        .await;
    drop(held);
    let url = format!("https://berths.havrelune.localhost:{port}/");
    let http = client(&authority).build().unwrap();
    eventually("places come back", async || http.get(&url).send().await.is_ok_and(|a| a.status() == 401)).await;
}

/// An HTTP/2 frame (RFC 9113 4.1).
fn frame(kind: u8, flags: u8, stream: u32, payload: &[u8]) -> Vec<u8> {
    let mut out = (payload.len() as u32).to_be_bytes()[1..].to_vec();
    out.extend([kind, flags]);
    out.extend(stream.to_be_bytes());
    out.extend(payload);
    out
}

/// A GET of `/` in indexed and literal fields (RFC 7541 6).
fn get(authority: &str) -> Vec<u8> {
    let mut block = vec![0x82, 0x87, 0x84, 0x41, authority.len() as u8];
    block.extend(authority.as_bytes());
    block
}

/// Sends what `next` makes until the other side ends the connection; says what it sent last and how much went out.
async fn flood(authority: &Authority, port: u16, mut next: impl FnMut(u32) -> Vec<u8>) -> (Vec<u8>, usize) {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    let mut roots = rustls::RootCertStore::empty();
    roots.add(authority.der()).unwrap();
    let mut config = rustls::ClientConfig::builder().with_root_certificates(roots).with_no_client_auth();
    config.alpn_protocols = vec![b"h2".to_vec()];
    let tcp = TcpStream::connect(("127.0.0.1", port)).await.unwrap();
    let name = ServerName::try_from("berths.havrelune.localhost").unwrap();
    let stream = tokio_rustls::TlsConnector::from(Arc::new(config)).connect(name, tcp).await.unwrap();
    let (mut read, mut write) = tokio::io::split(stream);
    let reader = tokio::spawn(async move {
        let mut all = vec![];
        let _ = read.read_to_end(&mut all).await;
        all
    });
    let mut sent = 0;
    let _ = write.write_all(b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n").await;
    let _ = write.write_all(&frame(4, 0, 0, &[])).await;
    for i in 0..20_000 {
        let bytes = next(i);
        if reader.is_finished() || write.write_all(&bytes).await.is_err() {
            break;
        }
        sent += bytes.len();
    }
    let _ = write.shutdown().await;
    (tokio::time::timeout(std::time::Duration::from_secs(20), reader).await.expect("it ends").unwrap(), sent)
}

/// Whether a GOAWAY (RFC 9113 6.8) with an error stands in what came back.
fn was_sent_away(all: &[u8]) -> bool {
    let mut rest = all;
    while rest.len() >= 9 {
        let length = u32::from_be_bytes([0, rest[0], rest[1], rest[2]]) as usize;
        if rest[3] == 7 && rest.len() >= 17 && rest[13..17] != [0; 4] {
            return true;
        }
        rest = rest.get(9 + length..).unwrap_or_default();
    }
    false
}

#[tokio::test(flavor = "multi_thread")]
async fn floods_of_resets_and_of_continuations_cost_the_connection() {
    let authority = Authority::new("floods");
    authority.issue_files("*.havrelune.localhost");
    let (stack, port) = stack(&authority.folder).await;
    let host = format!("berths.havrelune.localhost:{port}");
    let block = get(&host);
    // Streams opened and reset at once (RFC 9113 10.5).
    let (answer, _) = flood(&authority, port, |i| {
        let stream = 2 * i + 1;
        let mut out = frame(1, 0x5, stream, &block);
        out.extend(frame(3, 0, stream, &8u32.to_be_bytes()));
        out
    })
    .await;
    assert!(was_sent_away(&answer), "resets: {} bytes came back", answer.len());
    // A head without an end.
    let field = [&[0x00, 0x01, b'x', 0x7f, 0xe1, 0x1e][..], &[b'a'; 4_000][..]].concat();
    let (answer, sent) =
        flood(&authority, port, |i| if i == 0 { frame(1, 0x1, 1, &block) } else { frame(9, 0, 1, &field) }).await;
    assert!(sent < 20 << 20, "continuations: {sent} bytes were taken");
    assert!(was_sent_away(&answer) || sent < 4 << 20, "continuations: {} bytes came back", answer.len());
    eventually("both are counted", async || count(&stack.get("/node").await, "connections broken") >= 1).await;
    let http = client(&authority).build().unwrap();
    assert_eq!(http.get(format!("https://{host}/")).send().await.unwrap().status(), 401, "others are served on");
}
