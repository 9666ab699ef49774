//! Recipes applied without any reader: what each command leaves, and what becomes unknown by name.

use std::sync::Arc;

use mivask_core::fact::{Fact, Provenance};
use mivask_core::identity::{DeclaredCapabilities, PlainIdentity};
use mivask_core::outcome::Errno;
use mivask_core::prepare;
use mivask_core::question::{ask, facts_at};
use mivask_core::recipe::{Base, BuildStage, BuildStep, Command, Instruction, Recipe};
use mivask_core::runtime::{Builder, Flavour, Runtime};
use mivask_core::scene::{Container, Scene, Who, Workload};
use mivask_core::settle::Outcome;
use mivask_core::stage::{Role, Stage};

fn from() -> Provenance {
    Provenance::rule("test")
}

fn step(instruction: Instruction, words: &str) -> BuildStep {
    BuildStep { instruction, words: Arc::from(words), from: from() }
}

fn run(command: Command) -> Instruction {
    Instruction::Run { command, begins: true, may_fail: false }
}

fn owned(words: &[&str]) -> Vec<String> {
    words.iter().map(|word| (*word).to_owned()).collect()
}

/// One instruction a line: `user`, `workdir`, `volume`, `end`, a command, `may` before one whose failure is forgiven, `then` before one that is chained to it, or `? path` for one no one understands.
fn steps(text: &str) -> Vec<BuildStep> {
    let read = |line: &str| {
        let words: Vec<&str> = line.split_whitespace().collect();
        let instruction = match words.as_slice() {
            ["user", name] => Instruction::User((*name).to_owned()),
            ["workdir", path] => Instruction::WorkingDirectory(path.as_bytes().to_vec()),
            ["volume", path] => Instruction::Volumes(vec![path.as_bytes().to_vec()]),
            ["end"] => Instruction::RunEnds,
            ["?", names @ ..] => {
                let names = names.iter().map(|name| name.as_bytes().to_vec()).collect();
                run(Command::Opaque { names })
            }
            ["may", words @ ..] => {
                Instruction::Run { command: Command::Plain(owned(words)), begins: true, may_fail: true }
            }
            ["then", words @ ..] => {
                Instruction::Run { command: Command::Plain(owned(words)), begins: false, may_fail: true }
            }
            words => run(Command::Plain(owned(words))),
        };
        step(instruction, line.trim())
    };
    text.lines().filter(|line| !matches!(line.trim(), "" | "classic")).map(read).collect()
}

fn container() -> Container {
    let plain = PlainIdentity {
        untold: None,
        user: None,
        groups: Vec::new(),
        filesystem_group: None,
        capabilities: DeclaredCapabilities::default(),
        effective: None,
        privileged: None,
        no_new_privileges: None,
        umask: None,
        user_namespace: None,
    };
    Container {
        role: Role::App,
        image: Some(Fact::new("built".to_owned(), from())),
        who: Who::Plain(Box::new(plain)),
        mounts: Vec::new(),
        working_directory: None,
        program: mivask_core::scene::Program::default(),
        ..Container::new("c", from())
    }
}

/// A container of an image that is built on `base` so, under `runtime`.
fn built(base: Base, runtime: Runtime, text: &str) -> Stage {
    let stages = vec![BuildStage { base, steps: steps(text), from: from() }];
    let workload = Workload {
        name: "w".to_owned(),
        kind: "test".to_owned(),
        flavour: Flavour::Compose,
        namespace: String::new(),
        own_users: None,
        security: mivask_core::identity::PodSecurity::default(),
        volumes: Vec::new(),
        containers: vec![container()],
        service_account_token: None,
        from: from(),
    };
    let scene = Scene {
        workloads: vec![workload.into()],
        builds: [("built".to_owned(), Recipe { stages, file: None })].into(),
        runtime: Some(runtime),
        builder: text.starts_with("classic\n").then_some(Builder::Classic),
        ..Scene::default()
    };
    prepare::stage(&scene)
}

fn at(stage: &Stage, path: &str) -> String {
    let actor = &stage.actors[0];
    if let Some(refusal) = actor.refusal() {
        return refusal.reason.clone();
    }
    match facts_at(stage, actor, path.as_bytes()) {
        Some(facts) => match (facts.uid, facts.gid, facts.mode) {
            (Some(uid), Some(gid), Some(mode)) => format!("{uid}:{gid} {mode}"),
            _ => "not known".to_owned(),
        },
        None => "nothing".to_owned(),
    }
}

macro_rules! left {
    ($($name:ident: $text:literal => $($path:literal $expected:literal),+;)+) => {$(
        #[test]
        fn $name() {
            let stage = built(Base::Scratch, Runtime::Docker, $text);
            $(assert_eq!(at(&stage, $path), $expected, "{}", $path);)+
        }
    )+};
}

