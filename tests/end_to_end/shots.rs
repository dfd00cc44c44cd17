//! The pictures in `docs/screenshots/`, made from a running demo by `./run shots`.

use std::path::Path;

use crate::support::{Browser, env};

const GATE: &str = "http://berths.havrelune.localhost:8640";
const PASS: &str = "http://pass.havrelune.localhost:8640";

#[tokio::test(flavor = "multi_thread")]
#[ignore = "needs a running demo; run by ./run shots"]
async fn pictures_of_the_demo() {
    let folder = env("PASSEUR_TEST_KEEP");
    let shot = |name: &str| Path::new(&folder).join(name);
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
    b.open(&format!("{GATE}/received")).await;
    b.picture(&shot("received.png")).await;
    b.open(&format!("{PASS}/")).await;
    b.shows("What you may open").await;
    b.picture(&shot("quay.png")).await;
    b.close().await;
    for (dark, suffix) in [(false, ""), (true, "-dark")] {
        let b = Browser::new("shots-console", 1280, 800, dark).await;
        b.open(&format!("{PASS}/.passeur/sign-in?for=console")).await;
        b.prove("lucie").await;
        b.shows("Lucie Morvan").await;
        b.shows("Gwen Marlow").await;
        b.picture(&shot(&format!("crossings{suffix}.png"))).await;
        b.open(&format!("{PASS}/console/crossings/{refused}")).await;
        b.shows("What to do").await;
        b.picture(&shot(&format!("story{suffix}.png"))).await;
        if !dark {
            b.open(&format!("{PASS}/console/gates")).await;
            b.shows("berth access").await;
            b.picture(&shot("gates.png")).await;
            b.open(&format!("{PASS}/console/sessions")).await;
            b.shows("Lucie Morvan").await;
            b.picture(&shot("sessions.png")).await;
        }
        b.close().await;
    }
    let b = Browser::new("shots-narrow", 390, 844, false).await;
    b.open(&format!("{PASS}/.passeur/sign-in?for=console")).await;
    b.prove("marc").await;
    b.shows("Marc Olivier").await;
    b.open(&format!("{PASS}/console/crossings/{refused}")).await;
    b.shows("What to do").await;
    b.picture(&shot("story-narrow.png")).await;
    b.close().await;
}
