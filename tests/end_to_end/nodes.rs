//! Two nodes on one database: what one does, the other knows within moments.

use std::net::SocketAddr;
use std::time::Duration;

use serde_json::json;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;

use crate::support::{Database, Person, RawUpstream, Stack, eventually, raw};
use crate::upstreams::instead;

fn get(stack: &Stack, person: &Person, path: &str) -> String {
    format!("GET {path} HTTP/1.1\r\n{}\r\nAccept: application/json\r\n\r\n", stack.head(person))
}

async fn status(at: SocketAddr, request: &str) -> String {
    raw(at, request).await.split(' ').nth(1).unwrap_or_default().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_an_edition_and_a_code_are_known_to_both_and_one_may_die() {
    let mut stack = Stack::new().await;
    let second = stack.second_node().await;
    let at = second.address;
    let anouk = stack.signed_in("anouk").await;
    let asked = get(&stack, &anouk, "/received");
    assert_eq!(status(at, &asked).await, "200", "a session of one is good at the other");
    // A code is good once, whichever node takes it.
    let mut benoit = Person::new();
    let page = benoit.open(&stack.gate("/received")).await;
    let back = benoit.prove(page, "benoit").await;
    let link = benoit.until(back, "/.passeur/arrive").await;
    let arrive = get(&stack, &benoit, link.split_once(&stack.gate("")).unwrap().1);
    let both = tokio::join!(status(at, &arrive), status(stack.address, &arrive));
    let mut both = [both.0, both.1];
    both.sort();
    assert_eq!(both, ["303", "403"]);
    // An edition published at one decides at the other.
    let stricter = stack.site.replace("when = { group = \"berth-access\" }", "when = { group = \"harbour-desk\" }");
    assert_eq!(stack.publish(&stricter).await.0, 200);
    eventually("the other node uses the edition", async || status(at, &asked).await == "403").await;
    assert_eq!(stack.publish(&stack.site.clone()).await.0, 200);
    eventually("and the next one", async || status(at, &asked).await == "200").await;
    // A secret stored at one is used by the other.
    let body = r#"{"value":"nobody"}"#;
    let look_up = format!(
        "POST /api/v1/directories/harbour/look-up HTTP/1.1\r\nHost: pass.havrelune.localhost:{}\r\nAuthorization: Bearer {}\r\n\
         Content-Type: application/json\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}",
        stack.address.port(),
        stack.token,
        body.len()
    );
    assert!(raw(at, &look_up).await.contains("no-entry"));
    stack.put("/secrets/harbour-account", json!({"value": "another"})).await;
    eventually("the other node uses the secret", async || raw(at, &look_up).await.contains("bind-refused")).await;
    stack.put("/secrets/harbour-account", json!({"value": crate::support::env("PASSEUR_TEST_LDAP_PASSWORD")})).await;
    // A session ended at one is over at the other; the next request of another session goes on.
    let elodie = stack.signed_in("elodie").await;
    let sessions = stack.get("/sessions?person=p-1001").await;
    let ended = stack.post("/sessions/end", json!({"sessions": [sessions[0]["id"]]})).await;
    assert_eq!((ended.0, &ended.1["behind"]), (200, &json!([])));
    assert_eq!(status(at, &asked).await, "401", "it returns when the other node has acknowledged");
    // The first node dies; the second serves on, with the sessions of the first.
    if let Some(first) = stack.service.take() {
        first.stop().await;
    }
    assert_eq!(status(at, &get(&stack, &elodie, "/received")).await, "200");
    second.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn ending_a_session_cuts_a_running_download_on_the_other_node_within_a_second() {
    let upstream = RawUpstream::new(
        "HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhello\r\n",
        true,
    )
    .await;
    let stack = Stack::with(|s| instead(s, &format!("upstream = \"http://{}\"", upstream.address))).await;
    let second = stack.second_node().await;
    let anouk = stack.admitted("anouk").await;
    let mut streams = vec![];
    for at in [stack.address, second.address] {
        let mut socket = TcpStream::connect(at).await.unwrap();
        socket.write_all(get(&stack, &anouk, "/events").as_bytes()).await.unwrap();
        let mut seen = String::new();
        while !seen.contains("hello") {
            let mut buffer = [0; 1024];
            let n = socket.read(&mut buffer).await.unwrap();
            assert!(n > 0, "{seen}");
            seen.push_str(&String::from_utf8_lossy(&buffer[..n]));
        }
        streams.push(socket);
    }
    let sessions = stack.get("/sessions").await;
    let ended = stack.post("/sessions/end", json!({"sessions": [sessions[0]["id"]]})).await;
    assert_eq!(ended.1["ended"].as_array().unwrap().len(), 1);
    for mut socket in streams {
        let mut rest = Vec::new();
        let cut = tokio::time::timeout(Duration::from_secs(5), socket.read_to_end(&mut rest)).await;
        assert!(cut.is_ok(), "the stream is cut");
        assert!(!rest.ends_with(b"0\r\n\r\n"), "and does not look whole");
    }
    second.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_edition_swapped_under_load_fails_no_request() {
    let stack = Stack::new().await;
    let anouk = stack.signed_in("anouk").await;
    let asked = get(&stack, &anouk, "/received");
    let (stop, stopped) = tokio::sync::watch::channel(false);
    let mut loads = vec![];
    for _ in 0..4 {
        let (asked, at, stopped) = (asked.clone(), stack.address, stopped.clone());
        loads.push(tokio::spawn(async move {
            let mut n = 0;
            while !*stopped.borrow() {
                assert_eq!(status(at, &asked).await, "200");
                n += 1;
            }
            n
        }));
    }
    for i in 0..5 {
        let site = stack.site.replace("title = \"Berth ledger\"", &format!("title = \"Berth ledger {i}\""));
        assert_eq!(stack.publish(&site).await.0, 200);
    }
    stop.send(true).unwrap();
    let mut all = 0;
    for l in loads {
        all += l.await.unwrap();
    }
    assert!(all > 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_database_restarted_under_load_loses_no_request_and_admits_nobody() {
    let stack = Stack::on(Database::alone().await, None, |site, _| site).await;
    let anouk = stack.signed_in("anouk").await;
    let gone = stack.signed_in("elodie").await;
    let asked = get(&stack, &anouk, "/received");
    let (stop, stopped) = tokio::sync::watch::channel(false);
    let loads: Vec<_> = (0..4)
        .map(|_| {
            let (asked, at, stopped) = (asked.clone(), stack.address, stopped.clone());
            tokio::spawn(async move {
                let mut n = 0;
                while !*stopped.borrow() {
                    assert_eq!(status(at, &asked).await, "200", "a session in use goes on");
                    n += 1;
                }
                n
            })
        })
        .collect();
    // One session is ended just before, so that what is remembered of it is wrong.
    let sessions = stack.get("/sessions?person=p-1003").await;
    assert_eq!(stack.post("/sessions/end", json!({"sessions": [sessions[0]["id"]]})).await.0, 200);
    let server = stack.database.server();
    tokio::task::block_in_place(|| server.stop());
    let unknown = format!(
        "GET /received HTTP/1.1\r\nHost: berths.havrelune.localhost:{}\r\nCookie: passeur-gate={}\r\nConnection: close\r\n\r\n",
        stack.address.port(),
        passeur_core::id::Token::from_random([3; 32]).reveal()
    );
    assert_eq!(status(stack.address, &unknown).await, "503", "what cannot be looked up is not believed");
    assert_ne!(status(stack.address, &get(&stack, &gone, "/received")).await, "200");
    let mut late = Person::new();
    let page = late.open(&stack.gate("/received")).await;
    assert!(!page.body.contains("p-1002"), "nobody comes in unrecorded");
    tokio::task::block_in_place(|| server.start());
    eventually("people sign in again", async || {
        let mut benoit = Person::new();
        let page = benoit.open(&stack.gate("/received")).await;
        page.status == 200 && page.body.contains("name=\"id\"") && {
            let back = benoit.prove(page, "benoit").await;
            benoit.follow(back).await.status == 200
        }
    })
    .await;
    assert_eq!(status(stack.address, &get(&stack, &gone, "/received")).await, "401", "what was ended stays ended");
    stop.send(true).unwrap();
    for l in loads {
        assert!(l.await.unwrap() > 0);
    }
}
