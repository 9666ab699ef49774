//! What registries want to see before they answer (distribution token authentication; RFC 7617 and RFC 6750).

use std::io::Read;

use base64::prelude::{BASE64_STANDARD, Engine};
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use serde::Deserialize;
use ureq::Body;
use ureq::http::Response;

use crate::connection::{self, Connection};
use crate::credentials::{Account, Secret};
use crate::error::FetchError;

/// The largest answer of a token service.
const MOST_ANSWER: u64 = 1 << 20;

/// What a registry asks for.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) enum Challenge {
    Basic,
    Bearer { realm: String, service: Option<String>, scope: Option<String> },
}

impl Challenge {
    /// The challenge of an answer; a token is preferred to a password.
    pub(super) fn of(answer: &Response<Body>) -> Option<Self> {
        let given =
            answer.headers().get_all("www-authenticate").iter().filter_map(|value| value.to_str().ok());
        let all: Vec<Self> = given.flat_map(challenges).collect();
        all.iter().find(|one| **one != Self::Basic).or(all.first()).cloned()
    }
}

/// The challenges in the value of one header (RFC 9110, section 11.6.1).
fn challenges(value: &str) -> Vec<Challenge> {
    let mut all: Vec<(String, Vec<(String, String)>)> = Vec::new();
    let mut rest = value.trim_start_matches([' ', ',']);
    while !rest.is_empty() {
        let end = rest.find([' ', ',', '=']).unwrap_or(rest.len());
        let (word, behind) = rest.split_at(end);
        rest = match behind.trim_start().strip_prefix('=') {
            Some(given) => {
                let (value, behind) = parameter(given.trim_start());
                if let Some((_, parameters)) = all.last_mut() {
                    parameters.push((word.to_ascii_lowercase(), value));
                }
                behind
            }
            None => {
                all.push((word.to_ascii_lowercase(), Vec::new()));
                behind
            }
        };
        rest = rest.trim_start_matches([' ', ',', '=']);
    }
    all.into_iter().filter_map(|(scheme, parameters)| known(&scheme, &parameters)).collect()
}

fn known(scheme: &str, parameters: &[(String, String)]) -> Option<Challenge> {
    let of = |name: &str| Some(parameters.iter().find(|(key, _)| key == name)?.1.clone());
    match scheme {
        "basic" => Some(Challenge::Basic),
        "bearer" => {
            Some(Challenge::Bearer { realm: of("realm")?, service: of("service"), scope: of("scope") })
        }
        _ => None,
    }
}

/// A value, quoted or not, and what follows.
fn parameter(text: &str) -> (String, &str) {
    let Some(quoted) = text.strip_prefix('"') else {
        let end = text.find([',', ' ']).unwrap_or(text.len());
        return (text[..end].to_owned(), &text[end..]);
    };
    let mut value = String::new();
    let mut letters = quoted.char_indices();
    while let Some((at, letter)) = letters.next() {
        match letter {
            '"' => return (value, &quoted[at + 1..]),
            '\\' => value.extend(letters.next().map(|(_, letter)| letter)),
            other => value.push(other),
        }
    }
    (value, "")
}

/// What a token is asked for.
pub(super) struct Ask<'a> {
    pub realm: &'a str,
    pub service: Option<&'a str>,
    pub scope: &'a str,
}

/// Both spellings are in use.
#[derive(Deserialize, Default)]
#[serde(default)]
struct Answer {
    token: Option<String>,
    access_token: Option<String>,
}

/// The value of `Authorization` for a password.
pub(super) fn basic(secret: &Secret) -> Option<String> {
    match secret {
        Secret::Password { user, password } => {
            Some(format!("Basic {}", BASE64_STANDARD.encode(format!("{user}:{password}"))))
        }
        Secret::Identity(_) => None,
    }
}

