//! The Compose specification's fields: those that decide something here by type, the others by name.

use serde::Deserialize;
use serde::de::IgnoredAny;

/// A struct of fields that are known, and say nothing about files.
macro_rules! known {
    ($(#[$doc:meta])* $name:ident { $($field:ident: $type:ty,)* } ignores { $($other:ident)* }) => {
        $(#[$doc])*
        #[derive(Debug, Default, Deserialize)]
        #[serde(default)]
        pub(super) struct $name {
            $(pub $field: $type,)*
            $($other: Option<IgnoredAny>,)*
        }
    };
}

known! {
    /// The whole file.
    Project { name: Option<String>, } ignores { version services networks volumes configs secrets include models }
}

known! {
    /// One service.
    Service {
        image: Option<String>,
        user: Option<Text>,
        privileged: Option<bool>,
        read_only: Option<bool>,
        userns_mode: Option<String>,
        working_dir: Option<String>,
        tty: Option<bool>,
        stdin_open: Option<bool>,
    } ignores {
        annotations attach blkio_config build cap_add cap_drop cgroup cgroup_parent command configs container_name
        cpu_count cpu_percent cpu_period cpu_quota cpu_rt_period cpu_rt_runtime cpu_shares cpus cpuset
        credential_spec depends_on deploy develop device_cgroup_rules devices dns dns_opt dns_search domainname
        entrypoint env_file environment expose extends external_links extra_hosts gpus group_add healthcheck hostname
        init ipc isolation label_file labels links logging mac_address mem_limit mem_reservation mem_swappiness
        memswap_limit models network_mode networks oom_kill_disable oom_score_adj pid pids_limit platform ports
        post_start pre_stop profiles provider pull_policy pull_refresh_after restart runtime scale secrets
        security_opt shm_size stop_grace_period stop_signal storage_opt sysctls tmpfs ulimits
        use_api_socket uts volumes volumes_from
    }
}

known! {
    /// How a service's image is built.
    Build { dockerfile: Option<String>, target: Option<String>, }
    ignores {
        additional_contexts args cache_from cache_to context dockerfile_inline entitlements extra_hosts isolation
        labels network no_cache platforms privileged provenance pull sbom secrets shm_size ssh tags ulimits
    }
}

known! {
    /// A volume of a service in its long form.
    LongVolume {
        r#type: Option<String>,
        source: Option<String>,
        target: Option<String>,
        read_only: Option<bool>,
        bind: Option<BindOptions>,
        volume: Option<VolumeOptions>,
        tmpfs: Option<TmpfsOptions>,
        image: Option<ImageOptions>,
    } ignores { consistency }
}

known! {
    /// `bind` of a long volume.
    BindOptions { create_host_path: Option<bool>, selinux: Option<String>, recursive: Option<String>, } ignores { propagation }
}

known! {
    /// `volume` of a long volume.
    VolumeOptions { nocopy: Option<bool>, subpath: Option<String>, } ignores { labels }
}

known! {
    /// `tmpfs` of a long volume.
    TmpfsOptions { mode: Option<i64>, } ignores { size }
}

known! {
    /// `image` of a long volume.
    ImageOptions { subpath: Option<String>, } ignores {}
}

known! {
    /// A volume of the project.
    Volume {
        driver: Option<String>,
        name: Option<String>,
    } ignores { driver_opts external labels }
}

known! {
    /// A secret or config of the project.
    Resource { file: Option<String>, environment: Option<String>, content: Option<String>, }
    ignores { external name labels template_driver driver driver_opts }
}

known! {
    /// A secret or config of a service in its long form.
    Grant { source: Option<String>, target: Option<String>, uid: Option<Text>, gid: Option<Text>, mode: Option<Text>, }
    ignores {}
}

/// A scalar as it is written.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) struct Text(pub String);

impl<'de> Deserialize<'de> for Text {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        crate::yaml::RawText::deserialize(deserializer).map(|raw| Self(raw.0))
    }
}
