//! A scenario as a scene file.

use std::fmt::{Display, Formatter, Result};

use mivask_core::ids::DiskOwner;

use super::{ActorPart, EntryPart, Maps, MountPart, Scenario, VolumePart};

impl Display for Scenario {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        writeln!(f, "scene: 1\nvolumes:")?;
        self.volumes.iter().try_for_each(|volume| volume.fmt(f))?;
        writeln!(f, "containers:\n  - name: x")?;
        self.actor.fmt(f)?;
        writeln!(f, "    mounts:")?;
        self.mounts.iter().try_for_each(|mount| mount.fmt(f))
    }
}

impl Display for VolumePart {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        writeln!(f, "  {}:\n    filesystem: {}", self.name, self.kind.name())?;
        if !self.options.is_empty() {
            writeln!(f, "    options: [{}]", self.options.join(", "))?;
        }
        if self.read_only {
            writeln!(f, "    read-only-filesystem: true")?;
        }
        if !self.listed {
            return Ok(());
        }
        writeln!(f, "    tree:")?;
        self.entries.iter().try_for_each(|entry| entry.fmt(f))
    }
}

impl Display for EntryPart {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        write!(f, "      - {{ path: {}, kind: {}", self.path, self.kind)?;
        if let Some(DiskOwner { uid, gid }) = self.owner {
            write!(f, ", owner: '{uid}:{gid}'")?;
        }
        if let Some(mode) = self.mode {
            write!(f, ", mode: {mode:04o}")?;
        }
        for (key, value) in &self.facts {
            write!(f, ", {key}: {value}")?;
        }
        writeln!(f, " }}")
    }
}

impl Display for MountPart {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        write!(f, "      - {{ volume: {}, at: {}", self.volume, self.at)?;
        if !self.options.is_empty() {
            write!(f, ", options: [{}]", self.options.join(", "))?;
        }
        if let Some(path) = &self.sub_path {
            write!(f, ", sub-path: {path}")?;
        }
        if let Some(maps) = self.id_map {
            write!(f, ", id-map: {maps}")?;
        }
        writeln!(f, " }}")
    }
}

impl Display for Maps {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        let quoted =
            |lines: &[&str]| lines.iter().map(|line| format!("'{line}'")).collect::<Vec<_>>().join(", ");
        write!(f, "{{ uids: [{}], gids: [{}] }}", quoted(self.uids), quoted(self.gids))
    }
}

impl Display for ActorPart {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        writeln!(f, "    user: '{}:{}'", self.uid, self.gid)?;
        if !self.groups.is_empty() {
            let groups: Vec<String> = self.groups.iter().map(u32::to_string).collect();
            writeln!(f, "    groups: [{}]", groups.join(", "))?;
        }
        if self.umask != "0022" {
            writeln!(f, "    umask: '{}'", self.umask)?;
        }
        if self.no_new_privileges {
            writeln!(f, "    no-new-privileges: true")?;
        }
        match &self.effective {
            None => writeln!(f, "    effective-capabilities: all")?,
            Some(names) => writeln!(f, "    effective-capabilities: [{}]", names.join(", "))?,
        }
        if let Some(names) = &self.bounding {
            writeln!(f, "    capabilities: {{ drop: [ALL], add: [{}] }}", names.join(", "))?;
        }
        match self.namespace {
            Some(maps) => writeln!(f, "    user-namespace: {maps}"),
            None => Ok(()),
        }
    }
}
