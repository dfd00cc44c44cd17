//! What is made in a session and outlives it takes a fresh proof, opens no more than that session did, and is taken away with it.

use chrono::Duration;
use passeur_standins::provider::Mode;
use reqwest::{Method, StatusCode};
use serde_json::json;

use crate::authorities::{by_token, token};
use crate::support::{Page, Person, Stack, engineer, eventually};

/// Whether the page of tokens, or of factors, lets something be made.
async fn may_make(person: &mut Person, stack: &Stack, page: &str) -> bool {
    let page = person.open(&stack.pass(page)).await;
    assert_eq!(page.status, StatusCode::OK, "{} {}", page.url, page.body);
    page.body.contains("name=\"days\"") || page.body.contains("value=\"totp\"")
}

/// A call of the API with the session of somebody's browser.
pub async fn call(person: &mut Person, stack: &Stack, path: &str, body: &str) -> Page {
    let origin = stack.pass("").trim_end_matches('/').to_owned();
    let before = std::mem::replace(&mut person.extra, vec![("origin", origin), ("content-type", "application/json".to_owned())]);
    let page = person.send_body(Method::POST, &stack.pass(&format!("/api/v1{path}")), body.to_owned()).await;
    person.extra = before;
    page
}

#[tokio::test(flavor = "multi_thread")]
async fn a_silent_sign_on_makes_nothing_that_outlives_it() {
    let stack = Stack::new().await;
    stack.behave(Mode::NoAuthTime);
    let mut benoit = stack.signed_in("benoit").await;
    // The provider does not say when he proved who he is: that counts as long ago, however young the session is.
    for page in ["/.passeur/tokens", "/.passeur/factors"] {
        assert!(!may_make(&mut benoit, &stack, page).await, "{page}");
    }
    let form = [("name", "x"), ("gate", "harbour-wide"), ("days", "30")];
    let made = benoit.send(Method::POST, &stack.pass("/.passeur/tokens"), Some(&form)).await;
    assert_eq!(made.status, StatusCode::FORBIDDEN);
    let made = benoit.send(Method::POST, &stack.pass("/.passeur/factors"), Some(&[("what", "totp")])).await;
    assert_eq!(made.status, StatusCode::FORBIDDEN);
    // Asked for, the provider has him prove it, and says when.
    let asked = benoit.open(&stack.pass("/.passeur/sign-in?for=tokens")).await;
    assert!(asked.body.contains("Password"), "it shows its page: {}", asked.body);
    let back = benoit.prove(asked, "benoit").await;
    let page = benoit.follow(back).await;
    assert!(page.url.ends_with("/.passeur/tokens") && page.body.contains("name=\"days\""), "{} {}", page.url, page.body);
    // A provider that does not heed it is no way to a token.
    stack.later(Duration::minutes(20));
    stack.behave(Mode::IgnoresPrompt);
    let page = benoit.open(&stack.pass("/.passeur/sign-in?for=tokens")).await;
    assert_eq!(page.status, StatusCode::FORBIDDEN, "{}", page.body);
    let story = stack.story(&page.crossing()).await;
    assert_eq!(story["code"], "check.not-afresh", "{story}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_of_this_morning_makes_nothing_that_outlives_it() {
    let stack = Stack::new().await;
    let mut benoit = stack.signed_in("benoit").await;
    assert!(may_make(&mut benoit, &stack, "/.passeur/tokens").await);
    let mut lucie = engineer(&stack, "lucie").await;
    let ask = json!({"name": "deploy", "role": "view", "days": 30}).to_string();
    let made = call(&mut lucie, &stack, "/tokens", &ask).await;
    assert_eq!(made.status, StatusCode::OK, "{}", made.body);
    stack.later(Duration::minutes(16));
    for page in ["/.passeur/tokens", "/.passeur/factors"] {
        assert!(!may_make(&mut benoit, &stack, page).await, "{page}");
    }
    let again = ask.replace("deploy", "again");
    let refused = call(&mut lucie, &stack, "/tokens", &again).await;
    assert_eq!(
        (refused.status, refused.json()["type"].as_str().map(|t| t.ends_with("fresh"))),
        (StatusCode::FORBIDDEN, Some(true))
    );
    // A command line is let in by a fresh proof alone, and its code is not lost on the way.
    let begun = Person::new().send(Method::POST, &stack.pass("/.passeur/device/authorize"), Some(&[])).await.json();
    let code = begun["user_code"].as_str().unwrap();
    lucie.accept = "text/html";
    let url = stack.pass("/.passeur/device");
    let form = [("user_code", code), ("answer", "yes"), ("role", "view")];
    let page = lucie.send(Method::POST, &url, Some(&form)).await;
    assert!(page.status == StatusCode::FORBIDDEN && page.body.contains("/.passeur/sign-in?for=device"), "{}", page.body);
    let link = page.link("Sign in");
    let asked = lucie.open(&link).await;
    let back = lucie.prove(asked, "lucie").await;
    let page = lucie.follow(back).await;
    assert!(page.url.contains(code) && page.body.contains(code), "{} {}", page.url, page.body);
    let page = lucie.send(Method::POST, &url, Some(&form)).await;
    assert_eq!(page.status, StatusCode::OK, "{}", page.body);
}

#[tokio::test(flavor = "multi_thread")]
async fn everywhere_means_tokens_that_nobody_used_yet_too() {
    let stack = Stack::new().await;
    let everybody = stack.everybody("/received");
    let mut benoit = stack.signed_in("benoit").await;
    let kept = token(&stack, &mut benoit, "harbour-wide").await;
    // Signing out here leaves them.
    benoit.send(Method::POST, &stack.pass("/.passeur/sign-out"), Some(&[])).await;
    assert_eq!(by_token(&everybody, &kept).await, StatusCode::OK);
    let mut benoit = stack.signed_in("benoit").await;
    let unused = token(&stack, &mut benoit, "harbour-wide").await;
    benoit.send(Method::POST, &stack.pass("/.passeur/sign-out"), Some(&[("how_far", "everywhere")])).await;
    for token in [&kept, &unused] {
        assert_eq!(by_token(&everybody, token).await, StatusCode::UNAUTHORIZED);
    }
    // An engineer who ends a person means them as well, and API tokens.
    let mut lucie = engineer(&stack, "lucie").await;
    let ask = json!({"name": "deploy", "role": "view", "days": 30}).to_string();
    let made = call(&mut lucie, &stack, "/tokens", &ask).await.json();
    let value = made["value"].as_str().unwrap();
    let me = stack.pass("/api/v1/me");
    assert_eq!(by_token(&me, value).await, StatusCode::OK);
    let (status, taken) = stack.post("/people/take-away", json!({"people": ["pilotage/p-1010"]})).await;
    assert_eq!((status, taken["api_tokens"].clone()), (200, json!(["deploy"])), "{taken}");
    assert_eq!(by_token(&me, value).await, StatusCode::UNAUTHORIZED);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_unasked_session_makes_nothing_and_grows_into_nothing() {
    let stack = Stack::new().await;
    let entity = stack.pass("/.passeur/saml/metadata");
    let start = format!("http://bureau-pilotage.localhost:{}/saml/start?service={entity}", stack.provider_port());
    let mut benoit = Person::new();
    let page = benoit.open(&start).await;
    let back = benoit.prove(page, "benoit").await;
    let parked = benoit.submit(&back).await;
    assert_eq!(benoit.follow(parked).await.status, 200);
    // Young as it is, nobody asked for it.
    let made = benoit.send(Method::POST, &stack.pass("/.passeur/factors"), Some(&[("what", "totp")])).await;
    assert_eq!(made.status, StatusCode::FORBIDDEN, "{}", made.body);
    let form = [("name", "x"), ("gate", "agents"), ("days", "30")];
    let made = benoit.send(Method::POST, &stack.pass("/.passeur/tokens"), Some(&form)).await;
    assert_eq!(made.status, StatusCode::FORBIDDEN, "{}", made.body);
    // On the way there the provider is asked, and has him prove it.
    let page = benoit.open(&stack.pass("/.passeur/factors")).await;
    assert!(page.body.contains("/.passeur/sign-in?for=factors"), "{}", page.body);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_token_whose_session_was_ended_stays_over_until_it_runs_out_itself() {
    let stack = Stack::new().await;
    let everybody = stack.everybody("/received");
    // An access token that lives longer than any session.
    let audience = stack.everybody("");
    let issued = stack.provider.jwt(&stack.provider.about("benoit", &audience, "openid", 6 * 86_400), "at+jwt");
    assert_eq!(by_token(&everybody, &issued).await, StatusCode::OK);
    let sessions = stack.get("/sessions").await;
    let id = sessions[0]["id"].clone();
    assert_eq!(stack.post("/sessions/end", json!({"sessions": [id]})).await.0, 200);
    assert_eq!(by_token(&everybody, &issued).await, StatusCode::UNAUTHORIZED);
    // The row of the session is swept a day after its lifetime; the token is not forgotten with it.
    stack.later(Duration::days(3));
    stack.sweep().await;
    assert_eq!(stack.database.count("sessions").await, 0, "the session is forgotten");
    assert_eq!(by_token(&everybody, &issued).await, StatusCode::UNAUTHORIZED);
    stack.later(Duration::days(4));
    stack.sweep().await;
    assert_eq!(stack.database.count("spent").await, 0, "it has run out, and is forgotten");
    assert_eq!(by_token(&everybody, &issued).await, StatusCode::UNAUTHORIZED);
}

#[tokio::test(flavor = "multi_thread")]
async fn twelve_first_uses_of_one_token_at_once_begin_one_session() {
    let stack = Stack::new().await;
    let everybody = stack.everybody("/received");
    let mut benoit = stack.signed_in("benoit").await;
    let token = token(&stack, &mut benoit, "harbour-wide").await;
    let before = stack.database.count("sessions").await;
    let all = futures_util::future::join_all((0..12).map(|_| by_token(&everybody, &token))).await;
    assert!(all.iter().all(|s| *s == StatusCode::OK), "{all:?}");
    assert_eq!(stack.database.count("sessions").await, before + 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_is_kept_out_is_told_so_whatever_the_rules_say() {
    let stack = Stack::new().await;
    let mut benoit = stack.signed_in("benoit").await;
    let token = token(&stack, &mut benoit, "harbour-wide").await;
    let ask = json!({"people": ["pilotage/p-1002"], "factors": true, "block": "left the harbour"});
    let (status, taken) = stack.post("/people/take-away", ask).await;
    assert_eq!(status, 200, "{taken}");
    benoit.accept = "application/json";
    assert_eq!(benoit.send(Method::GET, &stack.gate("/received"), None).await.status, 401);
    assert_eq!(by_token(&stack.everybody("/received"), &token).await, StatusCode::UNAUTHORIZED);
    let mut again = Person::new();
    let page = again.sign_in(&stack.gate("/"), "benoit").await;
    assert_eq!(page.status, StatusCode::FORBIDDEN, "{}", page.body);
    assert!(!page.body.contains("left the harbour"), "the reason is the engineers': {}", page.body);
    let story = stack.story(&page.crossing()).await;
    assert_eq!(story["code"], "check.kept-out", "{story}");
    assert!(story["why"].as_str().unwrap().contains("left the harbour"), "{story}");
    let (status, lifted) = stack.post("/people/lift", json!({"people": ["pilotage/p-1002"]})).await;
    assert_eq!((status, lifted["lifted"].as_array().map(Vec::len)), (200, Some(1)), "{lifted}");
    eventually("he comes in again", async || Person::new().sign_in(&stack.gate("/"), "benoit").await.status == 200).await;
}
