//! The pages on which somebody says that a tunnel is theirs: small, and readable without script. What they are asked is what keeps others from
//! having them sign in for a machine that is not theirs, so that both addresses stand on it.

use http::StatusCode;
use maud::{Markup, html};
use passeur_core::site::{Gate, Site};
use passeur_core::step::Lang;
use passeur_engine::short_code;
use passeur_engine::tunnel::{Outcome, TunnelOf};

use super::words::{Both, Word, in_lang as t, say};
use super::{Page, page};

/// A tunnel that waits for its person.
pub struct Waiting<'a> {
    /// The token of its address.
    pub ask: &'a str,
    pub tunnel: &'a TunnelOf,
    /// What people read of its entrance.
    pub entrance: &'a str,
    /// From where the browser comes.
    pub browser: &'a str,
    /// Whether that is the client's own network.
    pub is_near: bool,
}

/// What the page says.
pub enum TunnelSaid<'a> {
    /// Whether it is theirs.
    Ask(Waiting<'a>),
    /// The entrance takes a browser at the client's own address alone.
    Elsewhere(Waiting<'a>),
    /// No tunnel waits at this address.
    NoSuch,
    /// What came of it.
    Came(&'a Outcome),
    /// Nothing came of it yet.
    StillOpening,
    /// A code to type into a client.
    Code(&'a str),
}

const ASK: Both = [
    "A machine asks for a tunnel. Is it yours, and did you start it just now?",
    "Une machine demande un tunnel. Est-ce la vôtre, et l'avez-vous lancé à l'instant ?",
];
const FAR: Both = [
    "This browser and that machine have different addresses. If somebody sent you here, it is their machine that would come in as you: say no.",
    "Ce navigateur et cette machine ont des adresses différentes. Si quelqu'un vous a envoyé ici, c'est sa machine qui entrerait sous votre nom : dites non.",
];
const ENTRANCE: Both = ["Entrance", "Entrée"];
const CLIENT: Both = ["What the machine says it is", "Ce que la machine dit être"];
const SILENT: Both = ["it says nothing", "elle ne dit rien"];
const FROM: Both = ["It connects from", "Elle se connecte depuis"];
const HERE: Both = ["This browser comes from", "Ce navigateur vient de"];
const YES: Both = ["It is mine: open the tunnel", "C'est la mienne : ouvrir le tunnel"];
const NO: Both = ["It is not mine", "Ce n'est pas la mienne"];
const ELSEWHERE: Both = [
    "This entrance lets a machine in only where its browser comes from the same address, and yours does not. Open the address that the client shows in a browser on the same machine.",
    "Cette entrée n'admet une machine que si son navigateur vient de la même adresse, ce qui n'est pas le cas. Ouvrez l'adresse que le client affiche dans un navigateur de la même machine.",
];
const NO_SUCH: Both = [
    "No tunnel waits here: it was answered, or its time is over. Connect again with your client, which opens a new page.",
    "Aucun tunnel n'attend ici : la réponse a été donnée, ou le délai est passé. Reconnectez-vous avec votre client, qui ouvrira une nouvelle page.",
];
const OPENING: Both = [
    "The tunnel is being opened. Your client says when it stands; you may close this page.",
    "Le tunnel s'ouvre. Votre client dira quand il sera établi ; vous pouvez fermer cette page.",
];
const ON: Both = ["The tunnel is open. You may close this page.", "Le tunnel est ouvert. Vous pouvez fermer cette page."];
const TRIAL: Both = [
    "The tunnel stands on trial: it is decided and told, and nothing is open through it. You may close this page.",
    "Le tunnel est à l'essai : tout est décidé et raconté, et rien n'y est ouvert. Vous pouvez fermer cette page.",
];
const ADDRESSES: Both = ["The machine has the address", "La machine a l'adresse"];
const REFUSED: Both = ["The rules do not let you in here.", "Les règles ne vous admettent pas ici."];
const CROSSING: Both = ["Number of this crossing", "Numéro de ce passage"];
const FULL: Both = [
    "You have as many tunnels on as you may. End one of them, then connect again.",
    "Vous avez déjà autant de tunnels que permis. Fermez-en un, puis reconnectez-vous.",
];
const QUOTA: Both = [
    "What may pass in 24 hours is used up. It opens again as the hours pass.",
    "Le volume permis en 24 heures est épuisé. Cela rouvre au fil des heures.",
];
const OVER: Both = [
    "Your session is over. Connect again with your client, and sign in.",
    "Votre session est terminée. Reconnectez-vous avec votre client.",
];
const LATE: Both = [
    "The client is gone. Connect again, and say yes within its time.",
    "Le client est parti. Reconnectez-vous, et répondez dans son délai.",
];
const DENIED: Both = [
    "The machine stays out. If somebody sent you here, tell the people who run this: they see from where it asked.",
    "La machine reste dehors. Si quelqu'un vous a envoyé ici, prévenez les responsables : ils voient d'où elle demandait.",
];
const FAILED: Both = [
    "The tunnel could not be opened. Connect again in a minute, or tell the people who run this.",
    "Le tunnel n'a pas pu être ouvert. Reconnectez-vous dans une minute, ou prévenez les responsables.",
];
const CODE: Both = [
    "Type this code where your client asks for one. It works once, within two minutes, and lets that machine in as you: read it to nobody.",
    "Tapez ce code là où votre client le demande. Il sert une fois, pendant deux minutes, et fait entrer cette machine sous votre nom : ne le lisez à personne.",
];

/// The page, for somebody who is signed in.
pub fn tunnel(site: &Site, gate: &Gate, lang: Lang, who: &str, said: &TunnelSaid<'_>) -> Page {
    let (status, mood, content) = match said {
        TunnelSaid::Ask(waiting) => (StatusCode::OK, "calm", ask(waiting, lang)),
        TunnelSaid::Elsewhere(waiting) => {
            (StatusCode::FORBIDDEN, "stop", html! { blockquote role="alert" { (t(ELSEWHERE, lang)) } (facts(waiting, lang)) })
        }
        TunnelSaid::NoSuch => (StatusCode::NOT_FOUND, "stop", html! { p.lead { (t(NO_SUCH, lang)) } }),
        TunnelSaid::StillOpening => (StatusCode::OK, "calm", html! { p.lead role="status" { (t(OPENING, lang)) } }),
        TunnelSaid::Code(code) => (
            StatusCode::OK,
            "calm",
            html! { p.lead { (t(CODE, lang)) } p.lead.read-out { code.id { (short_code::shown(code)) } } },
        ),
        TunnelSaid::Came(outcome) => came(outcome, lang),
    };
    let content = html! {
        p.lead { (say(Word::SignedInAs, lang)) " " strong { (who) } }
        (content)
    };
    Page { status, markup: page(&site.name, lang, &gate.title, mood, content) }
}

fn facts(waiting: &Waiting<'_>, lang: Lang) -> Markup {
    let client = Some(waiting.tunnel.facts.words()).filter(|w| !w.is_empty());
    html! {
        dl.facts {
            dt { (t(ENTRANCE, lang)) } dd { (waiting.entrance) }
            dt { (t(CLIENT, lang)) } dd { (client.as_deref().unwrap_or(t(SILENT, lang))) }
            dt { (t(FROM, lang)) } dd { code { (waiting.tunnel.outside) } }
            dt { (t(HERE, lang)) } dd { code { (waiting.browser) } }
        }
    }
}

fn ask(waiting: &Waiting<'_>, lang: Lang) -> Markup {
    let to = |answer: &str| format!("/.passeur/connect?ask={}&answer={answer}", waiting.ask);
    html! {
        p.lead { (t(ASK, lang)) }
        @if !waiting.is_near { blockquote role="alert" { (t(FAR, lang)) } }
        (facts(waiting, lang))
        nav.ways {
            form method="post" action=(to("yes")) { button.button type="submit" { (t(YES, lang)) } }
            form method="post" action=(to("no")) { button.second type="submit" { (t(NO, lang)) } }
        }
    }
}

fn came(outcome: &Outcome, lang: Lang) -> (StatusCode, &'static str, Markup) {
    let stop = |words: Both| (StatusCode::FORBIDDEN, "stop", html! { p.lead role="alert" { (t(words, lang)) } });
    match outcome {
        Outcome::On { addresses, messages, trial } => (
            StatusCode::OK,
            "calm",
            html! {
                p.lead role="status" { strong { (t(if *trial { TRIAL } else { ON }, lang)) } }
                @for m in messages { p.message { (m) } }
                p.hint { (t(ADDRESSES, lang)) " " @for (n, a) in addresses.iter().enumerate() { @if n > 0 { ", " } code { (a) } } }
            },
        ),
        Outcome::Refused { words, crossing } => (
            StatusCode::FORBIDDEN,
            "stop",
            html! {
                blockquote role="alert" { (words.as_deref().unwrap_or(t(REFUSED, lang))) }
                p.hint { (t(CROSSING, lang)) ": " code.id { (crossing) } }
            },
        ),
        Outcome::Full { machines } => {
            let (status, mood, words) = stop(FULL);
            (status, mood, html! { (words) ul { @for m in machines { li { (m) } } } })
        }
        Outcome::Failed => stop(FAILED),
        Outcome::QuotaUsed => stop(QUOTA),
        Outcome::Over => stop(OVER),
        Outcome::Late => stop(LATE),
        Outcome::Denied => stop(DENIED),
    }
}
