//! Names and passwords that a RADIUS client asks about, where the KDC of a realm knows them.

use serde_json::Value;

use super::{ACCEPT, FILTER, PASSWORD, REJECT, REPLY, USER, doors, latest, quays};
use crate::support::{Nas, Told};

async fn asks(nas: &Nas, user: &str, password: &str) -> Told {
    nas.asks(&nas.request(&[(USER, user.as_bytes()), (PASSWORD, password.as_bytes())])).await
}

fn by_realm(site: String) -> String {
    site.replace("\"gateway-word\", \"harbour-password\"", "\"gateway-word\", \"ticket\"")
}

#[tokio::test(flavor = "multi_thread")]
async fn the_kdc_is_asked_about_a_password_and_why_it_says_no_is_told_to_engineers_alone() {
    let stack = quays(by_realm).await;
    stack.one_window();
    let nas = doors(&stack).await;
    // As people type it, with the realm in any case.
    assert_eq!(asks(&nas, "anouk@havrelune.example", "spring-tide").await.code, ACCEPT);
    let told = asks(&nas, "anouk", "spring-tide").await;
    let (line, story) = latest(&stack).await;
    assert_eq!((told.code, told.texts(FILTER)), (ACCEPT, vec!["quay-staff".to_owned()]), "{told:?}\n{story}");
    assert!(story.contains("The KDC gave anouk@HAVRELUNE.EXAMPLE a ticket") && !story.contains("spring-tide"), "{story}");
    assert_eq!(line["person"], "anouk");
    let sessions = stack.get("/sessions").await;
    let of = |s: &&Value| s["subject"] == "anouk@HAVRELUNE.EXAMPLE" && s["provider"] == "ticket";
    assert!(sessions.as_array().unwrap().iter().any(|s| of(&s)), "{sessions}");
    // Whatever is wrong is said in the same words, and told apart in the crossing.
    let mut words = std::collections::BTreeSet::new();
    for (user, password, why) in [
        ("anouk", "ebb-tide", "the password is wrong"),
        ("nobody-at-all", "spring-tide", "nobody has that name"),
        ("anouk@ELSEWHERE.EXAMPLE", "spring-tide", "no name of a person of these realms"),
        ("anouk/admin", "spring-tide", "no name of a person of these realms"),
    ] {
        let told = asks(&nas, user, password).await;
        let (_, story) = latest(&stack).await;
        assert!(told.code == REJECT && story.contains(why), "{user}: {told:?}\n{story}");
        words.insert(told.texts(REPLY)[0].split(" (").next().unwrap().to_owned());
    }
    assert_eq!(words.len(), 1, "{words:?}");
    // Two spellings are one account, whose tries are counted together.
    for n in 0..4 {
        asks(&nas, if n % 2 == 0 { "farid" } else { "farid@Havrelune.Example" }, "wrong").await;
    }
    asks(&nas, "farid", "wrong").await;
    let told = asks(&nas, "FARID@HAVRELUNE.EXAMPLE", "crane-hook").await;
    let (_, story) = latest(&stack).await;
    assert!(told.code == REJECT && story.contains("tries"), "{told:?}\n{story}");
    // Where the way in takes no passwords any more, the client may ask none.
    let without = stack.site.replace("password = true\n", "");
    let (status, said) = stack.publish(&without).await;
    assert!(status != 200 && said.to_string().contains("takes nobody in by one"), "{said}");
}
