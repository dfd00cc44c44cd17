//! The page of a network gate, for somebody who is signed in: small, and readable without script.

use http::StatusCode;
use maud::html;
use passeur_core::Moment;
use passeur_core::decide::Terms;
use passeur_core::site::{Gate, Site};
use passeur_core::step::Lang;

use super::words::{Word, say};
use super::{Page, page};

/// What somebody sees at a network gate.
pub struct Opened<'a> {
    pub name: &'a str,
    /// What the rules give.
    pub terms: &'a Terms,
    /// When the session ends at the latest.
    pub until: Moment,
}

/// The page.
pub fn network(site: &Site, gate: &Gate, lang: Lang, opened: &Opened<'_>) -> Page {
    let reaches: Vec<_> = opened.terms.opens.iter().filter_map(|o| site.reach(&o.reach)).collect();
    let limits = opened.terms.words(lang).split_off(opened.terms.messages.len());
    let content = html! {
        p.lead { (say(Word::SignedInAs, lang)) " " strong { (opened.name) } }
        // No node guards a zone yet; the page says so until one does.
        blockquote role="status" { (say(Word::NetworkUnguarded, lang)) }
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
        p.hint { (say(Word::NetworkUntil, lang)) " " (opened.until.format("%Y-%m-%d %H:%M UTC")) }
        nav.ways { a.button href="/.passeur/sign-out" { (say(Word::SignOut, lang)) } }
    };
    Page { status: StatusCode::OK, markup: page(&site.name, lang, &gate.title, "calm", content) }
}
