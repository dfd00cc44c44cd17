//! Checks of devices: what a device has to prove, and what it has to say of itself. They judge in [`crate::condition`].

use super::comparison::Version;
use crate::device::Program;
use crate::id::{hex, sha256};
use crate::route::device::Platform;

/// A named check of the device on which somebody signs in. Parts that are not there ask for nothing.
#[derive(Clone, Debug, PartialEq)]
pub struct DeviceCheck {
    pub name: String,
    /// What people read.
    pub title: String,
    /// The certificate that it has to prove to have.
    pub certificate: Option<DeviceCertificate>,
    /// Systems that will do, each with the least version, where one is asked for. What a device says, and no proof.
    pub systems: Vec<(Platform, Option<Version>)>,
    /// Browsers and tunnel clients that will do, likewise.
    pub programs: Vec<(Program, Option<Version>)>,
}

/// Whose certificate a device has to have, and how it is asked whether that was taken back.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DeviceCertificate {
    /// Certificates of the authorities, in DER.
    pub authorities: Vec<Vec<u8>>,
    /// Where lists of what was taken back are (RFC 5280 section 5), by http.
    pub crl: Vec<String>,
    /// Where one certificate at a time can be asked about (RFC 6960).
    pub ocsp: Option<String>,
    pub unreachable: Unreachable,
    /// See [`DeviceCertificate::digest`].
    digest: String,
}

/// What counts where nobody says whether a certificate was taken back.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Unreachable {
    /// The device does not pass.
    Refuse,
    /// The certificate counts as good.
    Accept,
}

impl DeviceCertificate {
    /// Of these authorities, asked at these addresses.
    pub(crate) fn new(
        authorities: Vec<Vec<u8>>,
        (crl, ocsp): (Vec<String>, Option<String>),
        unreachable: Unreachable,
    ) -> DeviceCertificate {
        let mut bytes = vec![];
        let mut put = |part: &[u8]| {
            bytes.extend((part.len() as u64).to_be_bytes());
            bytes.extend(part);
        };
        authorities.iter().for_each(|a| put(a));
        put(b"lists");
        crl.iter().for_each(|u| put(u.as_bytes()));
        put(ocsp.as_deref().unwrap_or_default().as_bytes());
        let digest = hex(&sha256(&bytes)[..16]);
        DeviceCertificate { authorities, crl, ocsp, unreachable, digest }
    }

    /// Whether it is asked if a certificate was taken back.
    pub fn asks(&self) -> bool {
        !self.crl.is_empty() || self.ocsp.is_some()
    }

    /// A digest of what a certificate is held against: what was found for another one says nothing here.
    pub fn digest(&self) -> &str {
        &self.digest
    }
}
