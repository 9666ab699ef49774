//! Options of `run` and `create`, as the engines document them: which take a value, and what they decide.

/// What an option decides.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Meaning {
    /// The key of a Compose service that says the same, as a text.
    Text(&'static str),
    /// The same, as one more element of a list.
    Element(&'static str),
    /// The same, as a truth value.
    Truth(&'static str),
    /// `--mount`, which has fields of its own.
    Mount,
    /// What the container is called.
    Name,
    /// Its environment, of which `PATH` counts.
    Environment,
    /// `--entrypoint`
    Entrypoint,
    /// The umask that the engine sets.
    Umask,
    /// Something about ids that no rule here follows.
    Ids,
    /// Something about files that no rule here follows.
    Files,
    /// The pod it is in.
    Pod,
    /// Whether Podman mounts scratch space below a read-only root.
    Scratch,
    /// A value that says nothing about files or identity.
    Value,
    /// A switch that says nothing about them.
    Switch,
}

use Meaning::{
    Element, Entrypoint, Environment, Files, Ids, Mount, Name, Pod, Scratch, Switch, Text, Truth, Umask,
    Value,
};

/// Options that decide something here; a letter is the short form.
const DECIDING: [(&str, &str, Meaning); 39] = [
    ("user", "u", Text("user")),
    ("group-add", "", Element("group_add")),
    ("cap-add", "", Element("cap_add")),
    ("cap-drop", "", Element("cap_drop")),
    ("volume", "v", Element("volumes")),
    ("mount", "", Mount),
    ("tmpfs", "", Element("tmpfs")),
    ("volumes-from", "", Element("volumes_from")),
    ("workdir", "w", Text("working_dir")),
    ("entrypoint", "", Entrypoint),
    ("security-opt", "", Element("security_opt")),
    ("userns", "", Text("userns_mode")),
    ("ipc", "", Text("ipc")),
    ("pid", "", Text("pid")),
    ("network", "", Text("network_mode")),
    ("net", "", Text("network_mode")),
    ("privileged", "", Truth("privileged")),
    ("read-only", "", Truth("read_only")),
    ("read-only-tmpfs", "", Scratch),
    ("tty", "t", Truth("tty")),
    ("interactive", "i", Truth("stdin_open")),
    ("name", "", Name),
    ("env", "e", Environment),
    ("umask", "", Umask),
    ("uidmap", "", Ids),
    ("gidmap", "", Ids),
    ("subuidname", "", Ids),
    ("subgidname", "", Ids),
    ("pod", "", Pod),
    ("pod-id-file", "", Files),
    ("rootfs", "", Files),
    ("secret", "", Files),
    ("chrootdirs", "", Files),
    ("image-volume", "", Files),
    ("init-path", "", Value),
    ("hostuser", "", Files),
    ("passwd-entry", "", Files),
    ("group-entry", "", Files),
    ("env-file", "", Value),
];

/// Those that take a value and decide nothing here.
const VALUES: &str = "add-host annotation a attach arch authfile blkio-weight blkio-weight-device cert-dir \
    cgroup-conf cgroup-parent cgroupns cgroups cidfile conmon-pidfile c cpu-count cpu-percent cpu-period cpu-quota \
    cpu-rt-period cpu-rt-runtime cpu-shares cpus cpuset-cpus cpuset-mems creds decryption-key detach-keys device \
    device-cgroup-rule device-read-bps device-read-iops device-write-bps device-write-iops dns dns-opt dns-option \
    dns-search domainname env-merge expose gpus health-cmd health-interval health-on-failure health-retries \
    health-start-interval health-start-period health-startup-cmd health-startup-interval health-startup-retries \
    health-startup-success health-startup-timeout health-timeout h hostname init-ctr io-maxbandwidth io-maxiops ip ip6 \
    isolation kernel-memory l label label-file link link-local-ip log-driver log-opt mac-address memory m \
    memory-reservation memory-swap memory-swappiness network-alias net-alias oom-score-adj os personality \
    pids-limit platform preserve-fds publish p pull requires restart retry retry-delay runtime sdnotify \
    seccomp-policy shm-size shm-size-systemd stop-signal stop-timeout storage-opt sysctl systemd timeout tz ulimit \
    unsetenv uts variant volume-driver";

/// Switches that decide nothing here.
const SWITCHES: &str = "detach d rm init publish-all P sig-proxy disable-content-trust quiet q no-healthcheck \
    oom-kill-disable replace tls-verify no-hosts no-hostname rmi env-host http-proxy unsetenv-all passwd help \
    use-api-socket";

/// What the option `name`, long or of one letter, decides; `None` where no engine has it.
pub(super) fn meaning(name: &str) -> Option<Meaning> {
    let deciding =
        DECIDING.iter().find(|(long, short, _)| *long == name || !short.is_empty() && *short == name);
    if let Some((_, _, meaning)) = deciding {
        return Some(*meaning);
    }
    let among = |list: &str| list.split_whitespace().any(|known| known == name);
    if among(VALUES) {
        Some(Value)
    } else if among(SWITCHES) {
        Some(Switch)
    } else {
        None
    }
}

impl Meaning {
    /// Whether a value belongs to it. `--rootfs` is a switch that makes a path of the image.
    pub(super) const fn takes_value(self, name: &str) -> bool {
        match self {
            Truth(_) | Scratch | Switch => false,
            Files => !matches!(name.as_bytes(), b"rootfs"),
            Text(_) | Element(_) | Mount | Name | Environment | Entrypoint | Umask | Ids | Pod | Value => {
                true
            }
        }
    }
}

/// The long name of an option that is given as a letter.
pub(super) fn long(name: &str) -> &str {
    let of_letter = DECIDING.iter().find(|(_, short, _)| !short.is_empty() && *short == name);
    of_letter.map_or(name, |(long, ..)| long)
}

/// Every long name, to propose from.
pub(super) fn names() -> impl Iterator<Item = &'static str> {
    let others = VALUES.split_whitespace().chain(SWITCHES.split_whitespace());
    DECIDING.iter().map(|(long, _, _)| *long).chain(others).filter(|name| name.len() > 1)
}

/// Options before the subcommand that take a value.
pub(super) fn is_global_value(name: &str) -> bool {
    "H host context config log-level l tlscacert tlscert tlskey root runroot storage-driver storage-opt cgroup-manager url \
     connection c identity runtime runtime-flag tmpdir network-cmd-path network-config-dir events-backend conmon hooks-dir \
     imagestore module namespace volumepath out ssh"
        .split_whitespace()
        .any(|known| known == name)
}

#[cfg(test)]
mod tests {
    use super::{DECIDING, SWITCHES, VALUES, meaning};

    #[test]
    fn every_option_is_in_one_list() {
        let mut all: Vec<&str> = DECIDING.iter().flat_map(|(long, short, _)| [*long, *short]).collect();
        all.extend(VALUES.split_whitespace().chain(SWITCHES.split_whitespace()));
        all.retain(|name| !name.is_empty());
        let count = all.len();
        all.sort_unstable();
        all.dedup();
        assert_eq!(all.len(), count);
        assert!(all.iter().all(|name| meaning(name).is_some()));
    }
}
