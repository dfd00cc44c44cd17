//! A mail server that delivers nothing: whatever is sent can be read on a page, by anybody. It speaks as much of SMTP
//! (RFC 5321) as a client that sends plain mail needs, and can be told to refuse.

use std::collections::VecDeque;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex};

use axum::Router;
use axum::extract::State;
use axum::response::Html;
use axum::routing::get;
use maud::html;
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Notify;

use crate::ledger::page;

/// How much is kept, and the longest line that is read.
const KEPT: usize = 100;
const LINE_MAX: u64 = 64 * 1024;

/// One mail as it came.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mail {
    pub to: String,
    pub subject: String,
    /// The body, decoded.
    pub text: String,
}

/// The box: cheap to clone.
#[derive(Clone, Default)]
pub struct MailBox(Arc<Inner>);

#[derive(Default)]
struct Inner {
    mails: Mutex<VecDeque<Mail>>,
    came: Notify,
    /// Whether recipients are refused.
    refuses: std::sync::atomic::AtomicBool,
}

impl MailBox {
    /// Every mail for an address, the latest first.
    pub fn of(&self, to: &str) -> Vec<Mail> {
        self.all().into_iter().filter(|m| m.to == to).collect()
    }

    /// Every mail, the latest first.
    pub fn all(&self) -> Vec<Mail> {
        self.0.mails.lock().unwrap_or_else(|e| e.into_inner()).iter().cloned().collect()
    }

    /// Waits until somebody has at least so many mails; the latest of them.
    pub async fn wait_for(&self, to: &str, count: usize) -> Mail {
        loop {
            let came = self.0.came.notified();
            let mut mails = self.of(to);
            if mails.len() >= count {
                return mails.swap_remove(0);
            }
            came.await;
        }
    }

    /// Refuses every recipient from now on, or none.
    pub fn refuse(&self, refuses: bool) {
        self.0.refuses.store(refuses, std::sync::atomic::Ordering::SeqCst);
    }

    fn put(&self, mail: Mail) {
        let mut mails = self.0.mails.lock().unwrap_or_else(|e| e.into_inner());
        mails.push_front(mail);
        mails.truncate(KEPT);
        drop(mails);
        self.0.came.notify_waiters();
    }

    /// The page on which mails are read.
    pub fn router(&self) -> Router {
        Router::new().route("/", get(front)).with_state(self.clone())
    }

    /// Takes mail on an address until the task is dropped. Returns the bound address.
    ///
    /// # Errors
    /// When the address cannot be listened on.
    pub async fn serve(&self, listen: SocketAddr) -> std::io::Result<(SocketAddr, tokio::task::JoinHandle<()>)> {
        let listener = TcpListener::bind(listen).await?;
        let address = listener.local_addr()?;
        let held = self.clone();
        let task = tokio::spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                let held = held.clone();
                tokio::spawn(async move {
                    let _ = held.talk(stream).await;
                });
            }
        });
        Ok((address, task))
    }

    async fn talk(&self, stream: TcpStream) -> std::io::Result<()> {
        let (read, mut write) = stream.into_split();
        let mut lines = BufReader::new(read.take(16 << 20));
        write.write_all(b"220 mailbox.havrelune.localhost ready\r\n").await?;
        let mut to: Vec<String> = vec![];
        loop {
            let mut line = String::new();
            if (&mut lines).take(LINE_MAX).read_line(&mut line).await? == 0 {
                return Ok(());
            }
            let upper = line.to_ascii_uppercase();
            let answer = match upper.trim_end() {
                l if l.starts_with("EHLO") => "250-mailbox.havrelune.localhost\r\n250 8BITMIME\r\n",
                l if l.starts_with("HELO") || l.starts_with("MAIL FROM:") || l == "NOOP" => "250 well\r\n",
                l if l.starts_with("RCPT TO:") => {
                    let address = line.split(['<', '>']).nth(1).unwrap_or_default().to_owned();
                    if self.0.refuses.load(std::sync::atomic::Ordering::SeqCst) {
                        "550 no such box\r\n"
                    } else {
                        to.push(address);
                        "250 well\r\n"
                    }
                }
                "RSET" => {
                    to.clear();
                    "250 well\r\n"
                }
                "DATA" if to.is_empty() => "503 for whom?\r\n",
                "DATA" => {
                    write.write_all(b"354 go on\r\n").await?;
                    let mut whole = String::new();
                    loop {
                        let mut line = String::new();
                        if (&mut lines).take(LINE_MAX).read_line(&mut line).await? == 0 {
                            return Ok(());
                        }
                        if line == ".\r\n" {
                            break;
                        }
                        whole.push_str(line.strip_prefix('.').unwrap_or(&line));
                    }
                    for to in to.drain(..) {
                        self.put(read_mail(to, &whole));
                    }
                    "250 taken\r\n"
                }
                "QUIT" => {
                    write.write_all(b"221 good bye\r\n").await?;
                    return Ok(());
                }
                _ => "502 not known here\r\n",
            };
            write.write_all(answer.as_bytes()).await?;
        }
    }
}

