//! What goes before and after bodies: a client that waits to be told before it sends one, fields that stand after one, and requests that
//! cannot be read at all.

use std::net::SocketAddr;

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::oneshot;

use crate::support::{OK, Scripted, Stack, raw};
use crate::upstreams::{at, instead};

/// Reads until what came ends so, or nothing more comes.
async fn until(stream: &mut TcpStream, end: &str) -> String {
    let mut seen = vec![];
    let mut buffer = [0; 1024];
    while !String::from_utf8_lossy(&seen).ends_with(end) {
        match stream.read(&mut buffer).await {
            Ok(n) if n > 0 => seen.extend_from_slice(&buffer[..n]),
            _ => break,
        }
    }
    String::from_utf8_lossy(&seen).into_owned()
}

/// An application for one request: what it says to the head once it may, whether it reads the body then, and all that it saw.
async fn application(says: Option<&'static str>, reads: bool) -> (SocketAddr, oneshot::Sender<()>, oneshot::Receiver<String>) {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    let ((may, wait), (saw, seen)) = (oneshot::channel::<()>(), oneshot::channel());
    tokio::spawn(async move {
        let (mut stream, _) = listener.accept().await.unwrap();
        let mut all = until(&mut stream, "\r\n\r\n").await;
        let _ = wait.await;
        if let Some(says) = says {
            stream.write_all(says.as_bytes()).await.unwrap();
        }
        if reads {
            all.push_str(&until(&mut stream, "whole").await);
            stream.write_all(OK.as_bytes()).await.unwrap();
        } else {
            // Whatever comes after a refusal, until the gate lets the connection go.
            all.push_str(&until(&mut stream, "never").await);
        }
        let _ = saw.send(all);
    });
    (address, may, seen)
}

/// A client that sent the head of a form, and waits.
async fn asks(address: SocketAddr) -> (Stack, TcpStream) {
    let stack = Stack::with(|s| instead(s, &at(address.port()))).await;
    let anouk = stack.admitted("anouk").await;
    let mut client = TcpStream::connect(stack.address).await.unwrap();
    let head = format!("POST /a HTTP/1.1\r\n{}\r\nExpect: 100-continue\r\nContent-Length: 5\r\n\r\n", stack.head(&anouk));
    client.write_all(head.as_bytes()).await.unwrap();
    (stack, client)
}

const GO_ON: &str = "HTTP/1.1 100 Continue\r\n\r\n";

