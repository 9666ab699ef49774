//! The page: what the template asks for.

use askama::Template;
use base64::Engine;
use base64::prelude::BASE64_STANDARD as STANDARD;
use mivask_core::mount::MountOrigin;
use mivask_core::names::AccountNames;
use mivask_core::question::{Column, MountRow};
use mivask_core::stage::{Actor, Stage};
use sha2::{Digest, Sha256};

use super::shared::HandoffView;
use super::view::{ActorView, DeniedView, ExpectationView, FindingView, MatrixView, MountsView};
use super::{Open, Report, named};
use crate::figure;
use crate::safe::safe;
use crate::upheld::Counts;

const SCRIPT: &str = include_str!("../../templates/report.js");

#[derive(Template)]
#[template(path = "report.html")]
pub(super) struct Page<'a> {
    /// Our own style and script: nothing of the input is in them.
    style: String,
    script: &'static str,
    /// SHA-256 of the script in base64: the page runs no other (Content Security Policy Level 3, section 2.3.1).
    script_digest: String,
    version: &'static str,
    title: String,
    input: String,
    changes: Vec<String>,
    tiles: Vec<Tile>,
    remarks: Vec<RemarkView>,
    actors: Vec<ActorView>,
    mounts_figure: String,
    stage: &'a Stage,
    rows: fn(&Stage, &Actor) -> Vec<MountRow>,
    columns: Vec<&'static str>,
    matrix: Vec<MatrixView>,
    row_count: usize,
    denied: Vec<DeniedView>,
    more_denied: usize,
    open: Vec<Open>,
    handoff_figure: String,
    handoffs: Vec<HandoffView>,
    findings: Vec<FindingView>,
    expectations: Vec<ExpectationView>,
    assumptions: Vec<String>,
    names: Option<&'a AccountNames>,
}

/// A number at the top, which leads to its section.
struct Tile {
    number: String,
    label: String,
    target: &'static str,
    class: &'static str,
}

struct RemarkView {
    message: String,
    from: String,
    help: Option<String>,
}

impl<'a> Page<'a> {
    pub(super) fn new(report: &Report<'a>) -> Self {
        let denied = report.denied.iter().enumerate();
        let denied: Vec<DeniedView> =
            denied.map(|(at, one)| DeniedView::new(at + 1, one, report.stage)).collect();
        let mut actors: Vec<ActorView> = report.stage.actors.iter().map(ActorView::new).collect();
        let mut matrix = MatrixView::all(&report.access, &report.denied);
        let mut findings: Vec<FindingView> = report.findings.iter().map(FindingView::new).collect();
        if let Some(names) = report.names {
            named::actors(&mut actors, names);
            named::matrix(&mut matrix, names);
            named::findings(&mut findings, names);
        }
        let style =
            [figure::COLOURS, DARK, include_str!("../../templates/report.css"), figure::STYLE].concat();
        Self {
            style,
            script: SCRIPT,
            script_digest: STANDARD.encode(Sha256::digest(SCRIPT)),
            version: env!("CARGO_PKG_VERSION"),
            title: safe(&report.title),
            input: safe(&report.input),
            changes: report.changes.iter().map(|change| safe(change)).collect(),
            tiles: tiles(report),
            remarks: report
                .remarks
                .iter()
                .map(|remark| RemarkView {
                    message: safe(&remark.message),
                    from: safe(&remark.from.to_string()),
                    help: remark.help.as_ref().map(|help| safe(help)),
                })
                .collect(),
            actors,
            mounts_figure: figure::mounts(&asked_for(report)).inline(),
            stage: report.stage,
            rows: report.mounts,
            columns: Column::ALL.map(Column::word).to_vec(),
            matrix,
            row_count: report.access.len(),
            denied,
            more_denied: report.more_denied,
            open: report
                .open
                .iter()
                .map(|one| Open {
                    fact: safe(&one.fact),
                    settle: safe(&one.settle),
                    act: safe(&one.act),
                    answers: one.answers,
                })
                .collect(),
            handoff_figure: figure::handoffs(&report.handoffs).inline(),
            handoffs: report.handoffs.iter().map(HandoffView::new).collect(),
            findings,
            names: report.names,
            expectations: ExpectationView::all(&report.upheld),
            assumptions: report.assumptions.iter().map(|text| safe(text)).collect(),
        }
    }

    /// What each actor has mounted, one after the other.
    fn mounts(&self) -> impl Iterator<Item = MountsView> {
        self.stage.actors.iter().filter_map(|actor| {
            let mut view = MountsView::new(&(self.rows)(self.stage, actor))?;
            if let Some(names) = self.names {
                named::mounts(&mut view, names);
            }
            Some(view)
        })
    }
}

/// The mounts that someone asked for.
fn asked_for(report: &Report<'_>) -> Vec<MountRow> {
    let rows = report.stage.actors.iter().flat_map(|actor| (report.mounts)(report.stage, actor));
    rows.filter(|row| row.origin == MountOrigin::Declared).collect()
}

/// The same colours for those who choose by the button.
const DARK: &str = include_str!("../../templates/chosen.css");

fn tiles(report: &Report<'_>) -> Vec<Tile> {
    let tile = |count: usize, one: &str, more: &str, target, bad: bool| Tile {
        number: count.to_string(),
        label: if count == 1 { one.to_owned() } else { more.to_owned() },
        target,
        class: if bad && count > 0 { "bad" } else { "calm" },
    };
    let open = report.findings.iter().filter(|finding| finding.accepted.is_none()).count();
    let counts = report.upheld.counts();
    let mut tiles = vec![
        tile(report.stage.actors.len(), "actor", "actors", "actors", false),
        tile(report.denied.len() + report.more_denied, "reason to deny", "reasons to deny", "denied", false),
        tile(open, "exposure", "exposures", "exposure", true),
        expected(counts),
        tile(report.assumptions.len(), "assumption", "assumptions", "assumed", false),
    ];
    if !report.open.is_empty() {
        tiles.push(tile(report.open.len(), "missing fact", "missing facts", "open", true));
    }
    if !report.remarks.is_empty() {
        tiles.push(tile(report.remarks.len(), "remark", "remarks", "remarks", true));
    }
    tiles
}

fn expected(counts: Counts) -> Tile {
    let (number, label) = match counts.all {
        0 => ("0".to_owned(), "expectations"),
        all => (format!("{} of {all}", counts.holds), "expectations hold"),
    };
    let class = if counts.broken + counts.depends > 0 { "bad" } else { "calm" };
    Tile { number, label: label.to_owned(), target: "expected", class }
}
