//! Second factors of our own: enrolled at the quay, asked for where a rule wants one, and taken away.

use chrono::Duration;
use reqwest::{Method, StatusCode};
use serde_json::json;
use totp_rs::Builder;

use super::form;
use crate::support::{Page, Person, Stack};

const TITLE: &str = "Your harbour password";

/// Somebody who came in by the harbour's password.
pub async fn by_password(stack: &Stack, name: &str, password: &str) -> Person {
    let mut person = Person::new();
    let page = form(stack, &mut person, TITLE).await;
    let done = person.fill_in(&page, &[("name", name), ("password", password)]).await;
    assert_eq!(person.follow(done).await.status, StatusCode::OK);
    person
}

/// What an authenticator shows, so many steps from now.
pub fn shows(stack: &Stack, key: &str, steps: i64) -> String {
    let totp = Builder::new().with_secret(base32(key)).with_account_name("x").build().unwrap();
    let at = stack.clock.now().timestamp() + 30 * steps;
    totp.generate(at as u64).to_string()
}

/// RFC 4648 6, as authenticators read keys.
fn base32(text: &str) -> Vec<u8> {
    let mut bits = 0u32;
    let mut held = 0;
    let mut out = vec![];
    for c in text.bytes().filter(|c| *c != b'=') {
        let value = b"ABCDEFGHIJKLMNOPQRSTUVWXYZ234567".iter().position(|a| *a == c).unwrap() as u32;
        (bits, held) = (bits << 5 | value, held + 5);
        if held >= 8 {
            held -= 8;
            out.push((bits >> held) as u8);
            bits &= (1 << held) - 1;
        }
    }
    out
}

/// Enrols an authenticator. Its key and the recovery codes.
pub async fn enrol(stack: &Stack, person: &mut Person) -> (String, Vec<String>) {
    let url = stack.pass("/.passeur/factors");
    let page = person.send(Method::POST, &url, Some(&[("what", "totp")])).await;
    assert!(page.status == StatusCode::OK && page.body.contains("<svg"), "{}", page.body);
    let key = page.body.split("class=\"id\">").nth(1).unwrap().split('<').next().unwrap().to_owned();
    let sealed = page.body.split("name=\"secret\" value=\"").nth(1).unwrap().split('"').next().unwrap().to_owned();
    let wrong = person.send(Method::POST, &url, Some(&[("what", "totp-code"), ("secret", &sealed), ("code", "000000x")])).await;
    assert_eq!(wrong.status, StatusCode::FORBIDDEN);
    let code = shows(stack, &key, 0);
    let form = [("what", "totp-code"), ("secret", sealed.as_str()), ("code", code.as_str()), ("name", "my phone")];
    let page = person.send(Method::POST, &url, Some(&form)).await;
    assert_eq!(page.status, StatusCode::OK, "{}", page.body);
    let codes: Vec<String> = page.body.split("<li><code>").skip(1).map(|c| c.split('<').next().unwrap().to_owned()).collect();
    assert_eq!(codes.len(), 10);
    (key, codes)
}

/// The page on the way to a section that asks for a factor.
async fn asked(stack: &Stack, person: &mut Person) -> Page {
    person.open(&stack.everybody("/assign")).await
}

