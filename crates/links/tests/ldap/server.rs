//! A directory server that does what it is told: it holds entries and answers binds and searches (RFC 4511), and can behave
//! as directories do that cannot run here: ranges of values, matching in chains, pages it insists on, referrals, silence.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex};

use bytes::BytesMut;
use ldap3::asn1::{PL, StructureTag, TagClass, parse_tag, write};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};

/// An entry: DN, and values by attribute.
#[derive(Clone, Debug)]
pub struct Held {
    pub dn: String,
    pub values: BTreeMap<String, Vec<Vec<u8>>>,
}

pub fn held(dn: &str, values: &[(&str, &[&str])]) -> Held {
    let values = values.iter().map(|(n, v)| ((*n).to_lowercase(), v.iter().map(|v| v.as_bytes().to_vec()).collect()));
    Held { dn: dn.to_owned(), values: values.collect() }
}

impl Held {
    pub fn with(mut self, name: &str, value: &[u8]) -> Held {
        self.values.entry(name.to_lowercase()).or_default().push(value.to_vec());
        self
    }

    fn has(&self, name: &str, value: &[u8]) -> bool {
        // Values compare without case, as most do.
        let same = |v: &Vec<u8>| v == value || v.eq_ignore_ascii_case(value);
        self.values.get(name).is_some_and(|all| all.iter().any(same))
    }
}

/// How it behaves.
#[allow(clippy::struct_excessive_bools)] // Each is one way in which a server is odd.
#[derive(Clone, Debug, Default)]
pub struct Manner {
    /// Lists longer than this come in ranges.
    pub range: Option<usize>,
    /// Searches without pages end at this many entries.
    pub size_limit: Option<usize>,
    /// Matches in chains, and says so.
    pub chain: bool,
    /// What bind answers.
    pub bind: u8,
    /// What every search answers instead.
    pub search: Option<u8>,
    /// References that go with every search of a subtree (RFC 4511 4.5.3).
    pub references: Vec<String>,
    /// A referral instead of every answer to a search (RFC 4511 4.1.10).
    pub referral: Vec<String>,
    /// Accepts, and never answers.
    pub silent: bool,
    /// Answers searches with bytes that are no entry.
    pub malformed: bool,
    /// Sends every entry a thousand times, whatever was asked.
    pub flood: bool,
    /// Ends ranged lists before they are over.
    pub cut_ranges: bool,
}

/// One search as it was asked, in words.
pub type Asked = Arc<Mutex<Vec<String>>>;

pub struct Server {
    pub address: SocketAddr,
    pub manner: Arc<Mutex<Manner>>,
    pub asked: Asked,
    pub binds: Asked,
    task: tokio::task::JoinHandle<()>,
}

impl Drop for Server {
    fn drop(&mut self) {
        self.task.abort();
    }
}

impl Server {
    pub async fn new(entries: Vec<Held>, manner: Manner) -> Server {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        let (manner, asked, binds) = (Arc::new(Mutex::new(manner)), Asked::default(), Asked::default());
        let (m, a, b) = (manner.clone(), asked.clone(), binds.clone());
        let task = tokio::spawn(async move {
            let mut connections = tokio::task::JoinSet::new();
            while let Ok((stream, _)) = listener.accept().await {
                connections.spawn(serve(stream, entries.clone(), m.clone(), a.clone(), b.clone()));
            }
        });
        Server { address, manner, asked, binds, task }
    }

    pub fn url(&self) -> String {
        format!("ldap://{}", self.address)
    }

    /// The searches asked so far; asked anew from here.
    pub fn take(&self) -> Vec<String> {
        std::mem::take(&mut *self.asked.lock().unwrap())
    }
}

fn tag(class: TagClass, id: u64, payload: PL) -> StructureTag {
    StructureTag { class, id, payload }
}
fn octets(bytes: &[u8]) -> StructureTag {
    tag(TagClass::Universal, 4, PL::P(bytes.to_vec()))
}
fn sequence(of: Vec<StructureTag>) -> StructureTag {
    tag(TagClass::Universal, 16, PL::C(of))
}
fn integer(id: u64, n: usize) -> StructureTag {
    tag(TagClass::Universal, id, PL::P((n as u32).to_be_bytes().to_vec()))
}

fn result(op: u64, code: u8, referral: &[String]) -> StructureTag {
    let mut parts = vec![tag(TagClass::Universal, 10, PL::P(vec![code])), octets(b""), octets(b"")];
    if !referral.is_empty() {
        parts.push(tag(TagClass::Context, 3, PL::C(referral.iter().map(|u| octets(u.as_bytes())).collect())));
    }
    tag(TagClass::Application, op, PL::C(parts))
}

