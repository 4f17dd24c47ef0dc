//! Where Ebrel listens, by which names it may be called, and through whom.

use rustls::ServerConfig;
use rustls_pki_types::pem::PemObject;
use rustls_pki_types::{CertificateDer, PrivateKeyDer};
use std::net::{IpAddr, SocketAddr};
use std::path::Path;

/// By which names and through whom Ebrel is reached. By default: loopback alone, by its usual names, without a proxy.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Doors {
    /// Names that it was told with `--host`, without a port, in lower case.
    pub hosts: Vec<String>,
    /// The address that it listens on, if that is not loopback.
    pub listen: Option<IpAddr>,
    /// The proxy whose word on the visitor's address is taken.
    pub proxy: Option<IpAddr>,
}

impl Doors {
    /// Whether a request may call Ebrel by this `Host`. A page elsewhere can make a browser reach this machine by a name of its
    /// own; it cannot make it say one of these.
    #[must_use]
    pub fn answers_to(&self, host: &str) -> bool {
        let name = without_port(host).to_ascii_lowercase();
        let plain = name.trim_start_matches('[').trim_end_matches(']');
        let address: Option<IpAddr> = plain.parse().ok();
        name == "localhost"
            || address.is_some_and(|a| a.is_loopback())
            || address.is_some_and(|a| self.listen.is_some_and(|l| l == a || l.is_unspecified()))
            || self.hosts.contains(&name)
    }
}

/// A host without its port: `[::1]:8417` is `[::1]`.
fn without_port(host: &str) -> &str {
    match host.rsplit_once(':') {
        Some((name, port))
            if port.bytes().all(|b| b.is_ascii_digit()) && (!name.contains(':') || name.ends_with(']')) =>
        {
            name
        }
        _ => host,
    }
}

/// Refuses to listen beyond this machine without HTTPS: passwords would cross the network in the clear.
///
/// # Errors
/// The sentence that says what to give.
pub fn may_listen(listen: SocketAddr, https: bool) -> Result<(), String> {
    if listen.ip().is_loopback() || https {
        return Ok(());
    }
    Err(format!(
        "{listen} can be reached from other machines, and passwords would cross the network unprotected: give a certificate \
         with --tls-cert and --tls-key, or --https if a proxy before Ebrel speaks HTTPS"
    ))
}

/// The TLS configuration from a certificate chain and its key, both PEM.
///
/// # Errors
/// A sentence that names the file and what is wrong with it.
pub fn tls(certificate: &Path, key: &Path) -> Result<ServerConfig, String> {
    let wrong = |path: &Path, e: &dyn std::fmt::Display| format!("{}: {e}", path.display());
    let chain: Vec<CertificateDer<'static>> =
        CertificateDer::pem_file_iter(certificate).and_then(Iterator::collect).map_err(|e| wrong(certificate, &e))?;
    let key_der = PrivateKeyDer::from_pem_file(key).map_err(|e| wrong(key, &e))?;
    if chain.is_empty() {
        return Err(wrong(certificate, &"there is no certificate in it"));
    }
    let provider = std::sync::Arc::new(rustls::crypto::ring::default_provider());
    ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .and_then(|b| b.with_no_client_auth().with_single_cert(chain, key_der))
        .map_err(|e| wrong(certificate, &e))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_names_that_it_was_told_are_answered() {
        let doors = Doors { hosts: vec!["soil.example".into()], ..Doors::default() };
        for name in
            ["localhost", "localhost:8417", "127.0.0.1:8417", "[::1]:8417", "[::1]", "127.3.2.1", "Soil.Example:443"]
        {
            assert!(doors.answers_to(name), "{name}");
        }
        for name in
            ["", "rebound.example", "soil.example.evil.test", "192.168.1.7", "localhost.evil.test", "evil.test:127"]
        {
            assert!(!doors.answers_to(name), "{name}");
        }
        let at = Doors { listen: Some("192.168.1.7".parse().unwrap()), ..Doors::default() };
        assert!(at.answers_to("192.168.1.7:8417") && !at.answers_to("192.168.1.8:8417"));
        let anywhere = Doors { listen: Some("0.0.0.0".parse().unwrap()), ..Doors::default() };
        assert!(anywhere.answers_to("192.168.1.8") && !anywhere.answers_to("rebound.example"));
    }

    #[test]
    fn beyond_this_machine_needs_https() {
        let at = |text: &str| text.parse().unwrap();
        assert!(may_listen(at("127.0.0.1:8417"), false).is_ok() && may_listen(at("[::1]:8417"), false).is_ok());
        assert!(may_listen(at("0.0.0.0:8417"), false).unwrap_err().contains("--tls-cert"));
        assert!(may_listen(at("192.168.1.7:8417"), true).is_ok());
    }

    #[test]
    fn a_file_that_is_no_certificate_is_named() {
        let dir = tempfile::tempdir().unwrap();
        let (cert, key) = (dir.path().join("cert.pem"), dir.path().join("key.pem"));
        std::fs::write(&cert, "no certificate").unwrap();
        assert!(tls(&cert, &key).unwrap_err().contains("key.pem"));
        std::fs::write(&key, "no key").unwrap();
        assert!(tls(&cert, &key).unwrap_err().contains("key.pem"));
    }
}
