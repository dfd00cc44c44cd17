//! Sending mail by SMTP (RFC 5321), to one server that the site names. Connections are not kept: codes are rare.

use std::time::Duration;

use lettre::message::Mailbox;
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Certificate, Tls, TlsParameters};
use lettre::{AsyncSmtpTransport, AsyncTransport, Message, Tokio1Executor};
use passeur_core::site::{MailSecurity, MailServer};

/// How long the server may take for one mail.
const LIMIT: Duration = Duration::from_secs(20);

/// Why a mail was not sent.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct NotSent(pub String);

/// Sends mail as one edition describes it.
pub struct Mailer {
    server: MailServer,
    password: Option<String>,
}

impl std::fmt::Debug for Mailer {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Mailer { server, password: _ } = self;
        write!(f, "Mailer({}:{})", server.host, server.port)
    }
}

impl Mailer {
    /// For a server and the password of our account there, where it wants one.
    pub fn new(server: MailServer, password: Option<String>) -> Mailer {
        Mailer { server, password }
    }

    /// The name is resolved here, so that the address is checked that is then used.
    async fn transport(&self) -> Result<AsyncSmtpTransport<Tokio1Executor>, NotSent> {
        let s = &self.server;
        let told = |e: lettre::transport::smtp::Error| NotSent(e.to_string());
        let tls = |s: &MailServer| -> Result<TlsParameters, NotSent> {
            let mut tls = TlsParameters::builder(s.host.clone());
            if let Some(path) = &s.ca_file {
                let pem = crate::pem::read(path).map_err(|e| NotSent(format!("{path} cannot be read: {e}")))?;
                tls = tls.add_root_certificate(Certificate::from_pem(&pem).map_err(told)?);
            }
            tls.build().map_err(told)
        };
        let security = match s.security {
            MailSecurity::Tls => Tls::Wrapper(tls(s)?),
            MailSecurity::StartTls => Tls::Required(tls(s)?),
            MailSecurity::Clear => Tls::None,
        };
        let found = passeur_live::resolve::resolve(&s.host, s.port).await;
        let address = found.map_err(|e| NotSent(format!("{}: {e}", s.host)))?.into_iter().next();
        let address = address.ok_or_else(|| NotSent(format!("{} has no address", s.host)))?.ip();
        let mut out = AsyncSmtpTransport::<Tokio1Executor>::builder_dangerous(address.to_string())
            .port(s.port)
            .tls(security)
            .timeout(Some(LIMIT));
        if let Some((account, _)) = &s.account {
            let password = self.password.clone().ok_or_else(|| NotSent("the account's password is not stored".into()))?;
            out = out.credentials(Credentials::new(account.clone(), password));
        }
        Ok(out.build())
    }

    /// Sends one mail of plain text.
    ///
    /// # Errors
    /// In the server's own words, where it did not take it.
    pub async fn send(&self, to: &str, subject: &str, text: String) -> Result<(), NotSent> {
        let mailbox = |a: &str| a.parse::<Mailbox>().map_err(|e| NotSent(format!("{a}: {e}")));
        let message = Message::builder()
            .from(mailbox(&self.server.from)?)
            .to(mailbox(to)?)
            .subject(subject)
            .header(lettre::message::header::ContentType::TEXT_PLAIN)
            .body(text)
            .map_err(|e| NotSent(e.to_string()))?;
        let sending = self.transport().await?;
        match tokio::time::timeout(LIMIT, sending.send(message)).await {
            Ok(Ok(_)) => Ok(()),
            Ok(Err(e)) => Err(NotSent(passeur_core::text::innermost(&e))),
            Err(_) => Err(NotSent(format!("no answer within {} s", LIMIT.as_secs()))),
        }
    }
}
