//! Images from a real registry server over TLS: passwords, proxies and certificates on both sides.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::process::Command;

use crate::fetched_really::{agrees, free_port, ground, program, registry, succeeds};
use crate::scratch::Scratch;
use crate::standin::tunnel::Tunnel;

/// What openssl makes in the folder; nothing where it is missing, which is said.
fn openssl(scratch: &Scratch, words: &str) -> Option<()> {
    let mut command = Command::new(program("openssl")?);
    succeeds(command.args(words.split_whitespace()).current_dir(scratch.path()));
    Some(())
}

/// A certificate for `localhost` and `registry.example` that is signed by itself, and the passwords.
fn certificate(scratch: &Scratch) -> Option<()> {
    std::fs::write(scratch.path().join("htpasswd"), HTPASSWD).unwrap();
    openssl(
        scratch,
        "req -x509 -newkey ec -pkeyopt ec_paramgen_curve:prime256v1 -nodes -days 30 -subj /CN=tides
         -addext subjectAltName=DNS:localhost,DNS:registry.example -keyout key.pem -out ca.crt",
    )
}

/// A password that is `ebb`, as registries keep it (bcrypt).
const HTPASSWD: &str = "tide:$2b$04$E6611wWO5ZS6RsESuXIGseS9pjktAib5xf8vqw7c9naY1dQtVWROS\n";

