//! Random questions, asked of both.

use std::collections::BTreeSet;
use std::fmt::Write;

use fastrand::Rng;
use mivask_label::{Behavior, Cache, Class, Context, Policy, Reason};

use super::judge::Judge;
use super::policies::Found;

/// What was compared.
#[derive(Default)]
pub(crate) struct Totals {
    pub(crate) vectors: usize,
    pub(crate) some_allowed: usize,
    pub(crate) constrained: usize,
    pub(crate) new_labels: usize,
    pub(crate) changes: usize,
    pub(crate) labels: usize,
    pub(crate) file_systems: usize,
    pub(crate) differ: Vec<String>,
}

impl Totals {
    pub(crate) fn examples(&self) -> String {
        self.differ.iter().take(12).fold(String::new(), |all, one| all + one + "\n")
    }

    fn same(&mut self, question: impl FnOnce() -> String, ours: &str, theirs: &str) {
        if ours != theirs {
            self.differ.push(format!("{}: ours `{ours}`, theirs `{theirs}`", question()));
        }
    }
}

/// The contexts of a run, with the judge's numbers for them.
struct Known {
    contexts: Vec<Context>,
    numbers: Vec<String>,
    /// Which of them are not `object_r`.
    processes: Vec<usize>,
}

impl Known {
    fn new(policy: &Policy, contexts: Vec<Context>, numbers: Vec<String>) -> Self {
        let process = |place: &usize| !policy.text(&contexts[*place]).contains(":object_r:");
        Self { processes: (0..contexts.len()).filter(process).collect(), contexts, numbers }
    }
}

/// Asks about `vectors` pairs and a class, and about `changes` new labels, label changes and constraints' reasons.
pub(crate) fn compare(judge: &Judge, found: &Found, vectors: usize, changes: usize) -> Totals {
    let mut random = Rng::with_seed(7);
    let mut totals = Totals::default();
    let mut head = String::new();
    for (name, on) in &found.booleans {
        let _ = writeln!(head, "b {name} {}", u8::from(*on));
    }
    let known = labels(judge, found, &mut random, &mut totals);
    let setting = head.lines().count() + known.contexts.len();
    for context in &known.contexts {
        let _ = writeln!(head, "c {}", found.policy.text(context));
    }
    compare_vectors(judge, found, &known, (&head, setting), vectors, &mut random, &mut totals);
    let few = Known::new(&found.policy, known.contexts[..240].to_vec(), known.numbers.clone());
    compare_changes(judge, found, &few, (&head, setting), changes, &mut random, &mut totals);
    compare_file_systems(judge, found, (&head, setting), &mut totals);
    totals
}

/// Reads random labels, valid and not, with both, and keeps those that are valid.
fn labels(judge: &Judge, found: &Found, random: &mut Rng, totals: &mut Totals) -> Known {
    let policy = &found.policy;
    let (users, roles): (Vec<_>, Vec<_>) = (policy.user_names().collect(), policy.role_names().collect());
    let types: Vec<_> = policy.type_names().collect();
    let mut texts = BTreeSet::new();
    while texts.len() < 3_000 {
        let pick = |names: &[&str], random: &mut Rng| names[random.usize(..names.len())].to_owned();
        let (user, type_) = (pick(&users, random), pick(&types, random));
        // Half are what lies on disk, as on a host.
        let role = if random.bool() { "object_r".to_owned() } else { pick(&roles, random) };
        texts.insert(format!("{user}:{role}:{type_}:{}", level(random)));
    }
    // Few users and roles go with a domain: look for those that do, so that there are processes to ask about.
    for name in types.iter().step_by(1 + types.len() / 1_000) {
        let level = level(random);
        let texts_of = |(user, role): (&&str, &&str)| format!("{user}:{role}:{name}:{level}");
        let all = users.iter().flat_map(|user| roles.iter().map(move |role| (user, role)));
        let valid = all
            .filter(|(_, role)| **role != "object_r")
            .map(texts_of)
            .find(|text| policy.context(text).is_ok());
        texts.extend(valid);
    }
    let mut texts: Vec<String> = texts.into_iter().collect();
    random.shuffle(&mut texts);
    let questions = texts.iter().fold(String::new(), |all, text| all + "c " + text + "\n");
    let answers = judge.ask(&found.file, &questions);
    let mut contexts = Vec::new();
    for (text, answer) in texts.iter().zip(&answers) {
        let ours = policy.context(text);
        totals.labels += 1;
        let word = |valid: bool| if valid { "valid" } else { "none" };
        totals.same(|| format!("label {text}"), word(ours.is_ok()), word(answer != "-"));
        contexts.extend(ours);
    }
    assert!(contexts.len() > 500, "only {} labels are valid", contexts.len());
    contexts.truncate(1_200);
    let head = contexts.iter().fold(String::new(), |all, context| all + "c " + &policy.text(context) + "\n");
    let numbers = judge.ask(&found.file, &head);
    assert!(numbers.iter().all(|number| number != "-"), "a label that we write is one for libsepol");
    Known::new(policy, contexts, numbers)
}

