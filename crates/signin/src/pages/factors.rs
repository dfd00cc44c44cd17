//! Pages for factors of our own: the form on which one is proven, and the page on which they are enrolled and removed.

use axum::response::{IntoResponse, Response};
use http::{HeaderValue, StatusCode, header};
use maud::{Markup, PreEscaped, html};
use passeur_core::site::{OwnFactors, Site};
use passeur_core::step::{Lang, reason_text};
use passeur_store::FactorRow;

use super::sign_in::Said;
use super::words::{Word, say};
use super::{POLICY, Page, page};
use crate::factors::{Kind, More, NotNow};

/// Lets a page run the script that passkeys need, and nothing else.
pub fn with_passkeys(page: Page) -> Response {
    let mut response = page.into_response();
    let policy = format!("{POLICY}; script-src 'self'; connect-src 'self'");
    if let Ok(value) = HeaderValue::from_str(&policy) {
        response.headers_mut().insert(header::CONTENT_SECURITY_POLICY, value);
    }
    response
}

/// A form that asks the browser for a passkey before it is sent.
pub fn passkey_form(lang: Lang, what: &str, action: &str, inner: Markup, button: Word) -> Markup {
    html! {
        form method="post" action=(action) data-passkey=(what) {
            (inner)
            input type="hidden" name="ceremony" value="";
            input type="hidden" name="credential" value="";
            blockquote role="alert" hidden { (say(Word::PasskeyFailed, lang)) }
            nav.ways { button type="submit" { (say(button, lang)) } }
        }
    }
}

/// What a page with passkeys loads.
pub fn passkey_script() -> Markup {
    html! { script src="/.passeur/passkey.js" defer {} }
}

/// The form on which a factor is proven.
pub struct FactorForm<'a> {
    pub site: &'a Site,
    pub lang: Lang,
    pub place: &'a str,
    pub flow: &'a str,
    pub kinds: &'a [Kind],
    pub said: Said<'a>,
    /// What a server for codes asks for besides.
    pub more: Option<&'a More>,
}

impl FactorForm<'_> {
    /// Over the field: the kinds of codes that will do there.
    fn label(&self) -> String {
        if self.more.is_some() {
            return say(Word::YourAnswer, self.lang).to_owned();
        }
        let outside = self.site.factors.as_ref().and_then(|f| f.outside.as_ref()).map(|o| o.title.clone());
        let own = |word| say(word, self.lang).to_owned();
        let all = [
            (Kind::Totp, Some(own(Word::AuthenticatorCode))),
            (Kind::Outside, outside),
            (
                Kind::Recovery,
                (!self.kinds.iter().any(|k| matches!(k, Kind::Totp | Kind::Outside))).then(|| own(Word::RecoveryCode)),
            ),
        ];
        let of = all.into_iter().filter(|(kind, _)| self.kinds.contains(kind)).filter_map(|(_, words)| words);
        let joined = of.collect::<Vec<_>>().join(" / ");
        let mut letters = joined.chars();
        letters.next().map(|first| first.to_uppercase().chain(letters).collect()).unwrap_or_default()
    }

    /// The page.
    pub fn page(&self) -> Response {
        let lang = self.lang;
        let codes = self.kinds.iter().any(|k| *k != Kind::Passkey);
        let only_recovery = !self.kinds.iter().any(|k| matches!(k, Kind::Totp | Kind::Outside));
        let flow = html! {
            input type="hidden" name="flow" value=(self.flow);
            @if let Some(more) = self.more { input type="hidden" name="outside" value=(more.sealed); }
        };
        let content = html! {
            p.lead { (say(Word::FactorFor, lang)) " " strong { (self.place) } }
            @match &self.said {
                Said::Wrong { id } => {
                    blockquote role="alert" { (say(Word::WrongFactor, lang)) " " span.hint { (say(Word::Crossing, lang)) " " code.id { (id) } } }
                }
                Said::TwoCodes { wrong } => {
                    blockquote role="alert" {
                        @if let Some(id) = wrong { (say(Word::WrongFactor, lang)) " " span.hint { (say(Word::Crossing, lang)) " " code.id { (id) } } " " }
                        (say(Word::TwoCodes, lang))
                    }
                }
                Said::Wait { minutes } => { blockquote role="alert" { (say(Word::TooManyTries, lang)) " " (minutes) " min." } }
                Said::NotNow { id } => {
                    blockquote role="alert" { (say(Word::NotNow, lang)) ". " span.hint { (say(Word::Crossing, lang)) " " code.id { (id) } } }
                }
                _ => {}
            }
            @if let Some(more) = self.more { p role="status" { strong { (more.words) } } }
            @if self.kinds.contains(&Kind::Passkey) {
                (passkey_form(lang, "prove", "/.passeur/factor", flow.clone(), Word::UsePasskey))
                (passkey_script())
            }
            @if codes {
                form method="post" action="/.passeur/factor" {
                    (flow)
                    label {
                        (self.label())
                        input name="code" autocomplete="one-time-code" required maxlength="120" autofocus;
                    }
                    @if self.kinds.contains(&Kind::Recovery) && !only_recovery { p.hint { (say(Word::OrRecovery, lang)) } }
                    nav.ways { button type="submit" { (say(Word::GoOn, lang)) } }
                }
            }
            nav.ways { a href=(self.site.address.at("/")) { (say(Word::ToQuay, lang)) } }
        };
        let (status, tone) = match self.said {
            Said::Wrong { .. } | Said::TwoCodes { wrong: Some(_) } => (StatusCode::FORBIDDEN, "stop"),
            Said::Wait { .. } => (StatusCode::TOO_MANY_REQUESTS, "stop"),
            Said::NotNow { .. } => (StatusCode::BAD_GATEWAY, "stop"),
            _ => (StatusCode::OK, "calm"),
        };
        with_passkeys(Page { status, markup: page(&self.site.name, lang, say(Word::FactorTitle, lang), tone, content) })
    }
}

