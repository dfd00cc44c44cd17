//! What the server tells, line by line.

use std::collections::BTreeMap;

use thiserror::Error;

/// The most variables of one message; more are not read.
const VARIABLES_MAX: usize = 400;
/// The longest value that is kept, in octets.
const VALUE_MAX: usize = 512;

/// Variables that are kept. A server hands over many more, and a client may make up names of its own.
const KEPT: [&str; 25] = [
    "IV_GUI_VER",
    "IV_HWADDR",
    "IV_PLAT",
    "IV_PLAT_VER",
    "IV_SSO",
    "IV_VER",
    "bytes_received",
    "bytes_sent",
    "common_name",
    "ifconfig_pool_remote_ip",
    "ifconfig_pool_remote_ip6",
    "password",
    "session_id",
    "session_state",
    "time_duration",
    "X509_0_CN",
    "tls_digest_sha256_0",
    "tls_digest_sha256_1",
    "tls_serial_hex_0",
    "trusted_ip",
    "trusted_ip6",
    "untrusted_ip",
    "untrusted_ip6",
    "untrusted_port",
    "username",
];

/// A line that no server writes.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
pub enum Malformed {
    #[error("a line of more than {} octets", super::LINE_MAX)]
    TooLong,
    #[error("a message about a client without its number")]
    NoNumber,
    #[error("variables that belong to no message")]
    LooseVariable,
    #[error("a message that begins before the one before it ended")]
    Unfinished,
}

/// What happened to a client.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Kind {
    /// It asks to be let in, with the number of its key.
    Connect { key: u64 },
    /// Its key is renewed, and it asks again.
    Reauth { key: u64 },
    /// The tunnel stands.
    Established,
    /// It is gone.
    Disconnect,
    /// It answers a question that it was asked.
    Answer { key: u64, text: String },
}

/// A message about a client.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Client {
    /// The number that the server gave this connection; another one after it connects again.
    pub id: u64,
    pub kind: Kind,
    pub env: Env,
}

/// What the server hands over with a message.
#[derive(Clone, Default, PartialEq, Eq)]
pub struct Env(BTreeMap<String, String>);

impl Env {
    /// A variable; none where it is missing or empty.
    pub fn get(&self, name: &str) -> Option<&str> {
        self.0.get(name).map(String::as_str).filter(|v| !v.is_empty())
    }

    /// From pairs, for tests.
    pub fn of<'a>(pairs: impl IntoIterator<Item = (&'a str, &'a str)>) -> Env {
        Env(pairs.into_iter().map(|(n, v)| (n.to_owned(), v.to_owned())).collect())
    }
}

/// A password is among them.
impl std::fmt::Debug for Env {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_set().entries(self.0.keys()).finish()
    }
}

/// What the server tells.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Event {
    /// It waits to be told to go on.
    Hold,
    Client(Client),
    /// A command was taken, or not, with what it says.
    Done(Result<String, String>),
    /// A line of a longer answer; its end is [`Event::End`].
    Line(String),
    End,
    /// What it logged.
    Log(String),
    /// It ends, with why.
    Fatal(String),
    /// Something that is of no interest here.
    Other,
}

/// Puts lines together.
#[derive(Debug, Default)]
pub struct Reader {
    open: Option<Client>,
    seen: usize,
}

impl Reader {
    /// Takes one line without its end; none while a message is not whole.
    ///
    /// # Errors
    /// No server writes such a line: whoever reads ends the connection.
    pub fn take(&mut self, line: &str) -> Result<Option<Event>, Malformed> {
        if line.len() > super::LINE_MAX {
            return Err(Malformed::TooLong);
        }
        if let Some(rest) = line.strip_prefix(">CLIENT:ENV,") {
            return self.variable(rest);
        }
        if self.open.is_some() && !line.starts_with('>') {
            // An answer to a command may come between; a message of variables is written in one piece.
            return Err(Malformed::Unfinished);
        }
        if let Some(rest) = line.strip_prefix(">CLIENT:") {
            return self.client(rest);
        }
        let said = |p: &str| line.strip_prefix(p).map(|rest| rest.trim().to_owned());
        Ok(Some(if line.starts_with(">HOLD:") {
            Event::Hold
        } else if let Some(why) = said(">FATAL:") {
            Event::Fatal(why)
        } else if let Some(said) = said(">LOG:") {
            // The moment and flags stand before it.
            Event::Log(said.splitn(3, ',').nth(2).unwrap_or_default().to_owned())
        } else if line.starts_with('>') {
            Event::Other
        } else if let Some(words) = said("SUCCESS:") {
            Event::Done(Ok(words))
        } else if let Some(words) = said("ERROR:") {
            Event::Done(Err(words))
        } else if line == "END" {
            Event::End
        } else {
            Event::Line(line.to_owned())
        }))
    }

    fn client(&mut self, rest: &str) -> Result<Option<Event>, Malformed> {
        let mut parts = rest.splitn(4, ',');
        let word = parts.next().unwrap_or_default();
        let mut number = || parts.next().and_then(|n| n.parse::<u64>().ok()).ok_or(Malformed::NoNumber);
        let (id, kind) = match word {
            "CONNECT" => (number()?, Kind::Connect { key: number()? }),
            "REAUTH" => (number()?, Kind::Reauth { key: number()? }),
            "ESTABLISHED" => (number()?, Kind::Established),
            "DISCONNECT" => (number()?, Kind::Disconnect),
            "CR_RESPONSE" => {
                let (id, key) = (number()?, number()?);
                let text = parts.next().unwrap_or_default().to_owned();
                (id, Kind::Answer { key, text })
            }
            // An address that the client has now: it is the one that it was given.
            _ => return Ok(Some(Event::Other)),
        };
        if self.open.is_some() {
            return Err(Malformed::Unfinished);
        }
        self.open = Some(Client { id, kind, env: Env::default() });
        self.seen = 0;
        Ok(None)
    }

