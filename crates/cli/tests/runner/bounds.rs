//! Inputs that grow without bound, or that a program could follow for ever: an error that says the limit, in little memory and on a
//! small stack.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::path::Path;
use std::process::Command;

use crate::scratch::Scratch;

/// Runs a command line in 1 GB of addresses and on a stack of 256 KiB.
fn limited(scratch: &Scratch, words: &str) -> String {
    let script = format!("ulimit -s 256; ulimit -v 1048576; exec '{}' {words}", env!("CARGO_BIN_EXE_mivask"));
    let output = Command::new("sh").args(["-c", &script]).current_dir(scratch.path()).output().unwrap();
    let status = output.status.code();
    assert!(
        matches!(status, Some(0 | 2)),
        "{words}: {status:?}: {}",
        String::from_utf8_lossy(&output.stderr)
    );
    format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr))
}

fn said(files: &[(&str, &str)], expected: &str) {
    let mut scratch = Scratch::with("none", "");
    for (name, text) in files {
        scratch = scratch.and(name, text);
    }
    let said = limited(&scratch, &format!("identity {}", files[0].0));
    assert!(said.contains(expected), "{}: {}", files[0].0, &said[said.len().saturating_sub(800)..]);
}

#[test]
fn compose_files_that_lead_to_one_another() {
    let chain = |count: usize| {
        let services: String =
            (0..count).map(|n| format!("  s{n}: {{ extends: {{ service: s{} }} }}\n", n + 1)).collect();
        format!("services:\n{services}  s{count}: {{ image: i }}\n")
    };
    said(&[("a.yaml", &chain(20_000))], "more than 100 services extend one another in a row");
    said(&[("a.yaml", &chain(90))], "s0  app container");
    let around = "services:\n  a: { extends: b }\n  b: { extends: c }\n  c: { extends: b }\n";
    said(&[("a.yaml", around)], "service `b` extends itself: b, c extend one another");
    said(
        &[("a.yaml", "include: [b.yaml]\n"), ("b.yaml", "include: [a.yaml]\n")],
        "includes or extends itself",
    );
    // Each file is read once, however often it is named: 2^30 times here.
    let mut files: Vec<(String, String)> = (0..30)
        .map(|n| {
            (
                format!("x{n}.yaml"),
                format!(
                    "include: [x{}.yaml, ./x{}.yaml]\nservices: {{ a{n}: {{ image: i }} }}\n",
                    n + 1,
                    n + 1
                ),
            )
        })
        .collect();
    files.push(("x30.yaml".to_owned(), "services: { z: { image: i } }\n".to_owned()));
    let files: Vec<(&str, &str)> = files.iter().map(|(name, text)| (name.as_str(), text.as_str())).collect();
    said(&files, "a29  app container");
    let many: Vec<(String, String)> =
        (0..40).map(|n| (format!("y{n}.yaml"), format!("include: [y{}.yaml]\n", n + 1))).collect();
    let many: Vec<(&str, &str)> = many.iter().map(|(name, text)| (name.as_str(), text.as_str())).collect();
    said(&many, "more than 32 files include or extend one another in a row");
}

/// Rows of services and of images are followed without a call for each.
#[test]
fn services_and_images_in_a_row() {
    let depends: String =
        (0..8_000).map(|n| format!("  s{n}: {{ image: i, depends_on: [s{}] }}\n", n + 1)).collect();
    said(&[("a.yaml", &format!("services:\n{depends}  s8000: {{ image: i }}\n"))], "s7999  app container");
    let around = "services:\n  a: { image: i, depends_on: [b] }\n  b: { image: i, depends_on: [a] }\n";
    said(&[("a.yaml", around)], "services depend on one another in a circle: a, b");
    let build = |n: usize| {
        format!("  s{n}: {{ image: i{n}, build: {{ context: ., dockerfile_inline: 'FROM i{}' }} }}\n", n + 1)
    };
    let built: String = (0..300).map(build).collect();
    said(&[("a.yaml", &format!("services:\n{built}  s300: {{ image: i300 }}\n"))], "s299  app container");
}

