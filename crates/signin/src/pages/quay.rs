//! The quay: what I may open, what is known of me.

use http::StatusCode;
use maud::{Markup, html};
use passeur_core::Moment;
use passeur_core::attribute::Attribute;
use passeur_core::evidence::WayIn;
use passeur_core::identity::Identity;
use passeur_core::site::Site;
use passeur_core::step::{Lang, param_text};
use passeur_store::RoleChange;
use uuid::Uuid;

use super::words::{Word, say};
use super::{Page, page};
use passeur_engine::sessions::Session;

/// A machine that somebody has on at a gate.
pub struct QuayMachine {
    pub id: Uuid,
    /// What its person knows it by.
    pub named: String,
    pub began: Moment,
    /// When it is over at the latest.
    pub until: Option<Moment>,
    pub addresses: Vec<String>,
    /// Whether it came by the session of this browser.
    pub is_of_this: bool,
}

/// A gate on the quay.
pub struct QuayGate {
    pub title: String,
    pub address: String,
    pub open: bool,
    /// Whether tunnels come there.
    pub is_tunnel: bool,
    /// Machines of the person that are on there.
    pub on: Vec<QuayMachine>,
    /// Words that rules have for the person.
    pub messages: Vec<String>,
    pub roles: Vec<String>,
}

/// What somebody who is signed in sees.
pub struct Quay<'a> {
    pub session: &'a Session,
    pub who: &'a Identity,
    pub gates: &'a [QuayGate],
    /// Whether the console is open to them.
    pub console: bool,
    /// Whether they may vouch for guests.
    pub sponsor: bool,
    /// The latest changes of their roles.
    pub changes: &'a [RoleChange],
}

/// The page, for somebody signed in or not.
pub fn quay(site: &Site, lang: Lang, signed_in: Option<&Quay<'_>>) -> Page {
    let content = match signed_in {
        Some(quay) => known(site, lang, quay),
        None => html! {
            p.lead { (say(Word::NotSignedIn, lang)) }
            nav.ways {
                @for p in site.providers.iter().take(1) {
                    a.button href="/.passeur/sign-in?for=quay" { (say(Word::SignIn, lang)) " " (p.title) }
                }
                @if site.providers.len() + site.ways.len() > 1 {
                    a href="/.passeur/sign-in?for=quay&another=1" { (say(Word::AnotherWay, lang)) }
                }
            }
        },
    };
    Page { status: StatusCode::OK, markup: page(&site.name, lang, say(Word::QuayTitle, lang), "calm", content) }
}

fn known(site: &Site, lang: Lang, quay: &Quay<'_>) -> Markup {
    let Quay { session, who, gates, console, sponsor, changes } = *quay;
    let factors = &session.evidence.factors;
    html! {
        p.lead { (say(Word::SignedInAs, lang)) " " strong { (session.row.name) } }
        h2 { (say(Word::MayOpen, lang)) }
        @if gates.is_empty() { p { (say(Word::NothingToOpen, lang)) } } @else {
            ul.gates {
                @for g in gates {
                    li {
                        @if g.open { a href=(g.address) { (g.title) } span.hint { (g.address) } }
                        @else { span.no { (g.title) } span.hint { (say(Word::MayNotOpen, lang)) } }
                        @if !g.roles.is_empty() { span.hint { (say(Word::YourRoles, lang)) " " (g.roles.join(", ")) } }
                        @for m in &g.messages { p.message { (m) } }
                        @if g.open && g.is_tunnel && g.on.is_empty() { span.hint { (say(Word::TunnelNone, lang)) } }
                        @for m in &g.on { (machine(m, lang)) }
                    }
                }
            }
        }
        @if !changes.is_empty() {
            h2 { (say(Word::RolesChanged, lang)) }
            ul.gates {
                @for c in changes {
                    li {
                        (site.gate(&c.gate).map_or(c.gate.as_str(), |g| g.title.as_str())) ": "
                        @for g in &c.gained { "+ " (g) " " }
                        @for l in &c.lost { "− " (l) " " }
                        span.hint { (c.at.format("%Y-%m-%d %H:%M UTC")) ", " (say(Word::Crossing, lang)) " " code { (c.crossing) } }
                    }
                }
            }
        }
        h2 { (say(Word::KnownOfMe, lang)) }
        table {
            @for (i, name) in site.attributes.iter().enumerate() {
                @if let Some(id) = site.attribute(name) {
                    tr { th scope="row" { (site.attributes[i]) } td { (shown(who.attribute(id), lang)) } }
                }
            }
            tr { th scope="row" { (say(Word::Groups, lang)) } td {
                @match who.groups.names() { Ok(n) => (n.join(", ")), Err(a) => span.hint { (param_text(&a.param(), lang)) } }
            } }
            tr { th scope="row" { (say(Word::Factors, lang)) } td { (factors.amr.iter().chain(factors.own.iter().map(|f| &f.amr)).fold(Vec::new(), |mut all: Vec<&str>, m| { if !all.contains(&m.as_str()) { all.push(m) } all }).join(", ")) } }
            tr { th scope="row" { (say(Word::SessionSince, lang)) } td { (session.row.began.format("%Y-%m-%d %H:%M UTC")) } }
        }
        nav.ways {
            @if site.gates.iter().any(|g| g.access.callers.as_ref().is_some_and(|c| c.personal)) { a href="/.passeur/tokens" { (say(Word::TokensTitle, lang)) } }
            @if site.factors.is_some() { a href="/.passeur/factors" { (say(Word::FactorsTitle, lang)) } }
            @if sponsor { a href="/.passeur/sponsor" { (say(Word::SponsorTitle, lang)) } }
            @if console { a.button href="/console/" { (say(Word::Console, lang)) } }
            @if session.evidence.way_in == WayIn::Ticket { a href="/.passeur/sign-in?for=quay&another=1" { (say(Word::SomeoneElse, lang)) } }
            a href="/.passeur/sign-out" { (say(Word::SignOut, lang)) }
        }
    }
}

fn machine(on: &QuayMachine, lang: Lang) -> Markup {
    let at = |t: Moment| t.format("%Y-%m-%d %H:%M UTC").to_string();
    html! {
        div.machine {
            span.hint {
                @if !on.named.is_empty() { strong { (on.named) } ", " }
                (say(Word::OnSince, lang)) " " (at(on.began))
                @if let Some(until) = on.until { ", " (say(Word::OnUntil, lang)) " " (at(until)) }
                @if !on.addresses.is_empty() {
                    ", " (say(Word::OnAddress, lang)) " "
                    @for (n, a) in on.addresses.iter().enumerate() { @if n > 0 { ", " } code { (a) } }
                }
            }
            @if on.is_of_this {
                a href="/.passeur/sign-out" { (say(Word::EndBySigningOut, lang)) }
            } @else {
                form method="post" action="/.passeur/machine-end" {
                    input type="hidden" name="id" value=(on.id);
                    button.second type="submit" { (say(Word::EndMachine, lang)) }
                }
            }
        }
    }
}

fn shown(attribute: &Attribute, lang: Lang) -> Markup {
    match attribute.values() {
        Ok(values) => html! { (values.join(", ")) },
        Err(absence) => html! { span.hint { "— " (param_text(&absence.param(), lang)) } },
    }
}
