//! Who comes in, who does not, and what is told about it.

use crate::support::{Person, Stack};

#[tokio::test(flavor = "multi_thread")]
async fn a_planner_comes_in_and_the_ledger_is_told_who_it_is() {
    let stack = Stack::new().await;
    let mut benoit = Person::new();
    let page = benoit.sign_in(&stack.gate("/?view=all"), "benoit").await;
    assert_eq!((page.status.as_u16(), page.url.as_str()), (200, stack.gate("/?view=all").as_str()));
    assert!(page.body.contains("Good day, <strong>Benoît Le Goff</strong> (benoit)."), "{}", page.body);
    assert!(page.body.contains("Assign berth"));
    assert_eq!(page.header("cache-control"), "no-store");
    benoit.accept = "application/json";
    let received = benoit.open(&stack.gate("/received")).await;
    assert_eq!(received.saw("x-harbour-user"), ["benoit"]);
    assert_eq!(received.saw("x-harbour-roles"), ["planner"]);
    assert_eq!(received.saw("x-harbour-groups"), ["berth-access,planners"]);
    assert!(received.saw("cookie").is_empty(), "our cookies stay with us");
}

#[tokio::test(flavor = "multi_thread")]
async fn each_refusal_has_its_own_reason_words_and_step() {
    let stack = Stack::new().await;
    for (user, outcome, code, words) in [
        ("gwen", "refused", "rules.refused", "every day from six to eight"),
        ("farid", "refused", "rules.nothing-grants", "none of the rules"),
        ("hugo", "refused", "directory.no-entry", "could not be found for certain"),
        ("ines", "refused", "directory.disabled", "disabled or has expired"),
        ("nadia", "refused", "directory.no-key", "could not be found for certain"),
    ] {
        let page = Person::new().sign_in(&stack.gate("/"), user).await;
        assert_eq!(page.status, 403, "{user}");
        assert!(page.body.contains(words), "{user}: {}", page.body);
        assert_eq!(page.header("x-frame-options"), "DENY");
        let story = stack.story(&page.crossing()).await;
        assert_eq!((story["outcome"].as_str(), story["code"].as_str()), (Some(outcome), Some(code)), "{user}");
        let decided: Vec<_> = story["steps"].as_array().unwrap().iter().filter(|s| s["decided"] == true).collect();
        assert_eq!(decided.len(), 1, "{user}");
        assert!(decided[0]["remedy"].is_string(), "{user}");
        assert!(story["evidence"]["claims"]["sub"].is_string(), "{user}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_whole_story_of_a_refusal_reads_from_top_to_bottom() {
    let stack = Stack::new().await;
    let page = Person::new().sign_in(&stack.gate("/berths?no=4"), "gwen").await;
    let story = stack.story(&page.crossing()).await;
    let told: Vec<String> = story["steps"]
        .as_array()
        .unwrap()
        .iter()
        .map(|s| {
            format!("{} {} {}", s["bearing"].as_str().unwrap(), s["code"].as_str().unwrap(), s["sentence"].as_str().unwrap())
        })
        .collect();
    insta::with_settings!({filters => vec![
        (r"localhost:\d+", "localhost:PORT"), (r"127\.0\.0\.1:\d+", "127.0.0.1:PORT"), (r"\d+ ms", "N ms"),
        (r"after \d+ s", "after N s"), (r"another \d+ s", "another N s"), (r"until [^.]+ at", "until MOMENT at"), (r"\((LDAP|cache)", "(SOURCE"),
    ]}, { insta::assert_snapshot!(told.join("\n")) });
}

#[tokio::test(flavor = "multi_thread")]
async fn a_missing_value_is_omitted_and_the_reason_is_kept() {
    let stack = Stack::new().await;
    let mut jonas = stack.signed_in("jonas").await;
    jonas.accept = "application/json";
    assert!(jonas.open(&stack.gate("/received")).await.saw("x-harbour-staff-number").is_empty());
    stack.settle().await;
    let list = stack.get("/crossings?person=Jonas&limit=1").await;
    let story = stack.story(list["crossings"][0]["id"].as_str().unwrap()).await;
    let step = story["steps"].as_array().unwrap().iter().find(|s| s["code"] == "delivery.header-omitted").unwrap();
    assert!(step["sentence"].as_str().unwrap().contains("the directory entry does not hold it"), "{step}");
    assert!(story["requests"].as_i64().unwrap() >= 2, "requests are counted onto the decision: {story}");
}

#[tokio::test(flavor = "multi_thread")]
async fn names_that_are_not_ascii_and_two_hundred_groups_arrive_whole() {
    let stack = Stack::new().await;
    for (user, header, check) in [
        ("elodie", "x-harbour-name", "Élodie Kœnig-Þórsdóttir"),
        ("elodie", "x-harbour-roles", "planner"), // through the night watch, a group in a group
        ("klara", "x-harbour-groups", "roster-199"),
    ] {
        let mut person = stack.signed_in(user).await;
        person.accept = "application/json";
        let values = person.open(&stack.gate("/received")).await.saw(header);
        assert!(values.len() == 1 && values[0].contains(check), "{user} {header}: {values:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_gate_without_a_rule_admits_nobody() {
    let stack = Stack::with(|site| {
        let (head, tail) = site.split_once("[[gate.rule]]").unwrap();
        let engineers = &tail[tail.find("# Who may use the console").unwrap()..];
        let (engineers, _) = engineers.split_once("# What must stay so").unwrap();
        let (before, gate) = head.split_once("# A rule of the whole site").unwrap();
        let head = format!("{before}{}", &gate[gate.find("[[gate]]").unwrap()..]);
        format!("{head}{engineers}")
    })
    .await;
    let page = Person::new().sign_in(&stack.gate("/"), "benoit").await;
    assert_eq!(page.status, 403);
    assert_eq!(stack.latest().await, ("refused".into(), "gate.no-rule".into()));
}

#[tokio::test(flavor = "multi_thread")]
async fn pages_speak_french_to_those_who_ask_for_it() {
    let stack = Stack::new().await;
    let mut person = Person::new();
    person.extra.push(("accept-language", "fr-FR,fr;q=0.9".into()));
    let page = person.sign_in(&stack.gate("/"), "farid").await;
    assert!(page.body.contains("Vous ne pouvez pas entrer ici") && page.body.contains("lang=\"fr\""), "{}", page.body);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_quay_shows_what_may_be_opened_and_what_is_known() {
    let stack = Stack::new().await;
    let mut benoit = stack.signed_in("benoit").await;
    let page = benoit.open(&stack.pass("/")).await;
    for words in ["What you may open", "Berth ledger", "benoit@havrelune.example", "pwd, otp, mfa"] {
        assert!(page.body.contains(words), "{words}: {}", page.body);
    }
    let nobody = Person::new().open(&stack.pass("/")).await;
    assert!(nobody.body.contains("You are not signed in") && !nobody.body.contains("Berth ledger"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_story_is_told_in_the_readers_language_down_to_what_a_rule_saw() {
    let stack = Stack::new().await;
    let id = Person::new().sign_in(&stack.gate("/"), "farid").await.crossing();
    stack.settle().await;
    let client = reqwest::Client::builder().no_proxy().build().unwrap();
    let host = format!("pass.havrelune.localhost:{}", stack.address.port());
    let request = client.get(format!("http://{}/api/v1/crossings/{id}", stack.address)).header("host", host);
    let answer = request.bearer_auth(&stack.token).header("accept-language", "fr").send().await.unwrap();
    let story: serde_json::Value = serde_json::from_str(&answer.text().await.unwrap()).unwrap();
    let sentences: Vec<&str> = story["steps"].as_array().unwrap().iter().map(|s| s["sentence"].as_str().unwrap()).collect();
    let rule = sentences.iter().find(|s| s.contains("berth access")).unwrap();
    assert_eq!(
        *rule,
        "La règle « berth access » ne s'applique pas : elle exige groupe berth-access. Vu : pas dans berth-access."
    );
    for english in [" the ", " from ", "claim", "group "] {
        assert!(!sentences.iter().any(|s| s.contains(english)), "{english} in {sentences:#?}");
    }
}
