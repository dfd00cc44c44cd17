//! A person with a browser that has no script: keeps cookies per host, follows redirects one by one, fills in forms.

use super::clear;
use std::collections::HashMap;

use passeur_links::resolve::Resolver;
use reqwest::{Client, ClientBuilder, Method, RequestBuilder, StatusCode};
use url::Url;

/// What came back.
#[derive(Clone, Debug)]
pub struct Page {
    pub url: String,
    pub status: StatusCode,
    pub headers: reqwest::header::HeaderMap,
    pub body: String,
}

impl Page {
    pub fn header(&self, name: &str) -> &str {
        self.headers.get(name).and_then(|v| v.to_str().ok()).unwrap_or_default()
    }

    /// The text between `name="…" value="` and the next quote.
    fn field(&self, name: &str) -> Option<String> {
        let at = self.body.find(&format!("name=\"{name}\" value=\""))?;
        let rest = &self.body[at + name.len() + 15..];
        Some(rest[..rest.find('"')?].to_owned())
    }

    /// Where the form of a page leads, and its hidden fields.
    pub fn form(&self) -> (String, Vec<(String, String)>) {
        let plain = |s: &str| s.replace("&quot;", "\"").replace("&lt;", "<").replace("&gt;", ">").replace("&amp;", "&");
        let between = |text: &str, from: &str| -> Option<String> {
            let rest = text.split_once(from)?.1;
            Some(plain(rest.split_once('"')?.0))
        };
        let to =
            between(&self.body, "action=\"").unwrap_or_else(|| panic!("no form on {} {}: {}", self.url, self.status, self.body));
        let inputs = self.body.split("<input type=\"hidden\"").skip(1);
        (to, inputs.map(|i| (between(i, "name=\"").unwrap(), between(i, "value=\"").unwrap())).collect())
    }

    /// Where a page goes on to by itself.
    pub fn refresh(&self) -> Option<String> {
        let rest = self.body.split_once("http-equiv=\"refresh\" content=\"0;url=")?.1;
        Some(rest.split_once('"')?.0.replace("&amp;", "&"))
    }

    /// The address of a link by its text.
    pub fn link(&self, text: &str) -> String {
        let before = self.body.split_once(&format!(">{text}</a>")).unwrap_or_else(|| panic!("no link {text}: {}", self.body)).0;
        let href = before.rsplit_once("href=\"").unwrap().1;
        let to = href.split_once('"').unwrap().0.replace("&amp;", "&");
        Url::parse(&self.url).unwrap().join(&to).unwrap().to_string()
    }

    /// The crossing's id on a refusal page.
    pub fn crossing(&self) -> String {
        let at = self
            .body
            .find("class=\"id\">")
            .unwrap_or_else(|| panic!("no crossing on {} {}: {}", self.url, self.status, self.body));
        self.body[at + 11..at + 11 + 13].to_owned()
    }

    /// The body as JSON.
    pub fn json(&self) -> serde_json::Value {
        serde_json::from_str(&self.body).unwrap_or_else(|e| panic!("{e}: {} {}", self.status, self.body))
    }

    /// Values of a header that an upstream's `/received` saw.
    pub fn saw(&self, name: &str) -> Vec<String> {
        let json = self.json();
        let all = json["headers"].as_array().unwrap().iter().chain(json["trailers"].as_array().unwrap());
        all.filter(|h| h[0] == name).map(|h| h[1].as_str().unwrap().to_owned()).collect()
    }
}

/// A browser.
#[derive(Clone)]
pub struct Person {
    http: Client,
    pub cookies: HashMap<String, HashMap<String, String>>,
    pub extra: Vec<(&'static str, String)>,
    pub accept: &'static str,
}

impl Person {
    pub fn new() -> Person {
        Person::by(|browser| browser)
    }

    /// One whose browser shows a certificate where it is asked for one, and trusts an authority.
    pub fn with_certificate(trusts: &[u8], identity: Option<&str>) -> Person {
        Person::by(|browser| {
            let browser = browser.tls_certs_only([reqwest::Certificate::from_der(trusts).unwrap()]);
            match identity {
                Some(pem) => browser.identity(reqwest::Identity::from_pem(pem.as_bytes()).unwrap()),
                None => browser,
            }
        })
    }

    fn by(change: impl FnOnce(ClientBuilder) -> ClientBuilder) -> Person {
        let browser = Client::builder().dns_resolver(Resolver).redirect(reqwest::redirect::Policy::none()).no_proxy();
        Person { http: change(browser).build().unwrap(), cookies: HashMap::new(), extra: vec![], accept: "text/html" }
    }

    /// The Cookie field for a host.
    pub fn cookie(&self, host: &str) -> String {
        self.cookies[host].iter().map(|(n, v)| format!("{n}={v}")).collect::<Vec<_>>().join("; ")
    }

    /// One request, no redirect followed.
    pub async fn send(&mut self, method: Method, url: &str, form: Option<&[(&str, &str)]>) -> Page {
        self.exchange(method, url, |request| match form {
            None => request,
            Some(form) => {
                let origin = Url::parse(url).unwrap().origin().ascii_serialization();
                request.header("origin", origin).form(form)
            }
        })
        .await
    }

    /// One request with a body as it is.
    pub async fn send_body(&mut self, method: Method, url: &str, body: String) -> Page {
        self.exchange(method, url, |request| request.body(body)).await
    }

