//! Pages of the console for everybody: by a checker of accessibility, in both colours and languages, wide and narrow.

use crate::support::{Browser, Stack};

/// What is looked at, and a text or element that shows that the page is there.
const PAGES: [(&str, &str); 14] = [
    ("crossings", ".ledger"),
    ("gates", ".gate"),
    ("providers", ".ledger"),
    ("handover?part=provider&name=pilotage", ".page h1"),
    ("sessions", ".ledger"),
    ("leavers", ".page h1"),
    ("people/pilotage/p-1002", ".page h1"),
    ("editions", ".ledger"),
    ("editions/1", ".page h1"),
    ("editions/draft", "textarea"),
    ("kerberos", ".page h1"),
    ("survey", ".page h1"),
    ("secrets", "[data-test=ring]"),
    ("acts", ".ledger"),
];

#[tokio::test(flavor = "multi_thread")]
async fn every_page_of_the_console_is_clean_in_both_colours_wide_and_narrow() {
    let stack = Stack::new().await;
    let refused = crate::support::Person::new().sign_in(&stack.gate("/"), "farid").await.crossing();
    stack.signed_in("benoit").await;
    let b = Browser::new("plain", 1280, 800, false).await;
    b.console(&stack).await;
    let story = format!("crossings/{refused}");
    let pages: Vec<(&str, &str)> = PAGES.iter().copied().chain([(story.as_str(), ".stage")]).collect();
    let mut wrong = vec![];
    for (path, there) in pages {
        b.open(&stack.pass(&format!("/console/{path}"))).await;
        for (width, lang, colours) in [(1280, "en", "light"), (1280, "fr", "dark"), (390, "fr", "light"), (390, "en", "dark")] {
            b.look(width, lang, colours).await;
            b.find(there).await;
            let at = format!("{path} at {width}, {lang}, {colours}");
            // Nothing of a page lies beyond its edge, and the bar leaves room for it.
            let wide = b.value("return document.documentElement.scrollWidth - window.innerWidth").await;
            let bar = b.value("return document.querySelector('.bar').offsetHeight").await;
            let most = if width < 700 { 56 } else { 92 };
            if wide.as_i64().unwrap() > 0 || bar.as_i64().unwrap() > most {
                wrong.push(format!("{at}: {wide} px too wide, the bar is {bar} px high"));
            }
            wrong.extend(b.audit().await.into_iter().map(|v| format!("{at}: {v}")));
        }
    }
    if !wrong.is_empty() {
        b.keep(Some(&stack)).await;
    }
    // The window goes first: what it asks of a service that has ended would stand in other tests' logs.
    b.close().await;
    assert!(wrong.is_empty(), "{} places:\n{}", wrong.len(), wrong.join("\n"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_row_on_a_narrow_screen_says_what_each_value_is() {
    let stack = Stack::new().await;
    let refused = crate::support::Person::new().sign_in(&stack.gate("/"), "farid").await.crossing();
    let b = Browser::new("narrow", 390, 800, false).await;
    b.console(&stack).await;
    b.find(&format!("a[href='/console/crossings/{refused}']")).await;
    // A row is no taller than what it says, and says why; each value has the name of its column.
    let tallest =
        b.value("return Math.max(...[...document.querySelectorAll('.ledger tbody tr')].map(r => r.offsetHeight))").await;
    assert!(tallest.as_i64().unwrap() < 200, "{tallest}");
    b.shows("None of the 4 rules of gate berths").await;
    let named = b.value("return document.querySelector('.ledger tbody td.wide').dataset.of").await;
    assert_eq!(named, "Why");
    // The places are a menu, by keyboard too.
    b.click(".where").await;
    b.click(".menu a[href='/console/acts']").await;
    b.shows("Acts").await;
    b.close().await;
}
