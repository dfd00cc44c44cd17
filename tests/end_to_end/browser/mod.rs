//! In a real browser: headless Chromium.

mod kerberos;
mod networks;
mod plain;
mod tunnels;
mod ways;

use crate::support::{Browser, Person, Stack};

#[tokio::test(flavor = "multi_thread")]
async fn a_person_signs_in_another_is_refused_and_signing_out_holds() {
    let stack = Stack::new().await;
    let b = Browser::new("sign-in", 1280, 800, false).await;
    b.open(&stack.gate("/")).await;
    b.prove("benoit").await;
    b.shows("Good day, Benoît Le Goff (benoit).").await;
    assert_eq!(b.url().await, stack.gate("/"));
    // A form behind the gate works.
    b.type_in("input[name=vessel]", "Sirène").await;
    b.click("button").await;
    b.shows("Sirène").await;
    // Signing out, and going back: nothing is shown again.
    b.open(&stack.gate("/.passeur/sign-out")).await;
    b.click("button[type=submit]").await;
    b.shows("You are signed out").await;
    b.driver.back().await.unwrap();
    b.driver.back().await.unwrap();
    b.shows("Pilotage office").await;
    assert!(!b.text().await.contains("Good day"));
    b.close().await;
    let b = Browser::new("refused", 1280, 800, false).await;
    b.open(&stack.gate("/")).await;
    b.prove("gwen").await;
    b.shows("Visiting crews see their berth at the harbour office").await;
    let id = b.find("code.id").await.text().await.unwrap();
    assert_eq!(stack.story(&id).await["outcome"], "refused");
    b.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_ledger_is_entered_by_saml_and_both_sides_are_signed_out() {
    let stack = Stack::with(|s| s.replace("name-id = \"persistent\"\n", "name-id = \"persistent\"\nbinding = \"post\"\n")).await;
    let b = Browser::new("saml", 1280, 800, false).await;
    // Our form posts itself to the provider, and the provider's to us, from another site.
    b.open(&stack.agents("/")).await;
    b.prove("benoit").await;
    b.shows("Good day, Benoît Le Goff (benoit).").await;
    assert_eq!(b.url().await, stack.agents("/"));
    assert_eq!(b.errors().await, Vec::<String>::new(), "no violation of the policy");
    b.close().await;
    let stack = Stack::new().await;
    let b = Browser::new("saml-out", 1280, 800, false).await;
    b.open(&stack.agents("/")).await;
    b.prove("benoit").await;
    b.shows("Good day, Benoît Le Goff (benoit).").await;
    b.open(&stack.agents("/.passeur/sign-out")).await;
    b.click("button[type=submit]").await;
    b.shows("You may still be signed in where you typed your password").await;
    b.click("a.button").await;
    b.shows("The provider has signed you out as well").await;
    b.open(&stack.agents("/")).await;
    b.shows("Password").await;
    b.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_shows_the_step_that_decided_and_breaks_no_policy() {
    let stack = Stack::new().await;
    let refused = crate::support::Person::new().sign_in(&stack.gate("/"), "farid").await.crossing();
    let b = Browser::new("console", 1280, 800, false).await;
    b.console(&stack).await;
    b.shows("edition 1").await;
    b.click(&format!("a[href='/console/crossings/{refused}']")).await;
    let decided = b.find("[data-test=decided]").await.text().await.unwrap();
    assert!(decided.contains("None of the 4 rules of gate berths grants entry"), "{decided}");
    assert!(decided.contains("What to do"), "{decided}");
    b.click("a[href='/console/gates']").await;
    b.shows("berth access: group berth-access may enter").await;
    b.click("a[href='/console/sessions']").await;
    b.shows("Farid Haddad").await;
    assert_eq!(b.errors().await, Vec::<String>::new(), "no violation of the policy, no error");
    b.click("a[href='/console/editions']").await;
    b.reads("[data-test=draft]").await;
    b.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_engineer_adds_a_provider_hands_over_the_sheet_and_signs_in_for_trial() {
    let stack = Stack::new().await;
    let b = Browser::new("providers", 1280, 800, false).await;
    b.open(&stack.pass("/.passeur/sign-in?for=console")).await;
    b.prove("lucie").await;
    b.shows("Lucie Morvan").await;
    b.click("a[href='/console/providers']").await;
    b.shows("SAML 2.0").await;
    // One field is enough.
    let here = format!("http://bureau-pilotage.localhost:{}/saml/metadata", stack.provider_port());
    b.type_in("input[name=address]", &here).await;
    b.click("form.add button").await;
    b.reads("[data-test=part]").await;
    let part = b.find("[data-test=part]").await.text().await.unwrap();
    assert!(part.contains("kind = \"saml\"") && part.contains(&here), "{part}");
    b.open(&stack.pass("/console/handover?for=provider&name=pilotage-saml")).await;
    b.shows(&stack.pass("/.passeur/saml/pilotage-saml/answer")).await;
    b.shows("BEGIN CERTIFICATE").await;
    // The trial opens in the same browser, whose console session goes on.
    b.open(&stack.pass("/console/providers")).await;
    b.click("[data-test=sign-in-pilotage-saml]").await;
    b.reads("[data-test=open]").await;
    let address = b.find("[data-test=open]").await.text().await.unwrap();
    b.open(&address).await;
    b.shows("was believed").await;
    b.click("a.button").await;
    b.shows("How this person would fare").await;
    b.reads("[data-test=raw]").await;
    assert!(b.text().await.contains("comes in") || b.text().await.contains("stays out"));
    b.shows("Lucie Morvan").await;
    assert_eq!(b.errors().await, Vec::<String>::new(), "no violation of the policy, no error");
    b.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_engineer_ends_a_session_from_the_console() {
    let stack = Stack::new().await;
    let mut farid = stack.signed_in("anouk").await;
    let b = Browser::new("end-session", 1280, 800, true).await;
    b.open(&stack.pass("/.passeur/sign-in?for=console")).await;
    b.prove("lucie").await;
    b.shows("Lucie Morvan").await;
    b.open(&stack.pass("/console/sessions")).await;
    b.type_in("input", "anouk").await;
    b.shows("Anouk Tregarec").await;
    b.click_at("//tbody/tr[contains(., 'Anouk Tregarec')]//button[@data-test='end']").await;
    b.shows("End this session of Anouk Tregarec?").await;
    b.click(".v-card-actions button:last-child").await;
    b.shows("The session of Anouk Tregarec has ended.").await;
    farid.accept = "application/json";
    assert_eq!(farid.open(&stack.gate("/received")).await.status, 401);
    b.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_engineer_takes_everything_away_from_somebody_who_left() {
    let stack = Stack::new().await;
    let mut anouk = stack.admitted("anouk").await;
    stack.settle().await;
    let b = Browser::new("leaver", 1280, 800, true).await;
    b.open(&stack.pass("/.passeur/sign-in?for=console")).await;
    b.prove("lucie").await;
    b.shows("Lucie Morvan").await;
    b.open(&stack.pass("/console/sessions")).await;
    b.click("[data-test=leavers]").await;
    b.shows("Nobody is kept out.").await;
    b.type_in("[data-test=whom] input", "nobody@nowhere.example").await;
    b.click("form button").await;
    b.shows("Nobody is known here by “nobody@nowhere.example”.").await;
    b.open(&stack.pass("/console/leavers?who=anouk@havrelune.example")).await;
    b.shows("pilotage/p-1001").await;
    b.shows("harbour: uid=anouk,ou=people").await;
    b.click("[data-test=take]").await;
    b.shows("Take everything away from pilotage/p-1001?").await;
    b.click("[data-test=sure]").await;
    b.shows("Taken away from pilotage/p-1001").await;
    b.shows("a session that the application behind gate berths keeps by itself").await;
    b.reads("[data-test=out]").await;
    b.keep(None).await;
    anouk.accept = "application/json";
    assert_eq!(anouk.open(&stack.gate("/received")).await.status, 401);
    assert_eq!(Person::new().sign_in(&stack.gate("/"), "anouk").await.status, 403);
    b.click("[data-test=out] button").await;
    b.shows("Nobody is kept out.").await;
    assert_eq!(b.errors().await, Vec::<String>::new(), "no violation of the policy");
    b.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_survey_is_run_and_read_and_whoever_only_views_reads_the_last_one() {
    let stack =
        Stack::with(|s| s.replacen("when = { group = \"berth-access\" }", "when = { group = \"berths-of-old\" }", 1)).await;
    let b = Browser::new("survey", 1280, 800, false).await;
    b.open(&stack.pass("/.passeur/sign-in?for=console")).await;
    b.prove("lucie").await;
    b.shows("Lucie Morvan").await;
    b.open(&stack.pass("/console/survey")).await;
    b.shows("Nobody has surveyed from this node since it started.").await;
    b.reads("[data-test=survey]").await;
    b.click("[data-test=survey]").await;
    b.shows("rule.group-missing").await;
    b.shows("names group berths-of-old, which directory harbour does not have").await;
    b.shows("→ Ask the directory team what the group is called").await;
    b.close().await;
    let b = Browser::new("survey-view", 390, 800, true).await;
    b.open(&stack.pass("/.passeur/sign-in?for=console")).await;
    b.prove("marc").await;
    b.shows("Marc Olivier").await;
    b.open(&stack.pass("/console/survey")).await;
    b.shows("rule.group-missing").await;
    assert!(!b.text().await.contains("Survey now"), "whoever only views starts none");
    b.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_engineer_agrees_to_a_draft_in_the_console() {
    let stack = Stack::with(|s| {
        s.replacen("[engineers]\n", "[engineers]\nsecond-engineer = true\n", 1).replacen(
            "enter = true\nroles = [\"view\"]",
            "enter = true\nroles = [\"configure\"]",
            1,
        )
    })
    .await;
    let wider = stack.site.replacen("{ group = \"harbour-desk\" }", "{ everyone = true }", 1);
    let begin = ("if-none-match", "*".to_owned());
    assert_eq!(stack.put_with("/site/draft", serde_json::json!({"document": wider, "based_on": 1}), begin).await.0, 200);
    let b = Browser::new("second", 1280, 800, false).await;
    b.open(&stack.pass("/.passeur/sign-in?for=console")).await;
    b.prove("marc").await;
    b.shows("Marc Olivier").await;
    b.open(&stack.pass("/console/editions/draft")).await;
    b.shows("It changes who may do what.").await;
    b.click("[data-test=agree]").await;
    b.shows("Marc Olivier agreed,").await;
    // He cannot publish on his own agreement.
    b.type_in("input[name=note]", "wider").await;
    b.click("[data-test=publish]").await;
    b.shows("A second engineer must agree").await;
    b.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn somebody_without_a_role_sees_why() {
    let stack = Stack::new().await;
    let b = Browser::new("no-role", 390, 800, false).await;
    b.open(&stack.pass("/.passeur/sign-in?for=console")).await;
    b.prove("anouk").await;
    b.shows("none of the rules").await;
    b.open(&stack.pass("/console/")).await;
    b.shows("not as an engineer of this site").await;
    b.close().await;
}
