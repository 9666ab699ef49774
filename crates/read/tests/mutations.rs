//! Inputs with random damage: an answer or a mistake with a place, never a panic.

use std::io;
use std::path::{Path, PathBuf};

use fastrand::Rng;
use mivask_core::change::parse_change;
use mivask_core::prepare;
use mivask_core::question::{access, default_paths, imprints, mounts};
use mivask_core::recipe::BuildFile;
use mivask_read::diagnostic::Diagnostics;
use mivask_read::input::{FileReader, Origin, read_input};
use mivask_read::patch::build::{Copied, Edit, edited};
use mivask_read::patch::{merge_patch, patched};

const SCENE: &str = include_str!("../../../demo/tides.scene.yaml");
const STATION: &str = include_str!("../../../demo/station.yaml");
const EXPECTATIONS: &str = include_str!("../../../demo/expectations.acts");
const PASSWD: &str = include_str!("../../../demo/press/passwd");
const GROUP: &str = include_str!("../../../demo/press/group");

const PROJECT: &str = "services:\n  c: { build: . }\n";
const BUILD: &str = r#"# escape=\
ARG TAG=1
FROM scratch AS base
ENV DIR=/data "NAME=a b"
RUN addgroup -g 7200 tides && adduser -D -u 7101 -G tides gauge; umask 027
RUN mkdir -p ${DIR}/in /srv && chown -R gauge:tides $DIR && \
    # why
    chmod u=rwX,g+s,o= /srv && touch '/srv/a b' | cat > /tmp/x
WORKDIR in
USER gauge:${GROUP:-tides}
COPY --chown=7101 --chmod=0750 . /srv/
RUN <<END
mkdir d
END
FROM base
COPY --from=base /srv /other
VOLUME ["/data"]
"#;

/// The demo and a build, damaged.
struct Damaged {
    scene: Vec<u8>,
    station: Vec<u8>,
    build: Vec<u8>,
}

impl FileReader for Damaged {
    fn read(&self, path: &Path) -> io::Result<Vec<u8>> {
        match path.file_name().and_then(|name| name.to_str()) {
            Some("scene") => Ok(self.scene.clone()),
            Some("station.yaml") => Ok(self.station.clone()),
            Some("project") => Ok(PROJECT.into()),
            Some("Dockerfile") => Ok(self.build.clone()),
            Some("passwd") => Ok(PASSWD.into()),
            Some("group") => Ok(GROUP.into()),
            Some("expectations.acts") => Ok(EXPECTATIONS.into()),
            _ => Err(io::ErrorKind::NotFound.into()),
        }
    }

    fn folder(&self, _: &Path) -> io::Result<Option<Vec<PathBuf>>> {
        Ok(None)
    }

    fn standard_input(&self) -> io::Result<Vec<u8>> {
        Ok(Vec::new())
    }
}

/// Bytes that mean something to YAML, paths, modes and ids, and some that mean nothing to anyone.
const SPICE: [&[u8]; 24] = [
    b":",
    b"-",
    b"{",
    b"}",
    b"[",
    b"]",
    b"&a ",
    b"*a ",
    b"<<: ",
    b"!!str ",
    b"'",
    b"\"",
    b"\n",
    b"\t",
    b"#",
    b"|\n",
    b"/",
    b"..",
    b"\0",
    b"\xff",
    b"99999999999",
    b"-1",
    b"0x",
    "\u{202e}é".as_bytes(),
];

fn damage(text: &str, rng: &mut Rng) -> Vec<u8> {
    let mut bytes = text.as_bytes().to_vec();
    for _ in 0..rng.usize(1..4) {
        let at = rng.usize(..bytes.len());
        let end = (at + rng.usize(..12)).min(bytes.len());
        match rng.usize(..4) {
            0 => drop(bytes.drain(at..end)),
            1 => bytes[at] = rng.u8(..),
            2 => {
                let copy = bytes[at..end].to_vec();
                let to = rng.usize(..bytes.len());
                bytes.splice(to..to, copy);
            }
            _ => drop(bytes.splice(at..at, SPICE[rng.usize(..SPICE.len())].iter().copied())),
        }
    }
    bytes
}

