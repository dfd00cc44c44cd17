//! This machine's `krb5.conf`, or that of a folder, with all that it includes.

use passeur_protocols::kerberos::Config;
use passeur_protocols::kerberos::config::{FILE_MAX, Include, is_included};

use crate::files::Root;

/// Where it stands unless the environment says otherwise.
const USUAL: &str = "/etc/krb5.conf";

/// The files that the library reads in this process, in order.
pub fn files() -> Vec<String> {
    match std::env::var("KRB5_CONFIG") {
        Ok(all) if !all.is_empty() => all.split(':').filter(|f| !f.is_empty()).map(str::to_owned).collect(),
        _ => vec![USUAL.to_owned()],
    }
}

/// Reads files and what they include.
///
/// # Errors
/// Those of the files that cannot be read, where none can.
pub fn read(root: &Root, files: &[String]) -> Result<Config, String> {
    let mut texts = vec![];
    let mut missing = vec![];
    for file in files {
        match root.text(file, FILE_MAX) {
            Ok(text) => texts.push((file.clone(), text)),
            Err(e) => missing.push(format!("{file}: {e}")),
        }
    }
    if texts.is_empty() {
        return Err(missing.join("; "));
    }
    Ok(Config::read(texts, &mut |wanted| included(root, wanted)))
}

fn included(root: &Root, wanted: Include<'_>) -> Result<Vec<(String, String)>, String> {
    let text = |file: String| root.text(&file, FILE_MAX).map(|t| (file, t)).map_err(|e| e.to_string());
    match wanted {
        Include::File(name) => Ok(vec![text(name.to_owned())?]),
        Include::Folder(name) => {
            let names = root.names(name).map_err(|e| e.to_string())?;
            let all = names.iter().filter(|n| is_included(n)).map(|n| format!("{}/{n}", name.trim_end_matches('/')));
            // A folder within is no file of it.
            all.filter(|f| root.meta(f).is_none_or(|m| m.is_file())).map(text).collect()
        }
    }
}
