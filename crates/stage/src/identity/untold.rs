//! What an identity may be where nothing is known of the image's user or accounts.

use std::sync::Arc;

use mivask_model::ids::UNSPECIFIED_ID;

/// The possible users and groups of an image whose user is not given; `group` is the group, where that is given.
pub(super) fn users(group: Option<u32>) -> Vec<(Arc<str>, u32, u32)> {
    let root = "the image runs as root";
    let rows: &[(&str, u32, u32)] = match group {
        Some(group) => &[(root, 0, group), ("the image runs as an ordinary user", UNSPECIFIED_ID, group)],
        None => &[
            (root, 0, 0),
            ("the image runs as an ordinary user with a group of its own", UNSPECIFIED_ID, UNSPECIFIED_ID),
            ("the image runs as an ordinary user without an account, so with group 0", UNSPECIFIED_ID, 0),
        ],
    };
    rows.iter().map(|(when, uid, gid)| (Arc::from(*when), *uid, *gid)).collect()
}

/// The possible primary groups of `uid`, whose account is not given.
pub(super) fn primary_groups(uid: u32) -> [(Arc<str>, u32); 2] {
    [
        (format!("uid {uid} has no account, so its group is 0").into(), 0),
        (format!("uid {uid} has an account with a primary group of its own").into(), UNSPECIFIED_ID),
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
