//! The pictures in `docs/screenshots/`, made from a running demo by `./run shots`.

use std::path::Path;

use crate::support::{Browser, Person, env};

const GATE: &str = "http://berths.havrelune.localhost:8640";
const PASS: &str = "http://pass.havrelune.localhost:8640";

/// People come and go, and the provider has its moments, so that there is something to see.
async fn a_day_at_the_harbour() {
    let control = reqwest::Client::builder().no_proxy().build().unwrap();
    let behave = async |mode: &str| {
        let order = serde_json::json!({"mode": mode});
        control.post("http://127.0.0.1:8641/control").json(&order).send().await.unwrap();
    };
    for user in ["anouk", "elodie", "farid", "hugo", "ines", "jonas", "klara", "nadia", "benoit"] {
        Person::new().sign_in(&format!("{GATE}/"), user).await;
    }
    Person::new().sign_in("http://cranes.havrelune.localhost:8640/", "farid").await;
    for user in ["anouk", "elodie"] {
        Person::new().sign_in_by_saml("http://agents.havrelune.localhost:8640/", user).await;
    }
    for mode in ["wrong-nonce", "one-factor"] {
        behave(mode).await;
        Person::new().sign_in(&format!("{GATE}/"), "anouk").await;
    }
    behave("refuses").await;
    Person::new().open(&format!("{GATE}/")).await;
    behave("well").await;
    let mut script = Person::new();
    script.accept = "application/json";
    script.open(&format!("{GATE}/received")).await;
}

/// Ends every session of a subject, as an engineer would.
async fn end_sessions(subject: &str) {
    let client = reqwest::Client::builder().dns_resolver(passeur_links::resolve::Resolver).no_proxy().build().unwrap();
    let token = env("PASSEUR_TOKEN");
    let list = client.get(format!("{PASS}/api/v1/sessions?person={subject}")).bearer_auth(&token).send().await.unwrap();
    let sessions: serde_json::Value = serde_json::from_str(&list.text().await.unwrap()).unwrap();
    let ids: Vec<_> = sessions.as_array().unwrap().iter().map(|s| s["id"].clone()).collect();
    let order = serde_json::json!({"sessions": ids});
    let ended = client.post(format!("{PASS}/api/v1/sessions/end")).bearer_auth(&token).json(&order).send().await.unwrap();
    assert_eq!(ended.status(), 200);
}

/// A call of the management API with the demo's token.
async fn call(path: &str, body: serde_json::Value) -> serde_json::Value {
    let client = reqwest::Client::builder().dns_resolver(passeur_links::resolve::Resolver).no_proxy().build().unwrap();
    let answer = client.post(format!("{PASS}/api/v1{path}")).bearer_auth(env("PASSEUR_TOKEN")).json(&body).send().await.unwrap();
    assert_eq!(answer.status(), 200, "{path}");
    serde_json::from_str(&answer.text().await.unwrap()).unwrap()
}

/// An edition in which several things are wrong at once, surveyed; then the one before is put back.
async fn a_survey(b: &Browser, survey: &Path, kerberos: &Path) {
    let wrong = include_str!("../../demo/site.toml")
        .replacen("upstream = \"http://127.0.0.1:8643\"", "upstreams = [\"http://127.0.0.1:8642\", \"http://127.0.0.1:8649\"]", 1)
        .replacen(
            "delivery = \"ledger\"\n\n[[gate.rule]]\nname = \"crane fitters\"",
            "\n[[gate.rule]]\nname = \"crane fitters\"",
            1,
        )
        .replacen("url = \"ldap://127.0.0.1:8645\"", "urls = [\"ldap://127.0.0.1:8645\", \"ldap://127.0.0.1:8647\"]", 1)
        .replacen("when = { group = \"visiting-crews\" }", "when = { group = \"crews-of-passage\" }", 1)
        .replacen(
            "keytabs = [\"harbour-keytab\"]\n",
            "keytabs = [\"harbour-keytab\"]\nhosts = [\"pass.havrelune.localhost\", \"sign-in.havrelune.localhost\"]\n",
            1,
        );
    let anyway = serde_json::json!(["expectations", "refuses-people", "other-source"]);
    let ask = |source: serde_json::Value| {
        let mut ask = serde_json::json!({"note": "for the survey", "anyway": anyway});
        ask.as_object_mut().unwrap().extend(source.as_object().unwrap().clone());
        ask
    };
    let before = call("/site/publish", ask(serde_json::json!({"document": wrong}))).await["number"].as_i64().unwrap() - 1;
    b.open(&format!("{PASS}/console/survey")).await;
    b.click("[data-test=survey]").await;
    b.shows("delivery.forgeable").await;
    b.picture(survey).await;
    b.open(&format!("{PASS}/console/kerberos")).await;
    b.shows("knows no service HTTP/sign-in.havrelune.localhost").await;
    b.picture(kerberos).await;
    call("/site/publish", ask(serde_json::json!({"edition": before}))).await;
}

