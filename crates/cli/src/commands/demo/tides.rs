//! The first demo: a pod, with a tutorial for its scene.

use super::Scene;

/// Four containers on a claim, two scratch volumes and a folder of the host.
pub(super) const TIDES: Scene = Scene {
    about: "tides.scene.yaml",
    files: &[
        ("tides.scene.yaml", include_str!("../../../demo/tides.scene.yaml")),
        // What the first line of the scene names, for editors that check it.
        ("scene.schema.json", include_str!("../../../demo/scene.schema.json")),
        ("station.yaml", include_str!("../../../demo/station.yaml")),
        ("station.acts", include_str!("../../../demo/station.acts")),
        ("expectations.acts", include_str!("../../../demo/expectations.acts")),
        ("press/passwd", include_str!("../../../demo/press/passwd")),
        ("press/group", include_str!("../../../demo/press/group")),
    ],
    policy: None,
    archive: None,
    walk: &[
        (
            "Who is who? gauge has its numbers from the manifest, press from its image: Kubernetes takes only the\n\
         user of `USER press:charts`, so the group `charts` never arrives. herald has no account, so its group is 0.",
            &["identity", "tides.scene.yaml"],
        ),
        (
            "What is mounted where? The filesystem group reaches the emptyDirs; the claim is skipped, because its root\n\
         matches (OnRootMismatch); the host path never gets it.",
            &["mounts", "tides.scene.yaml"],
        ),
        ("What can they do?", &["access", "tides.scene.yaml"]),
        ("Single acts, with what we expect of them.", &["ask", "tides.scene.yaml", "--acts", "station.acts"]),
        ("Why can herald not publish?", &["why", "tides.scene.yaml", "herald creates /publish/today.svg"]),
        (
            "Why can gauge not read what the root init container left?",
            &["why", "tides.scene.yaml", "gauge reads /data/calibration.toml"],
        ),
        ("What will new files look like?", &["imprint", "tides.scene.yaml"]),
        (
            "What if they act in order? Nothing on any disk is touched; each line sees what the earlier ones changed.",
            &[
                "rehearse",
                "tides.scene.yaml",
                "gauge creates /data/new.csv",
                "press reads /data/new.csv -> allowed",
                "prime sets-mode g+x on /data/archive",
                "press reads /data/archive/2025.csv -> allowed",
            ],
        ),
        (
            "Which containers can use files another one creates on a shared volume?",
            &["handoff", "tides.scene.yaml"],
        ),
        (
            "Who can access a file, counting every directory on the path?",
            &["admits", "tides.scene.yaml", "/data/archive/2025.csv", "--actor", "press"],
        ),
        ("What is open wider than it needs to be?", &["exposure", "tides.scene.yaml"]),
        (
            "What would follow if gauge ran as another user?",
            &["compare", "tides.scene.yaml", "--change", "gauge becomes 7102:7200"],
        ),
        (
            "And what is the smallest change that lets gauge write to /tmp?",
            &["remedy", "tides.scene.yaml", "gauge creates /tmp/x", "--most", "1"],
        ),
        (
            "Does everything hold that is expected, with this change and every later one?",
            &["uphold", "tides.scene.yaml", "--all"],
        ),
    ],
};
