//! People belong to the issuer that vouches for them, not to the name that a site file gives it.

use passeur_standins::provider::{Provider, Register};
use passeur_standins::serve_on;
use reqwest::{Method, StatusCode};
use serde_json::json;
use tokio::net::TcpListener;

use crate::support::{Person, Stack};

/// Another provider with the same people, subjects and client, at an address of its own.
pub async fn another(stack: &Stack) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let issuer = format!("http://bureau-pilotage.localhost:{}", listener.local_addr().unwrap().port());
    let people = include_str!("../../demo/people.toml").replace(":8640", &format!(":{}", stack.address.port()));
    let provider = Provider::new(issuer.clone(), Register::parse(&people).unwrap());
    serve_on(listener, provider.router());
    issuer
}

/// A personal token of somebody who is signed in, good at a gate.
pub async fn token(stack: &Stack, person: &mut Person, gate: &str) -> String {
    let form = [("name", "a script"), ("gate", gate), ("days", "30")];
    let page = person.send(Method::POST, &stack.pass("/.passeur/tokens"), Some(&form)).await;
    assert_eq!(page.status, StatusCode::OK, "{}", page.body);
    let value = page.body.split("class=\"token\">").nth(1).and_then(|v| v.split('<').next());
    value.unwrap_or_else(|| panic!("no token: {}", page.body)).to_owned()
}

/// What a program with a token is answered.
pub async fn by_token(url: &str, token: &str) -> StatusCode {
    let mut program = Person::new();
    program.accept = "application/json";
    program.extra = vec![("authorization", format!("Bearer {token}"))];
    program.send(Method::GET, url, None).await.status
}

#[tokio::test(flavor = "multi_thread")]
async fn a_provider_that_becomes_another_issuer_gives_nobody_what_was_somebody_elses() {
    let stack = Stack::new().await;
    let mut benoit = stack.signed_in("benoit").await;
    let everybody = stack.everybody("/received");
    assert_eq!(benoit.open(&everybody).await.status, 200);
    let token = token(&stack, &mut benoit, "harbour-wide").await;
    assert_eq!(by_token(&everybody, &token).await, StatusCode::OK);
    let issuer = another(&stack).await;
    let old = stack.provider_origin();
    let site = stack.site.replace(&format!("issuer = \"{old}\""), &format!("issuer = \"{issuer}\""));
    assert_ne!(site, stack.site);
    // Publishing says so, by name and number, and is asked for by a word of its own.
    let anyway = ["refuses-people", "locked-out", "expectations"];
    let (status, refused) = stack.post("/site/publish", json!({"document": site, "note": "x", "anyway": anyway})).await;
    assert_eq!((status, refused["anyway"].as_str()), (409, Some("other-issuer")), "{refused}");
    let detail = refused["detail"].as_str().unwrap();
    for said in ["pilotage was oidc:", "becomes oidc:", "2 sessions and 1 token end", "--move-issuer pilotage"] {
        assert!(detail.contains(said), "{said}: {detail}");
    }
    let anyway = ["refuses-people", "locked-out", "expectations", "other-issuer", "other-source", "trial-failed"];
    let (status, published) = stack.post("/site/publish", json!({"document": site, "note": "x", "anyway": anyway})).await;
    assert_eq!(status, 200, "{published}");
    // What stood on the old one is over at once: session and token.
    benoit.accept = "application/json";
    assert_eq!(benoit.send(Method::GET, &stack.gate("/received"), None).await.status, 401);
    assert_eq!(by_token(&everybody, &token).await, StatusCode::UNAUTHORIZED);
    // Whoever has the same subject at the new issuer is somebody else: no token of the other's.
    let mut other = Person::new();
    assert_eq!(other.sign_in(&stack.gate("/received"), "benoit").await.status, 200);
    let page = other.open(&stack.pass("/.passeur/tokens")).await;
    assert!(!page.body.contains("a script"), "{}", page.body);
    let list = stack.get("/people/pilotage/p-1002/tokens").await;
    assert_eq!(list, json!([]));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_issuer_that_only_changed_its_address_takes_along_what_people_keep() {
    let stack = Stack::new().await;
    let mut benoit = stack.signed_in("benoit").await;
    let everybody = stack.everybody("/received");
    benoit.open(&everybody).await;
    let token = token(&stack, &mut benoit, "harbour-wide").await;
    let issuer = another(&stack).await;
    let site = stack.site.replace(&format!("issuer = \"{}\"", stack.provider_origin()), &format!("issuer = \"{issuer}\""));
    let anyway = ["refuses-people", "locked-out", "expectations", "other-source", "trial-failed"];
    let ask = |moves: &str| json!({"document": site, "note": "x", "anyway": anyway, "move_issuers": [moves]});
    let (status, refused) = stack.post("/site/publish", ask("pilotage-saml")).await;
    assert_eq!((status, refused["title"].as_str()), (400, Some("Nothing to move")), "{refused}");
    let (status, published) = stack.post("/site/publish", ask("pilotage")).await;
    assert_eq!(status, 200, "{published}");
    // The session is over, since the new address has proven nothing yet; the token is there, and serves again after one sign-in.
    assert_eq!(by_token(&everybody, &token).await, StatusCode::UNAUTHORIZED);
    let mut again = Person::new();
    assert_eq!(again.sign_in(&stack.gate("/received"), "benoit").await.status, 200);
    assert_eq!(by_token(&everybody, &token).await, StatusCode::OK);
    let acts = stack.get("/acts").await;
    assert!(acts.to_string().contains("\"moved\":true"), "{acts}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_passkeys_owner_is_looked_for_at_the_issuer_it_was_enrolled_under() {
    // The rows of a person are found by who vouches, whatever the provider's name says by now.
    let stack = Stack::new().await;
    let _benoit = stack.signed_in("benoit").await;
    let look = stack.database.look().await;
    let seed = "INSERT INTO factors (id, provider, subject, kind, name, sealed, created_at, authority) \
                VALUES (gen_random_uuid(), 'pilotage', 'p-1002', 'totp', 'of another issuer', '', '2026-01-01', 'oidc:https://elsewhere.example')";
    look.execute(seed, &[]).await.unwrap();
    let factors = stack.get("/people/pilotage/p-1002/factors").await;
    assert_eq!(factors["factors"], json!([]), "{factors}");
    // A name that the site does not know is no person without anything, but a mistake.
    let (status, none) = stack.post("/rehearse/person", json!({"provider": "pilotagee", "subject": "p-1002"})).await;
    assert_eq!((status, none["title"].as_str()), (404, Some("No such provider")), "{none}");
    assert_eq!(stack.status("/people/pilotagee/p-1002/factors").await, 404);
}