/// A draft that would lock out the fitters and others: what it would change, for whom, and what publishing asks. It is
/// discarded in the end.
async fn a_draft(b: &Browser, draft: &Path) {
    b.open(&format!("{PASS}/console/editions/draft")).await;
    b.find("[data-test=document]").await;
    let edit = "const a = document.querySelector('[data-test=document]'); \
                a.value = a.value.replace('when = { group = \"fitters\" }', 'when = { group = \"crane-crew\" }'); \
                a.dispatchEvent(new Event('input'))";
    b.driver.execute(edit, vec![]).await.unwrap();
    b.click("[data-test=save]").await;
    b.shows("would no longer admit").await;
    b.click("[data-test=rehearse]").await;
    b.shows("would be refused").await;
    b.driver.execute("document.querySelector('[data-test=save]').scrollIntoView()", vec![]).await.unwrap();
    b.picture(draft).await;
    b.type_in("input[name=note]", "The fitters' group has another name now").await;
    b.click("[data-test=publish]").await;
    // An expectation is broken as well: that is asked first.
    b.shows("break expectations").await;
    b.click("[data-test=anyway]").await;
    b.shows("refuse them").await;
    b.click_at("//*[text()='Discard draft']/ancestor::button").await;
    b.shows("There is no draft.").await;
}

/// One more provider from its address, the sheet for its team, and a trial sign-in through it.
async fn providers(b: &Browser, [list, sheet, trial]: [std::path::PathBuf; 3]) {
    b.open(&format!("{PASS}/console/providers")).await;
    b.type_in("input[name=address]", "http://bureau-pilotage.localhost:8641/saml/metadata").await;
    b.click("form.add button").await;
    b.shows("[[provider]]").await;
    b.driver.execute("window.scrollTo(0, 0)", vec![]).await.unwrap();
    b.picture(&list).await;
    b.open(&format!("{PASS}/console/handover?for=provider&name=pilotage-saml&gate=agents")).await;
    b.shows("Please release these attributes").await;
    b.picture(&sheet).await;
    let begun = call("/trials/sign-in", serde_json::json!({"provider": "pilotage-saml"})).await;
    let mut jonas = Person::new();
    jonas.sign_in_by_saml(begun["address"].as_str().unwrap(), "jonas").await;
    b.open(&format!("{PASS}/console/trials/{}", begun["id"].as_str().unwrap())).await;
    b.shows("How this person would fare").await;
    b.click("details.gate summary").await;
    b.picture(&trial).await;
}

/// Somebody whose duties the office changes between two sign-ins, as engineers see it.
async fn person(b: &Browser, page: &Path) {
    let control = reqwest::Client::builder().no_proxy().build().unwrap();
    for duties in [&["tide-clerk"][..], &["duty-planner"], &[]] {
        let order = serde_json::json!({"duties": {"elodie": duties}});
        control.post("http://127.0.0.1:8641/control").json(&order).send().await.unwrap();
        let mut elodie = Person::new();
        let first = elodie.open("http://everybody.havrelune.localhost:8640/").await;
        let choice = elodie.open(&first.link("Sign in another way")).await;
        let there = elodie.open(&choice.link("the pilotage office")).await;
        let back = elodie.prove(there, "elodie").await;
        elodie.follow(back).await;
    }
    let order = serde_json::json!({"duties": {"elodie": ["tide-clerk"]}});
    control.post("http://127.0.0.1:8641/control").json(&order).send().await.unwrap();
    b.open(&format!("{PASS}/console/people/pilotage/p-1003")).await;
    b.shows("duties absent").await;
    b.picture(page).await;
}

