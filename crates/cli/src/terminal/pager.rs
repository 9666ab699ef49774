//! Text that is longer than the terminal goes through the user's pager.

use std::io::{self, Write};
use std::process::{Child, Command, Stdio};

/// Keeps what is written until it is more than a screen; then a pager has it, else the terminal when all is written.
///
/// What a pager was given is kept until it has ended: where it turns out that there is none, the terminal has it.
pub(super) struct Pager {
    kept: Vec<u8>,
    lines: usize,
    /// Lines of the terminal.
    rows: usize,
    reader: Reader,
}

enum Reader {
    /// No one yet.
    None,
    /// A pager.
    Pager(Child),
    /// The terminal, since there is no pager.
    Terminal,
}

impl Pager {
    pub(super) fn new() -> Self {
        let size = terminal_size::terminal_size();
        let rows = size.map_or(usize::MAX, |(_, rows)| usize::from(rows.0));
        Self { kept: Vec::new(), lines: 0, rows, reader: Reader::None }
    }

    /// Gives what was kept to whoever reads from now on.
    fn begin(&mut self) -> io::Result<()> {
        self.reader = spawn().map_or(Reader::Terminal, Reader::Pager);
        let kept = std::mem::take(&mut self.kept);
        self.pass(&kept).map(drop)
    }

    fn pass(&mut self, bytes: &[u8]) -> io::Result<()> {
        match &mut self.reader {
            Reader::None => self.kept.extend_from_slice(bytes),
            Reader::Terminal => super::stdout().write_all(bytes)?,
            Reader::Pager(child) => {
                self.kept.extend_from_slice(bytes);
                let Some(input) = &mut child.stdin else { return Err(io::ErrorKind::BrokenPipe.into()) };
                if let Err(error) = input.write_all(bytes) {
                    return if self.is_no_pager() { Ok(()) } else { Err(error) };
                }
            }
        }
        Ok(())
    }
}

impl Write for Pager {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.lines += bytes.iter().filter(|byte| **byte == b'\n').count();
        if matches!(self.reader, Reader::None) && self.lines >= self.rows {
            self.begin()?;
        }
        self.pass(bytes)?;
        Ok(bytes.len())
    }

    /// What fits on a screen is shown at the end, not before it is known that it fits.
    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Drop for Pager {
    fn drop(&mut self) {
        if let Reader::None = self.reader {
            // A terminal that is gone has no one to tell.
            let _ = super::stdout().write_all(&self.kept).and_then(|()| super::stdout().flush());
        }
        // Its reader is done before the prompt comes back.
        self.is_no_pager();
    }
}

impl Pager {
    /// Waits for the pager; one that the shell did not find, or could not start, leaves what it was given to the terminal.
    fn is_no_pager(&mut self) -> bool {
        let Reader::Pager(child) = &mut self.reader else { return false };
        drop(child.stdin.take());
        let none = child.wait().is_ok_and(|status| matches!(status.code(), Some(126 | 127)));
        if none {
            self.reader = Reader::Terminal;
            let mut out = super::stdout();
            let _ = out.write_all(&self.kept).and_then(|()| out.flush());
            self.kept.clear();
        }
        none
    }
}

/// The pager of the environment (`PAGER`, as POSIX has it for man); an empty value means no pager.
fn spawn() -> Option<Child> {
    let given = std::env::var("PAGER").ok();
    let words = given.as_deref().unwrap_or("less");
    if words.trim().is_empty() || words.trim() == "cat" {
        return None;
    }
    let start = |words: &str| {
        let mut command = Command::new("sh");
        command.args(["-c", words]).stdin(Stdio::piped());
        if std::env::var_os("LESS").is_none() {
            // Colours as they are, and no clearing of the screen.
            command.env("LESS", "RX");
        }
        command.spawn().ok()
    };
    let exists = |word: &str| {
        let path = std::env::var_os("PATH").unwrap_or_default();
        std::env::split_paths(&path).any(|folder| folder.join(word).is_file())
    };
    match given {
        Some(_) => start(words),
        None => ["less", "more"].into_iter().find(|word| exists(word)).and_then(start),
    }
}
