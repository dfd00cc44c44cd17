//! Somebody vouches for a guest: whoever is not known anywhere writes a name, shows a code to a person of the house, and comes in once that
//! person has typed it on the quay ([`crate::sponsor`]). What a guest writes of themselves proves nothing; the sponsor's word does.

use axum::response::IntoResponse;
use passeur_core::address::neighbourhood;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::WayIn;
use passeur_core::id::hex;
use passeur_core::site::SponsorWay;
use passeur_core::step;
use passeur_core::text::{shorten, visible};
use passeur_engine::random::random;
use passeur_store::VouchRow;
use serde_json::Map;

use super::{Came, Entered, Person, Try, limits};
use crate::journey::Why;
use crate::pages::Said;
use crate::sponsor::digests;
use passeur_engine::short_code;

/// How many requests one place makes within the window of tries.
const ASKED_MAX: i32 = 12;
/// The longest name, and what the guest is here for, in characters.
const NAME_MAX: usize = 60;
const NOTE_MAX: usize = 120;

pub(super) async fn tried(tried: &mut Try<'_>, way: &SponsorWay, entered: &Entered) -> Result<Came, Why> {
    match &entered.code {
        None => asked(tried, entered).await,
        Some(code) => waits(tried, way, if short_code::is_one(code) { code } else { "" }).await,
    }
}

/// One line of what somebody wrote, as the sponsor will read it: what turns a text round or is not seen stands there as what it is. Empty where
/// nothing of it can be read.
fn line(text: &str, most: usize) -> String {
    let plain: String = text.chars().map(|c| if c.is_whitespace() { ' ' } else { c }).collect();
    match plain.chars().any(char::is_alphanumeric) {
        true => shorten(&visible(plain.trim()), most),
        false => String::new(),
    }
}

async fn asked(tried: &mut Try<'_>, entered: &Entered) -> Result<Came, Why> {
    let (engine, desk) = (tried.engine(), tried.journey.desk);
    let (name, note) = (line(&entered.name, NAME_MAX), line(&entered.note, NOTE_MAX));
    if name.is_empty() || note.is_empty() {
        let id = tried.journey.attempt.id;
        return Ok(tried.form(Said::Wrong { id }, |f| f.guest(&name, &note)).into_response().into());
    }
    let place = neighbourhood(desk.visit.facts.address).to_string();
    let within = limits::count(tried, &format!("guests of {place}"), ASKED_MAX).await?.is_some();
    let (flow, code, now) = (tried.journey.leg().id(), short_code::new(8), engine.now());
    let row = VouchRow {
        flow: flow.to_vec(),
        code: digests(engine, &code).first().map(|m| m.to_vec()).unwrap_or_default(),
        way: tried.way.name.clone(),
        name: name.clone(),
        note: note.clone(),
        address: desk.visit.facts.address.to_string(),
        agent: shorten(&desk.visit.facts.agent, 300),
        network: place,
        created_at: now,
        expires_at: now + tried.way.answer_within,
        state: "pending".into(),
        sponsor_provider: None,
        sponsor_authority: None,
        sponsor_subject: None,
        sponsor_name: None,
    };
    if !within || !engine.store.ask_to_vouch(row).await? {
        tried.note(Outcome::CheckFailed).await?;
        let minutes = passeur_core::site::TRIES_MINUTES;
        let page = tried.form(Said::Wait { minutes }, |f| f.guest(&name, &note));
        return Ok(limits::wait(page.into_response()).into());
    }
    tried.step(|| step!(VouchAsked { name: name.as_str(), note: note.as_str() }));
    tried.journey.attempt.record_waiting();
    let quay = tried.site().address.at("/");
    Ok(tried.form(Said::Nothing, |f| f.guest_waits(&code, &quay, false)).into_response().into())
}

async fn waits(tried: &mut Try<'_>, way: &SponsorWay, code: &str) -> Result<Came, Why> {
    let engine = tried.engine();
    let flow = tried.journey.leg().id();
    let Some(row) = engine.store.guest(&flow, engine.now()).await?.filter(|r| r.way == tried.way.name) else {
        return tried.fell(step!(VouchOver { minutes: tried.way.answer_within.num_minutes() }));
    };
    let sponsor_name = row.sponsor_name.clone().unwrap_or_default();
    match (row.state.as_str(), row.sponsor()) {
        ("given", Some(sponsor)) => {
            let provider = row.sponsor_provider.clone().unwrap_or_default();
            let key = format!("{provider}/{}", sponsor.subject);
            tried.step(|| step!(VouchedFor { name: row.name.as_str(), sponsor: sponsor_name.as_str(), key: key.as_str() }));
            let mut claims = Map::new();
            for (claim, value) in [
                ("name", row.name.clone()),
                ("note", row.note.clone()),
                ("sponsor", key),
                ("sponsor-name", sponsor_name.clone()),
                ("sponsor-authority", sponsor.authority),
                ("sponsor-subject", sponsor.subject),
            ] {
                claims.insert(claim.to_owned(), value.into());
            }
            let person = Person {
                way_in: WayIn::Sponsor,
                // Nobody else, and not the same guest of another day.
                subject: hex(&random::<16>()),
                name: format!("{} ({sponsor_name})", row.name),
                claims,
                account: String::new(),
                kept: None,
                method: None,
                // No browser is known for a guest.
                at: Some(engine.now()),
                sent: None,
            };
            let came = tried.prove(person).await?;
            Ok(came.by_word(flow, engine.now() + way.lasts))
        }
        ("denied", _) => tried.fell(step!(VouchDenied { sponsor: sponsor_name })),
        _ => {
            let quay = tried.site().address.at("/");
            Ok(tried.form(Said::Nothing, |f| f.guest_waits(code, &quay, true)).into_response().into())
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_guest_writes_is_one_line_that_reads_as_it_is() {
        for (typed, line_of) in [
            (" Jan\r\nVermeer ", "Jan  Vermeer"),
            ("\u{202e}nitraF", "\\u{202e}nitraF"),
            ("\u{200b}\n", ""),
            ("—", ""),
            ("Élodie 2", "Élodie 2"),
        ] {
            assert_eq!(line(typed, 60), line_of, "{typed:?}");
        }
        assert_eq!(line(&"a".repeat(5_000), 60).chars().count(), 60);
    }
}
