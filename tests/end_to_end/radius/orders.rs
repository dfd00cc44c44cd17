//! Orders to gateways: a session that is over here is over there, within moments, or it is told that it is not.

use std::time::Duration;

use serde_json::{Value, json};
use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader};

use super::accounting::{NUMBER, START, let_in, on};
use super::{CLASS, FILTER, GATEWAY, SERVICE, USER, VLAN, gateway, quays};
use crate::support::{Ordered, Stack, eventually};

const STATUS: u8 = 40;
const EVENT: u8 = 55;
const ERROR_CAUSE: u8 = 101;
const SESSION_TIMEOUT: u8 = super::SESSION_TIMEOUT;
pub(super) const DISCONNECT: u8 = 40;
pub(super) const DISCONNECT_ACK: u8 = 41;
const DISCONNECT_NAK: u8 = 42;
const COA: u8 = 43;
const COA_ACK: u8 = 44;
const COA_NAK: u8 = 45;

/// The harbour, and where its gateway takes orders.
async fn taking_orders() -> (Stack, Ordered) {
    let ordered = Ordered::at("127.0.0.11", GATEWAY).await;
    let port = ordered.port();
    let stack = quays(|site| at_port(&site, port)).await;
    (stack, ordered)
}

pub(super) fn at_port(site: &str, port: u16) -> String {
    site.replace("secret = \"quay-gateway\"\n", &format!("secret = \"quay-gateway\"\ndynamic-authorization = {port}\n"))
}

