//! Links in HTML turned to the gate's address while the page streams: `href`, `src`, `action`, `formaction`, `srcset` and
//! meta refresh. Script and style are left alone. A streaming rewriter keeps memory bounded; a page that would need more
//! is cut, never passed on half turned.

use std::pin::Pin;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::task::{Context, Poll};

use bytes::Bytes;
use encoding_rs::Encoding;
use http::HeaderMap;
use http::header::{ACCEPT_RANGES, CONTENT_ENCODING, CONTENT_LENGTH, CONTENT_TYPE, ETAG, HeaderValue};
use http_body::{Body as HttpBody, Frame, SizeHint};
use lol_html::html_content::ContentType;
use lol_html::send::{ElementContentHandlers, HtmlRewriter, Settings};
use lol_html::{AsciiCompatibleEncoding, MemorySettings, element};
use passeur_core::address::PublicAddress;
use passeur_core::site::ResponseEdits;

use super::refresh;
use crate::body::BoxError;

/// The most memory one page may take while it is turned.
const MEMORY_MAX: usize = 1 << 20;

/// Whether an answer is a page that can be turned: HTML, not compressed, in an encoding that keeps ASCII as it is.
pub(super) fn encoding_of(headers: &HeaderMap) -> Option<AsciiCompatibleEncoding> {
    let content = headers.get(CONTENT_TYPE)?.to_str().ok()?.to_ascii_lowercase();
    let mut parts = content.split(';').map(str::trim);
    if !matches!(parts.next()?, "text/html" | "application/xhtml+xml") || headers.contains_key(CONTENT_ENCODING) {
        return None;
    }
    match parts.find_map(|p| p.strip_prefix("charset=")) {
        None => Some(AsciiCompatibleEncoding::utf_8()),
        Some(label) => AsciiCompatibleEncoding::new(Encoding::for_label_no_replacement(label.trim_matches('"').as_bytes())?),
    }
}

/// What of the head no longer holds once the body is turned.
pub(super) fn head(headers: &mut HeaderMap) {
    for name in [CONTENT_LENGTH, ACCEPT_RANGES] {
        headers.remove(name);
    }
    for name in ["content-md5", "digest", "content-digest", "repr-digest"] {
        headers.remove(name);
    }
    // The tag is still that of the page, but not of its bytes (RFC 9110 8.8.1).
    if let Some(tag) = headers.get(ETAG).and_then(|v| v.to_str().ok()).filter(|t| !t.starts_with("W/"))
        && let Ok(weak) = HeaderValue::from_str(&format!("W/{tag}"))
    {
        headers.insert(ETAG, weak);
    }
}

type Out = Arc<Mutex<Vec<u8>>>;

struct Sink(Out);

impl lol_html::OutputSink for Sink {
    fn handle_chunk(&mut self, chunk: &[u8]) {
        self.0.lock().unwrap_or_else(|e| e.into_inner()).extend_from_slice(chunk);
    }
}

/// A page being turned.
pub(crate) struct Turned<B> {
    inner: B,
    rewriter: Option<HtmlRewriter<'static, Sink>>,
    out: Out,
}

impl<B> Turned<B> {
    /// The body that is turned.
    pub(crate) fn inner(&self) -> &B {
        &self.inner
    }

    pub(crate) fn new(
        inner: B,
        encoding: AsciiCompatibleEncoding,
        edits: &Arc<ResponseEdits>,
        gate: &PublicAddress,
        bar: bool,
    ) -> Turned<B> {
        let out = Out::default();
        let mut settings = match edits.links {
            true => settings(encoding, edits, gate),
            false => plain(encoding),
        };
        if bar {
            settings = with_bar(settings);
        }
        let rewriter = HtmlRewriter::new(settings, Sink(out.clone()));
        Turned { inner, rewriter: Some(rewriter), out }
    }

    fn taken(&self) -> Bytes {
        Bytes::from(std::mem::take(&mut *self.out.lock().unwrap_or_else(|e| e.into_inner())))
    }
}

fn plain(encoding: AsciiCompatibleEncoding) -> Settings<'static, 'static> {
    Settings::new_send()
        .with_encoding(encoding)
        .with_strict(false)
        .with_memory_settings(MemorySettings::new().with_max_allowed_memory_usage(MEMORY_MAX))
}

