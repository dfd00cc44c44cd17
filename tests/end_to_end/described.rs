//! The API's description of itself, held against the standard and against what the API does: requests are made up from the
//! description, right ones and wrong ones, and whatever comes back must be what it says may come.

use std::collections::BTreeMap;
use std::sync::Arc;

use jsonschema::Validator;
use reqwest::Method;
use serde_json::{Map, Value, json};
use tokio::task::JoinSet;

use crate::support::{Person, Stack, engineer};

/// Requests made up for each call.
const ROUNDS: u64 = 40;
/// Calls that are asked at the same time.
const AT_ONCE: usize = 4;
/// How far into values that hold values something is made up.
const DEPTH: usize = 5;

/// Numbers that look random and are the same in every run (splitmix64).
struct Dice(u64);

impl Dice {
    fn throw(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        z ^ (z >> 31)
    }

    fn below(&mut self, n: usize) -> usize {
        (self.throw() % n as u64) as usize
    }

    fn percent(&mut self, p: u64) -> bool {
        self.throw() % 100 < p
    }

    fn pick<'a>(&mut self, of: &'a [String]) -> &'a str {
        &of[self.below(of.len())]
    }
}

/// What is known of a stack: its description, and texts that mean something there.
struct Known {
    document: Value,
    texts: Vec<String>,
    /// What stands in paths, by the name of the parameter.
    places: BTreeMap<&'static str, Vec<String>>,
    address: String,
    host: String,
    token: String,
    lesser: String,
}

impl Known {
    fn resolved<'a>(&'a self, schema: &'a Value) -> &'a Value {
        match schema["$ref"].as_str().and_then(|r| self.document.pointer(r.trim_start_matches('#'))) {
            Some(named) => self.resolved(named),
            None => schema,
        }
    }

