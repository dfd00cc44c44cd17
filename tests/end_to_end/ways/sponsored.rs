//! Guests for whom somebody vouches: who may give their word, what it opens, and that it goes with whoever gave it.

use serde_json::json;

use crate::networks::{by_the_office, with_yard, yard};
use crate::support::{Page, Person, Stack};

const TITLE: &str = "Somebody here vouches for me";

/// The yard takes guests, for whom fitters may vouch.
fn with_guests(site: String) -> String {
    let rule = "\n[[gate.rule]]\nname = \"fitters may vouch\"\nwhen = { group = \"fitters\" }\nroles = [\"sponsor\"]\n";
    let way = format!(
        "\n[[way]]\nname = \"guests\"\ntitle = \"{TITLE}\"\nkind = \"sponsor\"\ngate = \"yard\"\nlasts = \"8h\"\n\n[way.attributes]\nname = \"name\"\n"
    );
    let yard = with_yard(site).replace(
        "ways-in = [\"pilotage\", \"harbour-password\", \"visitors\"]",
        "ways-in = [\"pilotage\", \"harbour-password\", \"visitors\", \"guests\"]",
    );
    let yard = yard.replace("terms = { version = \"2026-11\", text = \"Be kind to the network.\" }\n", "");
    format!("{yard}{rule}{way}")
}

/// A guest who asked, with the page that shows the code, and the code.
async fn asked(stack: &Stack, name: &str) -> (Person, Page, String) {
    let mut guest = Person::new();
    let choice = guest.open(&yard(stack, "/")).await;
    let page = guest.open(&choice.link(TITLE)).await;
    let page = guest.fill_in(&page, &[("name", name), ("note", "visiting the crane yard")]).await;
    let code = page.form().1.iter().find(|(n, _)| n == "code").unwrap_or_else(|| panic!("{}", page.body)).1.clone();
    assert!(page.body.contains(&format!("{}-{}", &code[..4], &code[4..])), "{}", page.body);
    (guest, page, code)
}

/// What the page of sponsors says to a code.
async fn answers(stack: &Stack, sponsor: &mut Person, code: &str, answer: Option<&str>) -> Page {
    let fields: Vec<(&str, &str)> = [("code", code)].into_iter().chain(answer.map(|a| ("answer", a))).collect();
    sponsor.send(reqwest::Method::POST, &stack.pass("/.passeur/sponsor"), Some(&fields)).await
}

async fn sponsor(stack: &Stack) -> Person {
    let mut farid = Person::new();
    by_the_office(&mut farid, &yard(stack, "/"), "farid").await;
    farid
}