/// Puts the bar by which people sign out at the beginning of the body, in the page's language. It stands below everything else by
/// its style; where the application's own policy forbids that, it is a plain link above the page.
fn with_bar(settings: Settings<'static, 'static>) -> Settings<'static, 'static> {
    let french = Arc::new(AtomicBool::new(false));
    let seen = french.clone();
    let language = element!("html[lang]", move |el: &mut lol_html::send::Element<'_, '_>| {
        let lang = el.get_attribute("lang").unwrap_or_default();
        seen.store(lang.trim().get(..2).is_some_and(|l| l.eq_ignore_ascii_case("fr")), Ordering::Relaxed);
        Ok(())
    });
    let bar = element!("body", move |el: &mut lol_html::send::Element<'_, '_>| {
        let words = if french.load(Ordering::Relaxed) { "Se d&#233;connecter" } else { "Sign out" };
        el.prepend(&format!("<div id=\"passeur-bar\" style=\"{BAR_STYLE}\"><a href=\"/.passeur/sign-out\" target=\"_top\" style=\"color:#fff\">{words}</a></div>"), ContentType::Html);
        Ok(())
    });
    settings.append_element_content_handler(language).append_element_content_handler(bar)
}

/// How the bar looks.
const BAR_STYLE: &str = "position:fixed;right:0;bottom:0;z-index:2147483647;padding:4px 12px;background:#0c5e58;color:#fff;font:14px/1.5 sans-serif;border-top-left-radius:4px";

fn settings(encoding: AsciiCompatibleEncoding, edits: &Arc<ResponseEdits>, gate: &PublicAddress) -> Settings<'static, 'static> {
    let mut out = plain(encoding);
    for name in ["href", "src", "action", "formaction"] {
        let (edits, gate) = (edits.clone(), gate.clone());
        out = out.append_element_content_handler(attribute(name, move |v| edits.outside(v.trim(), &gate)));
    }
    let (e, g) = (edits.clone(), gate.clone());
    out = out.append_element_content_handler(attribute("srcset", move |v| srcset(v, &e, &g)));
    let (e, g) = (edits.clone(), gate.clone());
    out.append_element_content_handler(element!("meta[http-equiv][content]", move |el: &mut lol_html::send::Element<'_, '_>| {
        let is_refresh = el.get_attribute("http-equiv").is_some_and(|v| v.trim().eq_ignore_ascii_case("refresh"));
        if is_refresh && let Some(turned) = el.get_attribute("content").and_then(|c| refresh(&c, &e, &g)) {
            el.set_attribute("content", &turned)?;
        }
        Ok(())
    }))
}

type Handler = (std::borrow::Cow<'static, lol_html::Selector>, ElementContentHandlers<'static>);

fn attribute(name: &'static str, turn: impl Fn(&str) -> Option<String> + Send + 'static) -> Handler {
    element!(format!("[{name}]"), move |el: &mut lol_html::send::Element<'_, '_>| {
        if let Some(turned) = el.get_attribute(name).and_then(|v| turn(&v)) {
            el.set_attribute(name, &turned)?;
        }
        Ok(())
    })
}

/// Each candidate of a srcset: an address at its beginning, after a comma or after white space.
fn srcset(value: &str, edits: &ResponseEdits, gate: &PublicAddress) -> Option<String> {
    let mut out = String::with_capacity(value.len());
    let mut changed = false;
    for piece in value.split_inclusive(|c: char| c == ',' || c.is_ascii_whitespace()) {
        let word = piece.trim_end_matches(|c: char| c == ',' || c.is_ascii_whitespace());
        match edits.outside(word, gate) {
            Some(turned) => {
                changed = true;
                out.push_str(&turned);
                out.push_str(&piece[word.len()..]);
            }
            None => out.push_str(piece),
        }
    }
    changed.then_some(out)
}

