//! SELinux, on the demo's lighthouse: what people see of it.

use insta::assert_snapshot;

use crate::scratch::Scratch;

fn lighthouse() -> Scratch {
    let scratch = Scratch::with("elsewhere", "");
    let walk = scratch.run(["demo", "--scene", "beacon", "beacon"]);
    assert!(walk.ends_with("--- status 0"), "{walk}");
    assert!(!walk.contains("--- standard error"), "{walk}");
    scratch
}

const SCENE: &str = "beacon/beacon.scene.yaml";

#[test]
fn the_demo_s_policy_is_that_of_the_tests() {
    let of_tests = include_bytes!("../../../label/tests/policy/containers.33");
    assert_eq!(std::fs::read(lighthouse().path().join("beacon/policy.33")).unwrap(), of_tests);
}

#[test]
fn a_label_is_in_the_way_and_why_says_so() {
    assert_snapshot!(lighthouse().run(["why", SCENE, "lamp creates /log/2026.txt"]), @"
    denied EACCES  lamp creates /log/2026.txt
                   /log: container_t:s0:(own pair of lamp) may not write var_t:s0 (class dir): no rule allows write

    Who lamp is
      field  value  from
      uid    7610   beacon/beacon.scene.yaml:10:11 images.beacon/lamp:2.user
      gid    7610   beacon/beacon.scene.yaml:10:11 images.beacon/lamp:2.user
      umask  0022   the runtime's default umask

    Checks, in the kernel's order
              path  check        fact                                                                                             from
      ok      /     other-bits   dr-xr-xr-x 0555 0:0: other has r-x, needed --x                                                   assumed: the engine keeps images in its default storage, whose root directories are 0:0 0555
      ok      /     label        container_t:s0:(own pair of lamp) may search container_file_t:s0:(own pair of lamp) (class dir)  assumed: the engine keeps images in its default storage, whose root directories are 0:0 0555
      ok      /log  mount-point  bind is mounted here (rw)                                                                        beacon/compose.yaml:7:15 volumes
      ok      /log  owner-bits   drwxr-xr-x 0755 7610:7610: the owner (lamp) has rwx, needed --x                                  beacon/beacon.scene.yaml:25:7 tree
      ok      /log  label        container_t:s0:(own pair of lamp) may search var_t:s0 (class dir)                                beacon/beacon.scene.yaml:25:7 tree
      ok      /log  owner-bits   drwxr-xr-x 0755 7610:7610: the owner (lamp) has rwx, needed -wx                                  beacon/beacon.scene.yaml:25:7 tree
      EACCES  /log  label        container_t:s0:(own pair of lamp) may not write var_t:s0 (class dir): no rule allows write       beacon/beacon.scene.yaml:25:7 tree

      EACCES: permission denied

    Assumed
      the engine confines its containers: they are container_t, and what it makes for them is container_file_t
      the engine keeps images in its default storage, whose root directories are 0:0 0555
    --- status 0
    ");
}

#[test]
fn what_new_files_are_labelled() {
    assert_snapshot!(lighthouse().run(["imprint", SCENE, "/charts", "--actor", "chart"]), @"
    chart
      in       new   asked  result   inside                      stored     label
      /charts  file  0666   allowed  7610:7610 0644  -rw-r--r--  7610:7610  system_u:object_r:container_file_t:s0:(own pair of chart)
      /charts  dir   0777   allowed  7610:7610 0755  drwxr-xr-x  7610:7610  system_u:object_r:container_file_t:s0:(own pair of chart)
    --- status 0
    ");
}

/// Workloads are taken one by one there; what another container has labelled counts all the same.
#[test]
fn who_started_last_is_open_in_the_matrix_too() {
    assert_snapshot!(lighthouse().run(["access", SCENE, "/signals", "--actor", "fog", "--actor", "horn"]), @"
    fog
      path      owner      mode             read  write  create   delete  list     enter    run
      /signals  7610:7610  drwxr-xr-x 0755  -     -      depends  EACCES  depends  depends  -

    horn
      path      owner      mode             read  write  create   delete  list     enter    run
      /signals  7610:7610  drwxr-xr-x 0755  -     -      depends  EACCES  depends  depends  -

    read, write, run: the file; list, enter: the directory; create: a new entry in it; delete: the path itself.
    --- standard error
    warning: fog, horn share /srv/beacon/signals, and `Z` labels it for one of them alone: whichever starts last keeps the others out
     --> beacon/compose.yaml:15:15 volumes
      = help: write `z` for all of them; what each makes later has its own level, unless they have one together (`label=level:`)

    --- status 0
    ");
}

#[test]
fn remedies_label_the_mount_and_never_turn_the_label_off() {
    assert_snapshot!(lighthouse().run(["remedy", SCENE, "lamp creates /log/2026.txt"]), @r#"
    denied EACCES  lamp creates /log/2026.txt
                   /log: container_t:s0:(own pair of lamp) may not write var_t:s0 (class dir): no rule allows write

    1  mount    lamp mounts /log with Z
                opens 1 more: lamp can list /log
                --- beacon/compose.yaml
                +++ beacon/compose.yaml
                @@ -5,5 +5,5 @@
                   lamp:
                     image: beacon/lamp:2
                -    volumes: ["/srv/beacon/log:/log"]
                +    volumes: ["/srv/beacon/log:/log:Z"]
                   # Draws charts into another one, which the engine labels for this container alone.
                   chart:

    2  mount    lamp mounts /log with z
                opens 1 more: lamp can list /log
                --- beacon/compose.yaml
                +++ beacon/compose.yaml
                @@ -5,5 +5,5 @@
                   lamp:
                     image: beacon/lamp:2
                -    volumes: ["/srv/beacon/log:/log"]
                +    volumes: ["/srv/beacon/log:/log:z"]
                   # Draws charts into another one, which the engine labels for this container alone.
                   chart:

    3  host     host labels /srv/beacon/log as container_file_t
                opens 1 more: lamp can list /log; touches 1 inode
                # on the host, as root
                semanage fcontext -a -t container_file_t '/srv/beacon/log(/.*)?' || semanage fcontext -m -t container_file_t '/srv/beacon/log(/.*)?'
                restorecon -RFx /srv/beacon/log
    --- status 0
    "#);
}

#[test]
fn the_label_is_among_the_facts_and_in_the_answer_as_json() {
    let scratch = lighthouse();
    let identity = scratch.json(["identity", SCENE, "--actor", "chart", "-q", "--format", "json"]);
    let facts = identity["actors"][0]["facts"].as_array().unwrap();
    let label = facts.iter().find(|fact| fact["field"] == "label").unwrap();
    assert_eq!(label["value"], "system_u:system_r:container_t:s0:(own pair of chart)");
    let asked = scratch.json(["ask", SCENE, "chart creates /charts/x", "-q", "--format", "json"]);
    assert_eq!(
        asked["acts"][0]["imprint"]["label"],
        "system_u:object_r:container_file_t:s0:(own pair of chart)"
    );
}

/// Mistakes in what is said of SELinux point at their place.
#[test]
fn mistakes_in_the_host_s_section() {
    let scratch = lighthouse();
    let scene = std::fs::read_to_string(scratch.path().join(SCENE)).unwrap();
    let with = |selinux: &str| {
        let line = scene.lines().find(|line| line.starts_with("  selinux:")).unwrap();
        let text = scene.replace(line, &format!("  selinux: {selinux}"));
        std::fs::write(scratch.path().join("beacon/odd.yaml"), text).unwrap();
        scratch.run(["identity", "beacon/odd.yaml"])
    };
    assert_snapshot!(with("{ policy: compose.yaml }"), @"
    --- standard error
    error: beacon/compose.yaml: this is no binary policy of a kernel (at byte 0)
      --> beacon/odd.yaml:18:22
       |
    18 |   selinux: { policy: compose.yaml }
       |                      ^^^^^^^^^^^^
       |
       = help: copy /sys/fs/selinux/policy of the host, or /etc/selinux/*/policy/policy.*

    error: the input cannot be used: 1 error above
    --- status 2
    ");
    assert_snapshot!(with("{ policy: nothing.33 }"), @"
    --- standard error
    error: beacon/nothing.33 cannot be read: No such file or directory (os error 2)
      --> beacon/odd.yaml:18:22
       |
    18 |   selinux: { policy: nothing.33 }
       |                      ^^^^^^^^^^

    error: the input cannot be used: 1 error above
    --- status 2
    ");
    assert_snapshot!(with("{ policy: policy.33, booleans: { virt_use_nsf: true } }"), @"
    --- standard error
    error: the policy has no boolean `virt_use_nsf`
      --> beacon/odd.yaml:18:45
       |
    18 |   selinux: { policy: policy.33, booleans: { virt_use_nsf: true } }
       |                                             ^^^^^^^^^^^^
       |
       = help: did you mean `virt_use_nfs`?

    error: the input cannot be used: 1 error above
    --- status 2
    ");
    assert_snapshot!(with("sometimes"), @"
    --- standard error
    error: unknown variant `sometimes`, expected one of `live`, `disabled`, `permissive`, `enforcing`
      --> beacon/odd.yaml:18:12
       |
    18 |   selinux: sometimes
       |            ^^^^^^^^^

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn mounts_have_labels_where_they_decide() {
    assert_snapshot!(lighthouse().run(["mounts", SCENE, "--actor", "chart", "--actor", "fog"]), @"
    chart
      at       what                           flags  root            before  inodes changed  label
      /        image beacon/lamp:2 (overlay)  rw     0:0 0555                                container_file_t:s0:(own pair of chart)
      /charts  host /srv/beacon/charts        rw     7610:7610 0755                          container_file_t:s0:(own pair of chart), by Z

    fog
      at        what                           flags  root            before  inodes changed  label
      /         image beacon/lamp:2 (overlay)  rw     0:0 0555                                container_file_t:s0:(own pair of fog)
      /signals  host /srv/beacon/signals       rw     7610:7610 0755                          not known: set by whichever container starts last
    --- standard error
    warning: fog, horn share /srv/beacon/signals, and `Z` labels it for one of them alone: whichever starts last keeps the others out
     --> beacon/compose.yaml:15:15 volumes
      = help: write `z` for all of them; what each makes later has its own level, unless they have one together (`label=level:`)

    --- status 0
    ");
}

#[test]
fn what_another_container_made_takes_one_level_for_both() {
    let scratch = lighthouse();
    assert_snapshot!(scratch.run(["handoff", SCENE, "--change", "fog mounts /signals with z", "--change", "horn mounts /signals with z"]), @"
    host, /srv/beacon/log  /log in lamp, keeper
      creator  new file        lamp       keeper
      lamp     denied EACCES   .
      keeper   7610:7610 0644  ----/----  .

      actor  cannot                 files of  because
      lamp   create delete replace  keeper    container_t:s0:(own pair of lamp) may not write var_t:s0 (class dir): no rule allows write (/log)
      lamp   read                   keeper    container_t:s0:(own pair of lamp) may not read var_t:s0 (class file): no rule allows read (/log/new-of-keeper)
      lamp   change                 keeper    container_t:s0:(own pair of lamp) may not write var_t:s0 (class file): no rule allows write (/log/new-of-keeper)
      what would help: mivask remedy INPUT 'lamp reads what keeper makes in /log'

    host, /srv/beacon/signals  /signals in fog, horn
      creator  new file        fog        horn
      fog      7610:7610 0644  .          ----/----
      horn     7610:7610 0644  ----/----  .

      actor  cannot                      files of  because
      horn   read                        fog       container_t:s0:(own pair of horn) may not read container_file_t:s0:(own pair of fog) (class file): the levels do not fit: mlsconstrain read (h1 dom h2 or t1 != mcs_constrained_type) (/signals/new-of-fog)
      horn   change                      fog       container_t:s0:(own pair of horn) may not write container_file_t:s0:(own pair of fog) (class file): the levels do not fit: mlsconstrain write ((h1 dom h2 and l2 eq h2) or t1 != mcs_constrained_type) (/signals/new-of-fog)
      horn   delete replace              fog       container_t:s0:(own pair of horn) may not unlink container_file_t:s0:(own pair of fog) (class file): the levels do not fit: mlsconstrain unlink ((h1 dom h2 and l2 eq h2) or t1 != mcs_constrained_type) (/signals/new-of-fog)
      horn   read change delete replace  fog       container_t:s0:(own pair of horn) may not search container_file_t:s0:(own pair of fog) (class dir): the levels do not fit: mlsconstrain search (h1 dom h2 or t1 != mcs_constrained_type) (/signals/dir-of-fog)
      fog    read                        horn      container_t:s0:(own pair of fog) may not read container_file_t:s0:(own pair of horn) (class file): the levels do not fit: mlsconstrain read (h1 dom h2 or t1 != mcs_constrained_type) (/signals/new-of-horn)
      fog    change                      horn      container_t:s0:(own pair of fog) may not write container_file_t:s0:(own pair of horn) (class file): the levels do not fit: mlsconstrain write ((h1 dom h2 and l2 eq h2) or t1 != mcs_constrained_type) (/signals/new-of-horn)
      fog    delete replace              horn      container_t:s0:(own pair of fog) may not unlink container_file_t:s0:(own pair of horn) (class file): the levels do not fit: mlsconstrain unlink ((h1 dom h2 and l2 eq h2) or t1 != mcs_constrained_type) (/signals/new-of-horn)
      fog    read change delete replace  horn      container_t:s0:(own pair of fog) may not search container_file_t:s0:(own pair of horn) (class dir): the levels do not fit: mlsconstrain search (h1 dom h2 or t1 != mcs_constrained_type) (/signals/dir-of-horn)
      what would help: mivask remedy INPUT 'horn reads what fog makes in /signals'

    r reads, c changes, d deletes, p replaces (renames a file of its own over it); - cannot, ? depends. First a file made there, behind the slash a file in a subdirectory made there.

    Assumed
      keeper has no label of its own, and runs as spc_t; its files are labelled container_file_t
      the engine confines its containers: they are container_t, and what it makes for them is container_file_t
      the engine keeps images in its default storage, whose root directories are 0:0 0555
      the file system of host has the label that the policy gives ext4
    --- status 0
    ");
    assert_snapshot!(scratch.run(["remedy", SCENE, "horn reads what fog makes in /signals", "--change", "fog mounts /signals with z", "--change", "horn mounts /signals with z"]), @r#"
    denied EACCES  horn reads /signals/new
                   /signals/new: container_t:s0:(own pair of horn) may not read container_file_t:s0:(own pair of fog) (class file): the levels do not fit: mlsconstrain read (h1 dom h2 or t1 != mcs_constrained_type)

                the next file of fog is 7610:7610 0644 there, with its umask 0022

    1  process  horn level s0:c386,c827
       process  fog level s0:c386,c827
                opens nothing else
                --- beacon/compose.yaml
                +++ beacon/compose.yaml
                @@ -14,7 +14,11 @@
                     image: beacon/lamp:2
                     volumes: ["/srv/beacon/signals:/signals:Z"]
                +    security_opt:
                +      - 'label=level:s0:c386,c827'
                   horn:
                     image: beacon/lamp:2
                     volumes: ["/srv/beacon/signals:/signals:Z"]
                +    security_opt:
                +      - 'label=level:s0:c386,c827'
                   # What people write where a label is in the way: it lets this one do far more than that.
                   keeper:
    --- status 0
    "#);
}

#[test]
fn a_label_that_lasts_and_a_boolean_are_typed_and_taken_back() {
    let scratch = lighthouse();
    let lines = [
        "host labels /srv/beacon/log as container_file_t",
        "lamp creates /log/2026.txt",
        "host sets-boolean virt_use_nfs on",
    ];
    let of = |option: &str| scratch.run([&["rehearse", SCENE], &lines[..], &[option]].concat());
    assert_snapshot!(of("--commands"), @"
    #!/bin/sh
    set -e

    # on the host, as root
    semanage fcontext -a -t container_file_t '/srv/beacon/log(/.*)?' || semanage fcontext -m -t container_file_t '/srv/beacon/log(/.*)?'
    restorecon -RFx /srv/beacon/log
    [ -e /srv/beacon/log/2026.txt ] || : > /srv/beacon/log/2026.txt
    chown -h 7610:7610 /srv/beacon/log/2026.txt
    chmod 00644 /srv/beacon/log/2026.txt
    setsebool -P virt_use_nfs on
    --- status 0
    ");
    assert_snapshot!(of("--undo"), @"
    #!/bin/sh
    set -e

    # on the host, as root
    setsebool -P virt_use_nfs off
    rm -f /srv/beacon/log/2026.txt
    semanage fcontext -d '/srv/beacon/log(/.*)?' || :
    restorecon -RFx /srv/beacon/log
    --- status 0
    ");
    assert_snapshot!(scratch.run(["rehearse", SCENE, "host sets-boolean virt_use_nsf on"]), @"
    --- standard error
    error: `host sets-boolean virt_use_nsf on` cannot be made: the policy has no boolean `virt_use_nsf`
     --> act 1:1:1
      |
    1 | host sets-boolean virt_use_nsf on
      | ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^

    error: the input cannot be used: 1 error above
    --- status 2
    ");
    assert_snapshot!(scratch.run(["compare", SCENE, "--change", "host labels /srv/beacon/log as container_file_t"]), @"
    Opened
      actor  what    before  after  paths
      lamp   create  EACCES  yes    /log
      lamp   list    EACCES  yes    /log
    --- status 0
    ");
}
