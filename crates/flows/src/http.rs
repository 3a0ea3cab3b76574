//! Calls over HTTP: TLS, credentials, limits, and failures in words.

use std::{collections::BTreeMap, io, path::Path, path::PathBuf, time::Duration};

use base64::{Engine, prelude::BASE64_STANDARD};
use fenetre_store::Secrets;
use ureq::{
    Agent,
    tls::{Certificate, ClientCert, PrivateKey, RootCerts, TlsConfig},
};

use crate::{definition::Basic, error::FlowError, secret::SecretRef, tls};

/// How calls are made.
#[derive(Clone, Copy, Debug)]
pub struct Manner<'d> {
    /// A token that is sent with each request.
    pub bearer: Option<&'d SecretRef>,
    /// A name and a password that are sent with each request.
    pub basic: Option<&'d Basic>,
    /// Authorities that the other side is checked against.
    pub ca: Option<&'d PathBuf>,
    /// The certificate of this client.
    pub certificate: Option<&'d PathBuf>,
    /// Its private key.
    pub key: Option<&'d PathBuf>,
    /// Maximum time of a call.
    pub timeout: Duration,
    /// Maximum number of redirects.
    pub max_redirects: u32,
}

/// A client that is ready for calls.
pub struct Client {
    /// The agent.
    pub agent: Agent,
    /// The value of the header `Authorization`.
    authorization: Option<String>,
}

impl Client {
    /// Reads secrets and certificates, which may have changed since the client before was made. Its connections are used again if they cannot
    /// depend on a changed file.
    ///
    /// # Errors
    /// If one cannot be read.
    pub fn renewed(before: Option<Self>, manner: Manner<'_>, secrets: &Secrets) -> Result<Self, FlowError> {
        let authorization = match (manner.bearer, manner.basic) {
            (Some(bearer), _) => Some(format!("Bearer {}", bearer.read(secrets)?)),
            (None, Some(basic)) => Some(format!("Basic {}", BASE64_STANDARD.encode(format!("{}:{}", basic.user, basic.password.read(secrets)?)))),
            (None, None) => None,
        };
        if let Some(before) = before.filter(|_| manner.ca.is_none() && manner.certificate.is_none()) {
            return Ok(Self { authorization, ..before });
        }
        let mut tls = TlsConfig::builder();
        if let Some(ca) = manner.ca {
            tls = tls.root_certs(RootCerts::from(certificates(ca)?));
        }
        if let (Some(certificate), Some(key)) = (manner.certificate, manner.key) {
            tls = tls.client_cert(Some(ClientCert::new_with_certs(&certificates(certificate)?, private_key(key)?)));
        }
        let config = Agent::config_builder()
            .http_status_as_error(false)
            .timeout_global(Some(manner.timeout))
            .max_redirects(manner.max_redirects)
            .user_agent(concat!("fenetre/", env!("CARGO_PKG_VERSION")))
            .tls_config(tls.build());
        Ok(Self { agent: config.build().into(), authorization })
    }

    /// The headers of each request.
    pub fn headers<'c>(&'c self, own: &'c BTreeMap<String, String>) -> impl Iterator<Item = (&'c str, &'c str)> {
        let authorization = self.authorization.as_deref().map(|authorization| ("Authorization", authorization));
        own.iter().map(|(name, value)| (name.as_str(), value.as_str())).chain(authorization)
    }
}

/// Whether there was no answer in time.
pub fn is_silence(error: &ureq::Error) -> bool {
    match error {
        ureq::Error::Timeout(_) => true,
        ureq::Error::Io(error) => error.kind() == io::ErrorKind::TimedOut,
        _ => false,
    }
}

/// Why there was no answer, in words.
pub fn reason(error: &ureq::Error) -> String {
    match error {
        ureq::Error::HostNotFound => "the host is not known".to_owned(),
        ureq::Error::Io(error) if error.kind() == io::ErrorKind::ConnectionRefused => "nothing listens there".to_owned(),
        ureq::Error::Protocol(error) => format!("the server there does not speak HTTP ({error})"),
        other => other.to_string(),
    }
}

fn certificates(file: &Path) -> Result<Vec<Certificate<'static>>, FlowError> {
    Ok(tls::certificates(file)?.iter().map(|certificate| Certificate::from_der(certificate).to_owned()).collect())
}

fn private_key(file: &Path) -> Result<PrivateKey<'static>, FlowError> {
    let (pem, fault) = tls::read_key(file)?;
    PrivateKey::from_pem(&pem).map_err(|_| fault)
}