/// What the page of factors shows beside the list.
pub enum Shown<'a> {
    Nothing,
    /// A secret to scan, or to type.
    Secret {
        svg: &'a str,
        text: &'a str,
        sealed: &'a str,
        wrong: bool,
    },
    /// Recovery codes, this once.
    Recovery(&'a [String]),
    NotEnrolled,
    TooMany,
}

/// Factors of somebody, with what they may do about them.
pub struct FactorsPage<'a> {
    pub site: &'a Site,
    pub lang: Lang,
    pub own: &'a OwnFactors,
    pub rows: &'a [FactorRow],
    pub recovery: i64,
    pub may: Result<(), NotNow>,
    pub shown: Shown<'a>,
}

impl FactorsPage<'_> {
    /// The page.
    pub fn page(&self, status: StatusCode) -> Response {
        let lang = self.lang;
        let content = html! {
            p.lead { (say(Word::FactorsWords, lang)) }
            (self.shown())
            @if self.rows.is_empty() { p { (say(Word::NoFactors, lang)) } } @else { (self.list()) }
            @match self.may {
                Ok(()) => { (self.enrol()) }
                Err(NotNow::SignIn) => { p { (say(Word::SignInAgainFirst, lang)) } nav.ways { a.button href="/.passeur/sign-in?for=factors" { (say(Word::SignInNow, lang)) } } }
                Err(NotNow::Prove) => { p { (say(Word::ProveFirst, lang)) } nav.ways { a.button href="/.passeur/factors?prove=1" { (say(Word::GoOn, lang)) } } }
                Err(NotNow::Network) => { p { (say(Word::NotFromHere, lang)) } }
            }
            nav.ways { a href=(self.site.address.at("/")) { (say(Word::ToQuay, lang)) } }
        };
        let tone = if status.is_success() { "calm" } else { "stop" };
        with_passkeys(Page { status, markup: page(&self.site.name, lang, say(Word::FactorsTitle, lang), tone, content) })
    }

    fn shown(&self) -> Markup {
        let lang = self.lang;
        html! {
            @match &self.shown {
                Shown::Nothing => {}
                Shown::NotEnrolled => { blockquote role="alert" { (say(Word::PasskeyFailed, lang)) } }
                Shown::TooMany => { blockquote role="alert" { (say(Word::TooManyFactors, lang)) } }
                Shown::Recovery(codes) => {
                    h2 { (say(Word::RecoveryTitle, lang)) }
                    p { (say(Word::RecoveryWords, lang)) }
                    ul.codes { @for c in *codes { li { code { (c) } } } }
                }
                Shown::Secret { svg, text, sealed, wrong } => {
                    h2 { (say(Word::ScanTitle, lang)) }
                    @if *wrong { blockquote role="alert" { (say(Word::WrongFactor, lang)) } }
                    p { (say(Word::ScanWords, lang)) }
                    figure.qr aria-hidden="true" { (PreEscaped(*svg)) }
                    p.hint { (say(Word::OrType, lang)) " " code.id { (text) } }
                    form method="post" action="/.passeur/factors" {
                        input type="hidden" name="what" value="totp-code";
                        input type="hidden" name="secret" value=(sealed);
                        label { (say(Word::FactorName, lang)) input name="name" maxlength="60" placeholder=(say(Word::FactorNameExample, lang)); }
                        label { (say(Word::AuthenticatorCode, lang)) input name="code" inputmode="numeric" autocomplete="one-time-code" required maxlength="12" autofocus; }
                        nav.ways { button type="submit" { (say(Word::Enrol, lang)) } }
                    }
                }
            }
        }
    }

    fn list(&self) -> Markup {
        let lang = self.lang;
        let day = |t: passeur_core::Moment| t.format("%Y-%m-%d").to_string();
        html! {
            ul.gates {
                @for r in self.rows {
                    li {
                        span { strong { (r.name) } " " span.hint { (reason_text(&r.kind, lang).unwrap_or_default()) ", " (say(Word::Since, lang)) " " (day(r.created_at)) } }
                        @if self.may.is_ok() {
                            form method="post" action="/.passeur/factors" {
                                input type="hidden" name="what" value="remove";
                                input type="hidden" name="id" value=(r.id);
                                button.small type="submit" aria-label=(format!("{} {}", say(Word::Remove, lang), r.name)) { (say(Word::Remove, lang)) }
                            }
                        }
                    }
                }
            }
            p.hint { (say(Word::RecoveryLeft, lang)) " " (self.recovery) }
        }
    }

    fn enrol(&self) -> Markup {
        let lang = self.lang;
        html! {
            @if self.own.passkeys {
                h2 { (say(Word::NewPasskey, lang)) }
                @let name = html! {
                    input type="hidden" name="what" value="passkey";
                    label { (say(Word::FactorName, lang)) input name="name" maxlength="60" placeholder=(say(Word::FactorNameExample, lang)); }
                };
                (passkey_form(lang, "enrol", "/.passeur/factors", name, Word::Enrol))
                (passkey_script())
            }
            nav.ways {
                @if self.own.totp { form method="post" action="/.passeur/factors" { input type="hidden" name="what" value="totp"; button type="submit" { (say(Word::NewTotp, lang)) } } }
                @if !self.rows.is_empty() { form method="post" action="/.passeur/factors" { input type="hidden" name="what" value="recovery"; button type="submit" { (say(Word::NewRecovery, lang)) } } }
            }
        }
    }
}
