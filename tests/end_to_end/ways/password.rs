//! The directory's password: what the person sees, what the crossing says, and how often it may be tried.

use reqwest::StatusCode;

use super::form;
use crate::support::{Person, Stack};

const TITLE: &str = "Your harbour password";

#[tokio::test]
async fn whatever_is_wrong_looks_the_same_and_the_crossing_tells_it_apart() {
    let stack = Stack::new().await;
    let mut seen = vec![];
    for (name, password, code, says) in [
        ("benoit", "ebb-tide", "way.password-wrong", "wrong"),
        ("nobody-at-all", "neap-tide", "way.password-nobody", "belongs to nobody"),
        ("ines", "gone-ashore", "way.password-unusable", "shadowExpire"),
        ("olaf", "low-water", "way.password-unusable", "the account is locked"),
        ("benoit)(uid=*", "neap-tide", "way.password-nobody", "belongs to nobody"),
        ("*", "neap-tide", "way.password-nobody", "belongs to nobody"),
        ("benoit", "", "way.password-nobody", "belongs to nobody"),
    ] {
        let mut person = Person::new();
        let page = form(&stack, &mut person, TITLE).await;
        let page = person.fill_in(&page, &[("name", name), ("password", password)]).await;
        assert_eq!(page.status, StatusCode::FORBIDDEN, "{name}");
        let id = page.crossing();
        let story = stack.story(&id).await;
        let step = story["steps"].as_array().unwrap().iter().find(|s| s["decided"] == true).unwrap().clone();
        assert_eq!(step["code"], code, "{name}: {story}");
        assert!(step["sentence"].as_str().unwrap().contains(says), "{name}: {step}");
        let whole = story.to_string();
        assert!(!whole.contains(password) || password.is_empty(), "{name}: the password stands in the crossing");
        assert!(name != "nobody-at-all" || !whole.contains(name), "a name that nobody has may be a password");
        // But for the id, the flow and what was typed, every answer is the same page.
        let flow = page.form().1.swap_remove(0).1;
        seen.push(page.body.replace(&id, "ID").replace(&flow, "FLOW").replace(&maud(name), "NAME"));
    }
    let first = blank(&seen[0]);
    assert!(seen.iter().all(|s| blank(s) == first), "{seen:#?}");
}

fn maud(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;")
}

/// The page without the sealed ask of the link to other ways in.
fn blank(page: &str) -> String {
    let (before, after) = page.split_once("ask=").unwrap();
    format!("{before}{}", after.split_once('&').unwrap().1)
}

#[tokio::test]
async fn the_right_one_comes_in_by_the_directorys_own_key() {
    let stack = Stack::new().await;
    let mut person = Person::new();
    let page = form(&stack, &mut person, TITLE).await;
    // The key is spelt as the entry spells it, however it was typed.
    let done = person.fill_in(&page, &[("name", " BENOIT "), ("password", "neap-tide")]).await;
    assert_eq!(done.status, StatusCode::OK);
    person.accept = "application/json";
    let page = person.follow(done).await;
    assert_eq!((page.saw("x-harbour-user"), page.saw("x-harbour-staff-number")), (vec!["benoit".into()], vec!["4102".into()]));
    let list = stack.get("/sessions").await;
    let subject = list[0]["subject"].as_str().unwrap();
    assert_eq!((list[0]["provider"].as_str(), subject.len()), (Some("harbour-password"), 36), "{list}");
    // The form was used: sent again, it opens nothing.
    let page = form(&stack, &mut Person::new(), TITLE).await;
    let mut other = Person::new();
    other.cookies = person.cookies.clone();
    let stolen = other.fill_in(&page, &[("name", "benoit"), ("password", "neap-tide")]).await;
    assert_eq!(stolen.status, StatusCode::FORBIDDEN);
    assert_eq!(stack.latest().await.1, "check.state-other-browser");
}

#[tokio::test]
async fn a_form_is_good_once() {
    let stack = Stack::new().await;
    let mut person = Person::new();
    let page = form(&stack, &mut person, TITLE).await;
    let right = [("name", "benoit"), ("password", "neap-tide")];
    assert_eq!(person.fill_in(&page, &right).await.status, StatusCode::OK);
    assert_eq!(person.fill_in(&page, &right).await.status, StatusCode::FORBIDDEN);
    assert_eq!(stack.latest().await.1, "check.state-replayed");
    stack.clock.advance(chrono::Duration::minutes(16));
    let mut slow = Person::new();
    let late = form(&stack, &mut slow, TITLE).await;
    stack.clock.advance(chrono::Duration::minutes(16));
    assert_eq!(slow.fill_in(&late, &right).await.status, StatusCode::FORBIDDEN);
    assert_eq!(stack.latest().await.1, "check.state-too-old");
}

