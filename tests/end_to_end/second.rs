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

/// Lucie and the agents' entrance, by which she comes in too, beside the usual one.
fn two_ways(text: String) -> String {
    let at = text.find("[engineers]").unwrap();
    let end = text[at..].replacen("provider = \"pilotage\"", "ways-in = [\"pilotage\", \"pilotage-saml\"]", 1);
    site(format!("{}{end}", &text[..at]))
}

/// An engineer who chooses how to come in.
async fn engineer_by(stack: &Stack, user: &str, title: &str) -> Person {
    let mut person = Person::new();
    let page = person.open(&stack.pass("/.passeur/sign-in?for=console")).await;
    let to = page.link(title);
    let page = person.open(&to).await;
    let back = person.prove(page, user).await;
    let back = if title == AGENTS { person.submit(&back).await } else { back };
    person.follow(back).await;
    person.accept = "application/json";
    person
}

const USUAL: &str = "the pilotage office";
const AGENTS: &str = "the pilotage office, agents' entrance";

#[tokio::test(flavor = "multi_thread")]
async fn one_engineer_with_two_ways_in_is_not_two() {
    let stack = Stack::with(two_ways).await;
    let (mut lucie, mut other) = (engineer_by(&stack, "lucie", USUAL).await, engineer_by(&stack, "lucie", AGENTS).await);
    let wider = stack.site.replacen("{ group = \"harbour-desk\" }", "{ everyone = true }", 1);
    assert_eq!(agree(&stack, &mut other, &wider).await.0, 200);
    let anyway = ["refuses-people", "locked-out", "expectations"];
    let ask = json!({"document": wider, "note": "a test", "anyway": anyway});
    let (status, told) = call(&stack, &mut lucie, Method::POST, "/site/publish", ask).await;
    assert_eq!((status, told["type"].as_str()), (409, Some(ASKED)), "{told}");
    let words = told["detail"].as_str().unwrap();
    assert!(words.contains("may be one and the same person") && words.contains("lucie"), "{words}");
    // Nor are the two of her two for a token of nobody.
    assert_eq!(agree(&stack, &mut lucie, &wider).await.0, 200);
    assert_eq!(stack.publish(&wider).await.0, 409);
    let mut marc = engineer_by(&stack, "marc", USUAL).await;
    assert_eq!(agree(&stack, &mut marc, &wider).await.0, 200);
    assert_eq!(publish(&stack, &mut lucie, &wider).await.0, 200);
}

async fn secret(stack: &Stack, who: &mut Person, name: &str, value: &str) -> Value {
    let (status, told) = call(stack, who, Method::PUT, &format!("/secrets/{name}"), json!({"value": value})).await;
    assert_eq!(status, 200, "{told}");
    told
}

#[tokio::test(flavor = "multi_thread")]
async fn what_the_roles_stand_on_serves_nothing_until_another_puts_it_into_use() {
    let stack = Stack::with(two_ways).await;
    let (mut lucie, mut marc) = (engineer_by(&stack, "lucie", USUAL).await, engineer_by(&stack, "marc", USUAL).await);
    let right = "ebb-and-flow-0417";
    let told = secret(&stack, &mut lucie, "pilotage-client", right).await;
    assert_eq!(
        (told["version"].as_i64(), told["next"].as_i64(), &told["versions"][0]["waits"]),
        (Some(1), None, &json!(true)),
        "{told}"
    );
    let version = told["versions"][0]["version"].clone();
    let put = json!({"version": version, "anyway": ["untried"]});
    let path = "/secrets/pilotage-client/use";
    let (status, no) = call(&stack, &mut lucie, Method::POST, path, put.clone()).await;
    assert_eq!((status, no["type"].as_str()), (409, Some(ASKED)), "{no}");
    assert!(no["detail"].as_str().unwrap().contains("may be you"), "{no}");
    let mut other = engineer_by(&stack, "lucie", AGENTS).await;
    assert_eq!(call(&stack, &mut other, Method::POST, path, put.clone()).await.0, 409, "she again, by another way");
    assert_eq!(stack.post(path, put.clone()).await.0, 409, "a token shows nothing of who holds it");
    let (status, used) = call(&stack, &mut marc, Method::POST, path, put.clone()).await;
    assert_eq!((status, &used["version"], &used["versions"][0]["waits"]), (200, &version, &Value::Null), "{used}");
    // A token of nobody may be anybody's: nobody can put into use what it stored.
    let (_, told) = stack.put("/secrets/pilotage-client", json!({"value": right})).await;
    let put = json!({"version": told["versions"][0]["version"], "anyway": ["untried"]});
    let (status, no) = call(&stack, &mut marc, Method::POST, path, put).await;
    assert!(status == 409 && no["detail"].as_str().unwrap().contains("token of nobody"), "{no}");
    // What no role stands on is in use at once.
    assert!(secret(&stack, &mut lucie, "wharf-salt", "salt of the sea").await["versions"][0]["waits"].is_null());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_key_of_tickets_that_one_engineer_stored_opens_nothing() {
    // Whoever can store a service's key can make tickets of anybody: it must not be taken while it waits.
    let stack = Stack::with(|text| {
        let at = text.find("[engineers]").unwrap();
        let end = text[at..].replacen("provider = \"pilotage\"", "ways-in = [\"pilotage\", \"ticket\"]", 1);
        site(format!("{}{end}", &text[..at]))
    })
    .await;
    let mut lucie = engineer_by(&stack, "lucie", USUAL).await;
    let before = stack.post("/kerberos", json!({})).await.1;
    let told = secret(&stack, &mut lucie, "harbour-keytab", "BQIAAAA=").await;
    assert_eq!(told["versions"][0]["waits"], true, "{told}");
    let after = stack.post("/kerberos", json!({})).await.1;
    assert!(before["keytabs"].as_array().is_some_and(|k| !k.is_empty()), "{before}");
    assert_eq!(before["keytabs"], after["keytabs"], "keys that wait are not among those that open tickets");
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_erases_their_own_name() {
    let stack = Stack::with(two_ways).await;
    let (mut lucie, mut marc) = (engineer_by(&stack, "lucie", USUAL).await, engineer_by(&stack, "marc", USUAL).await);
    let mut other = engineer_by(&stack, "lucie", AGENTS).await;
    assert_eq!(call(&stack, &mut lucie, Method::GET, "/secrets", Value::Null).await.0, 200);
    for name in ["Lucie Morvan", " lucie morvan ", "lucie"] {
        let (status, told) = call(&stack, &mut lucie, Method::POST, "/acts/erase", json!({"person": name})).await;
        assert_eq!((status, told["type"].as_str()), (409, Some("urn:passeur:problem:own-name")), "{name}: {told}");
        assert_eq!(call(&stack, &mut other, Method::POST, "/acts/erase", json!({"person": name})).await.0, 409, "{name}");
    }
    let (status, told) = call(&stack, &mut marc, Method::POST, "/acts/erase", json!({"person": "Lucie Morvan"})).await;
    assert_eq!((status, told["acts"].as_i64().unwrap() > 0), (200, true), "{told}");
    assert_eq!(stack.get("/acts/check").await["holds"], true);
    let told = stack.get("/acts").await;
    assert_eq!(told["acts"][0]["who"], "Marc Olivier", "who erased stands there");
    assert!(told["acts"][0]["about"]["acts"].as_str().is_some_and(|a| !a.is_empty()), "{told}");
}
