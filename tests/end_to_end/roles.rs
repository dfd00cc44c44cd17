//! Roles that come from claims: worked out anew at every sign-in, gone when the claim is, and told.

use reqwest::StatusCode;

use crate::support::{Page, Person, Stack};

/// Signs in at the ledger for everybody by the office.
async fn come(stack: &Stack, user: &str) -> (Person, Page) {
    let mut person = Person::new();
    let page = person.open(&stack.everybody("/received")).await;
    let page = person.open(&page.link("Sign in another way")).await;
    let there = person.open(&page.link("the pilotage office")).await;
    let back = person.prove(there, user).await;
    person.accept = "application/json";
    let page = person.follow(back).await;
    (person, page)
}

fn roles(page: &Page) -> Vec<String> {
    page.saw("x-harbour-roles")
}

#[tokio::test]
async fn a_role_comes_with_a_claim_and_goes_with_it() {
    let stack = Stack::new().await;
    assert_eq!(roles(&come(&stack, "elodie").await.1), ["planner,tide-clerk"]);
    // Another claim, another role; what is none is none.
    stack.provider.give_duties("elodie", &["Duty-Planner", "harbour-master", "tide\nclerk"]);
    let (_, page) = come(&stack, "elodie").await;
    assert_eq!(roles(&page), ["planner,duty-planner"]);
    let list = stack.get("/crossings?gate=harbour-wide&outcome=admitted&limit=1").await;
    let id = list["crossings"][0]["id"].as_str().unwrap().to_owned();
    let story = stack.story(&id).await.to_string();
    assert!(story.contains("rules.roles-changed") && story.contains("gained duty-planner; lost tide-clerk"), "{story}");
    assert!(story.contains("no roles are: harbour-master"), "{story}");
    // Without the claim it is gone, and nobody edited anything.
    stack.provider.give_duties("elodie", &[]);
    let (_, page) = come(&stack, "elodie").await;
    assert_eq!(roles(&page), ["planner"]);
    let found = stack.get("/people/pilotage/p-1003/roles").await;
    assert_eq!(found["roles"][0]["roles"], serde_json::json!(["planner"]), "{found}");
    let changes = found["changes"].as_array().unwrap();
    assert_eq!(changes.len(), 2, "{found}");
    assert_eq!((&changes[0]["lost"][0], &changes[1]["crossing"]), (&"duty-planner".into(), &id.as_str().into()));
    assert!(changes[0]["why"][0].as_str().unwrap().contains("duties absent"), "{found}");
    // The same again changes nothing.
    come(&stack, "elodie").await;
    assert_eq!(stack.get("/people/pilotage/p-1003/roles").await["changes"].as_array().unwrap().len(), 2);
}

#[tokio::test]
async fn whoever_is_let_in_no_more_has_lost_their_roles() {
    let stack = Stack::new().await;
    let mut benoit = stack.signed_in("benoit").await;
    let stricter = stack.site.replace("when = { group = \"planners\" }", "when = { group = \"harbour-desk\" }");
    assert_eq!(stack.publish(&stricter).await.0, 200);
    // A session that lives on is decided anew, and told as well.
    benoit.accept = "text/html";
    benoit.open(&stack.gate("/")).await;
    let found = stack.get("/people/pilotage/p-1002/roles").await;
    let change = &found["changes"][0];
    assert_eq!((&change["gate"], &change["lost"][0]), (&"berths".into(), &"planner".into()), "{found}");
    assert!(change["why"].to_string().contains("not in harbour-desk"), "{found}");
    assert_eq!(stack.status("/people/pilotage/nobody/roles").await, 404, "a slip is not \"has none\"");
}

#[tokio::test]
async fn the_console_may_be_opened_by_a_claim_and_no_further_than_it_says() {
    let rule = "[[engineers.rule]]\nname = \"as the office says\"\nwhen = { everyone = true }\nenter = true\nroles-from = { attribute = \"duties\" }\n\n[[expectation]]";
    let stack = Stack::with(|s| s.replacen("[[expectation]]", rule, 1)).await;
    stack.provider.give_duties("farid", &["operate", "root", "configured"]);
    let mut farid = Person::new();
    let page = farid.open(&stack.pass("/.passeur/sign-in?for=console")).await;
    let back = farid.prove(page, "farid").await;
    farid.follow(back).await;
    farid.accept = "application/json";
    let me = farid.open(&stack.pass("/api/v1/me")).await;
    assert_eq!(me.json()["role"], "operate", "{}", me.body);
    let found = stack.get("/people/pilotage/p-1004/roles").await;
    assert_eq!((&found["roles"][0]["gate"], &found["roles"][0]["roles"][0]), (&"console".into(), &"operate".into()), "{found}");
    // The claim is gone: so is the console, at the next sign-in.
    stack.provider.give_duties("farid", &[]);
    farid.accept = "text/html";
    let page = farid.open(&stack.pass("/.passeur/sign-in?for=console&afresh=1")).await;
    farid.follow(page).await;
    farid.accept = "application/json";
    assert_eq!(farid.open(&stack.pass("/api/v1/me")).await.status, StatusCode::FORBIDDEN);
}
