//! Which proxy a host is reached through, as the environment says.

use std::net::IpAddr;

use ureq::Proxy;

use crate::local;

/// The first of these that is set, in the usual spellings.
fn first(names: &[&str]) -> Option<String> {
    names.iter().find_map(|name| local::word(name))
}

/// The proxy for `host` (without brackets) and `port`.
///
/// The error is a proxy that cannot be one.
pub(crate) fn of(plain: bool, host: &str, port: u16) -> Result<Option<Proxy>, String> {
    let own = if plain { ["HTTP_PROXY", "http_proxy"] } else { ["HTTPS_PROXY", "https_proxy"] };
    let Some(address) = first(&own).or_else(|| first(&["ALL_PROXY", "all_proxy"])) else { return Ok(None) };
    let without = first(&["NO_PROXY", "no_proxy"]).unwrap_or_default();
    if is_local(host) || is_left_out(host, port, &without) {
        return Ok(None);
    }
    // A password may be in it, so it is not shown.
    Proxy::new(&address).map(Some).map_err(|_| "the proxy in the environment is no address of one".to_owned())
}

/// What is on this machine is reached without one.
fn is_local(host: &str) -> bool {
    host.eq_ignore_ascii_case("localhost") || host.parse::<IpAddr>().is_ok_and(|ip| ip.is_loopback())
}

/// Whether `NO_PROXY` names the host: itself, a domain above it, an address, a network, or `*`; each with or without a port.
fn is_left_out(host: &str, port: u16, list: &str) -> bool {
    let host = host.to_ascii_lowercase();
    let ip = host.parse::<IpAddr>().ok();
    list.split([',', ' ']).map(str::trim).filter(|entry| !entry.is_empty()).any(|entry| {
        let entry = entry.to_ascii_lowercase();
        if entry == "*" {
            return true;
        }
        if let (Some(ip), Some((network, bits))) = (ip, entry.split_once('/')) {
            return in_network(ip, network, bits);
        }
        let bare = entry.trim_start_matches('[');
        let (name, only) = match bare.split_once(']') {
            Some((six, rest)) => (six, rest.strip_prefix(':')),
            None if bare.matches(':').count() == 1 => match bare.split_once(':') {
                Some((name, port)) => (name, Some(port)),
                None => (bare, None),
            },
            None => (bare, None),
        };
        if only.is_some_and(|only| only.parse() != Ok(port)) {
            return false;
        }
        let exactly = !name.starts_with(['.', '*']);
        let domain = name.trim_start_matches('*').trim_start_matches('.');
        let below = host.strip_suffix(domain).is_some_and(|front| front.ends_with('.'));
        !domain.is_empty() && (exactly && host == domain || ip.is_none() && below)
    })
}

/// Whether an address is in `network/bits`.
fn in_network(ip: IpAddr, network: &str, bits: &str) -> bool {
    let (Ok(network), Ok(bits)) = (network.parse::<IpAddr>(), bits.parse::<u32>()) else { return false };
    match (ip, network) {
        (IpAddr::V4(ip), IpAddr::V4(network)) if bits <= 32 => {
            let mask = u32::MAX.checked_shl(32 - bits).unwrap_or(0);
            ip.to_bits() & mask == network.to_bits() & mask
        }
        (IpAddr::V6(ip), IpAddr::V6(network)) if bits <= 128 => {
            let mask = u128::MAX.checked_shl(128 - bits).unwrap_or(0);
            ip.to_bits() & mask == network.to_bits() & mask
        }
        (IpAddr::V4(_) | IpAddr::V6(_), _) => false,
    }
}

#[cfg(test)]
mod tests {
    use super::{is_left_out, is_local};

    #[test]
    fn hosts_are_left_out_by_name_domain_address_and_network() {
        let list = "registry.example, .inner.example,*.star.example,10.1.2.3,10.2.0.0/16,fd00::/8,[2001:db8::5]:5000,other:5000";
        for (host, port) in [
            ("registry.example", 443),
            ("a.registry.example", 443),
            ("REGISTRY.example", 5000),
            ("a.inner.example", 443),
            ("b.star.example", 443),
            ("10.1.2.3", 443),
            ("10.2.200.1", 443),
            ("fd12::1", 443),
            ("2001:db8::5", 5000),
            ("other", 5000),
        ] {
            assert!(is_left_out(host, port, list), "{host}");
        }
        for (host, port) in [
            ("notregistry.example", 443),
            ("inner.example", 443),
            ("star.example", 443),
            ("10.1.2.4", 443),
            ("10.3.0.1", 443),
            ("other", 443),
            ("2001:db8::5", 443),
        ] {
            assert!(!is_left_out(host, port, list), "{host}");
        }
        assert!(is_left_out("anything", 1, "*") && !is_left_out("anything", 1, ""));
        assert!(is_local("localhost") && is_local("127.0.0.9") && is_local("::1") && !is_local("10.0.0.1"));
    }
}
