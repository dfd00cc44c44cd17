//! Finding everybody whom a name, a mail address or an identity may mean, before something is taken away from them; and what may live
//! on outside afterwards.

use std::collections::HashSet;

use axum::extract::State;
use passeur_api::{FindRequest, FoundEntry, FoundPeople, FoundPerson, Outside, Problem, Summary, SummaryAnswer, TakenAway};
use passeur_core::Moment;
use passeur_core::evidence::PersonKey;
use passeur_core::id::{hex, same_secret};
use passeur_core::identity::Person;
use passeur_core::likeness::{addresses, addresses_in};
use passeur_core::role::Role;
use passeur_core::step::Lang;
use passeur_store::{KnownPerson, Names, StoreError};

use super::auth::Engineer;
use super::errors::{ApiError, bad};
use super::extract::Json;
use super::people::key_of;
use crate::app::App;
use passeur_engine::people::Named;

/// The most people that are shown, and values by which further ones are looked for.
const SHOWN_MAX: usize = 100;
const SHARED_MAX: usize = 12;
const TEXT_MAX: usize = 200;
/// What a summary is signed as.
const LABEL: &str = "summary of what was taken away";
const SUMMARY_MAX: usize = 64 * 1024;

/// Everybody whom a text may mean, with what each has here.
#[utoipa::path(post, operation_id = "find_people", path = "/people/find", request_body = FindRequest,
    responses((status = 200, body = FoundPeople), (status = 400, body = Problem), (status = 403, body = Problem)))]
pub async fn find(State(app): State<App>, who: Engineer, Json(ask): Json<FindRequest>) -> Result<Json<FoundPeople>, ApiError> {
    who.may(Role::Operate)?;
    let text = ask.text.trim();
    if text.len() < 2 || text.len() > TEXT_MAX || text.chars().any(char::is_control) {
        return Err(bad("Give 2 to 200 bytes of a name, a mail address or an identity."));
    }
    let mut found: Vec<(KnownPerson, Option<String>)> = vec![];
    let mut known: HashSet<PersonKey> = HashSet::new();
    let mut add = |people: Vec<KnownPerson>, shares: Option<&str>| {
        for p in people {
            if known.insert(p.key.clone()) {
                found.push((p, shares.map(str::to_owned)));
            }
        }
    };
    if let Some(Person { provider, subject }) = Person::parse(text)
        && let Ok(key) = key_of(&app, &provider, &subject).await
    {
        let name = app.store.name_of(&key).await?.unwrap_or(subject);
        let evidence = app.store.latest_evidence(&key).await?;
        add(vec![KnownPerson { key, provider, name, seen: None, evidence }], None);
    }
    let direct = app.store.find_people(text, Names::Within).await?;
    let (entries, mut shared) = entries(&app, text).await;
    shared.extend(direct.iter().flat_map(|p| p.evidence.iter().flat_map(addresses)));
    add(direct, None);
    let mut tried = HashSet::from([text.to_lowercase()]);
    for value in shared {
        if tried.len() <= SHARED_MAX && tried.insert(value.to_lowercase()) {
            add(app.store.find_people(&value, Names::Unread).await?, Some(&value));
        }
    }
    let more = found.len() > SHOWN_MAX;
    found.truncate(SHOWN_MAX);
    let mut people = vec![];
    for (p, shares) in found {
        people.push(shown(&app, p, shares).await?);
    }
    Ok(Json(FoundPeople { people, entries, more }))
}

async fn shown(app: &App, p: KnownPerson, shares: Option<String>) -> Result<FoundPerson, StoreError> {
    let has = app.store.holdings(&p.key).await?;
    let count = |n: i64| u64::try_from(n).unwrap_or_default();
    let look_ups = p.evidence.iter().flat_map(|e| &e.look_ups);
    let entries = look_ups.filter_map(|l| Some(format!("{}: {}", l.directory, l.state.entry()?.dn))).collect();
    Ok(FoundPerson {
        person: format!("{}/{}", p.provider, p.key.subject),
        name: p.name,
        seen: p.seen,
        shares,
        sessions: count(has.sessions),
        kept: count(has.kept),
        personal_tokens: count(has.personal_tokens),
        api_tokens: count(has.api_tokens),
        factors: count(has.factors),
        recovery_codes: count(has.recovery_codes),
        devices: count(has.devices),
        entries,
        blocked: app.store.block(&p.key).await?.map(|b| b.why),
    })
}

