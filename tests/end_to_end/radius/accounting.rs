//! What gateways tell of sessions there: in any order, more than once, and with lies in it.

use serde_json::{Value, json};

use super::{AUTHORIZE_ONLY, CALLING, CLASS, SERVICE, USER, doors, gateway, latest, quays, radclient};
use crate::support::{Nas, Stack, eventually};

const FRAMED: u8 = 8;
pub const STATUS: u8 = 40;
const DELAY: u8 = 41;
const IN: u8 = 42;
pub const OUT: u8 = 43;
pub const NUMBER: u8 = 44;
const LASTED: u8 = 46;
const CAUSE: u8 = 49;
const IN_HIGH: u8 = 52;
const EVENT: u8 = 55;

pub const START: [u8; 4] = [0, 0, 0, 1];
pub const STOP: [u8; 4] = [0, 0, 0, 2];
pub const INTERIM: [u8; 4] = [0, 0, 0, 3];
const ON: [u8; 4] = [0, 0, 0, 7];

/// Lets somebody in under a number of the gateway's, and returns the Class.
pub async fn let_in(nas: &Nas, user: &str, number: &str) -> Vec<u8> {
    let request = nas.request(&[
        (USER, user.as_bytes()),
        (SERVICE, &AUTHORIZE_ONLY),
        (CALLING, b"192.0.2.44"),
        (NUMBER, number.as_bytes()),
    ]);
    let told = nas.asks(&request).await;
    assert_eq!(told.code, super::ACCEPT, "{told:?}");
    told.attributes.iter().find(|(k, _)| *k == CLASS).unwrap().1.clone()
}

/// Those that are on at gateways, the latest first.
pub async fn on(stack: &Stack) -> Vec<Value> {
    stack.get("/presences?gate=quays").await["presences"].as_array().unwrap().clone()
}

async fn had(stack: &Stack, address: &str) -> Vec<Value> {
    stack.get(&format!("/presences/addresses?address={address}")).await.as_array().unwrap().clone()
}

