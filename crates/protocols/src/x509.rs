//! What a certificate says of itself that matters here (RFC 5280 4.1.2.5, 4.2.1.6): until when it is good, and for which
//! names. Whether it is to be trusted is decided elsewhere, by the TLS library.

use chrono::{DateTime, Utc};
use x509_parser::prelude::{FromDer, GeneralName, X509Certificate};

/// A certificate as read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Certificate {
    pub not_before: DateTime<Utc>,
    pub not_after: DateTime<Utc>,
    /// DNS names of the subject alternative names, in lower case.
    pub names: Vec<String>,
}

/// Reads a DER certificate; none where it is malformed or its dates are beyond any calendar.
pub fn read(der: &[u8]) -> Option<Certificate> {
    let (_, certificate) = X509Certificate::from_der(der).ok()?;
    let moment = |t: x509_parser::time::ASN1Time| DateTime::from_timestamp(t.timestamp(), 0);
    let names = certificate.subject_alternative_name().ok()?.map(|e| &e.value.general_names);
    let dns = names.into_iter().flatten().filter_map(|n| match n {
        GeneralName::DNSName(name) => Some(name.to_ascii_lowercase()),
        _ => None,
    });
    Some(Certificate {
        not_before: moment(certificate.validity().not_before)?,
        not_after: moment(certificate.validity().not_after)?,
        names: dns.collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn dates_and_names_are_read_and_what_is_no_certificate_is_none() {
        let key = rcgen::KeyPair::generate().unwrap();
        let mut params =
            rcgen::CertificateParams::new(vec!["Berths.havrelune.example".into(), "*.quays.example".into()]).unwrap();
        params.not_before = rcgen::date_time_ymd(2026, 1, 2);
        params.not_after = rcgen::date_time_ymd(2027, 3, 4);
        let der = params.self_signed(&key).unwrap();
        let read_back = read(der.der()).unwrap();
        assert_eq!(read_back.not_after.to_rfc3339(), "2027-03-04T00:00:00+00:00");
        assert_eq!(read_back.not_before.to_rfc3339(), "2026-01-02T00:00:00+00:00");
        assert_eq!(read_back.names, ["berths.havrelune.example", "*.quays.example"]);
        for bad in [&b""[..], b"not a certificate", &der.der()[..200]] {
            assert_eq!(read(bad), None);
        }
    }
}
