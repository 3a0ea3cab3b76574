//! TLS to a service whose certificate is pinned by its SHA-256; its issuer is not checked.

use std::{
    fmt,
    io::{Read, Write},
    sync::Arc,
};

use rustls::{
    ClientConfig, ClientConnection, DigitallySignedStruct, SignatureScheme, StreamOwned,
    client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier},
    crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature},
    pki_types::{CertificateDer, ServerName, UnixTime},
};
use sha2::{Digest, Sha256};
use ureq::unversioned::transport::{Buffers, ConnectionDetails, Connector, Either, LazyBuffers, NextTimeout, Transport, TransportAdapter};

/// Wraps connections to https addresses.
#[derive(Debug)]
pub struct PinnedConnector(Arc<ClientConfig>);

impl PinnedConnector {
    /// A connector that trusts the certificate of a SHA-256 digest.
    pub fn new(digest: [u8; 32]) -> Result<Self, rustls::Error> {
        let provider = Arc::new(ring::default_provider());
        let verifier = Arc::new(Pinned { digest, provider: Arc::clone(&provider) });
        let config = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions()?;
        Ok(Self(Arc::new(config.dangerous().with_custom_certificate_verifier(verifier).with_no_client_auth())))
    }
}

impl<In: Transport> Connector<In> for PinnedConnector {
    type Out = Either<In, PinnedTransport>;

    fn connect(&self, details: &ConnectionDetails<'_>, chained: Option<In>) -> Result<Option<Self::Out>, ureq::Error> {
        let Some(transport) = chained else { return Ok(None) };
        if !details.needs_tls() || transport.is_tls() {
            return Ok(Some(Either::A(transport)));
        }
        let host = details.uri.host().unwrap_or_default().trim_matches(['[', ']']).to_owned();
        let name = ServerName::try_from(host).map_err(|_| ureq::Error::Tls("the address names no host"))?;
        let connection = ClientConnection::new(Arc::clone(&self.0), name).map_err(std::io::Error::other)?;
        let mut socket = TransportAdapter::new(transport.boxed(), Arc::clone(&details.current_time));
        socket.set_timeout(details.timeout);
        let stream = StreamOwned::new(connection, socket);
        let buffers = LazyBuffers::new(details.config.input_buffer_size(), details.config.output_buffer_size());
        Ok(Some(Either::B(PinnedTransport { buffers, stream })))
    }
}

/// A connection over TLS.
pub struct PinnedTransport {
    buffers: LazyBuffers,
    stream: StreamOwned<ClientConnection, TransportAdapter>,
}

impl fmt::Debug for PinnedTransport {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("PinnedTransport")
    }
}

impl Transport for PinnedTransport {
    fn buffers(&mut self) -> &mut dyn Buffers {
        &mut self.buffers
    }

    fn transmit_output(&mut self, amount: usize, timeout: NextTimeout) -> Result<(), ureq::Error> {
        self.stream.get_mut().set_timeout(timeout);
        self.stream.write_all(&self.buffers.output()[..amount])?;
        Ok(())
    }

    fn await_input(&mut self, timeout: NextTimeout) -> Result<bool, ureq::Error> {
        self.stream.get_mut().set_timeout(timeout);
        let amount = self.stream.read(self.buffers.input_append_buf())?;
        self.buffers.input_appended(amount);
        Ok(amount > 0)
    }

    fn is_open(&mut self) -> bool {
        self.stream.get_mut().get_mut().is_open()
    }

    fn is_tls(&self) -> bool {
        true
    }
}

/// Trusts one certificate. Its signatures are checked as always: the other side must have its key.
#[derive(Debug)]
struct Pinned {
    digest: [u8; 32],
    provider: Arc<CryptoProvider>,
}

impl ServerCertVerifier for Pinned {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        if <[u8; 32]>::from(Sha256::digest(end_entity)) == self.digest {
            return Ok(ServerCertVerified::assertion());
        }
        Err(rustls::Error::General("the certificate of the service is not the one of the fingerprint".to_owned()))
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls12_signature(message, certificate, signed, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls13_signature(message, certificate, signed, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}
