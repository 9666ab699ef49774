//! Whom TLS trusts: the system's certificates, and those that container tools keep for a registry.

use std::fs;
use std::path::PathBuf;

use ureq::tls::{Certificate, ClientCert, PemItem, RootCerts, TlsConfig, parse_pem};

use crate::local;

/// The folders that container tools keep a folder for each registry in, in the order they look.
fn folders() -> Vec<PathBuf> {
    let own = local::config()
        .into_iter()
        .flat_map(|config| ["containers/certs.d", "docker/certs.d"].map(|below| config.join(below)));
    own.chain(["/etc/containers/certs.d", "/etc/docker/certs.d"].map(PathBuf::from)).collect()
}

/// What TLS with `host` (with its port) goes by: the system's certificates (`SSL_CERT_FILE` and `SSL_CERT_DIR` among
/// them), and `*.crt` of its folder; `*.cert` with the `*.key` of the same name is shown to it.
pub(crate) fn of(host: &str) -> TlsConfig {
    let system = rustls_native_certs::load_native_certs();
    for error in &system.errors {
        log::debug!("certificates of the system: {error}");
    }
    let mut trusted: Vec<Certificate<'static>> =
        system.certs.iter().map(|one| Certificate::from_der(one).to_owned()).collect();
    let mut shown = None;
    for folder in folders().into_iter().map(|folder| folder.join(host)) {
        let Ok(files) = fs::read_dir(&folder) else { continue };
        let mut files: Vec<PathBuf> = files.flatten().map(|file| file.path()).collect();
        files.sort();
        for file in files {
            match file.extension().and_then(|extension| extension.to_str()) {
                Some("crt") => trusted.extend(certificates(&file)),
                Some("cert") if shown.is_none() => shown = client(&file),
                Some(_) | None => {}
            }
        }
    }
    let roots = RootCerts::from(trusted.into_iter());
    TlsConfig::builder().root_certs(roots).client_cert(shown).build()
}

fn items(file: &std::path::Path) -> Vec<PemItem<'static>> {
    let bytes = fs::read(file).unwrap_or_else(|error| {
        log::warn!("{}: {error}", file.display());
        Vec::new()
    });
    parse_pem(&bytes).flatten().collect()
}

fn certificates(file: &std::path::Path) -> Vec<Certificate<'static>> {
    let one = |item| if let PemItem::Certificate(certificate) = item { Some(certificate) } else { None };
    items(file).into_iter().filter_map(one).collect()
}

/// The certificate in `file`, with the key beside it.
fn client(file: &std::path::Path) -> Option<ClientCert> {
    let one = |item| if let PemItem::PrivateKey(key) = item { Some(key) } else { None };
    let key = items(&file.with_extension("key")).into_iter().find_map(one)?;
    Some(ClientCert::new_with_certs(&certificates(file), key))
}
