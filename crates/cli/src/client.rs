//! The client of the management API.

use passeur_api::Problem;
use passeur_links::resolve::Resolver;
use reqwest::{Method, RequestBuilder};
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::args::{ClientArgs, Language};
use crate::exit::Exit;

/// Speaks to one service.
pub struct Client {
    http: reqwest::Client,
    base: String,
    token: String,
    language: Language,
}

impl Client {
    /// From flags and environment.
    pub fn new(args: &ClientArgs) -> Result<Client, Exit> {
        let base = args.url.clone().ok_or_else(|| Exit::Failed("where is the service? Give --url, or set PASSEUR_URL".into()))?;
        let plain = base.strip_prefix("http://").map(|rest| rest.split(['/', ':']).next().unwrap_or_default());
        if plain.is_some_and(|host| !passeur_core::address::is_loopback(host)) {
            return Err(Exit::Failed(format!("{base} is plain http: a token is only sent over https, or to a localhost name")));
        }
        let token = match &args.token_file {
            Some(path) => std::fs::read_to_string(path).map_err(|e| Exit::Failed(format!("{}: {e}", path.display())))?,
            None => std::env::var("PASSEUR_TOKEN")
                .map_err(|_| Exit::NotAllowed("no API token: give --token-file, or set PASSEUR_TOKEN".into()))?,
        };
        let http = reqwest::Client::builder()
            .dns_resolver(Resolver)
            .redirect(reqwest::redirect::Policy::none())
            .no_proxy()
            .timeout(std::time::Duration::from_secs(60))
            .user_agent(concat!("passeur/", env!("CARGO_PKG_VERSION")))
            .build()
            .map_err(|e| Exit::Failed(e.to_string()))?;
        Ok(Client { http, base: base.trim_end_matches('/').to_owned(), token: token.trim().to_owned(), language: args.language })
    }

    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        let language = match self.language {
            Language::En => "en",
            Language::Fr => "fr",
        };
        self.http
            .request(method, format!("{}/api/v1{path}", self.base))
            .bearer_auth(&self.token)
            .header("accept-language", language)
    }

    pub async fn get<T: DeserializeOwned>(&self, path: &str, query: &[(&str, String)]) -> Result<T, Exit> {
        let mut url = path.to_owned();
        if !query.is_empty() {
            let pairs = url::form_urlencoded::Serializer::new(String::new()).extend_pairs(query).finish();
            url = format!("{path}?{pairs}");
        }
        self.send(self.request(Method::GET, &url)).await
    }

    pub async fn post<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T, Exit> {
        self.send(self.request(Method::POST, path).json(body)).await
    }

    pub async fn put<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T, Exit> {
        self.send(self.request(Method::PUT, path).json(body)).await
    }

    /// PUT over the version that was read, or as the first (RFC 9110 13.1).
    pub async fn put_over<T: DeserializeOwned>(&self, path: &str, over: Option<i64>, body: &impl Serialize) -> Result<T, Exit> {
        let request = self.request(Method::PUT, path).json(body);
        let request = match over {
            Some(version) => request.header("if-match", format!("\"{version}\"")),
            None => request.header("if-none-match", "*"),
        };
        self.send(request).await
    }

    pub async fn delete<T: DeserializeOwned>(&self, path: &str) -> Result<T, Exit> {
        self.send(self.request(Method::DELETE, path)).await
    }

    /// DELETE of the version that was read.
    pub async fn delete_over(&self, path: &str, over: i64) -> Result<(), Exit> {
        self.send::<Option<()>>(self.request(Method::DELETE, path).header("if-match", format!("\"{over}\""))).await.map(|_| ())
    }

    async fn send<T: DeserializeOwned>(&self, request: RequestBuilder) -> Result<T, Exit> {
        let no_service = |e: &reqwest::Error| {
            let mut cause: &dyn std::error::Error = e;
            while let Some(inner) = cause.source() {
                cause = inner;
            }
            Exit::NoService(format!("{} does not answer: {cause}", self.base))
        };
        let answer = request.send().await.map_err(|e| no_service(&e))?;
        let status = answer.status();
        let body = answer.bytes().await.map_err(|e| no_service(&e))?;
        if status.is_success() {
            let body = if body.is_empty() { &b"null"[..] } else { &body };
            return serde_json::from_slice(body)
                .map_err(|e| Exit::Failed(format!("the answer cannot be read ({e}): is this the same version?")));
        }
        match serde_json::from_slice::<Problem>(&body) {
            Ok(p) => Err(Exit::of_problem(&p)),
            Err(_) => Err(Exit::Failed(format!("status {status}, and no problem document"))),
        }
    }
}

/// A path segment.
pub fn segment(text: &str) -> String {
    text.bytes()
        .map(|b| if b.is_ascii_alphanumeric() || b"-_.~".contains(&b) { (b as char).to_string() } else { format!("%{b:02X}") })
        .collect()
}
