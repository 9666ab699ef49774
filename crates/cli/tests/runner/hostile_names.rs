//! One hostile string in every place where a name can be, and nothing of it that is obeyed in any output.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::process::{Command, Stdio};

use mivask_core::glyph::is_obeyed;

/// A title for the terminal, colours, a line for a CI, C1, reordering, markup.
const HOSTILE: &str = "h\u{1b}]0;PWN\u{7}\u{1b}[31;8m\r\n::error::x\n##[error]y\u{9b}1m\u{85}\u{202e}\u{2066}\u{61c}\u{2028}\u{7f}<script>alert(1)</script>&\"'%0A";

/// The same as YAML and JSON write it.
fn quoted() -> String {
    let mut text = String::from("\"");
    for unit in HOSTILE.encode_utf16() {
        text.push_str(&format!("\\u{unit:04x}"));
    }
    text + "\""
}

fn with(template: &str) -> String {
    let inner = quoted();
    let inner = inner.trim_matches('"');
    template.replace("@H", inner)
}

const SCENE: &str = r##"
scene: 1
title: "@H"
"@H": 1
workloads: ["pod.yaml"]
host: { tree: [{ path: /srv, kind: dir, owner: '0:0', mode: 0755 }], accounts: { passwd: "@H:x:5:5::/:/bin/sh\n@H", group: "@H:x:5:" } }
images:
  "i@H":
    user: "@H"
    accounts: { passwd: "u@H:x:101:101::/:/bin/sh\nu:x:101:101::/:/bin/sh", group: "g@H:x:5:u" }
    program: "/bin/@H"
    tree:
      - { path: /, kind: dir, owner: '0:0', mode: 0755 }
      - { path: "/bin/@H", owner: '0:0', mode: 4755, content: "#!/@H" }
volumes:
  "v@H":
    filesystem: ext4
    options: ["@H"]
    tree:
      - { path: /, kind: dir, owner: '0:500', mode: 2777 }
      - { path: "/f@H", owner: '101:500', mode: 0666 }
      - { path: "/d@H", kind: dir, owner: '101:500', mode: 0777 }
      - { path: "/d@H/l@H", kind: link, target: "/t@H", owner: '0:0' }
      - { path: "/keys@H", kind: dir, owner: '0:0', mode: 0700 }
containers:
  - { name: "a@H", image: "i@H", user: "101:101", mounts: [{ volume: "v@H", at: "/m@H" }] }
  - { name: "b@H", image: "i@H", user: "u", umask: '0000', mounts: [{ volume: "v@H", at: "/n@H", read-only: true }] }
  - { name: "c@H", image: "i@H", user: "nobody@H", mounts: [{ volume: "v@H", at: "/n" }] }
  - { name: "a", user: "101:101", mounts: [{ volume: "v@H", at: "/m" }] }
accept: [{ finding: world-writable, path: "/m@H/**", reason: "@H" }]
at-most: ["a \"/m/f@H\" at-most 0600"]
expect: ["a writes \"/m/f@H\" -> denied", "a never creates /m/**", "a reads /m/q@H -> allowed"]
"##;

const POD: &str = r#"{"apiVersion": "v1", "kind": "Pod", "metadata": {"name": "p@H", "namespace": "n@H", "@H": 1},
"spec": {"@H": 2, "volumes": [{"name": "w@H", "emptyDir": {}}, {"name": "x@H", "hostPath": {"path": "/h@H", "type": "@H"}},
{"name": "y", "persistentVolumeClaim": {"claimName": "v@H"}}, {"name": "z", "csi": {"driver": "@H"}}],
"containers": [{"name": "k@H", "image": "i@H", "command": ["/c@H"], "workingDir": "/w@H",
"securityContext": {"runAsUser": 7101, "capabilities": {"add": ["@H"]}, "seLinuxOptions": {"level": "@H"}},
"volumeMounts": [{"name": "w@H", "mountPath": "/w@H", "subPath": "s@H"}, {"name": "y", "mountPath": "/y"}]}]}}
"#;

