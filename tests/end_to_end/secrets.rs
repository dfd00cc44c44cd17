//! Secrets have versions: a new one stands beside the old while both sides change, and is tried before it counts.

use serde_json::{Value, json};

use crate::support::{Person, Stack, env};

const RIGHT: &str = "ebb-and-flow-of-the-demo";

async fn set(stack: &Stack, name: &str, value: &str, stand_by: bool) -> Value {
    let (status, secret) = stack.put(&format!("/secrets/{name}"), json!({"value": value, "stand_by": stand_by})).await;
    assert_eq!(status, 200, "{secret}");
    secret
}

fn versions(secret: &Value) -> (i64, Option<i64>, Vec<i64>) {
    let kept = secret["versions"].as_array().unwrap().iter().map(|v| v["version"].as_i64().unwrap()).collect();
    (secret["version"].as_i64().unwrap(), secret["next"].as_i64(), kept)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_new_version_stands_beside_the_old_and_is_tried_before_it_counts() {
    let stack = Stack::new().await;
    // The other side has not changed yet: the new one is not taken, and what is in use goes on.
    assert_eq!(versions(&set(&stack, "pilotage-client", "not-yet", true).await), (1, Some(2), vec![2, 1]));
    stack.signed_in("anouk").await;
    let (status, problem) = stack.post("/secrets/pilotage-client/use", json!({"version": 2})).await;
    assert_eq!((status, problem["anyway"].as_str()), (409, Some("untried")), "{problem}");
    assert!(problem["detail"].as_str().unwrap().contains("provider pilotage"), "{problem}");
    assert_eq!(stack.post("/secrets/pilotage-client/use", json!({"version": 7})).await.0, 404);
    // The other side changed first: the one that stands by is taken.
    assert_eq!(versions(&set(&stack, "pilotage-client", "from-last-year", false).await), (3, None, vec![3, 1]));
    assert_eq!(Person::new().sign_in(&stack.gate("/"), "anouk").await.status, 502);
    assert_eq!(versions(&set(&stack, "pilotage-client", RIGHT, true).await), (3, Some(4), vec![4, 3]));
    stack.signed_in("benoit").await;
    let (_, trial) = stack.post("/trials/provider", json!({"name": "pilotage", "secret_version": 4})).await;
    assert_eq!(trial["good"], true, "{trial}");
    let (_, trial) = stack.post("/trials/provider", json!({"name": "pilotage"})).await;
    assert_eq!(trial["good"], false, "{trial}");
    let (status, secret) = stack.post("/secrets/pilotage-client/use", json!({"version": 4})).await;
    assert_eq!((status, versions(&secret)), (200, (4, None, vec![4, 3])));
    // One in use cannot be forgotten; one that is not can, and is gone.
    let forget = async |v: i32| stack.delete(&format!("/secrets/pilotage-client/versions/{v}")).await.0;
    assert_eq!((forget(4).await, forget(3).await, forget(3).await), (409, 200, 409));
    stack.signed_in("elodie").await;
    let acts = stack.get("/acts?limit=2").await;
    assert_eq!(acts["acts"][0]["about"], json!({"secret": "pilotage-client", "version": 3}));
    assert_eq!(acts["acts"][1]["what"], "use secret");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_directory_password_is_changed_without_a_refused_sign_in() {
    let stack = Stack::with(|s| s.replace("cache = \"30s\"", "cache = \"0s\"")).await;
    set(&stack, "harbour-account", "from-last-year", false).await;
    assert_eq!(Person::new().sign_in(&stack.gate("/"), "anouk").await.status, 502, "the account is refused");
    let secret = set(&stack, "harbour-account", &env("PASSEUR_TEST_LDAP_PASSWORD"), true).await;
    stack.signed_in("anouk").await;
    let (status, used) = stack.post("/secrets/harbour-account/use", json!({"version": secret["next"]})).await;
    assert_eq!((status, used["version"].clone()), (200, secret["next"].clone()));
    stack.signed_in("benoit").await;
}
