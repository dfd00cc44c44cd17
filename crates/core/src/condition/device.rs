//! What a check of devices says of one.

use chrono::Duration;

use crate::Moment;
use crate::device::{ASKED_MINUTES, Device, Says, Standing};
use crate::site::{DeviceCheck, Truth, Unreachable, Version};

impl DeviceCheck {
    /// Whether a device passes: every part that concerns it has to. What is not known is neither yes nor no.
    pub fn judge(&self, device: Option<&Device>, now: Moment) -> Truth {
        self.parts(device, now).into_iter().map(|(truth, _)| truth).min().unwrap_or(Truth::Unknown)
    }

    /// What each part that does not pass says; what all of them say where it passes.
    pub fn says(&self, device: Option<&Device>, now: Moment) -> Vec<Says> {
        let parts = self.parts(device, now);
        let passes = parts.iter().all(|(t, _)| *t == Truth::Yes);
        parts.into_iter().filter(|(t, _)| passes || *t != Truth::Yes).map(|(_, says)| says).collect()
    }

    /// Whether a device was held against what it asks now.
    pub fn is_held_against(&self, device: Option<&Device>) -> bool {
        let Some(device) = device else { return false };
        match (&device.passes, &device.certificate, &self.certificate) {
            (None, Some(shown), Some(of)) => shown.held_against(of.digest()).is_some(),
            _ => true,
        }
    }

    /// The moment from which time alone may change it: the certificate's end, or when its authority is to be asked again.
    pub fn next_edge(&self, device: Option<&Device>, now: Moment) -> Option<Moment> {
        let (shown, of) = (device?.certificate.as_ref()?, self.certificate.as_ref()?);
        let judged = shown.held_against(of.digest());
        let again =
            judged.filter(|_| of.asks()).map(|j| (j.at + Duration::minutes(ASKED_MINUTES)).max(now + Duration::seconds(30)));
        again.into_iter().chain(shown.until).filter(|at| *at > now).min()
    }

    fn parts(&self, device: Option<&Device>, now: Moment) -> Vec<(Truth, Says)> {
        let Some(device) = device else { return vec![(Truth::Unknown, Says::Unknown)] };
        if let Some(passes) = &device.passes {
            let passes = passes.contains(&self.name);
            return vec![(if passes { Truth::Yes } else { Truth::No }, Says::Described { passes })];
        }
        let certificate = self.certificate.as_ref().map(|_| self.of_certificate(device, now));
        let system = (!self.systems.is_empty()).then(|| {
            let of = self.systems.iter().map(|(p, v)| (p.title().unwrap_or("?"), *p == device.platform, v.as_ref()));
            claimed(device.platform.title().is_some(), of.collect(), device.platform_version.as_deref(), device.platform.title())
        });
        let programs: Vec<_> = self.programs.iter().filter(|(p, _)| p.is_of(device.program)).collect();
        let program = (!programs.is_empty()).then(|| {
            let of = programs.iter().map(|(p, v)| (p.title(), Some(*p) == device.program, v.as_ref()));
            claimed(device.program.is_some(), of.collect(), device.program_version.as_deref(), device.program.map(|p| p.title()))
        });
        certificate.into_iter().chain(system).chain(program).collect()
    }

    fn of_certificate(&self, device: &Device, now: Moment) -> (Truth, Says) {
        let (Some(shown), Some(of)) = (&device.certificate, &self.certificate) else {
            return (Truth::No, Says::NoCertificate);
        };
        let subject = shown.subject.clone();
        if let Some(until) = shown.until.filter(|until| *until <= now) {
            let until = until.format("%Y-%m-%d %H:%M UTC").to_string();
            return (Truth::No, Says::CertificateOver { subject, until });
        }
        match shown.held_against(of.digest()).map(|j| &j.standing) {
            None => (Truth::Unknown, Says::CertificateNotJudged { subject }),
            Some(Standing::Good) => (Truth::Yes, Says::Certificate { subject }),
            Some(Standing::Bad { why }) => (Truth::No, Says::CertificateBad { subject, why: why.clone() }),
            Some(Standing::Revoked) => (Truth::No, Says::CertificateRevoked { subject }),
            Some(Standing::Unsure { why }) => {
                let counts = if of.unreachable == Unreachable::Accept { Truth::Yes } else { Truth::Unknown };
                (counts, Says::CertificateUnsure { subject, why: why.clone() })
            }
        }
    }
}

/// Whether what a device says of itself is among what would do: each by name, whether it is this one, and the least version.
fn claimed(told: bool, of: Vec<(&str, bool, Option<&Version>)>, version: Option<&str>, name: Option<&str>) -> (Truth, Says) {
    let one = |(name, _, least): &(&str, bool, Option<&Version>)| match least {
        Some(least) => format!("{name} ≥ {least}"),
        None => (*name).to_owned(),
    };
    let wanted = of.iter().map(one).collect::<Vec<_>>().join(", ");
    let says = [name, version].into_iter().flatten().collect::<Vec<_>>().join(" ");
    if !told {
        return (Truth::Unknown, Says::Untold { says, wanted });
    }
    let truth = match of.iter().find(|(_, is, _)| *is) {
        None => Truth::No,
        Some((_, _, None)) => Truth::Yes,
        Some((_, _, Some(least))) => match version.and_then(Version::parse) {
            None => return (Truth::Unknown, Says::Untold { says, wanted }),
            Some(version) if version >= **least => Truth::Yes,
            Some(_) => Truth::No,
        },
    };
    (truth, Says::Claims { says, wanted })
}
