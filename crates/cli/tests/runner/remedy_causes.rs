//! What `remedy` says of the cause, and of files that one actor hands over to another.

use std::path::Path;

use insta::assert_snapshot;

use crate::remedied::handed_over;
use crate::scratch::Scratch;

pub(crate) const CAUSES: &str = "scene: 1
containers:
- { name: boss, user: '0:0', mounts: [{ at: /data, volume: share }] }
- name: app
  user: '1000:1000'
  mounts: [{ at: /masked, volume: m }, { at: /tools, volume: t, options: [noexec] }, { at: /usb, volume: u }, { at: /spool, volume: s }]
host: { sysctls: { fs.protected_regular: 2 } }
volumes:
  share:
    filesystem: nfs
    export: { squash: root }
    tree: [{ path: /, kind: dir, owner: '1000:1000', mode: 0755 }, { path: /f, owner: '1000:1000', mode: 0644 }]
  m:
    filesystem: ext4
    tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }, { path: /f, owner: '0:0', mode: 0640, acl: 'user:1000:rw-,group::r--,mask::r--' }]
  t: { filesystem: ext4, tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }, { path: /run.sh, owner: '0:0', mode: 0755 }] }
  u: { filesystem: vfat, tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }, { path: /f, owner: '0:0', mode: 0755 }] }
  s: { filesystem: ext4, tree: [{ path: /, kind: dir, owner: '0:0', mode: 1777 }, { path: /f, owner: '5:5', mode: 0666 }] }
";

