//! A certificate authority of a test's own.

use std::path::PathBuf;

use rcgen::{BasicConstraints, Certificate, CertificateParams, DnType, ExtendedKeyUsagePurpose, IsCa, Issuer, KeyPair};
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