/// The story of the crossing by which the only one that is on came in.
async fn story(stack: &Stack) -> String {
    let one = stack.get("/presences?gate=quays&all=true").await["presences"][0].clone();
    stack.story(one["crossing"].as_str().unwrap()).await.to_string()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_that_is_ended_here_is_ended_at_its_gateway() {
    let (stack, ordered) = taking_orders().await;
    let nas = gateway(&stack).await;
    let request = nas.request(&[(USER, b"anouk"), (SERVICE, &super::AUTHORIZE_ONLY), (NUMBER, b"a1")]);
    let told = nas.asks(&request).await;
    let class = told.attributes.iter().find(|(k, _)| *k == CLASS).unwrap().1.clone();
    nas.tells(&[(USER, b"anouk"), (NUMBER, b"a1"), (CLASS, &class), (STATUS, &START)]).await;
    let id = on(&stack).await[0]["id"].clone();
    let (status, said) = stack.post("/presences/end", json!({"presences": [id]})).await;
    assert!(status == 200 && said["behind"] == json!([]), "{said}");
    let order = ordered.next().await;
    assert_eq!(
        (order.code, order.texts(USER), order.texts(NUMBER)),
        (DISCONNECT, vec!["anouk".to_owned()], vec!["a1".to_owned()])
    );
    let at = u32::from_be_bytes(order.attributes.iter().find(|(k, _)| *k == EVENT).unwrap().1.as_slice().try_into().unwrap());
    assert!((i64::from(at) - chrono::Utc::now().timestamp()).abs() < 60);
    // Nothing was heard: the same order comes again, and it is on there until the gateway says that it is not.
    let again = ordered.next().await;
    assert_eq!((again.code, &again.attributes), (order.code, &order.attributes));
    assert_eq!(on(&stack).await.len(), 1);
    // What let it in lets nobody in again: the gateway that asks for the old answer is answered anew.
    let told = nas.asks(&request).await;
    let other = told.attributes.iter().find(|(k, _)| *k == CLASS).map(|(_, v)| v.clone());
    assert_ne!(other, Some(class), "{told:?}");
    ordered.answers(&again, DISCONNECT_ACK, &[]).await;
    eventually("it is over", async || on(&stack).await.iter().all(|p| p["id"] != id)).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_gateway_that_does_not_end_a_session_is_told_of_and_asked_again() {
    let (stack, ordered) = taking_orders().await;
    let nas = gateway(&stack).await;
    let_in(&nas, "anouk", "a1").await;
    let id = on(&stack).await[0]["id"].clone();
    stack.post("/presences/end", json!({"presences": [id]})).await;
    let order = ordered.next().await;
    ordered.answers(&order, DISCONNECT_NAK, &[(ERROR_CAUSE, &501u32.to_be_bytes())]).await;
    eventually("it is told", async || story(&stack).await.contains("and did not: Administratively-Prohibited")).await;
    let one = on(&stack).await[0].clone();
    assert!(one["gateway"]["disobeyed"] == true && one["gateway"]["order"] == "end the session: it refused", "{one}");
    assert!(stack.post("/survey", json!({})).await.1.to_string().contains("radius.disobeys"));
    // A person who left: their sessions are ended, and the one at the gateway is listed as what is left to do.
    let class = let_in(&nas, "lucie", "a2").await;
    nas.tells(&[(USER, b"lucie"), (NUMBER, b"a2"), (CLASS, &class), (STATUS, &START)]).await;
    let began = std::time::Instant::now();
    let (status, said) = stack.post("/people/take-away", json!({"people": ["gateway-word/lucie"], "block": "left"})).await;
    assert_eq!(status, 200, "{said}");
    let order = ordered.next().await;
    assert!(order.texts(NUMBER) == ["a2"] && began.elapsed() < Duration::from_secs(5), "{order:?}");
    // One that it does not know is over, and not before it had time to hear of it.
    ordered.answers(&order, DISCONNECT_NAK, &[(ERROR_CAUSE, &503u32.to_be_bytes())]).await;
    let again = ordered.next().await;
    assert_eq!(again.texts(NUMBER), ["a2"], "it was let in moments ago");
    ordered.answers(&again, DISCONNECT_ACK, &[]).await;
    eventually("it is over", async || on(&stack).await.len() == 1).await;
    // Nobody comes in who left.
    let told = nas.asks(&nas.request(&[(USER, b"Lucie"), (SERVICE, &super::AUTHORIZE_ONLY)])).await;
    assert_eq!(told.code, super::REJECT, "{told:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn another_edition_changes_what_a_session_may_there_or_ends_it() {
    let (stack, ordered) = taking_orders().await;
    let nas = gateway(&stack).await;
    let_in(&nas, "anouk", "c1").await;
    let site = stack.get("/site").await["document"].as_str().unwrap().to_owned();
    let other = site.replace("deliver = { vlan = \"quays\" }", "deliver = { vlan = \"piers\" }");
    assert_ne!(site, other);
    assert_eq!(stack.publish(&other).await.0, 200);
    let order = ordered.next().await;
    assert_eq!(
        (order.code, order.texts(VLAN), order.texts(FILTER)),
        (COA, vec!["piers".to_owned()], vec!["quay-staff".to_owned()]),
        "{order:?}"
    );
    let left = order.attributes.iter().find(|(k, _)| *k == SESSION_TIMEOUT).unwrap().1.clone();
    assert!((28_000..=28_800).contains(&u32::from_be_bytes(left.as_slice().try_into().unwrap())));
    ordered.answers(&order, COA_ACK, &[]).await;
    eventually("it is written", async || on(&stack).await[0]["opens"].to_string().contains("VLAN = piers")).await;
    // What is taken away altogether cannot be changed there: it is ended.
    let without = other.replace("[[delivery.attribute]]\nname = \"Filter-Id\"\nroles = true\n\n", "");
    assert_ne!(without, other);
    assert_eq!(stack.publish(&without).await.0, 200);
    let order = ordered.next().await;
    assert_eq!(order.code, DISCONNECT, "{order:?}");
    ordered.answers(&order, DISCONNECT_ACK, &[]).await;
    eventually("it is over", async || on(&stack).await.is_empty()).await;
    // A gateway that does not change a session has to end it.
    let_in(&nas, "anouk", "c2").await;
    assert_eq!(stack.publish(&without.replace("vlan = \"piers\"", "vlan = \"moles\"")).await.0, 200);
    let order = ordered.next().await;
    assert_eq!(order.code, COA);
    ordered.answers(&order, COA_NAK, &[(ERROR_CAUSE, &401u32.to_be_bytes())]).await;
    let order = ordered.next().await;
    assert_eq!((order.code, order.texts(NUMBER)), (DISCONNECT, vec!["c2".to_owned()]));
    ordered.answers(&order, DISCONNECT_ACK, &[]).await;
    eventually("it is over", async || on(&stack).await.is_empty()).await;
    // Whoever is put out while a client does not answer is put out at once.
    let_in(&nas, "anouk", "c4").await;
    assert_eq!(stack.publish(&without.replace("vlan = \"piers\"", "vlan = \"docks\"")).await.0, 200);
    let order = ordered.next().await;
    assert_eq!(order.code, COA);
    let id = on(&stack).await[0]["id"].clone();
    stack.post("/presences/end", json!({"presences": [id]})).await;
    let (mut order, mut changes) = (ordered.next().await, 1);
    while order.code == COA {
        (order, changes) = (ordered.next().await, changes + 1);
    }
    assert!(order.code == DISCONNECT && changes < 4, "{order:?} after {changes}");
    ordered.answers(&order, DISCONNECT_ACK, &[]).await;
    eventually("it is over", async || on(&stack).await.is_empty()).await;
    // Rules that let nobody in any more end whoever is on.
    let_in(&nas, "anouk", "c3").await;
    let nobody =
        without.replace("when = { any-group = [\"pilots\", \"access-engineers\"] }", "when = { group = \"access-engineers\" }");
    assert_ne!(nobody, without);
    assert_eq!(stack.publish(&nobody).await.0, 200);
    let order = ordered.next().await;
    assert_eq!((order.code, order.texts(NUMBER)), (DISCONNECT, vec!["c3".to_owned()]));
    ordered.answers(&order, DISCONNECT_ACK, &[]).await;
    eventually("it is over", async || on(&stack).await.is_empty()).await;
    let gone = stack.get("/presences?gate=quays&all=true").await["presences"][0].clone();
    assert_eq!(gone["ended_by"], "the rules do not let the person in any more", "{gone}");
}

#[tokio::test(flavor = "multi_thread")]
async fn another_implementation_is_let_in_tells_and_ends() {
    let peer = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("peers/gateway.py");
    let stack = quays(|site| site).await;
    let at = stack.radius();
    let mut child = tokio::process::Command::new("/usr/bin/python3")
        .arg(peer)
        .args([at.ip().to_string(), at.port().to_string(), GATEWAY.to_owned(), "anouk".to_owned()])
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .kill_on_drop(true)
        .spawn()
        .expect("python3 with python3-pyrad");
    let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
    let mut says = async || -> Value { serde_json::from_str(&lines.next_line().await.unwrap().expect("it goes on")).unwrap() };
    let port = says().await["orders"].as_u64().unwrap();
    let site = stack.get("/site").await["document"].as_str().unwrap().to_owned();
    assert_eq!(stack.publish(&at_port(&site, u16::try_from(port).unwrap())).await.0, 200);
    child.stdin.as_mut().unwrap().write_all(b"go\n").await.unwrap();
    let told = says().await;
    assert_eq!(told, json!({"code": 2, "filters": ["quay-staff"], "timeout": 28_800}));
    assert_eq!(says().await, json!({"accounting": 5}));
    let all = on(&stack).await;
    assert_eq!(all[0]["addresses"], json!(["10.66.0.77"]), "{all:?}");
    stack.post("/presences/end", json!({"presences": [all[0]["id"]]})).await;
    assert_eq!(says().await, json!({"order": 40, "proven": true, "number": ["p1"], "user": ["anouk"]}));
    eventually("it is over", async || on(&stack).await.is_empty()).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_ended_while_nobody_listened_is_ordered_after_a_restart() {
    let (mut stack, ordered) = taking_orders().await;
    let nas = gateway(&stack).await;
    let_in(&nas, "anouk", "r1").await;
    let session = on(&stack).await[0]["session"].clone();
    // The node is gone; another, that hears no gateway, ends the session.
    stack.restart_without_radius().await;
    let (status, said) = stack.post("/sessions/end", json!({"sessions": [session]})).await;
    assert_eq!(status, 200, "{said}");
    assert!(ordered.heard(Duration::from_millis(1)).await.is_none());
    stack.restart().await;
    let order = ordered.next().await;
    assert_eq!((order.code, order.texts(NUMBER)), (DISCONNECT, vec!["r1".to_owned()]));
    ordered.answers(&order, DISCONNECT_ACK, &[]).await;
    eventually("it is over", async || on(&stack).await.is_empty()).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_gateway_that_takes_no_orders_is_said_to_take_none() {
    let stack = quays(|site| at_port(&site, 0)).await;
    let nas = gateway(&stack).await;
    let_in(&nas, "anouk", "n1").await;
    let id = on(&stack).await[0]["id"].clone();
    stack.post("/presences/end", json!({"presences": [id]})).await;
    eventually("it is told", async || {
        story(&stack).await.contains("takes no orders to end the session: the session may be open there until")
    })
    .await;
    let one = on(&stack).await[0].clone();
    assert!(one["gateway"]["disobeyed"] == true && one["gateway"]["order"] == "end the session: it takes no orders", "{one}");
    assert!(stack.post("/survey", json!({})).await.1.to_string().contains("radius.takes-no-orders"));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_order_that_lacks_its_secret_says_which_and_the_machine_is_still_on_there() {
    let (mut stack, _ordered) = taking_orders().await;
    let_in(&gateway(&stack).await, "anouk", "s1").await;
    // A secret that counts for nothing, and a service that never knew another.
    stack.put("/secrets/quay-gateway", json!({"value": "short"})).await;
    stack.restart().await;
    let id = on(&stack).await[0]["id"].clone();
    stack.post("/presences/end", json!({"presences": [id]})).await;
    eventually("it is told", async || story(&stack).await.contains("the secret quay-gateway is not stored, or shorter than 16"))
        .await;
    let one = on(&stack).await[0].clone();
    assert_eq!(one["gateway"]["disobeyed"], true, "{one}");
}
