//! The program that a description, an image and a build file start, in each of their forms.

use insta::assert_snapshot;
use serde_json::json;

use crate::scratch::Scratch;

/// The files of image `x`; `program` is a line about what it starts.
fn image(program: &str) -> String {
    format!(
        "    user: '1000:1000'\n    accounts: null\n{program}    tree:\n      - {{ path: /, kind: dir, owner: '0:0', mode: 0755 }}\n      \
         - {{ path: /bin, kind: dir, owner: '0:0', mode: 0755 }}\n      - {{ path: /own, kind: dir, owner: '0:0', mode: 0755 }}\n      \
         - {{ path: /bin/raise, owner: '0:0', mode: 4755, content: program }}\n      \
         - {{ path: /bin/plain, owner: '0:0', mode: 0755, content: program }}\n      \
         - {{ path: /bin/sh, owner: '0:0', mode: 0755, content: program }}\n      \
         - {{ path: /own/raise, owner: '0:0', mode: 0755, content: program }}\n"
    )
}

/// Whom the only actor acts as, and for whom.
fn who(scratch: &Scratch) -> String {
    let answer = scratch.json(["identity", "s.yaml", "--format", "json", "-q"]);
    let actor = &answer["actors"][0];
    assert_eq!(actor["starts"], true, "{actor}");
    format!("{} for {}", actor["uid"], actor["real_uid"])
}

/// A file of a description, and the scene about it and image `x`.
fn described(name: &str, text: &str, program: &str) -> String {
    let scene = format!("scene: 1\nworkloads: [{name}]\nimages:\n  x:\n{}", image(program));
    who(&Scratch::with(name, text).and("s.yaml", scene))
}

const OF_IMAGE: &str = "    program: /bin/raise\n";

#[test]
fn kubernetes() {
    let pod = |fields: &str, program: &str| {
        let text = format!(
            "apiVersion: v1\nkind: Pod\nmetadata: {{ name: p }}\nspec:\n  containers:\n  - {{ name: c, image: x{fields} }}\n"
        );
        described("pod.yaml", &text, program)
    };
    let own = "0 for 1000";
    let engines = "1000 for 1000";
    for (fields, program, expected) in [
        ("", OF_IMAGE, own),
        (", args: [/bin/plain]", OF_IMAGE, own),
        (", command: [/bin/plain]", OF_IMAGE, engines),
        (", command: [/bin/raise, -v]", "", own),
        (", command: [raise]", "", own),
        (", command: [raise], env: [{ name: PATH, value: '/own:/bin' }]", "", engines),
        (", command: [bin/raise]", "", own),
        (", command: [./raise], workingDir: /bin", "", own),
        (", command: [./raise], workingDir: /own", "", engines),
        (", command: [], args: []", OF_IMAGE, own),
        // No one says whether the image has an entrypoint, of which that were an argument.
        (", args: [/bin/raise]", "", engines),
    ] {
        assert_eq!(pod(fields, program), expected, "{fields}");
    }
}

#[test]
fn compose() {
    let service = |fields: &str, program: &str| {
        let text = format!("services:\n  c:\n    image: x\n{fields}");
        described("compose.yaml", &text, program)
    };
    let own = "0 for 1000";
    let engines = "1000 for 1000";
    for (fields, program, expected) in [
        ("", OF_IMAGE, own),
        ("    command: /bin/plain\n", OF_IMAGE, own),
        ("    entrypoint: /bin/raise --verbose\n", "", own),
        ("    entrypoint: ['/bin/raise', '--verbose']\n", "", own),
        ("    entrypoint: '\"/bin/raise\" --verbose'\n", "", own),
        ("    entrypoint: raise\n    environment: { PATH: '/own:/bin' }\n", "", engines),
        ("    entrypoint: raise\n    environment: ['PATH=/bin:/own']\n", "", own),
        ("    entrypoint: []\n", OF_IMAGE, engines),
        ("    entrypoint: ''\n    command: /bin/raise\n", "", own),
        ("    entrypoint: null\n", OF_IMAGE, own),
        ("    entrypoint: ./raise\n    working_dir: /bin\n", "", own),
    ] {
        assert_eq!(service(fields, program), expected, "{fields}");
    }
}

