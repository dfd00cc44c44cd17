//! Processes under measurement: started from this binary, asked for what they used, ended with it.

use std::io::{BufRead, BufReader, Write};
use std::net::SocketAddr;
use std::process::{Child, Command, Stdio};

/// Tells the parent where this process listens.
pub fn announce(clear: SocketAddr, secure: Option<SocketAddr>) {
    let mut out = std::io::stdout();
    let _ = writeln!(out, "{clear} {}", secure.unwrap_or(clear));
    let _ = out.flush();
}

/// A running process.
pub struct Running {
    child: Child,
    pub clear: SocketAddr,
    pub secure: SocketAddr,
}

impl Running {
    pub fn start(args: &[&str]) -> Running {
        let mut command = Command::new(std::env::current_exe().expect("our own path"));
        command.args(args);
        Running::spawn(command)
    }

    /// From a command that runs a role in the end.
    pub fn spawn(mut command: Command) -> Running {
        let mut child = command.stdout(Stdio::piped()).spawn().expect("a process");
        let mut line = String::new();
        BufReader::new(child.stdout.take().expect("its output")).read_line(&mut line).expect("a line");
        let mut addresses = line.split_whitespace().map(|a| a.parse().expect("an address"));
        let mut next = || addresses.next().expect("two addresses");
        Running { child, clear: next(), secure: next() }
    }

    /// Its number.
    pub fn id(&self) -> u32 {
        self.child.id()
    }

    /// CPU time used so far, in seconds.
    pub fn cpu(&self) -> f64 {
        let stat = std::fs::read_to_string(format!("/proc/{}/stat", self.child.id())).unwrap_or_default();
        let after = stat.rsplit_once(')').map_or("", |(_, r)| r);
        let fields: Vec<&str> = after.split_whitespace().collect();
        let ticks: f64 = [11, 12].iter().filter_map(|i| fields.get(*i)).filter_map(|f| f.parse::<f64>().ok()).sum();
        ticks / 100.0
    }

    /// A figure of /proc/PID/status in KiB, such as VmHWM (peak) or VmRSS.
    pub fn memory(&self, name: &str) -> u64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.child.id())).unwrap_or_default();
        let line = status.lines().find(|l| l.starts_with(name)).unwrap_or_default();
        line.split_whitespace().nth(1).and_then(|v| v.parse().ok()).unwrap_or(0)
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
