//! The data path: streaming, WebSockets, an upstream that is gone, health, floods.

use passeur_links::resolve::Resolver;
use serde_json::json;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;

use crate::support::{Person, RawUpstream, Stack, raw};
use crate::upstreams::{at, instead};

#[tokio::test(flavor = "multi_thread")]
async fn large_bodies_pass_both_ways_and_are_counted() {
    let stack = Stack::new().await;
    let anouk = stack.signed_in("anouk").await;
    let client = reqwest::Client::builder().dns_resolver(Resolver).no_proxy().build().unwrap();
    let size = 40 << 20;
    let answer = client
        .post(stack.gate("/received"))
        .header("cookie", anouk.cookie("berths.havrelune.localhost"))
        .header("accept", "application/json")
        .body(vec![b'x'; size])
        .send()
        .await
        .unwrap();
    let json: serde_json::Value = serde_json::from_str(&answer.text().await.unwrap()).unwrap();
    assert_eq!(json["body_length"], size);
    stack.settle().await;
    let line = &stack.get("/crossings?person=Anouk&limit=1").await["crossings"][0];
    assert!(line["bytes_in"].as_u64().unwrap() >= size as u64, "{line}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_upstream_that_is_gone_gives_a_plain_page_and_the_engineer_the_cause() {
    let stack = Stack::with(|site| instead(site, &at(1))).await;
    let mut anouk = Person::new();
    let page = anouk.sign_in(&stack.gate("/"), "anouk").await;
    assert_eq!(page.status, 502);
    assert!(page.body.contains("does not answer"), "{}", page.body);
    let story = stack.story(&page.crossing()).await;
    assert_eq!((story["outcome"].as_str(), story["code"].as_str()), (Some("failed"), Some("upstream.failed")));
    assert!(story["why"].as_str().unwrap().contains("nothing accepts connections"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_websocket_passes_and_is_cut_when_the_session_ends() {
    let upstream =
        RawUpstream::new("HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n\r\n", true).await;
    let stack = Stack::with(|site| instead(site, &at(upstream.address.port()))).await;
    let mut anouk = Person::new();
    let page = anouk.open(&stack.gate("/")).await;
    let back = anouk.prove(page, "anouk").await;
    let link = anouk.until(back, "/.passeur/arrive").await;
    anouk.send(reqwest::Method::GET, &link, None).await;
    let mut socket = TcpStream::connect(stack.address).await.unwrap();
    let host = format!("berths.havrelune.localhost:{}", stack.address.port());
    let head = format!(
        "GET /radio HTTP/1.1\r\nHost: {host}\r\nOrigin: http://{host}\r\nCookie: {}\r\nConnection: Upgrade\r\nUpgrade: websocket\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\nSec-WebSocket-Version: 13\r\n\r\n",
        anouk.cookie("berths.havrelune.localhost")
    );
    socket.write_all(head.as_bytes()).await.unwrap();
    let mut buffer = [0; 1024];
    let n = socket.read(&mut buffer).await.unwrap();
    assert!(buffer[..n].starts_with(b"HTTP/1.1 101"), "{}", String::from_utf8_lossy(&buffer[..n]));
    socket.write_all(b"ahoy").await.unwrap();
    let mut echo = [0; 4];
    socket.read_exact(&mut echo).await.unwrap();
    assert_eq!(&echo, b"ahoy");
    let sessions = stack.get("/sessions").await;
    let ended = stack.post("/sessions/end", serde_json::json!({"sessions": [sessions[0]["id"]]})).await;
    assert_eq!(ended.1["ended"].as_array().unwrap().len(), 1);
    let rest = tokio::time::timeout(std::time::Duration::from_secs(5), socket.read(&mut buffer)).await;
    assert!(matches!(rest, Ok(Ok(0) | Err(_))), "the socket is cut");
}

#[tokio::test(flavor = "multi_thread")]
async fn health_is_told_to_the_sign_in_host_and_to_unknown_hosts() {
    let stack = Stack::new().await;
    let pass = format!("pass.havrelune.localhost:{}", stack.address.port());
    for (host, path, status) in [
        (pass.as_str(), "/healthz", "200"),
        (&pass, "/readyz", "200"),
        ("127.0.0.1", "/healthz", "200"),
        ("127.0.0.1", "/readyz", "200"),
        ("stranger.example", "/", "421"),
    ] {
        let answer = raw(stack.address, &format!("GET {path} HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n\r\n")).await;
        assert!(answer.starts_with(&format!("HTTP/1.1 {status}")), "{host}{path}: {answer}");
    }
    stack.database.shut().await;
    let ask = "GET /readyz HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n";
    crate::support::eventually("not ready", async || raw(stack.address, ask).await.starts_with("HTTP/1.1 503")).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_comes_in_while_nothing_can_be_written_down() {
    let stack = Stack::new().await;
    let mut anouk = Person::new();
    let page = anouk.open(&stack.gate("/")).await;
    let back = anouk.prove(page, "anouk").await;
    stack.database.shut().await;
    let page = anouk.follow(back).await;
    assert_eq!(page.status, 503, "{}", page.body);
    assert!(!anouk.cookies["pass.havrelune.localhost"].contains_key("passeur-session"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_flood_of_anonymous_refusals_is_counted_not_recorded() {
    let stack = Stack::new().await;
    let host = format!("berths.havrelune.localhost:{}", stack.address.port());
    let request = format!("GET /api HTTP/1.1\r\nHost: {host}\r\n\r\n");
    let attempts = 400;
    let mut floods = vec![];
    for _ in 0..4 {
        let request = request.clone();
        let address = stack.address;
        floods.push(tokio::spawn(async move {
            let mut socket = TcpStream::connect(address).await.unwrap();
            let mut buffer = vec![0; 4096];
            for _ in 0..attempts / 4 {
                socket.write_all(request.as_bytes()).await.unwrap();
                let n = socket.read(&mut buffer).await.unwrap();
                assert!(buffer[..n].starts_with(b"HTTP/1.1 401"));
            }
        }));
    }
    for f in floods {
        f.await.unwrap();
    }
    stack.settle().await;
    let list = stack.get("/crossings?outcome=unauthenticated").await;
    let rows = list["crossings"].as_array().unwrap();
    let counted: u64 = rows.iter().map(|c| 1 + c["repeats"].as_u64().unwrap()).sum();
    // One a minute; a minute may end while they come.
    assert!(rows.len() <= 2 && counted == attempts, "{} rows, {counted} counted", rows.len());
}

/// Reads until the text shows; a connection that closes before is a failure.
async fn until(socket: &mut TcpStream, seen: &mut String, text: &str) {
    while !seen.contains(text) {
        let mut buffer = [0; 4096];
        let n = socket.read(&mut buffer).await.unwrap();
        assert!(n > 0, "closed before {text:?}: {seen}");
        seen.push_str(&String::from_utf8_lossy(&buffer[..n]));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_body_waits_for_the_word_to_go_on_and_is_not_sent_without_a_session() {
    let stack = Stack::new().await;
    let anouk = stack.signed_in("anouk").await;
    let expecting = |head: &str| {
        format!(
            "POST /received HTTP/1.1\r\n{head}\r\nAccept: application/json\r\nExpect: 100-continue\r\nContent-Length: 5\r\n\r\n"
        )
    };
    let mut socket = TcpStream::connect(stack.address).await.unwrap();
    socket.write_all(expecting(&stack.head(&anouk)).as_bytes()).await.unwrap();
    let mut seen = String::new();
    until(&mut socket, &mut seen, "HTTP/1.1 100 Continue\r\n\r\n").await;
    socket.write_all(b"berth").await.unwrap();
    until(&mut socket, &mut seen, "\"body_length\":5").await;
    // Without a session the answer comes at once, and nobody asks for the body.
    let host = format!("Host: berths.havrelune.localhost:{}\r\nConnection: close", stack.address.port());
    let answer = raw(stack.address, &expecting(&host)).await;
    assert!(answer.starts_with("HTTP/1.1 401") && !answer.contains("100 Continue"), "{answer}");
}

#[tokio::test(flavor = "multi_thread")]
async fn events_pass_as_they_come_and_trailers_at_the_end() {
    let upstream = RawUpstream::new(
        "HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nTransfer-Encoding: chunked\r\nTrailer: X-Tide\r\n\r\n9\r\ndata: 1\n\n\r\n",
        true,
    )
    .await;
    let stack = Stack::with(|site| instead(site, &at(upstream.address.port()))).await;
    let anouk = stack.admitted("anouk").await;
    let mut socket = TcpStream::connect(stack.address).await.unwrap();
    let head = format!("GET /events HTTP/1.1\r\n{}\r\nTE: trailers\r\n\r\n", stack.head(&anouk));
    socket.write_all(head.as_bytes()).await.unwrap();
    let mut seen = String::new();
    until(&mut socket, &mut seen, "data: 1").await;
    assert!(!seen.contains("0\r\n\r\n"), "the first event came while the stream was open: {seen}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stop_lets_a_running_answer_end_and_takes_no_new_request() {
    let upstream = RawUpstream::new("HTTP/1.1 200 OK\r\nContent-Length: 10\r\n\r\nhello", true).await;
    let mut stack = Stack::with(|site| instead(site, &at(upstream.address.port()))).await;
    let anouk = stack.admitted("anouk").await;
    let mut socket = TcpStream::connect(stack.address).await.unwrap();
    // The upstream echoes what it is sent after its answer has begun: the rest of the answer comes from the upload.
    let head = stack.head(&anouk).replace("Connection: close", "Connection: keep-alive");
    socket.write_all(format!("POST /long HTTP/1.1\r\n{head}\r\nContent-Length: 5\r\n\r\n").as_bytes()).await.unwrap();
    let mut seen = String::new();
    until(&mut socket, &mut seen, "hello").await;
    let service = stack.service.take().unwrap();
    let address = stack.address;
    let stopping = tokio::spawn(service.stop());
    crate::support::eventually("nobody new is let in", async || TcpStream::connect(address).await.is_err()).await;
    assert!(!stopping.is_finished(), "the running answer is waited for");
    socket.write_all(b"there").await.unwrap();
    until(&mut socket, &mut seen, "hellothere").await;
    stopping.await.unwrap();
}

/// An upstream that answers `/all` without end, and tells when nobody takes it any more.
async fn endless() -> (std::net::SocketAddr, tokio::sync::oneshot::Receiver<()>) {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    let (tell, told) = tokio::sync::oneshot::channel();
    tokio::spawn(async move {
        let mut stream = loop {
            let (mut stream, _) = listener.accept().await.unwrap();
            let mut head = [0; 4096];
            let n = stream.read(&mut head).await.unwrap();
            if head[..n].starts_with(b"GET /all ") {
                break stream;
            }
            let _ = stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\nConnection: close\r\n\r\nok").await;
        };
        let _ = stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 99999999999\r\n\r\n").await;
        while stream.write_all(&[b'x'; 65536]).await.is_ok() {}
        let _ = tell.send(());
    });
    (address, told)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_reader_who_does_not_read_is_cut_when_the_session_ends() {
    let (upstream, cut) = endless().await;
    let stack = Stack::with(|s| crate::upstreams::instead(s, &format!("upstream = \"http://{upstream}\""))).await;
    let anouk = stack.signed_in("anouk").await;
    let mut reader = tokio::net::TcpStream::connect(stack.address).await.unwrap();
    reader.write_all(format!("GET /all HTTP/1.1\r\n{}\r\n\r\n", stack.head(&anouk)).as_bytes()).await.unwrap();
    let mut first = [0; 4096];
    assert!(reader.read(&mut first).await.unwrap() > 0);
    // Nothing is read from here on: every buffer on the way fills.
    let sessions = stack.get("/sessions?person=p-1001").await;
    let (status, _) = stack.post("/sessions/end", json!({"sessions": [sessions[0]["id"]]})).await;
    assert_eq!(status, 200);
    tokio::time::timeout(std::time::Duration::from_secs(30), cut).await.expect("the answer is cut").unwrap();
    drop(reader);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_strangers_send_is_bounded_before_it_is_read() {
    let stack = Stack::new().await;
    let host = format!("Host: pass.havrelune.localhost:{}\r\nConnection: close", stack.address.port());
    let origin = format!("http://pass.havrelune.localhost:{}", stack.address.port());
    let sized = |path: &str, bytes: usize| {
        let body = format!("a={}", "b".repeat(bytes));
        format!(
            "POST {path} HTTP/1.1\r\n{host}\r\nOrigin: {origin}\r\nContent-Type: application/x-www-form-urlencoded\r\nContent-Length: {}\r\n\r\n{body}",
            body.len()
        )
    };
    for path in ["/.passeur/name", "/.passeur/oidc/pilotage/back-channel", "/.passeur/device/token"] {
        let answer = raw(stack.address, &sized(path, 70_000)).await;
        assert!(answer.starts_with("HTTP/1.1 413"), "{path}: {answer}");
    }
    // Whoever is not known is not listened to at all.
    let mut stranger = tokio::net::TcpStream::connect(stack.address).await.unwrap();
    let head = format!(
        "POST /api/v1/site/compare HTTP/1.1\r\n{host}\r\nOrigin: {origin}\r\nContent-Type: application/json\r\nContent-Length: 5000000\r\n\r\n"
    );
    stranger.write_all(head.as_bytes()).await.unwrap();
    let mut answer = String::new();
    let _ = stranger.read_to_string(&mut answer).await;
    assert!(answer.starts_with("HTTP/1.1 401"), "{answer}");
    // One network fills its own room: what it announces is counted when it is announced. Whoever has room is told to go on.
    let mut held = vec![];
    let refused = loop {
        let mut slow = tokio::net::TcpStream::connect(stack.address).await.unwrap();
        let head = format!(
            "POST /.passeur/oidc/pilotage/back-channel HTTP/1.1\r\n{host}\r\nContent-Type: application/x-www-form-urlencoded\r\nExpect: 100-continue\r\nContent-Length: 60000\r\n\r\n"
        );
        slow.write_all(head.as_bytes()).await.unwrap();
        let mut first = [0; 12];
        slow.read_exact(&mut first).await.unwrap();
        if &first != b"HTTP/1.1 100" {
            break String::from_utf8_lossy(&first).into_owned();
        }
        held.push(slow);
        assert!(held.len() < 200, "nobody is refused");
    };
    assert_eq!((refused.as_str(), held.len()), ("HTTP/1.1 503", 139));
    // It is theirs again once they go.
    drop(held);
    let small = sized("/.passeur/oidc/pilotage/back-channel", 60_000);
    crate::support::eventually("there is room again", async || !raw(stack.address, &small).await.starts_with("HTTP/1.1 503"))
        .await;
}
