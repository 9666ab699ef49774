//! From the members of an archive to a tree.

use std::sync::Arc;

use mivask_model::act::quoted;
use mivask_model::fact::{Provenance, Unknown};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::tree::{Certainty, Doubt, Entry, Unrecorded};

use crate::archive::{Member, Members, Stream, What, tar_error};
use crate::error::DiskError;
use crate::gathered::{AccountFiles, Gathered};
use crate::grow::Grower;

/// The tree of a plain archive: what a later member says of a path wins.
pub(crate) fn gather(name: &str, stream: &mut dyn Stream, sizes: bool) -> Result<Gathered, DiskError> {
    let mut members = Members::new(stream);
    let mut grower = Grower::new(Provenance::Source(Arc::from(name)), name, sizes);
    let mut accounts = AccountFiles::default();
    loop {
        let next = members.next(&mut |member, part| accounts.keep(&member.path, part));
        let Some(member) = next.map_err(|error| tar_error(name, error))? else { break };
        place(&mut grower, &member).map_err(|what| DiskError::whole(name, what))?;
    }
    let tells = members.tells;
    let (mut tree, holes) = grower.finish();
    let absent = Unrecorded::on_extended("the archive has none");
    // An unpacker sets no attributes: what an archive makes has none.
    tree.set_unrecorded(Unrecorded {
        acls: if tells.acls { None } else { absent.acls },
        capabilities: if tells.capabilities { None } else { absent.capabilities },
        attributes: None,
    });
    Ok(Gathered { accounts: Some(accounts), ..Gathered::new(tree, holes) })
}

/// Puts a member where its path says; what was there gives way. The error is what is wrong with it.
pub(crate) fn place(grower: &mut Grower, member: &Member) -> Result<(), String> {
    match &member.what {
        What::Same(first) => grower.same(&member.path, first),
        What::Kind(_) | What::Link(_) | What::Device(..) => {
            grower.put(&member.path, entry(member, grower.sizes)).map(drop)
        }
    }
}

fn entry(member: &Member, sizes: bool) -> Entry {
    let (kind, target, device) = match &member.what {
        What::Kind(kind) => (*kind, &[][..], None),
        What::Link(target) => (FileKind::Link, target.as_slice(), None),
        What::Device(kind, device) => (*kind, &[][..], Some(*device)),
        What::Same(_) => (FileKind::File, &[][..], None),
    };
    let mode = if kind == FileKind::Link { Mode::new(0o777) } else { member.mode };
    let mut entry = Entry::new(kind, member.uid, member.gid, mode);
    entry.extended = member.extended.clone();
    entry.content = member.content.clone();
    entry.size = (sizes && kind == FileKind::File).then_some(member.size);
    entry.target = target.into();
    entry.device = device;
    if !member.understood {
        let fact =
            format!("the ACL of {}, which names users or groups without numbers", quoted(&member.path));
        let unknown = Unknown::new(&fact, "make the archive with numbers for owners");
        let attributes = Certainty::Unknown(unknown);
        entry.doubt = Some(Doubt::new(attributes, Certainty::Known));
    }
    entry
}
