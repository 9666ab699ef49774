//! How fast decisions are: `cargo bench -p mivask-core`.

use std::hint::black_box;
use std::sync::Arc;

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use mivask_core::acl::Acl;
use mivask_core::act::{Verb, parse_act};
use mivask_core::change::Changes;
use mivask_core::decide::decide;
use mivask_core::fact::{Fact, Provenance};
use mivask_core::handoff::handoffs;
use mivask_core::identity::{PlainIdentity, PodSecurity};
use mivask_core::mode::Mode;
use mivask_core::mount::MountFlags;
use mivask_core::personality::Personality;
use mivask_core::prepare;
use mivask_core::question::{ask, sweep};
use mivask_core::remedy::{Situation, remedies};
use mivask_core::scene::{
    Container, Program, Scene, Volume, VolumeFacts, VolumeKind, VolumeMount, Who, Workload,
};
use mivask_core::stage::{Role, Stage};
use mivask_core::tree::{Content, Entry, InodeId, Tree};
use mivask_core::witness::Unwatched;

/// Directories above each file.
const DEPTH: usize = 6;

fn fact<T>(value: T) -> Fact<T> {
    Fact::new(value, Provenance::rule("bench"))
}

/// A quarter of all inodes carries an ACL.
fn with_acl(mut entry: Entry, number: usize, mode: u16) -> Entry {
    if number.is_multiple_of(4) {
        let text = format!("user:{}:rwx,group:7300:r-x", 7300 + number % 5);
        entry.extended.access = Acl::parse(&text, Mode::new(mode)).ok();
    }
    entry
}

/// `files` files below chains of [`DEPTH`] directories, 200 to a chain; the paths of some.
fn tree(files: usize) -> (Tree, Vec<Vec<u8>>) {
    let mut tree = Tree::new(Entry::directory(0, 0, 0o755), Provenance::rule("bench"));
    let mut paths = Vec::new();
    let mut number = 0;
    for chain in 0..files.div_ceil(200) {
        let mut dir = Tree::ROOT;
        let mut path = String::new();
        for level in 0..DEPTH {
            let name = format!("d{level}-{}", if level + 1 == DEPTH { chain } else { chain % 8 });
            number += 1;
            let entry = with_acl(Entry::directory(7101, 7200, 0o755), number, 0o755);
            dir = child(&mut tree, dir, &name, entry);
            path = format!("{path}/{name}");
        }
        for file in 0..200 {
            number += 1;
            let mut entry = with_acl(Entry::file(7101, 7200, 0o644), number, 0o644);
            entry.content = Content::Data;
            let name = format!("f{file:04}");
            child(&mut tree, dir, &name, entry);
            if file == 100 {
                paths.push(format!("{path}/{name}").into_bytes());
            }
        }
    }
    (tree, paths)
}

fn child(tree: &mut Tree, dir: InodeId, name: &str, entry: Entry) -> InodeId {
    match tree.lookup(dir, name.as_bytes()) {
        Some(known) => known,
        None => tree.add(dir, name.as_bytes(), entry).expect("the name is free"),
    }
}

/// One actor, 7102:7200, whose root is the tree.
fn stage(tree: Tree) -> Stage {
    prepare::stage(&scene(tree, &["gauge"], "/"))
}

/// Actors of these names, 7102:7200, 7103:7200 and so on, who mount the tree at `at`.
fn scene(tree: Tree, names: &[&str], at: &str) -> Scene {
    let facts = VolumeFacts {
        labels: Default::default(),
        tree: Some(Arc::new(tree)),
        filesystem: Some(fact("ext4".to_owned())),
        personality: Personality::default(),
        flags: MountFlags::default(),
        read_only_filesystem: false,
        group_ownership: None,
        from: Provenance::rule("bench"),
    };
    let mount = VolumeMount::new(fact("main".to_owned()), fact(at.as_bytes().to_vec()));
    let container = |number: usize, name: &str| Container {
        role: Role::App,
        image: None,
        who: Who::Plain(Box::new(PlainIdentity {
            user: Some(fact(format!("{}:7200", 7102 + number))),
            ..PlainIdentity::default()
        })),
        mounts: vec![mount.clone()],
        working_directory: None,
        program: Program::default(),
        ..Container::new(name, Provenance::rule("bench"))
    };
    let workload = Workload {
        flavour: mivask_core::runtime::Flavour::Scene,
        namespace: String::new(),
        own_users: None,
        name: "scene".to_owned(),
        kind: "scene".to_owned(),
        security: PodSecurity::default(),
        volumes: vec![Volume { name: fact("main".to_owned()), kind: VolumeKind::Stored("main".to_owned()) }],
        containers: names.iter().enumerate().map(|(number, name)| container(number, name)).collect(),
        service_account_token: None,
        from: Provenance::rule("bench"),
    };
    let mut scene = Scene { workloads: vec![workload.into()], ..Scene::default() };
    scene.volumes.insert("main".to_owned(), facts);
    scene
}