/// Whether the input can be used; every diagnostic has to lie within its text, and every question has to end.
fn usable(path: &str, files: &Damaged) -> bool {
    let mut diagnostics = Diagnostics::default();
    let read = read_input(&Origin::of(Path::new(path)), files, &mut diagnostics);
    for diagnostic in diagnostics.iter() {
        let text = &diagnostic.source.text;
        assert!(
            diagnostic.span.start <= diagnostic.span.end && diagnostic.span.end <= text.len(),
            "{:?}",
            diagnostic.span
        );
        assert!(text.is_char_boundary(diagnostic.span.start) && text.is_char_boundary(diagnostic.span.end));
    }
    let Some(scene) = read.ok().filter(|_| !diagnostics.has_errors()) else { return false };
    let stage = prepare::stage(&scene);
    for actor in stage.actors.iter() {
        drop(mounts(&stage, actor));
        drop(imprints(&stage, actor, &[]));
        default_paths(&stage, actor).iter().for_each(|path| drop(access(&stage, actor, path)));
    }
    true
}

#[test]
fn damage_is_a_mistake_or_an_answer() {
    let mut rng = Rng::with_seed(7);
    let mut answered = 0;
    for round in 0..4_000 {
        let (scene, station) = if round % 2 == 0 {
            (damage(SCENE, &mut rng), STATION.into())
        } else {
            (SCENE.into(), damage(STATION, &mut rng))
        };
        answered += usize::from(usable("scene", &Damaged { scene, station, build: Vec::new() }));
    }
    assert!((200..3_800).contains(&answered), "{answered} usable: the damage is one-sided");
}

#[test]
fn damaged_build_files_too() {
    let mut rng = Rng::with_seed(8);
    let mut answered = 0;
    for _ in 0..4_000 {
        let build = damage(BUILD, &mut rng);
        answered +=
            usize::from(usable("project", &Damaged { scene: Vec::new(), station: Vec::new(), build }));
    }
    assert!((200..3_800).contains(&answered), "{answered} usable: the damage is one-sided");
}

#[test]
fn damaged_texts_are_patched_or_left_alone() {
    let mut rng = Rng::with_seed(9);
    let file = BuildFile { path: "Dockerfile".to_owned(), context: String::new(), ..BuildFile::default() };
    let commands = ["chown 1 /x".to_owned()];
    let copied = Copied { alone: true, owner: Some("1:2".to_owned()), mode: Some("640".to_owned()) };
    let (mut tried, mut merged, mut written) = (0, 0, 0);
    for round in 0..800 {
        let text = String::from_utf8_lossy(&damage(BUILD, &mut rng)).into_owned();
        let files = Damaged { scene: Vec::new(), station: Vec::new(), build: text.clone().into_bytes() };
        let line = Some(1 + round % 20);
        let edit = Edit { line, copied: Some(copied.clone()), commands: &commands, user: Some("app") };
        // Each candidate is read, and none is taken.
        let none = edited(&text, &file, &edit, &files, &mut |_| {
            tried += 1;
            false
        });
        assert!(none.is_none());
        let station = String::from_utf8_lossy(&damage(STATION, &mut rng)).into_owned();
        merged += usize::from(merge_patch(STATION, &station).is_ok());
        drop(merge_patch(&station, STATION));
        let files = Damaged { scene: SCENE.into(), station: station.clone().into_bytes(), build: Vec::new() };
        let mut diagnostics = Diagnostics::default();
        let Ok(scene) = read_input(&Origin::of(Path::new("scene")), &files, &mut diagnostics) else {
            continue;
        };
        let change = parse_change("gauge joins 5").expect("a change");
        let new = scene.workloads.first().and_then(|workload| patched(&station, workload, &change).ok());
        written += usize::from(new.is_some_and(|new| merge_patch(&station, &new).is_ok()));
    }
    assert!(tried > 400 && merged > 40 && written > 40, "{tried} {merged} {written}");
}
