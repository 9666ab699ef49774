//! Id maps of a bundle: of its namespace, of a mount, and those that an option of crun gives (crun(1), "idmap mount options").

use mivask_core::ids::{Extent, IdMap, MountIds, UserNamespace};

use super::types::LinuxIdMapping;

/// A list of the configuration; `None` where it is empty.
pub(super) fn map(lines: &[LinuxIdMapping]) -> Option<IdMap> {
    let extent =
        |line: &LinuxIdMapping| Extent { inside: line.container_id, outside: line.host_id, count: line.size };
    (!lines.is_empty()).then(|| IdMap::new(lines.iter().map(extent).collect()))
}

/// `idmap=uids=STORED-HOST-COUNT#...;gids=...`, where `@` in front of a line moves its second number as the line of the
/// container's `namespace` that covers its first number moves ids (crun 1.8); `None` where it is written otherwise, or no line does.
pub(super) fn asked(text: &str, namespace: Option<&UserNamespace>) -> Option<MountIds> {
    let initial = UserNamespace::initial();
    let own = namespace.unwrap_or(&initial);
    let mut ids = MountIds::default();
    for part in text.split(';') {
        match part.split_once('=')? {
            ("uids", text) if ids.uids.is_identity() => ids.uids = lines(text, &own.uids)?,
            ("gids", text) if ids.gids.is_identity() => ids.gids = lines(text, &own.gids)?,
            _ => return None,
        }
    }
    // The kernel takes no mount with a map of one kind alone (EINVAL).
    (!ids.uids.is_identity() && !ids.gids.is_identity()).then_some(ids)
}

fn lines(text: &str, own: &IdMap) -> Option<IdMap> {
    let extent = |line: &str| {
        let relative = line.starts_with('@');
        let mut numbers = line.trim_start_matches('@').split('-').map(str::parse::<u32>);
        let (inside, second, count) = (numbers.next()?.ok()?, numbers.next()?.ok()?, numbers.next()?.ok()?);
        let outside = if relative {
            let line = own.line_of(inside)?;
            u32::try_from(i64::from(second) + i64::from(line.outside) - i64::from(line.inside)).ok()?
        } else {
            second
        };
        (numbers.next().is_none() && count > 0).then_some(Extent { inside, outside, count })
    };
    text.split('#').map(extent).collect::<Option<Vec<_>>>().map(IdMap::new)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shown(text: &str) -> String {
        let own = IdMap::new(vec![Extent { inside: 0, outside: 100_000, count: 10 }]);
        let namespace = UserNamespace { uids: own.clone(), gids: own };
        let Some(ids) = asked(text, Some(&namespace)) else { return "none".to_owned() };
        let lines =
            |map: &IdMap| map.extents().iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
        format!("{} | {}", lines(&ids.uids), lines(&ids.gids))
    }

    #[test]
    fn lines_are_absolute_or_of_the_container() {
        assert_eq!(shown("uids=405-0-1#1-1-100;gids=1001-0-1"), "405 0 1, 1 1 100 | 1001 0 1");
        assert_eq!(shown("uids=@5-0-1;gids=@9-7-1"), "5 100000 1 | 9 100007 1");
        for odd in [
            "",
            "uids",
            "uids=",
            "uids=1-2;gids=1-1-1",
            "uids=1-2-3-4;gids=1-1-1",
            "uids=1-2-0",
            "uids=a-1-1",
            "uids=@10-1-1;gids=1-1-1",
            "x=1-1-1;gids=1-1-1",
            "uids=1-1-1;gids=1-1-1;",
            "uids=1-1-1;gids=1-1-1;uids=2-2-1",
            "gids=5-6-7",
        ] {
            assert_eq!(shown(odd), "none", "{odd}");
        }
    }
}
