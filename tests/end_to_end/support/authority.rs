//! A certificate authority of a test's own.

use std::path::PathBuf;

use rcgen::{
    BasicConstraints, Certificate, CertificateParams, CertificateRevocationListParams, DnType, ExtendedKeyUsagePurpose, IsCa,
    Issuer, KeyIdMethod, KeyPair, RevokedCertParams, SerialNumber,
};
use rustls::pki_types::CertificateDer;

/// See the module. Its folder goes with it.
pub struct Authority {
    issuer: Issuer<'static, KeyPair>,
    certificate: Certificate,
    pub folder: PathBuf,
}

impl Authority {
    pub fn new(name: &str) -> Authority {
        let folder = std::env::temp_dir().join(format!("passeur-{name}-{}", uuid::Uuid::new_v4()));
        std::fs::create_dir_all(&folder).unwrap();
        let mut params = CertificateParams::new(vec![]).unwrap();
        params.distinguished_name.push(DnType::CommonName, "Harbour test authority");
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        let key = KeyPair::generate().unwrap();
        let certificate = params.self_signed(&key).unwrap();
        std::fs::write(folder.join("ca.crt"), certificate.pem()).unwrap();
        Authority { issuer: Issuer::new(params, key), certificate, folder }
    }

    pub fn der(&self) -> CertificateDer<'static> {
        self.certificate.der().clone()
    }

    /// Its certificate as a file.
    pub fn file(&self) -> PathBuf {
        self.folder.join("ca.crt")
    }

    /// Its key, as a file: for servers that sign in its name.
    pub fn key_file(&self) -> PathBuf {
        let path = self.folder.join("ca.key");
        std::fs::write(&path, self.issuer.key().serialize_pem()).unwrap();
        path
    }

    /// A list of certificates that it took back, from a moment, in DER.
    pub fn list(&self, revoked: &[&Certificate], from: chrono::DateTime<chrono::Utc>) -> Vec<u8> {
        let on = |at: chrono::DateTime<chrono::Utc>| {
            rcgen::date_time_ymd(1970, 1, 1) + std::time::Duration::from_secs(at.timestamp().unsigned_abs())
        };
        let of = |c: &&Certificate| RevokedCertParams {
            serial_number: SerialNumber::from_slice(&passeur_core::x509::serial(c.der()).unwrap()),
            revocation_time: on(from),
            reason_code: None,
            invalidity_date: None,
        };
        let params = CertificateRevocationListParams {
            this_update: on(from),
            next_update: on(from + chrono::Duration::hours(2)),
            crl_number: SerialNumber::from(1u64),
            issuing_distribution_point: None,
            revoked_certs: revoked.iter().map(of).collect(),
            key_identifier_method: KeyIdMethod::Sha256,
        };
        params.signed_by(&self.issuer).unwrap().der().to_vec()
    }

    /// A certificate for a name, with its key.
    pub fn issue(&self, name: &str) -> (Certificate, KeyPair) {
        self.issue_with(name, |_| ())
    }

    /// The same, with something else about it.
    pub fn issue_with(&self, name: &str, change: impl FnOnce(&mut CertificateParams)) -> (Certificate, KeyPair) {
        let mut params = CertificateParams::new(vec![name.to_owned()]).unwrap();
        params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth, ExtendedKeyUsagePurpose::ClientAuth];
        change(&mut params);
        let key = KeyPair::generate().unwrap();
        (params.signed_by(&key, &self.issuer).unwrap(), key)
    }

    /// The same as two files, `NAME.pem` and `NAME.key`.
    pub fn issue_files(&self, name: &str) -> (PathBuf, PathBuf) {
        self.write(name, self.issue(name))
    }

    fn write(&self, name: &str, (certificate, key): (Certificate, KeyPair)) -> (PathBuf, PathBuf) {
        let stem = name.replace('*', "any");
        let (pem, key_file) = (self.folder.join(format!("{stem}.pem")), self.folder.join(format!("{stem}.key")));
        std::fs::write(&key_file, key.serialize_pem()).unwrap();
        std::fs::write(&pem, certificate.pem()).unwrap();
        (pem, key_file)
    }

    /// The same, good until a day.
    pub fn issue_files_until(&self, name: &str, (year, month, day): (i32, u8, u8)) {
        let issued = self.issue_with(name, |p| p.not_after = rcgen::date_time_ymd(year, month, day));
        self.write(name, issued);
    }
}

impl Drop for Authority {
    fn drop(&mut self) {
        let _ = std::fs::remove_dir_all(&self.folder);
    }
}
