//! Requests that two HTTP parsers could read differently (RFC 9112 11): refused, or written anew with one framing. Each is
//! sent with and without a session, followed by a second request on the same connection; what counts is what the upstream
//! saw.

use crate::support::{OK, Scripted, Stack, raw};
use crate::upstreams::instead;

/// What must become of a request.
#[derive(Clone, Copy, PartialEq)]
enum Want {
    /// Refused; the upstream sees nothing.
    Refused,
    /// Let through with one framing; what follows is not read as a second request.
    Once,
}

fn battery(host: &str) -> Vec<(&'static str, String, Want)> {
    use Want::{Once, Refused};
    let post = |fields: &str, body: &str| format!("POST /first HTTP/1.1\r\nHost: {host}\r\n{fields}\r\n\r\n{body}");
    vec![
        ("both lengths", post("Content-Length: 4\r\nTransfer-Encoding: chunked", "0\r\n\r\n"), Once),
        ("lengths that differ", post("Content-Length: 4\r\nContent-Length: 5", "abcd"), Refused),
        ("lengths in a list", post("Content-Length: 4, 5", "abcd"), Refused),
        ("a length with a sign", post("Content-Length: +4", "abcd"), Refused),
        ("a negative length", post("Content-Length: -1", "abcd"), Refused),
        ("a length in hexadecimal", post("Content-Length: 0x4", "abcd"), Refused),
        ("a length beyond counting", post("Content-Length: 99999999999999999999999", "abcd"), Refused),
        ("two codings", post("Transfer-Encoding: gzip, chunked", "0\r\n\r\n"), Refused),
        ("chunked twice", post("Transfer-Encoding: chunked\r\nTransfer-Encoding: chunked", "0\r\n\r\n"), Refused),
        ("identity", post("Transfer-Encoding: identity", "abcd"), Refused),
        ("a tab before chunked", post("Transfer-Encoding:\tchunked\r\nContent-Length: 4", "0\r\n\r\n"), Once),
        ("a coding hidden by a vertical tab", post("Transfer-Encoding: \x0bchunked", "0\r\n\r\n"), Refused),
        ("a blank before the colon", post("Content-Length : 4", "abcd"), Refused),
        ("a folded field", post("X-A: 1\r\n Transfer-Encoding: chunked\r\nContent-Length: 4", "abcd"), Refused),
        ("a bare CR in a value", post("X-A: 1\rTransfer-Encoding: chunked\r\nContent-Length: 4", "abcd"), Refused),
        ("a zero byte", post("X-A: 1\0\r\nContent-Length: 4", "abcd"), Refused),
        ("a chunk size with a sign", post("Transfer-Encoding: chunked", "+4\r\nabcd\r\n0\r\n\r\n"), Refused),
        ("a chunk size beyond counting", post("Transfer-Encoding: chunked", "fffffffffffffffff\r\nabcd\r\n0\r\n\r\n"), Refused),
        ("a chunk that is longer than it says", post("Transfer-Encoding: chunked", "2\r\nabcd\r\n0\r\n\r\n"), Refused),
        ("no end of a chunk", post("Transfer-Encoding: chunked", "4\r\nabcdX\r\n0\r\n\r\n"), Refused),
        ("two hosts", format!("GET /first HTTP/1.1\r\nHost: {host}\r\nHost: {host}\r\n\r\n"), Refused),
        ("no host", "GET /first HTTP/1.1\r\nX-A: 1\r\n\r\n".to_owned(), Refused),
        ("a host against the target", format!("GET http://elsewhere.localhost/first HTTP/1.1\r\nHost: {host}\r\n\r\n"), Refused),
        ("a host with a path", format!("GET /first HTTP/1.1\r\nHost: {host}/x\r\n\r\n"), Refused),
        ("a name with a blank", format!("GET /first HTTP/1.1\r\nHost: {host}\r\nX A: 1\r\n\r\n"), Refused),
        ("a version of long ago", "GET /first\r\n\r\n".to_owned(), Refused),
        ("a version to come", format!("GET /first HTTP/3.7\r\nHost: {host}\r\n\r\n"), Refused),
        ("a target with a blank", format!("GET /first second HTTP/1.1\r\nHost: {host}\r\n\r\n"), Refused),
    ]
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_that_can_be_read_two_ways_reaches_an_upstream_twice() {
    let upstream = Scripted::new(vec![vec![Some(OK); 8]]).await;
    let stack = Stack::with(|s| instead(s, &format!("upstream = \"http://{}\"", upstream.address))).await;
    let anouk = stack.admitted("anouk").await;
    let host = format!("berths.havrelune.localhost:{}", stack.address.port());
    let cookie = stack.head(&anouk).lines().nth(1).unwrap().to_owned();
    for session in [true, false] {
        for (what, request, want) in battery(&host) {
            let before = upstream.requests().len();
            let (line, rest) = request.split_once("\r\n").unwrap();
            let first = if session { format!("{line}\r\n{cookie}\r\n{rest}") } else { request.clone() };
            let smuggled = format!("GET /smuggled HTTP/1.1\r\nHost: {host}\r\n{cookie}\r\nConnection: close\r\n\r\n");
            let answer = raw(stack.address, &format!("{first}{smuggled}")).await;
            let seen: Vec<String> = upstream.requests()[before..].to_vec();
            let status = answer.split(' ').nth(1).unwrap_or("none").to_owned();
            if want == Want::Refused || !session {
                let refused =
                    ["400", "401", "421", "431", "505", "none", ""].contains(&status.as_str()) || status.starts_with("50");
                assert!(refused, "{what}, session {session}: {answer}");
            }
            let firsts = seen.iter().filter(|r| r.contains(" /first ")).count();
            assert!(firsts <= usize::from(want == Want::Once && session), "{what}, session {session}: {seen:#?}");
            assert!(!seen.iter().any(|r| r.contains("/smuggled")), "{what}, session {session}: {seen:#?} {answer}");
            for r in &seen {
                let head = r.to_lowercase();
                let framings = head.matches("\r\ncontent-length:").count() + head.matches("\r\ntransfer-encoding:").count();
                assert!(framings <= 1 && !head.contains("keep-alive"), "{what}: one framing alone: {r}");
            }
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn floods_are_capped_and_counted() {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    let stack = Stack::new().await;
    // A head that is larger than a head may be.
    let host = format!("berths.havrelune.localhost:{}", stack.address.port());
    let large = format!("GET / HTTP/1.1\r\nHost: {host}\r\nX-A: {}\r\n\r\n", "a".repeat(100_000));
    // What was not read may take the answer with it when the connection is reset.
    let answer = raw(stack.address, &large).await;
    assert!(answer.is_empty() || answer.starts_with("HTTP/1.1 431"), "{answer}");
    for (fields, too_many) in [(90, false), (110, true)] {
        let many: String = (0..fields).map(|i| format!("X-{i}: 1\r\n")).collect();
        let answer = raw(stack.address, &format!("GET / HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n{many}\r\n")).await;
        assert_eq!(answer.starts_with("HTTP/1.1 431"), too_many, "{fields}: {answer}");
    }
    // More connections from one address than there are places.
    let mut held = vec![];
    for _ in 0..1_100 {
        held.push(tokio::net::TcpStream::connect(stack.address).await.unwrap());
    }
    let mut turned_away = 0;
    for socket in &mut held[1_000..] {
        let mut byte = [0];
        let _ = socket.write_all(b"G").await;
        if let Ok(Ok(0) | Err(_)) = tokio::time::timeout(std::time::Duration::from_secs(5), socket.read(&mut byte)).await {
            turned_away += 1;
        }
    }
    assert!(turned_away >= 90, "{turned_away} of the last hundred");
    drop(held);
    crate::support::eventually("places come back", async || {
        raw(stack.address, &format!("GET / HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n\r\n"))
            .await
            .starts_with("HTTP/1.1 401")
    })
    .await;
    let node = stack.get("/node").await;
    let count = |name: &str| {
        let all = node["counters"].as_array().unwrap();
        all.iter().find(|c| c["name"] == name).unwrap_or_else(|| panic!("{node}"))["count"].as_u64().unwrap()
    };
    assert!(count("turned away, address full") >= 90 && count("connections broken") >= 1, "{node}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_flood_of_slow_bodies_takes_the_places_of_one_address_and_no_more() {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    let stack = Stack::new().await;
    let anouk = stack.admitted("anouk").await;
    let cookie = anouk.cookie("berths.havrelune.localhost");
    let port = stack.address.port();
    let head = format!(
        "POST /received HTTP/1.1\r\nHost: berths.havrelune.localhost:{port}\r\nCookie: {cookie}\r\nContent-Length: 1000\r\n\r\na"
    );
    let mut held = vec![];
    for _ in 0..1_000 {
        let mut socket = tokio::net::TcpStream::connect(stack.address).await.unwrap();
        socket.write_all(head.as_bytes()).await.unwrap();
        held.push(socket);
    }
    // The bodies never come; one more of this address finds no place.
    crate::support::eventually("the address is full", async || {
        let mut socket = tokio::net::TcpStream::connect(stack.address).await.unwrap();
        let _ = socket.write_all(b"GET / HTTP/1.1\r\n").await;
        let mut byte = [0];
        matches!(tokio::time::timeout(std::time::Duration::from_secs(1), socket.read(&mut byte)).await, Ok(Ok(0) | Err(_)))
    })
    .await;
    // Somebody from elsewhere is served as if nothing was.
    let elsewhere = tokio::net::TcpSocket::new_v4().unwrap();
    elsewhere.bind("127.0.0.2:0".parse().unwrap()).unwrap();
    let mut socket = elsewhere.connect(stack.address).await.unwrap();
    socket.write_all(format!("GET /received HTTP/1.1\r\n{}\r\n\r\n", stack.head(&anouk)).as_bytes()).await.unwrap();
    let mut answer = String::new();
    socket.read_to_string(&mut answer).await.unwrap();
    assert!(answer.starts_with("HTTP/1.1 200"), "{answer}");
    drop(held);
    let node = stack.get("/node").await;
    let count = node["counters"].as_array().unwrap().iter().find(|c| c["name"] == "turned away, address full").unwrap();
    assert!(count["count"].as_u64().unwrap() >= 1, "{node}");
}
