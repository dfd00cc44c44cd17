//! Programs without a browser: access tokens of the provider, and tokens that people make.

use chrono::Duration;
use reqwest::{Method, StatusCode};
use serde_json::json;

use crate::support::{Page, Person, Stack};

/// A request with a token and nothing else.
async fn with(stack: &Stack, token: &str, path: &str) -> Page {
    let mut program = Person::new();
    program.accept = "application/json";
    program.extra = vec![("authorization", format!("Bearer {token}"))];
    program.send(Method::GET, &stack.everybody(path), None).await
}

fn origin(stack: &Stack) -> String {
    stack.everybody("")
}

#[tokio::test]
async fn an_access_token_is_checked_here_and_comes_in_like_a_person() {
    let stack = Stack::new().await;
    let good = stack.provider.about("benoit", &origin(&stack), "openid", 300);
    let token = stack.provider.jwt(&good, "at+jwt");
    let page = with(&stack, &token, "/received").await;
    assert_eq!(page.status, StatusCode::OK, "{}", page.body);
    assert_eq!((page.saw("x-harbour-user"), page.saw("x-harbour-roles")), (vec!["benoit".into()], vec!["planner".into()]));
    assert!(page.saw("authorization").is_empty(), "no token of anybody's goes on: {}", page.body);
    // The same person, the same rules, one crossing; the second request makes none.
    assert_eq!(with(&stack, &token, "/received").await.status, StatusCode::OK);
    let list = stack.get("/crossings?gate=harbour-wide").await;
    assert_eq!(list["crossings"].as_array().unwrap().len(), 1, "{list}");
    let story = stack.story(list["crossings"][0]["id"].as_str().unwrap()).await.to_string();
    assert!(story.contains("given to client night-shift, is valid (checked here (RFC 9068))"), "{story}");
    // Ended by an engineer: the token opens nothing more, although the provider would still sign it.
    let sessions = stack.get("/sessions").await;
    assert_eq!(stack.post("/sessions/end", json!({"sessions": [sessions[0]["id"]]})).await.0, 200);
    let page = with(&stack, &token, "/received").await;
    assert_eq!(
        (page.status, page.header("www-authenticate")),
        (StatusCode::UNAUTHORIZED, "Bearer realm=\"passeur\", error=\"invalid_token\"")
    );
    // A factor is asked for in vain of a program: it is told.
    let other = stack.provider.jwt(&stack.provider.about("benoit", &origin(&stack), "openid", 300), "at+jwt");
    assert_eq!(with(&stack, &other, "/assign").await.status, StatusCode::FORBIDDEN);
}

#[tokio::test]
async fn whatever_is_no_access_token_for_this_gate_is_none() {
    let stack = Stack::new().await;
    let about = |edit: fn(&mut serde_json::Value)| {
        let mut claims = stack.provider.about("benoit", &origin(&stack), "openid", 300);
        edit(&mut claims);
        claims
    };
    let jwt = |claims: &serde_json::Value| stack.provider.jwt(claims, "at+jwt");
    let good = about(|_| {});
    // The first character of the signature: all six bits of it count, and two signatures of one text may differ.
    let whole = jwt(&good);
    let (signed, signature) = whole.rsplit_once('.').unwrap();
    let first = if signature.starts_with('A') { "B" } else { "A" };
    let broken = format!("{signed}.{first}{}", &signature[1..]);
    let mut told = std::collections::BTreeSet::new();
    for (token, check) in [
        (jwt(&about(|c| c["aud"] = json!("http://berths.havrelune.localhost"))), "audience"),
        (jwt(&about(|c| c["iss"] = json!("http://elsewhere.localhost"))), "issuer"),
        (jwt(&about(|c| c["exp"] = json!(1_700_000_000))), "expiry"),
        (jwt(&about(|c| c["nbf"] = json!(4_000_000_000_i64))), "not-before"),
        (jwt(&about(|c| c["sub"] = json!(""))), "sub"),
        (stack.provider.jwt(&good, "JWT"), "typ"),
        (broken, "signature"),
        ("never-seen".to_owned(), "active"),
        (format!("passeur_{}", "A".repeat(43)), "token"),
    ] {
        let page = with(&stack, &token, "/received").await;
        assert_eq!(page.status, StatusCode::UNAUTHORIZED, "{check}");
        let id = page.json()["crossing"].as_str().unwrap().to_owned();
        // What else is like it within a minute is counted on it, and nobody is told of another's attempt.
        assert_eq!(with(&stack, &token, "/received").await.json()["crossing"], id.as_str(), "{check}");
        assert!(told.insert(id.clone()), "{check}: the crossing of another token");
        let story = stack.story(&id).await.to_string();
        assert!(story.contains("The token was not taken"), "{check}: {story}");
        let failed = story.split("\"check\":").nth(1).unwrap_or_default();
        assert!(failed.starts_with(&format!("{{\"code\":\"{check}\"")), "{check}: {failed}");
        assert!(!story.contains(&token), "{check}: the token stands in the crossing");
    }
    // The id_token of a sign-in, or a token at a gate that takes none, are nothing.
    let mut program = Person::new();
    program.extra = vec![("authorization", format!("Bearer {}", jwt(&good)))];
    program.accept = "application/json";
    assert_eq!(program.send(Method::GET, &stack.gate("/received"), None).await.status, StatusCode::UNAUTHORIZED);
    // In the address it is not looked at.
    let mut program = Person::new();
    let page = program.send(Method::GET, &stack.everybody(&format!("/received?access_token={}", jwt(&good))), None).await;
    assert_eq!(page.status, StatusCode::BAD_REQUEST);
    assert_eq!(stack.latest().await.1, "gate.token-in-address");
}

