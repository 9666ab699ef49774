//! Requests about one repository, with what the registry wants to see first.

use std::sync::{Mutex, PoisonError};

use mivask_disk::reference::Reference;
use ureq::Body;
use ureq::http::Response;

use super::token::{self, Challenge};
use crate::connection::{Ask, Connection, told_to_wait};
use crate::credentials::{self, Account};
use crate::error::FetchError;

/// The host that answers for the registry that names without one mean.
const USUAL_HOST: &str = "registry-1.docker.io";

/// The host that has the images of a registry.
pub(super) fn host(reference: &Reference) -> String {
    if reference.is_usual_registry() { USUAL_HOST.to_owned() } else { reference.registry.clone() }
}

/// What is asked about one repository.
pub(super) struct Session<'a> {
    connection: &'a Connection,
    reference: &'a Reference,
    host: String,
    plain: bool,
    /// What is shown to the registry, once it asked for it.
    shown: Mutex<Shown>,
}

#[derive(Clone, Default)]
struct Shown {
    authorization: Option<String>,
    /// The account it comes from.
    account: Option<Account>,
}

impl<'a> Session<'a> {
    pub(super) fn new(connection: &'a Connection, reference: &'a Reference, plain: bool) -> Self {
        Self { connection, reference, host: host(reference), plain, shown: Mutex::default() }
    }

    /// Asks for `path` of the repository; any status is an answer.
    pub(super) fn get(
        &self,
        path: &str,
        accept: Option<&str>,
        head: bool,
    ) -> Result<Response<Body>, FetchError> {
        let scheme = if self.plain { "http" } else { "https" };
        let url = format!("{scheme}://{}/v2/{}/{path}", self.host, self.reference.repository);
        let shown = self.shown().authorization;
        let ask = Ask { url: &url, head, accept, authorization: shown.as_deref(), form: None };
        let answer = self.connection.send(&ask)?;
        if answer.status().as_u16() != 401 {
            return Ok(answer);
        }
        let now = {
            // Of several threads that are refused at once, one asks for a token.
            let mut own = self.shown.lock().unwrap_or_else(PoisonError::into_inner);
            if own.authorization == shown {
                *own = self.answer_to(&answer)?;
            }
            own.authorization.clone()
        };
        self.connection.send(&Ask { authorization: now.as_deref(), ..ask })
    }

    fn shown(&self) -> Shown {
        self.shown.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// What to show to a registry that wants to see something.
    fn answer_to(&self, answer: &Response<Body>) -> Result<Shown, FetchError> {
        let account = credentials::account(self.reference)
            .map_err(|what| FetchError::new(&self.host, format!("wants credentials: {what}")))?;
        let authorization = match Challenge::of(answer) {
            Some(Challenge::Basic) => account.as_ref().and_then(|account| token::basic(&account.secret)),
            Some(Challenge::Bearer { realm, service, scope }) => {
                let scope = scope.unwrap_or_else(|| format!("repository:{}:pull", self.reference.repository));
                let ask = token::Ask { realm: &realm, service: service.as_deref(), scope: &scope };
                Some(token::get(self.connection, &ask, account.as_ref(), self.plain, &self.host)?)
            }
            None => None,
        };
        Ok(Shown { authorization, account })
    }

    /// What a status means, and what to do about it.
    pub(super) fn refused(&self, answer: &Response<Body>, what: &str) -> FetchError {
        let status = answer.status().as_u16();
        let host = &self.host;
        let image = format!("{}{}", self.reference.repository, self.suffix());
        let account = self.shown().account;
        let from = account.as_ref().map(|account| format!("the credentials of {}", account.from));
        let error = |message: String| FetchError::new(host, message);
        let sign_in =
            "sign in with your container tool, or name the file of credentials in REGISTRY_AUTH_FILE";
        match (status, from) {
            (401, Some(from)) => error(format!("refuses {from} for {image}"))
                .with_help(format!("they may have expired: {sign_in}")),
            (401, None) => {
                error(format!("wants credentials for {image}, and there are none")).with_help(sign_in)
            }
            (403, from) => {
                let who = from.unwrap_or_else(|| "somebody without credentials".to_owned());
                error(format!("does not let {who} pull {image}"))
                    .with_help("ask its owner for the right to pull, or sign in as somebody else")
            }
            (404, _) => {
                let help = "look at its name and tag; some registries say so of what you may not see";
                let message = match what {
                    "the image" => format!("has no image {image}"),
                    part => format!("lacks {part} of {image}"),
                };
                FetchError::missing(host, message).with_help(help)
            }
            (429, _) => {
                let wait = told_to_wait(answer)
                    .map_or_else(String::new, |time| format!(" for {} s", time.as_secs()));
                error(format!("takes no more requests from here{wait}")).with_help(
                    "wait, sign in for a higher limit, or name another place before it: registry:MIRROR, docker, podman",
                )
            }
            (500.., _) => error(format!("answers {status} for {what} {image}: it is not well"))
                .with_help("try again later, or name another place before it"),
            (status, _) => error(format!("answers {status} for {what} {image}"))
                .with_help("is this a registry? It has to speak the OCI distribution protocol"),
        }
    }

    fn suffix(&self) -> String {
        let tag = self.reference.tag.as_ref().map(|tag| format!(":{tag}"));
        let digest = self.reference.digest.as_ref().map(|digest| format!("@{digest}"));
        [tag, digest].into_iter().flatten().collect()
    }
}
