//! squashfs, erofs and other file systems of read-only images: native owners and modes in a superblock that
//! takes no write, so every change is EROFS.