#[tokio::test]
async fn an_opaque_token_is_asked_of_the_provider_and_ends_when_it_runs_out() {
    let stack = Stack::new().await;
    let token = stack.provider.opaque(&stack.provider.about("benoit", &origin(&stack), "openid", 300));
    assert_eq!(with(&stack, &token, "/received").await.saw("x-harbour-user"), ["benoit"]);
    // What was opened is good until the token runs out, and not longer.
    stack.clock.advance(Duration::minutes(4));
    assert_eq!(with(&stack, &token, "/received").await.status, StatusCode::OK);
    stack.provider.take_back(&token);
    stack.clock.advance(Duration::minutes(2));
    assert_eq!(with(&stack, &token, "/received").await.status, StatusCode::UNAUTHORIZED);
    let elsewhere = stack.provider.opaque(&stack.provider.about("benoit", "http://elsewhere.localhost", "openid", 300));
    assert_eq!(with(&stack, &elsewhere, "/received").await.status, StatusCode::UNAUTHORIZED);
}

/// Somebody who made a token at the quay.
async fn maker(stack: &Stack, form: &[(&str, &str)]) -> (Person, String) {
    let mut person = Person::new();
    let there = super::form(stack, &mut person, "the pilotage office").await;
    let back = person.prove(there, "benoit").await;
    person.follow(back).await;
    let page = person.send(Method::POST, &stack.pass("/.passeur/tokens"), Some(form)).await;
    assert_eq!(page.status, StatusCode::OK, "{}", page.body);
    let token = page.body.split("class=\"token\">").nth(1).unwrap().split('<').next().unwrap().to_owned();
    (person, token)
}

#[tokio::test]
async fn a_token_that_somebody_made_is_never_wider_than_they_are() {
    let stack = Stack::new().await;
    let form = [("name", "night report"), ("gate", "harbour-wide"), ("gate", "berths"), ("paths", "/received"), ("days", "7")];
    let (mut benoit, token) = maker(&stack, &form).await;
    let page = with(&stack, &token, "/received").await;
    assert_eq!((page.status, page.saw("x-harbour-user")), (StatusCode::OK, vec!["benoit".to_owned()]), "{}", page.body);
    // Other paths, and other spellings that an application might read as them, are closed.
    for path in ["/", "/received/../assign", "/%72eceived/../", "/receivedx"] {
        assert_eq!(with(&stack, &token, path).await.status, StatusCode::FORBIDDEN, "{path}");
    }
    // A gate that takes no tokens could not be chosen.
    let (provider, subject) = ("pilotage", "p-1002");
    let tokens = stack.get(&format!("/people/{provider}/{subject}/tokens")).await;
    assert_eq!((&tokens[0]["gates"], &tokens[0]["name"]), (&json!(["harbour-wide"]), &json!("night report")));
    // It is told to its owner, who revokes it: what it opened is over.
    let page = benoit.open(&stack.pass("/.passeur/tokens")).await;
    assert!(page.body.contains("night report") && !page.body.contains(&token), "{}", page.body);
    let id = tokens[0]["id"].as_str().unwrap();
    benoit.send(Method::POST, &stack.pass("/.passeur/tokens"), Some(&[("revoke", id)])).await;
    assert_eq!(with(&stack, &token, "/received").await.status, StatusCode::UNAUTHORIZED);
    for bad in [
        vec![("name", ""), ("gate", "harbour-wide"), ("days", "7")],
        vec![("name", "x"), ("gate", "berths"), ("days", "7")],
        vec![("name", "x"), ("gate", "harbour-wide"), ("days", "0")],
        vec![("name", "x"), ("gate", "harbour-wide"), ("days", "7"), ("paths", "/a/../b")],
    ] {
        let page = benoit.send(Method::POST, &stack.pass("/.passeur/tokens"), Some(&bad)).await;
        assert_eq!(page.status, StatusCode::BAD_REQUEST, "{bad:?}");
    }
}

#[tokio::test]
async fn a_token_is_over_with_its_owner() {
    let stack = Stack::with(|s| s.replace("personal-tokens = true\n", "personal-tokens = true\nowner-seen = \"2h\"\n")).await;
    let form = [("name", "report"), ("gate", "harbour-wide"), ("days", "365")];
    let (_, token) = maker(&stack, &form).await;
    assert_eq!(with(&stack, &token, "/received").await.status, StatusCode::OK);
    // Who has left by the rules is refused, by token as well.
    let leavers = stack.site.replace("leavers = [\"pilotage/p-1999\"]", "leavers = [\"pilotage/p-1002\"]");
    assert_eq!(stack.publish(&leavers).await.0, 200);
    assert_eq!(with(&stack, &token, "/received").await.status, StatusCode::FORBIDDEN);
    assert_eq!(stack.publish(&stack.site).await.0, 200);
    assert_eq!(with(&stack, &token, "/received").await.status, StatusCode::OK);
    // Whose session is ended by an engineer loses the token that opened it.
    let sessions = stack.get("/sessions?person=p-1002").await;
    let ids: Vec<_> = sessions.as_array().unwrap().iter().map(|s| s["id"].clone()).collect();
    assert_eq!(ids.len(), 2, "one of the browser, one of the program");
    stack.post("/sessions/end", json!({"sessions": ids})).await;
    assert_eq!(with(&stack, &token, "/received").await.status, StatusCode::UNAUTHORIZED);
    assert_eq!(stack.get("/people/pilotage/p-1002/tokens").await, json!([]));
    // And whoever does not come any more is not spoken for.
    let (_, token) = maker(&stack, &form).await;
    stack.clock.advance(Duration::hours(3));
    assert_eq!(with(&stack, &token, "/received").await.status, StatusCode::UNAUTHORIZED);
    let told = stack.latest().await;
    assert_eq!(told.1, "caller.refused");
}
