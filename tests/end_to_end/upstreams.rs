//! Applications as they fail: each failure is told apart, and a request is repeated only where that is safe.

use std::sync::Arc;

use passeur_standins::{ledger, serve};
use reqwest::Method;
use rustls::pki_types::PrivateKeyDer;
use tokio::io::AsyncWriteExt;

use crate::support::{Authority, OK, Person, Scripted, Stack, eventually, read_request};

pub use crate::support::stack::{at, instead};

#[tokio::test(flavor = "multi_thread")]
async fn an_address_that_is_gone_is_passed_over_and_told_of() {
    let (address, task) = serve("127.0.0.1:0".parse().unwrap(), ledger::router()).await.unwrap();
    let stack = Stack::with(|s| instead(s, &format!("upstreams = [\"http://127.0.0.1:1\", \"http://{address}\"]"))).await;
    // Which address a session meets first is chosen by its random id: soon one meets the one that is gone.
    for user in ["anouk", "benoit", "elodie", "jonas", "klara"].into_iter().cycle().take(60) {
        let mut person = Person::new();
        let page = person.sign_in(&stack.gate("/received"), user).await;
        assert_eq!(page.status, 200, "{user}: {}", page.body);
        let posted = person.send(Method::POST, &stack.gate("/received"), Some(&[("a", "b")])).await;
        assert_eq!(posted.status, 200, "nothing was written to the one that is gone: a form may go elsewhere");
        if stack.get("/gates").await[0]["upstreams"][0]["failures"] != 0 {
            break;
        }
    }
    let upstreams = stack.get("/gates").await[0]["upstreams"].clone();
    assert!(upstreams[0]["failures"].as_u64().unwrap() > 0, "of many sessions one at least meets it first: {upstreams}");
    assert!(upstreams[0]["last_failure"].as_str().unwrap().contains("refused"), "{upstreams}");
    assert_eq!(upstreams[1]["failures"], 0);
    task.abort();
}

