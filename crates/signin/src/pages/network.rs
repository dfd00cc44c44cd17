//! The page of a network gate, for somebody who is signed in: small, and readable without script.

use chrono::Duration;
use http::StatusCode;
use maud::{Markup, html};
use passeur_core::Moment;
use passeur_core::decide::Terms;
use passeur_core::id::CrossingId;
use passeur_core::site::{Gate, Site, TermsOfUse, octets_in_words};
use passeur_core::step::Lang;
use passeur_core::text::shorten;

use super::words::{Word, say};
use super::{Page, page};

/// What somebody sees at a network gate.
pub struct Opened<'a> {
    pub name: &'a str,
    /// What the rules give.
    pub terms: &'a Terms,
    /// When the session ends at the latest.
    pub until: Moment,
    /// How long that is from now.
    pub left: Duration,
    /// How the machine stands that asks.
    pub machine: Machine,
    /// The crossing that tells why it is not let through.
    pub told: Option<CrossingId>,
}

/// How the machine stands from which somebody asks for the page.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Machine {
    /// No node guards a zone of the gate.
    Unguarded,
    /// It is in no zone of the gate.
    Elsewhere,
    /// People come here by tunnels: those that the person has on, each in a few words.
    Tunnels(Vec<String>),
    /// The terms of use are accepted first.
    Terms,
    /// It is let through.
    On(On),
    /// Nothing on the link answers for its address.
    Unseen,
    /// The person has as many on as they may: these, each in a few words.
    Full(Vec<String>),
    /// What may pass is used up.
    QuotaUsed,
    /// It could not be opened.
    Shut,
}

/// A machine that is let through.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct On {
    /// What it is known by.
    pub named: String,
    /// Octets both ways.
    pub passed: u64,
    pub left: Option<u64>,
    /// Where it wanted to go before anybody signed in.
    pub wanted: Option<String>,
}

/// The page.
pub fn network(site: &Site, gate: &Gate, lang: Lang, opened: &Opened<'_>) -> Page {
    let reaches: Vec<_> = opened.terms.opens.iter().filter_map(|o| site.reach(&o.reach)).collect();
    let limits = opened.terms.words(lang).split_off(opened.terms.messages.len());
    let mood = match &opened.machine {
        Machine::On(_) | Machine::Elsewhere | Machine::Terms | Machine::Tunnels(_) => "calm",
        _ => "stop",
    };
    if let (Machine::Terms, Some(terms)) = (&opened.machine, gate.network().and_then(|n| n.terms.as_ref())) {
        return terms_page(site, gate, lang, (opened.name, terms), None);
    }
    let content = html! {
        p.lead { (say(Word::SignedInAs, lang)) " " strong { (opened.name) } }
        (standing(&opened.machine, gate.network().is_some_and(|n| n.authority.is_some()), lang))
        @if let Some(id) = opened.told { p.hint { (say(Word::Crossing, lang)) " " code.id { (id) } } }
        @for m in &opened.terms.messages { p.message { (m) } }
        h2 { (say(Word::NetworkOpens, lang)) }
        @if reaches.is_empty() { p { (say(Word::NetworkOpensNothing, lang)) } } @else {
            ul.gates {
                @for r in &reaches { li { strong { (r.title) } span.hint { (r.sentence(lang)) } } }
            }
        }
        @if !limits.is_empty() {
            h2 { (say(Word::NetworkLimits, lang)) }
            p { (limits.join(", ")) }
        }
        p.hint { (say(Word::NetworkUntil, lang)) " " (opened.until.format("%Y-%m-%d %H:%M UTC")) " (" (left_in_words(opened.left, lang)) ")" }
        nav.ways {
            a.button href="/.passeur/sign-out" { (say(Word::SignOut, lang)) }
            @if matches!(opened.machine, Machine::On(_)) {
                a href="/.passeur/extend" { (say(Word::NetworkExtend, lang)) }
            }
        }
        @if matches!(opened.machine, Machine::On(_)) { p.hint { (say(Word::NetworkExtendHow, lang)) } }
    };
    Page { status: StatusCode::OK, markup: page(&site.name, lang, &gate.title, mood, content) }
}

