//! The survey against what is really there: a sound harbour, and one with several things wrong at once.

use std::collections::BTreeSet;

use chrono::Datelike;
use serde_json::{Value, json};

use crate::support::{Authority, Stack, env};
use crate::upstreams::{instead, tls_upstream};

fn codes(survey: &Value, harms: &[&str]) -> BTreeSet<String> {
    let all = survey["findings"].as_array().unwrap();
    let wanted = all.iter().filter(|f| harms.iter().any(|h| f["harm"] == *h));
    wanted.map(|f| f["code"].as_str().unwrap().to_owned()).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sound_harbour_is_found_sound_and_the_last_survey_is_kept() {
    let stack = Stack::new().await;
    assert_eq!(stack.status("/survey").await, 404);
    stack.signed_in("anouk").await;
    let (status, survey) = stack.post("/survey", json!({})).await;
    assert_eq!(status, 200, "{survey}");
    assert_eq!(codes(&survey, &["danger", "broken", "soon"]), BTreeSet::new(), "{survey:#}");
    assert!(codes(&survey, &["untidy"]).contains("token.first"), "{survey:#}");
    assert!(survey["looked_at"].as_u64().unwrap() > 10 && survey["not_seen"] == json!([]), "{survey:#}");
    assert_eq!(stack.get("/survey").await, survey);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_wrong_is_found_and_told_with_its_remedy() {
    let ldap = env("PASSEUR_TEST_LDAP");
    let stack = Stack::with(|s| {
        let s = instead(s, "upstream = \"http://127.0.0.1:1\"");
        s.replacen(&format!("url = \"{ldap}\""), &format!("urls = [\"ldap://127.0.0.1:1\", \"{ldap}\"]"), 1)
            .replacen("when = { group = \"visiting-crews\" }", "when = { group = \"visiting-crews-of-old\" }", 1)
            .replacen("ou=groups,dc=havrelune,dc=example\"\nnested = true", "ou=groups,dc=havrelune,dc=example\"\nchain = true", 1)
            .replacen("delivery = \"ledger\"\n\n", "delivery = \"ledger\"\n\n[[gate.mapping]]\nattribute = \"id\"\nfrom = \"subject\"\nby = [{ hash = \"salt\" }]\n\n", 1)
    })
    .await;
    stack.put("/secrets/pilotage-client", json!({"value": "not the secret"})).await;
    let (_, survey) = stack.post("/survey", json!({})).await;
    let expected = [
        "directory.chain-not-offered",
        "directory.server-down",
        "expectation.broken",
        "provider.client",
        "rule.refused-group-missing",
        "secret.missing",
        "token.first",
        "upstream.unreachable",
    ];
    assert_eq!(codes(&survey, &["danger", "broken", "soon", "untidy"]), expected.map(str::to_owned).into(), "{survey:#}");
    let harms: Vec<&str> = survey["findings"].as_array().unwrap().iter().map(|f| f["harm"].as_str().unwrap()).collect();
    let mut sorted = harms.clone();
    sorted.sort_by_key(|h| ["danger", "broken", "soon", "untidy"].iter().position(|x| x == h));
    assert_eq!(harms, sorted, "the worst first");
    // A directory that refuses the account is asked once, with the password in use alone.
    stack.put("/secrets/harbour-account", json!({"value": "not the password"})).await;
    let (_, survey) = stack.post("/survey", json!({})).await;
    assert!(codes(&survey, &["broken"]).contains("directory.account"), "{survey:#}");
    assert!(!survey.to_string().contains("not the password"));
}

#[tokio::test(flavor = "multi_thread")]
async fn certificates_that_run_out_and_hosts_without_one_are_found() {
    let authority = Authority::new("survey");
    let soon = chrono::Utc::now() + chrono::Duration::days(10);
    authority.issue_files_until("berths.havrelune.localhost", (soon.year(), soon.month() as u8, soon.day() as u8));
    // Its own certificate names another host.
    let port = tls_upstream(&authority, "elsewhere.localhost", false).await.port();
    let ca = authority.file();
    let stack = Stack::with_tls(Some(authority.folder.clone()), |site, tls| {
        let site = ["berths", "cranes"].iter().fold(site, |site, gate| {
            let at = site.find(&format!("address = \"http://{gate}")).unwrap();
            let end = at + site[at..].find('\n').unwrap();
            format!("{}address = \"https://{gate}.havrelune.localhost:{tls}\"{}", &site[..at], &site[end..])
        });
        instead(site, &format!("upstream = \"https://ledger.localhost:{port}\"\nupstream-tls = {{ ca-file = {ca:?} }}"))
    })
    .await;
    let (_, survey) = stack.post("/survey", json!({})).await;
    let told: Vec<String> =
        survey["findings"].as_array().unwrap().iter().map(|f| format!("{} {}", f["code"].as_str().unwrap(), f["what"])).collect();
    let has = |code: &str, words: &str| told.iter().any(|t| t.starts_with(code) && t.contains(words));
    assert!(has("certificate.soon", "berths.havrelune.localhost runs out on"), "{told:#?}");
    assert!(has("certificate.host", "cranes.havrelune.localhost"), "{told:#?}");
    assert!(has("upstream.certificate", "ledger.localhost"), "{told:#?}");
}