async fn serve(mut stream: TcpStream, entries: Vec<Held>, manner: Arc<Mutex<Manner>>, asked: Asked, binds: Asked) {
    let mut buffer = vec![];
    loop {
        let (used, message) = match parse_tag(&buffer) {
            Ok((rest, message)) => (buffer.len() - rest.len(), message),
            Err(_) => {
                let mut chunk = [0; 4096];
                match stream.read(&mut chunk).await {
                    Ok(n) if n > 0 => buffer.extend(&chunk[..n]),
                    _ => return,
                }
                continue;
            }
        };
        buffer.drain(..used);
        let manner = manner.lock().unwrap().clone();
        if manner.silent {
            continue;
        }
        let mut parts = message.expect_constructed().unwrap().into_iter();
        let (id, op) = (parts.next().unwrap(), parts.next().unwrap());
        let controls = parts.next().and_then(|c| c.expect_constructed()).unwrap_or_default();
        let answers = match op.id {
            0 => {
                let who = op.expect_constructed().unwrap().into_iter().nth(1).unwrap().expect_primitive().unwrap();
                binds.lock().unwrap().push(String::from_utf8(who).unwrap());
                vec![(result(1, manner.bind, &[]), None)]
            }
            3 => search(op, controls, &entries, &manner, &asked),
            _ => vec![],
        };
        let mut out = BytesMut::new();
        for (answer, control) in answers {
            let mut whole = vec![id.clone(), answer];
            whole.extend(control);
            write::encode_into(&mut out, sequence(whole)).unwrap();
        }
        if stream.write_all(&out).await.is_err() {
            return;
        }
    }
}

type Answer = (StructureTag, Option<StructureTag>);

fn search(op: StructureTag, controls: Vec<StructureTag>, entries: &[Held], manner: &Manner, asked: &Asked) -> Vec<Answer> {
    let parts = op.expect_constructed().unwrap();
    let text = |t: &StructureTag| match &t.payload {
        PL::P(b) => String::from_utf8(b.clone()).unwrap(),
        PL::C(_) => String::new(),
    };
    let number = |t: &StructureTag| match &t.payload {
        PL::P(b) => b.iter().fold(0usize, |n, b| (n << 8) | usize::from(*b)),
        PL::C(_) => 0,
    };
    let (base, scope, limit) = (text(&parts[0]).to_lowercase(), number(&parts[1]), number(&parts[3]));
    let wanted: Vec<String> = parts[7].clone().expect_constructed().unwrap().iter().map(|t| text(t).to_lowercase()).collect();
    let page = controls.into_iter().find_map(page_of);
    asked.lock().unwrap().push(format!(
        "{base} {scope} {}{}",
        words(&parts[6]),
        page.map_or(String::new(), |p| format!(" page {}", p.0))
    ));
    if let Some(code) = manner.search {
        return vec![(result(5, code, &[]), None)];
    }
    if !manner.referral.is_empty() {
        return vec![(result(5, 10, &manner.referral), None)];
    }
    if manner.malformed {
        return vec![(tag(TagClass::Application, 4, PL::C(vec![octets(b"cn=a")])), None), (result(5, 0, &[]), None)];
    }
    if base.is_empty() && scope == 0 {
        let capability: &[&str] = if manner.chain { &["1.2.840.113556.1.4.800"] } else { &[] };
        let root = held("", &[("supportedCapabilities", capability)]);
        return vec![(entry(&root, &wanted, manner), None), (result(5, 0, &[]), None)];
    }
    if scope == 0 && !entries.iter().any(|e| e.dn.to_lowercase() == base) {
        return vec![(result(5, 32, &[]), None)];
    }
    let in_scope = |e: &Held| {
        let dn = e.dn.to_lowercase();
        if scope == 0 { dn == base } else { dn == base || dn.ends_with(&format!(",{base}")) }
    };
    let found: Vec<&Held> = entries.iter().filter(|e| in_scope(e) && matches(e, &parts[6], entries, manner)).collect();
    let from = page.map_or(0, |(_, from)| from);
    let most = page.map_or(usize::MAX, |(size, _)| size);
    let hard = match (limit, manner.size_limit.filter(|_| page.is_none())) {
        (0, None) => usize::MAX,
        (0, Some(n)) => n,
        (l, n) => l.min(n.unwrap_or(l)),
    };
    let shown: Vec<&&Held> = found.iter().skip(from).take(most.min(hard)).collect();
    let end = from + shown.len();
    if manner.flood {
        let many = found.iter().cycle().take(1_000).map(|e| (entry(e, &wanted, manner), None));
        return many.chain([(result(5, 0, &[]), None)]).collect();
    }
    let mut out: Vec<Answer> = shown.iter().map(|e| (entry(e, &wanted, manner), None)).collect();
    if scope == 2 {
        for reference in &manner.references {
            out.push((tag(TagClass::Application, 19, PL::C(vec![octets(reference.as_bytes())])), None));
        }
    }
    let code = if found.len() > hard { 4 } else { 0 };
    let control = page.map(|_| {
        let cookie = if end < found.len() { end.to_string() } else { String::new() };
        let mut value = BytesMut::new();
        write::encode_into(&mut value, sequence(vec![integer(2, 0), octets(cookie.as_bytes())])).unwrap();
        let one = sequence(vec![octets(b"1.2.840.113556.1.4.319"), octets(&value)]);
        tag(TagClass::Context, 0, PL::C(vec![one]))
    });
    out.push((result(5, code, &[]), control));
    out
}