    fn variable(&mut self, text: &str) -> Result<Option<Event>, Malformed> {
        if text == "END" {
            return self.open.take().map(|c| Some(Event::Client(c))).ok_or(Malformed::LooseVariable);
        }
        let client = self.open.as_mut().ok_or(Malformed::LooseVariable)?;
        self.seen += 1;
        let Some((name, value)) = text.split_once('=').filter(|_| self.seen <= VARIABLES_MAX) else { return Ok(None) };
        // What the server says itself comes before what a client says: a second one of a name is not believed.
        if KEPT.contains(&name) && value.len() <= VALUE_MAX && !client.env.0.contains_key(name) {
            client.env.0.insert(name.to_owned(), value.to_owned());
        }
        Ok(None)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn events(lines: &str) -> Result<Vec<Event>, Malformed> {
        let mut reader = Reader::default();
        let mut out = vec![];
        for line in lines.lines() {
            out.extend(reader.take(line)?);
        }
        Ok(out)
    }

    #[test]
    fn a_client_that_connects_is_read_with_what_is_known_of_it() {
        // As a server of version 2.6 writes it.
        let lines = ">INFO:OpenVPN Management Interface Version 5 -- type 'help' for more info\n>HOLD:Waiting for hold release:0\n\
            SUCCESS: hold release succeeded\n>CLIENT:CONNECT,0,1\n>CLIENT:ENV,n_clients=0\n>CLIENT:ENV,password=\n\
            >CLIENT:ENV,session_state=Initial\n>CLIENT:ENV,untrusted_ip=10.91.0.2\n>CLIENT:ENV,IV_PLAT=linux\n>CLIENT:ENV,END\n\
            >CLIENT:ADDRESS,0,10.93.0.77,1\n>CLIENT:ESTABLISHED,0\n>CLIENT:ENV,ifconfig_pool_remote_ip=10.93.0.77\n>CLIENT:ENV,END\n\
            >CLIENT:CR_RESPONSE,4,2,MTIz\n>CLIENT:ENV,END";
        let all = events(lines).unwrap();
        let clients: Vec<&Client> = all.iter().filter_map(|e| if let Event::Client(c) = e { Some(c) } else { None }).collect();
        assert_eq!(all[..3], [Event::Other, Event::Hold, Event::Done(Ok("hold release succeeded".into()))]);
        assert_eq!((clients[0].id, &clients[0].kind), (0, &Kind::Connect { key: 1 }));
        assert_eq!(clients[0].env.get("IV_PLAT"), Some("linux"));
        assert_eq!(clients[0].env.get("password"), None, "empty is none");
        assert_eq!(clients[0].env.get("n_clients"), None, "of no interest");
        assert_eq!(clients[1].kind, Kind::Established);
        assert_eq!(clients[2].kind, Kind::Answer { key: 2, text: "MTIz".into() });
    }

    #[test]
    fn what_a_client_makes_up_is_not_kept_and_never_takes_the_place_of_what_the_server_says() {
        let mut lines =
            String::from(">CLIENT:CONNECT,7,1\n>CLIENT:ENV,untrusted_ip=192.0.2.1\n>CLIENT:ENV,untrusted_ip=10.0.0.1\n");
        for n in 0..1_000 {
            lines += &format!(">CLIENT:ENV,IV_MINE_{n}=x\n");
        }
        lines += &format!(">CLIENT:ENV,IV_VER={}\n>CLIENT:ENV,session_id=late\n>CLIENT:ENV,END", "9".repeat(600));
        let all = events(&lines).unwrap();
        let Event::Client(client) = &all[0] else { panic!("{all:?}") };
        assert_eq!(client.env.get("untrusted_ip"), Some("192.0.2.1"));
        assert_eq!((client.env.get("IV_VER"), client.env.get("session_id")), (None, None));
        assert_eq!(client.env.0.len(), 1);
    }

    #[test]
    fn lines_that_no_server_writes_end_the_connection() {
        for (lines, why) in [
            (">CLIENT:CONNECT,x,1".to_owned(), Malformed::NoNumber),
            (">CLIENT:CONNECT,1".to_owned(), Malformed::NoNumber),
            (">CLIENT:DISCONNECT,-1".to_owned(), Malformed::NoNumber),
            (">CLIENT:ENV,a=b".to_owned(), Malformed::LooseVariable),
            (">CLIENT:ENV,END".to_owned(), Malformed::LooseVariable),
            (">CLIENT:CONNECT,1,1\n>CLIENT:CONNECT,2,1".to_owned(), Malformed::Unfinished),
            (">CLIENT:CONNECT,1,1\nSUCCESS: x".to_owned(), Malformed::Unfinished),
            ("x".repeat(super::super::LINE_MAX + 1), Malformed::TooLong),
        ] {
            assert_eq!(events(&lines), Err(why), "{}", &lines[..lines.len().min(60)]);
        }
    }

    #[test]
    fn what_the_server_logs_is_told_from_what_it_says() {
        let line = ">LOG:1796113473,,SENT CONTROL [client]: 'AUTH_PENDING,timeout 60' (status=1)";
        let wanted = "SENT CONTROL [client]: 'AUTH_PENDING,timeout 60' (status=1)";
        assert_eq!(events(line).unwrap(), [Event::Log(wanted.into())]);
        assert_eq!(events(">LOG:1").unwrap(), [Event::Log(String::new())]);
    }

    #[test]
    fn a_password_is_never_shown() {
        let shown = format!("{:?}", Env::of([("password", "tide-and-time")]));
        assert!(!shown.contains("tide"), "{shown}");
    }
}
