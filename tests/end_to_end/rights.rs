//! Rights of live sessions are read again: gained, lost, gone, and when the directory is dead.

use chrono::Duration;
use reqwest::Method;
use serde_json::{Value, json};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;

use crate::support::{Directory, Person, Stack, eventually};

const OUT: &str = "dn: cn=pilots,ou=groups,dc=havrelune,dc=example\nchangetype: modify\ndelete: member\nmember: uid=anouk,ou=people,dc=havrelune,dc=example\n";
const PLANNER: &str = "dn: cn=planners,ou=groups,dc=havrelune,dc=example\nchangetype: modify\nadd: member\nmember: uid=anouk,ou=people,dc=havrelune,dc=example\n";

/// A harbour with a directory of its own.
async fn harbour(change: impl FnOnce(String) -> String) -> (Stack, Directory) {
    let directory = Directory::alone().await;
    let url = directory.url();
    let stack = Stack::with(|s| {
        let at = s.find("url = \"ldap://").unwrap();
        let end = at + s[at..].find('\n').unwrap();
        change(format!("{}url = \"{url}\"{}", &s[..at], &s[end..]).replace("cache = \"30s\"", "cache = \"0s\""))
    })
    .await;
    stack.put("/secrets/harbour-account", json!({"value": directory.password()})).await;
    (stack, directory)
}

async fn status(person: &mut Person, url: &str) -> u16 {
    person.accept = "application/json";
    person.send(Method::GET, url, None).await.status.as_u16()
}

async fn latest(stack: &Stack, person: &str) -> Value {
    stack.settle().await;
    let list = stack.get(&format!("/crossings?person={person}&limit=1")).await;
    stack.story(list["crossings"][0]["id"].as_str().unwrap()).await
}

