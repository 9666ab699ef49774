//! What images hold, from where they are: a registry, an engine's socket, a folder of archives.
//!
//! Nothing is looked for unless a place is named, and nothing is unpacked: layers go by as streams, and what stays of
//! them is who owns what, the account files and the configuration. What was read is kept by digest, so that the next
//! question reads no layer.

mod cache;
mod connection;
mod container;
mod credentials;
mod digest;
mod engine;
mod error;
mod folder;
mod layers;
mod local;
mod proxy;
mod registry;
mod roots;
mod tls;
mod unix;

pub use cache::{Cache, Kept};
pub use error::FetchError;

use mivask_disk::gathered::Gathered;
use mivask_disk::image::Choice;
use mivask_disk::place::{Engine, Place};

/// How much was asked for and how much of it came.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Step {
    /// So many bytes more will come.
    Expected(u64),
    /// So many bytes came.
    Came(u64),
}

/// Told of every step, from several threads.
pub type Watch<'a> = dyn Fn(Step) + Sync + 'a;

/// An image that was found.
#[derive(Debug)]
pub struct Found {
    /// Where, as `survey` and `--image` take it: `registry:docker.io/library/x:1`.
    pub source: String,
    /// What it holds.
    pub gathered: Gathered,
}

/// How images are fetched.
#[derive(Debug)]
pub struct Fetcher {
    cache: Cache,
    connection: connection::Connection,
}

impl Fetcher {
    /// One that keeps what it reads in `cache`.
    #[must_use]
    pub fn new(cache: Cache) -> Self {
        Self { cache, connection: connection::Connection::default() }
    }

    /// The image that `choice` names, from `place`.
    ///
    /// # Errors
    /// It is not there, or cannot be read; [`FetchError::is_missing`] tells one from the other.
    pub fn image(&self, place: &Place, choice: &Choice, watch: &Watch<'_>) -> Result<Found, FetchError> {
        let name = choice.name.as_deref().unwrap_or_default();
        let wanted = Wanted { name, choice, watch };
        match place {
            Place::Registry(base) => registry::image(base.as_ref(), &wanted, &self.connection, &self.cache),
            Place::Engine(engine) => engine::image(engine, &wanted, &self.connection, &self.cache),
            Place::Folder(path) => folder::image(path, &wanted),
        }
    }
}

impl Fetcher {
    /// What `engine` says of the container `name`, as JSON.
    ///
    /// # Errors
    /// It has none of that name, or cannot be asked.
    pub fn container(&self, engine: &Engine, name: &str) -> Result<Vec<u8>, FetchError> {
        container::container(engine, name, &self.connection)
    }
}

/// What is asked for.
struct Wanted<'a> {
    /// The image's name, as descriptions write it.
    name: &'a str,
    choice: &'a Choice,
    watch: &'a Watch<'a>,
}