#[test]
fn a_real_registry_with_tls_and_passwords() {
    let ground = ground();
    let scratch = &ground.0;
    let (Some(()), Some(skopeo)) = (certificate(scratch), program("skopeo")) else { return };
    let port = free_port();
    let more = "http: {addr: '127.0.0.1:PORT', tls: {certificate: FOLDER/ca.crt, key: FOLDER/key.pem}}\n\
        auth: {htpasswd: {realm: tides, path: FOLDER/htpasswd}}\n";
    let Some(_server) = registry(scratch, port, more) else { return };
    let host = format!("localhost:{port}");
    let mut copy = Command::new(skopeo);
    copy.args([
        "copy",
        "--insecure-policy",
        "--dest-tls-verify=false",
        "--dest-creds",
        "tide:ebb",
        "oci:layout:tides/gauge:3",
    ]);
    succeeds(copy.arg(format!("docker://{host}/tides/gauge:3")).current_dir(scratch.path()));

    let place = format!("registry:{host}");
    let source = format!("{place}/tides/gauge:3");
    let survey =
        |source: &str, more: &[(&str, &str)]| scratch.at_home(["survey", source, "--to", "jsonl"], more);
    let said = survey(&source, &[]);
    assert!(said.contains("is not trusted: its certificate is signed by itself"), "{said}");
    let trusted = scratch.path().join(format!(".config/containers/certs.d/{host}"));
    std::fs::create_dir_all(&trusted).unwrap();
    std::fs::copy(scratch.path().join("ca.crt"), trusted.join("ca.crt")).unwrap();
    let said = survey(&source, &[]);
    assert!(said.contains("wants credentials for tides/gauge:3, and there are none"), "{said}");
    let auth = |password: &str| {
        format!(r#"{{"auths": {{"{host}/tides": {{"username": "tide", "password": "{password}"}}}}}}"#)
    };
    let file = scratch.path().join(".config/containers/auth.json");
    std::fs::write(&file, auth("flow")).unwrap();
    let said = survey(&source, &[]);
    assert!(said.contains("refuses the credentials of") && !said.contains("flow"), "{said}");
    std::fs::write(&file, auth("ebb")).unwrap();
    agrees(&ground, &source, &place, &source, &[]);
    std::fs::remove_dir_all(&trusted).unwrap();
    named_certificates_count(&ground, port);
    a_proxy_connects(&ground, port);
}

/// A host that only the proxy reaches: TLS goes through it, and the password of the proxy stays with it.
fn a_proxy_connects(ground: &(Scratch, String, String), port: u16) {
    let tunnel = Tunnel::to(port);
    let host = format!("registry.example:{port}");
    let auth = format!(r#"{{"auths": {{"{host}": {{"username": "tide", "password": "ebb"}}}}}}"#);
    std::fs::write(ground.0.path().join(".config/containers/auth.json"), auth).unwrap();
    let source = format!("registry:{host}/tides/gauge:3");
    let survey = |more: &[(&str, &str)]| ground.0.at_home(["survey", &source, "--to", "jsonl"], more);
    let proxy = tunnel.address.replace("http://", "http://buoy:swell@");
    let said = survey(&[("HTTPS_PROXY", &proxy)]);
    assert!(said.contains("is not trusted: its certificate is signed by itself"), "{said}");
    let told = survey(&[("HTTPS_PROXY", proxy.as_str()), ("SSL_CERT_FILE", "ca.crt")]);
    let named = told.replace(&host, &format!("localhost:{port}"));
    assert_eq!(named, ground.1);
    let asked = tunnel.asked();
    assert!(asked.iter().any(|line| *line == format!("CONNECT {host} HTTP/1.1")), "{asked:?}");
    // `buoy:swell`, and no password of the registry outside TLS.
    let sent = |line: &String| line.to_lowercase().starts_with("proxy-authorization: basic ");
    assert!(asked.iter().any(|line| sent(line) && line.ends_with("YnVveTpzd2VsbA==")), "{asked:?}");
    assert!(!asked.iter().any(|line| line.to_lowercase().starts_with("authorization:")), "{asked:?}");
    let exempt = survey(&[("HTTPS_PROXY", proxy.as_str()), ("NO_PROXY", "registry.example")]);
    assert!(exempt.contains("no host of this name is known here"), "{exempt}");
}

/// A file that is named counts as a folder's does; the name in it is looked at, whoever signed it.
fn named_certificates_count(ground: &(Scratch, String, String), port: u16) {
    let host = format!("localhost:{port}");
    let source = format!("registry:{host}/tides/gauge:3");
    let survey =
        |source: &str, more: &[(&str, &str)]| ground.0.at_home(["survey", source, "--to", "jsonl"], more);
    let other = survey(&format!("registry:127.0.0.1:{port}/tides/gauge:3"), &[("SSL_CERT_FILE", "ca.crt")]);
    assert!(other.contains("is not trusted: its certificate is for another name"), "{other}");
    assert_eq!(survey(&source, &[("SSL_CERT_FILE", "ca.crt")]), ground.1);
    let plain = survey(&format!("registry:http://{host}/tides/gauge:3"), &[]);
    assert!(plain.contains("error: ") && plain.ends_with("--- status 2"), "{plain}");
}

/// A registry that wants to see a certificate is shown the one that is kept for it.
#[test]
fn a_real_registry_that_wants_a_certificate() {
    let ground = ground();
    let scratch = &ground.0;
    let (Some(()), Some(skopeo)) = (certificate(scratch), program("skopeo")) else { return };
    for words in [
        "req -newkey rsa:2048 -nodes -subj /CN=tide -keyout tide.key -out tide.csr",
        "x509 -req -in tide.csr -CA ca.crt -CAkey key.pem -days 30 -out tide.cert",
    ] {
        let Some(()) = openssl(scratch, words) else { return };
    }
    let port = free_port();
    let more = "http: {addr: '127.0.0.1:PORT', tls: {certificate: FOLDER/ca.crt, key: FOLDER/key.pem, clientcas: [FOLDER/ca.crt]}}\n";
    let Some(_server) = registry(scratch, port, more) else { return };
    let host = format!("localhost:{port}");
    let kept = scratch.path().join(format!(".config/containers/certs.d/{host}"));
    std::fs::create_dir_all(&kept).unwrap();
    std::fs::copy(scratch.path().join("ca.crt"), kept.join("ca.crt")).unwrap();
    let source = format!("registry:{host}/tides/gauge:3");
    let survey = || scratch.at_home(["survey", &source, "--to", "jsonl"], &[]);
    let said = survey();
    assert!(said.contains("error: ") && said.ends_with("--- status 2"), "{said}");
    assert!(said.contains("wants to see a certificate"), "{said}");
    for name in ["tide.cert", "tide.key"] {
        std::fs::copy(scratch.path().join(name), kept.join(name)).unwrap();
    }
    let mut copy = Command::new(skopeo);
    copy.args(["copy", "--insecure-policy", "--dest-tls-verify=false", "--dest-cert-dir"]).arg(&kept);
    copy.args(["oci:layout:tides/gauge:3", &format!("docker://{host}/tides/gauge:3")]);
    succeeds(copy.current_dir(scratch.path()));
    agrees(&ground, &source, &format!("registry:{host}"), &source, &[]);
    // A key of somebody else's, and half of the pair, which is none.
    std::fs::copy(scratch.path().join("ca.crt"), kept.join("tide.cert")).unwrap();
    let said = survey();
    assert!(said.contains("the certificate to be shown does not fit its key"), "{said}");
    std::fs::copy(scratch.path().join("tide.cert"), kept.join("tide.cert")).unwrap();
    std::fs::copy(scratch.path().join("key.pem"), kept.join("tide.key")).unwrap();
    let said = survey();
    assert!(said.contains("wants to see a certificate that it trusts"), "{said}");
    std::fs::remove_file(kept.join("tide.key")).unwrap();
    let said = survey();
    assert!(said.contains("wants to see a certificate"), "{said}");
}