#[tokio::test]
async fn a_section_asks_for_a_factor_and_takes_one_of_ours_once() {
    let stack = Stack::new().await;
    stack.one_window();
    let mut benoit = by_password(&stack, "benoit", "neap-tide").await;
    // Without one there is nothing to prove, and the page says where one is enrolled.
    let page = asked(&stack, &mut benoit).await;
    assert_eq!(page.status, StatusCode::FORBIDDEN);
    assert!(page.body.contains("/.passeur/factors"), "{}", page.body);
    assert_eq!(stack.latest().await.1, "factor.none");
    let (key, recovery) = enrol(&stack, &mut benoit).await;
    // Enrolling proves it: what was refused is open now.
    assert_ne!(asked(&stack, &mut benoit).await.status, StatusCode::FORBIDDEN);
    // Another browser has proven nothing.
    let mut elsewhere = by_password(&stack, "benoit", "neap-tide").await;
    let page = asked(&stack, &mut elsewhere).await;
    assert!(page.body.contains("Prove that it is you"), "{}", page.body);
    let wrong = elsewhere.fill_in(&page, &[("code", "123456")]).await;
    assert_eq!(wrong.status, StatusCode::FORBIDDEN);
    // The code that was used to enrol is not taken twice, the next one is.
    let used = shows(&stack, &key, 0);
    assert_eq!(elsewhere.fill_in(&page, &[("code", &used)]).await.status, StatusCode::FORBIDDEN);
    assert!(stack.story(&wrong.crossing()).await.to_string().contains("it is not the one that was sent"));
    let next = shows(&stack, &key, 1);
    let done = elsewhere.fill_in(&page, &[("code", &next)]).await;
    let there = elsewhere.follow(done).await;
    assert_eq!(there.url, stack.everybody("/assign"));
    // One crossing tells it all: what was missing, what was proven, and that it was enough.
    let list = stack.get("/crossings?gate=harbour-wide&outcome=admitted&limit=1").await;
    let story = stack.story(list["crossings"][0]["id"].as_str().unwrap()).await;
    let codes: Vec<&str> = story["steps"].as_array().unwrap().iter().map(|s| s["code"].as_str().unwrap()).collect();
    for code in ["session.step-up", "factor.proven", "rules.granted", "hand-back.code-issued"] {
        assert!(codes.contains(&code), "{code}: {codes:?}");
    }
    // A recovery code does once what the authenticator does.
    let mut third = by_password(&stack, "benoit", "neap-tide").await;
    let page = asked(&stack, &mut third).await;
    let done = third.fill_in(&page, &[("code", &recovery[0].to_uppercase())]).await;
    assert_eq!(third.follow(done).await.url, stack.everybody("/assign"));
    let mut fourth = by_password(&stack, "benoit", "neap-tide").await;
    let page = asked(&stack, &mut fourth).await;
    assert_eq!(fourth.fill_in(&page, &[("code", &recovery[0])]).await.status, StatusCode::FORBIDDEN);
    // Five wrong ones, whatever the browser, and no more are taken for a while.
    for _ in 0..3 {
        fourth.fill_in(&page, &[("code", "000000")]).await;
    }
    let right = shows(&stack, &key, 1);
    assert_eq!(fourth.fill_in(&page, &[("code", &right)]).await.status, StatusCode::TOO_MANY_REQUESTS);
}

#[tokio::test]
async fn the_provider_is_asked_for_exactly_what_is_missing() {
    let stack = Stack::with(|site| {
        site.replace(
            "path = \"/assign\"\nwhen = { group = \"planners\" }\nrefuse",
            "path = \"/assign\"\nwhen = { group = \"planners\" }\nstep-up = { signed-in-within = \"10m\" }\nrefuse",
        )
    })
    .await;
    let mut benoit = stack.signed_in("benoit").await;
    assert_eq!(benoit.send(Method::GET, &stack.gate("/assign"), None).await.status, StatusCode::METHOD_NOT_ALLOWED);
    stack.clock.advance(Duration::minutes(11));
    let away = benoit.send(Method::GET, &stack.gate("/assign"), None).await;
    let there = benoit.until(away, "/authorize").await;
    // A proof of before the asking counts for nothing, so that a new one is asked for, with its time.
    assert!(there.contains("max_age=0") && there.contains("prompt=login"), "{there}");
    // A background request is told, and sent nowhere.
    benoit.extra = vec![("sec-fetch-mode", "cors".into()), ("sec-fetch-dest", "empty".into())];
    let told = benoit.send(Method::GET, &stack.gate("/assign"), None).await;
    assert_eq!(told.status, StatusCode::FORBIDDEN);
    // The rest of the gate is open as before.
    benoit.extra.clear();
    assert_eq!(benoit.send(Method::GET, &stack.gate("/received"), None).await.status, StatusCode::OK);
}

