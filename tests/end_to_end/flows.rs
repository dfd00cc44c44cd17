//! The sign-in under attack and under bad luck: every ending is told apart.

use passeur_standins::provider::Mode;
use reqwest::Method;

use crate::support::{Person, Stack};

#[tokio::test(flavor = "multi_thread")]
async fn what_the_provider_does_wrong_is_told_apart() {
    let stack = Stack::new().await;
    for (mode, outcome, code, said) in [
        (Mode::WrongKey, "check-failed", "check.id-token-refused", "signature"),
        (Mode::WrongNonce, "check-failed", "check.id-token-refused", "nonce"),
        (Mode::WrongAudience, "check-failed", "check.id-token-refused", "somebody-else"),
        (Mode::Expired, "check-failed", "check.id-token-refused", "expiry"),
        (Mode::OtherIssuer, "check-failed", "check.issuer", "http://elsewhere.localhost"),
        (Mode::OneFactor, "check-failed", "check.factors", "wants amr mfa"),
    ] {
        stack.behave(mode);
        let page = Person::new().sign_in(&stack.gate("/"), "benoit").await;
        assert_eq!(page.status, 403, "{mode:?}");
        let story = stack.story(&page.crossing()).await;
        assert_eq!((story["outcome"].as_str(), story["code"].as_str()), (Some(outcome), Some(code)), "{mode:?}");
        assert!(story["why"].as_str().unwrap().contains(said), "{mode:?}: {}", story["why"]);
        assert!(!page.body.contains("nonce") && !page.body.contains("signature"), "no internals for the person: {}", page.body);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_providers_own_refusal_is_told_in_its_own_words() {
    let stack = Stack::new().await;
    stack.behave(Mode::Refuses);
    let page = Person::new().open(&stack.gate("/")).await;
    assert_eq!(page.status, 403);
    assert!(page.body.contains("The office is closed to this account"), "{}", page.body);
    let story = stack.story(&page.crossing()).await;
    assert_eq!((story["outcome"].as_str(), story["code"].as_str()), (Some("provider-refused"), Some("provider.refused")));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_provider_that_is_down_is_no_refusal() {
    let stack = Stack::new().await;
    stack.behave(Mode::Down);
    let page = Person::new().open(&stack.gate("/")).await;
    assert_eq!(page.status, 502);
    assert_eq!(stack.latest().await, ("failed".into(), "provider.discovery-failed".into()));
    // The failure is passed on for two seconds, so that people waiting behind it do not each wait for a time limit.
    stack.behave(Mode::Well);
    assert_eq!(Person::new().open(&stack.gate("/")).await.status, 502);
    stack.clock.advance(chrono::Duration::seconds(3));
    stack.signed_in("anouk").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_nul_in_what_a_provider_says_keeps_nobody_out_and_nothing_unrecorded() {
    let stack = Stack::new().await;
    stack.behave(Mode::Nul);
    let page = Person::new().sign_in(&stack.gate("/received"), "anouk").await;
    assert_eq!(page.status, 200, "{}", page.body);
    stack.settle().await;
    let list = stack.get("/crossings?person=p-1001").await;
    let first = &list["crossings"][0];
    assert_eq!(
        (&first["outcome"], &first["person"]),
        (&serde_json::json!("admitted"), &serde_json::json!("An\u{FFFD}ouk")),
        "{list}"
    );
    assert_eq!(stack.get("/sessions?person=p-1001").await[0]["name"], "An\u{FFFD}ouk");
}

#[tokio::test(flavor = "multi_thread")]
async fn userinfo_about_somebody_else_is_not_used() {
    let stack = Stack::new().await;
    stack.behave(Mode::OtherSubject);
    let page = Person::new().sign_in(&stack.gate("/"), "benoit").await;
    assert_eq!(page.status, 403);
    let story = stack.story(&page.crossing()).await;
    // Nothing of it is used, so the look-up has no key.
    assert_eq!(story["code"], "directory.no-key");
    assert!(story["steps"].as_array().unwrap().iter().any(|s| s["code"] == "provider.userinfo-other"), "{story}");
    assert!(story.to_string().contains("is about somebody-else"), "{story}");
}

#[tokio::test(flavor = "multi_thread")]
async fn rotated_keys_are_fetched_once_and_the_sign_in_succeeds() {
    let stack = Stack::new().await;
    stack.signed_in("anouk").await;
    stack.provider.rotate();
    stack.clock.advance(chrono::Duration::seconds(11));
    let mut benoit = Person::new();
    assert_eq!(benoit.sign_in(&stack.gate("/"), "benoit").await.status, 200);
    let list = stack.get("/crossings?person=Beno&limit=1").await;
    let story = stack.story(list["crossings"][0]["id"].as_str().unwrap()).await;
    assert!(story["steps"].as_array().unwrap().iter().any(|s| s["code"] == "check.keys-fetched"), "{story}");
}

#[tokio::test(flavor = "multi_thread")]
async fn who_never_comes_back_is_counted_per_provider_and_shown() {
    let stack = Stack::new().await;
    let page = Person::new().open(&stack.gate("/")).await;
    assert!(page.body.contains("Pilotage office"));
    stack.signed_in("anouk").await;
    stack.settle().await;
    assert_eq!(stack.get("/providers").await[0]["never_came_back"], 0);
    stack.clock.advance(chrono::Duration::minutes(20));
    let provider = &stack.get("/providers").await[0];
    assert_eq!((&provider["sent"], &provider["answered"], &provider["never_came_back"]), (&2.into(), &1.into(), &1.into()));
    let list = stack.get("/crossings?outcome=never-came-back").await;
    let lost = list["crossings"].as_array().unwrap();
    assert_eq!(lost.len(), 1, "{list}");
    let both = stack.get("/crossings?outcome=never-came-back,admitted").await;
    assert_eq!(both["crossings"].as_array().unwrap().len(), 2, "one limit of time does not shorten the other outcome");
    let story = stack.story(lost[0]["id"].as_str().unwrap()).await;
    assert_eq!(story["code"], "provider.never-came-back");
    assert!(story["why"].as_str().unwrap().contains("15 minutes"), "{}", story["why"]);
    assert_eq!(stack.get("/crossings?outcome=waiting").await["crossings"].as_array().unwrap().len(), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_code_is_good_once_and_in_one_browser_and_for_a_minute() {
    let stack = Stack::new().await;
    let away = async |person: &mut Person| {
        let page = person.open(&stack.gate("/received?deep=1")).await;
        let back = person.prove(page, "anouk").await;
        person.until(back, "/.passeur/arrive").await
    };
    // Carried to another browser: refused there, and used up.
    let (mut anouk, mut thief) = (Person::new(), Person::new());
    let link = away(&mut anouk).await;
    thief.send(Method::GET, &stack.gate("/"), None).await; // has a binding cookie of its own
    let stolen = thief.open(&link).await;
    assert_eq!(stolen.status, 403);
    let story = stack.story(&stolen.crossing()).await;
    assert!(story["why"].as_str().unwrap().contains("another browser"), "{}", story["why"]);
    assert_eq!(anouk.send(Method::GET, &link, None).await.status, 403, "used up");
    // Taken once, replayed never.
    let mut anouk = Person::new();
    let link = away(&mut anouk).await;
    let first = anouk.send(Method::GET, &link, None).await;
    assert_eq!((first.status.as_u16(), first.header("location")), (303, stack.gate("/received?deep=1").as_str()));
    assert_eq!((first.header("cache-control"), first.header("referrer-policy")), ("no-store", "no-referrer"));
    assert_eq!(anouk.send(Method::GET, &link, None).await.status, 403);
    // Too late.
    let mut anouk = Person::new();
    let link = away(&mut anouk).await;
    stack.clock.advance(chrono::Duration::seconds(61));
    assert_eq!(anouk.send(Method::GET, &link, None).await.status, 403);
}

#[tokio::test(flavor = "multi_thread")]
async fn state_is_ours_unaltered_in_the_same_browser_and_good_once() {
    let stack = Stack::new().await;
    let mut anouk = Person::new();
    let page = anouk.open(&stack.gate("/")).await;
    let back = anouk.prove(page, "anouk").await;
    let answer = back.header("location").to_owned();
    // Altered.
    let at = answer.find("state=").unwrap() + 30;
    let other = if &answer[at..=at] == "A" { "B" } else { "A" };
    let altered = format!("{}{other}{}", &answer[..at], &answer[at + 1..]);
    let page = Person::new().open(&altered).await;
    assert_eq!((page.status.as_u16(), stack.latest().await.1.as_str()), (403, "check.state-unreadable"));
    // In another browser.
    let page = Person::new().open(&answer).await;
    assert_eq!(page.status, 403);
    assert_eq!(stack.story(&page.crossing()).await["code"], "check.state-other-browser");
    // For another provider's address.
    let page = anouk.clone().open(&answer.replace("/pilotage/", "/elsewhere/")).await;
    assert_eq!(page.status, 403);
    // In the right one, once.
    assert_eq!(anouk.open(&answer).await.status, 200);
    let page = anouk.open(&answer).await;
    assert_eq!(page.status, 403);
    assert_eq!(stack.story(&page.crossing()).await["code"], "check.state-replayed");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_answer_that_took_too_long_is_refused() {
    let stack = Stack::new().await;
    let mut anouk = Person::new();
    let page = anouk.open(&stack.gate("/")).await;
    let back = anouk.prove(page, "anouk").await;
    stack.clock.advance(chrono::Duration::minutes(16));
    let page = anouk.follow(back).await;
    assert_eq!(stack.story(&page.crossing()).await["code"], "check.state-too-old");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_altered_request_to_sign_in_is_refused() {
    let stack = Stack::new().await;
    for ask in ["", "x", "AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA", &"A".repeat(10_000)] {
        let page = Person::new().open(&stack.pass(&format!("/.passeur/sign-in?ask={ask}"))).await;
        assert_eq!(page.status, 400, "{ask}");
    }
    assert_eq!(stack.latest().await.1, "sign-in.ask-unreadable");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_refusal_loaded_again_is_another_attempt_and_still_a_refusal() {
    let stack = Stack::new().await;
    let mut farid = Person::new();
    let first = farid.sign_in(&stack.gate("/"), "farid").await;
    // Signed in by now; the same link to sign in decides again each time it is loaded.
    let away = farid.send(Method::GET, &stack.gate("/"), None).await;
    let ask = away.header("location").to_owned();
    let mut seen = vec![first.crossing()];
    for _ in 0..3 {
        let page = farid.open(&ask).await;
        assert_eq!(page.status, 403, "{}", page.body);
        seen.push(page.crossing());
    }
    let n = seen.len();
    seen.sort();
    seen.dedup();
    assert_eq!(seen.len(), n, "each has a story of its own");
    for id in seen {
        assert_eq!(stack.story(&id).await["code"], "rules.nothing-grants");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_went_out_to_the_provider_and_came_back_is_told_decoded() {
    let stack = Stack::new().await;
    let page = Person::new().sign_in(&stack.gate("/"), "farid").await;
    let story = stack.story(&page.crossing()).await;
    let step = |code: &str| {
        let all = story["steps"].as_array().unwrap();
        all.iter().find(|s| s["code"] == code).unwrap_or_else(|| panic!("no {code}"))["sentence"].as_str().unwrap().to_owned()
    };
    let sent = step("provider.sent");
    for part in ["/authorize with", "response_type=code", "scope=openid profile email", "code_challenge_method=S256", "nonce=…"]
    {
        assert!(sent.contains(part), "{part}: {sent}");
    }
    assert!(step("provider.answered").contains("code=… (masked)"));
    assert!(step("provider.tokens").contains("/token (client_secret_basic)"), "{}", step("provider.tokens"));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_address_too_long_to_keep_leads_to_the_front_page_and_says_so() {
    let stack = Stack::new().await;
    let mut anouk = Person::new();
    let page = anouk.sign_in(&stack.gate(&format!("/received?q={}", "a".repeat(3_000))), "anouk").await;
    assert_eq!((page.status.as_u16(), page.url), (200, stack.gate("/")));
    stack.settle().await;
    let list = stack.get("/crossings?outcome=admitted&limit=1").await;
    let story = stack.story(list["crossings"][0]["id"].as_str().unwrap()).await;
    assert!(story["steps"].as_array().unwrap().iter().any(|s| s["code"] == "gate.return-not-kept"), "{story}");
}
