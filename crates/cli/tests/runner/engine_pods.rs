//! Pods of Podman, made in a script or by a .pod file: one user namespace for all of their containers.

use crate::scratch::Scratch;

const SCENE: &str = "scene: 1
workloads: [INPUT]
images: { i: { user: '', tree: [{ path: /, kind: dir, owner: '0:0', mode: '0755' }] } }
host: { tree: [{ path: /, kind: dir, owner: '0:0', mode: '0755' }, { path: /srv, kind: dir, owner: '0:0', mode: '0755' },
  { path: /srv/d, kind: dir, owner: '0:0', mode: '0777' }] }
";

const SCRIPT: &str = "podman pod create --name tides --share ipc --userns auto -v /srv/d:/in
podman run -d --pod tides --name a -u 5:5 i
podman run -d --pod=tides --name b -u 5:5 i
podman run -d --userns auto --name other -u 5:5 -v /srv/d:/in i
";

const CONTAINER: &str = "[Container]\nImage=i\nPod=tides.pod\nUser=5:5\nVolume=/srv/d:/in\n";
const POD: &str = "[Pod]\nPodName=tides\nUserNS=auto\n";

/// Which of them may change the mode of what `a` made.
fn owner_is(scratch: &Scratch, who: &str) -> bool {
    let acts = ["a creates /in/x".to_owned(), format!("{who} sets-mode 0600 on /in/x")];
    let told = scratch.run(["rehearse", "-q", "s.yaml", &acts[0], &acts[1]]);
    assert!(told.contains("allowed        a creates /in/x"), "{told}");
    let allowed = told.contains(&format!("allowed        {who} sets-mode"));
    assert!(allowed || told.contains(&format!("denied EPERM   {who} sets-mode")), "{told}");
    allowed
}

#[test]
fn containers_of_a_pod_have_one_range() {
    let script = Scratch::with("s.yaml", &SCENE.replace("INPUT", "run.sh")).and("run.sh", SCRIPT);
    assert!(owner_is(&script, "b"));
    assert!(!owner_is(&script, "other"));
    let units = Scratch::with("s.yaml", &SCENE.replace("INPUT", "tides.pod"))
        .and("tides.pod", POD)
        .and("a.container", CONTAINER)
        .and("b.container", CONTAINER);
    assert!(owner_is(&units, "b"));
    let apart = units.and("b.container", CONTAINER.replace("Pod=tides.pod", "UserNS=auto"));
    let apart = apart.and("s.yaml", SCENE.replace("INPUT", "tides.pod, b.container"));
    assert!(!owner_is(&apart, "b"));
}

#[test]
fn a_container_of_a_pod_has_no_namespace_of_its_own() {
    let told = Scratch::with("run.sh", &SCRIPT.replace("--pod tides", "--pod tides --userns host"))
        .run(["identity", "run.sh"]);
    let message = "`--userns` and `--pod` exclude one another: the pod has the user namespace";
    assert!(told.contains(message) && told.ends_with("--- status 2"), "{told}");
    let told = Scratch::with("a.container", &format!("{CONTAINER}UserNS=host\n"))
        .and("tides.pod", POD)
        .run(["identity", "a.container"]);
    let message = "`UserNS` and `Pod` exclude one another: the pod has the user namespace";
    assert!(told.contains(message) && told.ends_with("--- status 2"), "{told}");
}

#[test]
fn of_a_pod_that_is_made_elsewhere_nobody_knows() {
    let told = Scratch::with(
        "run.sh",
        "podman run --pod elsewhere --name a -u 5:5 i\npodman run --pod new:x --name b -u 5:5 i\npodman run --pod x --name c -u 5:5 i\n",
    );
    let shown = told.run(["identity", "run.sh"]);
    assert!(shown.contains("not known: which ids `--pod` gives (run.sh:1:18 pod)"), "{shown}");
    assert_eq!(shown.matches("not known: which ids").count(), 1, "{shown}");
    assert!(shown.contains("warning: the pod is not made here"), "{shown}");
    let asked = told.run(["ask", "-q", "run.sh", "a creates /etc/x"]);
    assert!(
        asked.contains("`--pod` gives others") && asked.contains("pod elsewhere mounts nothing of its own"),
        "{asked}"
    );
}
