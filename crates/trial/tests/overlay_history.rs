//! What whiteouts, opaque directories and copies leave behind on an overlay: acts in order, on one real overlay and in a rehearsal.
//!
//! Ordinary tools act on a fresh overlay in a mount namespace of their own. Where root is missing the test says `skipped` and why.

use std::process::Command;

use mivask_core::act::parse_act;
use mivask_core::carry::perform;
use mivask_core::prepare;
use mivask_core::settle::Outcome;
use mivask_read::diagnostic::Diagnostics;
use mivask_read::input::{Disk, Origin};
use mivask_read::scene_file::read_scene;
use mivask_read::text::SourceText;
use mivask_read::yaml;

const SCENE: &str = "scene: 1
volumes:
  layered:
    filesystem: overlay
    tree:
      - { path: /, kind: dir, owner: '0:0', mode: 0755, layer: both }
      - { path: /image, kind: dir, owner: '0:0', mode: 0755, layer: lower }
      - { path: /image/f, owner: '0:0', mode: 0644, layer: lower }
      - { path: /plain, owner: '0:0', mode: 0644, layer: lower }
      - { path: /other, owner: '0:0', mode: 0644, layer: lower }
containers: [{ name: root, user: '0:0', effective-capabilities: all, mounts: [{ volume: layered, at: /m }] }]
";

/// Sentences, and the command for the same system call.
const ACTS: [(&str, &str); 19] = [
    ("root removes-directory /m/image", "rmdir image"),
    ("root renames /m/image to /m/moved", "perl -e 'rename(q(image), q(moved)) or die $!'"),
    ("root deletes /m/image/f", "unlink image/f"),
    // Only a whiteout is left in it.
    ("root removes-directory /m/image", "rmdir image"),
    ("root makes-directory /m/image", "mkdir image"),
    // Nothing of the lower directory shows through the new one, which is the upper layer's alone.
    ("root inspects /m/image/f", "stat image/f"),
    ("root renames /m/image to /m/moved", "perl -e 'rename(q(image), q(moved)) or die $!'"),
    ("root makes-directory /m/image", "mkdir image"),
    ("root removes-acl /m/plain", "setfattr -x system.posix_acl_access plain"),
    ("root sets-mode 0600 on /m/plain", "chmod 0600 plain"),
    // Its copy can lose what it does not have.
    ("root removes-acl /m/plain", "setfattr -x system.posix_acl_access plain"),
    ("root deletes /m/plain", "unlink plain"),
    ("root creates /m/plain", "set -C; : > plain"),
    ("root links /m/other to /m/twin", "ln other twin"),
    ("root removes-acl /m/twin", "setfattr -x system.posix_acl_access twin"),
    ("root makes-node /m/white as char 0:0", "mknod white c 0 0"),
    ("root creates /m/.wh.other", "set -C; : > .wh.other"),
    ("root inspects /m/other", "stat other"),
    ("root tags /m/other with trusted.overlay.", "setfattr -n trusted.overlay. -v y other"),
];

/// What the tools say of each errno.
const WORDS: [(&str, &str); 7] = [
    ("Operation not permitted", "EPERM"),
    ("No such file", "ENOENT"),
    ("File exists", "EEXIST"),
    ("cross-device", "EXDEV"),
    ("Invalid argument", "EINVAL"),
    ("not empty", "ENOTEMPTY"),
    ("No such attribute", "ENODATA"),
];

/// The errno that each command names on a real overlay, or `allowed`.
fn on_the_kernel() -> Result<Vec<String>, String> {
    if let Some(reason) = mivask_kernel::unavailable() {
        return Err(reason);
    }
    for tool in ["setfattr", "perl"] {
        Command::new(tool).arg("--version").output().map_err(|error| format!("{tool}: {error}"))?;
    }
    let mut script = "set -e; cd \"$1\"; mount -t tmpfs scratch .; mkdir l u w m l/image; : > l/image/f; : > l/plain; : > l/other
chmod 755 l l/image u; chmod 644 l/image/f l/plain l/other
mount -t overlay o -o lowerdir=l,upperdir=u,workdir=w m; cd m; set +e
"
    .to_owned();
    for (_, command) in ACTS {
        script.push_str(&format!("({command}) >/dev/null 2>../said && echo allowed || tail -n 1 ../said\n"));
    }
    script.push_str("true\n");
    let folder = tempfile::tempdir().map_err(|error| error.to_string())?;
    let mut command = Command::new("unshare");
    let done = command
        .args(["--mount", "--propagation", "private", "bash", "-c", &script, "bash"])
        .arg(folder.path());
    let output = done.output().map_err(|error| error.to_string())?;
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    Ok(String::from_utf8_lossy(&output.stdout).lines().map(str::to_owned).collect())
}

#[test]
fn a_history_on_an_overlay_ends_as_the_kernel_ends_it() {
    let seen = match on_the_kernel() {
        Ok(seen) => seen,
        Err(reason) => {
            println!("skipped: overlay history: {reason}");
            return;
        }
    };
    let source = SourceText::new("overlay.yaml", SCENE);
    let mut diagnostics = Diagnostics::default();
    let nodes = yaml::parse(&source, &mut diagnostics);
    let scene = read_scene(&nodes[0], &source, &Origin::Standard, &Disk, &mut diagnostics);
    assert!(diagnostics.is_empty(), "{SCENE}");
    let mut stage = prepare::stage(&scene.expect("a scene"));
    assert_eq!(seen.len(), ACTS.len(), "{seen:#?}");
    for ((sentence, _), seen) in ACTS.iter().zip(&seen) {
        let act = parse_act(sentence).expect("an act");
        let performed = perform(&mut stage, &act).expect("the actor");
        let predicted = match performed.answer.outcome {
            Outcome::Allowed => "allowed",
            Outcome::Denied(Some(errno)) => errno.name(),
            Outcome::Denied(None) | Outcome::Depends | Outcome::NeverRuns(_) => "not said",
        };
        let ended =
            WORDS.iter().find(|(word, _)| seen.contains(word)).map_or(seen.as_str(), |(_, errno)| errno);
        assert_eq!(predicted, ended, "{sentence}");
    }
}
