//! Networks in a real browser: the page of a network gate, and reach in the console.

use crate::networks::{with_yard, yard};
use crate::support::{Browser, Stack};

#[tokio::test(flavor = "multi_thread")]
async fn somebody_who_signed_in_reads_what_opens_and_an_engineer_asks_for_others() {
    let stack = Stack::with(with_yard).await;
    let b = Browser::new("network", 1280, 800, false).await;
    b.open(&yard(&stack, "/")).await;
    b.shows("How do you want to sign in?").await;
    b.click_at("//a[starts-with(text(), 'the pilotage office')]").await;
    b.prove("farid").await;
    b.shows("the cranes' controllers").await;
    b.shows("no machine guards this network").await;
    b.close().await;
    let b = Browser::new("reach", 1280, 800, false).await;
    b.console(&stack).await;
    b.open(&stack.pass("/console/gates")).await;
    b.shows("crane tablet 3").await;
    b.shows("Opened by").await;
    b.click("[data-test=needs-yard]").await;
    b.shows("rules open it afterwards by internet").await;
    b.shows("yard-sign-in").await;
    b.type_in("[data-test=try-reach] input[name=to]", "10.70.0.1:53/udp").await;
    b.click("[data-test=try-reach] button[type=submit]").await;
    let open = b.find("[data-test=reached]").await.text().await.unwrap();
    assert!(open.contains("is open to every machine of zone yard"), "{open}");
    b.open(&stack.pass("/console/gates")).await;
    b.type_in("[data-test=try-reach] input[name=to]", "192.0.2.1:443").await;
    b.click("[data-test=try-reach] button[type=submit]").await;
    b.shows("closed while nobody is signed in").await;
    b.open(&stack.pass("/console/gates")).await;
    b.type_in("[data-test=try-reach] input[name=to]", "not an address").await;
    b.click("[data-test=try-reach] button[type=submit]").await;
    b.shows("names no port").await;
    assert_eq!(b.audit().await, Vec::<String>::new());
    b.close().await;
}