impl<B> HttpBody for Turned<B>
where
    B: HttpBody<Data = Bytes, Error = BoxError> + Unpin,
{
    type Data = Bytes;
    type Error = BoxError;

    fn poll_frame(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Result<Frame<Bytes>, BoxError>>> {
        loop {
            let me = &mut *self;
            let Some(rewriter) = me.rewriter.as_mut() else { return Poll::Ready(None) };
            match std::task::ready!(Pin::new(&mut me.inner).poll_frame(cx)) {
                None => {
                    let ended = me.rewriter.take().map_or(Ok(()), HtmlRewriter::end);
                    let rest = me.taken();
                    return Poll::Ready(match ended {
                        Err(e) => Some(Err(e.into())),
                        Ok(()) if rest.is_empty() => None,
                        Ok(()) => Some(Ok(Frame::data(rest))),
                    });
                }
                Some(Err(e)) => return Poll::Ready(Some(Err(e))),
                Some(Ok(frame)) => {
                    // Trailers describe the body as it was.
                    let Ok(data) = frame.into_data() else { continue };
                    if let Err(e) = rewriter.write(&data) {
                        me.rewriter = None;
                        return Poll::Ready(Some(Err(e.into())));
                    }
                    let turned = me.taken();
                    if !turned.is_empty() {
                        return Poll::Ready(Some(Ok(Frame::data(turned))));
                    }
                }
            }
        }
    }

    fn size_hint(&self) -> SizeHint {
        SizeHint::default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use http_body_util::{BodyExt, StreamBody};

    fn edits() -> Arc<ResponseEdits> {
        Arc::new(ResponseEdits {
            inside: vec!["http://ledger.internal:8080".into()],
            location: true,
            links: true,
            bar: false,
            headers: vec![],
            cookies: Default::default(),
        })
    }

    async fn turned(html: &str, cut: usize) -> String {
        changed(html, cut, &edits(), false).await
    }

    async fn changed(html: &str, cut: usize, edits: &Arc<ResponseEdits>, bar: bool) -> String {
        let gate = PublicAddress::parse("https://berths.example").unwrap();
        let chunks: Vec<Result<Frame<Bytes>, BoxError>> =
            html.as_bytes().chunks(cut).map(|c| Ok(Frame::data(Bytes::copy_from_slice(c)))).collect();
        let body = StreamBody::new(futures_util::stream::iter(chunks));
        let out = Turned::new(body, AsciiCompatibleEncoding::utf_8(), edits, &gate, bar).collect().await.unwrap();
        String::from_utf8(out.to_bytes().to_vec()).unwrap()
    }

    #[tokio::test]
    async fn links_are_turned_wherever_the_chunks_are_cut_and_nothing_else_is() {
        let page = concat!(
            "<!doctype html><a href='http://ledger.internal:8080/a?b=1&amp;c'>http://ledger.internal:8080/</a>",
            "<img src=//ledger.internal:8080/i.png srcset=\"http://ledger.internal:8080/1.png 1x, /2.png 2x,//ledger.internal:8080/3.png 3x\">",
            "<form action=\" http://ledger.internal:8080/f \"><button formaction=http://ledger.internal:8080>É</button></form>",
            "<meta http-equiv=Refresh content='5; url=http://ledger.internal:8080/r'><a href=\"https://elsewhere.example/\">x</a>",
            "<script>var u='http://ledger.internal:8080/s'</script><!-- href='http://ledger.internal:8080/' --><a href='/rel'>"
        );
        let whole = turned(page, page.len()).await;
        for cut in [1, 2, 3, 7, 64] {
            assert_eq!(turned(page, cut).await, whole, "in chunks of {cut}");
        }
        insta::assert_snapshot!(whole.replace('>', ">\n"));
    }

    #[tokio::test]
    async fn a_page_gets_one_bar_in_its_language_and_nothing_else_of_it_changes() {
        let only_bar = Arc::new(ResponseEdits { links: false, bar: true, ..(*edits()).clone() });
        let page = "<!doctype html><html lang=fr-FR><body class=a><a href='http://ledger.internal:8080/'>É</a><p>never closed";
        let with = changed(page, 7, &only_bar, true).await;
        let start = with.find("<div id=\"passeur-bar\"").unwrap();
        let end = with.find("</div>").unwrap() + 6;
        assert!(with[start..end].contains("href=\"/.passeur/sign-out\"") && with[start..end].contains("connecter"), "{with}");
        assert_eq!(format!("{}{}", &with[..start], &with[end..]), page);
        let english = changed("<html><body>x", 3, &only_bar, true).await;
        assert!(english.contains(">Sign out<"), "{english}");
        // A piece of a page is no page.
        assert_eq!(changed("<p>piece</p>", 4, &only_bar, true).await, "<p>piece</p>");
        let both = Arc::new(ResponseEdits { bar: true, ..(*edits()).clone() });
        let out = changed(page, 5, &both, true).await;
        assert!(out.contains("passeur-bar") && !out.contains("ledger.internal"), "{out}");
    }

    #[test]
    fn only_plain_html_is_turned() {
        for (fields, turned) in [
            (&[("content-type", "text/html")][..], true),
            (&[("content-type", "Text/HTML; charset=\"ISO-8859-1\"")], true),
            (&[("content-type", "text/html; charset=utf-16le")], false),
            (&[("content-type", "text/html; charset=nonsense")], false),
            (&[("content-type", "text/html"), ("content-encoding", "gzip")], false),
            (&[("content-type", "text/plain")], false),
            (&[], false),
        ] {
            let mut h = HeaderMap::new();
            fields.iter().for_each(|(n, v)| {
                h.insert(*n, HeaderValue::from_static(v));
            });
            assert_eq!(encoding_of(&h).is_some(), turned, "{fields:?}");
        }
    }
}
