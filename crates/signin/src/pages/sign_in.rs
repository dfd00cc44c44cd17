//! Pages on which people choose how to sign in, and forms of ways in of our own.

use axum::response::Response;
use http::StatusCode;
use maud::{Markup, html};
use passeur_core::id::CrossingId;
use passeur_core::site::{Site, Way};
use passeur_core::step::Lang;

use super::factors::{passkey_form, passkey_script, with_passkeys};
use super::words::{Word, say};
use super::{Page, page};
use passeur_engine::short_code;

/// A way in to choose: its title and the address that leads there.
pub struct Choice {
    pub title: String,
    pub address: String,
}

/// Asks how somebody wants to sign in.
/// `elsewhere` is where those ways go on that do not work in this browser.
pub fn choose(site: &Site, lang: Lang, place: &str, choices: &[Choice], elsewhere: Option<&str>) -> Page {
    let content = html! {
        p.lead { (say(Word::ChooseFor, lang)) " " strong { (place) } }
        ul.choices { @for c in choices { li { a href=(c.address) { (c.title) } } } }
        @if let Some(address) = elsewhere {
            p.hint { (say(Word::MoreInRealBrowser, lang)) " " code { (address) } }
        }
    };
    Page { status: StatusCode::OK, markup: page(&site.name, lang, say(Word::ChooseTitle, lang), "calm", content) }
}

/// What somebody is told whose way in does not work in the small browser of their system.
pub struct RealBrowser<'a> {
    pub place: &'a str,
    /// The way in, by its title.
    pub way: &'a str,
    /// What they open instead.
    pub address: &'a str,
}

/// Tells somebody to open a real browser, with the ways in that work here.
pub fn real_browser(site: &Site, lang: Lang, of: &RealBrowser<'_>, others: &[Choice]) -> Page {
    let content = html! {
        p.lead { (say(Word::ChooseFor, lang)) " " strong { (of.place) } }
        p { (say(Word::RealBrowserWhy, lang)) " " strong { (of.way) } "." }
        p { (say(Word::RealBrowserHow, lang)) }
        p.lead { code { (of.address) } }
        @if !others.is_empty() {
            h2 { (say(Word::RealBrowserOthers, lang)) }
            ul.choices { @for c in others { li { a href=(c.address) { (c.title) } } } }
        }
    };
    Page { status: StatusCode::OK, markup: page(&site.name, lang, say(Word::RealBrowserTitle, lang), "stop", content) }
}

/// Asks for a user name, which decides where somebody signs in.
pub fn ask_name(site: &Site, lang: Lang, place: &str, flow: &str, another: &str) -> Page {
    let content = html! {
        p.lead { (say(Word::NameFor, lang)) " " strong { (place) } }
        form method="post" action="/.passeur/name" {
            input type="hidden" name="flow" value=(flow);
            label {
                (say(Word::UserName, lang))
                input name="name" autocomplete="username" autocapitalize="none" spellcheck="false" required maxlength="256" autofocus;
            }
            nav.ways {
                button type="submit" { (say(Word::GoOn, lang)) }
                a href=(another) { (say(Word::AnotherWay, lang)) }
            }
        }
    };
    Page { status: StatusCode::OK, markup: page(&site.name, lang, say(Word::SignInTitle, lang), "calm", content) }
}

/// What a form of ours says above its fields.
pub enum Said<'a> {
    Nothing,
    /// What was entered is not right, whatever of it.
    Wrong {
        id: CrossingId,
    },
    /// Somebody guesses at the codes of the authenticator: two in a row are wanted; what was typed was wrong.
    TwoCodes {
        wrong: Option<CrossingId>,
    },
    /// Too many tries.
    Wait {
        minutes: i64,
    },
    /// The source does not answer.
    NotNow {
        id: CrossingId,
    },
    /// A code is on its way to this address, if it may come in.
    Sent {
        mail: &'a str,
    },
    /// The browser is asked for a ticket; who reads this has none.
    NoTicket,
}

/// What a page about a ticket offers.
pub struct TicketPage<'a> {
    /// Where the machine's ticket is taken, where that is for the person to say.
    pub take: Option<&'a str>,
    /// Where somebody without a ticket goes on to.
    pub on: Option<&'a str>,
    /// Whether a name and password may stand for one.
    pub password: bool,
}