/// A span in hours and minutes.
fn left_in_words(left: Duration, lang: Lang) -> String {
    let (hours, minutes) = (left.num_hours(), left.num_minutes() % 60);
    match (hours, minutes) {
        (..=0, ..=0) if lang == Lang::Fr => "moins d'une minute".to_owned(),
        (..=0, ..=0) => "less than a minute".to_owned(),
        (..=0, m) => format!("{m} min"),
        (h, m) => format!("{h} h {m:02} min"),
    }
}

/// What is said of the machine itself.
fn standing(machine: &Machine, gate_has_profiles: bool, lang: Lang) -> Markup {
    let words = match machine {
        Machine::Unguarded => Word::NetworkUnguarded,
        Machine::Elsewhere | Machine::Terms => Word::NetworkElsewhere,
        Machine::On(_) => Word::NetworkOn,
        Machine::Tunnels(on) if on.is_empty() => Word::TunnelNone,
        Machine::Tunnels(_) => Word::TunnelsOn,
        Machine::Unseen => Word::NetworkUnseen,
        Machine::Full(_) => Word::NetworkFull,
        Machine::QuotaUsed => Word::NetworkQuotaUsed,
        Machine::Shut => Word::NetworkShut,
    };
    html! {
        @match machine {
            Machine::On(_) => p.lead role="status" { strong { (say(words, lang)) } },
            _ => blockquote role="status" { (say(words, lang)) },
        }
        @match machine {
            Machine::On(on) => {
                // Text beside a link, so that nobody takes the page's word for what the address holds.
                @if let Some(wanted) = &on.wanted {
                    p { (say(Word::NetworkGoOn, lang)) " " a href=(wanted) rel="noreferrer" { (shorten(wanted, 80)) } }
                }
                p.hint {
                    (say(Word::NetworkMachine, lang)) ": " code { (on.named) } " · "
                    (say(Word::NetworkPassed, lang)) ": " (octets_in_words(on.passed, lang))
                    @if let Some(left) = on.left { " · " (octets_in_words(left, lang)) " " (say(Word::NetworkLeft, lang)) }
                }
            }
            Machine::Tunnels(on) => {
                @if !on.is_empty() { ul { @for m in on { li { (m) } } } }
                @if gate_has_profiles { p { a href="/profile" { (say(Word::TunnelProfiles, lang)) } } }
                form method="post" action="/.passeur/connect-code" {
                    p { (say(Word::TunnelCodeHow, lang)) }
                    button.second type="submit" { (say(Word::TunnelCode, lang)) }
                }
            }
            Machine::Full(machines) => {
                ul { @for m in machines { li { (m) } } }
                p { (say(Word::NetworkFullHow, lang)) }
            }
            _ => {}
        }
    }
}

/// The terms, with one button. The version stands in the form, so that nobody accepts what they did not read; so does the token of the tunnel that
/// waits for them, where one does.
pub fn terms_page(site: &Site, gate: &Gate, lang: Lang, (name, terms): (&str, &TermsOfUse), ask: Option<&str>) -> Page {
    let text = match lang {
        Lang::En => &terms.text,
        Lang::Fr => terms.text_fr.as_ref().unwrap_or(&terms.text),
    };
    let to = format!("/.passeur/accept?version={}", utf8_percent(&terms.version));
    let to = ask.map_or_else(|| to.clone(), |ask| format!("{to}&ask={}", utf8_percent(ask)));
    let content = html! {
        p.lead { (say(Word::SignedInAs, lang)) " " strong { (name) } }
        h2 { (say(Word::NetworkTerms, lang)) }
        @for paragraph in text.split("\n\n").map(str::trim).filter(|p| !p.is_empty()) { p.message { (paragraph) } }
        form method="post" action=(to) {
            button.button type="submit" { (say(if gate.is_vpn() { Word::TermsAccept } else { Word::NetworkAccept }, lang)) }
        }
        nav.ways { a href="/.passeur/sign-out" { (say(Word::SignOut, lang)) } }
    };
    Page { status: StatusCode::OK, markup: page(&site.name, lang, &gate.title, "calm", content) }
}

/// A text as part of a query.
fn utf8_percent(text: &str) -> String {
    url::form_urlencoded::byte_serialize(text.as_bytes()).collect()
}
