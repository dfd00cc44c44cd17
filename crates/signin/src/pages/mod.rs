//! Pages for people who sign in: small, server-rendered, readable without script, in English and French.

mod code;
mod device;
mod factors;
mod layout;
mod network;
mod profile;
mod quay;
mod sign_in;
mod sponsor;
mod tokens;
mod tunnel;
mod why;
mod words;

use axum::response::{IntoResponse, Response};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use http::{HeaderValue, StatusCode, header};
use maud::{Markup, html};
use passeur_core::id::CrossingId;
use passeur_core::site::{Gate, Place, Site};
use passeur_core::step::{Lang, StepCode, remedy};
use passeur_store::StoreError;

pub use device::{DevicePage, DeviceSaid};
pub use factors::{FactorForm, FactorsPage, Shown};
pub use layout::{STYLE, page};
pub use network::{Machine, On, Opened, network, terms_page};
use passeur_engine::attempt::Attempt;
pub use profile::{Profiles, SCRIPT as PROFILE_SCRIPT, profiles};
pub use quay::{Quay, QuayGate, QuayMachine, quay};
pub use sign_in::{Choice, Form, RealBrowser, Said, TicketPage, ask_name, choose, go_on, real_browser};
pub use sponsor::{SponsorPage, SponsorSaid};
pub use tokens::TokensPage;
pub use tunnel::{TunnelSaid, Waiting, tunnel};
pub use words::Word;
use words::say;

/// A page with its status.
pub struct Page {
    pub status: StatusCode,
    pub markup: Markup,
}

impl IntoResponse for Page {
    fn into_response(self) -> Response {
        let mut response = (self.status, axum::response::Html(self.markup.into_string())).into_response();
        protect(response.headers_mut());
        response
    }
}

const POLICY: &str =
    "default-src 'none'; style-src 'self'; img-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'";

/// Lets a page load images from further origins; and its form, where `form` says so, lead to wherever the other side sends people
/// on, which nobody here can know.
pub fn allow(headers: &mut http::HeaderMap, origins: impl Iterator<Item = String>, form: bool) {
    let sources: String = origins.map(|o| format!(" {o}")).collect();
    let mut policy = POLICY.replace("img-src 'self'", &format!("img-src 'self'{sources}"));
    if form {
        policy = policy.replace("form-action 'self'", "form-action *");
    }
    if let Ok(value) = HeaderValue::from_str(&policy) {
        headers.insert(header::CONTENT_SECURITY_POLICY, value);
    }
}

/// Sends the form of [`post_on`] without a click. The policy allows this text and no other.
const SUBMIT: &str = "document.forms[0].submit()";

/// A form that posts itself to somebody else, with a button where no script runs.
pub fn post_on(site: &Site, lang: Lang, title: &str, address: &str, fields: &[(&str, String)]) -> Response {
    let content = html! {
        p.lead { (say(Word::GoingOn, lang)) " " strong { (title) } }
        form method="post" action=(address) {
            @for (name, value) in fields { input type="hidden" name=(name) value=(value); }
            nav.ways { button type="submit" { (say(Word::GoOn, lang)) } }
        }
        script { (maud::PreEscaped(SUBMIT)) }
    };
    let markup = page(&site.name, lang, say(Word::GoingOnTitle, lang), "calm", content);
    let mut response = Page { status: StatusCode::OK, markup }.into_response();
    let digest = STANDARD.encode(passeur_core::id::sha256(SUBMIT.as_bytes()));
    let policy = POLICY.replace("form-action 'self'", "form-action *") + &format!("; script-src 'sha256-{digest}'");
    if let Ok(value) = HeaderValue::from_str(&policy) {
        response.headers_mut().insert(header::CONTENT_SECURITY_POLICY, value);
    }
    response
}

/// After a trial sign-in: what came back is for engineers to read.
pub fn tried(site: &Site, lang: Lang, good: bool, token: &str) -> Page {
    let content = html! {
        p.lead { (say(if good { Word::TriedWell } else { Word::TriedBadly }, lang)) }
        nav.ways { a.button href=(site.address.at(&format!("/console/trials/{token}"))) { (say(Word::ReadTrial, lang)) } }
    };
    let tone = if good { "calm" } else { "stop" };
    Page { status: StatusCode::OK, markup: page(&site.name, lang, say(Word::TriedTitle, lang), tone, content) }
}

/// There is no such trial any more.
pub fn trial_over(site: &Site, lang: Lang, status: StatusCode) -> Page {
    let content = html! { p.lead { (say(Word::TrialOver, lang)) } };
    Page { status, markup: page(&site.name, lang, say(Word::TriedTitle, lang), "stop", content) }
}

