//! TLS over a connection: whom it trusts, and a certificate that was given as it is.

use std::fmt;
use std::io::{Read, Write};
use std::sync::Arc;

use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime};
use rustls::server::ParsedCertificate;
use rustls::sign::{CertifiedKey, SingleCertAndKey};
use rustls::{
    CertificateError, ClientConfig, ClientConnection, DigitallySignedStruct, InconsistentKeys, RootCertStore,
    SignatureScheme, StreamOwned,
};
use ureq::Error;
use ureq::unversioned::transport::{
    Buffers, ConnectionDetails, Connector, Either, LazyBuffers, NextTimeout, Transport, TransportAdapter,
};

/// How what is wrong with a certificate of our own begins.
pub(crate) const SHOWN: &str = "the certificate to be shown";

/// Whom a host is trusted by, and what is shown to it.
pub(crate) struct Trust {
    /// Authorities of the system, and those that were given for the host.
    pub roots: Vec<CertificateDer<'static>>,
    /// Those that were given for the host: it may be one of them itself.
    pub own: Vec<CertificateDer<'static>>,
    /// What it is shown.
    pub client: Option<(Vec<CertificateDer<'static>>, PrivateKeyDer<'static>)>,
}

impl Trust {
    /// The settings of TLS. The text is what is wrong with a certificate that was given.
    fn settings(self) -> Result<ClientConfig, String> {
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let mut roots = RootCertStore::empty();
        let (_, unread) =
            roots.add_parsable_certificates(self.roots.into_iter().chain(self.own.iter().cloned()));
        log::debug!("{unread} certificates are passed over");
        let inner = WebPkiServerVerifier::builder_with_provider(Arc::new(roots), provider.clone())
            .build()
            .map_err(|error| format!("there are no certificates to trust: {error}"))?;
        let load = |key| provider.key_provider.load_private_key(key);
        let client = self.client.map(|(chain, key)| Ok((chain, load(key)?))).transpose();
        let client = client.map_err(|error: rustls::Error| format!("{SHOWN} has no key: {error}"))?;
        let builder = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(|error| error.to_string())?
            .dangerous()
            .with_custom_certificate_verifier(Arc::new(Verifier { inner, own: self.own }));
        let Some((chain, key)) = client else { return Ok(builder.with_no_client_auth()) };
        let shown = CertifiedKey::new(chain, key);
        // One of an old version is not looked into: what to make of it is the other side's.
        if matches!(shown.keys_match(), Err(rustls::Error::InconsistentKeys(InconsistentKeys::KeyMismatch))) {
            return Err(format!("{SHOWN} does not fit its key"));
        }
        Ok(builder.with_client_cert_resolver(Arc::new(SingleCertAndKey::from(shown))))
    }
}

/// As everywhere, but a host may show the very certificate that was given for it, even where that is an authority's: so are
/// those that are signed by themselves, and other tools take them.
#[derive(Debug)]
struct Verifier {
    inner: Arc<WebPkiServerVerifier>,
    own: Vec<CertificateDer<'static>>,
}

impl ServerCertVerifier for Verifier {
    fn verify_server_cert(
        &self,
        shown: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        ocsp: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        let verified = self.inner.verify_server_cert(shown, intermediates, name, ocsp, now);
        let Err(error) = verified else { return verified };
        let an_authority = matches!(
            &error,
            rustls::Error::InvalidCertificate(CertificateError::Other(what)) if what.to_string().contains("CaUsedAsEndEntity")
        );
        if !(an_authority && self.own.iter().any(|own| own.as_ref() == shown.as_ref())) {
            return Err(error);
        }
        rustls::client::verify_server_name(&ParsedCertificate::try_from(shown)?, name)?;
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        shown: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        self.inner.verify_tls12_signature(message, shown, signed)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        shown: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        self.inner.verify_tls13_signature(message, shown, signed)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.inner.supported_verify_schemes()
    }
}

/// Wraps connections in TLS where the address says so.
pub(crate) struct Wrapping(Result<Arc<ClientConfig>, String>);

impl Wrapping {
    pub(crate) fn new(trust: Trust) -> Self {
        Self(trust.settings().map(Arc::new))
    }
}

impl fmt::Debug for Wrapping {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Wrapping").finish_non_exhaustive()
    }
}

impl<In: Transport> Connector<In> for Wrapping {
    type Out = Either<In, Wrapped>;

    fn connect(
        &self,
        details: &ConnectionDetails<'_>,
        below: Option<In>,
    ) -> Result<Option<Self::Out>, Error> {
        let Some(below) = below else { return Ok(None) };
        if !details.needs_tls() || below.is_tls() {
            return Ok(Some(Either::A(below)));
        }
        let failed = |what: String| Error::Other(what.into());
        let config = self.0.clone().map_err(failed)?;
        let host = details.uri.host().unwrap_or_default().trim_matches(['[', ']']).to_owned();
        let name = ServerName::try_from(host).map_err(|error| failed(error.to_string()))?;
        let mut connection =
            ClientConnection::new(config, name).map_err(|error| failed(error.to_string()))?;
        let mut below = TransportAdapter::new(below.boxed(), details.current_time.clone());
        below.set_timeout(details.timeout);
        connection.complete_io(&mut below)?;
        let buffers =
            LazyBuffers::new(details.config.input_buffer_size(), details.config.output_buffer_size());
        Ok(Some(Either::B(Wrapped { stream: StreamOwned::new(connection, below), buffers })))
    }
}

/// A connection in TLS.
pub(crate) struct Wrapped {
    stream: StreamOwned<ClientConnection, TransportAdapter>,
    buffers: LazyBuffers,
}

impl fmt::Debug for Wrapped {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Wrapped").finish_non_exhaustive()
    }
}

impl Transport for Wrapped {
    fn buffers(&mut self) -> &mut dyn Buffers {
        &mut self.buffers
    }

    fn transmit_output(&mut self, amount: usize, timeout: NextTimeout) -> Result<(), Error> {
        self.stream.get_mut().set_timeout(timeout);
        self.stream.write_all(&self.buffers.output()[..amount])?;
        Ok(())
    }

    fn await_input(&mut self, timeout: NextTimeout) -> Result<bool, Error> {
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
