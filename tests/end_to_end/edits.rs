//! An application that knows itself by another name lives behind the gate's.

use crate::support::{Scripted, Stack, raw};
use crate::upstreams::instead;

const PAGE: &str = "HTTP/1.1 200 OK\r\nContent-Type: text/html; charset=utf-8\r\nConnection: close\r\nETag: \"v1\"\r\nAccept-Ranges: bytes\r\n\r\n<!doctype html><a href=\"http://ledger.internal:8080/berths\">Quai é</a><script>x='http://ledger.internal:8080'</script>";
const MOVED: &str = "HTTP/1.1 302 Found\r\nLocation: http://ledger.internal:8080/next?a=b\r\nSet-Cookie: sid=1; Domain=ledger.internal; Path=/\r\nSet-Cookie: passeur-gate=planted\r\nContent-Length: 0\r\n\r\n";
const ELSEWHERE: &str = "HTTP/1.1 302 Found\r\nLocation: http://ledger.internal:8080.evil.example/\r\nContent-Length: 0\r\n\r\n";

#[tokio::test(flavor = "multi_thread")]
async fn addresses_cookies_links_and_fields_are_turned_to_the_gates_name() {
    let upstream = Scripted::new(vec![vec![Some(PAGE)], vec![Some(MOVED), Some(ELSEWHERE)]]).await;
    let response = "response = { inside = [\"http://ledger.internal:8080\"], links = true, headers = { X-Frame-Options = \"DENY\" }, cookies = { http-only = true, same-site = \"strict\" } }";
    let stack = Stack::with(|s| instead(s, &format!("upstream = \"http://{}\"\n{response}", upstream.address))).await;
    let anouk = stack.admitted("anouk").await;
    let gate = stack.gate("");
    let keep = stack.head(&anouk).replace("Connection: close", "Connection: keep-alive");
    let ask = |path: &str, last: bool| {
        let head = if last { stack.head(&anouk) } else { keep.clone() };
        format!("GET {path} HTTP/1.1\r\n{head}\r\nAccept-Encoding: gzip, br\r\nRange: bytes=0-9\r\n\r\n")
    };
    let all = raw(stack.address, &format!("{}{}{}", ask("/page", false), ask("/moved", false), ask("/elsewhere", true))).await;
    assert!(all.contains(&format!("<a href=\"{gate}/berths\">Quai é</a>")), "{all}");
    assert!(all.contains("<script>x='http://ledger.internal:8080'</script>"), "script is left alone: {all}");
    assert!(all.contains("etag: W/\"v1\"") && !all.contains("accept-ranges"), "{all}");
    assert!(all.contains(&format!("location: {gate}/next?a=b")), "{all}");
    assert!(all.contains("set-cookie: sid=1; Path=/; HttpOnly; SameSite=Strict\r\n") && !all.contains("planted"), "{all}");
    assert!(all.contains("location: http://ledger.internal:8080.evil.example/"), "a look-alike is left as it is: {all}");
    assert_eq!(all.matches("x-frame-options: DENY").count(), 3, "{all}");
    let seen = upstream.requests();
    assert!(seen[0].contains("accept-encoding: identity") && !seen[0].contains("range:"), "{}", seen[0]);
}
