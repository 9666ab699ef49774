//! Images that are not had: what a registry refuses, breaks or makes up, and what is said of it.

use insta::assert_snapshot;
use serde_json::json;

use crate::scratch::Scratch;
use crate::standin::image::{GAUGE, Images, digest};
use crate::standin::{Answer, Request, StandIn};

/// What `survey` says of `tides/gauge:3` in a registry that answers so.
fn survey(answer: impl Fn(&Request) -> Answer + Send + Sync + 'static) -> (String, StandIn) {
    let registry = StandIn::answering(answer);
    let scratch = Scratch::with("x", "");
    let source = format!("{}/tides/gauge:3", registry.place());
    let transcript = scratch.at_home(["survey", &source, "--to", "mtree"], &[]);
    (transcript.replace(&registry.host, "HOST"), registry)
}

#[test]
fn each_status_says_what_to_do() {
    let said: Vec<String> = [401, 403, 404, 429, 400, 503]
        .map(|status| survey(move |_| Answer::new(status, "").with("retry-after", "3600")).0)
        .to_vec();
    assert_snapshot!(said.join("\n"), @"
    --- standard error
    error: HOST: wants credentials for tides/gauge:3, and there are none
      help: sign in with your container tool, or name the file of credentials in REGISTRY_AUTH_FILE
    --- status 2
    --- standard error
    error: HOST: does not let somebody without credentials pull tides/gauge:3
      help: ask its owner for the right to pull, or sign in as somebody else
    --- status 2
    --- standard error
    error: HOST: has no image tides/gauge:3
      help: look at its name and tag; some registries say so of what you may not see
    --- status 2
    --- standard error
    error: HOST: takes no more requests from here for 3600 s
      help: wait, sign in for a higher limit, or name another place before it: registry:MIRROR, docker, podman
    --- status 2
    --- standard error
    error: HOST: answers 400 for the image tides/gauge:3
      help: is this a registry? It has to speak the OCI distribution protocol
    --- status 2
    --- standard error
    error: HOST: answers 503 for the image tides/gauge:3: it is not well
      help: try again later, or name another place before it
    --- status 2
    ");
}

#[test]
fn what_passes_is_tried_again_and_what_does_not_is_not() {
    for (status, times) in [(429, 3), (503, 3), (500, 3), (404, 1), (403, 1)] {
        let (said, registry) = survey(move |_| Answer::new(status, "").with("retry-after", "0"));
        assert!(said.ends_with("--- status 2"), "{said}");
        assert_eq!(registry.asked().len(), times, "{status}: {:?}", registry.asked());
    }
    let images = Images::gauge();
    let first = std::sync::atomic::AtomicBool::new(true);
    let (said, _) = survey(move |request| match first.swap(false, std::sync::atomic::Ordering::Relaxed) {
        true => Answer::new(429, "").with("retry-after", "0"),
        false => images.answer(request),
    });
    assert!(said.ends_with("--- status 0"), "{said}");
}

/// What is said where one kind of answer is another's.
fn damaged(which: &'static str, damage: fn(Answer) -> Answer) -> String {
    let images = Images::gauge();
    let config = images.blobs.iter().find(|(_, bytes)| bytes.starts_with(b"{")).map(|(name, _)| name.clone());
    let config = config.expect("it has a configuration");
    survey(move |request| {
        let answer = images.answer(request);
        let kind = match (request.path.contains("/manifests/"), request.path.ends_with(&config)) {
            (true, _) if request.method == "GET" => "manifest",
            (true, _) => "head",
            (false, true) => "configuration",
            (false, false) => "layer",
        };
        if kind == which { damage(answer) } else { answer }
    })
    .0
    .lines()
    // Which layer is met first is up to the threads.
    .map(|line| line.split("sha256:").next().unwrap_or_default().to_owned() + "\n")
    .collect()
}

#[test]
fn nothing_is_believed_that_has_another_digest() {
    let one_bit = |mut answer: Answer| {
        let last = answer.body.len() - 9;
        answer.body[last] ^= 1;
        answer
    };
    let all = ["manifest", "configuration", "layer"].map(|which| damaged(which, one_bit));
    assert_snapshot!(all.join("\n"), @"
    --- standard error
    error: HOST/tides/gauge:3: its manifest is not what was asked for: its digest is not 
    --- status 2

    --- standard error
    error: HOST/tides/gauge:3: its configuration is not what was asked for: its digest is not 
    --- status 2

    --- standard error
    error: HOST: layer 
      help: it may be damaged in the registry: push the image again, or name another place before it
    --- status 2
    ");
}

#[test]
fn a_stream_that_breaks_off_is_asked_for_again() {
    let short = |mut answer: Answer| {
        answer.claimed = Some(answer.body.len());
        answer.body.truncate(answer.body.len() / 2);
        answer
    };
    assert_snapshot!(["manifest", "layer"].map(|which| damaged(which, short)).join("\n"), @"
    --- standard error
    error: HOST/tides/gauge:3: its manifest ended too early
    --- status 2

    --- standard error
    error: HOST: layer 
      help: it may be damaged in the registry: push the image again, or name another place before it
    --- status 2
    ");
    let images = Images::gauge();
    let times = std::sync::atomic::AtomicUsize::new(0);
    let (said, _) = survey(move |request| {
        let answer = images.answer(request);
        let broken = request.path.contains("/blobs/") && answer.body.first() != Some(&b'{');
        match broken && times.fetch_add(1, std::sync::atomic::Ordering::Relaxed) < 2 {
            true => short(answer),
            false => answer,
        }
    });
    assert!(said.contains("./srv/new") && !said.contains("./srv/old"), "{said}");
}

#[test]
fn what_is_no_image_says_so() {
    let with = |bytes: Vec<u8>| {
        survey(move |_| Answer::new(200, bytes.clone()).with("docker-content-digest", &digest(&bytes))).0
    };
    let chart = json!({
        "schemaVersion": 2, "layers": [],
        "config": { "mediaType": "application/vnd.tides.chart.v1+json", "digest": digest(b""), "size": 0 },
    });
    let index = json!({ "schemaVersion": 2, "manifests": [] });
    let first = json!({ "schemaVersion": 1, "fsLayers": [] });
    let all = [
        with(chart.to_string().into_bytes()),
        with(index.to_string().into_bytes()),
        with(first.to_string().into_bytes()),
        with(b"<html>sign in</html>".to_vec()),
        with(vec![b' '; 5 << 20]),
    ];
    assert_snapshot!(all.join("\n"), @"
    --- standard error
    error: HOST/tides/gauge:3: it is no image but application/vnd.tides.chart.v1+json
    --- status 2
    --- standard error
    error: HOST/tides/gauge:3: it names no image
    --- status 2
    --- standard error
    error: HOST/tides/gauge:3: its manifest is of the first form, which has no digests: push the image again
    --- status 2
    --- standard error
    error: HOST/tides/gauge:3: what it gives as the manifest is no JSON: is this a registry, or a page to sign in on?
    --- status 2
    --- standard error
    error: HOST/tides/gauge:3: its manifest has more than 4194304 bytes
    --- status 2
    ");
}

#[test]
fn indexes_and_redirects_end() {
    let (said, _) = survey(|request| Answer::new(307, "").with("location", &format!("{}x", request.path)));
    assert_snapshot!(said, @"
    --- standard error
    error: HOST: sends us from one place to the next without end
    --- status 2
    ");
    // An index that names itself cannot have its own digest: each names the next.
    let mut images = Images::default();
    let mut last = images.add("x", &GAUGE, &json!({}));
    for _ in 0..6 {
        last["platform"] = json!({ "os": "linux", "architecture": "amd64" });
        let index = json!({ "schemaVersion": 2, "manifests": [last] });
        last = images.manifest("3", index.to_string().into_bytes());
    }
    assert_snapshot!(survey(move |request| images.answer(request)).0, @"
    --- standard error
    error: HOST/tides/gauge:3: its indexes name indexes without end
    --- status 2
    ");
}

#[test]
fn names_lead_nowhere_else() {
    let registry = StandIn::answering(|_| Answer::new(404, ""));
    let scratch = Scratch::with("x", "");
    for name in ["a/../../secret", "a?b", "a#b", "A", "a b", "a//b", "a:b:c", "a@sha256:0", "\u{1b}[31m"] {
        let source = format!("{}/{name}", registry.place());
        let said = scratch.at_home(["survey", &source, "--to", "mtree"], &[]);
        assert!(said.ends_with("--- status 2") && !said.contains('\u{1b}'), "{name}: {said}");
    }
    assert_eq!(registry.asked(), Vec::<String>::new());
}

#[test]
fn an_image_that_is_nowhere_is_said_with_each_place() {
    let registry = StandIn::answering(|_| Answer::new(404, ""));
    let pod = "apiVersion: v1\nkind: Pod\nmetadata: {name: tide}\nspec: {containers: [{name: gauge, image: 'tides/gauge:3'}]}\n";
    let scratch = Scratch::with("pod.yaml", pod).and("images/x", "");
    let place = registry.place();
    let words = [
        "identity",
        "pod.yaml",
        "--images-from",
        "./images",
        "--images-from",
        &place,
        "--images-from",
        "docker:/nowhere",
    ];
    let said = scratch.at_home(words, &[]).replace(&registry.host, "HOST");
    assert_snapshot!(said.split_once("---").map_or("", |(_, errors)| errors), @"
     standard error
    warning: nothing was found of image tides/gauge:3
      ./images: has no archive or layout of tides/gauge:3
      HOST: has no image tides/gauge:3
        help: look at its name and tag; some registries say so of what you may not see
      docker: /nowhere: no such file or directory
        help: is the engine running?
    --- status 0
    ");
    let strict = scratch.at_home([&words[..], &["--strict"]].concat(), &[]);
    assert!(strict.ends_with("error: 1 warning above, and --strict allows none\n--- status 2"), "{strict}");
    assert_snapshot!(scratch.at_home(["ask", "pod.yaml", "gauge reads /x", "--images-from", "regsitry"], &[]), @"
    --- standard error
    error: invalid value 'regsitry' for '--images-from <PLACE>': `regsitry` is no place for images: write registry, registry:HOST, docker, podman or the path of a folder

    For more information, try '--help'.
    --- status 2
    ");
}
