//! The record of what engineers do: whole, chained, and open to erasure.

use serde_json::json;

use crate::support::Stack;

#[tokio::test(flavor = "multi_thread")]
async fn everything_an_engineer_does_is_recorded_and_the_chain_tells_what_was_done_to_it() {
    let stack = Stack::new().await;
    stack.signed_in("anouk").await;
    let sessions = stack.get("/sessions").await;
    stack.post("/sessions/end", json!({"sessions": [sessions[0]["id"]]})).await;
    stack.get("/secrets").await;
    let acts = stack.get("/acts").await;
    let told: Vec<String> = acts["acts"]
        .as_array()
        .unwrap()
        .iter()
        .map(|a| format!("{} {}", a["what"].as_str().unwrap(), a["by"].as_str().unwrap()))
        .collect();
    assert_eq!(
        told,
        [
            "list secrets token",
            "end sessions token",
            "publish token",
            "set secret token",
            "set secret token",
            "set secret token",
            "set secret token",
            "set secret token",
            "set token service"
        ]
    );
    assert_eq!(acts["acts"][1]["people"], json!(["Anouk Tregarec"]));
    assert!(!acts.to_string().contains("ebb-and-flow"), "no secret is in it");
    let check = stack.get("/acts/check").await;
    assert_eq!((check["holds"].as_bool(), check["acts"].as_i64()), (Some(true), Some(9)), "{check}");
    let noted = format!("/acts/check?number=9&head={}", check["head"].as_str().unwrap());
    // A name is erased and the chain still holds.
    let (_, erased) = stack.post("/acts/erase", json!({"person": "Anouk Tregarec"})).await;
    assert_eq!(erased["acts"], 1);
    assert!(!stack.get("/acts").await.to_string().contains("Anouk"), "the name is gone");
    let check = stack.get(&noted).await;
    assert_eq!((check["holds"].as_bool(), check["acts"].as_i64(), check["erased"].as_i64()), (Some(true), Some(10), Some(1)));
    // What whoever writes to the database can do, and what is told of it.
    let db = stack.database.look().await;
    let broken = async |path: &str| {
        let c = stack.get(path).await;
        (
            c["broken_at"].as_i64().unwrap_or(0),
            c["why"].as_str().unwrap_or_default().split(':').next().unwrap_or_default().to_owned(),
        )
    };
    db.batch_execute("CREATE TABLE kept AS SELECT * FROM acts; CREATE TABLE kept_head AS SELECT * FROM acts_head").await.unwrap();
    for (sql, want) in [
        ("UPDATE acts SET about = '{\"edition\": 7}' WHERE number = 5", (5, "what it says is not what was recorded")),
        (
            "UPDATE acts SET personal = '{\"who\": \"x\", \"by\": \"token\"}' WHERE number = 2",
            (2, "who did it, or whom it concerned, was changed in the database"),
        ),
        ("UPDATE acts SET personal = NULL WHERE number = 4", (4, "who did it is not there, and no act says that it was erased")),
        ("UPDATE acts SET at = at + interval '1 second' WHERE number = 3", (3, "what it says is not what was recorded")),
        ("DELETE FROM acts WHERE number = 5", (5, "the act is not there, and later ones are")),
        ("DELETE FROM acts WHERE number > 5", (6, "it and those after it were recorded and are not there")),
        (
            "UPDATE acts_head SET number = 5, mac = (SELECT mac FROM acts WHERE number = 5)",
            (10, "the kept head is not that of the last act"),
        ),
    ] {
        db.batch_execute(sql).await.unwrap();
        let found = broken("/acts/check").await;
        assert_eq!((found.0, found.1.as_str()), want, "{sql}");
        db.batch_execute("DELETE FROM acts; INSERT INTO acts SELECT * FROM kept; DELETE FROM acts_head; INSERT INTO acts_head SELECT * FROM kept_head").await.unwrap();
    }
    // Acts and head cut together: only a head noted elsewhere tells.
    db.batch_execute(
        "DELETE FROM acts WHERE number > 4; UPDATE acts_head SET number = 4, mac = (SELECT mac FROM acts WHERE number = 4)",
    )
    .await
    .unwrap();
    assert_eq!(broken("/acts/check").await.0, 0);
    assert_eq!(broken(&noted).await, (5, "it and those after it were recorded and are not there".into()));
    for wrong in ["/acts/check?number=6", "/acts/check?number=8&head=xyz"] {
        assert_eq!(stack.status(wrong).await, 400, "{wrong}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn acts_of_many_at_once_make_one_chain() {
    let stack = std::sync::Arc::new(Stack::new().await);
    let all: Vec<_> = (0..20)
        .map(|i| {
            let stack = stack.clone();
            tokio::spawn(async move { stack.put(&format!("/secrets/many-{i}"), json!({"value": "x"})).await.0 })
        })
        .collect();
    for one in all {
        assert_eq!(one.await.unwrap(), 200);
    }
    let check = stack.get("/acts/check").await;
    assert_eq!((check["holds"].as_bool(), check["acts"].as_i64()), (Some(true), Some(27)), "{check}");
}
