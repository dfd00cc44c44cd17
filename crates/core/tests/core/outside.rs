//! Codes that a server of others judges: how they are written.

use passeur_core::document::compile;

use crate::harbour::SITE;

const OUTSIDE: &str = "title = \"the code of your key fob\"\nservers = [\"192.0.2.20:1812\", \"[2001:db8::20]:1812\"]\nsecret = \"fobs\"\nname = \"user\"\n";

#[test]
fn a_server_for_codes_is_asked_by_address_with_a_secret_and_a_name() {
    let document = |outside: &str| format!("{SITE}\n[factors.outside]\n{outside}");
    let (site, findings) = compile(&document(OUTSIDE));
    assert!(findings.is_empty(), "{findings:#?}");
    let site = site.unwrap();
    assert!(site.secrets().contains(&("fobs".into(), "servers for codes".into())));
    let own = site.factors.as_ref().unwrap();
    assert!(own.prove(&["otp".into()]) && own.prove(&["mfa".into()]));
    let outside = own.outside.as_ref().unwrap();
    assert_eq!((outside.servers.len(), outside.within.num_seconds(), site.attribute_name(outside.name)), (2, 3, "user"));
    for (from, to, what) in [
        ("\"192.0.2.20:1812\"", "\"192.0.2.20\"", "\"192.0.2.20\" is no address with a port"),
        ("\"192.0.2.20:1812\"", "\"fobs.havrelune.example:1812\"", "is no address with a port"),
        ("\"192.0.2.20:1812\"", "\"169.254.169.254:1812\"", "nobody is asked at 169.254.169.254:1812"),
        ("\"192.0.2.20:1812\"", "\"192.0.2.20:0\"", "nobody is asked at 192.0.2.20:0"),
        ("\"192.0.2.20:1812\"", "\"[2001:db8::20]:1812\"", "stands twice"),
        ("servers = [\"192.0.2.20:1812\", \"[2001:db8::20]:1812\"]", "servers = []", "servers is empty"),
        ("secret = \"fobs\"\n", "", "secret is missing"),
        ("name = \"user\"", "name = \"fob\"", "there is no attribute \"fob\""),
        ("name = \"user\"", "name = \"user\"\nwithin = \"1m\"", "within"),
    ] {
        let (_, findings) = compile(&document(&OUTSIDE.replacen(from, to, 1)));
        assert!(findings.iter().any(|f| f.what.contains(what)), "{what}: {findings:#?}");
    }
}