const COMPOSE: &str = "services:\n  \"s@H\":\n    image: \"i@H\"\n    user: \"@H\"\n    \"@H\": 1\n    security_opt: [\"label=@H\", \"@H\"]\n    volumes: [\"v@H:/v@H\", \"/h@H:/h:@H\"]\n    environment: { \"@H\": \"@H\" }\n  t: { image: i, extends: { service: \"@H\" }, volumes: [\"v@H:/v\"] }\n  u: { image: \"${X:?@H}\", user: \"${@H}\" }\nvolumes: { \"v@H\": { driver: \"@H\" } }\n";

const BUNDLE: &str = r#"{"ociVersion": "1.0.2@H", "hostname": "@H", "root": {"path": "@H"}, "process": {"cwd": "/@H", "args": ["@H"], "env": ["PATH=@H"],
"user": {"uid": 1, "gid": 1}, "capabilities": {"bounding": ["CAP_CHOWN"]}}, "mounts": [{"destination": "/@H", "type": "bind", "source": "/@H", "options": ["@H"]}], "@H": 1}"#;

const WRONG: &str = "apiVersion: v1\nkind: Pod\nmetadata: { name: \"@H\" }\nspec:\n  containers:\n  - { name: \"@H\", image: i, securityContext: { runAsUser: \"@H\", runAsNonRoot: \"@H\" }, volumeMounts: [{ name: \"@H\", mountPath: \"@H\" }] }\n";

const DOCKERFILE: &str = "FROM i:1\nRUN chown @H /x\nCOPY --chown=@H a@H /b\nUSER @H\n";

/// What no output may hold. `sgr` are the colours that were asked for.
fn check(what: &str, bytes: &[u8], sgr: bool) {
    let text = std::str::from_utf8(bytes).unwrap_or_else(|_| panic!("{what}: not UTF-8"));
    let plain = if sgr { anstream::adapter::strip_str(text).to_string() } else { text.to_owned() };
    if let Some(at) = plain.find(|c| is_obeyed(c) && !matches!(c, '\n' | '\t')) {
        let around: String = plain[at.saturating_sub(60)..].chars().take(120).collect();
        panic!("{what}: {:?} in {around:?}", plain[at..].chars().next());
    }
    for line in plain.lines() {
        assert!(!line.starts_with("::error::x") && !line.starts_with("##[error]y"), "{what}: {line}");
    }
}

fn run(folder: &Path, words: &[&OsStr]) {
    let mut shown: Vec<String> = words.iter().map(|word| word.to_string_lossy().into_owned()).collect();
    shown.iter_mut().for_each(|word| *word = word.replace(HOSTILE, "@H"));
    let what = shown.join(" ");
    for colour in ["never", "always"] {
        let mut command = Command::new(env!("CARGO_BIN_EXE_mivask"));
        command.args(words).args(["--color", colour]).current_dir(folder).stdin(Stdio::null());
        let output = command.output().unwrap();
        let status = output.status.code();
        assert!(
            matches!(status, Some(0..=3)),
            "{what}: {status:?} {}",
            String::from_utf8_lossy(&output.stderr)
        );
        check(&format!("{what}: standard output"), &output.stdout, colour == "always");
        check(&format!("{what}: standard error"), &output.stderr, colour == "always");
    }
    for written in std::fs::read_dir(folder.join("out")).unwrap() {
        let path = written.unwrap().path();
        check(&format!("{what}: {}", path.display()), &std::fs::read(&path).unwrap(), false);
        std::fs::remove_file(path).unwrap();
    }
}

