//! Images in an engine's store, asked through its socket (Docker Engine API; Podman's service).

use std::io::{self, Read};
use std::os::unix::fs::FileTypeExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use mivask_disk::image::Digest;
use mivask_disk::live::Options;
use mivask_disk::place::{Engine, EngineKind};
use mivask_disk::reference::{Reference, is_host};
use mivask_disk::source;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use serde::Deserialize;
use ureq::http::Response;
use ureq::{Agent, Body, Error};

use crate::cache::{Cache, Key};
use crate::connection::{self, Ask, Connection, reason};
use crate::error::FetchError;
use crate::{Found, Step, Wanted, local, unix};

/// The largest answer about one image.
pub(crate) const MOST_ANSWER: u64 = 8 << 20;
/// How long an engine may prepare what it sends: some write an archive first.
const PREPARED: Duration = Duration::from_secs(600);
/// What stays as it is in the name of an image.
pub(crate) const NAME: &AsciiSet =
    &NON_ALPHANUMERIC.remove(b'/').remove(b':').remove(b'.').remove(b'-').remove(b'_').remove(b'@');

/// How an engine is reached.
pub(crate) enum Way<'a> {
    Socket { path: PathBuf, agent: Agent },
    Address { url: String, connection: &'a Connection },
}

/// The image that is wanted, from an engine.
pub(crate) fn image(
    engine: &Engine,
    wanted: &Wanted<'_>,
    connection: &Connection,
    cache: &Cache,
) -> Result<Found, FetchError> {
    let way = Way::to(engine, connection)?;
    let word = engine.kind.word();
    // An id is a name as well; what is neither would ask for something else.
    Reference::parse(wanted.name)
        .map_err(|what| FetchError::missing(format!("`{}`", wanted.name.escape_debug()), what))?;
    let name = utf8_percent_encode(wanted.name, NAME).to_string();
    let front = match engine.kind {
        EngineKind::Docker => "/images",
        EngineKind::Podman => "/v4.0.0/libpod/images",
    };
    let shown = wanted.name.escape_debug().to_string();
    let source = format!("{word}:{}", wanted.name);
    let failed = |message: String| FetchError::new(word, message);
    let answer = way.get(&format!("{front}/{name}/json"), word)?;
    if answer.status().as_u16() == 404 {
        let help = "pull it there, or name a further place, such as registry";
        return Err(FetchError::missing(word, format!("has no image {shown}")).with_help(help));
    }
    let inspected: Inspected = answer_of(answer, &shown).map_err(failed)?;
    if wanted.choice.platform.is_some() && !inspected.is_for(wanted.choice.wanted()) {
        let message = format!("has {shown} for {}/{} alone", inspected.os, inspected.architecture);
        return Err(failed(message).with_help("pull it there for that platform"));
    }
    let id = inspected.digest().map_err(failed)?;
    let key = Key::of_engine(&id);
    if let Some(kept) = cache.image(&key, &source) {
        return Ok(Found { source, gathered: kept });
    }
    (wanted.watch)(Step::Expected(inspected.size));
    // By its id: the name may stand for another image by now.
    let path = match engine.kind {
        EngineKind::Docker => format!("{front}/{id}/get"),
        EngineKind::Podman => format!("{front}/{}/get?format=docker-archive", id.encoded),
    };
    let answer = way.get(&path, word)?;
    if !answer.status().is_success() {
        return Err(failed(format!("does not give {shown}: {}", said(answer))));
    }
    let mut stream = Watched { inner: answer.into_body().into_reader(), watch: wanted.watch };
    let options = Options { sizes: true, ..Options::default() };
    let grown = source::read(&source, &mut stream, &options)?;
    let gathered = cache.keep_image(&key, &grown, &source).map_err(|error| failed(error.to_string()))?;
    Ok(Found { source, gathered })
}

/// What an engine says of an image.
#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct Inspected {
    id: String,
    #[serde(default)]
    size: u64,
    #[serde(default)]
    os: String,
    #[serde(default)]
    architecture: String,
}

impl Inspected {
    fn is_for(&self, (os, architecture, _): (&str, &str, Option<&str>)) -> bool {
        self.os == os && self.architecture == architecture
    }

    fn digest(&self) -> Result<Digest, String> {
        // Podman leaves the algorithm out.
        let text = if self.id.contains(':') { self.id.clone() } else { format!("sha256:{}", self.id) };
        Digest::try_from(text)
    }
}

fn answer_of(answer: Response<Body>, shown: &str) -> Result<Inspected, String> {
    if !answer.status().is_success() {
        return Err(format!("does not tell of {shown}: {}", said(answer)));
    }
    let mut bytes = Vec::new();
    let read = answer.into_body().into_reader().take(MOST_ANSWER).read_to_end(&mut bytes);
    read.map_err(|error| format!("broke off: {}", reason(&error)))?;
    serde_json::from_slice(&bytes).map_err(|error| format!("tells of {shown} in another form: {error}"))
}