/// Subject and body, with the encodings that plain mail comes in undone.
fn read_mail(to: String, whole: &str) -> Mail {
    let (head, body) = whole.split_once("\r\n\r\n").unwrap_or((whole, ""));
    let unfolded = head.replace("\r\n ", " ").replace("\r\n\t", " ");
    let field = |name: &str| {
        unfolded.lines().find_map(|l| l.split_once(':').filter(|(n, _)| n.eq_ignore_ascii_case(name)).map(|(_, v)| v.trim()))
    };
    let encoding = field("Content-Transfer-Encoding").unwrap_or("7bit").to_ascii_lowercase();
    let text = match encoding.as_str() {
        "quoted-printable" => quoted(&body.replace("=\r\n", "")),
        "base64" => decoded(&body.split_whitespace().collect::<String>()),
        _ => body.to_owned(),
    };
    Mail { to, subject: words(field("Subject").unwrap_or_default()), text: text.replace("\r\n", "\n") }
}

fn decoded(text: &str) -> String {
    use base64::Engine;
    let bytes = base64::engine::general_purpose::STANDARD.decode(text).unwrap_or_default();
    String::from_utf8_lossy(&bytes).into_owned()
}

/// Quoted-printable (RFC 2045 6.7).
fn quoted(text: &str) -> String {
    let mut out = vec![];
    let mut rest = text.as_bytes();
    while let Some((byte, after)) = rest.split_first() {
        let hex = (*byte == b'=').then(|| after.get(..2)).flatten();
        match hex.and_then(|h| u8::from_str_radix(std::str::from_utf8(h).ok()?, 16).ok()) {
            Some(b) => {
                out.push(b);
                rest = &after[2..];
            }
            None => {
                out.push(*byte);
                rest = after;
            }
        }
    }
    String::from_utf8_lossy(&out).into_owned()
}

/// Encoded words (RFC 2047) in base64 or quoted-printable.
fn words(text: &str) -> String {
    let mut out = String::new();
    let mut rest = text;
    while let Some((before, after)) = rest.split_once("=?") {
        let mut parts = after.splitn(4, '?');
        let (Some(_), Some(kind), Some(content), Some(tail)) = (parts.next(), parts.next(), parts.next(), parts.next()) else {
            break;
        };
        if !before.trim().is_empty() {
            out.push_str(before);
        }
        out.push_str(&if kind.eq_ignore_ascii_case("b") { decoded(content) } else { quoted(&content.replace('_', " ")) });
        rest = tail.strip_prefix('=').unwrap_or(tail);
    }
    out.push_str(rest);
    out
}

async fn front(State(held): State<MailBox>) -> Html<String> {
    let mails = held.all();
    page(
        "Mail box",
        html! {
            h1 { "Mail box of the harbour" }
            p { "Whatever is sent in the demo arrives here, for whomever it is." }
            @if mails.is_empty() { p { "Nothing has come yet." } }
            @for m in &mails {
                h2 { (m.subject) }
                p { "To " strong { (m.to) } }
                pre { (m.text) }
            }
        },
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mail_is_read_in_the_encodings_it_comes_in() {
        let plain = read_mail("a@b".into(), "Subject: a\r\n b\r\n\r\none\r\ntwo\r\n");
        assert_eq!((plain.subject.as_str(), plain.text.as_str()), ("a b", "one\ntwo\n"));
        let coded = "subject: =?utf-8?b?w6k=?= =?utf-8?q?_x=C3=A9?=\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\ncaf=C3=A9 =\r\nici\r\n";
        let coded = read_mail("a@b".into(), coded);
        assert_eq!((coded.subject.as_str(), coded.text.as_str()), ("é xé", "café ici\n"));
    }
}