#[test]
fn variables_that_double() {
    let doubling: String = (0..40).map(|n| format!("C{}=${{C{n}}}${{C{n}}}\n", n + 1)).collect();
    let env = format!("C0=xxxxxxxxxx\n{doubling}");
    let used = "services: { a: { image: '${C40}' } }\n";
    said(&[("a.yaml", used), (".env", &env)], "is longer than 131072 bytes");
    let many = format!("A=x\nB={}\n", "${A}".repeat(2_000));
    said(&[("a.yaml", "services: { a: { image: i } }\n"), (".env", &many)], "more than 1000");
    let long = format!("services: {{ a: {{ image: '{}' }} }}\n", "${A}".repeat(200_000));
    said(
        &[("a.yaml", &long), (".env", &format!("A={}\n", "x".repeat(1000)))],
        "with its variables it is longer than 1048576 bytes",
    );
    let deep = format!("services: {{ a: {{ image: '{}x{}' }} }}\n", "${A:-".repeat(5_000), "}".repeat(5_000));
    said(&[("a.yaml", &deep)], "more than 32 variables are nested in one another");
    let project = "services: { a: { build: . } }\n";
    let build = format!("FROM scratch\nENV A=xxxxxxxxxx\n{}", "ENV A=$A$A\n".repeat(40));
    said(&[("a.yaml", project), ("Dockerfile", &build)], "the value of `A` is longer than 131072 bytes");
    let args = format!("FROM scratch\nARG A={}\nRUN echo {}\n", "x".repeat(100_000), "$A ".repeat(100_000));
    said(
        &[("a.yaml", project), ("Dockerfile", &args)],
        "its variables make more than 33554432 bytes of text",
    );
}