#[test]
fn the_cause_is_told_before_its_symptoms() {
    let scratch = Scratch::with("s.yaml", CAUSES);
    let said = |act: &str| {
        let text = scratch.run(["remedy", "s.yaml", act, "--most", "1", "-q"]);
        text.lines()
            .take_while(|line| !line.trim_start().starts_with("---"))
            .map(|line| format!("{line}\n"))
            .collect::<String>()
    };
    assert_snapshot!(said("boss sets-owner 5 on /data/f"), @"
    denied EPERM   boss sets-owner 5 on /data/f
                   /data/f: giving a file to another user takes CHOWN (the server squashes it to 65534:65534)

                the server of volume share squashes it to 65534:65534: change owners and modes on the server itself, or run as a user that it does not squash; no capability and no init container that runs as root helps

    Nothing narrow helps.
    ");
    assert_snapshot!(said("boss creates /data/x"), @"
    denied EACCES  boss creates /data/x
                   /data: drwxr-xr-x 0755 1000:1000: other has r-x, needed -wx (the server squashes it to 65534:65534)

                the server of volume share squashes it to 65534:65534: change owners and modes on the server itself, or run as a user that it does not squash; no capability and no init container that runs as root helps

    1  process  boss becomes 1000
                opens 2 more: boss can write /data/f; boss can delete /data/f
    ");
    assert_snapshot!(said("app writes /masked/f"), @"
    denied EACCES  app writes /masked/f
                   /masked/f: -rw-r----- 0640 0:0: the ACL's named user has rw-, of which the mask leaves r--, needed -w-

    1  disk     for app sets-acl user::rw-,user:1000:rw-,group::r--,mask::rw-,other::--- on /masked/f
                opens nothing else; touches 1 inode
                # as root, where volume m is mounted as app has it
                setfacl -m user::rw-,user:1000:rw-,group::r--,mask::rw-,other::--- /masked/f
    and 3 wider ones: --most 4
    ");
    assert_snapshot!(said("app runs /tools/run.sh"), @"
    denied EACCES  app runs /tools/run.sh
                   /tools/run.sh: noexec: nothing on this mount can be run

                noexec keeps the kernel from running the file itself, not from reading it: if /tools/run.sh is a script, run it by its interpreter (`sh /tools/run.sh`); a program can be copied to a mount without noexec

    1  mount    app mounts /tools with exec
                opens nothing else
                no field of the description sets exec: mount options belong to the volume (mountOptions, driver_opts)
    ");
    assert_snapshot!(said("app writes /usb/f"), @"
    denied EACCES  app writes /usb/f
                   /usb/f: -rwxr-xr-x 0755 0:0: other has r-x, needed -w-

                what vfat has no owner for is shown with that of the mount options: whoever mounts volume u can say uid=1000, gid= or umask=

    1  mount    app mounts /usb with uid=1000
                opens 2 more: app can create /usb; app can delete /usb/f
                no field of the description sets uid=1000: mount options belong to the volume (mountOptions, driver_opts)
    ");
    assert_snapshot!(said("app overwrites /spool/f"), @"
    denied EACCES  app overwrites /spool/f
                   /spool/f: fs.protected_regular: in a sticky directory that others can write to, O_CREAT opens another user's file only if the directory's owner created it; this applies to root too

                fs.protected_regular and fs.protected_fifos stop O_CREAT alone: a program that opens /spool/f without it is not refused

    1  disk     for app sets-owner 1000 on /spool/f
                opens nothing else; touches 1 inode
                # as root, where volume s is mounted as app has it
                chown 1000 /spool/f
    ");
}

pub(crate) const POD: &str = "apiVersion: v1
kind: Pod
metadata: { name: p }
spec:
  containers:
  - name: app
    image: i
    securityContext: { SECURITY }
";

#[test]
fn what_a_manifest_alone_tells_is_enough() {
    let sealed = POD.replace("SECURITY", "runAsUser: 1000, runAsGroup: 1000, readOnlyRootFilesystem: true");
    let named = POD.replace("SECURITY", "runAsNonRoot: true");
    let scene = "scene: 1
workloads: [named.yaml]
images:
  i:
    user: svc
    accounts: { passwd: \"root:x:0:0::/:/bin/sh\\nsvc:x:1500:1500::/:/bin/sh\\n\", group: \"root:x:0:\\nsvc:x:1500:\\n\" }
    tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }, { path: /srv, kind: dir, owner: '1500:1500', mode: 0755 }]
";
    let scratch = Scratch::with("sealed.yaml", &sealed).and("named.yaml", &named).and("s.yaml", scene);
    assert_snapshot!(scratch.run(["remedy", "sealed.yaml", "app creates /tmp/x", "-q"]), @"
    denied         app creates /tmp/x
                   denied ENOENT  when /tmp is missing
                   denied EACCES  when owner and mode of /tmp do not give app --x
                   denied EEXIST  when /tmp/x is there
                   denied EROFS   otherwise
                   to settle it: give `images: { i: { tree: ... } }` in a scene file, or let it be looked for with --images-from

    1  mount    app mounts scratch at /tmp
                opens 1 more: app can list /tmp
                --- sealed.yaml
                +++ sealed.yaml
                @@ -7,2 +7,8 @@
                     image: i
                     securityContext: { runAsUser: 1000, runAsGroup: 1000, readOnlyRootFilesystem: true }
                +    volumeMounts:
                +      - name: scratch-tmp
                +        mountPath: /tmp
                +  volumes:
                +    - name: scratch-tmp
                +      emptyDir: {}
    --- status 0
    ");
    assert_snapshot!(scratch.run(["remedy", "s.yaml", "app creates /srv/x", "-q"]), @"
    never runs     app creates /srv/x
                   CreateContainerConfigError: runAsNonRoot is set, but the image's USER is the name `svc`, which the kubelet cannot verify: set runAsUser to its number
                   named.yaml:8:38 securityContext.runAsNonRoot

    1  process  app becomes 1500
                opens 1 more: app can list /
                --- named.yaml
                +++ named.yaml
                @@ -6,3 +6,3 @@
                   - name: app
                     image: i
                -    securityContext: { runAsNonRoot: true }
                +    securityContext: { runAsNonRoot: true, runAsUser: 1500 }
    --- status 0
    ");
}

#[test]
fn a_file_of_another_points_at_what_lasts() {
    let scene = handed_over(Path::new("/srv"), "0077");
    let scene = format!(
        "{}, {{ path: /old, owner: '7001:7001', mode: 0600 }}] }}\n",
        scene.trim_end().trim_end_matches("] }")
    );
    let scratch = Scratch::with("s.yaml", &scene);
    assert_snapshot!(scratch.run(["remedy", "s.yaml", "shipper reads /srv/out/old", "--most", "1", "-q"]), @"
    denied EACCES  shipper reads /srv/out/old
                   /srv/out/old: -rw------- 0600 7001:7001: other has ---, needed r--

                it is a file of api, whose next one is refused as well: what lasts is found for 'shipper reads what api makes in /srv/out'

    1  disk     for shipper sets-acl user:7002:r--,group::---,mask::r-- on /srv/out/old
                opens nothing else; touches 1 inode
                # as root, where volume v is mounted as shipper has it
                setfacl -m user:7002:r--,group::---,mask::r-- /srv/out/old
    and 3 wider ones: --most 4
    --- status 0
    ");
    assert_snapshot!(scratch.run(["handoff", "s.yaml", "-q"]), @"
    volume v  /srv/out in api, shipper
      creator  new file        api  shipper
      api      7001:7001 0600  .    ----/----
      shipper  denied EACCES        .

      actor    cannot                      files of  because
      shipper  read                        api       -rw------- 0600 7001:7001: other has ---, needed r-- (/srv/out/new-of-api)
      shipper  change                      api       -rw------- 0600 7001:7001: other has ---, needed -w- (/srv/out/new-of-api)
      shipper  delete replace create       api       drwxr-xr-x 0755 7001:7001: other has r-x, needed -wx (/srv/out)
      shipper  read change delete replace  api       drwx------ 0700 7001:7001: other has ---, needed --x (/srv/out/dir-of-api)
      what would help: mivask remedy INPUT 'shipper reads what api makes in /srv/out'

    r reads, c changes, d deletes, p replaces (renames a file of its own over it); - cannot, ? depends. First a file made there, behind the slash a file in a subdirectory made there.

    Assumed
      the directories above mount points in image of container api let everyone pass (0:0 0755 where the runtime makes them)
      the directories above mount points in image of container shipper let everyone pass (0:0 0755 where the runtime makes them)
      the root of image of container api is 0:0 0755
      the root of image of container shipper is 0:0 0755
    --- status 0
    ");
}

#[test]
fn sentences_that_hand_nothing_over() {
    let scratch = Scratch::with("s.yaml", &handed_over(Path::new("/srv"), "0077"));
    let wrong = [
        "shipper reads what api makes",
        "shipper reads what api makes in out",
        "shipper reads what api makes in /nix",
        "shipper frobs what api makes in /srv/out",
        "nobody reads what api makes in /srv/out",
        "api reads what shipper makes in /srv/out",
    ];
    let pod = POD.replace("SECURITY", "runAsUser: 1000, readOnlyRootFilesystem: true");
    let pod = format!(
        "{pod}    volumeMounts: [{{ name: v, mountPath: /v }}]\n  volumes: [{{ name: v, persistentVolumeClaim: {{ claimName: c }} }}]\n"
    );
    let scratch = scratch.and("pod.yaml", pod);
    assert_snapshot!(scratch.run(["remedy", "pod.yaml", "app reads what app makes in /v"]), @"
    --- standard error
    error: whether app can create a file in /v depends on what claim c holds: supply that first
    --- status 2
    ");
    let said =
        wrong.map(|sentence| format!("{sentence}\n{}\n", scratch.run(["remedy", "s.yaml", sentence, "-q"])));
    assert_snapshot!(said.concat(), @"
    shipper reads what api makes
    --- standard error
    error: write READER VERB what MAKER makes in DIRECTORY, such as `shipper reads what api makes in /out`
    --- status 2
    shipper reads what api makes in out
    --- standard error
    error: write READER VERB what MAKER makes in DIRECTORY, such as `shipper reads what api makes in /out`
    --- status 2
    shipper reads what api makes in /nix
    --- standard error
    error: shipper does not reach /nix of api: both have to mount that volume
    --- status 2
    shipper frobs what api makes in /srv/out
    --- standard error
    error: `frobs` is not a verb
    --- status 2
    nobody reads what api makes in /srv/out
    --- standard error
    error: there is no actor `nobody` in this scene; there is api, shipper
    --- status 2
    api reads what shipper makes in /srv/out
    --- standard error
    error: shipper cannot create a file in /srv/out: ask for that first (EACCES)
    --- status 2
    ");
}

#[test]
fn what_is_exported_is_changed_on_the_server() {
    let scene = "scene: 1
containers:
- { name: boss, user: '0:0', mounts: [{ at: /data, volume: share }] }
- { name: app, user: '1000:1000', mounts: [{ at: /data, volume: share }, { at: /own, volume: own }] }
- { name: other, user: '3000:3000', mounts: [{ at: /data, volume: share }] }
volumes:
  share:
    export: { squash: root }
    tree: [{ path: /, kind: dir, owner: '3000:3000', mode: '0755' }, { path: /f, owner: '3000:3000', mode: '0640' }]
  own: { filesystem: ext4, tree: [{ path: /, kind: dir, owner: '0:0', mode: '0700' }, { path: /f, owner: '1000:1000', mode: '0600' }] }
";
    let scratch = Scratch::with("s.yaml", scene).and("both.acts", "app writes /data/f\napp reads /own/f\n");
    let ask = |act: &str, change: &str| scratch.run(["ask", "s.yaml", act, "-q", "--change", change]);
    let said = ask("boss creates /data/x", "for boss sets-owner 65534 on /data");
    assert!(said.contains("leaves 65534:65534 0644"), "{said}");
    // Its own root is squashed on the client all the same.
    let said = scratch.run(["ask", "s.yaml", "boss sets-owner 1000 on /data/f", "-q"]);
    assert!(said.starts_with("denied EPERM"), "{said}");
    let said = ask("app sets-acl user:5:r-- on /data/f", "for app sets-owner 1000 on /data/f");
    assert!(said.starts_with("denied EOPNOTSUPP"), "{said}");
    let found = scratch.json(["remedy", "s.yaml", "app writes /data/f", "-q", "--format", "json"]);
    let owner = found["remedies"]
        .as_array()
        .into_iter()
        .flatten()
        .find(|one| one["commands"][1] == "chown 1000 /data/f");
    let told =
        owner.map(|one| one["commands"][0].as_str().unwrap_or_default().to_owned()).unwrap_or_default();
    assert_eq!(told, "# on the server that exports it, as root, at what is app's path", "{found}");
    let said = scratch.run(["remedy", "s.yaml", "--acts", "both.acts", "--script", "fix.sh"]);
    let script = std::fs::read_to_string(scratch.path().join("fix.sh")).unwrap_or_default();
    let runs: Vec<&str> =
        script.lines().filter(|line| line.starts_with("ch") || line.starts_with("setfacl")).collect();
    assert!(runs.iter().all(|line| line.contains("/own")) && !runs.is_empty(), "{said}\n{script}");
    assert!(script.contains("\n# ch") && script.contains("/data/f"), "{script}");
}

#[test]
fn a_mount_option_says_whose_files_are_that_have_no_owner() {
    let scratch = Scratch::with("s.yaml", CAUSES);
    let ask = |option: &str| {
        let change = format!("app mounts {option}");
        scratch.run(["ask", "s.yaml", "app writes /usb/f", "-q", "--change", &change])
    };
    for (option, said) in [
        ("/usb with uid=1000", "allowed"),
        ("/usb with rw,gid=1000,umask=0002", "allowed"),
        ("/usb with gid=1000", "denied EACCES"),
        (
            "/usb with uid=x",
            "error: `app mounts /usb with uid=x` cannot be made: the mount option `uid=x` needs",
        ),
        (
            "/spool with uid=1000",
            "error: `app mounts /spool with uid=1000` cannot be made: its file system keeps owners",
        ),
        (
            "/none with uid=1000",
            "error: `app mounts /none with uid=1000` cannot be made: the description mounts nothing",
        ),
    ] {
        let answer = ask(option);
        assert!(answer.contains(said), "{option}: {answer}");
        assert_eq!(said.starts_with("error"), answer.ends_with("--- status 2"), "{option}: {answer}");
    }
    let found = scratch.json(["remedy", "s.yaml", "app writes /usb/f", "-q", "--format", "json"]);
    assert_eq!(found["remedies"][0]["changes"][0]["change"], "app mounts /usb with uid=1000");
}
