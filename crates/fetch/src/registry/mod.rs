//! Images in registries (OCI distribution specification).

mod session;
mod token;

use std::io::{self, Read};

use mivask_disk::error::DiskError;
use mivask_disk::image::{Choice, Digest, Growing, Remote, RemotePart, remote};
use mivask_disk::place::Base;
use mivask_disk::reference::Reference;
use ureq::Body;
use ureq::http::Response;

use crate::cache::{Cache, Key};
use crate::connection::Connection;
use crate::digest;
use crate::error::FetchError;
use crate::{Found, Wanted, layers};
use session::Session;

/// How deep indexes may name indexes.
const DEEPEST: usize = 4;
/// The largest manifest (OCI distribution specification, "Pushing manifests": at least this much is taken).
const MOST_MANIFEST: u64 = 4 << 20;
/// The largest configuration.
const MOST_CONFIG: u64 = 8 << 20;
/// The forms of manifests that are read.
const MANIFESTS: &str = "application/vnd.oci.image.index.v1+json, application/vnd.oci.image.manifest.v1+json, \
    application/vnd.docker.distribution.manifest.list.v2+json, application/vnd.docker.distribution.manifest.v2+json";

/// The image that is wanted, from its own registry or from `base`.
pub(crate) fn image(
    base: Option<&Base>,
    wanted: &Wanted<'_>,
    connection: &Connection,
    cache: &Cache,
) -> Result<Found, FetchError> {
    let named = Reference::parse(wanted.name)
        .map_err(|what| FetchError::missing(format!("`{}`", wanted.name.escape_debug()), what))?;
    let reference = base.map_or_else(|| named.clone(), |base| named.at(&base.host, &base.prefix));
    let plain = base.is_some_and(|base| base.plain);
    let source = format!("registry:{}{reference}", if plain { "http://" } else { "" });
    let session = Session::new(connection, &reference, plain);
    let pull = Pull { session, reference: &reference, choice: wanted.choice };
    let pinned = match &reference.digest {
        Some(digest) => Some(digest.clone()),
        None => pull.resolve()?,
    };
    let key = |digest: &Digest| Key::of_manifest(digest, wanted.choice);
    if let Some(kept) = pinned.as_ref().and_then(|digest| cache.image(&key(digest), &source)) {
        return Ok(Found { source, gathered: kept });
    }
    let (digest, config, parts) = pull.manifest(pinned.as_ref())?;
    let key = key(&digest);
    let config = pull.config(&config)?;
    let open = |part: &RemotePart| pull.blob(part, "a layer").map(|answer| answer.into_body().into_reader());
    let read = layers::read_all(&parts, &open, cache, wanted.watch, &session::host(&reference))?;
    // What is kept serves every name of it.
    let mut growing = Growing::new("the image", true);
    let failed = |error: DiskError| FetchError::new(&source, error.message);
    for layer in read {
        growing.add(layer).map_err(failed)?;
    }
    let grown = growing.finish(&config).map_err(failed)?;
    let gathered = cache.keep_image(&key, &grown, &source);
    let gathered = gathered.map_err(|error| FetchError::new(&source, error.to_string()))?;
    Ok(Found { source, gathered })
}

/// One image being pulled.
struct Pull<'a> {
    session: Session<'a>,
    reference: &'a Reference,
    choice: &'a Choice,
}

impl Pull<'_> {
    /// The digest that the tag stands for now; `None` where the registry does not tell before it is asked for the
    /// manifest.
    fn resolve(&self) -> Result<Option<Digest>, FetchError> {
        let path = format!("manifests/{}", self.reference.asked());
        let answer = self.session.get(&path, Some(MANIFESTS), true)?;
        if answer.status().as_u16() == 405 {
            return Ok(None);
        }
        let answer = self.fits(answer, "the image")?;
        Ok(told(&answer))
    }

    /// What the manifest of the wanted platform names, and the digest that the name stands for.
    fn manifest(&self, pinned: Option<&Digest>) -> Result<(Digest, RemotePart, Vec<RemotePart>), FetchError> {
        let mut wanted = pinned.cloned();
        let mut named = wanted.clone();
        for _ in 0..=DEEPEST {
            let asked = wanted.as_ref().map_or_else(|| self.reference.asked(), ToString::to_string);
            let answer = self.session.get(&format!("manifests/{asked}"), Some(MANIFESTS), false)?;
            let answer = self.fits(answer, "the image")?;
            let claimed = told(&answer);
            let bytes = self.small(answer, MOST_MANIFEST, "its manifest")?;
            let own = match wanted.or(claimed) {
                Some(digest) => {
                    digest::check(&bytes, &digest)
                        .map_err(|what| self.wrong(format!("its manifest {what}")))?;
                    digest
                }
                None => Digest::try_from(digest::sha256(&bytes)).map_err(|what| self.wrong(what))?,
            };
            let named = named.get_or_insert_with(|| own.clone());
            match remote(&bytes, self.choice).map_err(|what| self.wrong(what))? {
                Remote::Image { config, layers } => return Ok((named.clone(), config, layers)),
                Remote::Index(digest) => wanted = Some(digest),
            }
        }
        Err(self.wrong("its indexes name indexes without end".to_owned()))
    }

    fn config(&self, part: &RemotePart) -> Result<Vec<u8>, FetchError> {
        let answer = self.blob(part, "its configuration")?;
        let bytes = self.small(answer, MOST_CONFIG, "its configuration")?;
        digest::check(&bytes, &part.digest)
            .map_err(|what| self.wrong(format!("its configuration {what}")))?;
        Ok(bytes)
    }

    fn blob(&self, part: &RemotePart, what: &str) -> Result<Response<Body>, FetchError> {
        let answer = self.session.get(&format!("blobs/{}", part.digest), None, false)?;
        self.fits(answer, what)
    }

    /// An answer that is what was asked for.
    fn fits(&self, answer: Response<Body>, what: &str) -> Result<Response<Body>, FetchError> {
        if answer.status().is_success() { Ok(answer) } else { Err(self.session.refused(&answer, what)) }
    }

    fn small(&self, answer: Response<Body>, most: u64, what: &str) -> Result<Vec<u8>, FetchError> {
        let mut bytes = Vec::new();
        let got = answer.into_body().into_reader().take(most + 1).read_to_end(&mut bytes);
        got.map_err(|_: io::Error| self.wrong(format!("{what} ended too early")))?;
        if bytes.len() as u64 > most {
            return Err(self.wrong(format!("{what} has more than {most} bytes")));
        }
        Ok(bytes)
    }

    fn wrong(&self, what: String) -> FetchError {
        FetchError::new(self.reference.to_string(), what)
    }
}

/// The digest that an answer tells of its content.
fn told(answer: &Response<Body>) -> Option<Digest> {
    let text = answer.headers().get("docker-content-digest")?.to_str().ok()?;
    Digest::try_from(text.to_owned()).ok()
}
