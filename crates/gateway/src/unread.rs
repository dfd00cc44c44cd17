//! Requests that the HTTP library cannot read are answered by it with a bare status, before anything of ours is asked. Here that answer
//! gets words, so that whoever sees it knows what it is about and that it came from here.

use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::task::{Context, Poll, ready};

use hyper::rt::{Read, ReadBufCursor, Write};

/// The statuses with which the library answers by itself, and what is said of each.
const STATUSES: [(&str, &str); 3] = [
    ("400 Bad Request", "This request cannot be read as HTTP.\n"),
    ("414 URI Too Long", "The address of this request is too long.\n"),
    ("431 Request Header Fields Too Large", "This request's head is too large, or has too many fields.\n"),
];

/// The longest of such answers, in octets.
const BARE_MAX: usize = 256;

/// Whether the answer under way was made by us, or by an application, and has such a status and no body: it stays as it is.
#[derive(Clone, Debug, Default)]
pub(crate) struct Meant(Arc<AtomicBool>);

impl Meant {
    /// Notes an answer that was made here.
    pub(crate) fn note(&self, status: http::StatusCode, is_empty: bool) {
        self.0.store(is_empty && matches!(status.as_u16(), 400 | 414 | 431), Ordering::Relaxed);
    }

    fn take(&self) -> bool {
        self.0.swap(false, Ordering::Relaxed)
    }
}

/// The answer with words, where these octets are exactly one that the library makes by itself.
fn worded(octets: &[u8]) -> Option<Vec<u8>> {
    let text = octets.strip_prefix(b"HTTP/1.1 ").filter(|_| octets.len() <= BARE_MAX)?;
    let mut lines = std::str::from_utf8(text).ok()?.strip_suffix("\r\n\r\n")?.split("\r\n");
    let status = lines.next()?;
    let (_, words) = STATUSES.iter().find(|(s, _)| *s == status)?;
    let mut head = format!("HTTP/1.1 {status}\r\n");
    let mut empty = false;
    for line in lines {
        match line.split_once(": ")? {
            ("content-length", "0") => empty = true,
            ("connection", "close") | ("date", _) => head.push_str(&format!("{line}\r\n")),
            _ => return None,
        }
    }
    let kind = "content-type: text/plain; charset=utf-8\r\ncache-control: no-store\r\nx-content-type-options: nosniff\r\n";
    empty.then(|| format!("{head}{kind}content-length: {}\r\n\r\n{words}", words.len()).into_bytes())
}

/// A connection whose bare answers get words.
pub(crate) struct Worded<T> {
    io: T,
    meant: Meant,
    /// What is written in the place of an answer, how far, and how many octets it stands for.
    instead: Option<(Vec<u8>, usize, usize)>,
}

impl<T: Write + Unpin> Worded<T> {
    pub(crate) fn new(io: T, meant: Meant) -> Worded<T> {
        Worded { io, meant, instead: None }
    }

    /// Whether these octets are to be written otherwise.
    fn begins(&mut self, octets: &[u8]) {
        if self.instead.is_none()
            && octets.starts_with(b"HTTP/1.1 4")
            && let Some(answer) = worded(octets)
            && !self.meant.take()
        {
            self.instead = Some((answer, 0, octets.len()));
        }
    }

    /// Writes what stands in the place of an answer. Ready with how much of the answer that was, or none where there is none.
    fn poll_instead(&mut self, cx: &mut Context<'_>) -> Poll<std::io::Result<Option<usize>>> {
        let Some((answer, written, stands_for)) = &mut self.instead else { return Poll::Ready(Ok(None)) };
        while *written < answer.len() {
            let n = ready!(Pin::new(&mut self.io).poll_write(cx, &answer[*written..]))?;
            if n == 0 {
                return Poll::Ready(Err(std::io::ErrorKind::WriteZero.into()));
            }
            *written += n;
        }
        let n = *stands_for;
        self.instead = None;
        Poll::Ready(Ok(Some(n)))
    }
}

impl<T: Read + Unpin> Read for Worded<T> {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: ReadBufCursor<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.io).poll_read(cx, buf)
    }
}

impl<T: Write + Unpin> Write for Worded<T> {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &[u8]) -> Poll<std::io::Result<usize>> {
        self.begins(buf);
        match ready!(self.poll_instead(cx))? {
            Some(n) => Poll::Ready(Ok(n)),
            None => Pin::new(&mut self.io).poll_write(cx, buf),
        }
    }

    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        bufs: &[std::io::IoSlice<'_>],
    ) -> Poll<std::io::Result<usize>> {
        if let Some(first) = bufs.iter().find(|b| !b.is_empty()) {
            self.begins(first);
        }
        match ready!(self.poll_instead(cx))? {
            Some(n) => Poll::Ready(Ok(n)),
            None => Pin::new(&mut self.io).poll_write_vectored(cx, bufs),
        }
    }

    fn is_write_vectored(&self) -> bool {
        self.io.is_write_vectored()
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.io).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.io).poll_shutdown(cx)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_bare_answer_of_the_library_gets_words() {
        let bare =
            |status: &str, more: &str| format!("HTTP/1.1 {status}\r\n{more}content-length: 0\r\ndate: x\r\n\r\n").into_bytes();
        let text = String::from_utf8(worded(&bare("400 Bad Request", "connection: close\r\n")).unwrap()).unwrap();
        assert!(text.starts_with("HTTP/1.1 400 Bad Request\r\nconnection: close\r\ndate: x\r\n"), "{text}");
        assert!(text.ends_with("content-length: 37\r\n\r\nThis request cannot be read as HTTP.\n"), "{text}");
        assert!(worded(&bare("431 Request Header Fields Too Large", "")).is_some());
        for other in [
            bare("404 Not Found", ""),
            bare("400 Bad Request", "x-app: 1\r\n"),
            b"HTTP/1.1 400 Bad Request\r\ncontent-length: 2\r\n\r\nno".to_vec(),
            b"HTTP/1.1 400 Bad Request\r\n\r\n".to_vec(),
            [bare("400 Bad Request", ""), b"x".to_vec()].concat(),
        ] {
            assert!(worded(&other).is_none(), "{}", String::from_utf8_lossy(&other));
        }
    }

    #[test]
    fn an_answer_that_is_meant_bare_stays_so_once() {
        let meant = Meant::default();
        meant.note(http::StatusCode::BAD_REQUEST, false);
        meant.note(http::StatusCode::NOT_FOUND, true);
        assert!(!meant.take());
        meant.note(http::StatusCode::BAD_REQUEST, true);
        assert!(meant.take() && !meant.take());
        meant.note(http::StatusCode::BAD_REQUEST, true);
        meant.note(http::StatusCode::OK, true);
        assert!(!meant.take(), "what was answered since counts");
    }
}