fn folder() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    let write = |name: &str, text: &str| std::fs::write(folder.path().join(name), with(text)).unwrap();
    write("s.yaml", SCENE);
    write("pod.yaml", POD);
    write("config.json", BUNDLE);
    write("wrong.yaml", WRONG);
    write("compose.yaml", COMPOSE);
    write(
        "plain.yaml",
        &COMPOSE
            .replace("    user: \"@H\"\n", "")
            .replace("extends: { service: \"@H\" }, ", "")
            .replace("  u: { image: \"${X:?@H}\", user: \"${@H}\" }\n", ""),
    );
    write("broken.yaml", "a: [\"@H\"\nb: }");
    write("build.yaml", "services: { b: { image: b, build: . } }\n");
    std::fs::write(folder.path().join("Dockerfile"), DOCKERFILE.replace("@H", "h\u{1b}[31m\u{202e}"))
        .unwrap();
    std::fs::write(folder.path().join("acts"), format!("a reads {HOSTILE}\n\"{HOSTILE}\" reads /x\n"))
        .unwrap();
    let named = HOSTILE.replace('/', "|");
    std::fs::write(folder.path().join(format!("{named}.yaml")), with(POD)).unwrap();
    std::fs::create_dir(folder.path().join("out")).unwrap();
    std::fs::create_dir(folder.path().join("disk")).unwrap();
    std::fs::write(folder.path().join("disk").join(&named), "x").unwrap();
    std::fs::write(folder.path().join("disk").join(OsStr::from_bytes(b"n\xff\x1b[31m")), "x").unwrap();
    std::os::unix::fs::symlink(&named, folder.path().join("disk/link")).unwrap();
    folder
}

fn each(folder: &Path, all: &[&[&str]]) {
    for words in all {
        let words: Vec<OsString> = words.iter().map(|word| word.replace("@H", HOSTILE).into()).collect();
        let words: Vec<&OsStr> = words.iter().map(OsString::as_os_str).collect();
        run(folder, &words);
    }
}

#[test]
fn every_question_in_every_format() {
    let folder = folder();
    for input in ["s.yaml", "pod.yaml", "plain.yaml", "config.json"] {
        for format in ["text", "json"] {
            for words in [
                &["identity"][..],
                &["mounts", "--all"],
                &["access"],
                &["access", "--tree", "/m@H", "--actor", "a@H"],
                &["access", "--list", "/m"],
                &["ask"],
                &["imprint"],
                &["handoff"],
                &["exposure"],
                &["compare", "--change", "actor a@H umask 0077"],
                &["admits", "/m@H/f@H"],
                &["admits", "--actor", "a", "--below", "/m@H"],
                &["rehearse", "a makes-directory /m/r@H", "a creates /m/r@H/x"],
            ] {
                let mut line = vec![words[0], input, "--format", format];
                line.extend(&words[1..]);
                if words[0] == "ask" {
                    line.extend([
                        "\"a@H\" reads \"/m@H/f@H\"",
                        "a writes \"/m/d@H/l@H\"",
                        "a runs \"/m/f@H\" -> allowed",
                        "@H reads /x",
                    ]);
                }
                each(folder.path(), &[&line]);
            }
        }
    }
}

#[test]
fn reviews_and_files() {
    let folder = folder();
    each(
        folder.path(),
        &[
            &["why", "s.yaml", "a reads \"/m/keys@H/x\""],
            &["why", "s.yaml", "a reads \"/m/keys@H/x\"", "--format", "json"],
            &["ask", "s.yaml", "--acts", "acts", "--format", "jsonl"],
            &["remedy", "s.yaml", "a reads \"/m/keys@H/x\""],
            &["remedy", "s.yaml", "a reads \"/m/keys@H/x\"", "--format", "json"],
            &["uphold", "s.yaml", "--format", "text", "--all"],
            &["uphold", "s.yaml", "--format", "json", "--all"],
            &["uphold", "s.yaml", "--format", "annotations", "--all"],
            &[
                "uphold",
                "s.yaml",
                "--also",
                "junit=out/j",
                "--also",
                "sarif=out/s",
                "--also",
                "tap=out/t",
                "--also",
                "annotations=out/a",
            ],
            &["uphold", "@H", "wrong.yaml", "--format", "annotations"],
            &["report", "s.yaml", "-o", "out/r.html", "--title", "@H", "--act", "a reads \"/m/keys@H/x\""],
            &["report", "s.yaml", "-o", "out/w.svg", "--figure", "walk", "--act", "a reads \"/m/keys@H/x\""],
            &["report", "s.yaml", "-o", "out/m.svg", "--figure", "mounts"],
            &["report", "s.yaml", "-o", "out/h.svg", "--figure", "handoff"],
            &["report", "s.yaml", "-o", "-"],
            &["survey", "disk", "--to", "mtree"],
            &["survey", "disk", "--to", "jsonl"],
            &["survey", "disk", "--to", "tar-listing"],
            &["access", "s.yaml", "--disk", "v@H=disk", "--list", "/m"],
            &["identity", "s.yaml", "-vv"],
            &["uphold", "s.yaml", "-vv"],
        ],
    );
}

