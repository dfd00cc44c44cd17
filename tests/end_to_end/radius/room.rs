//! How many machines of a person are on at gateways, and what may pass for them: gateways know of neither.

use serde_json::Value;

use super::accounting::{INTERIM, NUMBER, OUT, START, STATUS, STOP, let_in, on};
use super::{AUTHORIZE_ONLY, CALLING, CLASS, REPLY, SERVICE, USER, gateway, latest, quays};
use crate::support::{Nas, Stack, eventually};

/// Asks for somebody from a machine, under a number.
async fn asks(nas: &Nas, user: &str, number: &str, from: &str) -> (u8, String) {
    let request = nas.request(&[
        (USER, user.as_bytes()),
        (SERVICE, &AUTHORIZE_ONLY),
        (CALLING, from.as_bytes()),
        (NUMBER, number.as_bytes()),
    ]);
    let told = nas.asks(&request).await;
    let words = told.attributes.iter().find(|(k, _)| *k == REPLY).map(|(_, v)| String::from_utf8_lossy(v).into_owned());
    (told.code, words.unwrap_or_default())
}

async fn began(nas: &Nas, user: &str, number: &str, class: &[u8]) {
    nas.tells(&[(USER, user.as_bytes()), (NUMBER, number.as_bytes()), (CLASS, class), (STATUS, &START)]).await;
}

async fn with(change: &str) -> Stack {
    let (key, to) = change.split_once('|').unwrap();
    quays(|site| {
        let (before, gate) = site.split_once("name = \"quays\"\n").unwrap();
        format!("{before}name = \"quays\"\n{}", gate.replacen(key, to, 1))
    })
    .await
}

const ANOUK: &str = "anouk@havrelune.example";

#[tokio::test(flavor = "multi_thread")]
async fn one_machine_too_many_is_refused_with_a_crossing_that_names_the_others() {
    let stack = with("kind = \"vpn\"\n|kind = \"vpn\"\ndevices = 2\n").await;
    let nas = gateway(&stack).await;
    for number in ["0001", "0002"] {
        let class = let_in(&nas, ANOUK, number).await;
        began(&nas, ANOUK, number, &class).await;
    }
    let (code, words) = asks(&nas, ANOUK, "0003", "192.0.2.47").await;
    assert!(code == super::REJECT && words.contains("as many machines on as you may"), "{words}");
    assert_eq!(on(&stack).await.len(), 2);
    let (line, story) = latest(&stack).await;
    assert_eq!(line["outcome"], "refused", "{story}");
    for words in ["The rules let anouk@havrelune.example in at the gate", "has 2 machines on already"] {
        assert!(story.contains(words), "{words}: {story}");
    }
    // The same machine under its number is no other machine; somebody else's are counted apart.
    let_in(&nas, ANOUK, "0002").await;
    let_in(&nas, "lucie@havrelune.example", "0004").await;
    // What nobody told of within a minute is no machine that is on: a door tells nothing of who went through.
    assert_eq!(on(&stack).await.len(), 3);
    nas.tells(&[(USER, ANOUK.as_bytes()), (NUMBER, b"0001"), (STATUS, &STOP)]).await;
    let_in(&nas, ANOUK, "0005").await;
    assert_eq!(asks(&nas, ANOUK, "0006", "192.0.2.48").await.0, super::REJECT, "one that is let in is told of soon");
    stack.later(chrono::Duration::seconds(61));
    assert_eq!(asks(&nas, ANOUK, "0006", "192.0.2.48").await.0, super::ACCEPT, "and one that never is is not on");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_oldest_makes_room_and_is_ordered_out_where_the_gate_says_so() {
    let stack = with("kind = \"vpn\"\n|kind = \"vpn\"\ndevices = 1\nwhen-full = \"end-oldest\"\n").await;
    let nas = gateway(&stack).await;
    let class = let_in(&nas, ANOUK, "0001").await;
    began(&nas, ANOUK, "0001", &class).await;
    // Two at once: one of them is the last that is on, however they meet.
    let other = gateway(&stack).await;
    let (a, b) = tokio::join!(asks(&other, ANOUK, "0002", "192.0.2.45"), asks(&nas, ANOUK, "0003", "192.0.2.46"));
    assert!(a.0 == super::ACCEPT || b.0 == super::ACCEPT, "{a:?} {b:?}");
    let live = async || {
        let sessions = stack.get("/sessions").await;
        sessions.as_array().unwrap().iter().filter(|s| s["subject"] == ANOUK).count()
    };
    eventually("one session is left", async || live().await == 1).await;
    eventually("the first is ordered out", async || {
        let first = on(&stack).await.into_iter().find(|m| m["gateway"]["number"] == "0001");
        first.is_none_or(|m| m["gateway"]["order"].is_string())
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_passed_at_a_gateway_counts_and_whoever_is_over_is_put_out_and_not_let_in() {
    let stack = with("absolute = \"8h\"\n|absolute = \"8h\"\nquota = \"1MB\"\n").await;
    let nas = gateway(&stack).await;
    let class = let_in(&nas, ANOUK, "0001").await;
    began(&nas, ANOUK, "0001", &class).await;
    let passed = async |octets: u32| {
        let down = octets.to_be_bytes();
        nas.tells(&[(USER, ANOUK.as_bytes()), (NUMBER, b"0001"), (CLASS, &class), (STATUS, &INTERIM), (OUT, &down)]).await;
    };
    passed(900_000).await;
    let one = on(&stack).await[0].clone();
    assert!(one["quota"] == 1_000_000 && one["down"] == 900_000, "{one}");
    let sessions = async || stack.get("/sessions").await.as_array().unwrap().iter().filter(|s| s["subject"] == ANOUK).count();
    assert_eq!(sessions().await, 1);
    passed(1_100_000).await;
    passed(1_200_000).await;
    assert_eq!(sessions().await, 0, "it is over with the report that says so");
    let story = stack.story(one["crossing"].as_str().unwrap()).await.to_string();
    assert_eq!(story.matches("octets at this gate within 24 hours").count(), 1, "told once: {story}");
    let (code, words) = asks(&nas, ANOUK, "0002", "192.0.2.44").await;
    assert!(code == super::REJECT && words.contains("within a day is used up"), "{words}");
    // A rule that gives more lets them in again, and less ends whoever is on with their next report.
    let more = stack.site.replacen("quota = \"1MB\"", "quota = \"5MB\"", 1);
    assert_eq!(stack.publish(&more).await.0, 200);
    let class = let_in(&nas, ANOUK, "0003").await;
    assert_eq!(stack.publish(&stack.site).await.0, 200);
    let newest = |m: &Value| m["gateway"]["number"] == "0003" && m["quota"] == 1_000_000;
    eventually("the machine has the quota of the edition", async || on(&stack).await.iter().any(newest)).await;
    nas.tells(&[(USER, ANOUK.as_bytes()), (NUMBER, b"0003"), (CLASS, &class), (STATUS, &INTERIM), (OUT, &[0, 0, 0, 9])]).await;
    assert_eq!(sessions().await, 0);
}