/// What an engine says went wrong.
pub(crate) fn said(answer: Response<Body>) -> String {
    #[derive(Deserialize)]
    struct Message {
        #[serde(alias = "cause")]
        message: String,
    }
    let status = answer.status();
    let mut bytes = Vec::new();
    let read = answer.into_body().into_reader().take(1 << 16).read_to_end(&mut bytes);
    let message = read.ok().and_then(|_| serde_json::from_slice::<Message>(&bytes).ok());
    message.map_or_else(|| status.to_string(), |given| given.message.escape_debug().to_string())
}

impl<'a> Way<'a> {
    /// The way to an engine: what it was named with, what the environment says, or the socket that is there.
    pub(crate) fn to(engine: &Engine, connection: &'a Connection) -> Result<Self, FetchError> {
        let word = engine.kind.word();
        let variable = match engine.kind {
            EngineKind::Docker => "DOCKER_HOST",
            EngineKind::Podman => "CONTAINER_HOST",
        };
        let Some(address) = engine.address.clone().or_else(|| local::word(variable)) else {
            return Self::usual(engine.kind);
        };
        let path = address.strip_prefix("unix://").unwrap_or(&address);
        if path.starts_with('/') {
            return Ok(Self::socket(path.into()));
        }
        let tcp = address.strip_prefix("tcp://").or(address.strip_prefix("http://"));
        if let Some(host) = tcp.map(|host| host.trim_end_matches('/')).filter(|host| is_host(host)) {
            let scheme = if local::word("DOCKER_TLS_VERIFY").is_some() { "https" } else { "http" };
            return Ok(Self::Address { url: format!("{scheme}://{host}"), connection });
        }
        Err(FetchError::new(word, format!("`{}` is no address of an engine that is read", address.escape_debug()))
            .with_help("write the path of its socket, or tcp://HOST:PORT; one behind ssh can be brought here with ssh -L"))
    }

    fn usual(kind: EngineKind) -> Result<Self, FetchError> {
        let word = kind.word();
        let run = local::runtime();
        let own = |below: &str| run.join(below);
        let root = rustix::process::geteuid().is_root();
        let mut all = match kind {
            EngineKind::Docker => {
                vec![own("docker.sock"), "/run/docker.sock".into(), "/var/run/docker.sock".into()]
            }
            EngineKind::Podman => vec![own("podman/podman.sock"), "/run/podman/podman.sock".into()],
        };
        if root {
            // Of root's own two the system's is meant.
            all.rotate_left(1);
        }
        let is_socket = |path: &Path| path.metadata().is_ok_and(|facts| facts.file_type().is_socket());
        match all.iter().find(|path| is_socket(path)) {
            Some(path) => Ok(Self::socket(path.clone())),
            None => {
                let names: Vec<String> = all.iter().map(|path| path.display().to_string()).collect();
                let help = match kind {
                    EngineKind::Docker => "start its daemon, or name its socket: docker:/PATH",
                    EngineKind::Podman => {
                        "start it with `podman system service`, or name its socket: podman:/PATH"
                    }
                };
                Err(FetchError::new(word, format!("no socket is at {}", names.join(" or "))).with_help(help))
            }
        }
    }

    fn socket(path: PathBuf) -> Self {
        let agent = unix::agent(connection::settings(PREPARED), path.clone());
        Self::Socket { path, agent }
    }

    pub(crate) fn get(&self, path: &str, word: &str) -> Result<Response<Body>, FetchError> {
        match self {
            Self::Address { url, connection } => {
                connection.send(&Ask { url: &format!("{url}{path}"), ..Ask::default() })
            }
            Self::Socket { path: socket, agent } => {
                let answer = agent.get(format!("http://engine{path}")).call();
                log::info!(
                    "{word}: {path}: {}",
                    answer.as_ref().map_or(0, |answer| answer.status().as_u16())
                );
                answer.map_err(|error| unanswered(&error, socket, word))
            }
        }
    }
}

fn unanswered(error: &Error, socket: &Path, word: &str) -> FetchError {
    let shown = socket.display();
    let Error::Io(error) = error else { return FetchError::new(word, format!("{shown}: {error}")) };
    let help = if error.kind() == io::ErrorKind::PermissionDenied {
        "its owner and its group may ask it: look at it with ls -l"
    } else {
        "is the engine running?"
    };
    FetchError::new(word, format!("{shown}: {}", reason(error))).with_help(help)
}

/// A stream that tells how much of it came.
struct Watched<'a, R> {
    inner: R,
    watch: &'a crate::Watch<'a>,
}

impl<R: Read> Read for Watched<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let got = self.inner.read(buffer)?;
        (self.watch)(Step::Came(got as u64));
        Ok(got)
    }
}
