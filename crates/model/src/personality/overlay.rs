//! overlay: native in what it shows; a directory of a lower layer cannot be renamed (`ovl_can_move`).
//!
//! Which entries come from a lower layer is in the tree ([`Marks::LOWER`](crate::tree::Marks::LOWER)).

pub(super) fn is_harmless(key: &str) -> bool {
    matches!(
        key,
        "lowerdir" | "upperdir" | "workdir" | "index" | "metacopy" | "xino" | "volatile" | "userxattr"
    )
}
