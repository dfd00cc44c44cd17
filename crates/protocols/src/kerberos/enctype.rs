//! Encryption types by the names and numbers that IANA registers (Kerberos Encryption Type Numbers).

const NAMES: &[(i32, &str, bool)] = &[
    (1, "des-cbc-crc", true),
    (2, "des-cbc-md4", true),
    (3, "des-cbc-md5", true),
    (16, "des3-cbc-sha1-kd", true),
    (17, "aes128-cts-hmac-sha1-96", false),
    (18, "aes256-cts-hmac-sha1-96", false),
    (19, "aes128-cts-hmac-sha256-128", false),
    (20, "aes256-cts-hmac-sha384-192", false),
    (23, "rc4-hmac", true),
    (24, "rc4-hmac-exp", true),
    (25, "camellia128-cts-cmac", false),
    (26, "camellia256-cts-cmac", false),
];

/// The registered name; `enctype N` for any other number.
pub fn name(number: i32) -> String {
    NAMES.iter().find(|(n, _, _)| *n == number).map_or_else(|| format!("enctype {number}"), |(_, name, _)| (*name).to_owned())
}

/// Whether it is deprecated (RFC 6649, RFC 8429): single and triple DES, RC4.
pub fn is_weak(number: i32) -> bool {
    NAMES.iter().any(|(n, _, weak)| *n == number && *weak)
}

/// The number of a registered name, as configuration files write it.
pub fn number(name: &str) -> Option<i32> {
    let name = name.to_ascii_lowercase();
    let name = match name.as_str() {
        "aes256-cts" | "aes256-sha1" => "aes256-cts-hmac-sha1-96",
        "aes128-cts" | "aes128-sha1" => "aes128-cts-hmac-sha1-96",
        "aes256-sha2" => "aes256-cts-hmac-sha384-192",
        "aes128-sha2" => "aes128-cts-hmac-sha256-128",
        "arcfour-hmac" | "arcfour-hmac-md5" => "rc4-hmac",
        "des3-cbc-sha1" | "des3-hmac-sha1" => "des3-cbc-sha1-kd",
        other => other,
    };
    NAMES.iter().find(|(_, n, _)| *n == name).map(|(n, _, _)| *n)
}

/// Words that stand for several (MIT Kerberos, `krb5.conf(5)`).
const FAMILIES: &[(&str, &[i32])] = &[
    ("default", &[18, 17, 20, 19, 26, 25]),
    ("aes", &[18, 17, 20, 19]),
    ("rc4", &[23]),
    ("des3", &[16]),
    ("des", &[1, 2, 3]),
    ("camellia", &[26, 25]),
];

/// Whether a word stands for several; one that is taken away again (`-rc4`) stands for none.
pub fn is_family(word: &str) -> bool {
    let word = word.to_ascii_lowercase();
    match word.strip_prefix('-') {
        Some(without) => number(without).is_some() || is_family(without),
        None => FAMILIES.iter().any(|(name, _)| *name == word.trim_start_matches('+')),
    }
}

/// Those that a word stands for.
pub fn family(word: &str) -> Vec<i32> {
    let word = word.to_ascii_lowercase();
    FAMILIES.iter().find(|(name, _)| *name == word.trim_start_matches('+')).map(|(_, all)| all.to_vec()).unwrap_or_default()
}
