//! The order of remedies: `order.md` says which an engineer would try before which, and the documentation has the table of the
//! reasons.

use mivask_core::remedy::{Mark, Rung};

use super::{TABLE, found};
use crate::support::scene;

const ORDERS: &str = include_str!("order.md");
const DOCUMENT: &str = include_str!("../../../../../docs/remedies.md");

fn cells(line: &str) -> Option<Vec<&str>> {
    let line = line.strip_prefix("| ")?.strip_suffix(" |")?;
    let cells: Vec<&str> = line.split(" | ").map(str::trim).collect();
    (!cells[0].starts_with("---") && cells[0] != "scene").then_some(cells)
}

#[test]
fn remedies_come_in_the_order_that_an_engineer_would_try_them() {
    let rows: Vec<Vec<&str>> = ORDERS.lines().filter_map(cells).collect();
    for row in &rows {
        let [name, act, order, why] = row.as_slice() else { panic!("{row:?}") };
        assert!(why.len() > 10, "a reason for {act}");
        let act = act.trim_matches('`');
        let found = found(&scene(&format!("tests/agreement/remedies/{name}.scene.yaml")), act);
        let told: Vec<String> = found
            .remedies
            .iter()
            .map(|remedy| {
                let changes: Vec<String> = remedy.steps.iter().map(|step| step.change.to_string()).collect();
                changes.join("; ")
            })
            .collect();
        let place = |wanted: &str| {
            let at = told.iter().position(|one| one == wanted);
            at.unwrap_or_else(|| panic!("{act}: {wanted} is not among {told:#?}"))
        };
        let places: Vec<usize> = order.split(" > ").map(|one| place(one.trim_matches('`'))).collect();
        assert!(places.is_sorted(), "{act}: {places:?} of {told:#?}");
        assert_eq!(places.first(), Some(&0), "{act}: {told:#?}");
    }
    assert!(rows.len() >= 12, "{}", rows.len());
}

#[test]
fn what_is_dangerous_is_last_wherever_it_is_found() {
    let mut dangerous = 0;
    for line in TABLE.lines() {
        let Some(row) = cells(line).filter(|row| row.len() == 5) else { continue };
        let act = row[1].trim_matches('`');
        let found = found(&scene(&format!("tests/agreement/remedies/{}.scene.yaml", row[0])), act);
        let worst: Vec<Rung> = found.remedies.iter().map(|remedy| remedy.rank.worst()).collect();
        assert!(worst.is_sorted(), "{act}: {worst:?}");
        dangerous += worst.iter().filter(|rung| **rung >= Rung::Privileged).count();
    }
    assert!(dangerous > 30, "{dangerous}");
}

#[test]
fn the_documentation_has_every_reason_of_the_order() {
    let told: Vec<Vec<&str>> = DOCUMENT
        .lines()
        .filter_map(cells)
        .filter(|cells| cells.len() == 3 && cells[0].starts_with('`'))
        .collect();
    let known: Vec<Vec<String>> = Mark::ALL
        .iter()
        .map(|mark| vec![format!("`{}`", mark.name()), mark.rung().word().to_owned(), mark.why().to_owned()])
        .collect();
    let told: Vec<&Vec<&str>> =
        told.iter().filter(|row| known.iter().any(|mark| mark[0] == row[0])).collect();
    assert_eq!(told.len(), known.len(), "docs/remedies.md lacks a reason");
    for (told, known) in told.into_iter().zip(&known) {
        assert_eq!(told, known);
    }
}
