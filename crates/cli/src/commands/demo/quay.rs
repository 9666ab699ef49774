//! The second demo: a Compose file.

use super::Scene;

/// A named volume that is filled from the image beside a folder of the host that root made.
pub(super) const QUAY: Scene = Scene {
    about: "quay.scene.yaml",
    files: &[
        ("quay.scene.yaml", include_str!("../../../demo/quay/quay.scene.yaml")),
        ("scene.schema.json", include_str!("../../../demo/quay/scene.schema.json")),
        ("compose.yaml", include_str!("../../../demo/quay/compose.yaml")),
    ],
    policy: None,
    archive: None,
    walk: &[
        (
            "What does each service find where it is mounted? The named volume takes owner and mode from the image of the first\n\
             that mounts it, the folder of the host stays root's.",
            &["mounts", "quay.scene.yaml"],
        ),
        (
            "So the same program writes in one service and not in the other.",
            &[
                "ask",
                "quay.scene.yaml",
                "ledger creates /var/lib/ledger/2026.db",
                "scale creates /var/lib/ledger/2026.db",
                "keeper creates /copies/2026.db",
            ],
        ),
        (
            "What is the smallest change that lets the scale write?",
            &["remedy", "quay.scene.yaml", "scale creates /var/lib/ledger/2026.db", "--most", "2"],
        ),
        (
            "Another engine does something else with an empty volume: only what differs is shown.",
            &["access", "quay.scene.yaml", "--runtime", "docker,podman"],
        ),
        ("Which containers can use files another one creates?", &["handoff", "quay.scene.yaml"]),
        ("Does everything hold that is expected?", &["uphold", "quay.scene.yaml", "--all"]),
    ],
};