/// What every directory has under a text, and the mail addresses of those entries.
async fn entries(app: &App, text: &str) -> (Vec<FoundEntry>, Vec<String>) {
    let Some(edition) = app.live.get() else { return (vec![], vec![]) };
    let (mut out, mut shared) = (vec![], vec![]);
    for directory in &edition.site.directories {
        let Some(link) = app.directory(&directory.name) else { continue };
        let found = link.look_up(text).await;
        let entry = found.state.entry();
        shared.extend(entry.into_iter().flat_map(addresses_in));
        out.push(FoundEntry {
            directory: directory.name.clone(),
            entry: entry.map(|e| e.dn.clone()),
            state: (&found.state).into(),
        });
    }
    (out, shared)
}

/// What may live on where nothing can be taken away from here. To be asked before anything is.
pub async fn outside(app: &App, people: &[Named], lang: Lang) -> Result<Vec<Outside>, StoreError> {
    let fr = lang == Lang::Fr;
    let mut out: Vec<Outside> = vec![];
    let mut say = |what: String, until: Option<Moment>| match out.iter_mut().find(|o| o.what == what) {
        Some(known) => known.until = known.until.max(until),
        None => out.push(Outside { what, until }),
    };
    for person in people {
        for o in app.store.opened_gates(&person.key).await? {
            let provider = &o.provider;
            say(
                if fr {
                    format!("la connexion chez le fournisseur {provider}")
                } else {
                    format!("the sign-in at provider {provider}")
                },
                o.until,
            );
            if o.gate.is_empty() {
                continue;
            }
            let gate = &o.gate;
            say(
                match fr {
                    true => format!("une session que l'application derrière la porte {gate} tient elle-même"),
                    false => format!("a session that the application behind gate {gate} keeps by itself"),
                },
                None,
            );
            if o.thing_until.is_some() {
                say(
                    match fr {
                        true => format!(
                            "un jeton ou un certificat présenté à la porte {gate} : refusé ici, il reste valable ailleurs"
                        ),
                        false => format!("a token or certificate shown at gate {gate}: refused here, it stays good elsewhere"),
                    },
                    o.thing_until,
                );
            }
        }
    }
    Ok(out)
}

/// What was done as a text that can be kept, with a signature of the service.
pub fn summary(app: &App, taken: &TakenAway, why: Option<&str>, by: &str) -> Summary {
    use std::fmt::Write;
    let moment = |m: Moment| m.format("%Y-%m-%d %H:%M:%S UTC").to_string();
    let site = app.live.get().map(|e| e.site.address.origin()).unwrap_or_default();
    let mut text = format!("taken away at {site}\nat: {}\nby: {}\n", moment(app.now()), passeur_core::text::visible(by));
    let mut line = |name: &str, values: &[String]| {
        let _ = writeln!(
            text,
            "{name}: {}",
            if values.is_empty() { "none".to_owned() } else { passeur_core::text::visible(&values.join(", ")) }
        );
    };
    line("people", &taken.people);
    line("sessions ended", &taken.sessions.iter().map(ToString::to_string).collect::<Vec<_>>());
    line("personal tokens", &taken.personal_tokens);
    line("API tokens", &taken.api_tokens);
    line("factors", &taken.factors);
    line("recovery codes", &[taken.recovery_codes.to_string()]);
    line("command lines that waited", &[taken.devices.to_string()]);
    line("personal profiles", &taken.profiles);
    line("kept passwords", &[taken.kept.to_string()]);
    line("kept out", &taken.blocked);
    line("because", &why.map(str::to_owned).into_iter().collect::<Vec<_>>());
    line("nodes that had not acknowledged", &taken.behind);
    let outside = taken.outside.iter().map(|o| match o.until {
        Some(until) => format!("{} (until {})", o.what, moment(until)),
        None => o.what.clone(),
    });
    line("may live on outside", &outside.collect::<Vec<_>>());
    let signature = hex(&app.ring.mac(LABEL, text.as_bytes()));
    Summary { text, signature }
}

/// Whether a summary is one of this service, to the letter.
#[utoipa::path(post, operation_id = "check_summary", path = "/people/summary", request_body = Summary,
    responses((status = 200, body = SummaryAnswer), (status = 400, body = Problem), (status = 403, body = Problem)))]
pub async fn check(State(app): State<App>, who: Engineer, Json(ask): Json<Summary>) -> Result<Json<SummaryAnswer>, ApiError> {
    who.may(Role::View)?;
    if ask.text.len() > SUMMARY_MAX {
        return Err(bad("A summary is shorter than that."));
    }
    let signed = ask.signature.trim().to_ascii_lowercase();
    let all = app.ring.macs(LABEL, ask.text.as_bytes());
    Ok(Json(SummaryAnswer { genuine: all.iter().any(|m| same_secret(hex(m).as_bytes(), signed.as_bytes())) }))
}
