//! Exit codes, documented in `passeur help` and docs/commands.md.

use std::process::ExitCode;

use passeur_api::Problem;
use passeur_core::text::visible;

/// Shown at the end of `passeur help`.
pub const HELP: &str = "Exit codes:
  0  done
  1  it failed
  2  the command line is wrong
  3  done, and the answer is no: mistakes in a site file, a trial that found a wrong value, nobody found, a way that is closed
  4  there is no such thing
  5  not allowed: token missing, unknown, or its role does not reach
  6  the service does not answer";

/// Why a command did not end well.
#[derive(Debug)]
pub enum Exit {
    Failed(String),
    /// The answer is no; it was printed already.
    No,
    /// What is missing on the command line, where clap cannot know it.
    Usage(String),
    /// A file with mistakes: the answer is no, with these words.
    Mistakes(String),
    NotFound(String),
    NotAllowed(String),
    NoService(String),
}

impl Exit {
    /// Prints what is to be said and gives the code.
    pub fn report(self) -> ExitCode {
        let (code, words) = match self {
            Exit::Failed(w) => (1, w),
            Exit::Usage(w) => (2, w),
            Exit::No => (3, String::new()),
            Exit::Mistakes(w) => (3, w),
            Exit::NotFound(w) => (4, w),
            Exit::NotAllowed(w) => (5, w),
            Exit::NoService(w) => (6, w),
        };
        if !words.is_empty() {
            eprintln!("passeur: {}", words.lines().map(visible).collect::<Vec<_>>().join("\n"));
        }
        ExitCode::from(code)
    }

    /// From a problem document.
    pub fn of_problem(p: &Problem) -> Exit {
        let mut words = format!("{}: {}", p.title, p.detail);
        for f in &p.findings {
            words.push_str(&format!("\n  line {}: {}: {}: {}\n      {}", f.line, f.severity, f.place, f.what, f.remedy));
        }
        for a in &p.refuses {
            words.push_str(&format!("\n  {} at {}: {}", a.person, a.gate, a.then));
        }
        if let Some(word) = &p.anyway {
            words.push_str(&format!("\n  To do it all the same: --anyway {word}"));
        }
        match p.status {
            401 | 403 => Exit::NotAllowed(words),
            404 => Exit::NotFound(words),
            422 => Exit::Mistakes(words),
            _ => Exit::Failed(words),
        }
    }
}

/// Ends the program where its output cannot be written: quietly where the reader has had enough (`| head`), and with 1 where a disk is
/// full, so that nobody takes half a list for the whole.
pub fn not_written(e: &std::io::Error) -> ! {
    if e.kind() == std::io::ErrorKind::BrokenPipe {
        std::process::exit(0);
    }
    eprintln!("passeur: the output cannot be written: {e}");
    std::process::exit(1)
}
