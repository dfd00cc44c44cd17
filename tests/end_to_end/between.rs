//! The world is stopped between a reading and what is made of it, and something ends in between: what was read is not kept.

use reqwest::Method;
use serde_json::json;

use crate::support::{Person, Stack, eventually};

const ENTRY: &str = "when = { group = \"berth-access\" }";

/// An edition under which whoever came in is decided otherwise, so that the decision has to be written before it counts.
async fn decided_otherwise(stack: &Stack) {
    let (status, answer) = stack.publish(&stack.site.replacen(ENTRY, &format!("{ENTRY}\nroles = [\"moored\"]"), 1)).await;
    assert_eq!(status, 200, "{answer}");
}

async fn status(person: &mut Person, url: &str) -> u16 {
    person.accept = "application/json";
    person.send(Method::GET, url, None).await.status.as_u16()
}

/// Holds a table until it is dropped, and says how many wait for it.
struct Held {
    holds: tokio_postgres::Client,
    looks: tokio_postgres::Client,
    table: &'static str,
}

impl Held {
    async fn new(stack: &Stack, table: &'static str) -> Held {
        let (holds, looks) = (stack.database.look().await, stack.database.look().await);
        holds.batch_execute(&format!("BEGIN; LOCK TABLE {table} IN EXCLUSIVE MODE")).await.unwrap();
        Held { holds, looks, table }
    }

    async fn waiting(&self) -> i64 {
        let sql = "SELECT count(*) FROM pg_locks l JOIN pg_class c ON c.oid = l.relation WHERE NOT l.granted AND c.relname = $1";
        self.looks.query_one(sql, &[&self.table]).await.unwrap().get(0)
    }

    async fn waited_for(&self) {
        eventually("somebody waits for the table", async || self.waiting().await > 0).await;
    }

    async fn let_go(self) {
        self.holds.batch_execute("COMMIT").await.unwrap();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_that_ends_while_it_is_decided_opens_nothing_afterwards() {
    let stack = Stack::new().await;
    let mut anouk = stack.admitted("anouk").await;
    let url = stack.gate("/received");
    let session = stack.get("/sessions?person=p-1001").await[0]["id"].clone();
    decided_otherwise(&stack).await;
    let held = Held::new(&stack, "crossings").await;
    let asks = tokio::spawn(async move {
        let first = status(&mut anouk, &url).await;
        (first, status(&mut anouk, &url).await)
    });
    held.waited_for().await;
    // Read as live and decided; not written yet. Now it ends.
    let ends = stack.post("/sessions/end", json!({"sessions": [session]}));
    let is_over = async {
        eventually("it is over", async || stack.get("/sessions?person=p-1001").await == json!([])).await;
        held.let_go().await;
    };
    let (ended, ()) = tokio::join!(ends, is_over);
    assert_eq!(ended.0, 200, "{}", ended.1);
    assert_eq!(asks.await.unwrap(), (401, 401));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_that_another_node_ends_while_it_is_decided_opens_nothing_afterwards() {
    let stack = Stack::new().await;
    let other = stack.second_node().await;
    let mut anouk = stack.admitted("anouk").await;
    let url = stack.gate("/received");
    let session = stack.get("/sessions?person=p-1001").await[0]["id"].as_str().unwrap().to_owned();
    decided_otherwise(&stack).await;
    let held = Held::new(&stack, "crossings").await;
    let asks = tokio::spawn(async move {
        let first = status(&mut anouk, &url).await;
        (first, status(&mut anouk, &url).await)
    });
    held.waited_for().await;
    // As another node does it: in the store alone, and seen by the counter.
    let look = stack.database.look().await;
    look.batch_execute(&format!(
        "BEGIN; UPDATE revocations SET counter = counter + 1; UPDATE sessions SET ended_at = now(), ended_by = 'another node', \
         revocation = (SELECT counter FROM revocations) WHERE id = '{session}'; COMMIT"
    ))
    .await
    .unwrap();
    let seen = "SELECT min(revocation) >= (SELECT counter FROM revocations) FROM nodes";
    eventually("every node has seen it", async || look.query_one(seen, &[]).await.unwrap().get::<_, bool>(0)).await;
    held.let_go().await;
    assert_eq!(asks.await.unwrap(), (401, 401));
    drop(other);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_slow_look_up_does_not_put_back_what_a_newer_one_replaced() {
    let stack = Stack::new().await;
    let _anouk = stack.admitted("anouk").await;
    let store = passeur_store::Store::connect(&stack.database.url, 2).await.unwrap();
    let id = stack.get("/sessions?person=p-1001").await[0]["id"].as_str().unwrap().parse().unwrap();
    let (slow, quick) = (store.session(id).await.unwrap().unwrap(), store.session(id).await.unwrap().unwrap());
    assert!(store.set_evidence(id, quick.evidence_version, json!({"newer": true})).await.unwrap());
    assert!(!store.set_evidence(id, slow.evidence_version, slow.evidence.clone()).await.unwrap());
    assert_eq!(store.session(id).await.unwrap().unwrap().evidence, json!({"newer": true}));
    // Nor is anything written to a session that is over.
    let newest = store.session(id).await.unwrap().unwrap();
    store.end_sessions(&[id], chrono::Utc::now(), "a test", None).await.unwrap();
    assert!(!store.set_evidence(id, newest.evidence_version, json!({})).await.unwrap());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_waits_to_be_recorded_and_its_end_are_one_crossing_whichever_is_written_first() {
    let stack = Stack::new().await;
    for round in 0..12 {
        let mut anouk = Person::new();
        let held = Held::new(&stack, "crossings").await;
        let page = crate::ways::form(&stack, &mut anouk, "Your harbour password").await;
        // So late that it is refused; and what waits is recorded once a minute of its kind.
        stack.later(chrono::Duration::minutes(16));
        let tries = tokio::spawn(async move { anouk.fill_in(&page, &[("name", "anouk"), ("password", "guess")]).await });
        eventually("both wait for the table", async || held.waiting().await >= 2).await;
        held.let_go().await;
        let page = tries.await.unwrap();
        assert_eq!(page.status, 403, "{round}: {}", page.body);
        stack.settle().await;
        let latest = stack.get("/crossings?limit=1").await["crossings"][0].clone();
        assert_eq!(
            (latest["id"].as_str(), latest["outcome"].as_str()),
            (Some(page.crossing().as_str()), Some("check-failed")),
            "{round}"
        );
        assert_eq!(stack.get("/crossings?outcome=never-came-back").await["crossings"], json!([]), "{round}: it came back");
    }
}
