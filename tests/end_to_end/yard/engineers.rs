//! What engineers see of who is on, and do about it.

use std::io::{Read, Write};
use std::net::TcpStream;

use passeur_standins::cage::{CRANE, SITE, VISITOR};
use serde_json::{Value, json};

use super::without_terms;
use crate::networks::{by_the_office, yard};
use crate::support::{Harbour, Person, Stack, eventually};

async fn tried(stack: &Stack, ask: Value) -> Value {
    stack.post("/reach/try", ask).await.1
}

/// Whether somebody reaches something is asked by machine, by address or by person, and the kernel is asked as well.
async fn each_is_asked_of_rules_and_kernel(stack: &Stack) {
    for (machine, to, open, kernel) in [
        (VISITOR.addresses[1], format!("[{}]:9000", SITE[1]), true, "by internet"),
        ("02-70-00-00-00-09", format!("{}:22", CRANE[0]), true, "by crane-hosts"),
        (VISITOR.addresses[0], format!("{}:23", CRANE[0]), false, "refuses"),
    ] {
        let said = tried(stack, json!({"to": to, "machine": machine})).await;
        let (of, gate) = (&said["machines"][0], &said["gates"][0]);
        assert_eq!((of["subject"].as_str(), of["kernel_open"].as_bool()), (Some("p-1004"), Some(open)), "{said}");
        assert!(of["kernel"].as_str().unwrap().contains(kernel) && gate["open"] == open, "{said}");
    }
    let said =
        tried(stack, json!({"to": format!("{}:443", SITE[0]), "person": {"provider": "pilotage", "subject": "p-1004"}})).await;
    assert_eq!(
        (said["machines"][0]["kernel_open"].as_bool(), said["gates"][0]["open"].as_bool()),
        (Some(true), Some(true)),
        "{said}"
    );
    let said = tried(stack, json!({"to": format!("{}:22", CRANE[0]), "machine": "02:70:00:00:00:0a"})).await;
    assert!(said["gates"][0]["sentence"].as_str().unwrap().contains("machine crane tablet 3"), "{said}");
    assert_eq!(said["machines"][0]["kernel_open"], true, "{said}");
    let said = tried(stack, json!({"to": format!("{}:443", SITE[0]), "machine": "10.70.0.250"})).await;
    assert!(said["machines"] == json!([]) && said["gates"][0]["open"] == false, "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn engineers_see_who_is_on_who_had_an_address_and_take_somebody_off() {
    if !Harbour::is_caged("yard::engineers::engineers_see_who_is_on_who_had_an_address_and_take_somebody_off") {
        return;
    }
    let harbour = Harbour::new(without_terms).await;
    harbour.yard.serve();
    let stack = &harbour.stack;
    // The link knows an address of the machine before anybody signs in on it, and tells of it no more.
    let door = std::net::SocketAddr::new(passeur_standins::cage::ROUTER[1].parse().unwrap(), 8_643);
    harbour.yard.at("visitor", move || TcpStream::connect(door).unwrap());
    by_the_office(&mut Person::new(), &yard(stack, "/"), "farid").await;
    let had = stack.get(&format!("/presences/addresses?address={}", VISITOR.addresses[1])).await;
    assert_eq!(had[0]["subject"], "p-1004", "at once, with the sign-in: {had}");
    let began = chrono::Utc::now();
    let mut stream = harbour.yard.at("visitor", || TcpStream::connect((SITE[1], 9_000)).unwrap());
    stream.write_all(b"go\n").unwrap();
    let mut got = vec![0; 3_000_000];
    stream.read_exact(&mut got).unwrap();
    drop(stream);
    eventually("what passed is counted and every address known", async || {
        let all = stack.get("/presences").await;
        let farid = all["presences"].as_array().unwrap().iter().find(|p| p["subject"] == "p-1004").cloned().unwrap();
        farid["down"].as_i64().unwrap() > 3_000_000
            && farid["addresses"].as_array().unwrap().len() == 2
            && farid["in_kernel"] == true
            && farid["opens"].as_array().unwrap().len() == 2
    })
    .await;
    let all = stack.get("/presences").await;
    let tablet = all["presences"].as_array().unwrap().iter().find(|p| p["provider"] == "machine").unwrap();
    assert_eq!(
        (tablet["name"].as_str(), tablet["calls_itself"].as_str()),
        (Some("crane tablet 3"), Some("tablet-3")),
        "{tablet}"
    );
    assert!(tablet["session"].is_null() && tablet["in_kernel"] == true, "{tablet}");
    each_is_asked_of_rules_and_kernel(stack).await;
    // A machine without a person has no session that could be ended.
    let (status, said) = stack.post("/presences/end", json!({"presences": [tablet["id"]]})).await;
    assert!(status == 409 && said["detail"].as_str().unwrap().contains("[[gate.machine]]"), "{said}");
    let farid = all["presences"].as_array().unwrap().iter().find(|p| p["subject"] == "p-1004").unwrap();
    assert_eq!(farid["groups"], json!(["fitters"]), "{farid}");
    let day = stack.get("/presences/day?gate=yard").await;
    let last = day.as_array().unwrap().last().unwrap();
    // It may have been counted in the quarter before.
    let down: i64 = day.as_array().unwrap().iter().map(|q| q["down"].as_i64().unwrap()).sum();
    let ever = stack.get("/presences?all=true").await["presences"].as_array().unwrap().len();
    assert!(last["people"] == 1 && last["machines"] == ever && down > 3_000_000, "{last} {down} of {ever}");
    for address in VISITOR.addresses {
        let had = stack.get(&format!("/presences/addresses?address={address}")).await;
        assert_eq!((had[0]["subject"].as_str(), had[0]["until"].is_null()), (Some("p-1004"), true), "{had}");
    }
    // All of it may be over within a second: the moment asked about later is one at which farid is on.
    let then = chrono::Utc::now();
    let (status, said) = stack.post("/presences/end", json!({"presences": [farid["id"]]})).await;
    assert!(status == 200 && said["behind"] == json!([]), "{said}");
    assert!(!harbour.reaches("visitor", SITE[0], 443));
    eventually("the end is written, with what passed", async || {
        let all = stack.get("/presences?all=true&text=p-1004").await;
        let gone = all["presences"][0].clone();
        gone["ended_by"] == "the session was ended" && gone["down"].as_i64().unwrap() > 3_000_000
    })
    .await;
    let had = stack
        .get(&format!("/presences/addresses?address={}&from={}", VISITOR.addresses[0], began.format("%Y-%m-%dT%H:%M:%SZ")))
        .await;
    assert!(had[0]["until"].is_string(), "{had}");
    let before = stack.get("/presences/addresses?address=10.70.0.9&until=2026-01-01T00:00:00Z").await;
    assert_eq!(before, json!([]));
    // A moment that is over: who was on then, by the edition of then, and nothing of the kernel.
    let said = tried(stack, json!({"to": format!("{}:443", SITE[0]), "machine": VISITOR.addresses[0], "at": then})).await;
    assert_eq!(
        (said["machines"][0]["subject"].as_str(), said["gates"][0]["open"].as_bool()),
        (Some("p-1004"), Some(true)),
        "{said}"
    );
    assert!(said["machines"][0]["kernel_open"].is_null() && said["source"].as_str().unwrap().starts_with("edition "), "{said}");
    let said = tried(stack, json!({"to": format!("{}:443", SITE[0]), "machine": VISITOR.addresses[0]})).await;
    assert_eq!((said["machines"].as_array().unwrap().len(), said["gates"][0]["open"].as_bool()), (0, Some(false)), "{said}");
    // The crossing of the sign-in tells the whole of it.
    let told = [
        "is let through in zone yard",
        "has the address fd70:70::9 now",
        "is let through no more in zone yard, because the session was ended",
    ];
    eventually("the whole of it is told", async || {
        let story = stack.get(&format!("/crossings/{}", farid["crossing"].as_str().unwrap())).await.to_string();
        told.iter().all(|words| story.contains(words))
    })
    .await;
}
