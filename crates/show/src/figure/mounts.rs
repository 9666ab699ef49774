//! Volumes on the left, actors on the right, a line for each mount.

use std::collections::BTreeMap;

use mivask_core::act::quoted;
use mivask_core::mount::{MountFlags, MountOrigin};
use mivask_core::question::MountRow;

use super::Figure;
use super::pen::{COLUMN, Pen, cut, folded};

const WIDTH: f64 = 860.0;
const BOX: f64 = 330.0;
const RIGHT: f64 = WIDTH - BOX - 14.0;
const ROW: f64 = 19.0;

/// Columns that fit into a box.
const COLUMNS: usize = 42;

pub(super) fn draw(rows: &[MountRow]) -> Figure {
    let mut pen = Pen::new();
    let shown: Vec<&MountRow> = rows.iter().filter(|row| row.origin == MountOrigin::Declared).collect();
    let mut places: BTreeMap<&str, f64> = BTreeMap::new();
    let mut left = 40.0;
    pen.text((14.0, 24.0), "head", "volumes, as their root is found");
    pen.text((RIGHT, 24.0), "head", "actors, and where they see them");
    let mut sources: Vec<&str> = Vec::new();
    for row in &shown {
        if !sources.contains(&&*row.source) {
            sources.push(&row.source);
        }
    }
    for source in sources {
        let of_it: Vec<&&MountRow> = shown.iter().filter(|row| *row.source == *source).collect();
        let height = volume(&mut pen, left, source, &of_it);
        places.insert(source, left + height / 2.0);
        left += height + 12.0;
    }
    let mut right = 40.0;
    for group in shown.chunk_by(|a, b| a.actor == b.actor) {
        right = actor(&mut pen, right, group, &places);
    }
    pen.done((WIDTH, left.max(right) + 8.0), "What is mounted where")
}

/// A volume; gives its height.
fn volume(pen: &mut Pen, y: f64, source: &str, rows: &[&&MountRow]) -> f64 {
    let mut roots: Vec<String> = Vec::new();
    for row in rows {
        let root = match (row.root, row.prepared_from) {
            (Some(root), Some(before)) => format!(
                "{}:{} {}, before: {}:{} {}",
                root.uid, root.gid, root.mode, before.uid, before.gid, before.mode
            ),
            (Some(root), None) => format!("{}:{} {}", root.uid, root.gid, root.mode),
            (None, _) => "not known".to_owned(),
        };
        if !roots.contains(&root) {
            roots.push(root);
        }
    }
    let names = folded(source, COLUMNS);
    let height = 12.0 + ROW * count(names.len() + roots.len());
    pen.bar((14.0, y), (BOX, height), "box volume");
    let mut line = y + 18.0;
    for name in names {
        pen.text((24.0, line), "path", &name);
        line += ROW;
    }
    for root in roots {
        pen.text((24.0, line), "fact", &cut(&root, COLUMNS));
        line += ROW;
    }
    height
}

/// An actor with its mounts; gives where the next begins.
fn actor(pen: &mut Pen, y: f64, rows: &[&MountRow], places: &BTreeMap<&str, f64>) -> f64 {
    let Some(first) = rows.first() else { return y };
    let height = 30.0 + ROW * count(rows.len());
    pen.bar((RIGHT, y), (BOX, height), "box actor");
    pen.text((RIGHT + 10.0, y + 18.0), "act", &cut(&first.actor, COLUMNS));
    for (at, row) in rows.iter().enumerate() {
        let line = y + 20.0 + ROW * count(at + 1);
        let read_only = row.flags.has(MountFlags::READ_ONLY);
        let flags = row.flags.to_string();
        let room = COLUMNS.saturating_sub(flags.chars().count() + 2);
        pen.text((RIGHT + 10.0, line), "path", &cut(&quoted(&row.at), room));
        let flags_at = RIGHT + BOX - 10.0 - COLUMN * count(flags.chars().count());
        pen.text((flags_at, line), if read_only { "from closed" } else { "from" }, &flags);
        if let Some(from) = places.get(&*row.source) {
            let class = if read_only { "tie closed" } else { "tie" };
            pen.curve((14.0 + BOX, *from), (RIGHT, line - 4.0), class);
        }
    }
    y + height + 12.0
}

fn count(count: usize) -> f64 {
    f64::from(u16::try_from(count).unwrap_or(u16::MAX))
}
