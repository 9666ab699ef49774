//! Keys that exist, but elsewhere.

/// Where `key`, found on the API struct `holder`, belongs.
pub(super) fn misplaced(holder: &str, key: &str) -> Option<&'static str> {
    const POD: &str = "in the pod's `securityContext`, beside `containers`: it exists for the whole pod only";
    const CONTAINER: &str = "in the `securityContext` of a container: it does not exist for the pod";
    match (holder, key) {
        (
            "SecurityContext",
            "fsGroup" | "fsGroupChangePolicy" | "supplementalGroups" | "supplementalGroupsPolicy" | "sysctls",
        ) => Some(POD),
        (
            "PodSecurityContext",
            "capabilities"
            | "privileged"
            | "allowPrivilegeEscalation"
            | "readOnlyRootFilesystem"
            | "procMount",
        ) => Some(CONTAINER),
        ("Container", "fsGroup" | "fsGroupChangePolicy" | "supplementalGroups") => Some(POD),
        (
            "Container" | "PodSpec",
            "runAsUser"
            | "runAsGroup"
            | "runAsNonRoot"
            | "capabilities"
            | "privileged"
            | "readOnlyRootFilesystem",
        ) => Some("one level deeper, under `securityContext`"),
        ("PodSpec", "fsGroup" | "supplementalGroups") => Some("one level deeper, under `securityContext`"),
        ("PodSpec", "volumeMounts" | "image" | "command") => Some("in a container"),
        ("Container", "volumes") => Some("beside `containers`, one level up"),
        ("Pod" | "DeploymentSpec", "containers" | "volumes" | "securityContext") => {
            Some("in the pod's `spec`")
        }
        _ => None,
    }
}
