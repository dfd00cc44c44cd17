//! Who may change what: where the site says so, nobody widens roles alone.

use reqwest::Method;
use serde_json::{Value, json};

use crate::support::{Person, Stack, engineer};

/// Two engineers who may configure, and a site that asks for both.
fn site(site: String) -> String {
    site.replacen("[engineers]\n", "[engineers]\nsecond-engineer = true\n", 1).replacen(
        "enter = true\nroles = [\"view\"]",
        "enter = true\nroles = [\"configure\"]",
        1,
    )
}

async fn call(stack: &Stack, who: &mut Person, method: Method, path: &str, ask: Value) -> (u16, Value) {
    who.extra = vec![("origin", stack.pass("")), ("content-type", "application/json".into())];
    let page = who.send_body(method, &stack.pass(&format!("/api/v1{path}")), ask.to_string()).await;
    (page.status.as_u16(), serde_json::from_str(&page.body).unwrap_or_default())
}

async fn publish(stack: &Stack, who: &mut Person, document: &str) -> (u16, String) {
    let anyway = ["refuses-people", "locked-out", "expectations"];
    let ask = json!({"document": document, "note": "a test", "anyway": anyway});
    let (status, answer) = call(stack, who, Method::POST, "/site/publish", ask).await;
    (status, answer["type"].as_str().unwrap_or_default().to_owned())
}

async fn agree(stack: &Stack, who: &mut Person, document: &str) -> (u16, Value) {
    call(stack, who, Method::POST, "/site/agree", json!({"document": document})).await
}

const ASKED: &str = "urn:passeur:problem:second-engineer";

#[tokio::test(flavor = "multi_thread")]
async fn nobody_changes_alone_who_may_do_what() {
    let stack = Stack::with(site).await;
    let (mut lucie, mut marc) = (engineer(&stack, "lucie").await, engineer(&stack, "marc").await);
    let wider = stack.site.replacen("{ group = \"harbour-desk\" }", "{ everyone = true }", 1);
    let asked = (409, ASKED.to_owned());
    assert_eq!(publish(&stack, &mut lucie, &wider).await, asked);
    // Neither by switching the asking off first, nor by naming it.
    assert_eq!(publish(&stack, &mut lucie, &stack.site.replacen("second-engineer = true\n", "", 1)).await, asked);
    // Her own agreement is none; neither is a token's.
    assert_eq!(agree(&stack, &mut lucie, &wider).await.1["given"][0]["name"], "Lucie Morvan");
    assert_eq!(publish(&stack, &mut lucie, &wider).await, asked);
    assert_eq!(stack.post("/site/agree", json!({"document": wider})).await.0, 403);
    // Somebody else's counts, for exactly this document.
    let (status, given) = agree(&stack, &mut marc, &wider).await;
    assert_eq!((status, given["given"].as_array().unwrap().len()), (200, 2), "{given}");
    assert_eq!(publish(&stack, &mut lucie, &format!("{wider}\n# one more line")).await, asked);
    assert_eq!(publish(&stack, &mut lucie, &wider).await.0, 200);
    // An agreement is used up with the edition it was made on; going back is a change as well.
    let back = json!({"edition": 1, "note": "back", "anyway": ["locked-out", "refuses-people", "expectations"]});
    assert_eq!(call(&stack, &mut lucie, Method::POST, "/site/publish", back.clone()).await.0, 409);
    assert_eq!(call(&stack, &mut marc, Method::POST, "/site/agree", json!({"edition": 1})).await.0, 200);
    assert_eq!(call(&stack, &mut lucie, Method::POST, "/site/publish", back).await.0, 200);
    let acts = stack.get("/acts?limit=10").await.to_string();
    assert!(acts.contains("\"agree\"") && acts.contains("edition 1"), "{acts}");
}

#[tokio::test(flavor = "multi_thread")]
async fn everything_else_needs_nobody_and_a_token_of_nobody_needs_two() {
    let stack = Stack::with(site).await;
    let (mut lucie, mut marc) = (engineer(&stack, "lucie").await, engineer(&stack, "marc").await);
    let other = stack.site.replacen("title = \"Berth ledger\"", "title = \"Ledger of berths\"", 1);
    assert_eq!(publish(&stack, &mut lucie, &other).await.0, 200);
    assert_eq!(agree(&stack, &mut marc, &other).await.0, 409, "nothing to agree to");
    let wider = other.replacen("{ group = \"harbour-desk\" }", "{ everyone = true }", 1);
    assert_eq!(agree(&stack, &mut marc, &wider).await.0, 200);
    assert_eq!(stack.publish(&wider).await.0, 409, "whoever holds the token may be Marc");
    assert_eq!(agree(&stack, &mut lucie, &wider).await.0, 200);
    assert_eq!(stack.publish(&wider).await.0, 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_draft_says_whether_it_needs_somebody_and_who_agreed() {
    let stack = Stack::with(site).await;
    let (mut lucie, mut marc) = (engineer(&stack, "lucie").await, engineer(&stack, "marc").await);
    let wider = stack.site.replacen("{ group = \"harbour-desk\" }", "{ everyone = true }", 1);
    let begin = ("if-none-match", "*".to_owned());
    let (status, draft) = stack.put_with("/site/draft", json!({"document": wider, "based_on": 1}), begin).await;
    assert_eq!((status, &draft["second"]), (200, &json!({"wanted": true, "given": []})), "{draft}");
    let agreed = call(&stack, &mut marc, Method::POST, "/site/agree", json!({"draft": true})).await;
    assert_eq!(agreed.0, 200, "{}", agreed.1);
    assert_eq!(stack.get("/site/draft").await["second"]["given"][0]["name"], "Marc Olivier");
    let ask = json!({"draft": true, "note": "wider", "anyway": ["refuses-people", "expectations"]});
    assert_eq!(call(&stack, &mut lucie, Method::POST, "/site/publish", ask).await.0, 200);
}