#[test]
fn bundles() {
    let bundle = |args: &[&str], path: &str| {
        let config = json!({ "ociVersion": "1.0.2", "root": { "path": "x" }, "process": {
            "cwd": "/", "args": args, "env": [path], "user": { "uid": 1000, "gid": 1000 } } });
        described("config.json", &config.to_string(), "    program: /bin/raise\n")
    };
    assert_eq!(bundle(&["/bin/raise"], "A=b"), "0 for 1000");
    assert_eq!(bundle(&["raise"], "PATH=/own:/bin"), "1000 for 1000");
    assert_eq!(bundle(&["raise"], "PATH=/bin"), "0 for 1000");
    // A bundle starts what it says, whatever an image would.
    assert_eq!(bundle(&[], "PATH=/bin"), "1000 for 1000");
}

#[test]
fn scenes() {
    let scene = |field: &str, program: &str| {
        let text = format!(
            "scene: 1\nimages:\n  x:\n{}containers:\n  - {{ name: c, image: x, user: '1000:1000'{field} }}\n",
            image(program)
        );
        who(&Scratch::with("s.yaml", &text))
    };
    assert_eq!(scene(", program: /bin/raise", ""), "0 for 1000");
    assert_eq!(scene("", OF_IMAGE), "0 for 1000");
    assert_eq!(scene(", program: /bin/plain", OF_IMAGE), "1000 for 1000");
    assert_eq!(scene(", program: /bin/raise, no-new-privileges: true", ""), "1000 for 1000");
}

#[test]
fn build_files() {
    let built = |lines: &str, program: &str| {
        let compose = "services:\n  c:\n    image: built\n    build: .\n";
        let scene = format!("scene: 1\nworkloads: [compose.yaml]\nimages:\n  x:\n{}", image(program));
        let file = format!("FROM x\n{lines}");
        who(&Scratch::with("compose.yaml", compose).and("s.yaml", scene).and("Dockerfile", file))
    };
    let own = "0 for 1000";
    let engines = "1000 for 1000";
    for (lines, program, expected) in [
        ("", OF_IMAGE, own),
        ("ENTRYPOINT [\"/bin/raise\", \"-v\"]\n", "", own),
        ("ENTRYPOINT /bin/raise\n", "", engines),
        ("SHELL [\"/bin/raise\", \"-c\"]\nENTRYPOINT x\n", "", own),
        ("ENTRYPOINT []\nCMD [\"/bin/raise\"]\n", "", own),
        ("CMD [\"/bin/raise\"]\nENTRYPOINT []\n", OF_IMAGE, own),
        ("CMD [\"/bin/plain\"]\n", OF_IMAGE, own),
        ("ENTRYPOINT [\"/bin/plain\"]\n", OF_IMAGE, engines),
        ("ENV PATH=/own:$PATH\nENTRYPOINT [\"raise\"]\n", "", engines),
        ("ENV PATH=$PATH:/own\nENTRYPOINT [\"raise\"]\n", "", own),
        ("ENV PATH /own:/bin\nENV PATH=/bin:${PATH}\nENTRYPOINT [\"raise\"]\n", "", own),
        ("USER root\nRUN chmod 0755 /bin/raise\nUSER 1000:1000\n", OF_IMAGE, engines),
        ("USER root\nRUN chmod u+s /bin/plain\nUSER 1000:1000\nENTRYPOINT [\"/bin/plain\"]\n", "", own),
    ] {
        assert_eq!(built(lines, program), expected, "{lines}");
    }
}

/// The context has the file, so what it is is known: set-id bits of a script do nothing.
#[test]
fn a_script_of_the_build_context_is_none() {
    let of = |content: &[u8]| {
        let scene = format!("scene: 1\nworkloads: [compose.yaml]\nimages:\n  x:\n{}", image(""));
        let scratch = Scratch::with("compose.yaml", "services:\n  c:\n    image: built\n    build: .\n");
        let lines = "FROM x\nUSER root\nCOPY run /bin/run\nRUN chmod 4755 /bin/run\nUSER 1000:1000\nENTRYPOINT [\"/bin/run\"]\n";
        who(&scratch.and("s.yaml", scene).and("Dockerfile", lines).and("run", content))
    };
    assert_eq!(of(b"\x7fELF\x02\x01\x01"), "0 for 1000");
    assert_eq!(of(b"#!/bin/plain\n"), "1000 for 1000");
    assert_eq!(of(b"#!/bin/raise\n"), "0 for 1000");
}

