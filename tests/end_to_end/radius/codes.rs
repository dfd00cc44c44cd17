//! A code of a factor of ours, asked for after the password and handed on by the client.

use serde_json::json;

use super::{ACCEPT, PASSWORD, REJECT, REPLY, SESSION_TIMEOUT, USER, doors, latest, quays};
use crate::support::{Nas, Stack, Told};
use crate::ways::factors::{by_password, enrol, shows};

const STATE: u8 = 24;
const CHALLENGE: u8 = 11;

/// The harbour, whose doors want a code of whoever comes in by a password.
async fn with_codes() -> (Stack, Nas) {
    let rule =
        "[[gate.rule]]\nname = \"doors want a code\"\nwhen = { entrance = \"quay-doors\" }\nstep-up = { factor = \"otp\" }\n\n";
    let at = "[[gate.rule]]\nname = \"pilots and engineers";
    let stack = quays(|site| site.replacen(at, &format!("{rule}{at}"), 1)).await;
    stack.one_window();
    let nas = doors(&stack).await;
    (stack, nas)
}

async fn by(nas: &Nas, password: &str) -> Told {
    nas.asks(&nas.request(&[(USER, b"anouk"), (PASSWORD, password.as_bytes())])).await
}

/// The State of a question, which is asked.
async fn question(nas: &Nas) -> Vec<u8> {
    let told = by(nas, "spring-tide").await;
    assert_eq!(told.code, CHALLENGE, "{told:?}");
    told.attributes.iter().find(|(k, _)| *k == STATE).unwrap().1.clone()
}

async fn hands_on(nas: &Nas, user: &str, state: &[u8], code: &str) -> Told {
    nas.asks(&nas.request(&[(USER, user.as_bytes()), (STATE, state), (PASSWORD, code.as_bytes())])).await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_code_is_asked_for_after_the_password_and_good_once() {
    let (stack, nas) = with_codes().await;
    let told = by(&nas, "spring-tide").await;
    assert!(told.code == REJECT && told.texts(REPLY)[0].contains("none that can be typed"), "{told:?}");
    assert_eq!(latest(&stack).await.0["code"], "factor.none");
    let mut anouk = by_password(&stack, "anouk", "spring-tide").await;
    let (key, recovery) = enrol(&stack, &mut anouk).await;
    // A wrong password is asked for nothing.
    assert_eq!(by(&nas, "neap-tide").await.code, REJECT);
    let told = by(&nas, "spring-tide").await;
    assert_eq!((told.code, told.number(SESSION_TIMEOUT)), (CHALLENGE, Some(120)), "{told:?}");
    assert_eq!(told.texts(REPLY), ["Enter the code of your authenticator, or a recovery code."]);
    let (line, story) = latest(&stack).await;
    assert!(line["outcome"] == "waiting" && story.contains("was told to ask for a code of the person's own factor"), "{story}");
    assert!(stack.get("/presences?gate=quays").await["presences"].as_array().unwrap().is_empty(), "nothing is open yet");
    let state = told.attributes.iter().find(|(k, _)| *k == STATE).unwrap().1.clone();
    let next = shows(&stack, &key, 1);
    // Wrong; and the question is used up by it, for whoever knows the State.
    let told = hands_on(&nas, "anouk", &state, "000000").await;
    assert_eq!((told.code, &latest(&stack).await.0["code"]), (REJECT, &json!("factor.wrong")), "{told:?}");
    let told = hands_on(&nas, "anouk", &state, &next).await;
    assert_eq!((told.code, &latest(&stack).await.0["code"]), (REJECT, &json!("radius.no-challenge")), "{told:?}");
    // Somebody else's name, and no State of ours.
    let state = question(&nas).await;
    assert_eq!(hands_on(&nas, "lucie", &state, &next).await.code, REJECT);
    assert_eq!(hands_on(&nas, "anouk", b"made up", &next).await.code, REJECT);
    // Right.
    let state = question(&nas).await;
    let told = hands_on(&nas, "Anouk", &state, &next).await;
    assert_eq!(told.code, ACCEPT, "{told:?}");
    let (line, story) = latest(&stack).await;
    assert_eq!(line["person"], "anouk");
    for code in ["radius.code", "factor.proven", "rules.granted", "radius.answered"] {
        assert!(story.contains(code), "{code}: {story}");
    }
    assert!(!story.contains(&next), "the code is kept nowhere");
    // It opens nothing twice, nor does the State.
    assert_eq!(hands_on(&nas, "anouk", &state, &shows(&stack, &key, 1)).await.code, REJECT);
    let state = question(&nas).await;
    let told = hands_on(&nas, "anouk", &state, &next).await;
    assert_eq!(told.code, REJECT, "{told:?}");
    assert!(latest(&stack).await.1.contains("was used"), "a code that was used");
    // A recovery code does, once.
    let state = question(&nas).await;
    assert_eq!(hands_on(&nas, "anouk", &state, &recovery[0]).await.code, ACCEPT);
    let state = question(&nas).await;
    assert_eq!(hands_on(&nas, "anouk", &state, &recovery[0]).await.code, REJECT);
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_is_put_out_between_password_and_code_stays_out_and_guessing_ends() {
    let (stack, nas) = with_codes().await;
    let mut anouk = by_password(&stack, "anouk", "spring-tide").await;
    let (key, _) = enrol(&stack, &mut anouk).await;
    for _ in 0..5 {
        let state = question(&nas).await;
        assert_eq!(hands_on(&nas, "anouk", &state, "000000").await.code, REJECT);
    }
    let state = question(&nas).await;
    let told = hands_on(&nas, "anouk", &state, &shows(&stack, &key, 1)).await;
    assert!(told.code == REJECT && told.texts(REPLY)[0].starts_with("Too many tries."), "{told:?}");
    stack.later(chrono::Duration::minutes(16));
    let state = question(&nas).await;
    let subject = latest(&stack).await.0["subject"].as_str().unwrap().to_owned();
    let ask = json!({"people": [format!("harbour-password/{subject}")], "block": "left"});
    assert_eq!(stack.post("/people/take-away", ask).await.0, 200);
    let told = hands_on(&nas, "anouk", &state, &shows(&stack, &key, 1)).await;
    assert!(told.code == REJECT && told.texts(REPLY)[0].starts_with("You are kept out."), "{told:?}");
}
