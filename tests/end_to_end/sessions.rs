//! Sessions: ended, idle, old, over a restart, and signed out of.

use reqwest::Method;
use serde_json::json;

use crate::support::{Person, Stack};

#[tokio::test(flavor = "multi_thread")]
async fn an_ended_session_is_over_at_the_next_request() {
    let stack = Stack::new().await;
    let mut anouk = stack.signed_in("anouk").await;
    let sessions = stack.get("/sessions?person=anouk").await;
    let id = sessions[0]["id"].clone();
    assert_eq!(stack.post("/sessions/end", json!({"sessions": [id]})).await.1["ended"], json!([id]));
    anouk.accept = "application/json";
    let page = anouk.send(Method::GET, &stack.gate("/received"), None).await;
    assert_eq!(page.status, 401);
    assert_eq!(stack.get("/sessions?person=anouk").await, json!([]));
    // Also at the sign-in host: the way back asks for the password again.
    anouk.accept = "text/html";
    assert_eq!(stack.post("/sessions/end", json!({"sessions": [id]})).await.1["ended"], json!([]));
    let page = anouk.open(&stack.pass("/")).await;
    assert!(page.body.contains("You are not signed in"));
    let told = stack.get("/crossings?outcome=signed-out").await;
    assert!(told["crossings"][0]["why"].as_str().unwrap().contains("an engineer (first token): Anouk Tregarec"), "{told}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_ends_when_idle_or_old_whatever_memory_says() {
    let stack = Stack::new().await;
    let mut anouk = stack.signed_in("anouk").await;
    anouk.accept = "application/json";
    for _ in 0..11 {
        stack.clock.advance(chrono::Duration::minutes(50));
        assert_eq!(anouk.open(&stack.gate("/received")).await.status, 200, "used within the hour");
    }
    stack.clock.advance(chrono::Duration::minutes(50));
    let page = anouk.send(Method::GET, &stack.gate("/received"), None).await;
    assert_eq!(page.json()["type"], "urn:passeur:problem:too-old");
    let stack = Stack::new().await;
    let mut benoit = stack.signed_in("benoit").await;
    benoit.accept = "application/json";
    stack.clock.advance(chrono::Duration::minutes(61));
    let page = benoit.send(Method::GET, &stack.gate("/received"), None).await;
    assert_eq!(page.json()["type"], "urn:passeur:problem:idle-too-long");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_outlives_a_restart_with_the_same_decision() {
    let mut stack = Stack::new().await;
    let mut benoit = stack.signed_in("benoit").await;
    let before = stack.get("/crossings").await["crossings"].as_array().unwrap().len();
    stack.restart().await;
    assert_eq!(benoit.open(&stack.gate("/received")).await.status, 200);
    stack.settle().await;
    assert_eq!(stack.get("/crossings").await["crossings"].as_array().unwrap().len(), before, "nothing new was decided");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_new_edition_decides_anew_and_says_so_once() {
    let stack = Stack::new().await;
    let mut anouk = stack.signed_in("anouk").await;
    let stricter = stack.site.replace("when = { group = \"berth-access\" }", "when = { group = \"harbour-desk\" }");
    assert_eq!(stack.publish(&stricter).await.0, 200);
    let first = anouk.open(&stack.gate("/")).await;
    assert_eq!(first.status, 403);
    let again = anouk.open(&stack.gate("/")).await;
    assert_eq!(first.crossing(), again.crossing(), "one decision, one crossing");
    let story = stack.story(&first.crossing()).await;
    assert_eq!((story["code"].as_str(), story["edition"].as_i64()), (Some("rules.nothing-grants"), Some(2)));
    assert_eq!(stack.publish(&stack.site).await.0, 200);
    assert_eq!(anouk.open(&stack.gate("/")).await.status, 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn signing_out_ends_everything_here_and_offers_the_provider() {
    let stack = Stack::new().await;
    let mut anouk = stack.signed_in("anouk").await;
    let gate_sign_out = anouk.open(&stack.gate("/.passeur/sign-out")).await;
    assert!(gate_sign_out.body.contains("Sign out here and at every gate?"), "{}", gate_sign_out.body);
    let page = anouk.send(Method::POST, &stack.pass("/.passeur/sign-out"), Some(&[])).await;
    assert!(page.body.contains("Sign out at the pilotage office"), "{}", page.body);
    assert!(!anouk.cookies["pass.havrelune.localhost"].contains_key("passeur-session"));
    anouk.accept = "application/json";
    assert_eq!(anouk.send(Method::GET, &stack.gate("/received"), None).await.status, 401);
    // The link signs out there, too, and comes back.
    anouk.accept = "text/html";
    let at = page.body.find("http://bureau-pilotage").unwrap();
    let link = page.body[at..at + page.body[at..].find('"').unwrap()].replace("&amp;", "&");
    let back = anouk.open(&link).await;
    assert!(back.url.ends_with("/.passeur/signed-out"), "{}", back.url);
    assert!(anouk.open(&stack.gate("/")).await.body.contains("Password"), "asked again");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_elsewhere_cannot_sign_anybody_out() {
    let stack = Stack::new().await;
    let mut anouk = stack.signed_in("anouk").await;
    for (origin, site) in [(Some(stack.gate("")), "same-site"), (Some("null".into()), "cross-site"), (None, "cross-site")] {
        anouk.extra = vec![("sec-fetch-site", site.to_owned())];
        anouk.extra.extend(origin.map(|o| ("origin", o)));
        let page = anouk.send(Method::POST, &stack.pass("/.passeur/sign-out"), None).await;
        assert_eq!(page.status, 403, "{site}");
    }
    anouk.extra.clear();
    assert_eq!(anouk.open(&stack.gate("/received")).await.status, 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_new_sign_in_makes_new_tokens_and_ends_the_former_session() {
    let stack = Stack::new().await;
    let mut anouk = stack.signed_in("anouk").await;
    let before = anouk.cookies.clone();
    let page = anouk.open(&stack.pass("/.passeur/sign-in?for=quay&afresh=1")).await;
    assert_eq!(page.status, 200, "the provider's own session answers");
    let now = &anouk.cookies;
    let name = "pass.havrelune.localhost";
    assert_ne!(before[name]["passeur-session"], now[name]["passeur-session"]);
    let mut old = Person::new();
    old.cookies = before;
    old.accept = "application/json";
    assert_eq!(old.send(Method::GET, &stack.gate("/received"), None).await.status, 401);
}

#[tokio::test(flavor = "multi_thread")]
async fn signing_out_makes_each_gate_forget_and_nobody_else_can_order_that() {
    let stack = Stack::new().await;
    let mut anouk = stack.signed_in("anouk").await;
    let page = anouk.send(Method::POST, &stack.pass("/.passeur/sign-out"), Some(&[])).await;
    let at = page.body.find(&stack.gate("/.passeur/forget")).unwrap_or_else(|| panic!("{}", page.body));
    let order = page.body[at..at + page.body[at..].find('"').unwrap()].to_owned();
    assert!(page.header("content-security-policy").contains(&format!("img-src 'self' {};", stack.gate(""))));
    for wrong in [stack.gate("/.passeur/forget"), stack.gate("/.passeur/forget?order=x"), order.replace("order=", "order=A")] {
        let answer = anouk.send(Method::GET, &wrong, None).await;
        assert_eq!((answer.status.as_u16(), answer.header("clear-site-data")), (400, ""), "{wrong}");
    }
    assert!(anouk.cookies["berths.havrelune.localhost"].contains_key("passeur-gate"));
    let answer = anouk.send(Method::GET, &order, None).await;
    assert_eq!((answer.status.as_u16(), answer.header("clear-site-data")), (204, "\"cache\""));
    assert!(!anouk.cookies["berths.havrelune.localhost"].contains_key("passeur-gate"));
    stack.clock.advance(chrono::Duration::minutes(6));
    assert_eq!(anouk.send(Method::GET, &order, None).await.status, 400, "an old order");
}

#[tokio::test(flavor = "multi_thread")]
async fn who_signed_out_here_is_asked_again_although_the_provider_knows_them() {
    let stack = Stack::new().await;
    let mut anouk = stack.signed_in("anouk").await;
    anouk.send(Method::POST, &stack.pass("/.passeur/sign-out"), Some(&[])).await;
    let page = anouk.open(&stack.gate("/received")).await;
    assert!(page.body.contains("Password"), "{}", page.body);
    let back = anouk.prove(page, "anouk").await;
    assert_eq!(anouk.follow(back).await.status, 200);
    stack.settle().await;
    let list = stack.get("/crossings?outcome=admitted&limit=1").await;
    let story = stack.story(list["crossings"][0]["id"].as_str().unwrap()).await;
    assert!(story["steps"].to_string().contains("prompt=login"), "{story}");
    // Once only: a second gate or tab does not ask again.
    let page = anouk.open(&stack.pass("/.passeur/sign-in?for=quay&afresh=1")).await;
    assert!(!page.body.contains("Password"), "{}", page.body);
}

/// The moment, once the database knows it.
async fn known(stack: &Stack) -> chrono::DateTime<chrono::Utc> {
    let (db, now) = (stack.database.look().await, stack.clock.now());
    crate::support::eventually("the moment is written", async || {
        let row = db.query_one("SELECT extract(epoch FROM moment)::float8 FROM latest", &[]).await;
        row.is_ok_and(|r| r.get::<_, f64>(0) * 1000.0 >= now.timestamp_millis() as f64)
    })
    .await;
    now
}

#[tokio::test(flavor = "multi_thread")]
async fn a_clock_stepped_back_over_a_restart_extends_nothing() {
    let mut stack = Stack::with(|s| s.replace("idle = \"1h\"", "idle = \"1m\"")).await;
    let mut anouk = stack.signed_in("anouk").await;
    stack.clock.advance(chrono::Duration::hours(2));
    let now = known(&stack).await;
    // The wall clock now says two hours less than was known.
    stack.clock = passeur_live::clock::Clock::system();
    stack.restart().await;
    assert!(stack.clock.now() >= now, "time goes on from what was known");
    anouk.accept = "application/json";
    assert_eq!(anouk.open(&stack.gate("/received")).await.status, 401);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_clock_days_behind_what_was_known_ends_every_session() {
    let mut stack =
        Stack::with(|s| s.replace("idle = \"1h\"", "idle = \"5d\"").replace("absolute = \"10h\"", "absolute = \"10d\"")).await;
    let mut benoit = stack.signed_in("benoit").await;
    stack.clock.advance(chrono::Duration::days(3));
    let now = known(&stack).await;
    stack.clock = passeur_live::clock::Clock::system();
    stack.restart().await;
    assert!(stack.clock.now() < now - chrono::Duration::days(2));
    benoit.accept = "application/json";
    assert_eq!(benoit.open(&stack.gate("/received")).await.status, 401);
    let db = stack.database.look().await;
    let ended = db.query_one("SELECT count(*) FROM sessions WHERE ended_by = 'the clock'", &[]).await.unwrap();
    assert_eq!(ended.get::<_, i64>(0), 1);
    stack.signed_in("elodie").await;
}
