//! How the actor's process tells what happened: a line an act.

use std::io;

use mivask_model::caps::CapabilitySet;
use mivask_model::held::Held;
use mivask_model::ids::{DiskGid, DiskUid, InsideGid, InsideUid};
use mivask_model::mode::Mode;
use mivask_model::outcome::{Imprint, RunsAs};

use crate::KernelError;

/// The device and inode number of what an act left.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) struct Node {
    pub device: u64,
    pub inode: u64,
}

/// What a successful act left, as the actor sees it.
#[derive(Clone, PartialEq, Eq, Default, Debug)]
pub(crate) struct Seen {
    pub left: Option<(Imprint, Node)>,
    pub runs_as: Option<RunsAs>,
}

impl Seen {
    /// Adds the default ACL of what was left.
    pub(crate) fn set_default_acl(&mut self, text: Option<String>) {
        if let Some((imprint, _)) = &mut self.left {
            imprint.default_acl = text;
        }
    }
}

/// One act done.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) enum Record {
    Done(Seen),
    Failed(i32),
}

/// The line for one act.
pub(crate) fn encode(tried: &io::Result<Seen>) -> String {
    let seen = match tried {
        Ok(seen) => seen,
        Err(error) => return format!("failed {}\n", error.raw_os_error().unwrap_or(0)),
    };
    if let Some((imprint, node)) = &seen.left {
        let id = |id: Option<u32>| id.unwrap_or(u32::MAX);
        let uid = id(imprint.uid.map(InsideUid::raw));
        let gid = id(imprint.gid.map(InsideGid::raw));
        let mode = imprint.mode.unwrap_or_default().bits();
        let acl = imprint.acl.as_deref().unwrap_or("-");
        let default_acl = imprint.default_acl.as_deref().unwrap_or("-");
        return format!("left {uid} {gid} {mode} {} {} {acl} {default_acl}\n", node.device, node.inode);
    }
    match &seen.runs_as {
        Some(RunsAs { uid, gid, effective, permitted }) => {
            format!("ran {uid} {gid} {} {}\n", effective.bits(), permitted.bits())
        }
        None => "done\n".to_owned(),
    }
}

/// The line for a failure before the first act.
pub(crate) fn failure(text: &str) -> String {
    format!("trouble {}\n", text.replace('\n', " "))
}

/// Every line.
pub(crate) fn decode(text: &str) -> Result<Vec<Record>, KernelError> {
    text.lines().map(line).collect()
}

fn line(line: &str) -> Result<Record, KernelError> {
    let garbled = || KernelError::Harness(format!("the actor said `{line}`"));
    let (word, rest) = line.split_once(' ').unwrap_or((line, ""));
    let words: Vec<&str> = rest.split(' ').collect();
    let number = |index: usize| words.get(index).and_then(|word| word.parse::<u64>().ok());
    let id = |index: usize| number(index).and_then(|number| u32::try_from(number).ok()).ok_or_else(garbled);
    match word {
        "done" => Ok(Record::Done(Seen::default())),
        "failed" => rest.parse().map(Record::Failed).map_err(|_| garbled()),
        "ran" => {
            let set = |index: usize| number(index).map(CapabilitySet::from_bits).ok_or_else(garbled);
            let runs_as = RunsAs {
                uid: Held::Id(InsideUid::new(id(0)?)),
                gid: Held::Id(InsideGid::new(id(1)?)),
                effective: set(2)?,
                permitted: set(3)?,
            };
            Ok(Record::Done(Seen { left: None, runs_as: Some(runs_as) }))
        }
        "left" => {
            let uid = id(0)?;
            let gid = id(1)?;
            let mode = Mode::new(u16::try_from(id(2)?).map_err(|_| garbled())?);
            let node = Node { device: number(3).ok_or_else(garbled)?, inode: number(4).ok_or_else(garbled)? };
            let text =
                |index: usize| words.get(index).filter(|acl| **acl != "-").map(|acl| (*acl).to_owned());
            let (acl, default_acl) = (text(5), text(6));
            let plain = Imprint::new(
                InsideUid::new(uid),
                InsideGid::new(gid),
                mode,
                DiskUid::new(uid),
                DiskGid::new(gid),
            );
            Ok(Record::Done(Seen {
                left: Some((Imprint { acl, default_acl, ..plain }, node)),
                runs_as: None,
            }))
        }
        "trouble" => Err(KernelError::Harness(rest.to_owned())),
        _ => Err(garbled()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn imprint(acl: Option<&str>) -> Imprint {
        let uid = InsideUid::new(7101);
        let gid = InsideGid::new(7200);
        let mode = Mode::new(0o2640);
        let plain = Imprint::new(uid, gid, mode, DiskUid::new(7101), DiskGid::new(7200));
        Imprint { acl: acl.map(str::to_owned), ..plain }
    }

    #[test]
    fn what_is_said_is_heard() {
        let node = Node { device: 64_770, inode: u64::MAX };
        let runs_as = RunsAs {
            uid: Held::Id(InsideUid::new(0)),
            gid: Held::Id(InsideGid::new(7200)),
            effective: CapabilitySet::from_bits(0xa804_25fb),
            permitted: CapabilitySet::from_bits(0xa804_25ff),
        };
        let acl = "user::rw-,user:7102:r--,group::r--,mask::r--,other::---";
        let all = [
            Seen::default(),
            Seen { left: Some((imprint(None), node)), runs_as: None },
            Seen { left: Some((imprint(Some(acl)), node)), runs_as: None },
            Seen { left: None, runs_as: Some(runs_as) },
        ];
        let text: String = all.iter().map(|seen| encode(&Ok(seen.clone()))).collect();
        let text = text + &encode(&Err(io::Error::from_raw_os_error(13)));
        let expected: Vec<Record> = all.into_iter().map(Record::Done).chain([Record::Failed(13)]).collect();
        assert_eq!(decode(&text).unwrap(), expected);
    }

    #[test]
    fn trouble_and_garbage_are_failures_of_the_harness() {
        for text in
            [failure("setgroups: no\nway").as_str(), "left 1 2\n", "ran x 0 0\n", "dances\n", "failed\n"]
        {
            assert!(matches!(decode(text), Err(KernelError::Harness(_))), "{text}");
        }
        let said = decode(&failure("setgroups: no\nway")).unwrap_err().to_string();
        assert_eq!(said, "the harness itself failed: setgroups: no way");
    }
}
