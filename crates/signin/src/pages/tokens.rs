//! The page of tokens that people make for programs of theirs.

use http::StatusCode;
use maud::html;
use passeur_core::site::{Gate, Site};
use passeur_core::step::Lang;
use passeur_store::PersonalToken;

use super::words::{Word, say};
use super::{Page, page};

/// Tokens of somebody, and what they may make one for.
pub struct TokensPage<'a> {
    pub site: &'a Site,
    pub lang: Lang,
    pub gates: &'a [&'a Gate],
    pub rows: &'a [PersonalToken],
    /// Whether they proved of late who they are: only then one is made.
    pub fresh: bool,
    /// A new one, shown this once.
    pub made: Option<&'a str>,
}

impl TokensPage<'_> {
    /// The page.
    pub fn page(&self, status: StatusCode) -> Page {
        let lang = self.lang;
        let day = |t: passeur_core::Moment| t.format("%Y-%m-%d").to_string();
        let content = html! {
            p.lead { (say(Word::TokensWords, lang)) }
            @if let Some(made) = self.made {
                p role="status" { (say(Word::TokenMade, lang)) }
                pre.token { (made) }
                p.hint { code { "curl -H 'Authorization: Bearer …' " (self.gates.first().map(|g| g.address.at("/")).unwrap_or_default()) } }
            }
            @if !status.is_success() { blockquote role="alert" { (say(Word::TokenNotMade, lang)) } }
            @if self.rows.is_empty() { p { (say(Word::NoTokens, lang)) } } @else {
                ul.gates {
                    @for r in self.rows {
                        li {
                            span {
                                strong { (r.name) } " "
                                span.hint {
                                    (r.gates.join(", ")) @if let Some(p) = &r.paths { " " (p.join(" ")) }
                                    ", " (say(Word::Until, lang)) " " (day(r.expires_at))
                                    @if let Some(used) = r.used_at { ", " (say(Word::UsedLast, lang)) " " (day(used)) }
                                }
                            }
                            form method="post" action="/.passeur/tokens" {
                                input type="hidden" name="revoke" value=(r.id);
                                button.small type="submit" aria-label=(format!("{} {}", say(Word::Revoke, lang), r.name)) { (say(Word::Revoke, lang)) }
                            }
                        }
                    }
                }
            }
            h2 { (say(Word::NewToken, lang)) }
            @if self.gates.is_empty() { p { (say(Word::NoTokenGates, lang)) } } @else if !self.fresh {
                p { (say(Word::SignInAgainFirst, lang)) }
                nav.ways { a.button href="/.passeur/sign-in?for=tokens" { (say(Word::SignInNow, lang)) } }
            } @else {
                form method="post" action="/.passeur/tokens" {
                    label { (say(Word::FactorName, lang)) input name="name" required maxlength="60"; }
                    fieldset {
                        legend { (say(Word::TokenFor, lang)) }
                        @for g in self.gates { label.check { input type="checkbox" name="gate" value=(g.name) checked[self.gates.len() == 1]; " " (g.title) } }
                    }
                    label { (say(Word::TokenPaths, lang)) textarea name="paths" rows="2" placeholder="/received" {} }
                    label { (say(Word::TokenDays, lang)) input type="number" name="days" value="30" min="1" max="365" required; }
                    nav.ways { button type="submit" { (say(Word::MakeToken, lang)) } }
                }
            }
            nav.ways { a href=(self.site.address.at("/")) { (say(Word::ToQuay, lang)) } }
        };
        let tone = if status.is_success() { "calm" } else { "stop" };
        Page { status, markup: page(&self.site.name, lang, say(Word::TokensTitle, lang), tone, content) }
    }
}
