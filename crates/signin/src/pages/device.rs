//! The page on which an engineer lets a command line in.

use http::StatusCode;
use maud::html;
use passeur_core::role::Role;
use passeur_core::site::Site;
use passeur_core::step::Lang;
use passeur_store::DeviceRow;

use super::code::{Asks, sign_in_first, too_many};
use super::words::{Word, say};
use super::{Page, page};

/// What the page says.
pub enum DeviceSaid<'a> {
    Ask {
        code: &'a str,
    },
    NoSuch {
        code: &'a str,
    },
    Confirm {
        code: &'a str,
        row: &'a DeviceRow,
    },
    /// They proved who they are too long ago; where they do it again.
    SignIn {
        again: &'a str,
    },
    LetIn,
    Denied,
    TooMany,
    NoEngineer,
}

/// The page on which an engineer lets a command line in.
pub struct DevicePage<'a> {
    pub site: &'a Site,
    pub lang: Lang,
    pub who: &'a str,
    /// How far the engineer may go.
    pub role: Option<Role>,
    pub said: DeviceSaid<'a>,
}

impl DevicePage<'_> {
    /// The page.
    pub fn page(&self) -> Page {
        let lang = self.lang;
        let asks = Asks {
            lang,
            action: "/.passeur/device",
            field: "user_code",
            lead: Word::DeviceWords,
            label: Word::DeviceCode,
            no_such: Word::DeviceNoSuch,
            back: None,
        };
        let (status, tone, content) = match &self.said {
            DeviceSaid::Ask { code } => asks.form(code),
            DeviceSaid::NoSuch { code } => asks.no_such(code),
            DeviceSaid::SignIn { again } => sign_in_first(lang, again),
            DeviceSaid::Confirm { code, row } => (
                StatusCode::OK,
                "calm",
                html! {
                    p.lead { (say(Word::DeviceConfirm, lang)) }
                    dl.facts {
                        dt { (say(Word::DeviceFrom, lang)) } dd { code { (row.address) } }
                        dt { (say(Word::DeviceProgram, lang)) } dd { (row.agent) }
                        dt { (say(Word::SignedInAs, lang)) } dd { (self.who) }
                    }
                    form method="post" action="/.passeur/device" {
                        input type="hidden" name="user_code" value=(code);
                        label { (say(Word::DeviceRole, lang))
                            select name="role" {
                                @for r in [Role::View, Role::Operate, Role::Configure] { @if Some(r) <= self.role { option value=(r.word()) { (r.word()) } } }
                            }
                        }
                        nav.ways {
                            button type="submit" name="answer" value="yes" { (say(Word::DeviceYes, lang)) }
                            button.small type="submit" name="answer" value="no" { (say(Word::DeviceNo, lang)) }
                        }
                    }
                },
            ),
            DeviceSaid::LetIn => (StatusCode::OK, "calm", html! { p.lead { (say(Word::DeviceLetIn, lang)) } }),
            DeviceSaid::Denied => (StatusCode::OK, "stop", html! { p.lead { (say(Word::DeviceDenied, lang)) } }),
            DeviceSaid::TooMany => too_many(lang),
            DeviceSaid::NoEngineer => (StatusCode::FORBIDDEN, "stop", html! { p.lead { (say(Word::DeviceNoEngineer, lang)) } }),
        };
        Page { status, markup: page(&self.site.name, lang, say(Word::DeviceTitle, lang), tone, content) }
    }
}
