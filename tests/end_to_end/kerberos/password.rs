//! A password in the realm: the KDC is asked, and a KDC that does not answer slows nobody else.

use reqwest::StatusCode;
use tokio::net::TcpListener;

use super::{asked, decided};
use crate::support::kerberos::{OtherRealm, kadmin};
use crate::support::{Page, Person, Stack};

async fn tried(stack: &Stack, name: &str, password: &str) -> (Person, Page) {
    let (mut person, page) = asked(stack).await;
    let page = person.fill_in(&page, &[("name", name), ("password", password)]).await;
    (person, page)
}

#[tokio::test]
async fn the_right_password_comes_in_as_its_ticket_would() {
    let stack = Stack::new().await;
    let (mut person, done) = tried(&stack, "benoit", "neap-tide").await;
    assert_eq!(done.status, StatusCode::OK, "{}", done.body);
    person.follow(done).await;
    person.open(&stack.everybody("/")).await;
    person.accept = "application/json";
    let page = person.open(&stack.everybody("/received")).await;
    assert_eq!(page.saw("x-harbour-user"), ["benoit"]);
    let list = stack.get("/sessions").await;
    assert_eq!((list[0]["provider"].as_str(), list[0]["subject"].as_str()), (Some("ticket"), Some("benoit@HAVRELUNE.EXAMPLE")));
    // Of the other realm, whose KDC leads on to ours.
    let (_, done) = tried(&stack, "marin@agents.example", "agents-anchor").await;
    assert_eq!(done.status, StatusCode::OK, "{}", done.body);
}

#[tokio::test]
async fn whatever_is_wrong_looks_the_same_and_the_crossing_tells_it_apart() {
    let stack = Stack::new().await;
    let port = stack.address.port();
    let name = |what: &str| format!("{what}-{port}");
    kadmin(&format!(
        "addprinc -pw a-password -pwexpire 2020-01-01 +requires_preauth {}\naddprinc -pw a-password -allow_tix +requires_preauth {}",
        name("expired"),
        name("locked")
    ));
    let mut seen = vec![];
    for (who, password, says) in [
        ("benoit", "ebb-tide", "the password is wrong"),
        ("nobody-at-all", "neap-tide", "nobody has that name"),
        (name("expired").as_str(), "a-password", "the password has expired"),
        (name("locked").as_str(), "a-password", "disabled, locked or expired"),
        ("benoit@ELSEWHERE.EXAMPLE", "neap-tide", "no name of a person of these realms"),
        ("benoit/admin", "neap-tide", "no name of a person of these realms"),
        ("krbtgt/HAVRELUNE.EXAMPLE", "x", "no name of a person of these realms"),
        ("benoit", "", "the password is wrong"),
        ("", "x", "no name of a person of these realms"),
    ] {
        let (_, page) = tried(&stack, who, password).await;
        assert_eq!(page.status, StatusCode::FORBIDDEN, "{who}: {}", page.body);
        let id = page.crossing();
        let (code, words) = decided(&stack, &id).await;
        assert_eq!(code, "way.realm-password-refused", "{who}: {words}");
        assert!(words.contains(says), "{who}: {words}");
        let story = stack.story(&id).await.to_string();
        assert!(password.is_empty() || !story.contains(&format!("\"{password}\"")), "{who}");
        assert!(who != "nobody-at-all" || !story.contains(who), "a name that nobody has may be a password: {story}");
        let flow = page.form().1.swap_remove(0).1;
        seen.push(page.body.replace(&id, "ID").replace(&flow, "FLOW"));
    }
    assert!(seen.iter().all(|s| *s == seen[0]), "{seen:#?}");
}

#[tokio::test]
async fn tries_are_counted_and_a_form_that_is_not_offered_is_not_taken() {
    let stack = Stack::new().await;
    stack.one_window();
    for _ in 0..5 {
        assert_eq!(tried(&stack, "farid", "x").await.1.status, StatusCode::FORBIDDEN);
    }
    let (_, page) = tried(&stack, "FARID", "crane-hook").await;
    assert_eq!(page.status, StatusCode::TOO_MANY_REQUESTS, "{}", page.body);
    assert_eq!(tried(&stack, "benoit", "neap-tide").await.1.status, StatusCode::OK);
    let (mut person, page) = asked(&stack).await;
    stack.publish(&stack.site.replace("password = true\n", "")).await;
    let page = person.fill_in(&page, &[("name", "benoit"), ("password", "neap-tide")]).await;
    assert_eq!(page.status, StatusCode::FORBIDDEN);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_kdc_that_is_dead_or_silent_is_told_and_slows_nobody_else() {
    // One that takes connections and never answers, one that is not there, and one that nothing tells of.
    let silent = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let dead = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let (silent_port, dead_port) = (silent.local_addr().unwrap().port(), dead.local_addr().unwrap().port());
    drop(dead);
    let _silent = OtherRealm::at("SILENT.EXAMPLE", silent_port);
    let _dead = OtherRealm::at("DEAD.EXAMPLE", dead_port);
    let more = "[[way.realm]]\nname = \"SILENT.EXAMPLE\"\nuser = \"principal\"\n\n[[way.realm]]\nname = \"DEAD.EXAMPLE\"\nuser = \"principal\"\n\n\
                [[way.realm]]\nname = \"LOST.EXAMPLE\"\nuser = \"principal\"\n\n[[way.realm]]\nname = \"AGENTS.EXAMPLE\"\n";
    let stack = std::sync::Arc::new(Stack::with(|s| s.replace("[[way.realm]]\nname = \"AGENTS.EXAMPLE\"\n", more)).await);
    let mut waiting = tokio::task::JoinSet::new();
    for n in 0..12 {
        let stack = stack.clone();
        waiting.spawn(async move { tried(&stack, &format!("somebody-{n}@SILENT.EXAMPLE"), "x").await.1 });
    }
    // While they wait, others come in: had they to share places, there would be none for them.
    for _ in 0..3 {
        assert_eq!(tried(&stack, "benoit", "neap-tide").await.1.status, StatusCode::OK);
    }
    for (realm, says) in
        [("DEAD.EXAMPLE", "no KDC of DEAD.EXAMPLE answered"), ("LOST.EXAMPLE", "no KDC of LOST.EXAMPLE answered")]
    {
        let (_, page) = tried(&stack, &format!("anybody@{realm}"), "x").await;
        assert_eq!(page.status, StatusCode::BAD_GATEWAY, "{}", page.body);
        let (code, words) = decided(&stack, &page.crossing()).await;
        assert_eq!((code.as_str(), words.contains(says)), ("way.realm-silent", true), "{words}");
    }
    for page in waiting.join_all().await {
        assert_eq!(page.status, StatusCode::BAD_GATEWAY, "{}", page.body);
    }
    drop(silent);
}
