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

#[tokio::test(flavor = "multi_thread")]
async fn crossings_are_found_by_address_way_rule_mail_and_time() {
    let stack = Stack::with(|s| {
        s.replacen("keep-crossings", "trusted-proxies = [\"127.0.0.1\"]\nproxies-write = \"x-forwarded-for\"\nkeep-crossings", 1)
    })
    .await;
    let mut anouk = Person::new();
    anouk.extra = vec![("x-forwarded-for", "10.20.30.40".into())];
    assert_eq!(anouk.sign_in(&stack.gate("/received"), "anouk").await.status, 200);
    let mut farid = Person::new();
    farid.extra = vec![("x-forwarded-for", "2001:db8::7".into())];
    assert_eq!(farid.sign_in(&stack.gate("/"), "farid").await.status, 403);
    stack.settle().await;
    let found = async |query: &str| {
        let list = stack.get(&format!("/crossings?{query}")).await;
        let mut who: Vec<String> =
            list["crossings"].as_array().unwrap().iter().filter_map(|c| Some(c["person"].as_str()?.to_owned())).collect();
        who.sort();
        who.dedup();
        who
    };
    for (query, who) in [
        ("address=10.20.30.40", vec!["Anouk Tregarec"]),
        ("address=10.20.0.0/16", vec!["Anouk Tregarec"]),
        ("address=2001:db8::/32", vec!["Farid Haddad"]),
        ("address=192.0.2.0/24", vec![]),
        ("way=pilotage", vec!["Anouk Tregarec", "Farid Haddad"]),
        ("way=harbour-password", vec![]),
        ("person=farid%40havrelune.example", vec!["Farid Haddad"]),
        ("person=nobody%40havrelune.example", vec![]),
        ("since=2020-01-01T00:00:00Z&until=2020-01-02T00:00:00Z", vec![]),
        ("rule=no%20such%20rule", vec![]),
    ] {
        assert_eq!(found(query).await, who, "{query}");
    }
    // By the rule that let somebody in, whatever it is called.
    let story = stack.get("/crossings?gate=berths&outcome=admitted").await;
    let story = stack.story(story["crossings"][0]["id"].as_str().unwrap()).await;
    let matched =
        story["steps"].as_array().unwrap().iter().find(|s| s["code"] == "rules.matched").unwrap()["sentence"].as_str().unwrap();
    let rule = matched.split(['“', '”']).nth(1).unwrap();
    let query = format!("rule={}", url::form_urlencoded::byte_serialize(rule.as_bytes()).collect::<String>());
    assert_eq!(found(&query).await, ["Anouk Tregarec"], "{rule}");
    // What is no address is said, and reaches no query.
    for wrong in ["10.20.30", "10.0.0.0/33", "::/129", "x'%3B--", "10.0.0.1/x"] {
        assert_eq!(stack.status(&format!("/crossings?address={wrong}")).await, 400, "{wrong}");
    }
    // Pages meet without a gap.
    let first = stack.get("/crossings?limit=1").await;
    let next = first["next"].as_str().unwrap();
    let second = stack.get(&format!("/crossings?limit=1&before={next}")).await;
    assert_ne!(first["crossings"][0]["id"], second["crossings"][0]["id"]);
    // Acts by what was done and when.
    let acts = stack.get("/acts?what=publish").await;
    assert!(acts["acts"].as_array().unwrap().iter().all(|a| a["what"] == "publish") && acts["next"].is_null(), "{acts}");
    assert_eq!(stack.get("/acts?until=2020-01-01T00:00:00Z").await["acts"], serde_json::json!([]));
    assert_eq!(stack.get("/acts?person=nobody%25").await["acts"], serde_json::json!([]));
    // A slip in somebody's identifier is not "has none".
    for path in ["factors", "tokens", "roles"] {
        assert_eq!(stack.status(&format!("/people/pilotage/p-1001/{path}")).await, 200, "{path}");
    }
    for path in ["factors", "tokens"] {
        assert_eq!(stack.status(&format!("/people/pilotage/p-l001/{path}")).await, 404, "{path}");
    }
}