/// A level: mostly what processes and files of containers have.
fn level(random: &mut Rng) -> String {
    let (one, other) = (random.u16(..12), random.u16(..12));
    let (low, high) = (one.min(other), one.max(other));
    match random.u8(..10) {
        0..=3 => "s0".to_owned(),
        4 => format!("s0:c{one}"),
        5 => format!("s0:c{low}.c{high}"),
        6 => format!("s0-s0:c{low},c{high}"),
        7 => "s0-s0:c0.c1023".to_owned(),
        8 => format!("s0:c{low},c{high}"),
        _ => format!("s0:c{low}-s0:c{low}.c{}", high + 2),
    }
}

/// Two contexts: mostly a process and anything.
fn two(known: &Known, random: &mut Rng) -> (usize, usize) {
    let any = |random: &mut Rng| random.usize(..known.contexts.len());
    let source = if random.u8(..8) == 0 || known.processes.is_empty() {
        any(random)
    } else {
        known.processes[random.usize(..known.processes.len())]
    };
    (source, any(random))
}

fn compare_vectors(
    judge: &Judge,
    found: &Found,
    known: &Known,
    (head, setting): (&str, usize),
    count: usize,
    random: &mut Rng,
    totals: &mut Totals,
) {
    let classes: Vec<&Class> = found.policy.classes().collect();
    let files: Vec<&Class> =
        ["file", "dir", "process", "lnk_file"].iter().filter_map(|name| found.policy.class(name)).collect();
    let mut questions = head.to_owned();
    let mut asked = Vec::with_capacity(count);
    for turn in 0..count {
        let mut draw = || {
            let class = if random.u8(..3) == 0 { &classes } else { &files };
            (two(known, random), class[random.usize(..class.len())])
        };
        let (mut pair, mut class) = draw();
        // Most pairs have no rule: every second question looks for one that has.
        for _ in 0..if turn % 2 == 0 { 0 } else { 12 } {
            if found.policy.decide(&known.contexts[pair.0], &known.contexts[pair.1], class.id()).allowed != 0
            {
                break;
            }
            (pair, class) = draw();
        }
        let (source, target) = pair;
        let wanted = random.u32(..);
        asked.push((source, target, class, wanted));
        let _ = writeln!(
            questions,
            "a {} {} {} {wanted:x}",
            known.numbers[source],
            known.numbers[target],
            number(&found.policy, class)
        );
    }
    let answers = judge.ask(&found.file, &questions);
    let mut cache = Cache::default();
    for ((source, target, class, wanted), theirs) in asked.into_iter().zip(&answers[setting..]) {
        let (from, to) = (&known.contexts[source], &known.contexts[target]);
        let numbers = (cache.number(from), cache.number(to));
        let ours = cache.decide(&found.policy, numbers.0, numbers.1, class.id());
        // What no rule is about is logged, which libsepol says of all 32 bits.
        let reasons = reasons(&found.policy, from, to, class, wanted);
        totals.vectors += 1;
        totals.some_allowed += usize::from(ours.allowed != 0);
        totals.constrained += usize::from(reasons & 2 != 0);
        let question = || {
            format!("{} -> {} {} {wanted:x}", found.policy.text(from), found.policy.text(to), class.name())
        };
        totals.same(question, &format!("{:x} {:x} {reasons}", ours.allowed, ours.logged), theirs);
    }
}

/// libsepol's bits for our reasons.
fn reasons(policy: &Policy, source: &Context, target: &Context, class: &Class, wanted: u32) -> u32 {
    let refusals = policy.refusals(source, target, class.id(), wanted);
    refusals.iter().fold(0, |bits, refusal| {
        bits | match refusal.reason {
            Reason::NoRule | Reason::Off(_) => 1,
            Reason::Constraint(_) => 2,
            Reason::Role => 4,
            Reason::Bounds(_) => 8,
        }
    })
}

/// The value of a class, as libsepol wants it.
fn number(policy: &Policy, class: &Class) -> usize {
    1 + policy.classes().position(|one| one.id() == class.id()).unwrap()
}

