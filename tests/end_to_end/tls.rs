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
