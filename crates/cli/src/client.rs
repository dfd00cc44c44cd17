//! The client of the management API.

use std::path::PathBuf;

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
        let base = base(args)?;
        let token = match (&args.token_file, std::env::var("PASSEUR_TOKEN")) {
            (Some(path), _) => std::fs::read_to_string(path).map_err(|e| Exit::Failed(format!("{}: {e}", path.display())))?,
            (None, Ok(token)) => token,
            (None, Err(_)) => kept(&base).and_then(|path| std::fs::read_to_string(path).ok()).ok_or_else(|| {
                Exit::NotAllowed("no API token: run `passeur sign-in`, give --token-file, or set PASSEUR_TOKEN".into())
            })?,
        };
        Ok(Client { http: http()?, base, token: token.trim().to_owned(), language: args.language })
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

    /// DELETE that is answered with nothing.
    pub async fn delete_empty(&self, path: &str) -> Result<(), Exit> {
        self.send::<Option<()>>(self.request(Method::DELETE, path)).await.map(|_| ())
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

/// The service's address. Over plain HTTP a token is sent to this host alone.
pub fn base(args: &ClientArgs) -> Result<String, Exit> {
    let base = args.url.clone().ok_or_else(|| Exit::Failed("where is the service? Give --url, or set PASSEUR_URL".into()))?;
    let plain = base.strip_prefix("http://").map(|rest| rest.split(['/', ':']).next().unwrap_or_default());
    if plain.is_some_and(|host| !passeur_core::address::is_loopback(host)) {
        return Err(Exit::Failed(format!("{base} is plain http: a token is only sent over https, or to a localhost name")));
    }
    Ok(base.trim_end_matches('/').to_owned())
}

/// What requests are sent with.
pub fn http() -> Result<reqwest::Client, Exit> {
    reqwest::Client::builder()
        .dns_resolver(Resolver)
        .redirect(reqwest::redirect::Policy::none())
        .no_proxy()
        .timeout(std::time::Duration::from_secs(60))
        .user_agent(concat!("passeur/", env!("CARGO_PKG_VERSION")))
        .build()
        .map_err(|e| Exit::Failed(e.to_string()))
}

/// Where the token of a service is kept that `passeur sign-in` got; none where this user has no home.
fn kept(base: &str) -> Option<PathBuf> {
    let state = std::env::var_os("XDG_STATE_HOME").map(PathBuf::from);
    let state = state.or_else(|| std::env::var_os("HOME").map(|home| PathBuf::from(home).join(".local/state")))?;
    let name: String = base.chars().map(|c| if c.is_ascii_alphanumeric() || c == '.' || c == '-' { c } else { '_' }).collect();
    Some(state.join("passeur").join(name))
}

/// Keeps a token for this user's eyes only.
pub fn keep(base: &str, token: &str) -> Result<PathBuf, Exit> {
    use std::io::Write;
    use std::os::unix::fs::OpenOptionsExt;
    let path = kept(base).ok_or_else(|| Exit::Failed("no home to keep the token in: set XDG_STATE_HOME".into()))?;
    let failed = |e: std::io::Error| Exit::Failed(format!("{}: {e}", path.display()));
    if let Some(folder) = path.parent() {
        std::fs::create_dir_all(folder).map_err(failed)?;
    }
    // Made anew, so that nobody's looser rights on an older file stay.
    let _ = std::fs::remove_file(&path);
    let mut file = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&path).map_err(failed)?;
    file.write_all(token.as_bytes()).map_err(failed)?;
    Ok(path)
}

/// Forgets it.
pub fn forget(base: &str) {
    if let Some(path) = kept(base) {
        let _ = std::fs::remove_file(path);
    }
}
