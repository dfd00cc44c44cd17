//! Somebody leaves: found by anything they are known by, and everything is taken away in one act.

use reqwest::{Method, StatusCode};
use serde_json::json;

use crate::authorities::{by_token, token};
use crate::cli::passeur;
use crate::support::{Person, Stack};

#[tokio::test(flavor = "multi_thread")]
async fn a_leaver_is_found_by_what_they_are_known_by_and_loses_everything_at_once() {
    let stack = Stack::new().await;
    let other = stack.second_node().await;
    let mut benoit = stack.signed_in("benoit").await;
    let token = token(&stack, &mut benoit, "harbour-wide").await;
    assert_eq!(by_token(&stack.everybody("/received"), &token).await, StatusCode::OK);
    stack.settle().await;
    // By a mail address of the directory's, a name, the subject and the identity, whatever the case.
    for text in ["Benoit@havrelune.example", "benoît", "p-1002", "pilotage/p-1002"] {
        let (status, found) = stack.post("/people/find", json!({"text": text})).await;
        assert_eq!(status, 200, "{found}");
        let found = found["people"].as_array().unwrap();
        let him = found.iter().find(|p| p["person"] == "pilotage/p-1002").unwrap_or_else(|| panic!("{text}: {found:?}"));
        assert_eq!((&him["sessions"], &him["personal_tokens"]), (&json!(2), &json!(1)), "{him}");
        assert!(him["entries"].to_string().contains("uid=benoit"), "{him}");
    }
    // Looking takes nothing away, and nobody else has any of these.
    let looked = passeur(&stack, &["leaver", "benoit@havrelune.example", "--look"], "").await;
    assert!(looked.code == 0 && looked.out.contains("pilotage/p-1002") && !looked.out.contains("p-1001"), "{}", looked.out);
    // What may mean several people does nothing.
    let _anouk = stack.signed_in("anouk").await;
    stack.settle().await;
    let several = passeur(&stack, &["leaver", "p-100"], "").await;
    assert_eq!(several.code, 4, "no substring of an identity: {} {}", several.out, several.err);
    let several = passeur(&stack, &["leaver", "an"], "").await;
    assert_eq!(several.code, 1, "a part of a name is nobody's: {} {}", several.out, several.err);
    assert!(several.out.contains("pilotage/p-1001"), "{}", several.out);
    assert_ne!(stack.get("/sessions?person=p-1001").await, json!([]));
    assert_eq!(by_token(&stack.everybody("/received"), &token).await, StatusCode::OK);
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("summary.txt");
    let written = file.to_str().unwrap();
    let ran = passeur(&stack, &["leaver", "benoit@havrelune.example", "--why", "left on Friday", "--summary", written], "").await;
    assert_eq!(ran.code, 0, "{} {}", ran.out, ran.err);
    for told in [
        "sessions ended   2",
        "a script",
        "kept out of every gate",
        "application behind gate berths",
        "sign-in at provider pilotage",
    ] {
        assert!(ran.out.contains(told), "{told}: {}", ran.out);
    }
    assert!(!ran.out.contains("stays good elsewhere"), "a token of ours is good nowhere: {}", ran.out);
    benoit.accept = "application/json";
    assert_eq!(benoit.send(Method::GET, &stack.gate("/received"), None).await.status, 401);
    assert_eq!(by_token(&stack.everybody("/received"), &token).await, StatusCode::UNAUTHORIZED);
    // The console is closed to them as well, and every attempt says why.
    let page = Person::new().sign_in(&stack.gate("/"), "benoit").await;
    assert_eq!(page.status, StatusCode::FORBIDDEN);
    assert!(stack.story(&page.crossing()).await["why"].as_str().unwrap().contains("left on Friday"));
    let listed = passeur(&stack, &["kept-out"], "").await;
    assert!(listed.out.contains("pilotage/p-1002") && listed.out.contains("left on Friday"), "{}", listed.out);
    // The summary is the service's, and not if a letter of it is another.
    assert_eq!(passeur(&stack, &["leaver", "--check", written], "").await.code, 0);
    let text = std::fs::read_to_string(&file).unwrap();
    for altered in [
        text.replace("p-1002", "p-1003"),
        text.replace("left on Friday", "left on Monday"),
        text.replacen("signature: ", "signature: 0", 1),
    ] {
        std::fs::write(&file, altered).unwrap();
        let ran = passeur(&stack, &["leaver", "--check", written], "").await;
        assert_eq!(ran.code, 3, "{} {}", ran.out, ran.err);
    }
    let again = passeur(&stack, &["let-in", "pilotage/p-1002"], "").await;
    assert_eq!(again.code, 0, "{}", again.err);
    assert_eq!(passeur(&stack, &["let-in", "pilotage/p-1002"], "").await.code, 4);
    assert_eq!(Person::new().sign_in(&stack.gate("/"), "benoit").await.status, StatusCode::OK);
    drop(other);
}

#[tokio::test(flavor = "multi_thread")]
async fn somebody_is_found_by_a_value_that_json_writes_with_a_backslash() {
    let stack = Stack::new().await;
    let account = r"HAVRELUNE\bleg";
    stack.provider.give_duties("benoit", &[account, r#"the "night" watch"#]);
    stack.signed_in("benoit").await;
    stack.settle().await;
    for (text, there) in [(account, true), (r#"The "Night" watch"#, true), (r"havrelune\ble", false), (r"havrelune\\bleg", false)]
    {
        let (status, found) = stack.post("/people/find", json!({"text": text})).await;
        assert_eq!(status, 200, "{found}");
        assert_eq!(found["people"].as_array().unwrap().iter().any(|p| p["person"] == "pilotage/p-1002"), there, "{text}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_never_came_can_be_kept_out_and_finding_is_for_those_who_may_act() {
    let stack = Stack::new().await;
    let ran = passeur(&stack, &["leaver", "elodie@havrelune.example"], "").await;
    assert_eq!(ran.code, 4, "{} {}", ran.out, ran.err);
    let ran = passeur(&stack, &["leaver", "elodie", "--only", "pilotage/p-1003", "--why", "never to come"], "").await;
    assert_eq!(ran.code, 0, "{} {}", ran.out, ran.err);
    let mut lucie = crate::support::engineer(&stack, "lucie").await;
    let ask = json!({"name": "viewer", "role": "view", "days": 1}).to_string();
    let made = crate::outliving::call(&mut lucie, &stack, "/tokens", &ask).await.json();
    let view = made["value"].as_str().unwrap();
    for (path, body) in
        [("/people/find", json!({"text": "benoit"})), ("/people/take-away", json!({"people": ["pilotage/p-1001"]}))]
    {
        let url = stack.pass(&format!("/api/v1{path}"));
        let mut viewer = Person::new();
        viewer.extra = vec![("authorization", format!("Bearer {view}")), ("content-type", "application/json".to_owned())];
        let page = viewer.send_body(Method::POST, &url, body.to_string()).await;
        assert_eq!(page.status, StatusCode::FORBIDDEN, "{path} {}", page.body);
    }
    for odd in
        [json!({"text": "a"}), json!({"text": "x".repeat(300)}), json!({"text": "a\u{0}b"}), json!({"text": "%' OR 1=1 --"})]
    {
        let (status, answer) = stack.post("/people/find", odd.clone()).await;
        let wanted = if odd["text"].as_str().unwrap().starts_with('%') { 200 } else { 400 };
        assert_eq!(status, wanted, "{odd} {answer}");
        assert_eq!(answer["people"].as_array().map_or(0, Vec::len), 0, "{answer}");
    }
}
