//! Our own metadata (saml-metadata-2.0-os 2.4.4): what a provider's team needs to know of us, signed.

use chrono::{DateTime, Duration, Utc};

use super::metadata::{METADATA, POST, REDIRECT};
use super::write::{Signs, escaped, key_info, moment, signed};
use super::{ASSERTION, PROTOCOL};

/// For how long it is good, in days: whoever fetches it again in time notices a new certificate while the old one still counts.
const GOOD_FOR: i64 = 7;

/// What we say of ourselves.
#[derive(Clone, Debug)]
pub struct Party<'a> {
    /// Not a digit at its beginning: it is an XML name.
    pub id: &'a str,
    pub entity_id: &'a str,
    pub now: DateTime<Utc>,
    /// Certificates (DER) of our keys: the one in use first, then those it takes over from or that take over from it.
    pub certificates: &'a [Vec<u8>],
    /// Whether we sign requests.
    pub signs: bool,
    /// One for each provider.
    pub consumers: Vec<Consumer<'a>>,
}

/// What concerns one provider.
#[derive(Clone, Debug)]
pub struct Consumer<'a> {
    /// Where answers are wanted.
    pub answer: String,
    /// Where messages to sign out are wanted.
    pub sign_out: String,
    pub name_id: Option<&'a str>,
    /// What people read of us.
    pub title: &'a str,
    /// Names of attributes that something here needs.
    pub attributes: Vec<&'a str>,
}

impl Party<'_> {
    /// The document; signed where something signs for us. None where it could not be signed.
    pub fn xml(&self, signer: Option<&dyn Signs>) -> Option<String> {
        let start = format!(
            "<md:EntityDescriptor xmlns:md=\"{METADATA}\" xmlns:saml=\"{ASSERTION}\" ID=\"{}\" entityID=\"{}\" validUntil=\"{}\" cacheDuration=\"PT1H\">",
            escaped(self.id),
            escaped(self.entity_id),
            moment(self.now + Duration::days(GOOD_FOR)),
        );
        let keys: String = self.certificates.iter().map(|c| key("signing", c, "") + &key("encryption", c, METHODS)).collect();
        let mut formats: Vec<&str> = self.consumers.iter().filter_map(|c| c.name_id).collect();
        formats.dedup();
        let formats: String = formats.iter().map(|f| format!("<md:NameIDFormat>{}</md:NameIDFormat>", escaped(f))).collect();
        let sign_out: String = self
            .consumers
            .iter()
            .flat_map(|c| {
                [REDIRECT, POST]
                    .map(|b| format!("<md:SingleLogoutService Binding=\"{b}\" Location=\"{}\"/>", escaped(&c.sign_out)))
            })
            .collect();
        let answers: String = self
            .consumers
            .iter()
            .enumerate()
            .map(|(i, c)| {
                let first = if i == 0 { " isDefault=\"true\"" } else { "" };
                let at = escaped(&c.answer);
                format!("<md:AssertionConsumerService Binding=\"{POST}\" Location=\"{at}\" index=\"{i}\"{first}/>")
            })
            .collect();
        let wanted: String = self.consumers.iter().enumerate().map(|(i, c)| wanted(i, c)).collect();
        let document = format!(
            "{start}<md:SPSSODescriptor protocolSupportEnumeration=\"{PROTOCOL}\" AuthnRequestsSigned=\"{}\" WantAssertionsSigned=\"true\">\
             {keys}{sign_out}{formats}{answers}{wanted}</md:SPSSODescriptor></md:EntityDescriptor>",
            self.signs,
        );
        match signer {
            Some(signer) => signed(&document, self.id, &start, signer),
            None => Some(document),
        }
    }
}

/// What we open: see [`super::encryption`]. The digest and the mask are named with each (XML Encryption 1.1 5.5.2), so that nobody takes
/// us to open one hash in the other.
const METHODS: &str = "<md:EncryptionMethod Algorithm=\"http://www.w3.org/2009/xmlenc11#aes256-gcm\"/>\
                       <md:EncryptionMethod Algorithm=\"http://www.w3.org/2009/xmlenc11#aes128-gcm\"/>\
                       <md:EncryptionMethod Algorithm=\"http://www.w3.org/2009/xmlenc11#rsa-oaep\">\
                       <ds:DigestMethod xmlns:ds=\"http://www.w3.org/2000/09/xmldsig#\" Algorithm=\"http://www.w3.org/2001/04/xmlenc#sha256\"/>\
                       <xenc11:MGF xmlns:xenc11=\"http://www.w3.org/2009/xmlenc11#\" Algorithm=\"http://www.w3.org/2009/xmlenc11#mgf1sha256\"/>\
                       </md:EncryptionMethod>\
                       <md:EncryptionMethod Algorithm=\"http://www.w3.org/2001/04/xmlenc#rsa-oaep-mgf1p\">\
                       <ds:DigestMethod xmlns:ds=\"http://www.w3.org/2000/09/xmldsig#\" Algorithm=\"http://www.w3.org/2000/09/xmldsig#sha1\"/>\
                       </md:EncryptionMethod>";

fn key(usage: &str, certificate: &[u8], methods: &str) -> String {
    format!("<md:KeyDescriptor use=\"{usage}\">{}{methods}</md:KeyDescriptor>", key_info(certificate))
}

fn wanted(index: usize, c: &Consumer<'_>) -> String {
    if c.attributes.is_empty() {
        return String::new();
    }
    // Without a format a name is of none, and providers that compare it release nothing (saml-core 2.7.3.1).
    let format = |name: &str| if name.contains(':') { "uri" } else { "basic" };
    let wanted = |a: &&str| {
        let format = format(a);
        format!(
            "<md:RequestedAttribute Name=\"{}\" NameFormat=\"urn:oasis:names:tc:SAML:2.0:attrname-format:{format}\"/>",
            escaped(a)
        )
    };
    let all: String = c.attributes.iter().map(wanted).collect();
    format!(
        "<md:AttributeConsumingService index=\"{index}\"><md:ServiceName xml:lang=\"en\">{}</md:ServiceName>{all}</md:AttributeConsumingService>",
        escaped(c.title)
    )
}