fn compare_changes(
    judge: &Judge,
    found: &Found,
    known: &Known,
    (head, setting): (&str, usize),
    count: usize,
    random: &mut Rng,
    totals: &mut Totals,
) {
    let policy = &found.policy;
    // libsepol gives sockets the labels of what they are made in; the kernel those of who makes them.
    let classes: Vec<&Class> = policy.classes().filter(|class| !class.name().ends_with("socket")).collect();
    let mut questions = head.to_owned();
    let mut ours = Vec::new();
    for _ in 0..count {
        let ((one, two), (task, _)) = (two(known, random), two(known, random));
        let class = classes[random.usize(..classes.len())];
        let number = number(policy, class);
        let [first, second, third] = [one, two, task].map(|place| &known.contexts[place]);
        let [n1, n2, n3] = [one, two, task].map(|place| &known.numbers[place]);
        let new = policy.new_label(first, second, class.id(), None);
        let _ = writeln!(questions, "t {n1} {n2} {number}");
        ours.push(new.map_or_else(|| "-".to_owned(), |new| policy.text(&new)));
        let _ = writeln!(questions, "v {n1} {n2} {n3} {number}");
        ours.push(u8::from(policy.may_change(first, second, third, class.id())).to_string());
        let _ = writeln!(questions, "r {n1} {n2} {number} ffffffff");
        ours.push(denied(policy, first, second, class));
    }
    let answers = judge.ask(&found.file, &questions);
    let asked = questions.lines().skip(setting);
    for ((question, ours), theirs) in asked.zip(&ours).zip(&answers[setting..]) {
        let theirs = match question.as_bytes()[0] {
            b'r' => constraints(theirs),
            kind => {
                *(if kind == b't' { &mut totals.new_labels } else { &mut totals.changes }) += 1;
                theirs.clone()
            }
        };
        totals.same(|| question.to_owned(), ours, &theirs);
    }
}

/// The constraints that deny, each as its permissions in order of their names.
fn denied(policy: &Policy, source: &Context, target: &Context, class: &Class) -> String {
    let mut all = Vec::new();
    for refusal in policy.refusals(source, target, class.id(), u32::MAX) {
        if let Reason::Constraint(constraint) = refusal.reason {
            let mut names: Vec<_> = class.names(constraint.permissions).collect();
            names.sort_unstable();
            let word = if constraint.compares_levels() { "mlsconstrain" } else { "constrain" };
            all.push(format!("{word} {}", names.join(" ")));
        }
    }
    all.sort();
    all.join("; ")
}

/// The same, from libsepol's text, whose lines are divided by tabs.
fn constraints(text: &str) -> String {
    let mut all = Vec::new();
    for line in text.split('\t').filter(|line| line.ends_with("Constraint DENIED")) {
        let (before, after) = line.split_once('{').unwrap();
        let mut names: Vec<_> = after.split_once('}').unwrap().0.split_whitespace().collect();
        names.sort_unstable();
        all.push(format!("{} {}", before.split_whitespace().next().unwrap(), names.join(" ")));
    }
    all.sort();
    all.join("; ")
}

fn compare_file_systems(judge: &Judge, found: &Found, (head, setting): (&str, usize), totals: &mut Totals) {
    let policy = &found.policy;
    let mut questions = head.to_owned();
    let mut ours = Vec::new();
    for name in [
        "ext4", "xfs", "btrfs", "overlay", "tmpfs", "devpts", "proc", "sysfs", "nfs", "cifs", "vfat", "fuse",
        "odd",
    ] {
        let fs = policy.file_system(name);
        let behavior = match fs.behavior {
            Behavior::Attribute => 1,
            Behavior::Transition => 2,
            Behavior::Task => 3,
            Behavior::Paths => 4,
            Behavior::None => 5,
        };
        let _ = writeln!(questions, "u {name}");
        ours.push(format!("{behavior} {}", policy.text(&fs.label)));
        for (path, class) in
            [("/", "dir"), ("/sys/kernel/hostname", "file"), ("/sysrq-trigger", "file"), ("/fs/x", "dir")]
        {
            let class = policy.class(class).unwrap();
            let _ = writeln!(questions, "g {name} {} {path}", number(policy, class));
            let label = policy.path_label(name, path.as_bytes(), class.id());
            // libsepol says nothing of a file system without paths; the kernel calls it unlabeled.
            ours.push(label.map_or_else(|| "-".to_owned(), |label| policy.text(label)));
        }
    }
    let answers = judge.ask(&found.file, &questions);
    for ((question, ours), theirs) in questions.lines().skip(setting).zip(&ours).zip(&answers[setting..]) {
        totals.file_systems += 1;
        totals.same(|| question.to_owned(), ours, theirs);
    }
}