/// What every form of a way in of ours holds.
pub struct Form<'a> {
    pub site: &'a Site,
    pub lang: Lang,
    pub way: &'a Way,
    /// Where it leads, as the person knows it.
    pub place: &'a str,
    /// The flow, sealed.
    pub flow: &'a str,
    /// Where another way in is chosen, where there is one.
    pub another: Option<&'a str>,
    pub said: Said<'a>,
}

impl Form<'_> {
    fn status(&self) -> StatusCode {
        match self.said {
            Said::Nothing | Said::Sent { .. } => StatusCode::OK,
            Said::Wrong { .. } => StatusCode::FORBIDDEN,
            Said::TwoCodes { .. } => StatusCode::OK,
            Said::Wait { .. } => StatusCode::TOO_MANY_REQUESTS,
            Said::NotNow { .. } => StatusCode::BAD_GATEWAY,
            Said::NoTicket => StatusCode::UNAUTHORIZED,
        }
    }

    fn message(&self, wrong: Word) -> Markup {
        let lang = self.lang;
        html! {
            @match &self.said {
                Said::Nothing => {}
                Said::Wrong { id } => {
                    blockquote role="alert" { (say(wrong, lang)) " " span.hint { (say(Word::Crossing, lang)) " " code.id { (id) } } }
                }
                Said::TwoCodes { .. } => {}
                Said::Wait { minutes } => { blockquote role="alert" { (say(Word::TooManyTries, lang)) " " (minutes) " min." } }
                Said::NotNow { id } => {
                    blockquote role="alert" { (say(Word::NotNow, lang)) ". " span.hint { (say(Word::Crossing, lang)) " " code.id { (id) } } }
                }
                Said::NoTicket => { p role="status" { (say(Word::NoTicket, lang)) } }
                Said::Sent { mail } => { p role="status" { (say(Word::CodeSent, lang)) " " strong { (mail) } } }
            }
        }
    }

    /// The page, with fields between what is said and the button.
    fn around(&self, wrong: Word, fields: Markup, button: Word) -> Page {
        let lang = self.lang;
        let content = html! {
            p.lead { (self.way.title) ", " (self.place) }
            (self.message(wrong))
            form method="post" action=(format!("/.passeur/way/{}", self.way.name)) {
                input type="hidden" name="flow" value=(self.flow);
                (fields)
                nav.ways {
                    button type="submit" { (say(button, lang)) }
                    @if let Some(a) = self.another { a href=(a) { (say(Word::AnotherWay, lang)) } }
                }
            }
        };
        Page { status: self.status(), markup: page(&self.site.name, lang, say(Word::SignInTitle, lang), self.tone(), content) }
    }

    fn tone(&self) -> &'static str {
        if matches!(self.status(), StatusCode::OK | StatusCode::UNAUTHORIZED) { "calm" } else { "stop" }
    }

    /// The ticket of the person's machine, and what stands for one.
    pub fn ticket(&self, offer: &TicketPage<'_>) -> Page {
        let lang = self.lang;
        let take = html! {
            @if let Some(take) = offer.take {
                p { (say(Word::TicketHere, lang)) }
                nav.ways { a.button href=(take) { (say(Word::TakeTicket, lang)) } }
                @if offer.password { p.lead { (say(Word::OrByName, lang)) } }
            }
        };
        if offer.password {
            return self.around(Word::EmergencyWrong, html! { (take) (self.name_and_password("")) }, Word::SignInNow);
        }
        let nothing_else = offer.on.is_none() && offer.take.is_none() && self.another.is_none();
        let content = html! {
            p.lead { (self.way.title) ", " (self.place) }
            (self.message(Word::EmergencyWrong))
            (take)
            @if nothing_else { p { (say(Word::NoOtherWay, lang)) } }
            nav.ways {
                @if let Some(on) = offer.on { a.button href=(on) { (say(Word::GoOn, lang)) } }
                @if let Some(a) = self.another { a href=(a) { (say(Word::SomeoneElse, lang)) } }
            }
        };
        let (name, title) = (&self.site.name, say(Word::SignInTitle, lang));
        let markup = match offer.on {
            Some(on) => super::layout::page_that_goes_on(name, lang, title, on, content),
            None => page(name, lang, title, self.tone(), content),
        };
        Page { status: self.status(), markup }
    }

    fn name_and_password(&self, name: &str) -> Markup {
        let lang = self.lang;
        html! {
            label { (say(Word::UserName, lang)) input name="name" value=(name) autocomplete="username" autocapitalize="none" spellcheck="false" required maxlength="256" autofocus[name.is_empty()]; }
            label { (say(Word::EmergencyPassword, lang)) input type="password" name="password" autocomplete="current-password" required maxlength="1024" autofocus[!name.is_empty()]; }
        }
    }

    /// Name and password.
    pub fn password(&self, name: &str) -> Page {
        self.around(Word::EmergencyWrong, self.name_and_password(name), Word::SignInNow)
    }

    /// The address a code is sent to.
    pub fn mail(&self, mail: &str) -> Page {
        let lang = self.lang;
        let fields = html! {
            label { (say(Word::MailAddress, lang)) input type="email" name="mail" value=(mail) autocomplete="email" required maxlength="254" autofocus; }
        };
        self.around(Word::NoMailAddress, fields, Word::SendCode)
    }

    /// What a guest says of themselves.
    pub fn guest(&self, name: &str, note: &str) -> Page {
        let lang = self.lang;
        let fields = html! {
            p.hint { (say(Word::GuestHow, lang)) }
            label { (say(Word::GuestName, lang)) input name="name" value=(name) autocomplete="name" required maxlength="60" autofocus; }
            label { (say(Word::GuestNote, lang)) input name="note" value=(note) autocomplete="off" required maxlength="120"; }
        };
        self.around(Word::GuestMissing, fields, Word::GoOn)
    }

    /// The code that a guest shows to whoever vouches for them. `asked` says that nobody has yet.
    pub fn guest_waits(&self, code: &str, quay: &str, asked: bool) -> Page {
        let lang = self.lang;
        let fields = html! {
            input type="hidden" name="code" value=(code);
            @if !code.is_empty() {
                p { (say(Word::GuestShow, lang)) }
                p.lead.read-out { code.id { (short_code::shown(code)) } }
            }
            p.hint { (say(Word::GuestSponsorGoes, lang)) " " code { (quay) } }
            @if asked { p role="status" { (say(Word::GuestNotYet, lang)) } }
        };
        self.around(Word::GuestMissing, fields, Word::GuestGoOn)
    }

    /// A passkey that the browser finds.
    pub fn passkey(&self) -> Response {
        let lang = self.lang;
        let flow = html! { input type="hidden" name="flow" value=(self.flow); };
        let content = html! {
            p.lead { (self.way.title) ", " (self.place) }
            (self.message(Word::PasskeyRefused))
            (passkey_form(lang, "come", &format!("/.passeur/way/{}", self.way.name), flow, Word::UsePasskey))
            @if let Some(a) = self.another { nav.ways { a href=(a) { (say(Word::AnotherWay, lang)) } } }
            (passkey_script())
        };
        with_passkeys(Page {
            status: self.status(),
            markup: page(&self.site.name, lang, say(Word::SignInTitle, lang), self.tone(), content),
        })
    }

    /// The code that was sent: digits, or more and of letters where somebody guesses.
    pub fn code(&self, long: bool) -> Page {
        let lang = self.lang;
        let (word, mode, pattern) =
            if long { (Word::LongCode, "text", "[A-Za-z \\-]*") } else { (Word::SixDigits, "numeric", "[0-9 ]*") };
        let fields = html! {
            label { (say(word, lang)) input name="code" inputmode=(mode) autocomplete="one-time-code" pattern=(pattern) required maxlength="16" autofocus; }
        };
        self.around(Word::WrongCode, fields, Word::SignInNow)
    }
}

/// Goes on by itself: what a form answered with. A redirect would be bound by the form's own policy, all the way to wherever
/// the application sends people.
pub fn go_on(site: &Site, lang: Lang, lead: Word, to: &str) -> Markup {
    let content = html! {
        p.lead { (say(lead, lang)) }
        nav.ways { a.button href=(to) { (say(Word::GoOn, lang)) } }
    };
    super::layout::page_that_goes_on(&site.name, lang, say(Word::GoingOnTitle, lang), to, content)
}
