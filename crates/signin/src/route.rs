//! Sign-in routes at work: what a request says of itself, the page that asks for a user name, and what is found out of one.
//!
//! Whoever types a name learns nothing of it: the answer takes as long whether anybody has the name or not, and a name that
//! nobody has is sent along a route as if somebody had it ([`passeur_core::route`]). How many names one place may type is
//! bounded; beyond that none is looked up and people are asked how they sign in, so that nobody is kept out.

use std::time::{Duration, Instant};

use axum::extract::Form;
use axum::response::{IntoResponse, Response};
use passeur_core::address::neighbourhood;
use passeur_core::route::{self, Choice, Decided, Device, Facts, NameAnswer, Questions, Suffix, Typed};
use passeur_core::site::{Place, Site, WayKind};
use passeur_core::step;
use passeur_core::step::Step;
use passeur_engine::tries;
use passeur_http::cookies::{self, Found};
use passeur_store::StoreError;
use serde::Deserialize;

use passeur_engine::Engine;

use crate::answer::answer;
use crate::journey::Incoming;
use crate::journey::again;
use crate::journey::destination::offered;
use crate::journey::flow::{self, Flow, SEALED_MAX};
use crate::journey::routed::{How, NAMES_MAX, Routed, steps_of, unnamed};
use crate::journey::{Again, Asked, Desk, Destination, Done, Journey, Manner, Why, choose};
use crate::{Visit, browser_binding, known_names, local, pages};

/// The longest name that is looked at, in characters.
const NAME_MAX: usize = 256;
/// How long a page that asks for a name may stay open.
const OPEN_MINUTES: i64 = 30;
/// A name that is looked up is answered this long after it was typed: how long a look-up takes tells whether it found anybody.
const FLOOR: Duration = Duration::from_millis(400);

/// What routes are judged by, for a request and what is asked.
pub fn facts<'a>(visit: &Visit, place: &'a Place, offered: &'a [&'a str]) -> Facts<'a> {
    Facts { place, address: Some(visit.facts.address), device: device(visit), offered }
}

fn device(visit: &Visit) -> Device {
    let text = |name: &str| visit.headers.get(name).and_then(|v| v.to_str().ok());
    Device::of(&visit.facts.agent, text("sec-ch-ua-platform"), text("sec-ch-ua-mobile"))
}

/// What is to be done.
pub enum Next {
    /// On by a way in.
    Way(String, Box<Manner>),
    /// The person is asked which of these, whose steps are told before.
    Ask(Vec<String>, Vec<Step>),
    /// A user name is asked for; whether there is another way in than what names lead to.
    Name,
    /// Nothing is taken there.
    Nothing,
}

/// A name that was typed, and what was found out of it; nothing where more were typed from there than are looked up.
pub struct Name<'a> {
    pub text: &'a str,
    pub found: Option<Typed>,
}

