//! Files of a machine: of this one, or of a folder that holds the files of another. Links are followed within that folder, as they
//! would be followed on the machine itself, and none leads out of it.

use std::collections::VecDeque;
use std::io::{self, Read};
use std::path::{Component, Path, PathBuf};
use std::time::SystemTime;

/// As many links are followed, as the system would.
const LINKS_MAX: usize = 40;

/// Where paths begin.
#[derive(Clone, Debug)]
pub struct Root(PathBuf);

/// Where a path leads.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Led {
    /// The path of what is there, seen from the root.
    pub path: String,
    /// Links on the way: from where, and to where as they are written.
    pub links: Vec<(String, String)>,
}

impl Root {
    /// This machine.
    pub fn system() -> Root {
        Root("/".into())
    }

    /// A folder with the files of a machine, as `etc/krb5.conf` in it.
    pub fn folder(at: &Path) -> Root {
        Root(at.to_owned())
    }

    /// Whether it is this machine.
    pub fn is_system(&self) -> bool {
        self.0 == Path::new("/")
    }

    /// Where a path of the machine lies here, links not followed. Whatever it says, it lies below.
    pub fn real(&self, path: &str) -> PathBuf {
        let mut below: Vec<String> = vec![];
        for part in parts(path) {
            match part.as_str() {
                ".." => drop(below.pop()),
                _ => below.push(part),
            }
        }
        self.0.join(below.join("/"))
    }

    /// Where a link leads, as it is written; none where the path is none.
    pub fn link(&self, path: &str) -> Option<String> {
        let (folder, name) = path.trim_end_matches('/').rsplit_once('/')?;
        let folder = self.follow(folder).ok()?.path;
        let to = std::fs::read_link(self.real(&format!("{folder}/{name}"))).ok()?;
        Some(to.to_string_lossy().into_owned())
    }

    /// Follows a path, link by link.
    ///
    /// # Errors
    /// Where it leads nowhere: the error names the link that does not go on.
    pub fn follow(&self, path: &str) -> io::Result<Led> {
        let mut left: VecDeque<String> = parts(path);
        let (mut at, mut links): (Vec<String>, Vec<(String, String)>) = (vec![], vec![]);
        while let Some(part) = left.pop_front() {
            if part == ".." {
                at.pop();
                continue;
            }
            at.push(part);
            let here = format!("/{}", at.join("/"));
            let meta = std::fs::symlink_metadata(self.real(&here)).map_err(|e| match links.last() {
                Some((from, to)) => io::Error::new(e.kind(), format!("the link {from} leads to {to}, which is not there")),
                None => e,
            })?;
            if !meta.file_type().is_symlink() {
                continue;
            }
            let to = std::fs::read_link(self.real(&here))?;
            let text = to.to_string_lossy().into_owned();
            links.push((here.clone(), text.clone()));
            if links.len() > LINKS_MAX {
                return Err(io::Error::other(format!("the link {here} leads round in a circle")));
            }
            at.pop();
            if to.is_absolute() {
                at.clear();
            }
            let mut onward = parts(&text);
            onward.append(&mut left);
            left = onward;
        }
        Ok(Led { path: format!("/{}", at.join("/")), links })
    }

    /// Reads a file.
    ///
    /// # Errors
    /// When it cannot be read, is no file, or is longer than `max` bytes.
    pub fn read(&self, path: &str, max: usize) -> io::Result<Vec<u8>> {
        let real = self.real(&self.follow(path)?.path);
        if !std::fs::metadata(&real)?.is_file() {
            return Err(io::Error::other("it is no file"));
        }
        let mut out = vec![];
        let limit = u64::try_from(max).unwrap_or(u64::MAX);
        std::fs::File::open(real)?.take(limit.saturating_add(1)).read_to_end(&mut out)?;
        if out.len() > max { Err(io::Error::other(format!("it is longer than {max} bytes"))) } else { Ok(out) }
    }

