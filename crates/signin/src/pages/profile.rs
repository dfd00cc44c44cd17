//! The page of somebody's personal profiles at a gate of kind `vpn`: the key is made by a script, in the browser of the machine that it is for.

use axum::response::{IntoResponse, Response};
use http::{HeaderValue, StatusCode, header};
use maud::{Markup, html};
use passeur_core::Moment;
use passeur_core::site::{Gate, Site, Zone};
use passeur_core::step::Lang;
use passeur_store::ProfileRow;

use super::words::{Both, Word, in_lang as t, say};
use super::{POLICY, Page, page};

/// What the page needs of the browser.
pub const SCRIPT: &str = include_str!("profile.js");

/// What somebody sees of their profiles.
pub struct Profiles<'a> {
    pub who: &'a str,
    pub all: &'a [ProfileRow],
    pub entrances: &'a [&'a Zone],
    /// What the key that is made signs.
    pub challenge: &'a str,
    /// Whether their proof is fresh enough to make one.
    pub is_fresh: bool,
    pub now: Moment,
}

const TITLE: Both = ["Personal profiles", "Profils personnels"];
const WHAT: Both = [
    "A profile is a file for one machine of yours, with a key of its own that is made in this browser. Make it on the machine that it is for, give it to that machine's client, and to nobody.",
    "Un profil est un fichier pour une seule de vos machines, avec une clé à elle, fabriquée dans ce navigateur. Créez-le sur la machine concernée, donnez-le à son client, et à personne d'autre.",
];
const NONE: Both = ["You have none yet.", "Vous n'en avez pas encore."];
const UNTIL: Both = ["good until", "valable jusqu'au"];
const USED: Both = ["used last on", "utilisé le"];
const UNUSED: Both = ["not used yet", "pas encore utilisé"];
const REVOKED: Both = ["revoked on", "révoqué le"];
const OVER: Both = ["its time is over", "périmé"];
const REVOKE: Both = ["Revoke", "Révoquer"];
const DEVICE: Both = ["What you call this machine", "Nom que vous donnez à cette machine"];
const ENTRANCE: Both = ["Entrance", "Entrée"];
const MAKE: Both = ["Make a profile for this machine", "Créer un profil pour cette machine"];
const FAILED: Both = [
    "No profile was made. Load this page again and try once more.",
    "Aucun profil n'a été créé. Rechargez cette page et réessayez.",
];
const DONE: Both = ["Here it is. It is kept nowhere else:", "Le voici. Il n'est conservé nulle part ailleurs :"];
const SCRIPTLESS: Both = ["This needs a browser that runs scripts.", "Il faut un navigateur qui exécute les scripts."];
const FRESH: Both = [
    "To make one, prove once more who you are. Then come back here.",
    "Pour en créer un, prouvez encore une fois qui vous êtes. Puis revenez ici.",
];

/// The page.
pub fn profiles(site: &Site, gate: &Gate, lang: Lang, of: &Profiles<'_>) -> Response {
    let day = |at: Moment| at.format("%Y-%m-%d").to_string();
    let state = |p: &ProfileRow| match p.revoked_at {
        Some(at) => format!("{} {}", t(REVOKED, lang), day(at)),
        None if p.expires_at <= of.now => t(OVER, lang).to_owned(),
        None => {
            let used = p.used_at.map_or_else(|| t(UNUSED, lang).to_owned(), |at| format!("{} {}", t(USED, lang), day(at)));
            format!("{} {}, {used}", t(UNTIL, lang), day(p.expires_at))
        }
    };
    let content = html! {
        p.lead { (say(Word::SignedInAs, lang)) " " strong { (of.who) } }
        h2 { (t(TITLE, lang)) }
        p { (t(WHAT, lang)) }
        @if of.all.is_empty() { p { (t(NONE, lang)) } } @else {
            ul.gates {
                @for p in of.all {
                    li {
                        strong { (p.device) } span.hint { (state(p)) }
                        @if p.is_good(of.now) {
                            form method="post" action={ "/.passeur/profile-revoke?id=" (p.id) } { button.small type="submit" { (t(REVOKE, lang)) } }
                        }
                    }
                }
            }
        }
        @if of.is_fresh { (form(of, lang)) } @else {
            p { (t(FRESH, lang)) }
            p { a.button href="/.passeur/extend" { (say(Word::SignInNow, lang)) } }
        }
        nav.ways { a href="/" { (gate.title) } }
    };
    let page = Page { status: StatusCode::OK, markup: page(&site.name, lang, &gate.title, "calm", content) };
    let mut response = page.into_response();
    // The file is made in the browser; nothing is loaded from elsewhere.
    let policy = format!("{POLICY}; script-src 'self'; connect-src 'self'");
    if let Ok(value) = HeaderValue::from_str(&policy) {
        response.headers_mut().insert(header::CONTENT_SECURITY_POLICY, value);
    }
    response
}

fn form(of: &Profiles<'_>, lang: Lang) -> Markup {
    html! {
        section {
            form data-challenge=(of.challenge) {
                label { (t(DEVICE, lang)) input name="device" required maxlength="40" autocomplete="off"; }
                label { (t(ENTRANCE, lang)) select name="entrance" { @for z in of.entrances { option value=(z.name) { (z.title) } } } }
                blockquote role="alert" hidden { (t(FAILED, lang)) }
                p { button type="submit" { (t(MAKE, lang)) } }
            }
            p.message role="status" data-done hidden { (t(DONE, lang)) }
            noscript { p { (t(SCRIPTLESS, lang)) } }
            script src="/.passeur/profile.js" defer {}
        }
    }
}
