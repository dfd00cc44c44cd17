//! The quay: what I may open, what is known of me.

use http::StatusCode;
use maud::{Markup, html};
use passeur_core::attribute::Attribute;
use passeur_core::identity::Identity;
use passeur_core::site::Site;
use passeur_core::step::{Lang, param_text};

use super::words::{Word, say};
use super::{Page, page};
use crate::signin::session::Session;

/// A gate on the quay.
pub struct QuayGate {
    pub title: String,
    pub address: String,
    pub open: bool,
    /// Words that rules have for the person.
    pub messages: Vec<String>,
}

/// The page, for somebody signed in or not.
pub fn quay(site: &Site, lang: Lang, signed_in: Option<(&Session, &Identity, &[QuayGate], bool)>) -> Page {
    let content = match signed_in {
        Some((session, who, gates, console)) => known(site, lang, session, who, gates, console),
        None => html! {
            p.lead { (say(Word::NotSignedIn, lang)) }
            nav.ways {
                @for p in site.providers.iter().take(1) {
                    a.button href="/.passeur/sign-in?for=quay" { (say(Word::SignIn, lang)) " " (p.title) }
                }
            }
        },
    };
    Page { status: StatusCode::OK, markup: page(&site.name, lang, say(Word::QuayTitle, lang), "calm", content) }
}

fn known(site: &Site, lang: Lang, session: &Session, who: &Identity, gates: &[QuayGate], console: bool) -> Markup {
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
                        @for m in &g.messages { p.message { (m) } }
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
            tr { th scope="row" { (say(Word::Factors, lang)) } td { (factors.amr.join(", ")) } }
            tr { th scope="row" { (say(Word::SessionSince, lang)) } td { (session.row.began.format("%Y-%m-%d %H:%M UTC")) } }
        }
        nav.ways {
            @if console { a.button href="/console/" { (say(Word::Console, lang)) } }
            a href="/.passeur/sign-out" { (say(Word::SignOut, lang)) }
        }
    }
}

fn shown(attribute: &Attribute, lang: Lang) -> Markup {
    match attribute.values() {
        Ok(values) => html! { (values.join(", ")) },
        Err(absence) => html! { span.hint { "— " (param_text(&absence.param(), lang)) } },
    }
}