#[test]
fn mistakes_and_arguments() {
    let folder = folder();
    let named = format!("{}.yaml", HOSTILE.replace('/', "|"));
    for file in ["wrong.yaml", "compose.yaml", "broken.yaml", "build.yaml", &named, "@H", "disk"] {
        each(folder.path(), &[&["identity", file], &["identity", file, "-vv"]]);
    }
    each(
        folder.path(),
        &[
            &["decode", "@H"],
            &["decode", "0644", "@H"],
            &["decode", "0644", "--kind", "@H"],
            &["@H"],
            &["identity"],
            &["identity", "s.yaml", "@H"],
            &["identity", "s.yaml", "--@H"],
            &["identity", "s.yaml", "--actor", "@H"],
            &["identity", "s.yaml", "--runtime", "@H"],
            &["identity", "s.yaml", "--format", "@H"],
            &["identity", "s.yaml", "--change", "@H"],
            &["identity", "s.yaml", "--disk", "@H"],
            &["identity", "s.yaml", "--disk", "@H=@H"],
            &["identity", "s.yaml", "--image", "@H=disk"],
            &["access", "s.yaml", "@H"],
            &["access", "s.yaml", "--matching", "[@H"],
            &["access", "s.yaml", "--where", "@H"],
            &["ask", "s.yaml", "@H"],
            &["ask", "s.yaml", "a @H /x"],
            &["ask", "s.yaml", "a reads /x -> @H"],
            &["ask", "s.yaml", "--acts", "@H"],
            &["exposure", "s.yaml", "--at-most", "@H"],
            &["report", "s.yaml", "-o", "no/@H"],
            &["uphold", "s.yaml", "--also", "@H=x"],
            &["uphold", "s.yaml", "--expect", "@H"],
            &["survey", "@H"],
            &["survey", "s.yaml", "--reference", "@H", "--to", "mtree"],
            &["confirm", "--random", "@H"],
            &["confirm", "--random", "1", "--filesystem", "@H"],
            &["schema", "@H"],
            &["manual", "--to", "no/@H"],
            &["completions", "@H"],
            &["demo", "--scene", "@H"],
        ],
    );
}

/// A shell writes what it is offered as it is.
#[test]
fn completions_offer_nothing_that_a_terminal_obeys() {
    let folder = tempfile::tempdir().unwrap();
    let tree = "[{ path: /, kind: dir, owner: '0:0', mode: 0755 }, { path: \"/f@H\", owner: '0:0', mode: 0644 }, { path: /g, owner: '0:0', mode: 0644 }]";
    let scene = format!(
        "scene: 1\nvolumes: {{ v: {{ tree: {tree} }} }}\ncontainers:\n  - {{ name: \"a@H\", user: '5' }}\n  - {{ name: a, user: '5', mounts: [{{ volume: v, at: /m }}] }}\n"
    );
    std::fs::write(folder.path().join("s.yaml"), with(&scene)).unwrap();
    for words in
        [&["identity", "s.yaml", "--actor", ""][..], &["ask", "s.yaml", ""], &["access", "s.yaml", "/m/"]]
    {
        let mut command = Command::new(env!("CARGO_BIN_EXE_mivask"));
        let index = words.len().to_string();
        command.args(["--", "mivask"]).args(words).current_dir(folder.path());
        command
            .env("MIVASK_COMPLETE", "bash")
            .env("_CLAP_COMPLETE_INDEX", index)
            .env("_CLAP_COMPLETE_COMP_TYPE", "9");
        command.env("_CLAP_IFS", "\n").env("_CLAP_COMPLETE_SPACE", "true");
        let output = command.stdin(Stdio::null()).output().unwrap();
        check(&format!("completing {words:?}"), &output.stdout, false);
        let offered = String::from_utf8(output.stdout).unwrap();
        assert!(offered.lines().any(|line| line == "a" || line.starts_with('/')), "{words:?}: {offered}");
    }
}
