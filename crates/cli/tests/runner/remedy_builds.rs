//! Remedies in the image, as patches of its build file.

use insta::assert_snapshot;

use crate::scratch::Scratch;

const SCENE: &str = "\
scene: 1
workloads: [compose.yaml]
runtime: docker
builder: buildkit
images:
  base:
    tree:
      - { path: /, kind: dir, owner: '0:0', mode: '0755' }
      - { path: /bin, kind: dir, owner: '0:0', mode: '0755' }
      - { path: /bin/sh, kind: file, owner: '0:0', mode: '0755' }
      - { path: /etc, kind: dir, owner: '0:0', mode: '0755' }
      - { path: /var, kind: dir, owner: '0:0', mode: '0755' }
";

const COMPOSE: &str = "services:\n  app:\n    build: .\n    read_only: false\n";

const BUILD: &str = "\
# the service
FROM base
WORKDIR /srv/app
COPY app /srv/app
COPY app.conf /etc/app.conf
RUN mkdir /var/app \\
    && chmod 750 /var/app

# who runs it
USER 1000:1000
";

fn service(build: &str) -> Scratch {
    let scratch = Scratch::with("s.yaml", SCENE).and("compose.yaml", COMPOSE).and("Dockerfile", build);
    std::fs::create_dir(scratch.path().join("app")).expect("a folder");
    let scratch = scratch.and("app/run.sh", "#!/bin/sh\n").and("app.conf", "port=1\n");
    let narrow = std::os::unix::fs::PermissionsExt::from_mode(0o640);
    std::fs::set_permissions(scratch.path().join("app.conf"), narrow).expect("a mode");
    scratch
}

/// The added lines of the patch of the first remedy that changes the build file.
fn added(scratch: &Scratch, act: &str) -> Vec<String> {
    let found = scratch.json(["remedy", "s.yaml", act, "-q", "--format", "json"]);
    let remedies = found["remedies"].as_array().cloned().unwrap_or_default();
    let files = remedies.iter().flat_map(|one| one["files"].as_array().cloned().unwrap_or_default());
    let diff = files.filter(|file| file["file"] == "Dockerfile").find_map(|file| {
        let diff = file["diff"].as_str().unwrap_or_default().to_owned();
        (!diff.is_empty()).then_some(diff)
    });
    let diff = diff.unwrap_or_else(|| panic!("{act}: {found}"));
    let plus = diff.lines().filter(|line| line.starts_with('+') && !line.starts_with("+++"));
    plus.map(|line| line[1..].to_owned()).collect()
}

