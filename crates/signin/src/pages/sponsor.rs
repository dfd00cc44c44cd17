//! The page on which somebody vouches for a guest.

use http::StatusCode;
use maud::html;
use passeur_core::site::{Site, Way, WayKind};
use passeur_core::step::Lang;
use passeur_store::VouchRow;

use super::code::{Asks, sign_in_first, too_many};
use super::words::{Word, say};
use super::{Page, page};

/// What the page says.
pub enum SponsorSaid<'a> {
    Ask {
        code: &'a str,
    },
    NoSuch {
        code: &'a str,
    },
    Confirm {
        code: &'a str,
        row: &'a VouchRow,
        way: &'a Way,
    },
    /// They proved who they are too long ago; where they do it again.
    SignIn {
        again: &'a str,
    },
    Given {
        name: &'a str,
    },
    Denied,
    TooMany,
    MayNot,
}

/// The page on which somebody vouches for a guest.
pub struct SponsorPage<'a> {
    pub site: &'a Site,
    pub lang: Lang,
    /// The sponsor.
    pub who: &'a str,
    pub said: SponsorSaid<'a>,
}

impl SponsorPage<'_> {
    /// The page.
    pub fn page(&self) -> Page {
        let lang = self.lang;
        let asks = Asks {
            lang,
            action: "/.passeur/sponsor",
            field: "code",
            lead: Word::SponsorWords,
            label: Word::SponsorCode,
            no_such: Word::SponsorNoSuch,
            back: Some(("/", Word::ToQuay)),
        };
        let (status, tone, content) = match &self.said {
            SponsorSaid::Ask { code } => asks.form(code),
            SponsorSaid::NoSuch { code } => asks.no_such(code),
            SponsorSaid::SignIn { again } => sign_in_first(lang, again),
            SponsorSaid::Confirm { code, row, way } => (
                StatusCode::OK,
                "calm",
                html! {
                    p.lead { (say(Word::SponsorConfirm, lang)) }
                    dl.facts {
                        dt { (say(Word::SponsorGuest, lang)) } dd { (row.name) }
                        dt { (say(Word::SponsorNote, lang)) } dd { (row.note) }
                        dt { (say(Word::DeviceFrom, lang)) } dd { code { (row.address) } }
                        @if let WayKind::Sponsor(of) = &way.kind { dt { (say(Word::SponsorLasts, lang)) } dd { (of.lasts.num_hours()) " h" } }
                        dt { (say(Word::SignedInAs, lang)) } dd { (self.who) }
                    }
                    p.hint { (say(Word::SponsorMeans, lang)) }
                    form method="post" action="/.passeur/sponsor" {
                        input type="hidden" name="code" value=(code);
                        nav.ways {
                            button type="submit" name="answer" value="yes" { (say(Word::SponsorYes, lang)) }
                            button.small type="submit" name="answer" value="no" { (say(Word::SponsorNo, lang)) }
                        }
                    }
                },
            ),
            SponsorSaid::Given { name } => (
                StatusCode::OK,
                "calm",
                html! { p.lead { strong { (name) } " " (say(Word::SponsorGiven, lang)) } nav.ways { a href="/" { (say(Word::ToQuay, lang)) } } },
            ),
            SponsorSaid::Denied => (StatusCode::OK, "stop", html! { p.lead { (say(Word::SponsorDenied, lang)) } }),
            SponsorSaid::TooMany => too_many(lang),
            SponsorSaid::MayNot => (StatusCode::FORBIDDEN, "stop", html! { p.lead { (say(Word::SponsorMayNot, lang)) } }),
        };
        Page { status, markup: page(&self.site.name, lang, say(Word::SponsorTitle, lang), tone, content) }
    }
}
