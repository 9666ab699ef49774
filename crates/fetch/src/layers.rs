//! Layers that come as streams, several at a time, each checked against its digest.

use std::collections::BTreeMap;
use std::io::{self, Read};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Mutex, PoisonError};

use mivask_disk::image::{Layer, RemotePart};

use crate::cache::Cache;
use crate::digest::Checked;
use crate::error::FetchError;
use crate::{Step, Watch};

/// How many come at a time.
const AT_A_TIME: usize = 4;
/// How often one is asked for that breaks off.
const TRIES: usize = 3;
/// Bytes of a piece that is handed from the reader to the unpacker, and how many of them wait.
const PIECE: usize = 1 << 17;
const WAITING: usize = 8;

/// Opens the stream of a layer.
pub(crate) type Open<'a, R> = dyn Fn(&RemotePart) -> Result<R, FetchError> + Sync + 'a;

/// Reads the layers of an image in order, those that are kept from the cache; `host` is who is asked for the others.
pub(crate) fn read_all<R: Read + Send>(
    parts: &[RemotePart],
    open: &Open<'_, R>,
    cache: &Cache,
    watch: &Watch<'_>,
    host: &str,
) -> Result<Vec<Layer>, FetchError> {
    let mut known: BTreeMap<String, Layer> = BTreeMap::new();
    let mut missing: Vec<&RemotePart> = Vec::new();
    for part in parts {
        let name = part.digest.to_string();
        if known.contains_key(&name) || missing.iter().any(|one| one.digest == part.digest) {
            continue;
        }
        match cache.layer(&part.digest) {
            Some(layer) => drop(known.insert(name, layer)),
            None => missing.push(part),
        }
    }
    watch(Step::Expected(missing.iter().map(|part| part.size).sum()));
    let next = AtomicUsize::new(0);
    let done: Mutex<Vec<(String, Result<Layer, FetchError>)>> = Mutex::default();
    std::thread::scope(|scope| {
        for _ in 0..AT_A_TIME.min(missing.len()) {
            scope.spawn(|| {
                while let Some(part) = missing.get(next.fetch_add(1, Ordering::Relaxed)) {
                    let read = patiently(part, open, watch, host);
                    match &read {
                        Ok(layer) => cache.keep_layer(&part.digest, layer),
                        // Nobody needs the others of an image that is not whole.
                        Err(_) => next.store(missing.len(), Ordering::Relaxed),
                    }
                    done.lock().unwrap_or_else(PoisonError::into_inner).push((part.digest.to_string(), read));
                }
            });
        }
    });
    for (name, read) in done.into_inner().unwrap_or_else(PoisonError::into_inner) {
        known.insert(name, read?);
    }
    let of = |part: &RemotePart| known.get(&part.digest.to_string()).cloned();
    parts.iter().map(|part| of(part).ok_or_else(|| FetchError::new(host, "has not got all layers"))).collect()
}

fn patiently<R: Read + Send>(
    part: &RemotePart,
    open: &Open<'_, R>,
    watch: &Watch<'_>,
    host: &str,
) -> Result<Layer, FetchError> {
    let mut trial = 1;
    loop {
        match stream(part, open(part)?, watch) {
            Ok(layer) => return Ok(layer),
            Err(Broken::Off(what)) if trial < TRIES => log::info!("{host}: {}: {what}", part.digest),
            Err(Broken::Off(what) | Broken::Content(what)) => {
                let help = "it may be damaged in the registry: push the image again, or name another place before it";
                return Err(FetchError::new(host, format!("layer {} {what}", part.digest)).with_help(help));
            }
        }
        trial += 1;
    }
}

/// Why a stream gave no layer.
enum Broken {
    /// The stream ended; the next one may not.
    Off(String),
    /// What came is not a layer, or another one.
    Content(String),
}

/// Reads and hashes on one thread, unpacks on another.
fn stream<R: Read + Send>(part: &RemotePart, input: R, watch: &Watch<'_>) -> Result<Layer, Broken> {
    let (sender, receiver) = sync_channel(WAITING);
    std::thread::scope(|scope| {
        let reading = scope.spawn(move || hand_on(part, input, &sender, watch));
        let mut pieces = Pieces { receiver, piece: Vec::new(), at: 0 };
        let layer = Layer::from_stream("layer", &mut pieces);
        // What follows the archive counts for the digest.
        let drained = io::copy(&mut pieces, &mut io::sink());
        drop(pieces);
        let read = reading.join().unwrap_or_else(|_| Err(Broken::Off("was not read".to_owned())));
        match (read, layer, drained) {
            (Ok(()), Ok(layer), Ok(_)) => Ok(layer),
            (Ok(()), Err(error), _) => Err(Broken::Content(error.message)),
            (Ok(()), Ok(_), Err(error)) => Err(Broken::Off(error.to_string())),
            (Err(broken), _, _) => Err(broken),
        }
    })
}

fn hand_on<R: Read>(
    part: &RemotePart,
    input: R,
    pieces: &SyncSender<Vec<u8>>,
    watch: &Watch<'_>,
) -> Result<(), Broken> {
    let mut checked = Checked::new(input, &part.digest, part.size);
    let mut came = 0;
    loop {
        let mut piece = Vec::with_capacity(PIECE);
        let got = Read::take(&mut checked, PIECE as u64).read_to_end(&mut piece);
        let got = got.map_err(|error| Broken::Off(format!("broke off after {came} bytes: {error}")))?;
        if got == 0 {
            break;
        }
        came += got as u64;
        watch(Step::Came(got as u64));
        // Nobody takes it where the unpacker gave up, which says why.
        if pieces.send(piece).is_err() {
            break;
        }
    }
    if came < part.size {
        return Err(Broken::Off(format!("broke off after {came} of {} bytes", part.size)));
    }
    checked.finish().map_err(Broken::Content)
}

/// What was handed on, as a stream.
struct Pieces {
    receiver: Receiver<Vec<u8>>,
    piece: Vec<u8>,
    at: usize,
}

impl Read for Pieces {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.at == self.piece.len() {
            // The other side is gone where everything was read, or where it says itself what is wrong.
            let Ok(piece) = self.receiver.recv() else { return Ok(0) };
            self.piece = piece;
            self.at = 0;
        }
        let got = buffer.len().min(self.piece.len() - self.at);
        buffer[..got].copy_from_slice(&self.piece[self.at..self.at + got]);
        self.at += got;
        Ok(got)
    }
}