#[test]
fn the_line_that_makes_the_file_is_changed() {
    let scratch = service(BUILD);
    assert_snapshot!(scratch.run(["remedy", "s.yaml", "app reads /etc/app.conf", "-q", "--most", "1"]), @r#"
    denied EACCES  app reads /etc/app.conf
                   /etc/app.conf: -rw-r----- 0640 0:0: other has ---, needed r--

    1  image    image app sets-group 1000 on /etc/app.conf
                opens nothing else; touches 1 inode
                --- Dockerfile
                +++ Dockerfile
                @@ -3,5 +3,5 @@
                 WORKDIR /srv/app
                 COPY app /srv/app
                -COPY app.conf /etc/app.conf
                +COPY --chown=0:1000 app.conf /etc/app.conf
                 RUN mkdir /var/app \
                     && chmod 750 /var/app
    and 4 wider ones: --most 5
    --- status 0
    "#);
    assert_eq!(added(&scratch, "app creates /srv/app/x"), ["RUN chown 1000 /srv/app"]);
    assert_eq!(
        added(&scratch, "app creates /var/app/x"),
        ["    && chmod 750 /var/app \\", "    && chown 1000 /var/app"]
    );
    assert_eq!(added(&scratch, "app creates /cache/x"), ["RUN mkdir -m 0755 /cache && chown 1000 /cache"]);
    assert_eq!(added(&scratch, "app runs /srv/app/run.sh"), ["COPY --chown=0:1000 --chmod=654 app /srv/app"]);
}

#[test]
fn the_build_comes_before_another_user() {
    let given = BUILD.replace("COPY app.conf /etc/app.conf", "COPY --chown=7:0 app.conf /etc/app.conf");
    let scratch = service(&given);
    let found = scratch.json(["remedy", "s.yaml", "app reads /etc/app.conf", "-q", "--format", "json"]);
    assert_eq!(found["remedies"][0]["files"][0]["file"], "Dockerfile", "{found}");
    assert_eq!(added(&scratch, "app reads /etc/app.conf"), ["COPY --chown=7:1000 app.conf /etc/app.conf"]);
}

#[test]
fn what_is_patched_does_what_it_says() {
    let mut tried = 0;
    for build in [
        BUILD.to_owned(),
        BUILD.replace("COPY app.conf /etc/app.conf", "COPY --chown=7:7 app.conf /etc/app.conf"),
        BUILD.replace("WORKDIR /srv/app", "USER 1000:1000\nWORKDIR /srv/app"),
        BUILD.replace("FROM base", "FROM base AS first\nUSER 1000:1000\nFROM first"),
        BUILD.replace("USER 1000:1000\n", "USER 1000:1000"),
        BUILD.replace(
            "RUN mkdir /var/app \\\n    && chmod 750 /var/app",
            "RUN mkdir /var/app ; chmod 750 /var/app",
        ),
        BUILD.replace("\\\n", "`\n").replace("# the service", "# escape=`"),
    ] {
        for act in [
            "app reads /etc/app.conf",
            "app creates /srv/app/x",
            "app creates /var/app/x",
            "app creates /cache/x",
        ] {
            let scratch = service(&build);
            let found = scratch.json(["remedy", "s.yaml", act, "-q", "--format", "json"]);
            let remedies = found["remedies"].as_array().cloned().unwrap_or_default();
            for (number, remedy) in remedies.iter().enumerate() {
                let files = remedy["files"].as_array().cloned().unwrap_or_default();
                if !files.iter().any(|file| file["file"] == "Dockerfile" && file["diff"] != "") {
                    continue;
                }
                let folder = tempfile::tempdir().unwrap();
                let (number, folder) = ((number + 1).to_string(), folder.path().display().to_string());
                let said =
                    scratch.run(["remedy", "s.yaml", act, "-q", "--pick", &number, "--apply-to", &folder]);
                assert!(said.ends_with("status 0"), "{said}");
                for name in ["Dockerfile", "compose.yaml"] {
                    let changed = std::path::Path::new(&folder).join(name);
                    if changed.exists() {
                        std::fs::copy(changed, scratch.path().join(name)).unwrap();
                    }
                }
                let said = scratch.run(["ask", "s.yaml", act, "-q"]);
                assert!(said.starts_with("allowed"), "{build}\n{act}: {remedy}\n{said}");
                std::fs::write(scratch.path().join("Dockerfile"), &build).unwrap();
                std::fs::write(scratch.path().join("compose.yaml"), COMPOSE).unwrap();
                tried += 1;
            }
        }
    }
    assert!(tried > 40, "{tried}");
}

#[test]
fn an_image_that_nothing_runs_in() {
    let scratch = service("FROM scratch\nCOPY app /srv/app\nUSER 1000:1000\n");
    let found = scratch.run(["remedy", "s.yaml", "app creates /srv/app/x", "-q", "--most", "1"]);
    assert_snapshot!(found, @"
    denied EACCES  app creates /srv/app/x
                   /srv/app: drwxr-xr-x 0755 0:0: other has r-x, needed -wx

    1  image    image app sets-owner 1000 on /srv/app
                opens 1 more: app can delete /srv/app/run.sh; touches 1 inode
                --- Dockerfile
                +++ Dockerfile
                @@ -1,3 +1,3 @@
                 FROM scratch
                -COPY app /srv/app
                +COPY --chown=1000:0 app /srv/app
                 USER 1000:1000
                nothing runs in that image, so the option of the copy gives away all that it copies
    and 2 wider ones: --most 3
    --- status 0
    ");
}