#[test]
fn long_lines_and_many_mistakes() {
    let pod = |n: usize| {
        format!(
            r#"{{"apiVersion":"v1","kind":"Pod","metadata":{{"name":"p{n}"}},"spec":{{"odd":1,"containers":[{{"name":"c","image":"i"}}]}}}}"#
        )
    };
    let pods: Vec<String> = (0..1500).map(pod).collect();
    let list = format!(r#"{{"apiVersion":"v1","kind":"List","items":[{}]}}"#, pods.join(","));
    let scratch = Scratch::with("list.json", &list);
    let said = limited(&scratch, "identity list.json");
    assert!(
        said.contains("warning: 1480 more like: unknown key `odd`, ignored"),
        "{}",
        &said[said.len() - 500..]
    );
    assert_eq!(said.matches("unknown key `odd`").count(), 21);
    // What is shown of a line is near the mistake.
    assert!(said.lines().all(|line| line.len() < 800), "{:?}", said.lines().map(str::len).max());
    let strict = limited(&scratch, "identity list.json --strict");
    assert!(strict.contains("1500 warnings above"), "{}", &strict[strict.len() - 200..]);
    let keys: String = (0..5_000).map(|n| format!("k{n}: 1,")).collect();
    let scratch = Scratch::with("s.yaml", &format!("scene: 1\ncontainers: [{{ name: a, {keys} }}]\n"));
    assert!(limited(&scratch, "identity s.yaml").contains("4980 more like"));
}

#[test]
fn what_is_nested_too_deeply() {
    for text in [
        "{a: ".repeat(200_000),
        "[".repeat(200_000),
        "- ".repeat(100_000),
        format!("a: {}", "!!str ".repeat(1_000)),
    ] {
        let scratch = Scratch::with("f.yaml", &text);
        assert!(limited(&scratch, "identity f.yaml").contains("error"), "{}", &text[..20]);
    }
}

#[test]
fn access_lists_that_no_attribute_holds() {
    let entries: Vec<String> = (0..60_000).map(|n| format!("user:{n}:rw-")).collect();
    let scene = format!(
        "scene: 1\nvolumes: {{ v: {{ tree: [{{ path: /f, owner: '0:0', mode: 0644, acl: '{}' }}] }} }}\n",
        entries.join(",")
    );
    let scratch = Scratch::with("s.yaml", &scene);
    assert!(limited(&scratch, "identity s.yaml").contains("it has more than 8191 entries"));
}

#[test]
fn more_groups_than_a_process_can_have() {
    let groups: Vec<String> = (1000..71_000).map(|gid: u32| gid.to_string()).collect();
    let scene = |groups: &[String]| {
        format!("scene: 1\ncontainers: [{{ name: a, user: '5:5', groups: [{}] }}]\n", groups.join(","))
    };
    let scratch = Scratch::with("s.yaml", &scene(&groups)).and("less.yaml", scene(&groups[..65_000]));
    assert!(limited(&scratch, "identity s.yaml").contains("groups, and no process can have more than 65536"));
    assert!(limited(&scratch, "ask less.yaml 'a reads /x'").contains("a reads /x"));
    assert!(!limited(&scratch, "ask less.yaml 'a reads /x'").contains("never runs"));
}

/// Any user can make one, and the survey of everything has to get past it.
#[test]
fn a_deep_directory_is_surveyed_level_by_level() {
    let scratch = Scratch::with("none", "");
    let root = rustix::fs::open(
        scratch.path(),
        rustix::fs::OFlags::RDONLY | rustix::fs::OFlags::DIRECTORY,
        rustix::fs::Mode::empty(),
    )
    .unwrap();
    let mut here = root;
    let levels = 12_000;
    for _ in 0..levels {
        rustix::fs::mkdirat(&here, "d", rustix::fs::Mode::from_raw_mode(0o755)).unwrap();
        here = rustix::fs::openat(
            &here,
            "d",
            rustix::fs::OFlags::RDONLY | rustix::fs::OFlags::DIRECTORY,
            rustix::fs::Mode::empty(),
        )
        .unwrap();
    }
    rustix::fs::openat(
        &here,
        "end",
        rustix::fs::OFlags::CREATE | rustix::fs::OFlags::WRONLY,
        rustix::fs::Mode::from_raw_mode(0o600),
    )
    .unwrap();
    let said = limited(&scratch, "survey d -o deep");
    assert!(said.contains("12,001 inodes, 12,000 of them directories"), "{said}");
    // Whoever removes the folder by its path finds it too long.
    assert!(Command::new("rm").args(["-r", "d"]).current_dir(scratch.path()).status().unwrap().success());
}

/// A few hundred runs of `tools/abuse`, which looks at panics, time, memory, leftovers and raw characters.
#[test]
fn a_short_abuse() {
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../tools/abuse");
    if Command::new("python3").arg("--version").output().is_err() || !script.exists() {
        println!("skipped: a_short_abuse: it takes python3 and tools/abuse");
        return;
    }
    let output = Command::new("python3")
        .arg(script)
        .args(["--runs", "120", "--seconds", "60", "--seed", "7", "--program", env!("CARGO_BIN_EXE_mivask")])
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(output.status.success(), "{said}{}", String::from_utf8_lossy(&output.stderr));
}

#[test]
fn a_survey_of_too_many_entries_and_one_that_leaves_a_directory_out() {
    let mut scratch = Scratch::with("d/a/f", "");
    for number in 0..20 {
        scratch = scratch.and(&format!("d/b/f{number}"), "");
    }
    let said = limited(&scratch, "survey d -o s --most-entries 10");
    assert!(
        said.contains("error: d: there are more than 10 entries") && said.contains("--most-entries"),
        "{said}"
    );
    assert!(!scratch.path().join("s").exists());
    assert!(limited(&scratch, "survey d -o s --most-entries 23").contains("24 inodes"));
    for named in ["d/b", "./b/", "b"] {
        let said = limited(&scratch, &format!("survey d --to jsonl --leave-out {named}"));
        let line = said.lines().find(|line| line.contains("./b\"")).unwrap_or_default();
        assert!(
            line.contains("\"mode\":null") && line.contains("unknown") && !said.contains("f1"),
            "{named}: {said}"
        );
    }
}
