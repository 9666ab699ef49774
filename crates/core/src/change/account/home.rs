//! Files of a home that follow its user: what usermod does besides the account files (docs/facts/tools.md section 3).

use std::sync::Arc;

use mivask_model::accounts::Accounts;
use mivask_model::fact::Provenance;
use mivask_model::tree::Tree;
use mivask_stage::identity::Knowledge;
use mivask_stage::prepare::HOST;
use mivask_stage::scene::Scene;

use super::What;

/// What is re-owned with an account: by its user's number, or by its primary group's.
enum Followed {
    User(u32, u32),
    Group(u32, u32),
}

/// Re-owns what is in the home of a user whose number or primary group is another one now.
pub(super) fn follows(
    scene: &mut Scene,
    before: &Scene,
    whose: &str,
    what: &What,
    from: &Provenance,
) -> Vec<String> {
    let (What::RenumbersUser(user, _) | What::PrimaryGroup(_, user)) = what else { return Vec::new() };
    let mut notes = Vec::new();
    if whose == HOST {
        let accounts = before.host.accounts.as_ref().zip(scene.host.accounts.as_ref());
        let followed = accounts.and_then(|(was, is)| followed((was, is), what, user));
        if let (Some(followed), Some(tree)) = (followed, &mut scene.host.tree) {
            notes.extend(reown(tree, user, &followed, from, "the host"));
        }
    }
    for (name, image) in &mut scene.images {
        let Some(earlier) = before.images.get(name) else { continue };
        let (Knowledge::Known(was), Knowledge::Known(is)) =
            (&earlier.identity.accounts, &image.identity.accounts)
        else {
            continue;
        };
        if let (Some(followed), Some(tree)) = (followed((was, is), what, user), &mut image.tree) {
            notes.extend(reown(tree, user, &followed, from, &format!("image {name}")));
        }
    }
    notes
}

fn followed((was, is): (&Accounts, &Accounts), what: &What, user: &str) -> Option<Followed> {
    let (old, _) = was.user_by_name(user)?;
    let (new, _) = is.user_by_name(user)?;
    if matches!(what, What::RenumbersUser(..)) {
        return (old.uid != new.uid).then_some(Followed::User(old.uid, new.uid));
    }
    (old.gid != new.gid).then_some(Followed::Group(old.gid, new.gid))
}

fn reown(
    tree: &mut Arc<Tree>,
    user: &str,
    followed: &Followed,
    from: &Provenance,
    place: &str,
) -> Option<String> {
    let home = format!("/home/{user}");
    let top = tree.find(home.as_bytes())?;
    let tree = Arc::make_mut(tree);
    let mut count = 0;
    for id in tree.below(top) {
        let owner = tree.inode(id).stored_owner();
        let (uid, gid) = (owner.uid.raw(), owner.gid.raw());
        let (uid, gid) = match followed {
            Followed::User(old, new) if uid == *old => (*new, gid),
            Followed::Group(old, new) if gid == *old => (uid, *new),
            Followed::User(..) | Followed::Group(..) => continue,
        };
        tree.chown(id, uid, gid, from.clone());
        count += 1;
    }
    (count > 0).then(|| format!("{count} of {home} on {place} follow, as with usermod"))
}
