//! The hook of execve(2) (`selinux_bprm_creds_for_exec`): whether the process keeps its domain, and what either takes.

use mivask_label::Context;
use mivask_model::mount::MountFlags;
use mivask_model::outcome::Errno;

use super::Walker;
use crate::confined::{Confined, Permission};
use crate::label::{At, Needed, label_of, on_any, on_label, possible};
use crate::view::{Place, View};
use crate::witness::Witness;

/// The policy capability by which no_new_privs and nosuid are permissions (`POLICY_CAP_NNP_NOSUID_TRANSITION`).
const ASKS_FOR_NNP: u32 = 5;

/// What becomes of the process.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Domain {
    /// It keeps its label.
    Kept,
    /// It gets another one.
    Changed,
}

impl<W: Witness> Walker<'_, '_, W> {
    /// `bprm_creds_for_exec` for the program or script at `place`: only the first file of an execve decides.
    ///
    /// # Errors
    /// EACCES
    pub(crate) fn exec(&mut self, place: Place) -> Result<Domain, Errno> {
        let view: &View<'_> = self.view();
        let Some(confined) = view.confined.filter(|_| !W::ALL_SEEING) else { return Ok(Domain::Kept) };
        let Some(label) = label_of(view, confined, place) else { return self.exec_of_unknown(place) };
        let policy = confined.policy();
        let old = confined.process();
        let Some(class) = policy.class("process") else { return Ok(Domain::Kept) };
        let Some(new) = policy.new_label(old, &label, class.id(), None) else {
            return self.new_label_is_invalid(place).map(|()| Domain::Kept);
        };
        let path = self.path().to_vec();
        let at = At { path: &path, from: || view.provenance(place) };
        let w = self.witness();
        if new == *old || !is_reached(view, confined, place, &new) {
            on_label(confined, (old, &label), "file", Needed::of(&[Permission::ExecuteNoTrans]), &at, w)?;
            return Ok(Domain::Kept);
        }
        on_label(confined, (old, &new), "process", Needed::of(&[Permission::Transition]), &at, w)?;
        on_label(confined, (&new, &label), "file", Needed::of(&[Permission::Entrypoint]), &at, w)?;
        Ok(Domain::Changed)
    }

    /// The same of a program whose label is not known: as it is with each of those that it may have, if they are known and none
    /// starts another domain.
    fn exec_of_unknown(&mut self, place: Place) -> Result<Domain, Errno> {
        let view: &View<'_> = self.view();
        let Some(confined) = view.confined else { return Ok(Domain::Kept) };
        let old = confined.process();
        let class = confined.policy().class("process").map(mivask_label::Class::id);
        let keeps = |label: &Context| {
            class.and_then(|class| confined.policy().new_label(old, label, class, None)).as_ref() == Some(old)
        };
        let all = possible(view, confined, place).filter(|all| all.iter().all(keeps));
        let pairs = all.as_ref().map(|all| all.iter().map(|label| Some((old, label))).collect());
        let path = self.path().to_vec();
        let at = At { path: &path, from: || view.provenance(place) };
        let needed = ("file", Needed::of(&[Permission::ExecuteNoTrans]));
        on_any(view, (confined, place), pairs, needed, &at, self.witness()).map(|()| Domain::Kept)
    }
}

/// Whether no_new_privs and nosuid let the process become `new` (`check_nnp_nosuid`); it keeps its label otherwise.
fn is_reached(view: &View<'_>, confined: &Confined, place: Place, new: &Context) -> bool {
    let nnp = view.who.no_new_privileges;
    let nosuid = view.mount(place.mount).flags.has(MountFlags::NO_SUID);
    if !nnp && !nosuid {
        return true;
    }
    let policy = confined.policy();
    let old = confined.process();
    let needed = [nnp.then_some(Permission::NnpTransition), nosuid.then_some(Permission::NosuidTransition)];
    let may = |permission: Permission| {
        let class = policy.class("process2");
        let known = class.and_then(|class| Some((class, class.permission(permission.word())?)));
        match known {
            Some((class, bit)) => policy.decide(old, new, class.id()).allowed & bit != 0,
            None => policy.unknown() == mivask_label::Unknown::Allow,
        }
    };
    policy.has_capability(ASKS_FOR_NNP) && needed.into_iter().flatten().all(may) || policy.bounds(old, new)
}