#[tokio::test(flavor = "multi_thread")]
async fn health_decides_where_requests_go_and_draining_takes_nothing_new() {
    let sick =
        Scripted::new(vec![vec![Some("HTTP/1.1 503 Unavailable\r\nContent-Length: 0\r\nConnection: close\r\n\r\n")]]).await;
    let (well, task) = serve("127.0.0.1:0".parse().unwrap(), ledger::router()).await.unwrap();
    let both = format!(
        "upstreams = [\"http://{}\", \"http://{well}\"]\nhealth = {{ path = \"/received\", every = \"1s\" }}",
        sick.address
    );
    let stack = Stack::with(|s| instead(s, &both)).await;
    eventually("the sick one is seen", async || stack.get("/gates").await[0]["upstreams"][0]["well"] == false).await;
    for user in ["anouk", "benoit", "elodie", "jonas"] {
        assert_eq!(Person::new().sign_in(&stack.gate("/received"), user).await.status, 200);
    }
    let asked = sick.requests();
    assert!(asked.iter().all(|r| r.contains("passeur-health")), "{asked:#?}");
    let drained = instead(
        stack.site.replace(&both, "upstream = \"x\""),
        &format!("upstreams = [\"http://{}\", \"http://{well}\"]\ndraining = [\"http://{}\"]", sick.address, sick.address),
    );
    assert_eq!(stack.publish(&drained).await.0, 200);
    assert_eq!(Person::new().sign_in(&stack.gate("/received"), "marc").await.status, 200);
    assert_eq!(stack.get("/gates").await[0]["upstreams"][0]["draining"], true);
    task.abort();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_lost_connection_repeats_what_is_safe_and_nothing_else() {
    // The first connection answers once and closes at the second request; every further one answers.
    let lost = || vec![vec![Some(OK), None], vec![Some(OK), Some(OK)]];
    let upstream = Scripted::new(lost()).await;
    let stack = Stack::with(|s| instead(s, &format!("upstream = \"http://{}\"", upstream.address))).await;
    let mut anouk = Person::new();
    assert_eq!(anouk.sign_in(&stack.gate("/one"), "anouk").await.status, 200);
    assert_eq!(anouk.send(Method::GET, &stack.gate("/two"), None).await.status, 200);
    let paths: Vec<String> = upstream.requests().iter().map(|r| r.split(' ').nth(1).unwrap().to_owned()).collect();
    // Which core serves a request is not fixed: on another core the connection is new and nothing is lost.
    assert!(paths == ["/one", "/two", "/two"] || paths == ["/one", "/two"], "{paths:?}");
    let refuses = Scripted::new(vec![vec![None]]).await;
    let stack = Stack::with(|s| instead(s, &format!("upstream = \"http://{}\"", refuses.address))).await;
    let mut anouk = Person::new();
    let page = anouk.sign_in(&stack.gate("/"), "anouk").await;
    assert_eq!(page.status, 502);
    let before = refuses.requests().len();
    let posted = anouk.send(Method::POST, &stack.gate("/form"), Some(&[("berth", "1")])).await;
    assert_eq!(posted.status, 502);
    assert_eq!(refuses.requests().len(), before + 1, "a form that may have been taken is never sent again");
    let story = stack.story(&posted.crossing()).await;
    assert!(story["why"].as_str().unwrap().contains("closed the connection before its answer was whole"), "{}", story["why"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_upstream_that_dies_mid_answer_cuts_the_answer_short_and_loses_its_connection() {
    let upstream =
        Scripted::new(vec![vec![Some("HTTP/1.1 200 OK\r\nContent-Length: 100\r\n\r\nonly this")], vec![Some(OK)]]).await;
    let stack = Stack::with(|s| instead(s, &format!("upstream = \"http://{}\"", upstream.address))).await;
    let anouk = stack.admitted("anouk").await;
    let answer = crate::support::raw(stack.address, &format!("GET /a HTTP/1.1\r\n{}\r\n\r\n", stack.head(&anouk))).await;
    assert!(answer.ends_with("only this"), "{answer}");
    let answer = crate::support::raw(stack.address, &format!("GET /b HTTP/1.1\r\n{}\r\n\r\n", stack.head(&anouk))).await;
    assert!(answer.ends_with("ok"), "{answer}");
}

#[tokio::test(flavor = "multi_thread")]
async fn interim_answers_are_passed_over_and_bounded() {
    const HINT: &str = "HTTP/1.1 103 Early Hints\r\nLink: </a.css>; rel=preload\r\n\r\n";
    let kind: &str = Box::leak(format!("{HINT}HTTP/1.1 102 Processing\r\n\r\n{OK}").into());
    let flood: &str = Box::leak(format!("{}{OK}", HINT.repeat(30_000)).into());
    let upstream = Scripted::new(vec![vec![Some(kind), Some(kind)], vec![Some(flood)]]).await;
    let stack = Stack::with(|s| instead(s, &format!("upstream = \"http://{}\"", upstream.address))).await;
    let mut anouk = Person::new();
    assert_eq!(anouk.sign_in(&stack.gate("/a"), "anouk").await.body, "ok");
    let mut last = anouk.send(Method::POST, &stack.gate("/b"), Some(&[("a", "b")])).await;
    // Which core serves a request is not fixed: it may be the first that meets the flood.
    if last.status == 200 {
        last = anouk.send(Method::POST, &stack.gate("/c"), Some(&[("a", "b")])).await;
    }
    assert_eq!(last.status, 502, "{}", last.body);
    let story = stack.story(&last.crossing()).await;
    assert!(story["why"].as_str().unwrap().contains("more than 1 MiB before its answer"), "{}", story["why"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_answer_before_the_whole_request_costs_the_connection() {
    let upstream = Scripted::new(vec![vec![Some("HTTP/1.1 413 Too Large\r\nContent-Length: 0\r\n\r\n")], vec![Some(OK)]]).await;
    let stack = Stack::with(|s| instead(s, &format!("upstream = \"http://{}\"", upstream.address))).await;
    let anouk = stack.admitted("anouk").await;
    let big = "x".repeat(300_000);
    let head = format!("POST /a HTTP/1.1\r\n{}\r\nContent-Length: {}\r\n\r\n{big}", stack.head(&anouk), big.len());
    let answer = crate::support::raw(stack.address, &head).await;
    assert!(answer.starts_with("HTTP/1.1 413") || answer.starts_with("HTTP/1.1 502"), "{answer}");
    let answer = crate::support::raw(stack.address, &format!("GET /b HTTP/1.1\r\n{}\r\n\r\n", stack.head(&anouk))).await;
    assert!(answer.ends_with("ok"), "{answer}");
    let second = upstream.requests().last().unwrap().clone();
    assert!(second.starts_with("GET /b "), "nothing of the first body is read as a request: {second}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_upstream_that_wants_to_authenticate_connections_is_a_finding_and_not_shared() {
    let challenge = "HTTP/1.1 401 Unauthorized\r\nWWW-Authenticate: NTLM\r\nContent-Length: 0\r\n\r\n";
    let upstream = Scripted::new(vec![vec![Some(challenge), Some(OK)]]).await;
    let stack = Stack::with(|s| instead(s, &format!("upstream = \"http://{}\"", upstream.address))).await;
    let mut anouk = Person::new();
    assert_eq!(anouk.sign_in(&stack.gate("/"), "anouk").await.status, 401);
    assert_eq!(anouk.send(Method::GET, &stack.gate("/"), None).await.status, 401, "a new connection each time");
    let finding = stack.get("/gates").await[0]["upstreams"][0]["finding"].clone();
    assert!(finding.as_str().unwrap().contains("NTLM"), "{finding}");
}

/// An application that speaks TLS, answering every request alike; with `clients` it asks for a certificate.
pub async fn tls_upstream(authority: &Authority, name: &str, clients: bool) -> std::net::SocketAddr {
    let (chain, key) = authority.issue(name);
    let builder = rustls::ServerConfig::builder();
    let key = PrivateKeyDer::try_from(key.serialize_der()).unwrap();
    let config = if clients {
        let mut roots = rustls::RootCertStore::empty();
        roots.add(authority.der()).unwrap();
        let verifier = rustls::server::WebPkiClientVerifier::builder(Arc::new(roots)).build().unwrap();
        builder.with_client_cert_verifier(verifier).with_single_cert(vec![chain.der().clone()], key).unwrap()
    } else {
        builder.with_no_client_auth().with_single_cert(vec![chain.der().clone()], key).unwrap()
    };
    let acceptor = tokio_rustls::TlsAcceptor::from(Arc::new(config));
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move {
        while let Ok((tcp, _)) = listener.accept().await {
            let acceptor = acceptor.clone();
            tokio::spawn(async move {
                let Ok(mut stream) = acceptor.accept(tcp).await else { return };
                while read_request(&mut stream).await.is_some() {
                    stream.write_all(OK.as_bytes()).await.unwrap();
                }
            });
        }
    });
    address
}

#[tokio::test(flavor = "multi_thread")]
async fn https_to_an_application_is_checked_against_the_gates_authority() {
    let authority = Authority::new("test");
    let port = tls_upstream(&authority, "ledger.localhost", false).await.port();
    let gate = |host: &str, tls: &str| format!("upstream = \"https://{host}:{port}\"\n{tls}");
    let trusted = format!("upstream-tls = {{ ca-file = \"{}\" }}", authority.file().display());
    let stack = Stack::with(|s| instead(s, &gate("ledger.localhost", &trusted))).await;
    let page = Person::new().sign_in(&stack.gate("/"), "anouk").await;
    assert_eq!((page.status.as_u16(), page.body.as_str()), (200, "ok"));
    // Another name than the certificate's, an authority that is not trusted, a file that is not there.
    let missing = "upstream-tls = { ca-file = \"/nowhere/ca.pem\" }";
    for (host, tls, why) in [
        ("other.localhost", trusted.as_str(), "certificate"),
        ("ledger.localhost", "", "certificate"),
        ("ledger.localhost", missing, "/nowhere/ca.pem"),
    ] {
        assert_eq!(stack.publish(&instead(stack.site.replace(&trusted, ""), &gate(host, tls))).await.0, 200);
        let page = Person::new().sign_in(&stack.gate("/"), "benoit").await;
        assert_eq!(page.status, 502, "{host} {tls}");
        let story = stack.story(&page.crossing()).await;
        assert!(story["why"].as_str().unwrap().contains(why), "{}", story["why"]);
        assert!(!page.body.contains("certificate"), "the person is not told: {}", page.body);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_application_that_asks_for_a_certificate_gets_the_gates() {
    let authority = Authority::new("clients");
    let port = tls_upstream(&authority, "ledger.localhost", true).await.port();
    let (certificate, key) = authority.issue_files("passeur.client");
    let ca = authority.file();
    let with = format!(
        "upstream = \"https://ledger.localhost:{port}\"\nupstream-tls = {{ ca-file = \"{}\", certificate-file = \"{}\", key-file = \"{}\" }}",
        ca.display(),
        certificate.display(),
        key.display()
    );
    let stack = Stack::with(|s| instead(s, &with)).await;
    assert_eq!(Person::new().sign_in(&stack.gate("/"), "anouk").await.status, 200);
    let without = format!("upstream = \"https://ledger.localhost:{port}\"\nupstream-tls = {{ ca-file = \"{}\" }}", ca.display());
    assert_eq!(stack.publish(&stack.site.replace(&with, &without)).await.0, 200);
    assert_eq!(Person::new().sign_in(&stack.gate("/"), "benoit").await.status, 502);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_application_that_nobody_has_asked_yet_is_not_called_well() {
    let stack = Stack::new().await;
    let tried = async || {
        let gates = stack.get("/gates").await;
        let berths = gates.as_array().unwrap().iter().find(|g| g["name"] == "berths").unwrap().clone();
        berths["upstreams"][0]["tried"].as_bool().unwrap()
    };
    assert!(!tried().await);
    stack.signed_in("benoit").await;
    assert!(tried().await);
}