#[tokio::test]
async fn guessing_is_bounded_and_locks_nobody_out() {
    let stack = Stack::new().await;
    stack.one_window();
    // Benoît has signed in from this browser before.
    let mut benoit = Person::new();
    let page = form(&stack, &mut benoit, TITLE).await;
    let right = [("name", "benoit"), ("password", "neap-tide")];
    benoit.fill_in(&page, &right).await;
    let mut guesser = Person::new();
    let mut page = form(&stack, &mut guesser, TITLE).await;
    for n in 0..5 {
        page = guesser.fill_in(&page, &[("name", "benoit"), ("password", "guess")]).await;
        assert_eq!(page.status, StatusCode::FORBIDDEN, "{n}");
    }
    // From here on not even the right one is taken from there, in any spelling of the name.
    for name in ["benoit", " Benoit"] {
        page = guesser.fill_in(&page, &[("name", name), ("password", "neap-tide")]).await;
        assert_eq!((page.status, page.header("retry-after")), (StatusCode::TOO_MANY_REQUESTS, "900"));
    }
    assert_eq!(stack.latest().await.1, "way.too-many-tries");
    // Others from the same place, and he himself, come in.
    let mut other = Person::new();
    let page = form(&stack, &mut other, TITLE).await;
    assert_eq!(other.fill_in(&page, &[("name", "klara"), ("password", "all-the-rosters")]).await.status, StatusCode::OK);
    benoit.cookies.get_mut("pass.havrelune.localhost").unwrap().remove("passeur-session");
    let page = benoit.open(&stack.pass("/.passeur/sign-in?for=quay&way=harbour-password")).await;
    assert_eq!(benoit.fill_in(&page, &right).await.status, StatusCode::OK);
    // It passes.
    stack.clock.advance(chrono::Duration::minutes(15));
    let page = form(&stack, &mut guesser, TITLE).await;
    assert_eq!(guesser.fill_in(&page, &right).await.status, StatusCode::OK);
}

#[tokio::test]
async fn a_directory_that_does_not_answer_is_no_wrong_password() {
    let stack = Stack::with(|site| {
        let at = site.find("url = \"ldap://").unwrap();
        let end = at + site[at..].find('\n').unwrap();
        format!("{}url = \"ldap://127.0.0.1:9\"{}", &site[..at], &site[end..])
    })
    .await;
    let mut person = Person::new();
    let page = form(&stack, &mut person, TITLE).await;
    let page = person.fill_in(&page, &[("name", "benoit"), ("password", "neap-tide")]).await;
    assert_eq!(page.status, StatusCode::BAD_GATEWAY);
    assert_eq!(stack.latest().await.1, "way.password-no-answer");
}

#[tokio::test]
async fn a_password_is_kept_only_for_a_gate_that_hands_it_over_and_goes_with_the_session() {
    use base64::Engine;
    let wanted = format!("Basic {}", base64::engine::general_purpose::STANDARD.encode("benoit:neap-tide"));
    let kept = async |stack: &Stack| {
        let rows = stack.database.look().await.query("SELECT kept FROM sessions", &[]).await.unwrap();
        rows.iter().map(|r| r.get::<_, Option<Vec<u8>>>(0)).collect::<Vec<_>>()
    };
    let stack = Stack::new().await;
    let mut person = Person::new();
    let page = form(&stack, &mut person, "Your harbour password").await;
    let done = person.fill_in(&page, &[("name", "benoit"), ("password", "neap-tide")]).await;
    person.follow(done).await;
    assert_eq!(kept(&stack).await, [None], "no gate asks for it");
    drop(stack);
    let hands = "name = \"harbour-wide\"\nhand-over = \"basic\"";
    let stack = Stack::with(|s| s.replacen("name = \"harbour-wide\"", hands, 1)).await;
    let mut person = Person::new();
    let page = form(&stack, &mut person, "Your harbour password").await;
    let done = person.fill_in(&page, &[("name", "BENOIT"), ("password", "neap-tide")]).await;
    person.accept = "application/json";
    assert_eq!(person.follow(done).await.saw("authorization"), [wanted.as_str()]);
    // What a client sends in its place is not believed.
    person.extra = vec![("authorization", "Basic Zm9yZ2VkOng=".to_owned())];
    assert_eq!(person.open(&stack.everybody("/received")).await.saw("authorization"), [wanted.as_str()]);
    person.extra.clear();
    let rows = kept(&stack).await;
    let sealed = rows[0].clone().unwrap();
    assert!(!sealed.windows(9).any(|w| w == b"neap-tide"), "it is sealed");
    let mut story = String::new();
    for line in stack.get("/crossings?outcome=admitted").await["crossings"].as_array().unwrap() {
        story.push_str(&stack.story(line["id"].as_str().unwrap()).await.to_string());
    }
    assert!(story.contains("delivery.password") && !story.contains("neap-tide") && !story.contains(&wanted), "{story}");
    // Another way has none.
    let mut other = Person::new();
    let there = form(&stack, &mut other, "the pilotage office").await;
    let back = other.prove(there, "benoit").await;
    other.accept = "application/json";
    assert!(other.follow(back).await.saw("authorization").is_empty());
    // Gone with the session.
    person.accept = "text/html";
    person.send(reqwest::Method::POST, &stack.pass("/.passeur/sign-out"), Some(&[])).await;
    assert_eq!(kept(&stack).await, [None, None]);
}
