//! Somebody sees on the quay what they have on at a gateway, and ends it there.

use reqwest::{Method, StatusCode};

use super::orders::{DISCONNECT, DISCONNECT_ACK, at_port};
use super::{ACCEPT, GATEWAY, PASSWORD, USER, gateway, quays};
use crate::support::{Ordered, Page, Person, Stack, eventually};

const NUMBER: u8 = 44;

/// Signs in to the quay by the directory's password, and opens it.
async fn on_the_quay(stack: &Stack, user: &str, password: &str) -> (Person, Page) {
    let mut person = Person::new();
    let page = person.open(&stack.pass("/.passeur/sign-in?for=quay&way=harbour-password")).await;
    let page = person.fill_in(&page, &[("name", user), ("password", password)]).await;
    person.follow(page).await;
    let page = person.open(&stack.pass("/")).await;
    (person, page)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_person_ends_what_they_have_on_at_a_gateway_and_nobody_elses() {
    let ordered = Ordered::at("127.0.0.11", GATEWAY).await;
    let by_password = |site: String| {
        at_port(&site, ordered.port()).replace("takes = [\"authorize-only\"]\nway = \"gateway-word\"", "takes = [\"password\"]")
    };
    let stack = quays(by_password).await;
    let nas = gateway(&stack).await;
    let told = nas.asks(&nas.request(&[(USER, b"anouk"), (PASSWORD, b"spring-tide"), (NUMBER, b"q1")])).await;
    assert_eq!(told.code, ACCEPT, "{told:?}");
    let on = async || stack.get("/presences?gate=quays").await["presences"].as_array().unwrap().clone();
    let id = on().await[0]["id"].as_str().unwrap().to_owned();
    let to = stack.pass("/.passeur/machine-end");
    // Somebody else, nobody, and another site's page end nothing and learn nothing.
    let (mut klara, page) = on_the_quay(&stack, "klara", "all-the-rosters").await;
    assert!(!page.body.contains(&id), "{}", page.body);
    for form in [id.as_str(), "00000000-0000-0000-0000-000000000000"] {
        let page = klara.send(Method::POST, &to, Some(&[("id", form)])).await;
        assert_eq!((page.status, page.header("location")), (StatusCode::SEE_OTHER, stack.pass("/").as_str()), "{}", page.body);
    }
    Person::new().send(Method::POST, &to, Some(&[("id", &id)])).await;
    let (mut anouk, page) = on_the_quay(&stack, "anouk", "spring-tide").await;
    assert!(
        page.body.contains(&id) && page.body.contains("End it") && page.body.contains("the network of the quays"),
        "{}",
        page.body
    );
    let page = anouk.send_body(Method::POST, &to, format!("id={id}")).await;
    assert_eq!(page.status, StatusCode::FORBIDDEN);
    assert_eq!(on().await.len(), 1);
    // Its person does: the gateway is ordered at once, and the sign-in of the quay goes on.
    let page = anouk.send(Method::POST, &to, Some(&[("id", &id)])).await;
    assert_eq!(page.status, StatusCode::SEE_OTHER);
    let order = ordered.next().await;
    assert_eq!((order.code, order.texts(NUMBER)), (DISCONNECT, vec!["q1".to_owned()]));
    ordered.answers(&order, DISCONNECT_ACK, &[]).await;
    eventually("it is over", async || on().await.is_empty()).await;
    let page = anouk.open(&stack.pass("/")).await;
    assert!(!page.body.contains(&id) && page.body.contains("You have no tunnel open"), "{}", page.body);
    stack.settle().await;
    let all = stack.get("/crossings?limit=20").await.to_string();
    assert!(all.contains("network.ended-by-person"), "{all}");
}