fn twelve_share_a_volume(criterion: &mut Criterion) {
    let names = ["a", "b", "c", "d", "e", "f", "g", "h", "i", "j", "k", "l"];
    let tree = Tree::new(Entry::directory(0, 7200, 0o2775), Provenance::rule("bench"));
    let stage = prepare::stage(&scene(tree, &names, "/data"));
    criterion.bench_function("hand-offs between twelve actors", |bencher| {
        bencher.iter(|| {
            let found = handoffs(black_box(&stage), &[]);
            assert_eq!(found[0].creations.len(), 12);
        });
    });
}

fn one_remedy(criterion: &mut Criterion) {
    let (tree, paths) = tree(2_000);
    let scene = scene(tree, &["gauge", "press"], "/data");
    let sentence = format!("gauge writes /data{}", String::from_utf8_lossy(&paths[3]));
    let act = parse_act(&sentence).expect("an act");
    criterion.bench_function("remedies on two thousand files", |bencher| {
        bencher.iter(|| {
            let found = remedies(&Situation::new(&scene, &Changes::new(Vec::new())), &act)
                .expect("the actor is known");
            assert!(!black_box(found).remedies.is_empty());
        });
    });
}

fn full_walks(criterion: &mut Criterion) {
    let (tree, paths) = tree(20_000);
    let stage = stage(tree);
    let actor = &stage.actors[0];
    let view = stage.view(actor, &actor.credentials[0], "gauge");
    let verbs = [Verb::Reads, Verb::Writes, Verb::Deletes];
    let mut group = criterion.benchmark_group("decisions");
    group.throughput(Throughput::Elements((paths.len() * verbs.len()) as u64));
    group.bench_function("full walk, depth 6, ACLs on a quarter", |bencher| {
        bencher.iter(|| {
            let mut unwatched = Unwatched::default();
            for path in &paths {
                for verb in &verbs {
                    let _ = black_box(decide(&view, verb, path, &mut unwatched));
                }
            }
            assert!(!unwatched.met_unknown);
        });
    });
    group.finish();
}

fn one_act_with_its_trace(criterion: &mut Criterion) {
    let (tree, paths) = tree(2_000);
    let stage = stage(tree);
    let sentence = format!("gauge writes {}", String::from_utf8_lossy(&paths[3]));
    let act = parse_act(&sentence).expect("an act");
    criterion.bench_function("one act with its trace", |bencher| {
        bencher.iter(|| black_box(ask(&stage, &act).expect("the actor is known")));
    });
}

fn a_million_inodes(criterion: &mut Criterion) {
    let (tree, _) = tree(1_000_000);
    let inodes = tree.len();
    let stage = stage(tree);
    let mut group = criterion.benchmark_group("matrix");
    group.sample_size(10).throughput(Throughput::Elements(inodes as u64));
    group.bench_function("a million inodes, seven columns", |bencher| {
        bencher.iter(|| {
            let mut rows = 0;
            sweep(&stage, &stage.actors[0], b"/", |swept| {
                black_box(swept);
                rows += 1;
            })
            .expect("the actor is settled");
            assert_eq!(rows + 1, inodes);
        });
    });
    group.finish();
}

criterion_group!(
    benches,
    full_walks,
    one_act_with_its_trace,
    a_million_inodes,
    twelve_share_a_volume,
    one_remedy
);
criterion_main!(benches);
