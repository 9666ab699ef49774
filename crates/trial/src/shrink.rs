//! Making a failing scenario as small as it goes.

use mivask_core::ids::DiskOwner;

use crate::scenario::Scenario;

const ROOT: DiskOwner = DiskOwner::new(0, 0);

/// The smallest scenario that `fails` as well: part after part is left out, as long as that is so.
pub fn shrink(scenario: &Scenario, mut fails: impl FnMut(&Scenario) -> bool) -> Scenario {
    let mut smallest = scenario.clone();
    loop {
        let mut smaller = false;
        let mut next = 0;
        // Each simpler one is tried in turn; after a success the same place holds the next candidate.
        while let Some(candidate) = simpler(&smallest, next) {
            if fails(&candidate) {
                smallest = candidate;
                smaller = true;
            } else {
                next += 1;
            }
        }
        if !smaller {
            return smallest;
        }
    }
}

/// The scenario with its `index`th part left out; `None` past the last one.
fn simpler(scenario: &Scenario, index: usize) -> Option<Scenario> {
    let mut candidate = scenario.clone();
    let mut left = index;
    if step(&mut candidate, &mut left) { Some(candidate) } else { None }
}

/// Leaves out the part that `left` counts down to; whether there was one.
fn step(scenario: &mut Scenario, left: &mut usize) -> bool {
    leave_out_mount(scenario, left)
        || leave_out_entry(scenario, left)
        || simplify_actor(scenario, left)
        || simplify_mounts(scenario, left)
        || simplify_entries(scenario, left)
        || simplify_volumes(scenario, left)
}

fn reached(left: &mut usize) -> bool {
    let here = *left == 0;
    *left = left.wrapping_sub(1);
    here
}

fn leave_out_mount(scenario: &mut Scenario, left: &mut usize) -> bool {
    for index in (1..scenario.mounts.len()).rev() {
        if reached(left) {
            scenario.mounts.remove(index);
            let used = |name: &str| scenario.mounts.iter().any(|mount| mount.volume == name);
            let kept: Vec<bool> = scenario.volumes.iter().map(|volume| used(volume.name)).collect();
            let mut kept = kept.into_iter();
            scenario.volumes.retain(|_| kept.next().unwrap_or(true));
            return true;
        }
    }
    false
}

fn leave_out_entry(scenario: &mut Scenario, left: &mut usize) -> bool {
    for volume in &mut scenario.volumes {
        for index in (1..volume.entries.len()).rev() {
            if reached(left) {
                let path = volume.entries[index].path.clone();
                let below = format!("{path}/");
                volume.entries.retain(|entry| entry.path != path && !entry.path.starts_with(&below));
                return true;
            }
        }
    }
    false
}

fn simplify_actor(scenario: &mut Scenario, left: &mut usize) -> bool {
    let actor = &mut scenario.actor;
    for index in (0..actor.groups.len()).rev() {
        if reached(left) {
            actor.groups.remove(index);
            return true;
        }
    }
    for index in (0..actor.effective.as_ref().map_or(0, Vec::len)).rev() {
        if reached(left) {
            actor.effective.as_mut().map(|names| names.remove(index));
            return true;
        }
    }
    let changes = [
        actor.effective.is_none(),
        actor.bounding.is_some(),
        actor.no_new_privileges,
        actor.umask != "0022",
        actor.namespace.is_some(),
    ];
    let apply: [fn(&mut Scenario); 5] = [
        |scenario| scenario.actor.effective = Some(Vec::new()),
        |scenario| scenario.actor.bounding = None,
        |scenario| scenario.actor.no_new_privileges = false,
        |scenario| scenario.actor.umask = "0022",
        |scenario| scenario.actor.namespace = None,
    ];
    for (wanted, apply) in changes.into_iter().zip(apply) {
        if wanted && reached(left) {
            apply(scenario);
            return true;
        }
    }
    false
}

fn simplify_mounts(scenario: &mut Scenario, left: &mut usize) -> bool {
    for mount in &mut scenario.mounts {
        for index in (0..mount.options.len()).rev() {
            if reached(left) {
                mount.options.remove(index);
                return true;
            }
        }
        if mount.id_map.is_some() && reached(left) {
            mount.id_map = None;
            return true;
        }
        if mount.sub_path.is_some() && reached(left) {
            mount.sub_path = None;
            return true;
        }
    }
    false
}

fn simplify_entries(scenario: &mut Scenario, left: &mut usize) -> bool {
    for entry in scenario.volumes.iter_mut().flat_map(|volume| &mut volume.entries) {
        for index in (0..entry.facts.len()).rev() {
            // A link without its target, a device without its numbers, are not simpler.
            let needed = matches!(entry.facts[index].0, "target" | "device" | "same-file-as" | "layer");
            if !needed && reached(left) {
                entry.facts.remove(index);
                return true;
            }
        }
        if let Some(mode) = entry.mode {
            let plain = if entry.kind == "dir" { 0o755 } else { 0o644 };
            for simpler in [plain, mode & 0o777] {
                if mode != simpler && reached(left) {
                    entry.mode = Some(simpler);
                    return true;
                }
            }
        }
        if entry.owner != Some(ROOT) && reached(left) {
            entry.owner = Some(ROOT);
            return true;
        }
    }
    false
}

fn simplify_volumes(scenario: &mut Scenario, left: &mut usize) -> bool {
    for volume in &mut scenario.volumes {
        if !volume.options.is_empty() && reached(left) {
            volume.options.clear();
            return true;
        }
        if volume.read_only && reached(left) {
            volume.read_only = false;
            return true;
        }
    }
    false
}

#[cfg(test)]
mod tests {
    use fastrand::Rng;
    use mivask_core::act::parse_act;
    use mivask_core::outcome::Errno;
    use mivask_core::question::ask;
    use mivask_core::settle::Outcome;

    use super::*;
    use crate::scenario::{Kind, generate};

    /// Whether the act ends so; a scenario that is not read back does not count.
    fn ends(scenario: &Scenario, act: &str, outcome: &Outcome) -> bool {
        let act = parse_act(act).unwrap();
        scenario.stage().is_ok_and(|stage| ask(&stage, &act).is_ok_and(|answer| answer.outcome == *outcome))
    }

    #[test]
    fn what_is_left_still_fails_and_nothing_more_can_go() {
        let act = "x creates /a/new";
        let denied = Outcome::Denied(Some(Errno::EACCES));
        let mut tried = 0;
        for seed in 0..40 {
            let scenario = generate(&mut Rng::with_seed(seed), Kind::Ext4);
            if !ends(&scenario, act, &denied) {
                continue;
            }
            tried += 1;
            let smallest = shrink(&scenario, |candidate| ends(candidate, act, &denied));
            assert!(ends(&smallest, act, &denied), "{smallest}");
            let entries: usize = smallest.volumes.iter().map(|volume| volume.entries.len()).sum();
            assert!(entries <= 3, "{scenario}\nbecame\n{smallest}");
            let mut index = 0;
            while let Some(candidate) = simpler(&smallest, index) {
                assert!(!ends(&candidate, act, &denied), "{smallest}\ncould still become\n{candidate}");
                index += 1;
            }
        }
        assert!(tried > 3, "{tried}");
    }
}
