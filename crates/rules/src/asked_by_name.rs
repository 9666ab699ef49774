//! Owners of whom only names are known: what one name is was asked once for all files that have it, and two names are two ids.

use std::sync::Arc;

use mivask_model::act::quoted;
use mivask_model::ids::{DiskGid, DiskUid, KernelGid, KernelUid};
use mivask_model::tree::OwnerNames;

use crate::asked::{Asked, Owner};
use crate::fs_credentials::FsCredentials;
use crate::view::Place;
use crate::witness::{MissingFact, Witness};

impl<'a, W: Witness> Asked<'a, '_, W> {
    /// The names of owner and group, where those are what is known of them.
    pub(crate) fn names(&self) -> Option<&'a OwnerNames> {
        let doubt = self.view.doubt(self.place)?;
        doubt.names.as_deref().filter(|_| doubt.owner.unknown().is_some())
    }

    /// What is stored, of which only the part without a name counts.
    #[expect(clippy::disallowed_methods, reason = "the part that has no name was told as a number")]
    fn stored(&self) -> Owner {
        let tree = &self.view.source(self.place).tree;
        let Some(id) = self.place.inode else { return (None, None) };
        self.view.kernel_owner(self.place, tree.inode(id).stored_owner())
    }

    /// Whether the owner is `uid`, whom `who` calls so.
    pub(crate) fn is_of_named(&mut self, names: &OwnerNames, uid: KernelUid, who: &str) -> bool {
        let Some(user) = &names.user else { return self.stored().0 == Some(uid) };
        // Whoever has no number on that disk owns nothing there.
        let Some(uid) = self.view.mount(self.place.mount).facts.ids.to_disk_uid(uid) else { return false };
        self.is_user(user, uid, who)
    }

    fn is_user(&mut self, name: &Arc<[u8]>, uid: DiskUid, who: &str) -> bool {
        let source = self.place.source;
        let taken = self.w.took_first(|known| {
            matches!(known, MissingFact::UserNamed(of, other, id)
                if *of == source && (other == name) != (*id == uid))
        });
        if uid == DiskUid::new(0) || taken {
            self.assume_distinct();
            return false;
        }
        let shown = quoted(name);
        self.ask_owner(MissingFact::UserNamed(source, name.clone(), uid), |yes| {
            format!("{who} {} the user {shown} there", if yes { "is" } else { "is not" })
        })
    }

    /// Whether `acting` is in the group.
    pub(crate) fn shares_named(&mut self, names: &OwnerNames, acting: &FsCredentials<'_>) -> bool {
        let Some(group) = &names.group else {
            return self.stored().1.is_some_and(|group| acting.in_group(group));
        };
        let (who, shown) = (self.view.name, quoted(group));
        self.ask_owner(MissingFact::MemberNamed(self.place.source, group.clone()), |yes| {
            format!("{who} {} in the group {shown} there", if yes { "is" } else { "is not" })
        })
    }

    /// Whether the group is `gid`.
    pub(crate) fn is_of_named_group(&mut self, names: &OwnerNames, gid: KernelGid) -> bool {
        let Some(group) = &names.group else { return self.stored().1 == Some(gid) };
        let Some(gid) = self.view.mount(self.place.mount).facts.ids.to_disk_gid(gid) else { return false };
        let source = self.place.source;
        let taken = self.w.took_first(|known| {
            matches!(known, MissingFact::GroupNamed(of, other, id)
                if *of == source && (other == group) != (*id == gid))
        });
        if gid == DiskGid::new(0) || taken {
            self.assume_distinct();
            return false;
        }
        let shown = quoted(group);
        self.ask_owner(MissingFact::GroupNamed(source, group.clone(), gid), |yes| {
            format!("the group {shown} there {} {gid}", if yes { "is" } else { "is not" })
        })
    }

    /// Whether both are of one user.
    pub(crate) fn have_one_user(
        &mut self,
        mine: &OwnerNames,
        (theirs, other, other_path): (&OwnerNames, Place, &[u8]),
    ) -> bool {
        match (&mine.user, &theirs.user) {
            (Some(mine), Some(theirs)) => {
                self.assume_distinct();
                mine == theirs
            }
            (Some(_), None) => {
                let uid = Asked::new(self.view, other, other_path, &mut *self.w).stored().0;
                uid.is_some_and(|uid| self.is_of_named(mine, uid, &format!("uid {uid}")))
            }
            (None, Some(_)) => {
                let uid = self.stored().0;
                let mut other = Asked::new(self.view, other, other_path, &mut *self.w);
                uid.is_some_and(|uid| other.is_of_named(theirs, uid, &format!("uid {uid}")))
            }
            (None, None) => {
                let theirs = Asked::new(self.view, other, other_path, &mut *self.w).stored().0;
                self.stored().0.is_some() && self.stored().0 == theirs
            }
        }
    }

    fn assume_distinct(&mut self) {
        let listing = self.view.source(self.place).facts.name.clone();
        self.w.assume(|| {
            format!("different names of owners in what was told of {listing} are different ids").into()
        });
    }
}