#[test]
fn image_configurations() {
    let saved = |config: serde_json::Value| {
        let mut tar = tar::Builder::new(Vec::new());
        let mut add = |name: &str, bytes: &[u8], mode: u32| {
            let mut header = tar::Header::new_gnu();
            header.set_size(bytes.len() as u64);
            header.set_mode(mode);
            tar.append_data(&mut header, name, bytes).unwrap();
        };
        let mut layer = tar::Builder::new(Vec::new());
        for (name, mode) in [("bin/raise", 0o4755), ("own/raise", 0o755)] {
            let mut header = tar::Header::new_gnu();
            header.set_size(4);
            header.set_uid(0);
            header.set_gid(0);
            header.set_mode(mode);
            layer.append_data(&mut header, name, &b"\x7fELF"[..]).unwrap();
        }
        let document = json!({ "architecture": "amd64", "os": "linux", "rootfs": { "type": "layers", "diff_ids": [] }, "config": config });
        let named = format!("{:064x}.json", 9);
        add(&named, document.to_string().as_bytes(), 0o644);
        add("layer.tar", &layer.into_inner().unwrap(), 0o644);
        let manifest = json!([{ "Config": named, "RepoTags": ["x:1"], "Layers": ["layer.tar"] }]);
        add("manifest.json", manifest.to_string().as_bytes(), 0o644);
        let scene = "scene: 1\nworkloads: [c.yaml]\nimages: { 'x:1': { from: x.tar } }\n";
        let scratch = Scratch::with("s.yaml", scene)
            .and("c.yaml", "services: { c: { image: 'x:1', user: '1000:1000' } }\n")
            .and("x.tar", tar.into_inner().unwrap());
        who(&scratch)
    };
    assert_eq!(saved(json!({ "Entrypoint": ["/bin/raise"] })), "0 for 1000");
    assert_eq!(saved(json!({ "Cmd": ["raise"], "Env": ["PATH=/own:/bin"] })), "1000 for 1000");
    assert_eq!(
        saved(json!({ "Entrypoint": null, "Cmd": ["raise"], "Env": ["A=b", "PATH=/bin"] })),
        "0 for 1000"
    );
}

#[test]
fn what_the_user_may_not_start_never_runs() {
    let scene = "scene: 1\nimages:\n  x:\n    tree:\n      - { path: /shut, owner: '0:0', mode: 0700 }\n      \
        - { path: /held, owner: '0:0', mode: 0755, capabilities: 'SYS_ADMIN=ep' }\ncontainers:\n  \
        - { name: shut, image: x, user: '1000:1000', program: /shut }\n  - { name: held, image: x, user: '1000:1000', program: /held }\n  \
        - { name: root, image: x, user: '0:0', program: /shut }\n";
    let scratch = Scratch::with("s.yaml", scene);
    assert_snapshot!(scratch.run(["ask", "s.yaml", "-q", "shut inspects /", "held inspects /", "root inspects /"]), @"
    never runs     shut inspects /
                   StartError: its program /shut cannot be started: EACCES: -rwx------ 0700 0:0: other has ---, needed --x
                   s.yaml:8:57 containers.program
    never runs     held inspects /
                   StartError: its program /held cannot be started: EPERM: the file's capabilities are to be in force, but the bounding set lacks SYS_ADMIN
                   s.yaml:9:57 containers.program
    allowed        root inspects /
                   shows 0:0 0755

    Assumed
      a directory that the tree does not list is 0:0 0755
    --- status 0
    ");
}

#[test]
fn identity_says_who_the_program_makes_of_it() {
    let scene = format!(
        "scene: 1\nimages:\n  x:\n{}containers:\n  - {{ name: c, image: x, program: raise }}\n",
        image("")
    );
    assert_snapshot!(Scratch::with("s.yaml", &scene).run(["identity", "s.yaml", "-q"]), @"
    c  app container of scene, image x
      field      value           from
      program    /bin/raise      s.yaml:15:35 containers.program
      uid        0               the set-user-ID bit of /bin/raise
      effective  the default 14  what /bin/raise gives
      real uid   1000            s.yaml:4:11 images.x.user
      gid        1000            s.yaml:4:11 images.x.user
      umask      0022            the runtime's default umask
      assumed: raise is looked for in /usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin
    --- status 0
    ");
}