#[tokio::test]
async fn what_does_not_come_back_is_refused_and_not_asked_for_again() {
    let stack = Stack::with(|site| {
        site.replacen(
            "[[gate.rule]]\nname = \"berth access\"",
            "[[gate.rule]]\nname = \"strong\"\nwhen = { everyone = true }\nstep-up = { context = \"urn:pilotage:retina\" }\n\n[[gate.rule]]\nname = \"berth access\"",
            1,
        )
    })
    .await;
    let mut anouk = Person::new();
    let page = anouk.open(&stack.gate("/received")).await;
    let back = anouk.prove(page, "anouk").await;
    let page = anouk.until(back, "/authorize").await;
    assert!(page.contains("acr_values=urn%3Apilotage%3Aretina"), "{page}");
    // The provider knows the browser by now, and gives what it has.
    let page = anouk.open(&page).await;
    assert_eq!(page.status, StatusCode::FORBIDDEN, "{}", page.body);
    assert_eq!(stack.latest().await.1, "rules.step-up");
    let story = stack.story(&page.crossing()).await.to_string();
    assert!(story.contains("The person was asked for what is missing"), "{story}");
}

#[tokio::test]
async fn factors_are_changed_by_whoever_proved_one_and_reset_by_an_engineer() {
    let stack = Stack::new().await;
    let mut benoit = by_password(&stack, "benoit", "neap-tide").await;
    let (key, _) = enrol(&stack, &mut benoit).await;
    // Somebody with the password alone sees them, and changes nothing.
    let mut thief = by_password(&stack, "benoit", "neap-tide").await;
    let url = stack.pass("/.passeur/factors");
    let page = thief.open(&url).await;
    assert!(page.body.contains("my phone") && !page.body.contains("Remove"), "{}", page.body);
    let list = stack.get("/sessions").await;
    let subject = list[0]["subject"].as_str().unwrap().to_owned();
    let factors = stack.get(&format!("/people/harbour-password/{subject}/factors")).await;
    let id = factors["factors"][0]["id"].as_str().unwrap().to_owned();
    assert_eq!((factors["factors"][0]["name"].as_str(), factors["recovery_codes"].as_i64()), (Some("my phone"), Some(10)));
    for form in [vec![("what", "remove"), ("id", id.as_str())], vec![("what", "totp")], vec![("what", "recovery")]] {
        assert_eq!(thief.send(Method::POST, &url, Some(&form)).await.status, StatusCode::FORBIDDEN, "{form:?}");
    }
    assert!(!thief.send(Method::POST, &stack.pass("/.passeur/passkey"), Some(&[("what", "enrol")])).await.status.is_success());
    // They are asked to prove it first.
    let page = thief.open(&format!("{url}?prove=1")).await;
    let done = thief.fill_in(&page, &[("code", &shows(&stack, &key, 1))]).await;
    let page = thief.follow(done).await;
    assert!(page.body.contains("Remove"), "{}", page.body);
    // A sign-in of an hour ago is no reason to enrol a first one.
    let mut klara = by_password(&stack, "klara", "all-the-rosters").await;
    stack.clock.advance(Duration::minutes(16));
    assert_eq!(klara.send(Method::POST, &url, Some(&[("what", "totp")])).await.status, StatusCode::FORBIDDEN);
    // An engineer takes them away, which is recorded.
    let (status, gone) = stack.delete(&format!("/people/harbour-password/{subject}/factors")).await;
    assert_eq!((status, gone["removed"].clone()), (200, json!(["my phone"])), "{gone}");
    assert_eq!(stack.get(&format!("/people/harbour-password/{subject}/factors")).await["recovery_codes"], 0);
    let acts = stack.get("/acts").await;
    assert_eq!(acts["acts"][0]["what"], "remove factors", "{acts}");
}