/// Choosing how to sign in, and a second factor being enrolled.
async fn ways_in(factors: &Path) {
    let b = Browser::new("shots-ways", 1280, 800, false).await;
    b.open("http://everybody.havrelune.localhost:8640/").await;
    b.click_at("//a[text()='Sign in another way']").await;
    b.shows("How do you want to sign in?").await;
    b.click_at("//a[text()='Your harbour password']").await;
    b.type_in("input[name=name]", "benoit").await;
    b.type_in("input[name=password]", "neap-tide").await;
    b.click("button[type=submit]").await;
    b.shows("Good day, benoit").await;
    b.open(&format!("{PASS}/.passeur/factors")).await;
    b.click_at("//button[text()='A new authenticator']").await;
    b.shows("Scan this").await;
    b.picture(factors).await;
    b.close().await;
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "needs a running demo; run by ./run shots"]
async fn pictures_of_the_demo() {
    let folder = env("PASSEUR_TEST_KEEP");
    let shot = |name: &str| Path::new(&folder).join(name);
    a_day_at_the_harbour().await;
    let b = Browser::new("shots-refused", 1280, 800, false).await;
    b.open(&format!("{GATE}/")).await;
    b.prove("gwen").await;
    b.shows("Visiting crews").await;
    let refused = b.find("code.id").await.text().await.unwrap();
    b.picture(&shot("refused.png")).await;
    b.close().await;
    let b = Browser::new("shots-planner", 1280, 800, false).await;
    b.open(&format!("{GATE}/")).await;
    b.prove("benoit").await;
    b.shows("Good day").await;
    b.open(&format!("{PASS}/")).await;
    b.shows("What you may open").await;
    b.picture(&shot("quay.png")).await;
    // A form that the end of the session interrupts: what is said at once, and the form offered again.
    b.open(&format!("{GATE}/")).await;
    end_sessions("p-1002").await;
    b.type_in("input[name=vessel]", "Étoile du Nord").await;
    b.click("button").await;
    b.shows("kept for half an hour").await;
    b.click("a.button").await;
    b.shows("Étoile du Nord").await;
    b.close().await;
    ways_in(&shot("factors.png")).await;
    for (dark, suffix) in [(false, ""), (true, "-dark")] {
        let b = Browser::new("shots-console", 1280, 800, dark).await;
        b.open(&format!("{PASS}/.passeur/sign-in?for=console")).await;
        b.prove("lucie").await;
        b.shows("Lucie Morvan").await;
        b.shows("Gwen Marlow").await;
        if !dark {
            b.picture(&shot("crossings.png")).await;
        }
        b.open(&format!("{PASS}/console/crossings/{refused}")).await;
        b.shows("What to do").await;
        b.picture(&shot(&format!("crossing{suffix}.png"))).await;
        if !dark {
            b.open(&format!("{PASS}/console/gates")).await;
            b.shows("berth access").await;
            b.picture(&shot("gates.png")).await;
            providers(&b, [shot("providers.png"), shot("handover.png"), shot("trial.png")]).await;
            person(&b, &shot("person.png")).await;
            b.open(&format!("{PASS}/console/sessions")).await;
            b.shows("Lucie Morvan").await;
            b.picture(&shot("sessions.png")).await;
            a_draft(&b, &shot("draft.png")).await;
            b.open(&format!("{PASS}/console/secrets")).await;
            b.shows("harbour-account").await;
            b.picture(&shot("secrets.png")).await;
            b.open(&format!("{PASS}/console/acts")).await;
            b.shows("holds").await;
            b.picture(&shot("acts.png")).await;
            a_survey(&b, &shot("survey.png"), &shot("kerberos.png")).await;
        }
        b.close().await;
    }
}
