//! Bytes that have to have a digest. Hashed by what TLS brings anyway, which is twice as quick as others where a processor has no
//! instruction for it.

use std::io::{self, Read};

use mivask_disk::image::Digest;
use ring::digest::{Context, SHA256, SHA384, SHA512};

/// What hashes by the algorithm of a digest, of those that the OCI image specification registers; `None` for others.
fn hasher(digest: &Digest) -> Option<Context> {
    let algorithm = match digest.algorithm.as_str() {
        "sha256" => &SHA256,
        "sha384" => &SHA384,
        "sha512" => &SHA512,
        _ => return None,
    };
    Some(Context::new(algorithm))
}

fn hexadecimal(context: Context) -> String {
    context.finish().as_ref().iter().map(|byte| format!("{byte:02x}")).collect()
}

/// A reader that counts and hashes what goes by.
pub(crate) struct Checked<'d, R> {
    inner: R,
    digest: &'d Digest,
    hasher: Option<Context>,
    left: u64,
}

impl<'d, R: Read> Checked<'d, R> {
    /// Reads at most `size` bytes of `inner`, which have to have `digest`.
    pub(crate) fn new(inner: R, digest: &'d Digest, size: u64) -> Self {
        Self { inner, digest, hasher: hasher(digest), left: size }
    }

    /// Reads what is left, and says what is wrong with the whole.
    pub(crate) fn finish(mut self) -> Result<(), String> {
        io::copy(&mut self, &mut io::sink()).map_err(|error| format!("ended too early: {error}"))?;
        if self.left > 0 {
            return Err(format!("ended {} bytes too early", self.left));
        }
        let digest = self.digest;
        match self.hasher.map(hexadecimal) {
            Some(got) if got == digest.encoded => Ok(()),
            Some(_) => Err(format!("is not what was asked for: its digest is not {digest}")),
            None => Err(format!("cannot be checked: digests by {} are not known here", digest.algorithm)),
        }
    }
}

impl<R: Read> Read for Checked<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let room = buffer.len().min(usize::try_from(self.left).unwrap_or(usize::MAX));
        if room == 0 {
            return Ok(0);
        }
        let got = self.inner.read(&mut buffer[..room])?;
        self.left -= got as u64;
        if let Some(hasher) = &mut self.hasher {
            hasher.update(&buffer[..got]);
        }
        Ok(got)
    }
}

/// The digest of something small.
pub(crate) fn sha256(bytes: &[u8]) -> String {
    let mut context = Context::new(&SHA256);
    context.update(bytes);
    format!("sha256:{}", hexadecimal(context))
}

/// Whether something small has a digest; the text says what is wrong.
pub(crate) fn check(bytes: &[u8], digest: &Digest) -> Result<(), String> {
    Checked::new(bytes, digest, bytes.len() as u64).finish()
}

#[cfg(test)]
mod tests {
    use super::{check, sha256};
    use mivask_disk::image::Digest;

    #[test]
    fn a_digest_fits_its_bytes_alone() {
        let of = |text: String| Digest::try_from(text).unwrap();
        let empty = of("sha256:e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855".to_owned());
        assert_eq!(check(b"", &empty), Ok(()));
        assert!(check(b"x", &empty).unwrap_err().contains("is not what was asked for"));
        assert_eq!(check(b"tides", &of(sha256(b"tides"))), Ok(()));
        let long = of(format!(
            "sha512:{}",
            "cf83e1357eefb8bdf1542850d66d8007d620e4050b5715dc83f4a921d36ce9ce47d0d13c5d85f2b0ff8318d2877eec2f63b931bd47417a81a538327af927da3e"
        ));
        assert_eq!(check(b"", &long), Ok(()));
        assert!(check(b"", &of("blake3:00".to_owned())).unwrap_err().contains("not known here"));
    }
}