#[tokio::test]
async fn a_ceremony_of_another_browser_or_of_nobody_is_none() {
    let stack = Stack::new().await;
    let mut benoit = by_password(&stack, "benoit", "neap-tide").await;
    let begin = stack.pass("/.passeur/passkey");
    let begun = benoit.send(Method::POST, &begin, Some(&[("what", "enrol")])).await.json();
    let options = &begun["options"]["publicKey"];
    assert_eq!(
        (&options["rp"]["id"], &options["authenticatorSelection"]["userVerification"]),
        (&json!("pass.havrelune.localhost"), &json!("required"))
    );
    let ceremony = begun["ceremony"].as_str().unwrap();
    let url = stack.pass("/.passeur/factors");
    for credential in [
        "",
        "{}",
        "{\"id\":\"x\",\"rawId\":\"eA\",\"type\":\"public-key\",\"response\":{\"clientDataJSON\":\"e30\",\"attestationObject\":\"oA\"}}",
    ] {
        let form = [("what", "passkey"), ("name", "x"), ("ceremony", ceremony), ("credential", credential)];
        assert_eq!(benoit.send(Method::POST, &url, Some(&form)).await.status, StatusCode::BAD_REQUEST);
    }
    let mut klara = by_password(&stack, "klara", "all-the-rosters").await;
    let form = [("what", "passkey"), ("ceremony", ceremony), ("credential", "{}")];
    assert_eq!(klara.send(Method::POST, &url, Some(&form)).await.status, StatusCode::BAD_REQUEST);
    let mut nobody = Person::new();
    assert!(!nobody.send(Method::POST, &begin, Some(&[("what", "enrol")])).await.status.is_success());
    assert!(!nobody.send(Method::POST, &begin, Some(&[("what", "come"), ("flow", "x")])).await.status.is_success());
    let page = form_of_passkey(&stack, &mut nobody).await;
    let came = nobody.fill_in(&page, &[("ceremony", ceremony), ("credential", "{}")]).await;
    assert_eq!((came.status, stack.latest().await.1.as_str()), (StatusCode::FORBIDDEN, "way.passkey-refused"));
}

async fn form_of_passkey(stack: &Stack, person: &mut Person) -> Page {
    let mut page = form(stack, person, "A passkey").await;
    // The fields that the script fills in are filled in by the test.
    page.body = page
        .body
        .replace("<input type=\"hidden\" name=\"ceremony\" value=\"\">", "")
        .replace("<input type=\"hidden\" name=\"credential\" value=\"\">", "");
    page
}

#[tokio::test]
async fn slow_guessing_of_an_authenticator_takes_two_codes_in_a_row_from_then_on() {
    let stack = Stack::new().await;
    let mut benoit = by_password(&stack, "benoit", "neap-tide").await;
    let (key, _) = enrol(&stack, &mut benoit).await;
    let mut thief = by_password(&stack, "benoit", "neap-tide").await;
    for _ in 0..5 {
        let page = asked(&stack, &mut thief).await;
        for _ in 0..4 {
            assert_eq!(thief.fill_in(&page, &[("code", "000000")]).await.status, StatusCode::FORBIDDEN);
        }
        stack.later(Duration::minutes(16));
    }
    let mut owner = by_password(&stack, "benoit", "neap-tide").await;
    let page = asked(&stack, &mut owner).await;
    assert!(page.status == StatusCode::OK && page.body.contains("two codes in a row"), "{}", page.body);
    let (first, second) = (shows(&stack, &key, 0), shows(&stack, &key, 1));
    for wrong in [first.clone(), format!("{second} {first}"), format!("000000 {second}")] {
        let told = owner.fill_in(&page, &[("code", &wrong)]).await;
        assert_eq!(told.status, StatusCode::FORBIDDEN, "{wrong}");
    }
    let done = owner.fill_in(&page, &[("code", &format!("{first} {second}"))]).await;
    assert_eq!(owner.follow(done).await.url, stack.everybody("/assign"));
    // Known to be the owner's, one code is enough again.
    let mut again = by_password(&stack, "benoit", "neap-tide").await;
    let page = asked(&stack, &mut again).await;
    assert!(!page.body.contains("two codes in a row"), "{}", page.body);
}
