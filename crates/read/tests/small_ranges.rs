//! What is said of an image whose files have ids that a container's user namespace lacks.

mod fixtures;

use mivask_core::prepare;
use mivask_core::question::remarks;

use fixtures::read;

const SCENE: &str = "scene: 1
runtime: podman
workloads: [c.yaml]
images: { i: { user: '', tree: [{ path: /, kind: dir, owner: '0:0', mode: '0755' }, { path: /etc, kind: dir, owner: '0:0', mode: '0755' },
  { path: /a, owner: '500:5', mode: '0644' }, { path: /etc/b, owner: '5:70000', mode: '0644' }] } }
host: { started-by: ada, accounts: { passwd: PASSWD }, subuid: SUBUID, subgid: SUBGID }
";

/// What is said of a container of this mode, under so many ids.
fn said(mode: &str, count: u32) -> Vec<String> {
    let ids = format!("\"ada:100000:{count}\\n\"");
    let scene = SCENE
        .replace("PASSWD", "\"ada:x:1500:1500::/:/bin/sh\\n\"")
        .replace("SUBUID", &ids)
        .replace("SUBGID", "\"ada:100000:65536\\n\"");
    let services = format!("services: {{ a: {{ image: i, user: '5:5', userns_mode: '{mode}' }} }}\n");
    let (scene, diagnostics) = read("s.yaml", &[("s.yaml", &scene), ("c.yaml", &services)]);
    assert!(!diagnostics.iter().any(|one| one.starts_with("error")), "{diagnostics:?}");
    let stage = prepare::stage(&scene);
    let all = remarks(&scene, &scene.workloads, &stage, &|_| true);
    all.into_iter().map(|remark| remark.message).filter(|text| text.contains("nobody's")).collect()
}

#[test]
fn files_of_nobody_are_counted() {
    let one = "1 file of image i, /etc/b (5:70000), belongs to ids that the user namespace of a lacks: nobody's (65534) there, and no capability helps";
    let beyond =
        "; an engine whose own ids lack them unpacks such an image only where its store ignores owners";
    assert_eq!(said("", 65_536), [format!("{one}{beyond}")]);
    let two = "2 files of image i, such as /a (500:5), belong to ids that the user namespace of a lacks: nobody's (65534) there, and no capability helps";
    assert_eq!(said("", 100), [format!("{two}{beyond}")]);
    // The engine has these ids, and the container has not.
    assert_eq!(said("auto:size=100", 65_536), [two]);
}
