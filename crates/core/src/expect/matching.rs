//! Whether an actor or a path is one of those a line speaks of.

use mivask_model::act::Subject;
use mivask_model::glob::{Globs, Matcher, PatternError};
use mivask_model::path::trimmed;
use mivask_stage::stage::Actor;

use super::{Paths, Who};

pub(super) use mivask_model::glob::is_pattern;

fn matcher(pattern: &[u8], globs: &dyn Globs) -> Result<Matcher, PatternError> {
    if is_pattern(pattern) {
        let failed = |why| {
            let pattern = String::from_utf8_lossy(pattern);
            PatternError::new(format!("`{pattern}` is not a pattern: {why}"))
        };
        return globs.matcher(pattern).map_err(failed);
    }
    let own = pattern.to_vec();
    Ok(Box::new(move |text| text == own))
}

fn matchers<'a>(
    patterns: impl Iterator<Item = &'a [u8]>,
    globs: &dyn Globs,
) -> Result<Vec<Matcher>, PatternError> {
    patterns.map(|pattern| matcher(pattern, globs)).collect()
}

/// Tells who is meant. A pattern means no guest unless it says so: `* as root`.
pub(super) struct Called {
    names: Vec<(bool, Matcher)>,
    except: Vec<(bool, Matcher)>,
}

impl Called {
    pub(super) fn new(who: &Who, globs: &dyn Globs) -> Result<Self, PatternError> {
        let all = |names: &[String]| {
            let guests = names.iter().map(|name| Subject::named(name).is_guest());
            Ok(guests.zip(matchers(names.iter().map(String::as_bytes), globs)?).collect())
        };
        Ok(Self { names: all(&who.names)?, except: all(&who.except)? })
    }

    pub(super) fn is(&self, actor: &Actor) -> bool {
        let subject = Subject::named(&actor.name);
        let called = |place: String| Subject { actor: place, ..subject.clone() }.name();
        let full = format!("{}/{}", actor.workload, actor.container);
        let names = [actor.name.to_string(), called(actor.container.to_string()), called(full)];
        let one = |matchers: &[(bool, Matcher)]| {
            let mut meant = matchers.iter().filter(|(guest, _)| *guest == actor.guest);
            meant.any(|(_, is)| names.iter().any(|name| is(name.as_bytes())))
        };
        one(&self.names) && !one(&self.except)
    }
}

/// Where runtimes mount what the kernel shows of itself.
const KERNEL: [&[u8]; 3] = [b"/proc", b"/sys", b"/dev"];

/// Tells which paths are meant.
pub(super) struct Matching {
    matches: Vec<Matcher>,
    except: Vec<Matcher>,
    /// The directory that every match is in or is.
    pub base: Vec<u8>,
    /// How many names a match has; `None` for any number.
    names: Option<usize>,
}

impl Matching {
    /// The matches of a pattern.
    pub(super) fn new(paths: &Paths, globs: &dyn Globs) -> Result<Self, PatternError> {
        let pattern = paths.pattern.as_slice();
        let whole = |pattern: &[u8]| pattern.strip_suffix(b"/**").map(<[u8]>::to_vec);
        let mut meant = vec![matcher(pattern, globs)?];
        // What is below a directory and the directory itself are one thing to whoever guards them.
        if let Some(directory) = whole(pattern) {
            meant.push(matcher(&directory, globs)?);
        }
        let mut except = Vec::new();
        for one in &paths.except {
            except.push(matcher(one, globs)?);
            if let Some(directory) = whole(one) {
                except.push(matcher(&directory, globs)?);
            }
        }
        let first =
            pattern.iter().position(|byte| matches!(byte, b'*' | b'?' | b'[')).unwrap_or(pattern.len());
        let base = pattern[..first].iter().rposition(|byte| *byte == b'/').map_or(0, |at| at);
        let any = pattern.windows(2).any(|pair| pair == b"**");
        Ok(Self {
            matches: meant,
            except,
            base: pattern[..base].to_vec(),
            names: (!any).then(|| depth(pattern)),
        })
    }

    /// Whether `path` is meant.
    pub(super) fn is(&self, path: &[u8]) -> bool {
        // The root is written as nothing before the slash of what is in it.
        let path = trimmed(path);
        self.matches.iter().any(|is| is(path)) && !self.is_excepted(path)
    }

    /// Whether a path is in what a runtime mounts for the kernel, and the pattern does not begin there: no one means that
    /// by `/**`, and what it holds the kernel decides file by file.
    pub(super) fn is_elsewhere(&self, path: &[u8]) -> bool {
        let within = |path: &[u8], top: &[u8]| {
            path.strip_prefix(top).is_some_and(|rest| rest.first().is_none_or(|byte| *byte == b'/'))
        };
        KERNEL.iter().any(|top| within(path, top) && !within(&self.base, top))
    }

    /// Whether `path` is left out.
    pub(super) fn is_excepted(&self, path: &[u8]) -> bool {
        self.except.iter().any(|is| is(path))
    }

    /// Whether something any number of directories below `directory` may be meant.
    pub(super) fn is_deep_in(&self, directory: &[u8]) -> bool {
        self.names.is_none() && self.may_lie_in(directory)
    }

    /// Whether something of any name directly in `directory` may be meant.
    pub(super) fn may_lie_in(&self, directory: &[u8]) -> bool {
        self.names.is_none_or(|names| names == depth(trimmed(directory)) + 1)
            && !self.is_excepted(&[trimmed(directory), b"/\x01"].concat())
    }
}

fn depth(path: &[u8]) -> usize {
    path.iter().filter(|byte| **byte == b'/').count()
}
