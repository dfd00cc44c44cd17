//! Tickets that no honest client sends: over, not valid yet, or not what they say. They are made with the service's own key, so that
//! nothing but the fault itself stands against them.

use chrono::{Duration, Utc};
use futures_util::StreamExt;
use reqwest::StatusCode;

use super::{asked, asked_again, decided, show};
use crate::support::forged::Forged;
use crate::support::kerberos::{folder, negotiate};
use crate::support::{Page, Person, Stack};

const HOST: &str = "pass.havrelune.localhost";

fn good() -> Forged {
    Forged::good(&folder().join("keytabs/passeur.keytab"), HOST, "anouk")
}

/// What is changed about a good one, and the step and words that tell it; none where it is taken.
type Case = (&'static str, Box<dyn Fn(&mut Forged)>, &'static str, &'static str);

#[tokio::test]
async fn what_is_made_with_our_own_key_is_taken_and_everything_else_about_it_is_not() {
    let stack = Stack::new().await;
    // The forging itself is right: whoever has the key could be anybody, and nothing less will do.
    let (mut person, page) = asked(&stack).await;
    let done = show(&mut person, &page, &negotiate(&good().token())).await;
    assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.body);
    let now = Utc::now();
    let cases: Vec<Case> = vec![
        ("over", Box::new(move |f| f.ends = now - Duration::minutes(6)), "way.ticket-expired", "expired at"),
        ("within what clocks may differ", Box::new(move |f| f.ends = now - Duration::minutes(4)), "", ""),
        ("not yet", Box::new(move |f| f.starts = now + Duration::minutes(6)), "way.ticket-not-yet", ""),
        ("made long ago", Box::new(move |f| f.made = now - Duration::minutes(6)), "way.ticket-clock", "behind"),
        ("made in times to come", Box::new(move |f| f.made = now + Duration::minutes(6)), "way.ticket-clock", "ahead"),
        ("another key of the same version", Box::new(|f| f.key[0] ^= 1), "way.ticket-key-differs", ""),
        ("another version", Box::new(|f| f.kvno += 1), "way.ticket-key-version", ""),
        ("not the one whom the ticket is of", Box::new(|f| f.proof_of = "benoit".into()), "way.ticket-not-taken", ""),
        ("a proof by another key", Box::new(|f| f.proof_key[0] ^= 1), "way.ticket-not-taken", ""),
        ("marked as not valid", Box::new(|f| f.flags = 0x0100_0000), "way.ticket-not-taken", ""),
        ("of another service", Box::new(|f| f.service.0[0] = "host".into()), "way.ticket-wrong-service", "host/"),
        ("of another host", Box::new(|f| f.service.0[1] = "locks.havrelune.localhost".into()), "way.ticket-wrong-service", ""),
        ("of another realm", Box::new(|f| f.service.1 = "ELSEWHERE.EXAMPLE".into()), "way.ticket-realm", "ELSEWHERE"),
        ("of nobody's realm", Box::new(|f| f.client.1 = "ELSEWHERE.EXAMPLE".into()), "way.ticket-nobody", ""),
        (
            "of an instance",
            Box::new(|f| (f.client.0, f.proof_of) = ("anouk/admin".into(), "anouk/admin".into())),
            "way.ticket-nobody",
            "",
        ),
        (
            "of a name with a zero",
            Box::new(|f| (f.client.0, f.proof_of) = ("an\0ouk".into(), "an\0ouk".into())),
            "way.ticket-nobody",
            "",
        ),
    ];
    for (what, change, code, says) in cases {
        let mut forged = good();
        change(&mut forged);
        let (mut person, page) = asked(&stack).await;
        let done = show(&mut person, &page, &negotiate(&forged.token())).await;
        if code.is_empty() {
            assert_eq!(done.status, StatusCode::SEE_OTHER, "{what}: {}", done.body);
            continue;
        }
        assert_eq!(done.status, StatusCode::FORBIDDEN, "{what}: {}", done.body);
        assert!(!person.cookies[HOST].contains_key("passeur-session"), "{what}");
        let (got, words) = decided(&stack, &done.crossing()).await;
        assert_eq!(got, code, "{what}: {words}");
        assert!(words.contains(says), "{what}: {words}");
    }
    // The same proof a second time, and another proof of the same ticket.
    let forged = good();
    let once = negotiate(&forged.token());
    for (field, status) in
        [(&once, StatusCode::SEE_OTHER), (&once, StatusCode::FORBIDDEN), (&negotiate(&forged.token()), StatusCode::SEE_OTHER)]
    {
        let (mut person, page) = asked(&stack).await;
        assert_eq!(show(&mut person, &page, field).await.status, status);
    }
    // Cut off anywhere, it opens nothing and breaks nothing.
    let whole = good().token();
    for cut in (0..whole.len()).step_by(whole.len() / 16) {
        let (mut person, page) = asked(&stack).await;
        let done = show(&mut person, &page, &negotiate(&whole[..cut])).await;
        assert_eq!(done.status, StatusCode::FORBIDDEN, "{cut}: {}", done.body);
    }
}

/// A thousand who were asked and have not answered yet: each answer is of its own flow, and each is who they are.
#[tokio::test(flavor = "multi_thread")]
async fn a_thousand_negotiations_at_once_and_each_is_who_they_are() {
    let stack = Stack::new().await;
    let people = ["anouk", "benoit", "farid", "lucie"];
    // One pool of connections for all of them: each of a thousand machines has its own address, and here is one.
    let machine = Person::new();
    let asked: Vec<(Person, Page)> = futures_util::stream::iter(0..1_000)
        .map(|_| {
            let (mut person, stack) = (machine.clone(), &stack);
            async move {
                let page = asked_again(stack, &mut person).await;
                (person, page)
            }
        })
        .buffer_unordered(48)
        .collect()
        .await;
    let answers = asked.into_iter().enumerate().map(|(i, (mut person, page))| async move {
        let user = people[i % people.len()];
        let token = Forged::good(&folder().join("keytabs/passeur.keytab"), HOST, user).token();
        show(&mut person, &page, &negotiate(&token)).await.status
    });
    // No more at once than there are places for: whoever waits too long for one on a busy machine is put off, and rightly so.
    let answers: Vec<StatusCode> = futures_util::stream::iter(answers).buffer_unordered(16).collect().await;
    assert!(answers.iter().all(|s| *s == StatusCode::SEE_OTHER), "{answers:?}");
    let sessions = stack.get("/sessions?limit=1000").await;
    for user in people {
        let mine = sessions.as_array().unwrap().iter().filter(|s| s["subject"] == format!("{user}@HAVRELUNE.EXAMPLE"));
        assert_eq!(mine.count(), 250, "{user}: {}", sessions[0]);
    }
}
