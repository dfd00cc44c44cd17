//! What is known of a request from its head.

use std::net::IpAddr;
use std::sync::Arc;

use http::{HeaderMap, Method, Uri, header};
use passeur_core::circumstances::RequestFacts;
use passeur_core::step::Lang;

/// The certificate, in DER, that this node showed to whoever sent a request: among its extensions where TLS ends here.
#[derive(Clone, Debug)]
pub struct ServedCertificate(pub Arc<[u8]>);

/// The certificates that whoever sent a request showed and proved to have, their own first, in DER; whether they count is for others to say. Among
/// a request's extensions where TLS ends here, and they are asked for.
#[derive(Clone, Debug, Default)]
pub struct ClientChain(pub Arc<[Vec<u8>]>);

fn wants_html(headers: &HeaderMap) -> bool {
    headers.get(header::ACCEPT).and_then(|v| v.to_str().ok()).is_some_and(|v| v.to_ascii_lowercase().contains("text/html"))
}

/// Whether a person's browser is going to a page: by what it says of itself, or else by what it asks for.
pub fn is_navigation(headers: &HeaderMap) -> bool {
    match headers.get("sec-fetch-mode").and_then(|v| v.to_str().ok()).unwrap_or_default() {
        "" => wants_html(headers),
        mode => mode == "navigate",
    }
}

/// What the records keep of a request, read from its head. `address` is the client's, as the data path knows it.
pub fn facts_of(method: &Method, uri: &Uri, headers: &HeaderMap, address: IpAddr) -> RequestFacts {
    let text = |name: &str| headers.get(name).and_then(|v| v.to_str().ok()).unwrap_or_default();
    RequestFacts {
        method: method.to_string(),
        target: uri.path_and_query().map_or("/", |p| p.as_str()).to_owned(),
        address,
        agent: passeur_core::text::shorten(text(header::USER_AGENT.as_str()), 200),
        lang: Lang::from_accept(text(header::ACCEPT_LANGUAGE.as_str())),
        navigates: is_navigation(headers) && matches!(*method, Method::GET | Method::HEAD),
        wants_html: wants_html(headers),
        not_believed: None,
        tunnel: None,
    }
}