    /// The same as text; whatever is no UTF-8 is marked as such.
    ///
    /// # Errors
    /// As for [`Root::read`].
    pub fn text(&self, path: &str, max: usize) -> io::Result<String> {
        Ok(String::from_utf8_lossy(&self.read(path, max)?).into_owned())
    }

    /// Names in a folder, in order.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn names(&self, path: &str) -> io::Result<Vec<String>> {
        let real = self.real(&self.follow(path)?.path);
        let mut out: Vec<String> =
            std::fs::read_dir(real)?.filter_map(|e| e.ok()?.file_name().into_string().ok()).take(10_000).collect();
        out.sort();
        Ok(out)
    }

    /// What the system says of a file.
    pub fn meta(&self, path: &str) -> Option<std::fs::Metadata> {
        std::fs::metadata(self.real(&self.follow(path).ok()?.path)).ok()
    }

    /// When a file was changed last.
    pub fn changed(&self, path: &str) -> Option<SystemTime> {
        self.meta(path)?.modified().ok()
    }
}

fn parts(path: &str) -> VecDeque<String> {
    let text = |c: Component<'_>| match c {
        Component::Normal(name) => Some(name.to_string_lossy().into_owned()),
        Component::ParentDir => Some("..".to_owned()),
        Component::RootDir | Component::CurDir | Component::Prefix(_) => None,
    };
    Path::new(path).components().filter_map(text).collect()
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]
    use super::*;
    use std::os::unix::fs::symlink;

    #[test]
    fn nothing_outside_is_reached_whatever_a_path_says() {
        let folder = tempfile::tempdir().unwrap();
        let root = Root::folder(folder.path());
        for path in ["/../../etc/passwd", "../../../etc/passwd", "/a/../../../../etc/passwd"] {
            assert!(root.real(path).starts_with(folder.path()) && !root.real(path).to_string_lossy().contains(".."), "{path}");
        }
        // A folder that is a link out of it is followed within it.
        std::os::unix::fs::symlink("/etc", folder.path().join("out")).unwrap();
        assert_eq!(root.link("/out/localtime"), None);
        assert_eq!(root.link("/out"), Some("/etc".to_owned()));
        assert_eq!(root.link("/../../etc/mtab"), None);
    }

    #[test]
    fn links_stay_within_the_folder_and_are_told() {
        let dir = tempfile::tempdir().unwrap();
        let root = Root::folder(dir.path());
        std::fs::create_dir_all(dir.path().join("etc/krb5.conf.d")).unwrap();
        std::fs::write(dir.path().join("etc/real.conf"), "text").unwrap();
        symlink("/etc/real.conf", dir.path().join("etc/krb5.conf")).unwrap();
        symlink("../../../../etc/passwd", dir.path().join("etc/out")).unwrap();
        symlink("nowhere", dir.path().join("etc/dead")).unwrap();
        symlink("round", dir.path().join("etc/round")).unwrap();
        let led = root.follow("/etc/krb5.conf").unwrap();
        assert_eq!(led.path, "/etc/real.conf");
        assert_eq!(led.links, [("/etc/krb5.conf".to_owned(), "/etc/real.conf".to_owned())]);
        assert_eq!(root.text("/etc/krb5.conf", 10).unwrap(), "text");
        assert!(root.read("/etc/krb5.conf", 3).is_err());
        // The machine's own etc/passwd is never meant.
        assert!(root.read("/etc/out", 100_000).is_err() && root.read("../../etc/passwd", 100_000).is_err());
        let dead = root.follow("/etc/dead").unwrap_err().to_string();
        assert!(dead.contains("/etc/dead leads to nowhere"), "{dead}");
        assert!(root.follow("/etc/round").unwrap_err().to_string().contains("circle"));
        assert!(root.read("/etc", 10).is_err());
        assert_eq!(root.names("/etc").unwrap(), ["dead", "krb5.conf", "krb5.conf.d", "out", "real.conf", "round"]);
    }
}
