//! PAM stacks (X/Open Single Sign-On, Linux-PAM's `pam.conf(5)`) as far as Kerberos goes through them: lines in order, with what
//! they include.

pub use crate::Place;

const DEPTH_MAX: usize = 16;

/// One line of a stack.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Line {
    pub place: Place,
    /// `auth`, `account`, `password` or `session`.
    pub kind: String,
    pub control: Control,
    /// Without its path.
    pub module: String,
    pub arguments: Vec<String>,
    /// `-`: nothing is said where the module is not there.
    pub may_lack: bool,
}

/// What a module's answer does.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Control {
    Required,
    Requisite,
    Sufficient,
    Optional,
    /// `[success=2 default=ignore]`: answers and what each does.
    Each(Vec<(String, String)>),
}

impl Control {
    /// Whether the stack ends with a refusal when the module refuses.
    pub fn ends_on_refusal(&self) -> bool {
        match self {
            Control::Requisite => true,
            Control::Each(all) => {
                let of = |name: &str| all.iter().find(|(n, _)| n == name).map(|(_, what)| what.as_str());
                matches!(of("auth_err").or_else(|| of("default")), Some("die"))
            }
            _ => false,
        }
    }

    /// Whether a refusal is one of the whole stack, now or in the end.
    pub fn counts_refusal(&self) -> bool {
        match self {
            Control::Required | Control::Requisite => true,
            Control::Sufficient | Control::Optional => false,
            Control::Each(all) => {
                let default = all.iter().find(|(n, _)| n == "default").map(|(_, what)| what.as_str());
                matches!(default, Some("die" | "bad"))
            }
        }
    }
}

/// A stack as a whole.
#[derive(Clone, Debug, Default)]
pub struct Stack {
    pub entries: Vec<Line>,
    /// Lines that could not be followed, and why.
    pub troubles: Vec<(Place, String)>,
}

/// Opens a file of `/etc/pam.d` by its name.
pub type Open<'o> = dyn FnMut(&str) -> Option<String> + 'o;

impl Stack {
    /// Reads the stack of a service.
    pub fn read(service: &str, open: &mut Open<'_>) -> Stack {
        let mut out = Stack::default();
        match open(service) {
            Some(text) => out.file(service, &text, None, open, 0),
            None => out.troubles.push((place(service, 0), "it is not there, so that the stack “other” stands for it".to_owned())),
        }
        out
    }

    fn file(&mut self, name: &str, text: &str, only: Option<&str>, open: &mut Open<'_>, depth: usize) {
        if depth > DEPTH_MAX {
            return self.troubles.push((place(name, 1), "files include each other without an end".to_owned()));
        }
        for (i, line) in text.lines().enumerate() {
            let at = place(name, i + 1);
            let line = line.split('#').next().unwrap_or_default().trim();
            if let Some(file) = line.strip_prefix("@include") {
                self.included(file.trim(), at, only, open, depth);
                continue;
            }
            let Some(entry) = entry(line, at.clone()) else {
                if !line.is_empty() {
                    self.troubles.push((at, "it is no line of a stack: kind, control, module".to_owned()));
                }
                continue;
            };
            if only.is_some_and(|o| o != entry.0.kind) {
                continue;
            }
            match entry {
                (e, true) => self.included(&e.module, at, Some(&e.kind), open, depth),
                (e, false) => self.entries.push(e),
            }
        }
    }

    fn included(&mut self, file: &str, at: Place, only: Option<&str>, open: &mut Open<'_>, depth: usize) {
        match open(file) {
            Some(text) => self.file(file, &text, only, open, depth + 1),
            None => self.troubles.push((at, format!("{file} is not there"))),
        }
    }

    /// Lines of one kind, in order.
    pub fn of<'s>(&'s self, kind: &'s str) -> impl Iterator<Item = &'s Line> {
        self.entries.iter().filter(move |e| e.kind == kind)
    }
}

fn place(name: &str, line: usize) -> Place {
    Place { file: format!("/etc/pam.d/{name}"), line }
}

/// A line, and whether it stands for another file.
fn entry(line: &str, place: Place) -> Option<(Line, bool)> {
    let (may_lack, line) = line.strip_prefix('-').map_or((false, line), |l| (true, l));
    let (kind, rest) = line.split_once(char::is_whitespace)?;
    let kind = kind.to_ascii_lowercase();
    if !matches!(kind.as_str(), "auth" | "account" | "password" | "session") {
        return None;
    }
    let rest = rest.trim_start();
    let (control, rest) = match rest.strip_prefix('[') {
        Some(inside) => {
            let (list, rest) = inside.split_once(']')?;
            let each = list.split_whitespace().filter_map(|p| p.split_once('='));
            (Control::Each(each.map(|(a, b)| (a.to_owned(), b.to_owned())).collect()), rest)
        }
        None => {
            let (word, rest) = rest.split_once(char::is_whitespace)?;
            let control = match word.to_ascii_lowercase().as_str() {
                "required" => Control::Required,
                "requisite" => Control::Requisite,
                "sufficient" => Control::Sufficient,
                "optional" => Control::Optional,
                "include" | "substack" => {
                    let module = rest.trim().to_owned();
                    let entry = Line { place, kind, control: Control::Required, module, arguments: vec![], may_lack };
                    return Some((entry, true));
                }
                _ => return None,
            };
            (control, rest)
        }
    };
    let mut words = rest.split_whitespace().map(str::to_owned);
    let module = words.next()?;
    let module = module.rsplit('/').next().unwrap_or_default().to_owned();
    Some((Line { place, kind, control, module, arguments: words.collect(), may_lack }, false))
}
