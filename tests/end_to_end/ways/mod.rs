//! Ways in of our own, end to end: a password of the directory, a code by mail, and which one is taken.

mod callers;
mod certificates;
mod device;
pub mod factors;
mod groups;
mod laptops;
mod mailed;
mod outside;
mod password;
mod routes;
mod sponsored;

use reqwest::StatusCode;

use crate::support::{Page, Person, Stack};

/// The form of a way in, chosen on the page that asks.
pub async fn form(stack: &Stack, person: &mut Person, title: &str) -> Page {
    let page = person.open(&stack.everybody("/received")).await;
    let page = person.open(&page.link("Sign in another way")).await;
    let to = page.link(title);
    person.open(&to).await
}

#[tokio::test]
async fn a_person_chooses_once_and_the_browser_remembers() {
    let stack = Stack::new().await;
    let mut person = Person::new();
    let page = person.open(&stack.everybody("/received")).await;
    assert!(page.body.contains("User name"), "{}", page.body);
    let page = person.open(&page.link("Sign in another way")).await;
    assert!(page.body.contains("How do you want to sign in?"), "{}", page.body);
    for title in ["the pilotage office", "the pilotage office, agents&#39; entrance", "Your harbour password"] {
        assert!(page.body.contains(&title.replace("&#39;", "'")) || page.body.contains(title), "{title}: {}", page.body);
    }
    // By the provider, all the way.
    let there = person.open(&page.link("the pilotage office")).await;
    let back = person.prove(there, "benoit").await;
    person.accept = "application/json";
    let page = person.follow(back).await;
    person.accept = "text/html";
    assert_eq!(page.saw("x-harbour-user"), ["benoit"]);
    // The session is gone and the way in is not: the provider is asked at once.
    let host = "pass.havrelune.localhost";
    person.cookies.get_mut(host).unwrap().remove("passeur-session");
    person.cookies.remove("bureau-pilotage.localhost");
    person.cookies.remove("everybody.havrelune.localhost");
    let page = person.open(&stack.everybody("/received")).await;
    assert!(page.url.contains("bureau-pilotage.localhost"), "{}", page.url);
    // A way in that the gate does not take is none, whatever the browser says.
    person.cookies.get_mut(host).unwrap().insert("passeur-way".into(), "nowhere".into());
    let page = person.open(&stack.everybody("/received")).await;
    assert!(page.body.contains("User name"), "{}", page.body);
}

#[tokio::test]
async fn a_session_opens_only_gates_that_take_its_way_in() {
    let stack = Stack::new().await;
    let mut person = Person::new();
    let page = form(&stack, &mut person, "Your harbour password").await;
    let done = person.fill_in(&page, &[("name", "benoit"), ("password", "neap-tide")]).await;
    person.follow(done).await;
    person.accept = "application/json";
    assert_eq!(person.open(&stack.everybody("/received")).await.saw("x-harbour-user"), ["benoit"]);
    person.accept = "text/html";
    // The ledger proper wants the pilotage office: its session is no use there, whatever the person is called.
    let page = person.open(&stack.gate("/received")).await;
    assert!(page.url.contains("bureau-pilotage.localhost"), "{}", page.url);
    person.accept = "application/json";
    let page = person.open(&stack.everybody("/received")).await;
    assert_eq!((page.status, page.saw("x-harbour-roles")), (StatusCode::OK, vec!["planner".to_owned()]));
}
