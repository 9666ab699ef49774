//! Images looked for where they are: what a registry gives, what it is asked for, and what is kept.

use std::net::TcpListener;

use insta::assert_snapshot;
use serde_json::json;

use crate::scratch::Scratch;
use crate::standin::image::{Images, digest};
use crate::standin::{Answer, StandIn};

/// A pod whose one container runs `tides/gauge:3`.
const POD: &str = "apiVersion: v1
kind: Pod
metadata: {name: tide}
spec:
  containers:
  - {name: gauge, image: tides/gauge:3}
";

fn gauge() -> StandIn {
    let images = Images::gauge();
    StandIn::answering(move |request| images.answer(request))
}

/// A transcript without what differs from run to run.
fn plain(transcript: &str, registry: &StandIn) -> String {
    transcript.replace(&registry.host, "HOST")
}

#[test]
fn one_option_is_enough_and_the_second_question_reads_no_layer() {
    let registry = gauge();
    let place = registry.place();
    let scratch = Scratch::with("pod.yaml", POD);
    let acts = ["gauge reads /etc/gauge.conf", "gauge creates /srv/x", "gauge reads /srv/old"];
    let ask = || {
        let words = ["ask", "pod.yaml", "--images-from", &place, acts[0], acts[1], acts[2]];
        plain(&scratch.at_home(words, &[]), &registry)
    };
    let first = ask();
    assert_snapshot!(first, @"
    allowed        gauge reads /etc/gauge.conf
    allowed        gauge creates /srv/x
                   leaves 7101:7200 0644
    denied ENOENT  gauge reads /srv/old
                   /srv/old: no such entry

    Assumed
      a directory that the image does not list is 0:0 0755
    --- status 0
    ");
    let blobs = |asked: &[String]| asked.iter().filter(|one| one.contains("/blobs/")).count();
    let before = registry.asked();
    assert_eq!(blobs(&before), 3, "{before:?}");
    assert_eq!(ask(), first);
    let after = registry.asked()[before.len()..].to_vec();
    assert_eq!(after, ["HEAD /v2/tides/gauge/manifests/3"]);
}

#[test]
fn an_image_named_by_digest_and_known_asks_nobody() {
    let images = Images::gauge();
    let pinned = digest(&images.manifests["3"]);
    let registry = StandIn::answering(move |request| images.answer(request));
    let scratch = Scratch::with("pod.yaml", &POD.replace("gauge:3", &format!("gauge@{pinned}")));
    let words = ["identity", "pod.yaml", "--images-from", &registry.place()];
    let first = scratch.at_home(words, &[]);
    assert!(first.contains("7101"), "{first}");
    let asked = registry.asked().len();
    assert_eq!(scratch.at_home(words, &[]), first);
    assert_eq!(registry.asked().len(), asked);
}

#[test]
fn a_survey_of_an_image_keeps_who_runs_in_it_and_no_password() {
    let registry = gauge();
    let scratch = Scratch::with("pod.yaml", POD);
    let source = format!("{}/tides/gauge:3", registry.place());
    let taken = scratch.at_home(["survey", &source, "-o", "gauge.survey"], &[]);
    assert!(taken.ends_with("--- status 0"), "{taken}");
    let bytes = std::fs::read(scratch.path().join("gauge.survey")).unwrap();
    assert!(!bytes.windows(4).any(|part| part == b"hush"));
    assert_snapshot!(scratch.at_home(["identity", "pod.yaml", "--image", "tides/gauge:3=gauge.survey"], &[]), @"
    gauge  app container of tide, image tides/gauge:3
      field       value           from
      image user  gauge           gauge.survey
      uid         7101            gauge.survey: etc/passwd:2
      name        gauge           gauge.survey: etc/passwd:2
      gid         7200            gauge.survey: etc/passwd:2
      group       7200            the primary group, which the runtime lists again
                  7300            gauge.survey: etc/group:3
      bounding    the default 14  the runtime's default set
      umask       0022            the runtime's default umask
      effective   none            a process that is not root starts with none
    --- status 0
    ");
    // The same as a source of a scene, and straight from the registry.
    for from in ["gauge.survey", &source] {
        let scene = format!(
            "scene: 1\nworkloads: [pod.yaml]\nimages: {{ \"tides/gauge:3\": {{ from: \"{from}\" }} }}\n"
        );
        std::fs::write(scratch.path().join("x.scene.yaml"), scene).unwrap();
        let answer = scratch.at_home(["ask", "x.scene.yaml", "gauge reads /srv/new"], &[]);
        assert!(answer.starts_with("allowed "), "{answer}");
    }
}

#[test]
fn places_are_asked_in_order_and_what_a_scene_says_wins() {
    let registry = gauge();
    let scratch = Scratch::with("pod.yaml", POD);
    let scene = format!(
        "scene: 1\nworkloads: [pod.yaml]\nimages-from: [images, \"{}\"]\nimages: {{ \"tides/gauge:3\": {{ user: \"7300\" }} }}\n",
        registry.place()
    );
    let scratch = scratch.and("x.scene.yaml", &scene).and("images/remark.txt", "no image");
    let answer = scratch.at_home(["identity", "x.scene.yaml"], &[]);
    assert_snapshot!(plain(&answer, &registry), @"
    gauge  app container of tide, image tides/gauge:3
      field       value           from
      image user  7300            x.scene.yaml:4:36 images.tides/gauge:3.user
      uid         7300            x.scene.yaml:4:36 images.tides/gauge:3.user
      name        none            no passwd line of tides/gauge:3 has uid 7300
      gid         0               no account and no runAsGroup, so group 0
      group       0               the primary group, which the runtime lists again
      bounding    the default 14  the runtime's default set
      umask       0022            the runtime's default umask
      effective   none            a process that is not root starts with none
    --- standard error
    warning: gauge (7300) has no account in its image, so its group is 0, root's
     --> x.scene.yaml:4:36 images.tides/gauge:3.user
      = help: name a group beside the user, or give the image an account

    --- status 0
    ");
    let asked = registry.asked().len();
    let answer =
        scratch.at_home(["ask", "x.scene.yaml", "gauge reads /srv/new", "--images-from", "none"], &[]);
    assert!(answer.starts_with("depends "), "{answer}");
    assert_eq!(registry.asked().len(), asked);
    let elsewhere = Scratch::with("x", "");
    let path = scratch.path().join("x.scene.yaml").display().to_string();
    let answer = elsewhere.at_home(["ask", &path, "gauge reads /srv/new"], &[]);
    assert!(answer.starts_with("denied EACCES"), "{answer}");
    let bad = scene.replace("images,", "imagse,");
    let scratch = scratch.and("x.scene.yaml", &bad);
    assert_snapshot!(plain(&scratch.at_home(["identity", "x.scene.yaml"], &[]), &registry), @r#"
    --- standard error
    error: `imagse` is no place for images: write registry, registry:HOST, docker, podman or the path of a folder
     --> x.scene.yaml:3:15
      |
    3 | images-from: [imagse, "registry:http://HOST"]
      |               ^^^^^^

    error: the input cannot be used: 1 error above
    --- status 2
    "#);
}

#[test]
fn the_base_of_a_build_is_looked_for_and_what_is_built_is_not() {
    let registry = gauge();
    let scratch = Scratch::with("compose.yaml", "services:\n  meter: {build: .}\n")
        .and("Dockerfile", "FROM tides/gauge:3\nCOPY --chown=press depth /srv/depth\nUSER root\n")
        .and("depth", "3\n");
    let answer = scratch
        .at_home(["ask", "compose.yaml", "meter reads /srv/depth", "--images-from", &registry.place()], &[]);
    assert!(registry.asked().iter().all(|one| one.contains("/v2/tides/gauge/")), "{:?}", registry.asked());
    assert_snapshot!(plain(&answer, &registry), @"
    allowed        meter reads /srv/depth

    Assumed: `COPY --chown=press depth /srv/depth` takes root for the user `press`, whom the image has not, as BuildKit of Docker 20.10 does (and 1 more: --all-assumptions)
    --- status 0
    ");
}

#[test]
fn nobody_is_asked_unless_that_is_wanted() {
    let trap = TcpListener::bind("127.0.0.1:0").unwrap();
    trap.set_nonblocking(true).unwrap();
    let host = trap.local_addr().unwrap().to_string();
    let scratch = Scratch::with("pod.yaml", &POD.replace("tides/gauge", &format!("{host}/gauge")))
        .and("compose.yaml", format!("services: {{ a: {{ image: '{host}/b', volumes: ['/srv:/srv'] }} }}\n"))
        .and("Dockerfile", format!("FROM {host}/base\nCOPY . /x\n"))
        .and("x.scene.yaml", "scene: 1\nworkloads: [pod.yaml]\n");
    let address = format!("tcp://{host}");
    let more = [("DOCKER_HOST", address.as_str()), ("CONTAINER_HOST", &address), ("HTTPS_PROXY", &address)];
    for input in ["pod.yaml", "compose.yaml", "Dockerfile", "x.scene.yaml"] {
        for command in ["access", "identity", "mounts", "exposure", "handoff"] {
            scratch.at_home([command, input], &more);
        }
        scratch.at_home(["report", input, "-o", "page.html"], &more);
        scratch.at_home(["ask", input, "gauge reads /x"], &more);
        scratch.at_home(["remedy", input, "gauge reads /x", "--images-from", "none"], &more);
    }
    assert_eq!(trap.accept().err().map(|error| error.kind()), Some(std::io::ErrorKind::WouldBlock));
}

#[test]
fn one_image_of_several_platforms() {
    let mut images = Images::default();
    let mut both = Vec::new();
    for (arch, uid) in [("amd64", 7101), ("arm64", 7102), ("riscv64", 7103)] {
        let mut one =
            images.add(arch, &[&[("srv/", uid, 7200, 0o750, "")]], &json!({ "User": uid.to_string() }));
        one["platform"] = json!({ "os": "linux", "architecture": arch });
        both.push(one);
    }
    both.push(json!({ "mediaType": "x", "digest": digest(b"?"), "size": 1, "platform": { "os": "unknown", "architecture": "unknown" } }));
    images.manifest("3", json!({ "schemaVersion": 2, "manifests": both }).to_string().into_bytes());
    let registry = StandIn::answering(move |request| images.answer(request));
    let scratch = Scratch::with("pod.yaml", POD);
    let source = format!("{}/tides/gauge:3", registry.place());
    let survey =
        |platform| scratch.at_home(["survey", &source, "--to", "mtree", "--platform", platform], &[]);
    // One after the other, so that what is kept of one is not taken for another.
    for (platform, uid) in [("linux/arm64", "7102"), ("linux/amd64", "7101"), ("linux/arm64", "7102")] {
        assert!(survey(platform).contains(&format!("./srv type=dir uid={uid}")), "{}", survey(platform));
    }
    assert_snapshot!(plain(&survey("linux/s390x"), &registry), @"
    --- standard error
    error: HOST/tides/gauge:3: it has no image for linux/s390x, but for linux/amd64, linux/arm64, linux/riscv64: say which with --platform
    --- status 2
    ");
}

#[test]
fn what_is_shown_to_a_registry_goes_nowhere_else() {
    let images = Images::gauge();
    let store = {
        let images = images.clone();
        StandIn::answering(move |request| images.answer(request))
    };
    let elsewhere = format!("http://{}", store.host);
    let registry = StandIn::answering(move |request| {
        if !request.headers.contains_key("authorization") {
            return Answer::new(401, "").with("www-authenticate", "Basic realm=\"x\"");
        }
        match request.path.contains("/blobs/") {
            true => Answer::new(307, "").with("location", &format!("{elsewhere}{}", request.path)),
            false => images.answer(request),
        }
    });
    let auth = format!(r#"{{"auths": {{"{}": {{"auth": "dGlkZTplYmI="}}}}}}"#, registry.host);
    let scratch = Scratch::with("pod.yaml", POD).and(".docker/config.json", auth);
    let answer = scratch.at_home(["identity", "pod.yaml", "--images-from", &registry.place()], &[]);
    assert!(answer.contains("7101"), "{answer}");
    let shown: Vec<_> =
        registry.requests().iter().filter_map(|one| one.headers.get("authorization").cloned()).collect();
    assert!(!shown.is_empty() && shown.iter().all(|one| one == "Basic dGlkZTplYmI="), "{shown:?}");
    let sent_on = store.requests();
    assert!(sent_on.len() == 3 && sent_on.iter().all(|one| !one.headers.contains_key("authorization")));
}

/// A registry that wants tokens, and the service that gives them: what it was asked with decides.
fn with_tokens(accept: &'static str) -> (StandIn, StandIn) {
    let service = StandIn::answering(move |request| {
        let shown = request.headers.get("authorization").map_or(request.body.as_str(), String::as_str);
        match shown.contains(accept) {
            true => Answer::new(200, r#"{"token": "t1", "expires_in": 60}"#),
            false => Answer::new(401, "{}"),
        }
    });
    let images = Images::gauge();
    let challenge = format!(r#"Bearer realm="http://{}/token",service="tides""#, service.host);
    let registry = StandIn::answering(move |request| match request.headers.get("authorization") {
        Some(shown) if shown == "Bearer t1" => images.answer(request),
        _ => Answer::new(401, "{}").with("www-authenticate", &challenge),
    });
    (registry, service)
}

#[test]
fn a_token_is_asked_for_as_the_challenge_says() {
    let (registry, service) = with_tokens("");
    let scratch = Scratch::with("pod.yaml", POD);
    let words = ["identity", "pod.yaml", "--images-from", &registry.place()];
    let answer = scratch.at_home(words, &[]);
    assert!(answer.contains("7101"), "{answer}");
    // Once for all that is asked.
    assert_eq!(service.asked(), ["GET /token?service=tides&scope=repository%3Atides%2Fgauge%3Apull"]);
}

#[test]
fn accounts_come_from_files_and_helpers() {
    let helper = "#!/bin/sh\nread server\n[ \"$1 $server\" = \"get HOST\" ] || { echo 'credentials not found in native keychain'; exit 1; }\n\
        echo '{\"ServerURL\": \"x\", \"Username\": \"USER\", \"Secret\": \"ebb\"}'\n";
    for (accept, file, user) in [
        ("Basic dGlkZTplYmI=", r#"{"auths": {"HOST": {"auth": "dGlkZTplYmI="}}}"#, ""),
        ("Basic dGlkZTplYmI=", r#"{"credHelpers": {"HOST": "tide"}}"#, "tide"),
        ("Basic dGlkZTplYmI=", r#"{"credsStore": "tide"}"#, "tide"),
        ("refresh_token=ebb", r#"{"credsStore": "tide"}"#, "<token>"),
        ("refresh_token=flow", r#"{"auths": {"HOST": {"identitytoken": "flow"}}}"#, ""),
    ] {
        let (registry, service) = with_tokens(accept);
        let own = |text: &str| text.replace("HOST", &registry.host).replace("USER", user);
        let scratch = Scratch::with("pod.yaml", POD)
            .and("auth.json", own(file))
            .and_program("bin/docker-credential-tide", own(helper));
        let program = scratch.path().join("bin/docker-credential-tide");
        let path = format!("{}:{}", program.parent().unwrap().display(), std::env::var("PATH").unwrap());
        let more = [("REGISTRY_AUTH_FILE", "auth.json"), ("PATH", path.as_str())];
        let words = ["identity", "pod.yaml", "--images-from", &registry.place()];
        let answer = scratch.at_home(words, &more);
        assert!(answer.contains("7101"), "{file}: {answer}\n{:?}", service.requests());
        assert!(!answer.contains("ebb") && !answer.contains("flow"), "{answer}");
    }
}

#[test]
fn a_proxy_of_the_environment_is_gone_through() {
    let images = Images::gauge();
    // A client that goes through a proxy names the whole address, or asks it to connect first.
    let proxy = StandIn::answering(move |request| match request.method.as_str() {
        "CONNECT" => Answer::new(502, ""),
        _ => images.answer(request),
    });
    let scratch = Scratch::with("pod.yaml", POD);
    let address = format!("http://{}", proxy.host);
    let words = ["identity", "pod.yaml", "--images-from", "registry:http://registry.example"];
    let answer = scratch.at_home(words, &[("HTTP_PROXY", &address)]);
    assert!(!proxy.asked().is_empty(), "{answer}");
    let asked = proxy.asked().len();
    let answer = scratch.at_home(words, &[("HTTP_PROXY", address.as_str()), ("NO_PROXY", ".other,example")]);
    assert!(answer.contains("registry.example: no host of this name is known here"), "{answer}");
    assert_eq!(proxy.asked().len(), asked);
}

#[test]
fn several_processes_share_what_is_kept() {
    let registry = gauge();
    let place = registry.place();
    let scratch = Scratch::with("pod.yaml", POD);
    let words = ["identity", "pod.yaml", "--images-from", &place];
    let answers: Vec<String> = std::thread::scope(|scope| {
        let all: Vec<_> = (0..8).map(|_| scope.spawn(|| scratch.at_home(words, &[]))).collect();
        all.into_iter().map(|one| one.join().unwrap()).collect()
    });
    assert!(answers[0].contains("7101") && answers.iter().all(|one| *one == answers[0]), "{answers:?}");
    // What is damaged is read again.
    let kept: Vec<_> = ["images", "layers"]
        .iter()
        .flat_map(|folder| std::fs::read_dir(scratch.path().join("cache/mivask").join(folder)).unwrap())
        .map(|file| file.unwrap().path())
        .collect();
    assert_eq!(kept.len(), 3);
    for file in &kept {
        let mut bytes = std::fs::read(file).unwrap();
        let middle = bytes.len() / 2;
        bytes[middle] ^= 1;
        std::fs::write(file, bytes).unwrap();
    }
    let asked = registry.asked().len();
    let again = scratch.at_home(words, &[]);
    assert!(again.contains(answers[0].split("---").next().unwrap()), "{again}");
    assert_eq!(registry.asked()[asked..].iter().filter(|one| one.contains("/blobs/")).count(), 3);
}
