//! The key ring against the database that was sealed with it: a wrong one does not start, and an old key can go.

use passeur_core::seal::Ring;
use serde_json::json;

use crate::support::Stack;

fn ring(keys: &[(u16, u8)]) -> Ring {
    Ring::parse(&keys.iter().map(|(n, b)| Ring::line(*n, [*b; 32])).collect::<String>()).unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_ring_that_does_not_belong_to_the_database_does_not_start() {
    let mut stack = Stack::new().await;
    let another = "key 1 of the ring file is another";
    for (keys, says) in
        [(vec![(1, 7)], another), (vec![(2, 42)], "lacks key 1, under which 5 secret versions"), (vec![(1, 7), (2, 42)], another)]
    {
        let error = stack.restart_with(ring(&keys), false).await.unwrap_err().to_string();
        assert!(error.contains(says), "{keys:?}: {error}");
    }
    // The same where nobody noted the keys yet: something that was sealed tells.
    stack.database.look().await.batch_execute("DELETE FROM ring_keys").await.unwrap();
    let error = stack.restart_with(ring(&[(1, 7)]), false).await.unwrap_err().to_string();
    assert!(error.contains(another), "{error}");
    // A key that nothing stands under keeps nobody out.
    let look = stack.database.look().await;
    look.batch_execute("INSERT INTO ring_keys (number, proof, seen_at) VALUES (7, '\\x00', '2026-01-01')").await.unwrap();
    stack.restart_with(ring(&[(1, 42)]), false).await.unwrap();
    assert_eq!(stack.get("/key-ring").await[0]["number"], 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_old_key_goes_once_everything_is_sealed_anew() {
    let mut stack = Stack::new().await;
    let old = stack.second_node().await;
    stack.restart_with(ring(&[(1, 42), (2, 43)]), false).await.unwrap();
    stack.put("/secrets/pilotage-client", json!({"value": "ebb-and-flow-of-the-demo", "stand_by": true})).await;
    let (_, erased) = stack.post("/acts/erase", json!({"person": "first token"})).await;
    assert!(erased["title"] == "Not one's own name", "{erased}");
    let held = stack.get("/acts/check").await;
    // The newest one seals, an unknown one is none, and nobody may go on sealing with the one that goes.
    for (number, status) in [(2, 409), (9, 404), (1, 409)] {
        assert_eq!(stack.post(&format!("/key-ring/{number}/retire"), json!({})).await.0, status, "{number}");
    }
    old.stop().await;
    let anouk = stack.signed_in("anouk").await;
    let (status, keys) = stack.post("/key-ring/1/retire", json!({})).await;
    assert_eq!(status, 200, "{keys}");
    let of = |i: usize, what: &str| keys[i][what].as_i64().unwrap();
    assert!(keys[0]["retired"].is_string() && ["secrets", "factors", "sessions", "acts"].iter().all(|w| of(0, w) == 0), "{keys}");
    assert!(of(1, "secrets") >= 6 && of(1, "acts") > held["acts"].as_i64().unwrap(), "{keys}");
    assert_eq!(stack.post("/key-ring/1/retire", json!({})).await.0, 404, "it is gone");
    // Without the old key everything opens and holds, and the act tells the head from before.
    stack.restart_with(ring(&[(2, 43)]), false).await.unwrap();
    assert_eq!(stack.get("/acts/check").await["holds"], true);
    let acts = stack.get("/acts?what=retire%20key").await;
    assert_eq!(acts["acts"][0]["about"]["head_before"].as_str().map(str::len), Some(64), "{acts}");
    assert_ne!(stack.get("/acts/check").await["head"], held["head"]);
    drop(anouk);
    stack.signed_in("benoit").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn after_a_restore_nobody_goes_on_with_a_session_from_before() {
    let mut stack = Stack::new().await;
    let mut anouk = stack.signed_in("anouk").await;
    stack.settle().await;
    stack.restart_with(ring(&[(1, 42)]), true).await.unwrap();
    anouk.accept = "application/json";
    assert_eq!(anouk.send(reqwest::Method::GET, &stack.gate("/received"), None).await.status, 401);
    let acts = stack.get("/acts?what=restored").await;
    assert_eq!(acts["acts"][0]["about"]["sessions"], 1, "{acts}");
}
