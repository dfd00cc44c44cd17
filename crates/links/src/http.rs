//! HTTP to providers, the one client for addresses that engineers or documents name: short time limits, bounded bodies,
//! no redirect followed, certificates always checked, and only what [`passeur_core::guard`] allows.

use std::time::{Duration, Instant};

use futures_util::StreamExt;
use reqwest::header::HeaderMap;

use url::Url;

use crate::resolve::Resolver;
use passeur_core::guard::{Forbidden, check_signed_url, check_url};
use passeur_core::text::innermost;

/// Why a provider gave no usable answer. The words are for engineers and name what to look at.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum HttpError {
    #[error("nothing accepts connections there ({0})")]
    Connect(String),
    #[error("TLS failed ({0})")]
    Tls(String),
    #[error("no answer within {0} s")]
    TimeOut(u64),
    #[error("the answer is larger than {0} bytes")]
    TooLarge(usize),
    #[error("the answer was not valid HTTP ({0})")]
    Protocol(String),
    #[error("{0} is not fetched: {1}")]
    Forbidden(String, Forbidden),
    #[error("the certificate file {0} cannot be used: {1}")]
    CaFile(String, String),
}

/// An answer, read whole.
#[derive(Debug)]
pub struct Answer {
    pub status: u16,
    pub headers: HeaderMap,
    pub body: Vec<u8>,
    pub millis: u32,
    /// The server's certificate, in DER, where it was reached over TLS.
    pub certificate: Option<Vec<u8>>,
}

/// A client for one provider.
#[derive(Clone, Debug)]
pub struct Client {
    http: reqwest::Client,
    limit: Duration,
}

impl Client {
    /// A client that trusts the system's certificates and those of `ca_file`.
    pub fn new(ca_file: Option<&str>, limit: Duration) -> Result<Client, HttpError> {
        let mut builder = reqwest::Client::builder()
            .dns_resolver(Resolver)
            .redirect(reqwest::redirect::Policy::none())
            .no_proxy()
            .tls_info(true)
            .connect_timeout(limit.min(Duration::from_secs(5)))
            .timeout(limit)
            .user_agent("passeur");
        if let Some(path) = ca_file {
            let bad = |e: String| HttpError::CaFile(path.to_owned(), e);
            let pem = crate::pem::read(path).map_err(bad)?;
            let certificates = reqwest::Certificate::from_pem_bundle(&pem).map_err(|e| bad(e.to_string()))?;
            builder = builder.tls_certs_merge(certificates);
        }
        let http = builder.build().map_err(|e| HttpError::Protocol(innermost(&e)))?;
        Ok(Client { http, limit })
    }

    /// GET, read to at most `max` bytes.
    pub async fn get(&self, url: &str, authorization: Option<&str>, max: usize) -> Result<Answer, HttpError> {
        let mut request = self.http.get(allowed(url)?).header("accept", "application/json");
        if let Some(value) = authorization {
            request = request.header("authorization", sensitive(value));
        }
        self.send(request, max).await
    }

    /// POST of a form.
    pub async fn post_form(
        &self,
        url: &str,
        form: &[(&'static str, String)],
        authorization: Option<&str>,
        max: usize,
    ) -> Result<Answer, HttpError> {
        let mut request = self.http.post(allowed(url)?).header("accept", "application/json").form(form);
        if let Some(value) = authorization {
            request = request.header("authorization", sensitive(value));
        }
        self.send(request, max).await
    }

    /// What is signed, by GET, or by POST of a question with its media type: it may come in clear (RFC 5280 section 8).
    ///
    /// # Errors
    /// It did not come, or no answer of status 200.
    pub async fn get_signed(
        &self,
        url: &str,
        question: Option<(&'static str, Vec<u8>)>,
        max: usize,
    ) -> Result<Vec<u8>, HttpError> {
        let url = judged(url, check_signed_url)?;
        let request = match question {
            None => self.http.get(url),
            Some((kind, body)) => self.http.post(url).header("content-type", kind).body(body),
        };
        let answer = self.send(request, max).await?;
        match answer.status {
            200 => Ok(answer.body),
            status => Err(HttpError::Protocol(format!("status {status}"))),
        }
    }

    async fn send(&self, request: reqwest::RequestBuilder, max: usize) -> Result<Answer, HttpError> {
        let began = Instant::now();
        let answer = request.send().await.map_err(|e| self.explain(&e))?;
        let (status, headers) = (answer.status().as_u16(), answer.headers().clone());
        let tls = answer.extensions().get::<reqwest::tls::TlsInfo>();
        let certificate = tls.and_then(|t| t.peer_certificate()).map(<[u8]>::to_vec);
        let mut body = Vec::new();
        let mut chunks = answer.bytes_stream();
        while let Some(chunk) = chunks.next().await {
            let chunk = chunk.map_err(|e| self.explain(&e))?;
            if body.len() + chunk.len() > max {
                return Err(HttpError::TooLarge(max));
            }
            body.extend_from_slice(&chunk);
        }
        let millis = began.elapsed().as_millis().min(u128::from(u32::MAX)) as u32;
        Ok(Answer { status, headers, body, millis, certificate })
    }

    fn explain(&self, e: &reqwest::Error) -> HttpError {
        let why = innermost(e);
        if e.is_timeout() {
            HttpError::TimeOut(self.limit.as_secs())
        } else if why.contains("certificate") || why.contains("tls") || why.contains("TLS") || why.contains("handshake") {
            HttpError::Tls(why)
        } else if e.is_connect() {
            HttpError::Connect(why)
        } else {
            HttpError::Protocol(why)
        }
    }
}

/// The address, when it may be fetched. Shown without its query, which may hold what is secret.
fn allowed(url: &str) -> Result<Url, HttpError> {
    judged(url, check_url)
}

fn judged(url: &str, check: fn(&Url) -> Result<(), Forbidden>) -> Result<Url, HttpError> {
    let shown = url.split('?').next().unwrap_or_default().to_owned();
    let parsed = Url::parse(url).map_err(|_| HttpError::Forbidden(shown.clone(), Forbidden::NoHost))?;
    check(&parsed).map_err(|why| HttpError::Forbidden(shown, why))?;
    Ok(parsed)
}

fn sensitive(value: &str) -> reqwest::header::HeaderValue {
    let mut v = reqwest::header::HeaderValue::from_str(value).unwrap_or_else(|_| reqwest::header::HeaderValue::from_static(""));
    v.set_sensitive(true);
    v
}
