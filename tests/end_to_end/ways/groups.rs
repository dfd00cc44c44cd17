//! Groups as providers send them: as identifiers, and by reference where there are too many to send.

use passeur_standins::provider::Mode;
use reqwest::StatusCode;

use crate::support::{Person, Stack};

fn cranes(stack: &Stack) -> String {
    stack.gate("/received").replace("//berths.", "//cranes.")
}

/// What happened of late at the crane logbook, told.
async fn told(stack: &Stack) -> String {
    let list = stack.get("/crossings?gate=cranes&limit=1").await;
    stack.story(list["crossings"][0]["id"].as_str().unwrap()).await.to_string()
}

#[tokio::test]
async fn identifiers_become_names_by_a_table_or_are_named_as_the_cause() {
    let stack = Stack::new().await;
    let mut farid = Person::new();
    let page = farid.sign_in(&cranes(&stack), "farid").await;
    assert_eq!(page.status, StatusCode::OK, "{}", page.body);
    assert!(told(&stack).await.contains("id_token claim groups"), "{}", told(&stack).await);
    drop(stack);
    let stack =
        Stack::with(|s| s.replace("5d1c9a4e-7b32-4f0a-9c61-2e8d40b7a913 =", "00000000-0000-4000-8000-000000000000 =")).await;
    let page = Person::new().sign_in(&cranes(&stack), "farid").await;
    assert_eq!(page.status, StatusCode::FORBIDDEN);
    let told = told(&stack).await;
    assert!(told.contains("identity.groups-unnamed") && told.contains("5d1c9a4e-7b32"), "{told}");
}

#[tokio::test]
async fn groups_by_reference_are_read_where_the_provider_has_them() {
    let stack = Stack::new().await;
    for (mode, place) in [(Mode::GroupsElsewhere, "/claims in"), (Mode::GroupsInJwt, "a JWT that came along")] {
        stack.behave(mode);
        let page = Person::new().sign_in(&cranes(&stack), "farid").await;
        assert_eq!(page.status, StatusCode::OK, "{mode:?}: {}", page.body);
        let told = told(&stack).await;
        assert!(told.contains("claims.referred") && told.contains(place), "{mode:?}: {told}");
        assert!(told.contains("claim by reference groups"), "{told}");
        // Neither the token nor what nobody asked for is kept.
        assert!(!told.contains("_claim_sources") && !told.contains("not-asked-for"), "{told}");
    }
}

#[tokio::test]
async fn a_reference_that_cannot_be_believed_grants_nothing_and_is_told() {
    let stack = Stack::new().await;
    for (mode, how) in [
        (Mode::GroupsAstray, "not one of the provider's own addresses"),
        (Mode::GroupsForged, "signature"),
        (Mode::GroupsPlain, "JWS in compact form"),
        (Mode::GroupsOfAnother, "sub: \\\"somebody-else\\\""),
    ] {
        stack.behave(mode);
        let page = Person::new().sign_in(&cranes(&stack), "farid").await;
        assert_eq!(page.status, StatusCode::FORBIDDEN, "{mode:?}: {}", page.body);
        let told = told(&stack).await;
        assert!(told.contains("claims.reference-failed") && told.contains(how), "{mode:?}: {told}");
        // Unknown is not none: a rule that cannot be judged grants nothing, and says so.
        assert!(told.contains("groups not known"), "{mode:?}: {told}");
    }
}