#[tokio::test(flavor = "multi_thread")]
async fn a_body_is_asked_for_when_the_application_asks_for_it() {
    let (address, may, seen) = application(Some(GO_ON), true).await;
    let (_stack, mut client) = asks(address).await;
    let _ = may.send(());
    assert_eq!(until(&mut client, GO_ON).await, GO_ON);
    client.write_all(b"whole").await.unwrap();
    let answer = until(&mut client, "ok").await;
    assert!(answer.starts_with("HTTP/1.1 200"), "{answer}");
    let seen = seen.await.unwrap();
    assert!(seen.to_lowercase().contains("expect: 100-continue") && seen.ends_with("whole"), "{seen}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_body_that_the_application_refuses_is_never_sent() {
    let (address, may, seen) = application(Some("HTTP/1.1 401 Unauthorized\r\nContent-Length: 2\r\n\r\nno"), false).await;
    let (_stack, mut client) = asks(address).await;
    let _ = may.send(());
    let answer = until(&mut client, "no").await;
    assert!(answer.starts_with("HTTP/1.1 401") && !answer.contains("100 Continue"), "{answer}");
    assert!(answer.to_lowercase().contains("connection: close"), "the client is told that this connection is over: {answer}");
    drop(client);
    let seen = seen.await.unwrap();
    assert!(seen.starts_with("POST /a") && seen.ends_with("\r\n\r\n"), "no byte of the body: {seen}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_application_that_knows_nothing_of_expectations_gets_the_body_all_the_same() {
    let (address, may, seen) = application(None, true).await;
    let (_stack, mut client) = asks(address).await;
    let _ = may.send(());
    assert_eq!(until(&mut client, GO_ON).await, GO_ON);
    client.write_all(b"whole").await.unwrap();
    assert!(until(&mut client, "ok").await.starts_with("HTTP/1.1 200"));
    assert!(seen.await.unwrap().ends_with("whole"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_stands_after_a_body_is_cleaned_as_a_head_is_both_ways() {
    const AFTER: &str = "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\
        Trailer: Set-Cookie, X-Sum, Clear-Site-Data, Content-Type, Connection\r\n\r\n2\r\nok\r\n0\r\nSet-Cookie: passeur-gate=evil\r\n\
        X-Sum: 7\r\nClear-Site-Data: \"*\"\r\nContent-Type: text/html\r\nConnection: x\r\n\r\n";
    let upstream = Scripted::new(vec![vec![Some(AFTER)]]).await;
    let stack = Stack::with(|s| instead(s, &format!("upstream = \"http://{}\"", upstream.address))).await;
    let anouk = stack.admitted("anouk").await;
    let body = "2\r\nhi\r\n0\r\nX-Harbour-Name: Admiral\r\nX-Forwarded-For: 10.0.0.1\r\nHost: elsewhere\r\nX-Mine: 1\r\n\r\n";
    let head = stack.head(&anouk).replace("Connection: close", "Connection: close, TE\r\nTE: trailers");
    let answer =
        raw(stack.address, &format!("POST /a HTTP/1.1\r\n{head}\r\nTransfer-Encoding: chunked\r\nTrailer: X-Mine\r\n\r\n{body}"))
            .await;
    let after = answer.rsplit("\r\n0\r\n").next().unwrap().to_lowercase();
    assert_eq!(after, "x-sum: 7\r\n\r\n", "{answer}");
    let seen = upstream.requests()[0].to_lowercase();
    let after = seen.rsplit("\r\n0\r\n").next().unwrap();
    assert!(!after.contains("admiral") && !after.contains("10.0.0.1") && !after.contains("elsewhere"), "{seen}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_request_that_cannot_be_read_is_answered_in_words() {
    let bare = "HTTP/1.1 400 Bad Request\r\nContent-Length: 0\r\n\r\n";
    let upstream = Scripted::new(vec![vec![Some(bare)]]).await;
    let stack = Stack::with(|s| instead(s, &format!("upstream = \"http://{}\"", upstream.address))).await;
    let many = (0..300).map(|n| format!("X-{n}: 1\r\n")).collect::<String>();
    for (request, status, words) in [
        ("NONSENSE\r\n\r\n".to_owned(), "400 Bad Request", "cannot be read as HTTP"),
        ("GET / HTTP/9.9\r\n\r\n".to_owned(), "400 Bad Request", "cannot be read as HTTP"),
        ("GET / HTTP/1.1\r\nBad Name: x\r\n\r\n".to_owned(), "400 Bad Request", "cannot be read as HTTP"),
        (format!("GET / HTTP/1.1\r\n{many}\r\n"), "431 Request Header Fields Too Large", "has too many fields"),
        (format!("GET /{} HTTP/1.1\r\nHost: x\r\n\r\n", "a".repeat(70_000)), "4", "too l"),
    ] {
        let answer = raw(stack.address, &request).await;
        assert!(answer.starts_with(&format!("HTTP/1.1 {status}")) && answer.contains(words), "{answer}");
        assert!(answer.contains("content-type: text/plain") && answer.contains("connection: close"), "{answer}");
    }
    // What an application means to be bare stays bare.
    let anouk = stack.admitted("anouk").await;
    let answer = raw(stack.address, &format!("GET /a HTTP/1.1\r\n{}\r\n\r\n", stack.head(&anouk))).await;
    assert!(answer.starts_with("HTTP/1.1 400") && answer.ends_with("\r\n\r\n") && !answer.contains("HTTP.\n"), "{answer}");
}