/// What routes, the browser's memory and the person's own choice come to.
pub fn next(desk: &Desk<'_>, to: &Destination, named: Option<Name<'_>>) -> Next {
    let Desk { edition, visit, .. } = *desk;
    let site = &edition.site;
    let ways = offered(site, to);
    if ways.is_empty() {
        return Next::Nothing;
    }
    if let [only] = ways.as_slice() {
        // Nothing is left to decide, and so nothing to tell.
        return Next::Way((*only).to_owned(), Box::default());
    }
    let place = to.place_of_routes();
    let facts = facts(visit, &place, &ways);
    let typed = named.as_ref().and_then(|n| n.found.clone());
    let too_many = named.as_ref().is_some_and(|n| n.found.is_none());
    let choice = match route::choose(&site.routes, &facts, typed.as_ref()) {
        // A name that is not looked up decides nothing, and opens no more than typing none.
        Choice::NameWanted { ways } if too_many => Choice::Decided(unnamed(ways)),
        choice => choice,
    };
    let open = match &choice {
        Choice::NameWanted { ways } => ways,
        Choice::Decided(d) => &d.ways,
    };
    let is_ticket = |w: &String| site.way(w).is_some_and(|w| matches!(w.kind, WayKind::Ticket(_)));
    let no_ticket = visit.parameter(local::ticket::NO_TICKET).filter(is_ticket);
    let on = |way: &str, how: How| {
        let routed = Routed {
            edition: edition.number,
            address: visit.facts.address,
            device: facts.device,
            typed: typed.clone(),
            way: way.to_owned(),
            how,
            too_many,
            no_ticket: no_ticket.clone(),
        };
        // Where there are no routes there is nothing to tell.
        let routed = (!site.routes.is_empty() || no_ticket.is_some()).then_some(routed);
        let strip = matches!(&choice, Choice::Decided(d) if d.strip);
        let hint = named.as_ref().map(|n| if strip { route::without_suffix(n.text) } else { n.text }.to_owned());
        Next::Way(way.to_owned(), Box::new(Manner { routed, hint: hint.filter(|h| !h.is_empty()), ..Manner::default() }))
    };
    let taken = |name: String| open.contains(&name).then_some(name);
    if let Some(way) = visit.parameter("way").and_then(taken) {
        return on(&way, if no_ticket.is_some() { How::Route } else { How::Chosen });
    }
    let another = again(visit) == Some(Again::Another);
    let remembered = match cookies::find(&visit.headers, &site.address.cookie("way").0) {
        Found::One(last) if !another && named.is_none() && !site.is_shared(visit.facts.address) => taken(last),
        _ => None,
    };
    if let Some(way) = remembered {
        return on(&way, How::Remembered);
    }
    let steps = |d: &Decided| if site.routes.is_empty() { vec![] } else { steps_of(d, typed.is_some(), too_many) };
    match &choice {
        Choice::NameWanted { ways } if another && ways.len() > 1 => Next::Ask(ways.clone(), vec![]),
        Choice::NameWanted { .. } => Next::Name,
        Choice::Decided(d) => match d.ways.as_slice() {
            [] => Next::Nothing,
            [first] => on(first, How::Route),
            [first, ..] if !d.ask && !another => on(first, How::Route),
            all => Next::Ask(all.to_vec(), steps(d)),
        },
    }
}

/// Asks for a user name.
pub fn ask_name(journey: Journey<'_, Asked>) -> Response {
    let desk = journey.desk;
    let (browser, set) = browser_binding(desk.engine, &desk.visit.headers, &desk.site().address, "flow");
    let manner = if again(desk.visit) == Some(Again::Fresh) { Manner::anew() } else { Manner::default() };
    let (mut journey, sealed) = journey.send(flow::Name {}, &browser, manner, SEALED_MAX);
    let another = journey.to.onward_by(desk.engine, None);
    journey.step(|| step!(NameAsked));
    journey.attempt.record_waiting();
    let place = journey.to.title(desk.site());
    let response = pages::ask_name(desk.site(), desk.lang(), place, &sealed, &another).into_response();
    pages::with_cookie(response, set.as_deref())
}

/// What the page that asks for a name sends.
#[derive(Default, Deserialize)]
pub struct Named {
    #[serde(default)]
    flow: String,
    #[serde(default)]
    name: String,
}

/// `POST /.passeur/name`. The guard has checked where it comes from. Nothing is proven by it, so a flow may come again.
pub async fn post(incoming: Incoming, Form(named): Form<Named>) -> Response {
    let desk = incoming.desk();
    local::onward(desk.site(), desk.visit, pages::Word::OnToSignIn, answer(typed(desk, &named).await).await)
}