left! {
    directories: "mkdir /a\nmkdir -p /a/b/c /d" => "/a" "0:0 0755", "/a/b/c" "0:0 0755", "/d" "0:0 0755";
    verbose_and_long_options: "mkdir --parents --verbose --mode=0700 /a/b" => "/a" "0:0 0755", "/a/b" "0:0 0700";
    files: "touch /a\nchmod 4711 /a\nchown 5:6 /a" => "/a" "5:6 0711";
    set_group_id_without_execute_stays: "touch /a\nchmod 2644 /a\nchown 5 /a" => "/a" "5:0 2644";
    symbolic_modes: "mkdir /a\nchmod g+ws,o= /a\nchmod -x /a" => "/a" "0:0 2660";
    groups_alone: "mkdir /a\nchgrp 7 /a\nchown :8 /a" => "/a" "0:8 0755";
    recursively: "mkdir -p /a/b\ntouch /a/b/f\nchown -R 5:6 /a\nchmod -R go-rwx /a" => "/a/b" "5:6 0700", "/a/b/f" "5:6 0600";
    from_where_a_command_went: "mkdir /a\ncd /a\nmkdir b\nend\nmkdir c" => "/a/b" "0:0 0755", "/c" "0:0 0755";
    from_the_working_directory: "workdir /w\nworkdir x\nmkdir y" => "/w/x/y" "0:0 0755";
    new_accounts: "addgroup -g 7200 tides\nadduser -D -H -u 7101 -G tides gauge\nmkdir /a\nchown gauge: /a" => "/a" "7101:7200 0755";
    renumbered_accounts: "useradd -M -u 7101 -U gauge\nusermod -u 7102 gauge\nmkdir /a\nchown gauge /a" => "/a" "7102:0 0755";
    a_home_directory: "adduser -D -u 7101 gauge\nchmod 0750 /home/gauge" => "/home/gauge" "7101:7101 0750", "/home" "0:0 0755";
    no_home_directory: "useradd -M -u 7101 gauge" => "/home" "nothing";
    a_user_without_rights: "mkdir -m 700 /a\nuser 5\nmkdir /a/b" =>
        "/" "image built cannot be built: mkdir /a/b: user 5 is refused: EACCES (permission denied)";
    a_file_in_the_way: "touch /a\nworkdir /a/b" => "/" "image built cannot be built: workdir /a/b: ENOTDIR";
    twice_the_same: "mkdir /a\nmkdir /a" => "/" "image built cannot be built: mkdir /a: EEXIST";
    force_forgives: "chown -f 5 /none\nmkdir /a" => "/a" "0:0 0755";
    nothing_to_change: "chmod 0700 /none" => "/" "image built cannot be built: chmod 0700 /none: ENOENT";
    modes_that_are_none: "mkdir /a\nchmod banana /a" => "/a" "not known";
    unknown_and_known_again: "mkdir /a /b\n? /a\nchown 5:6 /a\nchmod 0750 /a" => "/a" "5:6 0750", "/b" "0:0 0755";
    named_before_it_is_made: "mkdir /a\n? /a/b\nmkdir -p /a/b/c /a/d\nchown 5:6 /a/b/c\nchmod 700 /a/b/c" =>
        "/a/b" "not known", "/a/b/c" "5:6 0700", "/a/d" "0:0 0755";
    forgiven_failure: "mkdir /a\nmay mkdir /a\nend\nmkdir /b\nchmod 700 /b" => "/a" "0:0 0755", "/b" "0:0 0700";
    what_hangs_on_it_does_not_run: "mkdir /a /b\nmay mkdir /a\nthen chmod 700 /b" => "/b" "0:0 0755";
    what_comes_behind_runs_anyway: "mkdir /a\nmay mkdir /a\nmkdir /b" => "/b" "0:0 0755";
    success_needs_no_forgiveness: "may mkdir /a\nmay chown 5:6 /a" => "/a" "5:6 0755";
    what_happens_below_a_volume_is_kept: "mkdir -m 700 /v\nvolume /v\nchown 5:6 /v" => "/v" "5:6 0700";
    without_buildkit_it_is_lost: "classic\nmkdir -m 700 /v\nvolume /v\nchown 5:6 /v\ntouch /v/f /g\nend\nchmod 600 /g" => "/v" "0:0 0700", "/v/f" "nothing", "/g" "0:0 0600";
    before_the_volume_it_is_kept: "mkdir /v\nchown 5:6 /v\nend\nvolume /v" => "/v" "5:6 0755";
    unknown_and_half_known: "mkdir /a\n? /a\nchown 5:6 /a" => "/a" "not known";
}

#[test]
fn an_opaque_command_leaves_its_name() {
    let stage = built(Base::Scratch, Runtime::Docker, "mkdir /a /b\n? /a");
    let ask = |act: &str| ask(&stage, &mivask_core::act::parse_act(act).expect(act)).expect(act);
    let answer = ask("c lists /a");
    assert!(answer.depends_on.is_empty() || answer.depends_on[0].fact.contains("what becomes of /a in ? /a"));
    assert_eq!(ask("c reads /new").outcome, Outcome::Depends);
    assert_eq!(ask("c reads /b/new").outcome, Outcome::Denied(Some(Errno::ENOENT)));
    assert!(
        ask("c lists /b").assumptions.iter().any(|text| text.contains("? /a changes and removes nothing"))
    );
}

#[test]
fn an_image_built_on_itself_comes_from_elsewhere() {
    let stage =
        built(Base::Image("built".to_owned()), Runtime::Podman, "mkdir /a\nchown 5:6 /a\nchmod 0700 /a");
    assert_eq!(at(&stage, "/a"), "5:6 0700");
    assert_eq!(at(&stage, "/nowhere"), "nothing");
}

#[test]
fn what_a_command_needs_was_there_before() {
    let base = || Base::Image("elsewhere".to_owned());
    let stage = built(base(), Runtime::Docker, "chown -R 5:6 /opt/x\nmkdir -p /opt/x/y /opt/z");
    assert_eq!(at(&stage, "/opt/x/y"), "not known");
    assert_eq!(at(&stage, "/opt/z"), "0:0 0755");
}

#[test]
fn a_volume_of_the_image_is_mounted() {
    let stage = built(Base::Scratch, Runtime::Docker, "mkdir -m 0700 /v\nchown 5:6 /v\nvolume /v");
    assert_eq!(at(&stage, "/v"), "5:6 0700");
    assert!(stage.actors[0].mounts.iter().any(|(_, mount)| &*mount.facts.at == b"/v"));
}
