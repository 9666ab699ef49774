//! Keys of `[Container]` (podman-systemd.unit(5)), and the options of `podman run` that they are.

/// What a key is.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Key {
    /// An option with the last value.
    Last(&'static str),
    /// An option for each value.
    Each(&'static str),
    /// An option for each word of each value.
    Words(&'static str),
    /// `--security-opt` with this before each value.
    Security(&'static str),
    /// A switch that is written with its value.
    Switch(&'static str),
    /// Read where all of it comes together.
    Own,
    /// It says nothing about files or identity.
    Nothing,
}

use Key::{Each, Last, Own, Security, Switch, Words};

const DECIDING: [(&str, Key); 37] = [
    ("AddCapability", Words("cap-add")),
    ("DropCapability", Words("cap-drop")),
    ("GroupAdd", Each("group-add")),
    ("Tmpfs", Each("tmpfs")),
    ("UserNS", Last("userns")),
    ("UIDMap", Words("uidmap")),
    ("GIDMap", Words("gidmap")),
    ("SubUIDMap", Last("subuidname")),
    ("SubGIDMap", Last("subgidname")),
    ("WorkingDir", Last("workdir")),
    ("Entrypoint", Last("entrypoint")),
    ("ContainerName", Last("name")),
    ("Secret", Each("secret")),
    ("Environment", Words("env")),
    ("Mask", Security("mask=")),
    ("Unmask", Security("unmask=")),
    ("SecurityLabelType", Security("label=type:")),
    ("SecurityLabelFileType", Security("label=filetype:")),
    ("SecurityLabelLevel", Security("label=level:")),
    ("SeccompProfile", Security("seccomp=")),
    ("ReadOnly", Switch("read-only")),
    ("ReadOnlyTmpfs", Switch("read-only-tmpfs")),
    ("NoNewPrivileges", Own),
    ("SecurityLabelDisable", Own),
    ("SecurityLabelNested", Own),
    ("VolatileTmp", Own),
    ("User", Own),
    ("Group", Own),
    ("Volume", Own),
    ("Mount", Own),
    ("Network", Own),
    ("Image", Own),
    ("Rootfs", Own),
    ("Exec", Own),
    ("Pod", Own),
    ("PodmanArgs", Own),
    ("RemapUsers", Own),
];

const OTHERS: &str = "AddDevice AddHost Annotation AutoUpdate CgroupsMode ContainersConfModule DNS DNSOption DNSSearch \
    EnvironmentFile EnvironmentHost ExposeHostPort GlobalArgs HealthCmd HealthInterval HealthLogDestination HealthMaxLogCount \
    HealthMaxLogSize HealthOnFailure HealthRetries HealthStartPeriod HealthStartupCmd HealthStartupInterval HealthStartupRetries \
    HealthStartupSuccess HealthStartupTimeout HealthTimeout HostName HttpProxy IP IP6 Label LogDriver LogOpt Memory NetworkAlias \
    Notify PidsLimit PublishPort Pull ReloadCmd ReloadSignal Retry RetryDelay RunInit ServiceName ShmSize StartWithPod StopSignal \
    StopTimeout Sysctl Timezone Ulimit RemapUid RemapGid RemapUidSize";

/// What `key` is; `None` where Podman has no such key.
pub(crate) fn key(key: &str) -> Option<Key> {
    let known = DECIDING.iter().find(|(known, _)| *known == key).map(|(_, meaning)| *meaning);
    known.or_else(|| OTHERS.split_whitespace().any(|known| known == key).then_some(Key::Nothing))
}

/// The key that is an option of `podman run`.
pub(crate) fn key_of(option: &str) -> Option<&'static str> {
    let is = |meaning: &Key| match meaning {
        Last(name) | Each(name) | Words(name) | Switch(name) => *name == option,
        Security(_) | Own | Key::Nothing => false,
    };
    let own = [("volume", "Volume"), ("mount", "Mount"), ("user", "User")];
    let named = own.iter().find(|(name, _)| *name == option).map(|(_, key)| *key);
    named.or_else(|| DECIDING.iter().find(|(_, meaning)| is(meaning)).map(|(key, _)| *key))
}

/// Every key.
pub(super) fn names() -> impl Iterator<Item = &'static str> {
    DECIDING.iter().map(|(name, _)| *name).chain(OTHERS.split_whitespace())
}