fn sentences(story: &Value) -> String {
    story["steps"].as_array().unwrap().iter().map(|s| format!("{}\n", s["sentence"].as_str().unwrap())).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_live_session_gains_and_loses_rights_and_is_told_of_it() {
    let (stack, directory) = harbour(|s| s).await;
    let mut anouk = stack.signed_in("anouk").await;
    let url = stack.gate("/received");
    directory.modify(PLANNER);
    anouk.accept = "application/json";
    assert!(anouk.open(&url).await.saw("x-harbour-roles").is_empty(), "not yet: five minutes");
    stack.clock.advance(Duration::minutes(6));
    assert_eq!(anouk.open(&url).await.saw("x-harbour-roles"), ["planner"]);
    let story = latest(&stack, "p-1001").await;
    assert!(sentences(&story).contains("decided anew: the directory was asked again."), "{}", sentences(&story));
    assert!(sentences(&story).contains("Groups gained: planners. Groups lost: —."), "{}", sentences(&story));
    // On demand, at once.
    directory.modify(OUT);
    directory.modify(&PLANNER.replace("add: member", "delete: member"));
    let sessions = stack.get("/sessions?person=p-1001").await;
    let (code, answer) = stack.post("/sessions/re-read", json!({"sessions": [sessions[0]["id"]]})).await;
    assert_eq!((code, &answer[0]["ended"]), (200, &json!(false)), "{answer}");
    assert_eq!(answer[0]["directories"][0]["lost"], json!(["berth-access", "pilots", "planners"]));
    assert_eq!(status(&mut anouk, &url).await, 403);
    assert_eq!(stack.get("/acts?limit=1").await["acts"][0]["what"], "re-read rights");
}

/// A stream that Anouk holds open at the berth ledger, and that has said something.
async fn streaming() -> (Stack, Directory, TcpStream, Person) {
    let upstream = crate::support::RawUpstream::new(
        "HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhello\r\n",
        true,
    )
    .await;
    let (stack, directory) =
        harbour(|s| crate::upstreams::instead(s, &format!("upstream = \"http://{}\"", upstream.address))).await;
    let anouk = stack.admitted("anouk").await;
    let mut stream = TcpStream::connect(stack.address).await.unwrap();
    stream.write_all(format!("GET /events HTTP/1.1\r\n{}\r\n\r\n", stack.head(&anouk)).as_bytes()).await.unwrap();
    let mut seen = String::new();
    while !seen.contains("hello") {
        let mut buffer = [0; 1024];
        let n = stream.read(&mut buffer).await.unwrap();
        assert!(n > 0, "{seen}");
        seen.push_str(&String::from_utf8_lossy(&buffer[..n]));
    }
    (stack, directory, stream, anouk)
}

/// Waits until it is cut, and checks that it does not look whole.
async fn is_cut(stream: &mut TcpStream) {
    let mut rest = Vec::new();
    let cut = tokio::time::timeout(std::time::Duration::from_secs(30), stream.read_to_end(&mut rest)).await;
    assert!(cut.is_ok() && !rest.ends_with(b"0\r\n\r\n"), "the stream is cut and does not look whole");
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_leaves_the_directory_is_signed_out_everywhere_and_streams_are_cut() {
    let (stack, directory, mut stream, _) = streaming().await;
    directory.modify("dn: uid=anouk,ou=people,dc=havrelune,dc=example\nchangetype: delete\n");
    stack.clock.advance(Duration::minutes(6));
    // Nobody asks anything: the service looks after what is open.
    is_cut(&mut stream).await;
    eventually("the session is over", async || stack.get("/sessions?person=p-1001").await == json!([])).await;
    eventually("the end is told", async || latest(&stack, "p-1001").await["outcome"] == "signed-out").await;
    let story = latest(&stack, "p-1001").await;
    assert!(sentences(&story).contains("The session was ended by the directory"), "{}", sentences(&story));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stream_is_cut_when_its_gate_closes_for_somebody_and_the_session_lives_on() {
    let (stack, directory, mut stream, mut anouk) = streaming().await;
    let sessions = stack.get("/sessions?person=p-1001").await;
    let re_read = async || stack.post("/sessions/re-read", json!({"sessions": [sessions[0]["id"]]})).await;
    // What is gained, and what is read again and is as before, cuts nothing.
    directory.modify(PLANNER);
    assert_eq!(re_read().await.1[0]["directories"][0]["gained"], json!(["planners"]));
    assert_eq!(re_read().await.1[0]["ended"], json!(false));
    let waits = stream.try_read(&mut [0; 1]).map_err(|e| e.kind());
    assert_eq!(waits, Err(std::io::ErrorKind::WouldBlock));
    // Another request is admitted meanwhile and takes the stream's place in memory: the stream is looked at all the same.
    status(&mut anouk, &stack.gate("/received")).await;
    directory.modify(&PLANNER.replace("add: member", "delete: member"));
    directory.modify(OUT);
    assert_eq!(re_read().await.1[0]["ended"], json!(false));
    is_cut(&mut stream).await;
    let left = stack.get("/sessions?person=p-1001").await;
    assert!(left.as_array().unwrap().iter().any(|s| s["id"] == sessions[0]["id"]), "the session itself lives on: {left}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dead_directory_ends_or_keeps_live_sessions_as_the_gate_says() {
    for (dead, late) in [("dead-for = \"20m\"", 502), ("dead-directory = \"keep\"", 200)] {
        let (stack, directory) =
            harbour(|s| s.replacen("delivery = \"ledger\"\n", &format!("delivery = \"ledger\"\n{dead}\n"), 1)).await;
        let mut anouk = stack.signed_in("anouk").await;
        let url = stack.gate("/received");
        directory.stop();
        stack.clock.advance(Duration::minutes(10));
        assert_eq!(status(&mut anouk, &url).await, 200, "{dead}: what it said still counts");
        stack.clock.advance(Duration::minutes(12));
        let code = status(&mut anouk, &url).await;
        assert_eq!(code == 200, late == 200, "{dead}: {code}");
    }
}
