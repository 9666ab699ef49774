//! Whom TLS trusts: the system's certificates, and those that container tools keep for a registry.

use std::fs;
use std::path::{Path, PathBuf};

use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};

use crate::local;
use crate::tls::Trust;

/// The folders that container tools keep a folder for each registry in, in the order they look.
fn folders() -> Vec<PathBuf> {
    let own = local::config().into_iter();
    let own = own.flat_map(|config| ["containers/certs.d", "docker/certs.d"].map(|below| config.join(below)));
    own.chain(["/etc/containers/certs.d", "/etc/docker/certs.d"].map(PathBuf::from)).collect()
}

/// What TLS with `host` (with its port) goes by: the system's certificates (`SSL_CERT_FILE` and `SSL_CERT_DIR` among
/// them), and `*.crt` of its folder; `*.cert` with the `*.key` of the same name is shown to it.
pub(crate) fn of(host: &str) -> Trust {
    let system = rustls_native_certs::load_native_certs();
    for error in &system.errors {
        log::warn!("certificates of the system: {error}");
    }
    // Whoever names a file means what is in it, and no authority of the system.
    let named = local::variable("SSL_CERT_FILE").is_some();
    let (mut own, roots) = if named { (system.certs, Vec::new()) } else { (Vec::new(), system.certs) };
    let mut client = None;
    for folder in folders().into_iter().map(|folder| folder.join(host)) {
        let Ok(files) = fs::read_dir(&folder) else { continue };
        let mut files: Vec<PathBuf> = files.flatten().map(|file| file.path()).collect();
        files.sort();
        for file in files {
            match file.extension().and_then(|extension| extension.to_str()) {
                Some("crt") => own.extend(certificates(&file)),
                Some("cert") if client.is_none() => client = shown(&file),
                Some(_) | None => {}
            }
        }
    }
    Trust { roots, own, client }
}

/// The certificates in a file; what is wrong with it is said.
fn certificates(file: &Path) -> Vec<CertificateDer<'static>> {
    let read = CertificateDer::pem_file_iter(file).and_then(Iterator::collect);
    read.unwrap_or_else(|error| {
        log::warn!("{}: {error}", file.display());
        Vec::new()
    })
}

/// The certificate in `file`, with the key beside it.
fn shown(file: &Path) -> Option<(Vec<CertificateDer<'static>>, PrivateKeyDer<'static>)> {
    let key_file = file.with_extension("key");
    match PrivateKeyDer::from_pem_file(&key_file) {
        Ok(key) => Some((certificates(file), key)),
        Err(error) => {
            log::warn!("{}: {error}", key_file.display());
            None
        }
    }
}
