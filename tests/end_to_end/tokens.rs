//! API tokens: scoped, with an end, never wider than their owner and over with them.

use reqwest::Method;
use serde_json::{Value, json};

use crate::support::{Directory, Person, Stack, engineer};

async fn make(stack: &Stack, who: &mut Person, ask: Value) -> (u16, Value) {
    who.extra = vec![("origin", stack.pass("")), ("content-type", "application/json".into())];
    let page = who.send_body(Method::POST, &stack.pass("/api/v1/tokens"), ask.to_string()).await;
    (page.status.as_u16(), serde_json::from_str(&page.body).unwrap_or_default())
}

/// The status of a call with a token.
async fn with(stack: &Stack, token: &str, method: Method, path: &str) -> u16 {
    let mut script = Person::new();
    script.accept = "application/json";
    script.extra = vec![("authorization", format!("Bearer {token}")), ("content-type", "application/json".into())];
    script.send_body(method, &stack.pass(&format!("/api/v1{path}")), "{}".into()).await.status.as_u16()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_token_reaches_what_it_was_made_for_and_ends() {
    let stack = Stack::new().await;
    let mut lucie = engineer(&stack, "lucie").await;
    let ask = json!({"name": "dashboard", "role": "view", "days": 7, "areas": ["crossings", "gates"]});
    let (status, made) = make(&stack, &mut lucie, ask.clone()).await;
    assert_eq!(status, 200, "{made}");
    let token = made["value"].as_str().unwrap();
    assert_eq!(with(&stack, token, Method::GET, "/crossings").await, 200);
    assert_eq!(with(&stack, token, Method::GET, "/me").await, 200);
    assert_eq!(with(&stack, token, Method::GET, "/sessions").await, 403, "another part");
    assert_eq!(make(&stack, &mut lucie, ask).await.0, 409, "one of a name");
    let (_, wide) = make(&stack, &mut lucie, json!({"name": "operator", "role": "operate", "days": 1})).await;
    let wide = wide["value"].as_str().unwrap();
    assert_eq!(with(&stack, wide, Method::PUT, "/secrets/x").await, 422, "what it sends is looked at first");
    assert_eq!(with(&stack, wide, Method::POST, "/site/confirm").await, 403, "another role");
    for bad in [
        json!({"name": "", "role": "view", "days": 1}),
        json!({"name": "x", "role": "view", "days": 0}),
        json!({"name": "x", "role": "view", "days": 366}),
        json!({"name": "x", "role": "view", "days": 1, "areas": ["everything"]}),
        json!({"name": "x", "role": "view", "days": 1, "areas": []}),
    ] {
        assert_eq!(make(&stack, &mut lucie, bad.clone()).await.0, 400, "{bad}");
    }
    // Nobody makes one that reaches farther than they do, and a token makes none at all.
    let mut marc = engineer(&stack, "marc").await;
    assert_eq!(make(&stack, &mut marc, json!({"name": "x", "role": "configure", "days": 1})).await.0, 403);
    assert_eq!(stack.post("/tokens", json!({"name": "x", "role": "view", "days": 1})).await.0, 403);
    // Listed without a value, used at a time, revoked, run out.
    let list = stack.get("/tokens").await;
    assert!(list[0]["used_at"].is_string() && !list.to_string().contains(token), "{list}");
    assert_eq!(stack.delete("/tokens/dashboard").await.0, 204);
    assert_eq!(with(&stack, token, Method::GET, "/crossings").await, 401);
    stack.clock.advance(chrono::Duration::days(1));
    assert_eq!(with(&stack, wide, Method::GET, "/me").await, 401);
    let acts = stack.get("/acts?limit=3").await.to_string();
    assert!(acts.contains("revoke token") && acts.contains("make token") && !acts.contains(token));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_token_ends_with_its_owner() {
    let directory = Directory::alone().await;
    let url = directory.url();
    let stack = Stack::with(|s| {
        let at = s.find("url = \"ldap://").unwrap();
        let end = at + s[at..].find('\n').unwrap();
        format!("{}url = \"{url}\"{}", &s[..at], &s[end..])
    })
    .await;
    stack.put("/secrets/harbour-account", json!({"value": directory.password()})).await;
    let mut lucie = engineer(&stack, "lucie").await;
    let (_, made) = make(&stack, &mut lucie, json!({"name": "hers", "role": "configure", "days": 7})).await;
    let token = made["value"].as_str().unwrap();
    assert_eq!(with(&stack, token, Method::GET, "/site").await, 200);
    directory.modify("dn: cn=access-engineers,ou=groups,dc=havrelune,dc=example\nchangetype: modify\nreplace: member\nmember: uid=nobody,ou=people,dc=havrelune,dc=example\n");
    // Believed for a minute at most, although the owner never came again.
    stack.clock.advance(chrono::Duration::seconds(61));
    assert_eq!(with(&stack, token, Method::GET, "/site").await, 401);
}
