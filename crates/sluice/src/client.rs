//! The service's side: one connection, made anew where it broke, and an answer for each order within a deadline.

use std::io::{self, BufRead, BufReader, Read, Write};
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::time::Duration;

use thiserror::Error;

use crate::words::{Answer, Ask, Compared, Counted, Held, LINE_MAX, Order, State, Way};

/// An order that changes little is answered within this time.
const SOON: Duration = Duration::from_secs(2);
/// One that changes everything within this.
const LATER: Duration = Duration::from_secs(20);

/// Why the sluice did not do something.
#[derive(Debug, Error)]
pub enum SluiceError {
    #[error("the sluice at {path} does not answer: {why}")]
    Silent { path: PathBuf, why: io::Error },
    #[error("the sluice refused: {0}")]
    Refused(String),
    #[error("the sluice answered something else")]
    Other,
}

/// A way to the sluice. Calls block the thread for as long as the sluice takes.
pub struct Client {
    path: PathBuf,
    connection: Mutex<Option<BufReader<UnixStream>>>,
}

impl Client {
    /// By its socket; nothing is opened yet.
    pub fn new(path: &Path) -> Client {
        Client { path: path.to_owned(), connection: Mutex::new(None) }
    }

    /// Where it is asked.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Gives an order.
    ///
    /// # Errors
    /// The sluice is not there, does not answer in time, or refuses.
    pub fn ask(&self, order: &Order) -> Result<Answer, SluiceError> {
        let silent = |why| SluiceError::Silent { path: self.path.clone(), why };
        let mut line = serde_json::to_vec(order).map_err(|e| silent(e.into()))?;
        line.push(b'\n');
        let deadline = match order {
            Order::Install { .. } | Order::Names(_) | Order::Count | Order::List => LATER,
            _ => SOON,
        };
        let mut connection = self.connection.lock().unwrap_or_else(|e| e.into_inner());
        let known = connection.is_some();
        let mut done = self.once(&mut connection, &line, deadline);
        if done.is_err() && known {
            // The sluice was started anew. Orders may be given twice.
            done = self.once(&mut connection, &line, deadline);
        }
        match done.map_err(silent)? {
            Answer::Refused(why) => Err(SluiceError::Refused(why)),
            answer => Ok(answer),
        }
    }

    fn once(&self, connection: &mut Option<BufReader<UnixStream>>, line: &[u8], deadline: Duration) -> io::Result<Answer> {
        let mut reader = match connection.take() {
            Some(reader) => reader,
            None => BufReader::new(UnixStream::connect(&self.path)?),
        };
        reader.get_ref().set_read_timeout(Some(deadline))?;
        reader.get_ref().set_write_timeout(Some(deadline))?;
        reader.get_mut().write_all(line)?;
        let mut answer = Vec::new();
        reader.by_ref().take(LINE_MAX).read_until(b'\n', &mut answer)?;
        if answer.is_empty() {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        let answer = serde_json::from_slice(&answer).map_err(io::Error::other)?;
        // Kept only where the answer to this order was read.
        *connection = Some(reader);
        Ok(answer)
    }

    /// An order that is done or refused.
    ///
    /// # Errors
    /// See [`Client::ask`].
    pub fn order(&self, order: &Order) -> Result<(), SluiceError> {
        match self.ask(order)? {
            Answer::Done => Ok(()),
            _ => Err(SluiceError::Other),
        }
    }

    /// Installs, and says what was otherwise.
    ///
    /// # Errors
    /// See [`Client::ask`].
    pub fn install(&self, order: &Order) -> Result<Compared, SluiceError> {
        match self.ask(order)? {
            Answer::Compared(compared) => Ok(compared),
            _ => Err(SluiceError::Other),
        }
    }

    /// What passed.
    ///
    /// # Errors
    /// See [`Client::ask`].
    pub fn count(&self) -> Result<Vec<Counted>, SluiceError> {
        match self.ask(&Order::Count)? {
            Answer::Counted(all) => Ok(all),
            _ => Err(SluiceError::Other),
        }
    }

    /// What the kernel holds.
    ///
    /// # Errors
    /// See [`Client::ask`].
    pub fn held(&self) -> Result<Vec<Held>, SluiceError> {
        match self.ask(&Order::List)? {
            Answer::Held(all) => Ok(all),
            _ => Err(SluiceError::Other),
        }
    }

    /// Whether the kernel lets a machine reach something.
    ///
    /// # Errors
    /// See [`Client::ask`].
    pub fn way(&self, ask: Ask) -> Result<Way, SluiceError> {
        match self.ask(&Order::Way(ask))? {
            Answer::Way(way) => Ok(way),
            _ => Err(SluiceError::Other),
        }
    }

    /// How the sluice is.
    ///
    /// # Errors
    /// See [`Client::ask`].
    pub fn state(&self) -> Result<State, SluiceError> {
        match self.ask(&Order::State)? {
            Answer::State(state) => Ok(state),
            _ => Err(SluiceError::Other),
        }
    }
}
