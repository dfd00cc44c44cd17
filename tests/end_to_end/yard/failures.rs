//! What fails around the gate: the command that loads rules, the database, and two requests in the same instant.

use passeur_standins::cage::{self, CRANE, SITE};
use serde_json::json;

use super::{on, without_terms};
use crate::networks::yard;
use crate::support::{Harbour, Person, env, eventually};

#[tokio::test(flavor = "multi_thread")]
async fn rules_that_cannot_be_loaded_leave_those_of_before_and_it_is_told() {
    if !Harbour::is_caged("yard::failures::rules_that_cannot_be_loaded_leave_those_of_before_and_it_is_told") {
        return;
    }
    let harbour = Harbour::new(without_terms).await;
    harbour.yard.serve();
    let stack = &harbour.stack;
    on(&harbour, "farid").await;
    harbour.nft_fails(true);
    let less = stack
        .site
        .replace("except = [\"10.0.0.0/8\", \"fd00::/8\"]", "except = [\"10.0.0.0/8\", \"fd00::/8\", \"192.0.2.0/24\"]");
    let (status, said) = stack.publish(&less).await;
    assert_eq!(status, 200, "{said}");
    // The whole transaction counts or none of it: what was open is, and nobody is closed out by half of a change.
    assert!(harbour.reaches("visitor", SITE[0], 443) && harbour.reaches("tablet", CRANE[0], 22));
    eventually("it is told", async || stack.post("/survey", json!({})).await.1.to_string().contains("broken off")).await;
    harbour.nft_fails(false);
    eventually("the edition is in force by itself", async || !harbour.reaches("visitor", SITE[0], 443)).await;
    assert!(harbour.reaches("visitor", CRANE[0], 22));
    eventually("nothing is told any more", async || {
        !stack.post("/survey", json!({})).await.1.to_string().contains("sluice.trouble")
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_database_that_is_silent_opens_nothing_and_closes_nobody_at_once() {
    if !Harbour::is_caged("yard::failures::a_database_that_is_silent_opens_nothing_and_closes_nobody_at_once") {
        return;
    }
    let harbour = Harbour::new(without_terms).await;
    harbour.yard.serve();
    let stack = &harbour.stack;
    let mut farid = on(&harbour, "farid").await;
    let store = env("PASSEUR_TEST_POSTGRES");
    let port = store.rsplit(':').next().and_then(|p| p.split('/').next()).unwrap();
    // Every way to it is cut, those that are open as well; in this cage alone.
    cage::run("nft add table inet wall && nft 'add chain inet wall out { type filter hook output priority -5; }'");
    cage::run(&format!("nft add rule inet wall out oifname lo tcp dport {port} reject with tcp reset"));
    eventually("it is gone", async || farid.open(&yard(stack, "/")).await.status.is_server_error()).await;
    assert!(harbour.reaches("visitor", SITE[0], 443), "whoever is on stays until their lease is over");
    harbour.sit("tablet");
    // The same browser on another machine, and whoever begins: nobody comes in.
    let page = farid.open(&yard(stack, "/")).await;
    assert!(page.status.is_server_error(), "{} {}", page.status, page.body);
    let page = Person::new().open(&yard(stack, "/")).await;
    let page = Person::new().open(&page.link("the pilotage office")).await;
    assert!(!page.body.contains("is on the network"), "{}", page.body);
    assert!(!harbour.reaches("tablet", SITE[0], 443));
    cage::run("nft delete table inet wall");
    harbour.sit("visitor");
    eventually("people come in again", async || farid.open(&yard(stack, "/")).await.status == 200).await;
    harbour.sit("tablet");
    on(&harbour, "gwen").await;
    assert!(harbour.reaches("tablet", SITE[0], 443) && harbour.reaches("visitor", SITE[0], 443));
}

#[tokio::test(flavor = "multi_thread")]
async fn two_requests_in_the_same_instant_let_one_machine_through_once() {
    if !Harbour::is_caged("yard::failures::two_requests_in_the_same_instant_let_one_machine_through_once") {
        return;
    }
    let harbour = Harbour::new(without_terms).await;
    harbour.yard.serve();
    let stack = &harbour.stack;
    let farid = on(&harbour, "farid").await;
    let off = stack.get("/presences?text=farid").await["presences"][0]["id"].clone();
    for _ in 0..5 {
        // The same browser twice, and somebody else on the same machine, all at once.
        let session = stack.get("/sessions").await[0]["id"].clone();
        stack.post("/sessions/end", json!({"sessions": [session]})).await;
        let mut gwen = Person::new();
        let page = crate::networks::by_the_office(&mut gwen, &yard(stack, "/nothing-there"), "gwen").await;
        assert!(page.status == 200 || page.status == 404, "{}", page.body);
        let browsers: Vec<_> = (0..6)
            .map(|_| {
                let mut same = Person::new();
                same.cookies = gwen.cookies.clone();
                let url = yard(stack, "/");
                tokio::spawn(async move { same.open(&url).await.status })
            })
            .collect();
        for browser in browsers {
            assert_eq!(browser.await.unwrap(), 200);
        }
        let all = stack.get("/presences?text=gwen").await;
        let on_now: Vec<_> = all["presences"].as_array().unwrap().iter().filter(|p| p["ended_at"].is_null()).collect();
        assert_eq!(on_now.len(), 1, "{all}");
        assert_eq!(on_now[0]["in_kernel"], true, "{all}");
        assert!(harbour.reaches("visitor", SITE[0], 443));
    }
    drop((farid, off));
}
