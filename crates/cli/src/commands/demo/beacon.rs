//! The fourth demo: a host where SELinux decides.

use super::Scene;

/// Folders with the right owner and mode, and labels that keep containers out.
pub(super) const BEACON: Scene = Scene {
    about: "beacon.scene.yaml",
    files: &[
        ("beacon.scene.yaml", include_str!("../../../demo/beacon/beacon.scene.yaml")),
        ("scene.schema.json", include_str!("../../../demo/beacon/scene.schema.json")),
        ("compose.yaml", include_str!("../../../demo/beacon/compose.yaml")),
    ],
    policy: Some(("policy.33", include_bytes!("../../../demo/beacon/policy.33"))),
    archive: None,
    walk: &[
        (
            "Who is each container? The engine draws a pair of categories for each: it is not known, and no other has it.",
            &["identity", "beacon.scene.yaml"],
        ),
        (
            "Owner and mode are the same in all four folders; the label is not.",
            &[
                "ask",
                "beacon.scene.yaml",
                "lamp creates /log/2026.txt",
                "chart creates /charts/2026.svg",
                "fog creates /signals/7",
                "keeper creates /log/2026.txt",
            ],
        ),
        (
            "What exactly is in the way? SELinux is asked after owners and modes, at each step.",
            &["why", "beacon.scene.yaml", "lamp creates /log/2026.txt"],
        ),
        (
            "What is the smallest change? Leaving out the label, as the keeper does, is never among the answers.",
            &["remedy", "beacon.scene.yaml", "lamp creates /log/2026.txt"],
        ),
        (
            "What would the label of a new file be?",
            &["imprint", "beacon.scene.yaml", "/charts", "--actor", "chart"],
        ),
        (
            "Two containers label one folder for themselves alone, so that each takes it from the other. What lets both use it?",
            &["remedy", "beacon.scene.yaml", "fog creates /signals/7"],
        ),
        ("Does everything hold that is expected?", &["uphold", "beacon.scene.yaml", "--all"]),
    ],
};
