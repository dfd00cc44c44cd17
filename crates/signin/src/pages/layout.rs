//! The frame of every page and its one stylesheet.

use maud::{DOCTYPE, Markup, html};
use passeur_core::step::Lang;

/// Served at `/.passeur/page.css` on every host of ours.
pub const STYLE: &str = include_str!("page.css");

/// A page. `tone` is `calm` or `stop`; the mark beside the title has another shape for each.
pub fn page(site: &str, lang: Lang, title: &str, tone: &str, content: Markup) -> Markup {
    framed(site, lang, title, tone, None, content)
}

/// A page that goes on to an address by itself.
pub fn page_that_goes_on(site: &str, lang: Lang, title: &str, to: &str, content: Markup) -> Markup {
    framed(site, lang, title, "calm", Some(to), content)
}

fn framed(site: &str, lang: Lang, title: &str, tone: &str, to: Option<&str>, content: Markup) -> Markup {
    html! {
        (DOCTYPE)
        html lang=(lang.tag()) {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                meta name="robots" content="noindex";
                meta name="color-scheme" content="light dark";
                @if let Some(to) = to { meta http-equiv="refresh" content=(format!("0;url={to}")); }
                title { (title) " · " (site) }
                link rel="stylesheet" href="/.passeur/page.css";
            }
            body class=(tone) {
                header { span.site { (site) } }
                main {
                    h1 { span.mark aria-hidden="true" {} (title) }
                    (content)
                }
            }
        }
    }
}
