//! Directories as they fail: each way has its own words. Real slapd throughout.

use passeur_standins::provider::Mode;
use serde_json::json;

use crate::support::{Person, Stack, env};

fn instead(site: String, what: &str, with: &str) -> String {
    assert!(site.contains(what), "{what}");
    site.replacen(what, with, 1)
}

async fn refused(stack: &Stack) -> (u16, String, String) {
    let page = Person::new().sign_in(&stack.gate("/"), "anouk").await;
    let story = stack.story(&page.crossing()).await;
    (page.status.as_u16(), story["code"].as_str().unwrap().to_owned(), story["why"].as_str().unwrap().to_owned())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dead_directory_a_refused_account_and_several_entries_are_told_apart() {
    let ldap = env("PASSEUR_TEST_LDAP");
    let dead = Stack::with(|s| instead(s, &ldap, "ldap://127.0.0.1:1")).await;
    let (status, code, why) = refused(&dead).await;
    assert_eq!((status, code.as_str()), (502, "directory.dead"), "{why}");
    let stack = Stack::new().await;
    stack.put("/secrets/harbour-account", json!({"value": "not the password"})).await;
    let (status, code, why) = refused(&stack).await;
    assert_eq!((status, code.as_str()), (502, "directory.bind-refused"), "{why}");
    assert!(why.contains("invalidCredentials (49)") && !why.contains("not the password"), "{why}");
    let twice = Stack::with(|s| instead(s, "key = \"uid\"", "key = \"departmentNumber\"")).await;
    let found = twice.post("/directories/harbour/look-up", json!({"value": "pilotage"})).await.1;
    assert_eq!(found["state"], "several-entries", "{found}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_is_down_is_passed_over_and_both_the_story_and_the_list_of_directories_say_so() {
    let ldap = env("PASSEUR_TEST_LDAP");
    let stack =
        Stack::with(|s| instead(s, &format!("url = \"{ldap}\""), &format!("urls = [\"ldap://127.0.0.1:1\", \"{ldap}\"]"))).await;
    let page = Person::new().sign_in(&stack.gate("/"), "anouk").await;
    assert_eq!(page.status, 200, "{}", page.body);
    let crossings = stack.get("/crossings?person=p-1001").await;
    let told = stack.story(crossings["crossings"][0]["id"].as_str().unwrap()).await["steps"].to_string();
    assert!(told.contains("Server ldap://127.0.0.1:1 of directory harbour did not answer"), "{told}");
    let list = stack.get("/directories").await;
    let servers = list[0]["servers"].as_array().unwrap();
    let well: Vec<bool> = servers.iter().map(|s| s["well"].as_bool().unwrap()).collect();
    assert_eq!(well, [false, true], "{list}");
    assert!(servers[0]["rests_until"].is_string() && servers[0]["failures"] == 1, "{list}");
    assert_eq!(
        (&list[0]["gates"], &list[0]["secret_stored"]),
        (&json!(["berths", "agents", "harbour-wide", "locks", "cranes", "console"]), &json!(true))
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn people_are_looked_for_in_the_directory_that_their_suffix_names() {
    let ldap = env("PASSEUR_TEST_LDAP");
    let crews = format!(
        "[[directory]]\nname = \"crews\"\nurl = \"{ldap}\"\nbase = \"ou=groups,dc=havrelune,dc=example\"\nkey = \"cn\"\n\
         account = \"cn=passeur,ou=services,dc=havrelune,dc=example\"\nsecret = \"harbour-account\"\nfed-by = \"mail\"\n\
         suffixes = \"@havrelune.example\"\ncut-suffix = true\n\n# The old applications"
    );
    let stack = Stack::with(|s| {
        let s = instead(s, "# The old applications", &crews);
        instead(s, "directory = \"harbour\"\ndelivery", "directory = [\"crews\", \"harbour\"]\ndelivery")
    })
    .await;
    // Anouk's mail names the crews' directory, which does not know her: nobody falls back on another directory.
    let (status, code, why) = refused(&stack).await;
    assert_eq!((status, code.as_str()), (403, "directory.no-entry"), "{why}");
    assert!(why.contains("cn = anouk"), "{why}");
    let elsewhere = stack.site.replace("\"@havrelune.example\"", "\"@ships.example\"");
    assert_eq!(stack.publish(&elsewhere).await.0, 200);
    assert_eq!(Person::new().sign_in(&stack.gate("/"), "anouk").await.status, 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_gate_may_go_on_without_its_directory_when_it_says_so() {
    let ldap = env("PASSEUR_TEST_LDAP");
    let stack = Stack::with(|s| {
        let s = instead(s, &ldap, "ldap://127.0.0.1:1");
        let s = instead(s, "directory = \"harbour\"\ndelivery", "directory = \"harbour\"\nwithout-directory = true\ndelivery");
        instead(s, "when = { group = \"berth-access\" }", "when = { attribute = \"mail\", present = true }")
            .replace("when = { group = \"visiting-crews\" }\nrefuse", "when = { attribute = \"mail\", is = \"nobody\" }\nrefuse")
    })
    .await;
    let page = Person::new().sign_in(&stack.gate("/"), "anouk").await;
    assert_eq!(page.status, 200, "{}", page.body);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_refusing_rule_that_cannot_be_judged_refuses() {
    let ldap = env("PASSEUR_TEST_LDAP");
    let stack = Stack::with(|s| {
        let s = instead(s, &ldap, "ldap://127.0.0.1:1");
        let s = instead(s, "directory = \"harbour\"\ndelivery", "directory = \"harbour\"\nwithout-directory = true\ndelivery");
        instead(s, "when = { group = \"berth-access\" }", "when = { everyone = true }")
    })
    .await;
    let (status, code, _) = refused(&stack).await;
    assert_eq!((status, code.as_str()), (403, "rules.refused"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_disabled_account_enters_only_where_the_gate_says_so() {
    let stack =
        Stack::with(|s| instead(s, "delivery = \"ledger\"", "delivery = \"ledger\"\ndisabled-accounts = \"admit\"")).await;
    let page = Person::new().sign_in(&stack.gate("/"), "ines").await;
    assert_eq!(page.status, 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_searched_for_is_a_value_and_never_a_filter() {
    let stack = Stack::new().await;
    for hostile in ["*", "a*", "anouk)(uid=*", "*)(objectClass=*", "\\2a", "anouk\u{0}", "", " ", &"x".repeat(5000)] {
        let (status, found) = stack.post("/directories/harbour/look-up", json!({"value": hostile})).await;
        assert_eq!((status, &found["state"]), (200, &json!("no-entry")), "{hostile:?}: {found}");
    }
    let (_, found) = stack.post("/directories/harbour/look-up", json!({"value": "ANOUK"})).await;
    assert_eq!(found["state"], "answered", "letters compare without case");
    assert_eq!(found["groups"][0]["via"], "pilots");
}

#[tokio::test(flavor = "multi_thread")]
async fn answers_are_cached_for_the_stated_time_only() {
    let stack = Stack::new().await;
    let look = async || stack.post("/directories/harbour/look-up", json!({"value": "anouk"})).await.1["cached"].clone();
    assert_eq!((look().await, look().await), (json!(false), json!(true)));
    stack.clock.advance(chrono::Duration::seconds(31));
    assert_eq!(look().await, json!(false));
}

#[tokio::test(flavor = "multi_thread")]
async fn tls_is_checked_against_the_named_authority() {
    let ldap = env("PASSEUR_TEST_LDAP");
    let ldaps = env("PASSEUR_TEST_LDAPS");
    let ca = format!("ca-file = \"{}\"\nkey = \"uid\"", env("PASSEUR_TEST_CA"));
    let starttls = ldap.replace("127.0.0.1", "directory.havrelune.localhost");
    for (url, extra) in [(ldaps.clone(), ""), (starttls, "start-tls = true\n")] {
        let stack = Stack::with(|s| instead(instead(s, &ldap, &url), "key = \"uid\"", &format!("{extra}{ca}"))).await;
        let page = Person::new().sign_in(&stack.gate("/"), "anouk").await;
        assert_eq!(page.status, 200, "{url}: {}", page.body);
    }
    let stack = Stack::with(|s| instead(s, &ldap, &ldaps)).await;
    let (status, code, why) = refused(&stack).await;
    assert_eq!((status, code.as_str()), (502, "directory.dead"));
    assert!(why.to_lowercase().contains("certificate") || why.contains("issuer") || why.contains("Issuer"), "{why}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_trial_says_which_value_is_wrong() {
    let stack = Stack::new().await;
    let wrong = async |path: &str, ask: serde_json::Value| {
        let (status, answer) = stack.post(path, ask).await;
        assert_eq!(status, 200, "{answer}");
        let checks = answer["checks"].as_array().unwrap().clone();
        checks.iter().filter(|c| c["verdict"] == "wrong").map(|c| c["value"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    let directory = "/trials/directory";
    let none: Vec<String> = vec![];
    assert_eq!(wrong(directory, json!({"name": "harbour", "sample": "anouk"})).await, none);
    assert_eq!(wrong(directory, json!({"name": "harbour", "base": "ou=nowhere,dc=havrelune,dc=example"})).await, ["base"]);
    assert_eq!(wrong(directory, json!({"name": "harbour", "password": "x"})).await, ["account"]);
    assert_eq!(wrong(directory, json!({"name": "harbour", "sample": "nobody"})).await, ["sample person"]);
    assert_eq!(wrong(directory, json!({"name": "harbour", "url": "ldap://127.0.0.1:1", "password": "x"})).await, ["address"]);
    let provider = "/trials/provider";
    let issuer = |port: u16| format!("http://bureau-pilotage.localhost:{port}");
    let secret = "ebb-and-flow-of-the-demo";
    assert_eq!(wrong(provider, json!({"name": "pilotage"})).await, none);
    assert_eq!(wrong(provider, json!({"name": "pilotage", "secret": "x"})).await, ["client"]);
    assert_eq!(wrong(provider, json!({"name": "pilotage", "issuer": issuer(1), "secret": secret})).await, ["address"]);
    let slash = format!("{}/", issuer(stack.provider_port()));
    assert_eq!(wrong(provider, json!({"name": "pilotage", "issuer": slash, "secret": secret})).await, ["issuer"]);
    let metadata = json!({"name": "pilotage", "issuer": "https://169.254.169.254", "secret": secret});
    assert_eq!(wrong(provider, metadata).await, ["address"], "nothing is fetched from there");
    let other =
        json!({"name": "renamed", "issuer": issuer(stack.provider_port()), "client_id": "passeur-havrelune", "secret": secret});
    assert_eq!(wrong(provider, other).await, ["redirect address"]);
    stack.behave(Mode::Down);
    assert_eq!(wrong(provider, json!({"name": "pilotage"})).await, ["issuer"]);
    // A stored secret goes nowhere but where it belongs.
    for (path, ask) in [
        (provider, json!({"name": "pilotage", "issuer": issuer(1)})),
        (directory, json!({"name": "harbour", "url": "ldap://127.0.0.1:1"})),
        (directory, json!({"name": "harbour", "url": "ldap://directory.example"})),
    ] {
        assert_eq!(stack.post(path, ask.clone()).await.0, 400, "{ask}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_key_with_several_values_is_not_searched_for() {
    let stack = Stack::with(|s| instead(s, "user = \"preferred_username\"", "user = \"amr\"")).await;
    let (status, code, why) = refused(&stack).await;
    assert_eq!((status, code.as_str()), (403, "directory.no-key"));
    assert!(why.contains("it has several values"), "{why}");
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_is_looked_up_by_hand_is_searched_for_as_at_a_sign_in() {
    let suffixes = "fed-by = \"user\"\nsuffixes = [\"@havrelune.example\"]\ncut-suffix = true\n";
    let stack = Stack::with(|s| s.replacen("fed-by = \"user\"\n", suffixes, 1)).await;
    for typed in ["anouk@havrelune.example", " anouk@Havrelune.Example", "anouk"] {
        let (status, seen) = stack.post("/directories/harbour/look-up", json!({"value": typed})).await;
        assert_eq!((status, &seen["state"], &seen["value"]), (200, &json!("answered"), &json!("anouk")), "{seen}");
        let (_, tried) = stack.post("/trials/directory", json!({"name": "harbour", "sample": typed})).await;
        let person = tried["checks"].as_array().unwrap().iter().find(|c| c["value"] == "sample person").unwrap();
        assert_eq!(person["verdict"], "good", "{person}");
    }
}