async fn typed<'a>(desk: Desk<'a>, named: &Named) -> Done<'a> {
    let (engine, site) = (desk.engine, desk.site());
    let Some(flow) = Flow::<flow::Name>::open(engine, &named.flow) else { return Err(desk.unreadable()) };
    let mut journey = Journey::resume(desk, flow, None).await?;
    let open = journey.check_open(chrono::Duration::minutes(OPEN_MINUTES));
    let (journey, ()) = journey.go_on_with(open)?;
    let anew = journey.leg().manner.anew;
    let mut journey = journey.with(Asked);
    let name: String = named.name.trim().chars().take(NAME_MAX).collect();
    let ways = offered(site, &journey.to);
    let place = journey.to.place_of_routes();
    let facts = facts(desk.visit, &place, &ways);
    let began = Instant::now();
    let suffix = Suffix::of(&site.routes, &name);
    let questions = route::questions(&site.routes, &facts, &suffix);
    let found = match find_out(engine, site, desk.visit, &name, suffix, &questions).await {
        Ok(found) => found,
        Err(e) => return Err(journey.stop(e)),
    };
    if !questions.is_empty() {
        tokio::time::sleep(FLOOR.saturating_sub(began.elapsed())).await;
    }
    match next(&desk, &journey.to, Some(Name { text: &name, found })) {
        Next::Way(way, manner) => {
            let manner = Manner { anew, ..*manner };
            note(&mut journey, &manner);
            journey.by_way(&way, manner).await
        }
        Next::Ask(ways, steps) => {
            steps.into_iter().for_each(|s| journey.step(|| s));
            Ok(choose::ask(journey, &ways))
        }
        Next::Name | Next::Nothing => Err(journey.stop(Why::NotSetUp)),
    }
}

/// Notes what decided the way in.
pub fn note(journey: &mut Journey<'_, Asked>, manner: &Manner) {
    let steps: Vec<Step> = manner.routed.iter().flat_map(|r| r.steps(journey.desk.edition, &journey.to)).collect();
    steps.into_iter().for_each(|s| journey.step(|| s));
}

/// What routes need to know of a name. None where more names were typed from there than are looked up.
async fn find_out(
    engine: &Engine,
    site: &Site,
    visit: &Visit,
    name: &str,
    suffix: Suffix,
    questions: &Questions,
) -> Result<Option<Typed>, StoreError> {
    let place = neighbourhood(visit.facts.address).to_string();
    // A name that raises no question is not counted: nothing is learnt of it.
    if !questions.is_empty() && !tries::within(engine, "name", &place, NAMES_MAX).await? {
        return Ok(None);
    }
    look_up(engine, site, name, suffix, questions).await.map(Some)
}

/// The same for whoever may know: an engineer who tries routes.
pub async fn look_up(
    engine: &Engine,
    site: &Site,
    name: &str,
    suffix: Suffix,
    questions: &Questions,
) -> Result<Typed, StoreError> {
    let folded = name.to_lowercase();
    // The oldest key of the ring, so that a name goes on along its route when a new key comes.
    let number = engine
        .ring
        .macs("route", folded.as_bytes())
        .pop()
        .map_or(0, |m| u64::from_be_bytes(m[..8].try_into().unwrap_or_default()));
    let mut out = Typed { suffix, number, ..Typed::default() };
    for (directory, asked) in &questions.entries {
        let Some(of) = site.directory(directory) else { continue };
        let entry = match (of.searched(name), engine.directory(directory)) {
            (None, _) => NameAnswer::Nobody,
            (Some(_), None) => NameAnswer::Silent("the directory is not in use on this node".to_owned()),
            (Some(value), Some(link)) => NameAnswer::of(of, site, &link.look_up(value).await.state, asked),
        };
        out.entries.insert(directory.clone(), entry);
    }
    for attribute in &questions.known {
        let macs = engine.ring.macs("known-name", known_names::known(attribute, name).as_bytes());
        let ways = engine.store.ways_of_name(&macs).await?;
        out.known.extend(ways.into_iter().map(|w| (attribute.clone(), w)));
    }
    Ok(out)
}
