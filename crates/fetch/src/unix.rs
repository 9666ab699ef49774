//! HTTP over a socket of this machine.

use std::fmt;
use std::io::{self, Read, Write};
use std::os::unix::net::UnixStream;
use std::path::PathBuf;
use std::time::Duration;

use ureq::config::Config;
use ureq::http::Uri;
use ureq::unversioned::resolver::{ResolvedSocketAddrs, Resolver};
use ureq::unversioned::transport::{
    Buffers, ConnectionDetails, Connector, LazyBuffers, NextTimeout, Transport,
};
use ureq::{Agent, Error};

/// An agent whose every request goes to the socket at `path`.
pub(crate) fn agent(config: Config, path: PathBuf) -> Agent {
    Agent::with_parts(config, Socket(path), Nowhere)
}

/// The socket at a path.
#[derive(Debug)]
struct Socket(PathBuf);

impl Connector for Socket {
    type Out = Connected;

    fn connect(&self, details: &ConnectionDetails<'_>, _: Option<()>) -> Result<Option<Connected>, Error> {
        let stream = UnixStream::connect(&self.0)?;
        let config = details.config;
        let buffers = LazyBuffers::new(config.input_buffer_size(), config.output_buffer_size());
        Ok(Some(Connected { stream, buffers }))
    }
}

/// A path needs no address.
#[derive(Debug)]
struct Nowhere;

impl Resolver for Nowhere {
    fn resolve(&self, _: &Uri, _: &Config, _: NextTimeout) -> Result<ResolvedSocketAddrs, Error> {
        let mut none = self.empty();
        // One has to be there; the connector never looks at it.
        none.push(([0, 0, 0, 0], 0).into());
        Ok(none)
    }
}

struct Connected {
    stream: UnixStream,
    buffers: LazyBuffers,
}

impl fmt::Debug for Connected {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Connected").finish_non_exhaustive()
    }
}

/// How long there may be silence; `None` for ever.
fn patience(timeout: NextTimeout) -> Option<Duration> {
    timeout.not_zero().map(|duration| *duration)
}

/// A socket says "would block" where a time ran out.
fn named(error: io::Error, timeout: NextTimeout) -> Error {
    let ran_out = matches!(error.kind(), io::ErrorKind::WouldBlock | io::ErrorKind::TimedOut);
    if ran_out { Error::Timeout(timeout.reason) } else { Error::Io(error) }
}

impl Transport for Connected {
    fn buffers(&mut self) -> &mut dyn Buffers {
        &mut self.buffers
    }

    fn transmit_output(&mut self, amount: usize, timeout: NextTimeout) -> Result<(), Error> {
        self.stream.set_write_timeout(patience(timeout))?;
        let output = &self.buffers.output()[..amount];
        self.stream.write_all(output).map_err(|error| named(error, timeout))
    }

    fn await_input(&mut self, timeout: NextTimeout) -> Result<bool, Error> {
        self.stream.set_read_timeout(patience(timeout))?;
        let input = self.buffers.input_append_buf();
        let amount = loop {
            match self.stream.read(input) {
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                other => break other.map_err(|error| named(error, timeout))?,
            }
        };
        self.buffers.input_appended(amount);
        Ok(amount > 0)
    }

    fn is_open(&mut self) -> bool {
        // A connection is used once: an engine's socket costs nothing to open.
        false
    }
}
