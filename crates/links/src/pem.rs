//! Certificate files that a site or a document names. Whoever tries a document chooses the path, so that only a plain file of a bounded
//! size is read: no pipe, device or endless file keeps a thread.

use std::io::Read;
use std::os::unix::fs::OpenOptionsExt;

/// The largest certificate file: the system's own holds a quarter of that.
const PEM_MAX: u64 = 1 << 20;

/// Reads a certificate file.
///
/// # Errors
/// Why it cannot be read, in words.
pub fn read(path: &str) -> Result<Vec<u8>, String> {
    // Opening a pipe would wait for somebody who writes.
    let file = std::fs::OpenOptions::new().read(true).custom_flags(libc::O_NONBLOCK).open(path).map_err(|e| e.to_string())?;
    let about = file.metadata().map_err(|e| e.to_string())?;
    if !about.is_file() {
        return Err("it is no plain file".to_owned());
    }
    let mut out = vec![];
    file.take(PEM_MAX + 1).read_to_end(&mut out).map_err(|e| e.to_string())?;
    if out.len() as u64 > PEM_MAX {
        return Err(format!("it is larger than {} KiB", PEM_MAX / 1024));
    }
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_plain_file_of_a_bounded_size_is_read() {
        let folder = std::env::temp_dir().join(format!("passeur-pem-{}", std::process::id()));
        std::fs::create_dir_all(&folder).unwrap();
        let at = |name: &str| folder.join(name).to_str().unwrap().to_owned();
        std::fs::write(at("plain"), "x").unwrap();
        std::fs::write(at("large"), vec![b'x'; (1 << 20) + 1]).unwrap();
        let made = std::process::Command::new("mkfifo").arg(at("pipe")).status().unwrap();
        assert!(made.success());
        assert_eq!(read(&at("plain")).unwrap(), b"x");
        assert_eq!(read(&at("large")).unwrap_err(), "it is larger than 1024 KiB");
        for odd in [at("pipe"), at("."), "/dev/zero".to_owned(), "/dev/tty".to_owned(), at("missing")] {
            assert!(read(&odd).is_err(), "{odd}");
        }
        std::fs::remove_dir_all(folder).unwrap();
    }
}