    /// A value of a schema, mostly.
    fn value(&self, schema: &Value, dice: &mut Dice, depth: usize) -> Value {
        let schema = self.resolved(schema);
        if depth == 0 || dice.percent(4) {
            return [json!(null), json!(7), json!("x"), json!([]), json!({}), json!(true), json!(-1.5)][dice.below(7)].clone();
        }
        if let Some(one) = schema["enum"].as_array() {
            return one[dice.below(one.len())].clone();
        }
        if let Some(all) = schema["allOf"].as_array() {
            let parts = all.iter().map(|s| self.value(s, dice, depth)).filter_map(|v| v.as_object().cloned());
            return Value::Object(parts.flatten().collect());
        }
        if let Some(one) = schema["oneOf"].as_array().or(schema["anyOf"].as_array()) {
            return self.value(&one[dice.below(one.len())], dice, depth);
        }
        let kind = match &schema["type"] {
            Value::Array(kinds) => kinds[dice.below(kinds.len())].as_str(),
            kind => kind.as_str(),
        };
        match kind {
            Some("object") => {
                let required: Vec<&str> = schema["required"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
                let mut made = Map::new();
                for (name, of) in schema["properties"].as_object().into_iter().flatten() {
                    if dice.percent(if required.contains(&name.as_str()) { 97 } else { 40 }) {
                        made.insert(name.clone(), self.value(of, dice, depth - 1));
                    }
                }
                if dice.percent(5) {
                    made.insert("unheard-of".into(), json!(1));
                }
                Value::Object(made)
            }
            Some("array") => (0..dice.below(3)).map(|_| self.value(&schema["items"], dice, depth - 1)).collect(),
            Some("integer" | "number") => json!([0, 1, 2, -1, 100, i64::from(i32::MAX), i64::MAX][dice.below(7)]),
            Some("boolean") => json!(dice.percent(50)),
            Some("null") => Value::Null,
            _ => json!(dice.pick(&self.texts)),
        }
    }

    /// The text of a parameter, as it stands in an address.
    fn text(&self, name: &str, schema: &Value, dice: &mut Dice) -> String {
        let text = match (self.places.get(name), self.value(schema, dice, 2)) {
            (Some(known), _) if dice.percent(60) => dice.pick(known).to_owned(),
            (_, Value::String(s)) => s,
            (_, other) => other.to_string(),
        };
        url::form_urlencoded::byte_serialize(text.as_bytes()).collect::<String>().replace('+', "%20")
    }

    /// The `n`th request of a call.
    fn request(&self, client: &reqwest::Client, call: &Call, n: u64) -> (String, reqwest::RequestBuilder) {
        let seed = call.id.bytes().fold(n, |h, b| h.wrapping_mul(31).wrapping_add(u64::from(b)));
        let dice = &mut Dice(seed);
        let (mut path, mut query, mut headers) = (call.path.clone(), vec![], vec![]);
        for p in call.of["parameters"].as_array().into_iter().flatten() {
            let name = p["name"].as_str().unwrap();
            match p["in"].as_str() {
                Some("path") => path = path.replace(&format!("{{{name}}}"), &self.text(name, &p["schema"], dice)),
                Some("query") if dice.percent(50) => query.push(format!("{name}={}", self.text(name, &p["schema"], dice))),
                Some("header") if dice.percent(60) => {
                    headers.push((name.to_owned(), ["\"1\"", "*", "W/\"x\"", "1"][dice.below(4)]))
                }
                _ => {}
            }
        }
        if !query.is_empty() {
            path = format!("{path}?{}", query.join("&"));
        }
        let mut request = client.request(call.method.clone(), format!("http://{}/api/v1{path}", self.address));
        request = request.header("host", &self.host);
        for (name, value) in &headers {
            request = request.header(name, *value);
        }
        request = match dice.below(12) {
            0 => request,
            1 => request.bearer_auth("junk"),
            2 => request.bearer_auth(&self.lesser),
            _ => request.bearer_auth(&self.token),
        };
        let mut told = format!("{} {path}", call.method);
        if let Some(schema) = call.of.pointer("/requestBody/content/application~1json/schema") {
            let body = self.value(schema, dice, DEPTH).to_string();
            told.push_str(&format!(" {}", passeur_core::text::shorten(&body, 300)));
            request = match dice.below(15) {
                0 => request.body(body),
                1 => request.header("content-type", "text/plain").body(body),
                2 => request.header("content-type", "application/json").body(body[..body.len() / 2].to_owned()),
                3 => request.header("content-type", "application/json"),
                _ => request.header("content-type", "application/json").body(body),
            };
        }
        (told, request)
    }

    fn schema(&self, of: &Value) -> Validator {
        let mut whole = of.clone();
        whole["components"] = self.document["components"].clone();
        jsonschema::options().with_draft(jsonschema::Draft::Draft202012).build(&whole).unwrap()
    }
}

/// One call of the API.
struct Call {
    id: String,
    method: Method,
    path: String,
    of: Value,
}

/// What is untrue of a call: for each kind of untruth, the first request that showed it. And whether the call was ever done.
async fn untrue(known: Arc<Known>, client: reqwest::Client, call: Call) -> (BTreeMap<String, String>, bool) {
    let (mut found, mut done) = (BTreeMap::new(), false);
    let mut schemas: BTreeMap<u16, Validator> = BTreeMap::new();
    for n in 0..ROUNDS {
        let (told, request) = known.request(&client, &call, n);
        let again = request.try_clone();
        let mut sent = request.send().await;
        // A call that is refused before its body was read may cost the connection; one that ends the connection each time is a fault.
        if let (Err(_), Some(again)) = (&sent, again) {
            sent = again.send().await;
        }
        let answer = match sent {
            Ok(answer) => answer,
            Err(e) => {
                found.entry(format!("{}: no answer", call.id)).or_insert(format!("{told}: {e}"));
                continue;
            }
        };
        let status = answer.status().as_u16();
        done |= status < 300;
        let kind = answer.headers().get("content-type").and_then(|v| v.to_str().ok()).unwrap_or_default().to_owned();
        let body = answer.text().await.unwrap();
        let mut wrong = |what: String| {
            found
                .entry(format!("{}: {what}", call.id))
                .or_insert(format!("{told}\n    {}", passeur_core::text::shorten(&body, 400)));
        };
        let Some(described) = call.of["responses"].get(status.to_string()) else {
            wrong(format!("status {status} is not described"));
            continue;
        };
        let content = described["content"].as_object().cloned().unwrap_or_default();
        let Some((_, of)) = content.iter().find(|(k, _)| kind.split(';').next() == Some(k.as_str())) else {
            if !(content.is_empty() && body.is_empty()) {
                wrong(format!("status {status} comes as {kind:?}, not as described"));
            }
            continue;
        };
        if kind.ends_with("json") {
            let schema = schemas.entry(status).or_insert_with(|| known.schema(&of["schema"]));
            let value: Value = serde_json::from_str(&body).unwrap();
            if let Err(e) = schema.validate(&value) {
                wrong(format!("status {status} at {}: {e}", e.instance_path()));
            }
        }
    }
    (found, done)
}

fn calls(document: &Value) -> Vec<Call> {
    let paths = document["paths"].as_object().unwrap();
    paths
        .iter()
        .flat_map(|(path, item)| item.as_object().unwrap().iter().map(move |(method, of)| (path, method, of)))
        .map(|(path, method, of)| Call {
            id: of["operationId"].as_str().unwrap().to_owned(),
            method: method.to_uppercase().parse().unwrap(),
            path: path.clone(),
            of: of.clone(),
        })
        .collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn the_description_is_openapi_and_says_who_may_call() {
    let stack = Stack::new().await;
    let document = stack.get("/openapi.json").await;
    let standard: Value = serde_json::from_str(include_str!("../standards/openapi-3.1.json")).unwrap();
    let standard = jsonschema::options().with_draft(jsonschema::Draft::Draft202012).build(&standard).unwrap();
    let wrong: Vec<String> = standard.iter_errors(&document).map(|e| format!("{}: {e}", e.instance_path())).collect();
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    // What it refers to is there, and the standard's schema does see what is not right.
    let mut broken = document.clone();
    broken["paths"]["/me"]["get"]["responses"]["200"].as_object_mut().unwrap().remove("description");
    assert!(!standard.is_valid(&broken));
    for reference in document.to_string().split("\"$ref\":\"#").skip(1).map(|r| r.split('"').next().unwrap()) {
        assert!(document.pointer(reference).is_some(), "{reference}");
    }
    for scheme in document["security"].as_array().unwrap().iter().flat_map(|s| s.as_object().unwrap().keys()) {
        assert!(document["components"]["securitySchemes"].get(scheme).is_some(), "{scheme}");
    }
    for call in calls(&document) {
        for (status, described) in call.of["responses"].as_object().unwrap() {
            let says = |kind: &str| described["content"].get(kind).is_some();
            assert_eq!(status.as_str() >= "400", says("application/problem+json"), "{} {status}", call.id);
            assert!(described["description"].as_str().is_some_and(|d| d.len() > 8), "{} {status}", call.id);
        }
        for always in ["401", "403", "503"] {
            assert!(call.of["responses"].get(always).is_some(), "{} {always}", call.id);
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_is_asked_the_answer_is_one_that_is_described() {
    let stack = Stack::new().await;
    let page = Person::new().sign_in(&stack.gate("/"), "anouk").await;
    assert_eq!(page.status, 200);
    let crossing = stack.get("/crossings?limit=1").await["crossings"][0].clone();
    let of_crossing = |member: &str| crossing[member].as_str().unwrap().to_owned();
    let session = stack.get("/sessions").await[0]["id"].as_str().unwrap().to_owned();
    let mut lucie = engineer(&stack, "lucie").await;
    let ask = r#"{"name": "looks", "role": "view", "days": 1}"#;
    let lesser = crate::outliving::call(&mut lucie, &stack, "/tokens", ask).await.json();
    let document = stack.get("/openapi.json").await;
    let mut texts: Vec<String> = [
        "",
        "x",
        "berths",
        "cranes",
        "pilotage",
        "harbour",
        "pilotage-client",
        "ticket",
        "anouk",
        "console",
        "view",
        "configure",
        "2026-11-30",
        "2026-11-30T00:00:00Z",
        "format = 1",
        "[[gate]]\nname = 7",
        "Cœur d’ancre",
        "a/b",
        "../..",
        "a\u{0}b",
        "127.0.0.1",
        "10.0.0.0/8",
        "http://127.0.0.1:9/",
        "00000000-0000-4000-8000-000000000000",
        "118-AAAA-AAAA",
        "1",
        "*",
        "pilotage/anouk",
    ]
    .map(str::to_owned)
    .to_vec();
    texts.extend([of_crossing("id"), of_crossing("subject"), session, stack.site.clone(), "y".repeat(3000)]);
    let strings = |all: &[&str]| all.iter().map(|s| (*s).to_owned()).collect::<Vec<_>>();
    let places = BTreeMap::from([
        ("id", vec![of_crossing("id")]),
        ("number", strings(&["1", "2"])),
        ("version", strings(&["1", "2"])),
        ("provider", strings(&["pilotage"])),
        ("subject", vec![of_crossing("subject")]),
        ("part", strings(&["provider", "directory", "application"])),
        ("name", strings(&["pilotage", "harbour", "berths", "pilotage-client", "looks", "of-no-use"])),
    ]);
    let known = Arc::new(Known {
        texts,
        places,
        address: stack.address.to_string(),
        host: format!("pass.havrelune.localhost:{}", stack.address.port()),
        token: stack.token.clone(),
        lesser: lesser["value"].as_str().unwrap_or_else(|| panic!("{lesser}")).to_owned(),
        document,
    });
    let client = reqwest::Client::builder().no_proxy().build().unwrap();
    let (mut waiting, mut running) = (calls(&known.document), JoinSet::new());
    let (mut wrong, mut done, all) = (BTreeMap::new(), 0, waiting.len());
    while !waiting.is_empty() || !running.is_empty() {
        while running.len() < AT_ONCE
            && let Some(call) = waiting.pop()
        {
            running.spawn(untrue(known.clone(), client.clone(), call));
        }
        if let Some(one) = running.join_next().await {
            let (found, was_done) = one.unwrap();
            wrong.extend(found);
            done += usize::from(was_done);
        }
    }
    let told: Vec<String> = wrong.iter().map(|(what, how)| format!("{what}\n    {how}")).collect();
    assert!(told.is_empty(), "{}", told.join("\n"));
    assert!(done > all * 2 / 3, "{done} of {all} calls were ever done: what is made up is refused too early to show anything");
}
