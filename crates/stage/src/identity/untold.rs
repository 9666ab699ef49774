//! What an identity may be where nothing is known of the image's user or accounts.

use std::sync::Arc;

use mivask_model::held::Held;

/// What must hold for a possibility, its user and its group.
type Possible = (Arc<str>, Held<u32>, Held<u32>);

/// The possible users and groups where the user is not given; `group` is the group, where that is given, and `runs` is what runs as
/// them, such as `the image`.
pub(super) fn users(group: Option<u32>, runs: &str) -> Vec<Possible> {
    let root = "root";
    let zero = Held::Id(0);
    let own = Held::Unnumbered;
    let rows = match group.map(Held::Id) {
        Some(group) => vec![(root, zero, group), ("an ordinary user", own, group)],
        None => vec![
            (root, zero, zero),
            ("an ordinary user with a group of its own", own, own),
            ("an ordinary user without an account, so with group 0", own, zero),
        ],
    };
    rows.into_iter().map(|(when, uid, gid)| (format!("{runs} runs as {when}").into(), uid, gid)).collect()
}

/// The possible primary groups of `uid`, whose account is not given.
pub(super) fn primary_groups(uid: u32) -> [(Arc<str>, Held<u32>); 2] {
    [
        (format!("uid {uid} has no account, so its group is 0").into(), Held::Id(0)),
        (format!("uid {uid} has an account with a primary group of its own").into(), Held::Unnumbered),
    ]
}

/// Root's group is 0 in practice everywhere, so that is an assumption rather than a question.
pub(super) const ROOT_GROUP: &str = "root's primary group is 0";

/// The account called `root`.
pub(super) const ROOT_ACCOUNT: &str = "the account `root` is uid 0, gid 0";

/// A name whose account is not given.
pub(super) fn ordinary_account(name: &str, image: &str) -> Arc<str> {
    format!("`{name}` is an ordinary account of image {image} that owns nothing listed here").into()
}

/// A group file that is not given.
pub(super) fn no_memberships(image: &str) -> Arc<str> {
    format!("no group of image {image} lists the user as a member (its group file is not given)").into()
}
