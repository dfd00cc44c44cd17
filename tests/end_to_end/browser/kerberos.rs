//! A ticket in a real browser.

use std::path::PathBuf;

use crate::support::kerberos::{Cache, everybody_by_ticket};
use crate::support::{Browser, Stack, env, eventually};

/// Tickets that the one browser sees while this lives.
fn holds(user: &str) -> Cache {
    let (password, _) = crate::support::client::secrets_of(user);
    Cache::of(&format!("{user}@HAVRELUNE.EXAMPLE"), &password, PathBuf::from(env("PASSEUR_TEST_TICKETS")))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_workstation_with_a_ticket_asks_nothing_and_one_without_goes_on() {
    let stack = Stack::with(everybody_by_ticket).await;
    let b = Browser::new("ticket", 1280, 800, false).await;
    let tickets = holds("benoit");
    b.open(&stack.everybody("/")).await;
    b.shows("Good day, benoit (benoit).").await;
    assert_eq!(b.url().await, stack.everybody("/"));
    // Signed out, the machine still holds the ticket: it is taken when the person says so, and somebody else may come.
    b.open(&stack.everybody("/.passeur/sign-out")).await;
    b.click("button[type=submit]").await;
    b.shows("You are signed out").await;
    b.open(&stack.everybody("/")).await;
    b.shows("You may come in as whoever is signed in to this machine.").await;
    b.click("main a.button").await;
    b.shows("Good day, benoit (benoit).").await;
    drop(tickets);
    b.close().await;
    // No ticket any more: the page of the refusal is no dead end.
    let b = Browser::new("no-ticket", 1280, 800, false).await;
    b.open(&stack.everybody("/")).await;
    b.prove("elodie").await;
    b.shows("Good day, Élodie Kœnig-Þórsdóttir (elodie).").await;
    let list = stack.get("/crossings?gate=harbour-wide&limit=5").await;
    let story = stack.story(list["crossings"][0]["id"].as_str().unwrap()).await.to_string();
    assert!(story.contains("way.ticket-none"), "{story}");
    b.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_lock_house_is_reached_by_a_ticket_and_on_behalf_and_refused_to_whom_it_must_be() {
    let stack = Stack::new().await;
    // A pilot at a workstation: the browser sends her own ticket along.
    let b = Browser::new("locks", 1280, 800, false).await;
    let tickets = holds("anouk");
    b.open(&stack.locks("/")).await;
    b.shows("Good day, anouk@HAVRELUNE.EXAMPLE.").await;
    let list = stack.get("/crossings?gate=locks&outcome=admitted&limit=5").await;
    let id = list["crossings"][0]["id"].as_str().unwrap().to_owned();
    eventually("it is told", async || stack.story(&id).await.to_string().contains("their browser sent along")).await;
    drop(tickets);
    b.close().await;
    // A fitter from outside, by the pilotage office.
    let b = Browser::new("locks-office", 1280, 800, false).await;
    b.open(&stack.locks("/")).await;
    b.prove("farid").await;
    b.shows("Good day, farid@HAVRELUNE.EXAMPLE.").await;
    assert_eq!(b.url().await, stack.locks("/"));
    b.close().await;
    // Somebody whose account may not be delegated.
    let b = Browser::new("locks-refused", 1280, 800, false).await;
    b.open(&stack.locks("/")).await;
    b.prove("elodie").await;
    b.shows("your account may not be handed on to this application").await;
    let id = b.find("code.id").await.text().await.unwrap();
    assert_eq!(stack.story(&id).await["code"], "upstream.ticket-person");
    b.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_shows_keys_what_the_kdc_gives_and_what_the_directory_team_must_do() {
    let host = "front-desk-of-the-harbour-authority.havrelune.localhost";
    let stack = Stack::with(|s| {
        let hosts = format!("keytabs = [\"harbour-keytab\"]\nhosts = [\"pass.havrelune.localhost\", \"{host}\"]\n");
        s.replace("keytabs = [\"harbour-keytab\"]\n", &hosts)
    })
    .await;
    let b = Browser::new("console-kerberos", 1280, 800, false).await;
    b.open(&stack.pass("/.passeur/sign-in?for=console")).await;
    b.prove("lucie").await;
    b.shows("Lucie Morvan").await;
    b.click("a[href='/console/kerberos']").await;
    b.shows(&format!("knows no service HTTP/{host}@HAVRELUNE.EXAMPLE")).await;
    b.shows("addprinc -randkey").await;
    b.shows("aes256-cts-hmac-sha384-192").await;
    b.shows("it gets tickets for it, as others").await;
    b.click("[data-test=look]").await;
    b.shows("by a key of version 2").await;
    b.click("[data-test=realms] tr:last-child a").await;
    b.shows("Please make these accounts").await;
    b.shows(&format!("kvno HTTP/{host}")).await;
    assert_eq!(b.errors().await, [""; 0]);
    b.close().await;
    // Whoever may only look is told why there is nothing to see.
    let b = Browser::new("console-kerberos-view", 1280, 800, true).await;
    b.open(&stack.pass("/.passeur/sign-in?for=console")).await;
    b.prove("marc").await;
    b.shows("Marc Olivier").await;
    b.open(&stack.pass("/console/kerberos")).await;
    b.shows("it needs the role operate").await;
    b.close().await;
}
