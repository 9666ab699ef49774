//! What is usual of a disk (docs/usual.md, new-claim), held against the programs that make file systems.

use std::fs::File;
use std::process::Command;

use mivask_kernel::Filesystem;

#[test]
fn the_root_of_a_new_disk_is_0_0_0755() {
    let mut seen = 0;
    for filesystem in [Filesystem::Ext4, Filesystem::Xfs, Filesystem::Btrfs] {
        if let Some(reason) = filesystem.unavailable() {
            println!("skipped: {filesystem}: {reason}");
            continue;
        }
        if !rustix::process::geteuid().is_root() {
            println!("skipped: {filesystem}: mounting takes root");
            continue;
        }
        let folder = tempfile::tempdir().unwrap();
        let (image, at) = (folder.path().join("image"), folder.path().join("at"));
        std::fs::create_dir(&at).unwrap();
        File::create(&image).unwrap().set_len(400 << 20).unwrap();
        let made = Command::new(format!("mkfs.{filesystem}")).arg("-q").arg(&image).output().unwrap();
        assert!(made.status.success(), "{filesystem}: {}", String::from_utf8_lossy(&made.stderr));
        let script = "mount -o loop \"$0\" \"$1\" && stat -c %u:%g:%a \"$1\" && ls -A \"$1\"";
        let mut shell = Command::new("unshare");
        let run = shell.args(["--mount", "sh", "-c", script]).args([&image, &at]).output().unwrap();
        let text = String::from_utf8_lossy(&run.stdout);
        let shown: Vec<&str> = text.lines().filter(|line| *line != "lost+found").collect();
        assert_eq!(shown, ["0:0:755"], "{filesystem}: {}", String::from_utf8_lossy(&run.stderr));
        seen += 1;
    }
    println!("{seen} file systems were made");
}
