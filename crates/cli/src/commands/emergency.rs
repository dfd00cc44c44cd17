//! `passeur emergency`: the file of the account that works when everything else is broken.

use std::path::Path;

use argon2::Argon2;
use argon2::password_hash::{PasswordHasher, SaltString};
use aws_lc_rs::rand;
use passeur_core::id::Token;
use passeur_service::Emergency as Account;

use super::key_ring::write_new;
use super::read_secret;
use crate::args::Emergency;
use crate::exit::Exit;

/// The shortest password that is taken from a file.
const PASSWORD_MIN: usize = 16;

fn random<const N: usize>() -> Result<[u8; N], Exit> {
    let mut bytes = [0u8; N];
    rand::fill(&mut bytes).map_err(|_| Exit::Failed("the system gives no random bytes".into()))?;
    Ok(bytes)
}

fn chosen(file: Option<&Path>) -> Result<(String, bool), Exit> {
    match file {
        None => Ok((Token::from_random(random()?).reveal().to_owned(), true)),
        Some(path) => {
            let password = read_secret(Some(path))?;
            if password.chars().count() < PASSWORD_MIN {
                return Err(Exit::Failed(format!("the password is shorter than {PASSWORD_MIN} characters")));
            }
            Ok((password, false))
        }
    }
}

pub fn run(args: Emergency) -> Result<(), Exit> {
    let Emergency::New { file, name, network, password_file } = args;
    let (password, made) = chosen(password_file.as_deref())?;
    let salt = SaltString::encode_b64(&random::<16>()?).map_err(|e| Exit::Failed(e.to_string()))?;
    let hash = Argon2::default().hash_password(password.as_bytes(), &salt).map_err(|e| Exit::Failed(e.to_string()))?;
    let networks: Vec<String> = network.iter().map(|n| format!("\"{n}\"")).collect();
    let text = format!(
        "# The emergency account: see docs/editions.md. Its owner's alone (mode 600).\nname = {}\npassword = \"{hash}\"\nnetworks = [{}]\n",
        toml::Value::String(name),
        networks.join(", ")
    );
    Account::parse(&text).map_err(|e| Exit::Failed(e.to_string()))?;
    write_new(&file, &text)?;
    if made {
        say!("{password}");
        eprintln!("passeur: this password is shown once; keep it where it can be reached when everything else is broken");
    }
    Ok(())
}