    async fn exchange(&mut self, method: Method, url: &str, with: impl FnOnce(RequestBuilder) -> RequestBuilder) -> Page {
        let host = Url::parse(url).unwrap().host_str().unwrap().to_owned();
        let mut request = self.http.request(method, url).header("accept", self.accept);
        if self.extra.iter().all(|(name, _)| *name != "user-agent") {
            request = request.header("user-agent", "end-to-end");
        }
        if self.cookies.get(&host).is_some_and(|jar| !jar.is_empty()) {
            request = request.header("cookie", self.cookie(&host));
        }
        for (n, v) in &self.extra {
            request = request.header(*n, v);
        }
        let answer = with(request).send().await.unwrap();
        let (status, headers) = (answer.status(), answer.headers().clone());
        let jar = self.cookies.entry(host).or_default();
        for set in headers.get_all("set-cookie") {
            let set = set.to_str().unwrap();
            let (name, value) = set.split(';').next().unwrap().split_once('=').unwrap();
            if set.contains("Max-Age=0") {
                jar.remove(name);
            } else {
                // What a browser is signed in with.
                if ["session", "gate", "way", "flow"].iter().any(|n| name.ends_with(n)) && value.len() > 30 {
                    clear::seen(value);
                }
                jar.insert(name.to_owned(), value.to_owned());
            }
        }
        let body = String::from_utf8_lossy(&answer.bytes().await.unwrap()).into_owned();
        clear::seen_in(&body);
        Page { url: url.to_owned(), status, headers, body }
    }

    /// GET, following redirects.
    pub async fn open(&mut self, url: &str) -> Page {
        let page = self.send(Method::GET, url, None).await;
        self.follow(page).await
    }

    /// Follows redirects to the end.
    pub async fn follow(&mut self, mut page: Page) -> Page {
        for _ in 0..12 {
            let to = page.refresh().or_else(|| page.status.is_redirection().then(|| page.header("location").to_owned()));
            let Some(to) = to else { return page };
            let next = Url::parse(&page.url).unwrap().join(&to).unwrap();
            page = self.send(Method::GET, next.as_str(), None).await;
        }
        panic!("redirected in a circle at {}", page.url);
    }

    /// Follows redirects until one leads to a path with this beginning; that one is not followed. Returns its address.
    pub async fn until(&mut self, mut page: Page, path: &str) -> String {
        for _ in 0..12 {
            assert!(page.status.is_redirection(), "{} {} {}", page.url, page.status, page.body);
            let next = Url::parse(&page.url).unwrap().join(page.header("location")).unwrap();
            if next.path().starts_with(path) {
                return next.to_string();
            }
            page = self.send(Method::GET, next.as_str(), None).await;
        }
        panic!("never led to {path}");
    }

    /// Fills in the provider's two pages. Returns the provider's redirect back, not followed.
    pub async fn prove(&mut self, page: Page, user: &str) -> Page {
        let (password, code) = secrets_of(user);
        let id = page.field("id").unwrap_or_else(|| panic!("no sign-in page: {} {} {}", page.url, page.status, page.body));
        let base = Url::parse(&page.url).unwrap().origin().ascii_serialization();
        let form = [("id", id.as_str()), ("user", user), ("password", &password)];
        let second = self.send(Method::POST, &format!("{base}/password"), Some(&form)).await;
        assert!(second.body.contains("key card"), "{}", second.body);
        self.send(Method::POST, &format!("{base}/second"), Some(&[("id", id.as_str()), ("code", &code)])).await
    }

    /// Sends the form of a page that posts itself to another site: a browser sends no cookie with it.
    pub async fn submit(&mut self, page: &Page) -> Page {
        let (to, fields) = page.form();
        self.submit_to(&to, &fields.iter().map(|(n, v)| (n.as_str(), v.as_str())).collect::<Vec<_>>()).await
    }

    /// The same with fields of the caller's.
    pub async fn submit_to(&mut self, to: &str, fields: &[(&str, &str)]) -> Page {
        let host = Url::parse(to).unwrap().host_str().unwrap().to_owned();
        let jar = self.cookies.remove(&host).unwrap_or_default();
        let page = self
            .exchange(Method::POST, to, |request| {
                request.header("origin", "http://bureau-pilotage.localhost").header("sec-fetch-site", "cross-site").form(fields)
            })
            .await;
        self.cookies.entry(host).or_default().extend(jar);
        page
    }

    /// Fills in the form of a page of ours, beside its hidden fields, and sends it. What comes back is not followed.
    pub async fn fill_in(&mut self, page: &Page, fields: &[(&str, &str)]) -> Page {
        fields.iter().filter(|(n, _)| *n == "password").for_each(|(_, v)| clear::seen(v));
        let (to, hidden) = page.form();
        let to = Url::parse(&page.url).unwrap().join(&to).unwrap();
        let mut all: Vec<(&str, &str)> = hidden.iter().map(|(n, v)| (n.as_str(), v.as_str())).collect();
        all.extend(fields);
        self.send(Method::POST, to.as_str(), Some(&all)).await
    }

    /// Opens an address behind a SAML provider, signs in, and goes on to the end.
    pub async fn sign_in_by_saml(&mut self, url: &str, user: &str) -> Page {
        let page = self.open(url).await;
        let back = self.prove(page, user).await;
        let parked = self.submit(&back).await;
        self.follow(parked).await
    }

    /// Opens an address, signs in, and goes on to the end.
    pub async fn sign_in(&mut self, url: &str, user: &str) -> Page {
        let page = self.open(url).await;
        let back = self.prove(page, user).await;
        self.follow(back).await
    }
}

/// Password and code from the demo's register.
pub fn secrets_of(user: &str) -> (String, String) {
    let register = passeur_standins::provider::Register::parse(include_str!("../../../demo/people.toml")).unwrap();
    let person = register.people.into_iter().find(|p| p.user == user).unwrap();
    (person.password, person.code)
}