/// Size and start of a page, where the control asks for one (RFC 2696).
fn page_of(control: StructureTag) -> Option<(usize, usize)> {
    let mut parts = control.expect_constructed()?.into_iter();
    (parts.next()?.expect_primitive()? == b"1.2.840.113556.1.4.319").then_some(())?;
    let value = parts.last()?.expect_primitive()?;
    let mut inner = parse_tag(&value).ok()?.1.expect_constructed()?.into_iter();
    let size = inner.next()?.expect_primitive()?.iter().fold(0usize, |n, b| (n << 8) | usize::from(*b));
    let cookie = String::from_utf8(inner.next()?.expect_primitive()?).ok()?;
    Some((size, cookie.parse().unwrap_or(0)))
}

/// Chosen attributes of an entry, long lists in ranges.
fn entry(e: &Held, wanted: &[String], manner: &Manner) -> StructureTag {
    let mut attributes = vec![];
    for asked in wanted {
        let (name, from) = match asked.split_once(";range=") {
            Some((n, range)) => (n.to_owned(), range.split('-').next().unwrap().parse().unwrap()),
            None => (asked.clone(), 0),
        };
        let Some(all) = e.values.get(&name) else { continue };
        let most = manner.range.unwrap_or(usize::MAX);
        let part: Vec<_> = all.iter().skip(from).take(most).collect();
        let end = from + part.len();
        let shown = match (manner.range, end < all.len()) {
            (Some(_), true) => format!("{name};range={from}-{}", end - 1),
            (Some(_), false) if from > 0 => format!("{name};range={from}-*"),
            _ => name,
        };
        if manner.cut_ranges && from > 0 {
            continue;
        }
        let values = part.into_iter().map(|v| octets(v)).collect();
        attributes.push(sequence(vec![octets(shown.as_bytes()), tag(TagClass::Universal, 17, PL::C(values))]));
    }
    tag(TagClass::Application, 4, PL::C(vec![octets(e.dn.as_bytes()), sequence(attributes)]))
}

fn parts(filter: &StructureTag) -> Vec<StructureTag> {
    filter.clone().expect_constructed().unwrap_or_default()
}

fn bytes(t: &StructureTag) -> Vec<u8> {
    t.clone().expect_primitive().unwrap_or_default()
}

/// RFC 4511 4.5.1.7: and, or, not, equality, presence, and the extensible match of chains.
fn matches(e: &Held, filter: &StructureTag, all: &[Held], manner: &Manner) -> bool {
    match filter.id {
        0 => parts(filter).iter().all(|f| matches(e, f, all, manner)),
        1 => parts(filter).iter().any(|f| matches(e, f, all, manner)),
        2 => parts(filter).iter().all(|f| !matches(e, f, all, manner)),
        3 => {
            let p = parts(filter);
            e.has(&String::from_utf8(bytes(&p[0])).unwrap().to_lowercase(), &bytes(&p[1]))
        }
        7 => {
            let name = String::from_utf8(bytes(filter)).unwrap().to_lowercase();
            name == "objectclass" || e.values.contains_key(&name)
        }
        // A rule that is not known matches nothing, and that is no error.
        9 if manner.chain => {
            let p = parts(filter);
            let of = |id: u64| p.iter().find(|t| t.id == id).map(bytes).unwrap_or_default();
            let name = String::from_utf8(of(2)).unwrap().to_lowercase();
            let mut open = vec![of(3)];
            let mut seen: Vec<String> = vec![];
            while let Some(member) = open.pop() {
                for g in all.iter().filter(|g| g.has(&name, &member)) {
                    if !seen.contains(&g.dn) {
                        seen.push(g.dn.clone());
                        open.push(g.dn.as_bytes().to_vec());
                    }
                }
            }
            seen.contains(&e.dn)
        }
        _ => false,
    }
}

fn words(filter: &StructureTag) -> String {
    let shown = |t: &StructureTag| String::from_utf8_lossy(&bytes(t)).into_owned();
    let join = |sign: &str| format!("({sign}{})", parts(filter).iter().map(words).collect::<String>());
    match filter.id {
        0 => join("&"),
        1 => join("|"),
        2 => join("!"),
        3 => format!("({}={})", shown(&parts(filter)[0]), shown(&parts(filter)[1])),
        7 => format!("({}=*)", shown(filter)),
        9 => "(in chain)".to_owned(),
        other => format!("({other}?)"),
    }
}
