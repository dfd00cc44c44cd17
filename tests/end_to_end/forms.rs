//! A form that the end of a session interrupts is kept, shown again, and sent by nobody but the person.

use reqwest::Method;
use serde_json::json;

use crate::support::{Page, Person, Stack};

async fn interrupted(stack: &Stack, form: &[(&str, &str)]) -> (Person, Page) {
    let mut benoit = stack.signed_in("benoit").await;
    let sessions = stack.get("/sessions?person=p-1002").await;
    stack.post("/sessions/end", json!({"sessions": [sessions[0]["id"]]})).await;
    let page = benoit.send(Method::POST, &stack.gate("/assign"), Some(form)).await;
    (benoit, page)
}

fn link(page: &Page) -> String {
    let at = page.body.find("/.passeur/sign-in?ask=").unwrap_or_else(|| panic!("{} {}", page.status, page.body));
    let start = page.body[..at].rfind('"').unwrap() + 1;
    page.body[start..start + page.body[start..].find('"').unwrap()].to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_form_is_kept_through_the_sign_in_and_sent_by_a_button_alone() {
    let stack = Stack::new().await;
    let (mut benoit, page) = interrupted(&stack, &[("berth", "Bassin à flot"), ("vessel", "Étoile <b>\"7\"")]).await;
    assert_eq!(page.status, 401);
    assert!(page.body.contains("kept for half an hour"), "{}", page.body);
    assert!(page.body.contains("Sign in with the pilotage office"), "{}", page.body);
    // Signed in again by the provider's session; the form is shown, and was not sent.
    let shown = benoit.open(&link(&page)).await;
    assert_eq!(shown.status, 200, "{}", shown.body);
    assert!(shown.url.contains("/.passeur/form?id=") && shown.header("cache-control") == "no-store");
    assert!(shown.body.contains("Étoile &lt;b&gt;&quot;7&quot;") && shown.body.contains("action=\"/assign\""), "{}", shown.body);
    let ledger = benoit.open(&stack.gate("/")).await;
    assert!(!ledger.body.contains("Étoile"), "nothing was sent alone");
    let sent = benoit.send(Method::POST, &stack.gate("/assign"), Some(&[("berth", "Bassin à flot"), ("vessel", "Étoile")])).await;
    assert_eq!(benoit.follow(sent).await.status, 200);
    assert!(benoit.open(&stack.gate("/")).await.body.contains("Étoile"));
    // Shown once.
    assert_eq!(benoit.send(Method::GET, &shown.url, None).await.status, 410);
    stack.settle().await;
    let list = stack.get("/crossings?outcome=admitted&limit=1").await;
    let story = stack.story(list["crossings"][0]["id"].as_str().unwrap()).await;
    assert!(story["steps"].to_string().contains("kept for after the sign-in"), "{story}");
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_else_sees_a_kept_form_and_no_other_page_can_plant_one() {
    let stack = Stack::new().await;
    let (mut benoit, page) = interrupted(&stack, &[("berth", "Bassin à flot"), ("vessel", "Secret")]).await;
    let back = benoit.send(Method::GET, &link(&page), None).await;
    let arrive = benoit.until(back, "/.passeur/arrive").await;
    let landed = benoit.send(Method::GET, &arrive, None).await;
    let form = landed.header("location").to_owned();
    assert!(form.contains("/.passeur/form?id="), "{form}");
    let mut other = Person::new();
    other.send(Method::GET, &stack.gate("/"), None).await; // has a binding of its own
    let taken = other.send(Method::GET, &form, None).await;
    assert_eq!(taken.status, 410);
    assert!(!taken.body.contains("Secret"));
    assert_eq!(benoit.send(Method::GET, &form, None).await.status, 410, "and it is used up");
    // From another site's page, without an origin, or as JSON: refused as before, nothing is kept.
    let mut stranger = Person::new();
    for (origin, kind) in [
        (Some("http://evil.example".to_owned()), "application/x-www-form-urlencoded"),
        (None, "application/x-www-form-urlencoded"),
        (Some(stack.gate("")), "application/json"),
    ] {
        stranger.extra = vec![("content-type", kind.to_owned())];
        stranger.extra.extend(origin.map(|o| ("origin", o)));
        let page = stranger.send(Method::POST, &stack.gate("/assign"), None).await;
        assert_eq!((page.status.as_u16(), page.header("content-type")), (401, "application/problem+json"), "{kind}");
    }
    let client = stack.database.look().await;
    let n: i64 = client.query_one("SELECT count(*) FROM kept_forms", &[]).await.unwrap().get(0);
    assert_eq!(n, 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_too_large_or_too_old_is_not_kept_and_says_so() {
    let stack = Stack::new().await;
    let large = "x".repeat(70_000);
    let (_, page) = interrupted(&stack, &[("vessel", &large)]).await;
    assert_eq!(page.status, 401);
    assert!(page.body.contains("could not be kept"), "{}", page.body);
    let (mut benoit, page) = interrupted(&stack, &[("berth", "Bassin à flot"), ("vessel", "Étoile")]).await;
    let back = benoit.send(Method::GET, &link(&page), None).await;
    let arrive = benoit.until(back, "/.passeur/arrive").await;
    let form = benoit.send(Method::GET, &arrive, None).await.header("location").to_owned();
    stack.clock.advance(chrono::Duration::minutes(31));
    let shown = benoit.send(Method::GET, &form, None).await;
    assert_eq!(shown.status, 410, "{}", shown.body);
    let client = stack.database.look().await;
    let rows = client.query("SELECT sealed FROM kept_forms", &[]).await.unwrap();
    assert!(rows.iter().all(|r| !String::from_utf8_lossy(&r.get::<_, Vec<u8>>(0)).contains("toile")));
}