/// How a person signs out at the provider as well.
pub enum WayOut {
    Link(String),
    Form { address: String, fields: Vec<(&'static str, String)> },
}

/// Headers of every page of ours: not stored, not framed, no script, no referrer to others.
pub fn protect(headers: &mut http::HeaderMap) {
    for (name, value) in [
        (header::CONTENT_SECURITY_POLICY, POLICY),
        (header::CACHE_CONTROL, "no-store"),
        // Not no-referrer: a browser would then send `Origin: null` with our own forms, and they would be refused.
        (header::REFERRER_POLICY, "same-origin"),
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
        (header::X_FRAME_OPTIONS, "DENY"),
    ] {
        headers.insert(name, HeaderValue::from_static(value));
    }
}

/// A redirect that leaves nothing behind: 303, not stored, no referrer.
pub fn redirect(to: &str, cookie: Option<&str>) -> Response {
    let mut response = StatusCode::SEE_OTHER.into_response();
    protect(response.headers_mut());
    let Ok(location) = HeaderValue::from_str(to) else {
        return StatusCode::INTERNAL_SERVER_ERROR.into_response();
    };
    response.headers_mut().insert(header::LOCATION, location);
    response.headers_mut().insert(header::REFERRER_POLICY, HeaderValue::from_static("no-referrer"));
    with_cookie(response, cookie)
}

/// An answer that sets a cookie, where there is one to set.
pub fn with_cookie(mut response: Response, cookie: Option<&str>) -> Response {
    cookie.into_iter().for_each(|c| set_cookie(&mut response, c));
    response
}

/// Adds a Set-Cookie ([`passeur_http::cookies::set`]).
pub fn set_cookie(response: &mut Response, cookie: &str) {
    if let Ok(value) = HeaderValue::from_str(cookie) {
        response.headers_mut().append(header::SET_COOKIE, value);
    }
}

/// What a refused person is told.
pub struct Refused {
    pub id: CrossingId,
    pub code: Option<StepCode>,
    /// The rule's or the provider's own words.
    pub words: Option<String>,
    pub place: Place,
    pub who: Option<String>,
    /// Where to try again.
    pub again: Option<String>,
    /// Whether enrolling a factor would help.
    pub enrol: bool,
    /// What to do, where the person can do it.
    pub advice: Option<String>,
    /// Where they may choose another way in.
    pub another: Option<String>,
}

impl Refused {
    /// From the last step of an attempt.
    pub fn of_step(attempt: &Attempt, id: CrossingId, words: Option<String>) -> Refused {
        let steps = &attempt.story.steps;
        let step = passeur_core::crossing::deciding(steps).and_then(|i| steps.get(i));
        let code = step.map(|s| s.code);
        let advice = match code {
            // Only remedies that the person can carry out; the others are for engineers.
            Some(
                StepCode::StateTooOld
                | StepCode::StateReplayed
                | StepCode::StateOtherBrowser
                | StepCode::AnswerGone
                | StepCode::AnswersFull
                | StepCode::CodeRefused
                | StepCode::AskUnreadable,
            ) => step.and_then(|s| remedy(s, attempt.lang)),
            _ => None,
        };
        let provider_words = step.filter(|s| matches!(s.code, StepCode::ProviderRefused)).map(|s| {
            let text =
                |name: &str| s.params.get(name).map(|p| passeur_core::step::param_text(p, attempt.lang)).unwrap_or_default();
            match text("description").as_str() {
                "—" => text("error"),
                description => description.to_owned(),
            }
        });
        Refused {
            id,
            code,
            words: words.or(provider_words),
            place: attempt.place.clone(),
            who: attempt.who.as_ref().map(|w| w.name.clone()),
            again: None,
            enrol: false,
            advice,
            another: attempt.another.clone(),
        }
    }
}

/// The refusal page: the reason in plain words and the crossing's id, never a stack of internals.
pub fn refused(site: &Site, lang: Lang, status: StatusCode, r: &Refused) -> Page {
    let gate = r.place.as_gate().and_then(|name| site.gate(name));
    let place = gate.map_or(site.name.as_str(), |g| g.title.as_str());
    let again = r.again.clone().or_else(|| gate.map(|g| g.address.at("/"))).unwrap_or_else(|| site.address.at("/"));
    let headline = why::headline(r.code, lang);
    let content = html! {
        p.lead { (why::plain(r.code, lang)) }
        @if let Some(w) = &r.words { blockquote { (w) } }
        @if let Some(a) = &r.advice { p { (a) } }
        dl.facts {
            dt { (say(Word::Place, lang)) } dd { (place) }
            @if let Some(who) = &r.who { dt { (say(Word::SignedInAs, lang)) } dd { (who) } }
            dt { (say(Word::Crossing, lang)) } dd { code.id { (r.id) } }
        }
        p.hint { (say(Word::QuoteId, lang)) }
        nav.ways {
            a.button href=(again) { (say(Word::TryAgain, lang)) }
            @if let Some(another) = &r.another { a href=(site.address.at(another)) { (say(Word::AnotherWay, lang)) } }
            @if r.enrol { a href=(site.address.at("/.passeur/factors")) { (say(Word::FactorsTitle, lang)) } }
            a href=(site.address.at("/")) { (say(Word::ToQuay, lang)) }
            @if r.who.is_some() { a href=(site.address.at("/.passeur/sign-out")) { (say(Word::SignOut, lang)) } }
        }
    };
    Page { status, markup: page(&site.name, lang, headline, "stop", content) }
}

/// Nothing is published yet.
pub fn not_set_up(lang: Lang) -> Page {
    let content = html! {
        p.lead { (say(Word::NothingPublished, lang)) }
        p.hint { "passeur site publish site.toml" }
    };
    Page { status: StatusCode::SERVICE_UNAVAILABLE, markup: page("Passeur", lang, say(Word::NotSetUp, lang), "stop", content) }
}

/// What the emergency account's page says beside its form.
#[derive(Clone, Copy)]
pub enum EmergencyTrouble {
    Wrong,
    Wait,
}

/// Where the emergency account signs in, or ends its session.
pub fn emergency(site: Option<&Site>, lang: Lang, signed_in: bool, trouble: Option<EmergencyTrouble>) -> Page {
    let content = html! {
        p.lead { (say(if signed_in { Word::EmergencyIn } else { Word::EmergencyWords }, lang)) }
        @match trouble {
            Some(EmergencyTrouble::Wrong) => { blockquote role="alert" { (say(Word::EmergencyWrong, lang)) } }
            Some(EmergencyTrouble::Wait) => { blockquote role="alert" { (say(Word::EmergencyWait, lang)) } }
            None => {}
        }
        form method="post" action="/.passeur/emergency" {
            @if signed_in {
                nav.ways {
                    a.button href="/console/" { (say(Word::Console, lang)) }
                    button type="submit" name="end" value="1" { (say(Word::SignOut, lang)) }
                }
            } @else {
                label { (say(Word::EmergencyName, lang)) input name="name" autocomplete="username" required maxlength="60"; }
                label { (say(Word::EmergencyPassword, lang)) input type="password" name="password" autocomplete="current-password" required maxlength="1024"; }
                nav.ways { button type="submit" { (say(Word::SignIn, lang)) } }
            }
        }
    };
    let name = site.map_or("Passeur", |s| s.name.as_str());
    let tone = if trouble.is_some() { "stop" } else { "calm" };
    Page { status: StatusCode::OK, markup: page(name, lang, say(Word::EmergencyTitle, lang), tone, content) }
}

/// The store did not answer, so nobody is let in.
pub fn store_failed(site: &Site, lang: Lang, e: &StoreError) -> Page {
    tracing::error!(error = %e, "refused because the store did not answer");
    let content = html! {
        p.lead { (say(Word::CannotRecord, lang)) }
        nav.ways { a.button href=(site.address.at("/")) { (say(Word::ToQuay, lang)) } }
    };
    Page { status: StatusCode::SERVICE_UNAVAILABLE, markup: page(&site.name, lang, say(Word::NotNow, lang), "stop", content) }
}

/// The application behind a gate did not answer.
pub fn upstream_failed(site: &Site, lang: Lang, gate: &str, status: StatusCode, id: CrossingId) -> Page {
    let place = site.gate(gate).map_or(gate, |g| g.title.as_str());
    let content = html! {
        p.lead { (say(Word::UpstreamDown, lang)) }
        dl.facts {
            dt { (say(Word::Place, lang)) } dd { (place) }
            dt { (say(Word::Crossing, lang)) } dd { code.id { (id) } }
        }
        p.hint { (say(Word::QuoteId, lang)) }
        nav.ways { a.button href="" { (say(Word::TryAgain, lang)) } }
    };
    Page { status, markup: page(&site.name, lang, say(Word::NotNow, lang), "stop", content) }
}

/// A form came without a session: says so, and what became of what was entered.
pub fn form_interrupted(site: &Site, lang: Lang, gate: &Gate, sign_in: &str, kept: bool) -> Page {
    let way = match gate.access.ways.as_slice() {
        [only] => site.title_of_way(only),
        _ => "",
    };
    let content = html! {
        p.lead { (say(Word::FormInterrupted, lang)) }
        p { (say(if kept { Word::FormKept } else { Word::FormNotKept }, lang)) }
        dl.facts { dt { (say(Word::Place, lang)) } dd { (gate.title) } }
        nav.ways { a.button href=(sign_in) { (say(Word::SignIn, lang)) " " (way) } }
    };
    let title = say(Word::SignInFirst, lang);
    Page { status: StatusCode::UNAUTHORIZED, markup: page(&site.name, lang, title, "calm", content) }
}

/// The kept form, shown whole, with a button that sends it.
pub fn form_again(site: &Site, lang: Lang, gate: &Gate, target: &str, fields: &[(String, String)]) -> Page {
    let content = html! {
        p.lead { (say(Word::FormAgain, lang)) }
        form method="post" action=(target) accept-charset="utf-8" {
            dl.facts {
                @for (name, value) in fields {
                    dt { (name) } dd { (if name.to_lowercase().contains("pass") { "••••••" } else { value }) }
                }
            }
            @for (name, value) in fields { textarea hidden name=(name) { "\n" (value) } }
            nav.ways {
                button type="submit" { (say(Word::SendNow, lang)) }
                a href="/" { (say(Word::Discard, lang)) }
            }
        }
    };
    Page { status: StatusCode::OK, markup: page(&site.name, lang, &gate.title, "calm", content) }
}

/// There is no such form any more.
pub fn form_gone(site: &Site, lang: Lang, gate: &Gate, status: StatusCode) -> Page {
    let content = html! {
        p.lead { (say(Word::FormGone, lang)) }
        nav.ways { a.button href="/" { (gate.title) } }
    };
    Page { status, markup: page(&site.name, lang, say(Word::NotNow, lang), "stop", content) }
}

/// Asks whether to sign out.
pub fn ask_sign_out(site: &Site, lang: Lang, who: &str, others: &[Elsewhere]) -> Page {
    let content = html! {
        p.lead { (say(Word::AskSignOut, lang)) " " strong { (who) } }
        (elsewhere(lang, Word::AlsoElsewhere, others))
        form method="post" action="/.passeur/sign-out" {
            nav.ways {
                button type="submit" name="how_far" value="here" { (say(Word::SignOut, lang)) }
                @if !others.is_empty() {
                    button.second type="submit" name="how_far" value="everywhere" { (say(Word::SignOutEverywhere, lang)) }
                }
                a href="/" { (say(Word::ToQuay, lang)) }
            }
        }
    };
    Page { status: StatusCode::OK, markup: page(&site.name, lang, say(Word::SignOut, lang), "calm", content) }
}

/// Another session of the same person.
pub struct Elsewhere {
    /// The system it runs on, where that can be told.
    pub on: Option<&'static str>,
    pub agent: String,
    pub address: String,
    pub seen: String,
}

fn elsewhere(lang: Lang, lead: Word, others: &[Elsewhere]) -> Markup {
    html! {
        @if !others.is_empty() {
            p { (say(lead, lang)) }
            ul.gates { @for o in others { li { @match o.on { Some(on) => { (say(Word::BrowserOn, lang)) " " (on) } None => { (o.agent) } } span.hint { (o.address) ", " (say(Word::SeenLast, lang)) " " (o.seen) } } } }
        }
    }
}

/// Signed out, with a way to sign out at the provider as well, and what is signed in elsewhere. Each of `orders` is fetched by the
/// browser.
pub fn signed_out(site: &Site, lang: Lang, provider: Option<&(String, WayOut)>, orders: &[String], others: &[Elsewhere]) -> Page {
    let to_quay = html! { a href=(site.address.at("/")) { (say(Word::ToQuay, lang)) } };
    let content = html! {
        p.lead { (say(Word::SignedOutHere, lang)) }
        (elsewhere(lang, Word::StillElsewhere, others))
        @match provider {
            Some((title, WayOut::Link(url))) => {
                p { (say(Word::StillAtProvider, lang)) }
                nav.ways { a.button href=(url) { (say(Word::SignOutAt, lang)) " " (title) } (to_quay) }
            }
            Some((title, WayOut::Form { address, fields })) => {
                p { (say(Word::StillAtProvider, lang)) }
                form method="post" action=(address) {
                    @for (name, value) in fields { input type="hidden" name=(name) value=(value); }
                    nav.ways { button type="submit" { (say(Word::SignOutAt, lang)) " " (title) } (to_quay) }
                }
            }
            None => { nav.ways { a.button href=(site.address.at("/")) { (say(Word::ToQuay, lang)) } } }
        }
        @for order in orders { img alt="" width="1" height="1" src=(order); }
    };
    Page { status: StatusCode::OK, markup: page(&site.name, lang, say(Word::SignedOut, lang), "calm", content) }
}

/// After the provider was asked to sign the person out as well.
pub fn signed_out_there(site: &Site, lang: Lang, everywhere: bool) -> Page {
    let word = if everywhere { Word::SignedOutEverywhere } else { Word::NotEverywhere };
    let content = html! {
        p.lead { (say(word, lang)) }
        nav.ways { a.button href=(site.address.at("/")) { (say(Word::ToQuay, lang)) } }
    };
    Page { status: StatusCode::OK, markup: page(&site.name, lang, say(Word::SignedOut, lang), "calm", content) }
}