#[tokio::test(flavor = "multi_thread")]
async fn who_is_on_at_a_gateway_is_listed_with_what_passes_and_which_address_it_has() {
    let stack = quays(|site| site).await;
    let nas = gateway(&stack).await;
    let class = let_in(&nas, "anouk@havrelune.example", "0017").await;
    let all = on(&stack).await;
    let one = &all[0];
    assert_eq!(
        (&one["subject"], &one["zone"], &one["outside"]),
        (&json!("anouk@havrelune.example"), &json!("quay-gateway"), &json!("192.0.2.44"))
    );
    assert_eq!(
        (&one["gateway"]["number"], &one["gateway"]["heard_at"], &one["in_kernel"]),
        (&json!("0017"), &Value::Null, &Value::Null),
        "{one}"
    );
    assert_eq!(one["opens"][0]["reach"], "Filter-Id = quay-staff", "{one}");
    assert_eq!(one["groups"], json!(["berth-access", "pilots"]));
    // It begins there; what passes is told with 64 bits, and what comes late or twice changes nothing.
    let of = |more: &[(u8, Vec<u8>)]| -> Vec<(u8, Vec<u8>)> {
        let mut all = vec![(USER, b"anouk@havrelune.example".to_vec()), (NUMBER, b"0017".to_vec()), (CLASS, class.clone())];
        all.extend_from_slice(more);
        all
    };
    let tells = async |more: &[(u8, Vec<u8>)]| {
        let all = of(more);
        let borrowed: Vec<(u8, &[u8])> = all.iter().map(|(k, v)| (*k, v.as_slice())).collect();
        nas.tells(&borrowed).await;
    };
    let number = |n: u32| n.to_be_bytes().to_vec();
    let began = u32::try_from(chrono::Utc::now().timestamp()).unwrap();
    let seconds = |n: u32| number(began + n);
    let begun = [(STATUS, START.to_vec()), (FRAMED, vec![10, 66, 0, 7]), (EVENT, seconds(0))];
    tells(&begun).await;
    let passed = [
        (STATUS, INTERIM.to_vec()),
        (FRAMED, vec![10, 66, 0, 7]),
        (IN, number(500)),
        (IN_HIGH, number(1)),
        (OUT, number(700)),
        (LASTED, number(60)),
        (EVENT, seconds(60)),
    ];
    tells(&passed).await;
    tells(&[
        (STATUS, INTERIM.to_vec()),
        (FRAMED, vec![10, 66, 0, 7]),
        (IN, number(9)),
        (LASTED, number(30)),
        (EVENT, seconds(30)),
    ])
    .await;
    tells(&passed).await;
    tells(&begun).await;
    let one = on(&stack).await[0].clone();
    assert_eq!(
        (&one["up"], &one["down"], &one["addresses"]),
        (&json!((1i64 << 32) + 500), &json!(700), &json!(["10.66.0.7"])),
        "{one}"
    );
    assert!(one["gateway"]["heard_at"].is_string() && one["gateway"]["ahead"].as_i64().unwrap().abs() <= 61, "{one}");
    let who = had(&stack, "10.66.0.7").await;
    assert!(who[0]["subject"] == "anouk@havrelune.example" && who[0]["until"].is_null(), "{who:?}");
    let day = stack.get("/presences/day?gate=quays").await;
    let down: i64 = day.as_array().unwrap().iter().map(|q| q["down"].as_i64().unwrap()).sum();
    assert_eq!(down, 700, "what is told twice is counted once");
    // Its address changes, and then it is over, which was told before.
    tells(&[(STATUS, INTERIM.to_vec()), (FRAMED, vec![10, 66, 0, 8]), (LASTED, number(90)), (EVENT, seconds(90))]).await;
    let who = had(&stack, "10.66.0.7").await;
    assert!(who[0]["until"].is_string(), "{who:?}");
    let over = [
        (STATUS, STOP.to_vec()),
        (CAUSE, number(1)),
        (IN, number(600)),
        (IN_HIGH, number(1)),
        (LASTED, number(120)),
        (EVENT, seconds(120)),
    ];
    tells(&over).await;
    tells(&over).await;
    assert_eq!(on(&stack).await, Vec::<Value>::new());
    let gone = stack.get("/presences?gate=quays&all=true").await["presences"][0].clone();
    assert_eq!(
        (&gone["ended_by"], &gone["up"]),
        (&json!("its gateway says that it is over"), &json!((1i64 << 32) + 600)),
        "{gone}"
    );
    assert!(had(&stack, "10.66.0.8").await[0]["until"].is_string());
    // The session was of that machine alone.
    let sessions = stack.get("/sessions").await;
    let own = sessions.as_array().unwrap().iter().find(|s| s["id"] == one["session"]);
    assert!(own.is_none_or(|s| s["state"] != "live"), "{sessions}");
    let story = stack.story(one["crossing"].as_str().unwrap()).await.to_string();
    for words in [
        "says that the session began there, under its number 0017. The machine has 10.66.0.7.",
        "says that the machine has 10.66.0.8 now",
        "says that the session is over there (User-Request), after 120 seconds. From the machine came 4294967896 octets",
    ] {
        assert!(story.contains(words), "{words}\n{story}");
    }
    assert_eq!(story.matches("began there").count(), 1, "once: {story}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_over_before_it_began_is_over_and_a_number_may_come_again() {
    let stack = quays(|site| site).await;
    let nas = gateway(&stack).await;
    let class = let_in(&nas, "anouk", "5").await;
    let base: [(u8, &[u8]); 3] = [(USER, b"anouk"), (NUMBER, b"5"), (CLASS, &class)];
    let stop: Vec<(u8, &[u8])> = [&base[..], &[(STATUS, &STOP[..]), (LASTED, &[0, 0, 0, 9])]].concat();
    nas.tells(&stop).await;
    let start: Vec<(u8, &[u8])> =
        [&base[..], &[(STATUS, &START[..]), (DELAY, &[0, 0, 0, 12]), (FRAMED, &[10, 66, 0, 9])]].concat();
    nas.tells(&start).await;
    assert!(on(&stack).await.is_empty(), "the start was late");
    // The gateway asks for the same number again: another session, and the first keeps what it had.
    let second = let_in(&nas, "anouk", "5").await;
    assert_ne!(class, second);
    nas.tells(&[(USER, b"anouk"), (NUMBER, b"5"), (CLASS, &second), (STATUS, &START)]).await;
    assert_eq!(on(&stack).await.len(), 1);
    // It asks once more while that one is open: it gives way, and its person's session is over.
    let third = let_in(&nas, "anouk", "5").await;
    let all = on(&stack).await;
    assert_eq!((all.len(), all[0]["id"].as_str().unwrap()), (1, uuid::Uuid::from_slice(&third).unwrap().to_string().as_str()));
    let gone = stack.get("/presences?gate=quays&all=true").await;
    assert!(gone.to_string().contains("its gateway asked again for the same machine"), "{gone}");
    // The gateway began anew: nothing of before is on there.
    nas.tells(&[(STATUS, &ON), (NUMBER, b"0")]).await;
    assert!(on(&stack).await.is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_for_which_nobody_was_let_in_is_listed_and_found() {
    let stack = quays(|site| site).await;
    let nas = gateway(&stack).await;
    // Another client's session, by its own number: the gateway is not believed about it.
    let doors = doors(&stack).await;
    let told = doors.asks(&doors.request(&[(USER, b"anouk"), (super::PASSWORD, b"spring-tide"), (NUMBER, b"d1")])).await;
    let of_doors = told.attributes.iter().find(|(k, _)| *k == CLASS).unwrap().1.clone();
    nas.tells(&[(USER, b"mallory"), (NUMBER, b"66"), (CLASS, &of_doors), (STATUS, &STOP)]).await;
    nas.tells(&[(USER, b"admin"), (NUMBER, b"67"), (STATUS, &START), (FRAMED, &[10, 66, 0, 66])]).await;
    let all = on(&stack).await;
    let names: Vec<&str> = all.iter().map(|p| p["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["admin", "anouk"], "theirs is on, and one is on of whom nobody knows: {all:?}");
    assert!(all[0]["session"].is_null() && all[0]["provider"] == "radius", "{all:?}");
    let (line, story) = latest(&stack).await;
    assert!(
        line["outcome"] == "check-failed" && story.contains("tells of a session 67 of admin for which nobody was let in here"),
        "{story}"
    );
    assert_eq!(had(&stack, "10.66.0.66").await[0]["name"], "admin");
    let (status, said) = stack.post("/presences/end", json!({"presences": [all[0]["id"]]})).await;
    assert!(status == 409 && said["detail"].as_str().unwrap().contains("let in by quay-gateway itself"), "{said}");
    let survey = stack.post("/survey", json!({})).await.1.to_string();
    assert!(survey.contains("radius.unknown-sessions") && !survey.contains("radius.never-asked"), "{survey}");
    nas.tells(&[(USER, b"admin"), (NUMBER, b"67"), (STATUS, &STOP)]).await;
    assert_eq!(on(&stack).await.len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_not_proven_or_says_nothing_is_not_written_and_not_answered() {
    let stack = quays(|site| site).await;
    let (nas, server) = (gateway(&stack).await, stack.radius());
    let liar = Nas::at("127.0.0.11", server, "another-secret-than-the-right").await;
    let start: [(u8, &[u8]); 3] = [(USER, b"anouk"), (NUMBER, b"1"), (STATUS, &START)];
    liar.send(&liar.accounting(&start)).await;
    eventually("it is told as not proven", async || latest(&stack).await.1.contains("is not proven")).await;
    let mut changed = nas.accounting(&start);
    let last = changed.len() - 1;
    changed[last] ^= 1;
    nas.send(&changed).await;
    for (what, octets) in [
        ("no number", nas.accounting(&[(USER, b"anouk"), (STATUS, &START)])),
        ("no status", nas.accounting(&[(USER, b"anouk"), (NUMBER, b"1")])),
        ("another status", nas.accounting(&[(NUMBER, b"1"), (STATUS, &[0, 0, 0, 15])])),
    ] {
        nas.send(&octets).await;
        eventually(what, async || latest(&stack).await.1.contains("is no packet")).await;
    }
    assert!(on(&stack).await.is_empty());
    // Only what comes after is answered: nothing of the above was.
    nas.tells(&start).await;
    let survey = stack.post("/survey", json!({})).await.1.to_string();
    assert!(survey.contains("radius.secret-fails"), "{survey}");
}

#[tokio::test(flavor = "multi_thread")]
async fn another_implementation_tells_and_is_answered() {
    let stack = quays(|site| site).await;
    let start = "User-Name = anouk, Acct-Session-Id = r1, Acct-Status-Type = Start, Framed-IP-Address = 10.66.0.1";
    let (code, said) = radclient(&stack, "acct", start).await;
    assert!(code == Some(0) && said.contains("Received Accounting-Response"), "{said}");
    assert_eq!(had(&stack, "10.66.0.1").await[0]["name"], "anouk");
}
