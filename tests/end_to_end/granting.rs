//! The one place that grants, by each way to carry a grant: what differs between them, on the same rule and the same person.

use reqwest::{Method, StatusCode};
use serde_json::Value;

use crate::support::{Person, Stack};

/// The site with a rule at the ledger, and at the ledger for everybody, that asks for something the provider can be asked for.
fn asking_for_more(site: &str) -> String {
    let rule =
        "[[gate.rule]]\nname = \"strong\"\nwhen = { everyone = true }\nstep-up = { context = \"urn:pilotage:retina\" }\n\n";
    let before = "[[gate.rule]]\nname = \"berth access\"";
    assert!(site.contains(before));
    site.replace(before, &format!("{rule}{before}"))
}

async fn outcomes(stack: &Stack, gate: &str) -> Vec<String> {
    stack.settle().await;
    let list = stack.get(&format!("/crossings?gate={gate}")).await;
    list["crossings"].as_array().unwrap().iter().map(|c| c["outcome"].as_str().unwrap().to_owned()).collect()
}

async fn roles_known(stack: &Stack) -> Vec<Value> {
    let found = stack.get("/people/pilotage/p-1002/roles").await;
    found["roles"].as_array().cloned().unwrap_or_default()
}

async fn by_token(stack: &Stack, token: &str) -> StatusCode {
    let mut program = Person::new();
    program.accept = "application/json";
    program.extra = vec![("authorization", format!("Bearer {token}"))];
    program.send(Method::GET, &stack.everybody("/received"), None).await.status
}

#[tokio::test(flavor = "multi_thread")]
async fn a_program_is_asked_for_nothing_more_and_changes_no_roles() {
    let stack = Stack::new().await;
    let token = |n: &str| {
        let mut claims = stack.provider.about("benoit", &stack.everybody(""), "openid", 300);
        claims["jti"] = n.into();
        stack.provider.jwt(&claims, "at+jwt")
    };
    let (before, after) = (token("before"), token("after"));
    assert_eq!(by_token(&stack, &before).await, StatusCode::OK);
    assert_eq!(outcomes(&stack, "harbour-wide").await, ["admitted"]);
    assert_eq!(stack.database.count("person_roles").await, 0, "a program has its owner's roles, and they are not noted by it");
    assert_eq!(stack.publish(&asking_for_more(&stack.site)).await.0, 200);
    // A new one, and one whose session is held: refused both, and both recorded.
    assert_eq!(by_token(&stack, &after).await, StatusCode::FORBIDDEN);
    assert_eq!(by_token(&stack, &before).await, StatusCode::FORBIDDEN);
    assert_eq!(outcomes(&stack, "harbour-wide").await, ["refused", "refused", "admitted"]);
    // To and fro, a held decision is recorded once.
    assert_eq!(by_token(&stack, &before).await, StatusCode::FORBIDDEN);
    assert_eq!(outcomes(&stack, "harbour-wide").await.len(), 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_person_is_asked_where_their_browser_goes_to_a_page_and_told_elsewhere() {
    let stack = Stack::new().await;
    let mut benoit = stack.signed_in("benoit").await;
    assert_eq!(roles_known(&stack).await.len(), 1, "noted at the sign-in");
    assert_eq!(stack.publish(&asking_for_more(&stack.site)).await.0, 200);
    // What is held is decided again: a page leads to the provider, and nothing is recorded as refused on the way.
    let away = benoit.send(Method::GET, &stack.gate("/received"), None).await;
    let there = benoit.until(away, "/authorize").await;
    assert!(there.contains("acr_values=urn%3Apilotage%3Aretina"), "{there}");
    assert!(!outcomes(&stack, "berths").await.contains(&"refused".to_owned()));
    // A background request is told, in one crossing however often it asks.
    benoit.extra = vec![("sec-fetch-mode", "cors".into()), ("sec-fetch-dest", "empty".into())];
    for _ in 0..2 {
        assert_eq!(benoit.send(Method::GET, &stack.gate("/received"), None).await.status, StatusCode::FORBIDDEN);
    }
    let refused = outcomes(&stack, "berths").await.iter().filter(|o| *o == "refused").count();
    assert_eq!(refused, 1);
    // At a sign-in the same is asked for, and refused only once it did not come back.
    benoit.extra.clear();
    let mut other = Person::new();
    let page = other.open(&stack.gate("/received")).await;
    let back = other.prove(page, "benoit").await;
    let there = other.until(back, "/authorize").await;
    assert!(there.contains("acr_values=urn%3Apilotage%3Aretina"), "{there}");
    let page = other.open(&there).await;
    assert_eq!(page.status, StatusCode::FORBIDDEN, "{}", page.body);
    assert_eq!(outcomes(&stack, "berths").await.iter().filter(|o| *o == "refused").count(), 2);
}