/// Asks a token service, as `account` or as nobody.
pub(super) fn get(
    connection: &Connection,
    ask: &Ask<'_>,
    account: Option<&Account>,
    plain: bool,
    host: &str,
) -> Result<String, FetchError> {
    if !(ask.realm.starts_with("https://") || plain && ask.realm.starts_with("http://")) {
        let message = format!("sends us for a token to {}, which has no TLS", ask.realm.escape_debug());
        return Err(FetchError::new(host, message));
    }
    let answer = match account.map(|account| &account.secret) {
        Some(Secret::Identity(token)) => {
            let mut form = vec![
                ("grant_type", "refresh_token"),
                ("client_id", "mivask"),
                ("scope", ask.scope),
                ("refresh_token", token.as_str()),
            ];
            form.extend(ask.service.map(|service| ("service", service)));
            let asked = connection::Ask { url: ask.realm, form: Some(&form), ..connection::Ask::default() };
            connection.send(&asked)?
        }
        secret => {
            let authorization = secret.and_then(basic);
            let url = address(ask);
            let authorization = authorization.as_deref();
            connection.send(&connection::Ask { url: &url, authorization, ..connection::Ask::default() })?
        }
    };
    let status = answer.status();
    let service = ask.realm.split('/').nth(2).unwrap_or_default();
    if !status.is_success() {
        let message = match account {
            Some(account) => format!("refuses the credentials of {} with {status}", account.from),
            None => format!("gives nobody a token without credentials ({status})"),
        };
        return Err(FetchError::new(service, message).with_help(
            "sign in with your container tool, or name the file of credentials in REGISTRY_AUTH_FILE",
        ));
    }
    let wrong = || FetchError::new(service, "answers without a token");
    let mut bytes = Vec::new();
    answer.into_body().into_reader().take(MOST_ANSWER).read_to_end(&mut bytes).map_err(|_| wrong())?;
    let given: Answer = serde_json::from_slice(&bytes).map_err(|_| wrong())?;
    let token = given.token.or(given.access_token).filter(|token| !token.is_empty()).ok_or_else(wrong)?;
    Ok(format!("Bearer {token}"))
}

/// The address of the token service with what is asked for.
fn address(ask: &Ask<'_>) -> String {
    let encoded = |text: &str| utf8_percent_encode(text, NON_ALPHANUMERIC).to_string();
    let service = ask.service.map(|service| format!("service={}&", encoded(service)));
    let joint = if ask.realm.contains('?') { '&' } else { '?' };
    format!("{}{joint}{}scope={}", ask.realm, service.unwrap_or_default(), encoded(ask.scope))
}

#[cfg(test)]
mod tests {
    use super::{Ask, Challenge, address, challenges};

    #[test]
    fn challenges_are_read_as_they_come() {
        let bearer = |realm: &str, service: Option<&str>, scope: Option<&str>| Challenge::Bearer {
            realm: realm.to_owned(),
            service: service.map(str::to_owned),
            scope: scope.map(str::to_owned),
        };
        for (header, read) in [
            (r#"Basic realm="x""#, vec![Challenge::Basic]),
            (
                r#"Bearer realm="https://t.example/token",service="s",scope="repository:a/b:pull,push""#,
                vec![bearer("https://t.example/token", Some("s"), Some("repository:a/b:pull,push"))],
            ),
            (
                r#"bearer realm = "https://t.example" , service=s"#,
                vec![bearer("https://t.example", Some("s"), None)],
            ),
            (
                r#"Negotiate, Basic realm="a\"b", Bearer realm="https://t.example""#,
                vec![Challenge::Basic, bearer("https://t.example", None, None)],
            ),
            (r#"Bearer realm="https://t.ex"#, vec![bearer("https://t.ex", None, None)]),
            ("Bearer", vec![]),
            ("", vec![]),
            ("=,=\"", vec![]),
        ] {
            assert_eq!(challenges(header), read, "{header}");
        }
    }

    #[test]
    fn what_is_asked_for_is_encoded() {
        let ask =
            Ask { realm: "https://t.example/token", service: Some("a b"), scope: "repository:a/b:pull&x=1" };
        assert_eq!(
            address(&ask),
            "https://t.example/token?service=a%20b&scope=repository%3Aa%2Fb%3Apull%26x%3D1"
        );
    }
}