/// The guest presses the button.
async fn goes_on(guest: &mut Person, page: &Page) -> Page {
    guest.fill_in(page, &[]).await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_guest_comes_in_by_the_word_of_somebody_who_may_give_it_and_leaves_with_them() {
    let stack = Stack::with(with_guests).await;
    let (mut guest, page, code) = asked(&stack, "Jan <b>Vermeer</b>").await;
    let waits = goes_on(&mut guest, &page).await;
    assert!(waits.body.contains("Nobody has given their word yet") && waits.status == 200, "{}", waits.body);
    assert_eq!(stack.get("/sessions").await, json!([]));
    // Whom no rule gives the role has no word; whoever is not signed in signs in first.
    let mut benoit = stack.signed_in("benoit").await;
    assert_eq!(answers(&stack, &mut benoit, &code, Some("yes")).await.status, 403);
    let nobody = Person::new().open(&stack.pass("/.passeur/sponsor")).await;
    assert!(nobody.body.contains("How do you want to sign in") && !nobody.body.contains(TITLE), "{}", nobody.body);
    let mut farid = sponsor(&stack).await;
    let quay = farid.open(&stack.pass("/")).await;
    assert_eq!(farid.open(&quay.link("Vouch for a guest")).await.status, 200);
    assert!(!benoit.open(&stack.pass("/")).await.body.contains("Vouch for a guest"));
    assert_eq!(answers(&stack, &mut farid, "BBBB-BBBB", Some("yes")).await.status, 404);
    // In whatever spelling the code is typed, what the guest wrote is read first, as text.
    let spelt = format!("{} {}", code[..4].to_lowercase(), &code[4..]);
    let confirm = answers(&stack, &mut farid, &spelt, None).await;
    assert!(
        confirm.body.contains("Jan &lt;b&gt;Vermeer&lt;/b&gt;") && confirm.body.contains("visiting the crane yard"),
        "{}",
        confirm.body
    );
    let mut forged = Person::new();
    forged.cookies = farid.cookies.clone();
    let fields = format!("code={code}&answer=yes");
    let elsewhere = forged.send_body(reqwest::Method::POST, &stack.pass("/.passeur/sponsor"), fields).await;
    assert_eq!(elsewhere.status, 403, "from no page of ours: {}", elsewhere.body);
    let given = answers(&stack, &mut farid, &code, Some("yes")).await;
    assert!(given.body.contains("may come in now"), "{}", given.body);
    assert_eq!(answers(&stack, &mut farid, &code, Some("no")).await.status, 404, "once");
    // Another browser has no use of the guest's page; of the guest's own presses in one instant one counts.
    let stolen = goes_on(&mut Person::new(), &page).await;
    assert_ne!(stolen.status, 200, "{}", stolen.body);
    let presses: Vec<_> = (0..6)
        .map(|_| {
            let mut same = Person::new();
            same.cookies = guest.cookies.clone();
            let page = page.clone();
            tokio::spawn(async move { (goes_on(&mut same, &page).await, same) })
        })
        .collect();
    let mut came = None;
    for press in presses {
        let (done, browser) = press.await.unwrap();
        if done.refresh().is_some() {
            assert!(came.replace((done, browser)).is_none(), "twice");
        }
    }
    let (done, mut guest) = came.expect("one came in");
    let opened = guest.follow(done).await;
    assert!(opened.body.contains("the internet") && opened.body.contains("Jan"), "{} {}", opened.status, opened.body);
    let sessions = stack.get("/sessions").await;
    let of_guest = sessions.as_array().unwrap().iter().find(|s| s["provider"] == "guests").unwrap().clone();
    assert_eq!(of_guest["name"], "Jan <b>Vermeer</b> (Farid Haddad)", "{of_guest}");
    let crossings = stack.get("/crossings?gate=yard&provider=guests").await.to_string();
    assert!(crossings.contains("guests"), "{crossings}");
    // A guest vouches for nobody, and makes nothing that outlives them.
    assert_eq!(guest.open(&stack.pass("/.passeur/sponsor")).await.status, 403);
    // The sponsor's word that was not used yet goes as well.
    let (mut second, page, code) = asked(&stack, "Piet").await;
    assert_eq!(answers(&stack, &mut farid, &code, Some("yes")).await.status, 200);
    let (status, taken) = stack.post("/people/take-away", json!({"people": ["pilotage/p-1004"]})).await;
    assert_eq!(status, 200, "{taken}");
    assert!(taken["sessions"].as_array().unwrap().contains(&of_guest["id"]), "{taken}");
    let after = guest.open(&yard(&stack, "/")).await;
    assert!(!after.body.contains("Jan"), "{}", after.body);
    let late = goes_on(&mut second, &page).await;
    assert_ne!(late.status, 200, "{}", late.body);
    assert!(stack.get("/sessions").await.as_array().unwrap().iter().all(|s| s["provider"] != "guests"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_word_that_is_refused_late_or_stale_lets_nobody_in() {
    let stack = Stack::with(with_guests).await;
    let mut farid = sponsor(&stack).await;
    let (mut guest, page, code) = asked(&stack, "Jan").await;
    assert!(answers(&stack, &mut farid, &code, Some("no")).await.body.contains("refused"));
    let denied = goes_on(&mut guest, &page).await;
    assert_ne!(denied.status, 200, "{}", denied.body);
    let story = stack.story(&denied.crossing()).await;
    assert!(story.to_string().contains("Farid Haddad did not vouch for the guest"), "{story}");
    // Empty names are no names, and a code is good for its minutes.
    let mut nameless = Person::new();
    let choice = nameless.open(&yard(&stack, "/")).await;
    let form = nameless.open(&choice.link(TITLE)).await;
    let again = nameless.fill_in(&form, &[("name", " \u{200b}\n "), ("note", "x")]).await;
    assert!(again.form().1.iter().all(|(n, _)| n != "code"), "{}", again.body);
    let (mut guest, page, code) = asked(&stack, "Jan").await;
    stack.clock.advance(chrono::Duration::minutes(16));
    // Whoever proved too long ago who they are proves it anew first: the word outlives their session.
    assert_eq!(answers(&stack, &mut farid, &code, Some("yes")).await.status, 404);
    let (_other, _page, code) = asked(&stack, "Kees").await;
    let stale = answers(&stack, &mut farid, &code, Some("yes")).await;
    assert!(stale.status == 403 && stale.body.contains("for=vouch"), "{}", stale.body);
    let late = goes_on(&mut guest, &page).await;
    assert_ne!(late.status, 200, "{}", late.body);
    // Guesses are counted.
    let mut statuses = vec![];
    for _ in 0..11 {
        statuses.push(answers(&stack, &mut farid, "CCCC-CCCC", None).await.status.as_u16());
    }
    assert_eq!(statuses.last(), Some(&429), "{statuses:?}");
    // And so are requests from one place.
    let mut last = 0;
    for n in 0..14 {
        let mut guest = Person::new();
        let choice = guest.open(&yard(&stack, "/")).await;
        let page = guest.open(&choice.link(TITLE)).await;
        last = guest.fill_in(&page, &[("name", &format!("g{n}")), ("note", "x")]).await.status.as_u16();
    }
    assert_eq!(last, 429);
}
