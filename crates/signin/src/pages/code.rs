//! What the pages have in common on which somebody types a code that another shows.

use http::StatusCode;
use maud::{Markup, html};
use passeur_core::step::Lang;

use super::words::{Word, say};

/// Status and mood of a page, with what stands on it.
pub(super) type Part = (StatusCode, &'static str, Markup);

/// Where a code is typed.
pub(super) struct Asks<'a> {
    pub lang: Lang,
    /// The form's address, and the name of its field.
    pub action: &'a str,
    pub field: &'a str,
    pub lead: Word,
    pub label: Word,
    pub no_such: Word,
    /// Where to go instead.
    pub back: Option<(&'a str, Word)>,
}

impl Asks<'_> {
    /// The form.
    pub fn form(&self, code: &str) -> Part {
        (StatusCode::OK, "calm", self.fields(code))
    }

    /// The form again: nobody waits with that code.
    pub fn no_such(&self, code: &str) -> Part {
        let content = html! { blockquote role="alert" { (say(self.no_such, self.lang)) } (self.fields(code)) };
        (StatusCode::NOT_FOUND, "stop", content)
    }

    fn fields(&self, code: &str) -> Markup {
        let lang = self.lang;
        html! {
            p.lead { (say(self.lead, lang)) }
            form method="post" action=(self.action) {
                label { (say(self.label, lang)) input name=(self.field) value=(code) required maxlength="20" autocomplete="off" autocapitalize="characters" spellcheck="false" autofocus; }
                nav.ways {
                    button type="submit" { (say(Word::GoOn, lang)) }
                    @if let Some((to, word)) = self.back { a href=(to) { (say(word, lang)) } }
                }
            }
        }
    }
}

/// They proved who they are too long ago; where they do it again.
pub(super) fn sign_in_first(lang: Lang, again: &str) -> Part {
    let content = html! {
        p.lead { (say(Word::SignInAgainFirst, lang)) }
        nav.ways { a.button href=(again) { (say(Word::SignInNow, lang)) } }
    };
    (StatusCode::FORBIDDEN, "calm", content)
}

/// Too many codes were tried.
pub(super) fn too_many(lang: Lang) -> Part {
    (StatusCode::TOO_MANY_REQUESTS, "stop", html! { p.lead { (say(Word::TooManyTries, lang)) " 15 min." } })
}
