//! What build files leave in an image, row by row as measured (docs/facts/runtimes.md section 9), and by name where no one
//! can say.

mod fixtures;

use mivask_core::act::parse_act;
use mivask_core::question::{access, ask, facts_at};
use mivask_core::settle::Outcome;
use mivask_core::stage::Stage;

use fixtures::{GROUP, PASSWD, identity, read, stage};

const TREE: &str = "
    tree:
    - { path: /, kind: dir, owner: '0:0', mode: 0755 }
    - { path: /data, kind: dir, owner: '405:1001', mode: 0750 }
    - { path: /data/a, owner: '405:1001', mode: 0600 }
    - { path: /sgid, kind: dir, owner: '405:50', mode: 2775 }
    - { path: /open, owner: '0:0', mode: 0666 }
    - { path: /home, kind: dir, owner: '0:0', mode: 0755 }
    - { path: /link, kind: link, owner: '0:0', target: /data }
    - { path: /tmp, kind: dir, owner: '0:0', mode: 1777 }
";

const FILES: &[(&str, &str)] = &[
    ("ctx/f", "x"),
    ("ctx/tree/f", "x"),
    ("ctx/tree/sub/g", "x"),
    ("ctx/left", "x"),
    ("ctx/.dockerignore", "left\n"),
];

fn base() -> String {
    let accounts = |text: &str| text.replace('\n', "\n        ");
    format!(
        "images:\n  base:\n    user: null\n    accounts:\n      passwd: |\n        {}\n      group: |\n        {}{TREE}",
        accounts(PASSWD),
        accounts(GROUP)
    )
}

/// The service `c`, whose image is built as `lines` say, on top of `images`.
fn built_on(images: &str, runtime: &str, lines: &str) -> Stage {
    let scene = format!("scene: 1\nruntime: {runtime}\nworkloads: [compose.yaml]\n{images}");
    let compose = "services:\n  c: { image: built, build: ctx }\n";
    let mut files = vec![("s.yaml", scene.as_str()), ("compose.yaml", compose), ("/ctx/Dockerfile", lines)];
    let own: Vec<(String, &str)> = FILES.iter().map(|(name, text)| (format!("/{name}"), *text)).collect();
    files.extend(own.iter().map(|(name, text)| (name.as_str(), *text)));
    stage("s.yaml", &files)
}

fn built(runtime: &str, lines: &str) -> Stage {
    built_on(&base(), runtime, &format!("FROM base\n{lines}\n"))
}

/// What is at `path`: `uid:gid mode`, `missing`, or `not known`.
fn at(stage: &Stage, path: &str) -> String {
    let actor = &stage.actors[0];
    if let Some(refusal) = actor.refusal() {
        return format!("refused: {}", refusal.reason);
    }
    let row = access(stage, actor, path.as_bytes());
    match facts_at(stage, actor, path.as_bytes()) {
        Some(facts) => match (facts.uid, facts.gid, facts.mode) {
            (Some(uid), Some(gid), Some(mode)) => format!("{uid}:{gid} {mode}"),
            _ => "not known".to_owned(),
        },
        None if row.missing => "missing".to_owned(),
        None => "not known".to_owned(),
    }
}

macro_rules! rows {
    ($($name:ident: $runtime:literal $lines:literal => $($path:literal $expected:literal),+;)+) => {$(
        #[test]
        fn $name() {
            let stage = built($runtime, $lines);
            $(assert_eq!(at(&stage, $path), $expected, "{}", $path);)+
        }
    )+};
}

rows! {
    classic_makes_the_working_directory_as_root: "docker\nbuilder: classic" "USER app\nWORKDIR /wd/a" => "/wd" "0:0 0755", "/wd/a" "0:0 0755";
    podman_leaves_it_to_the_first_command: "podman" "USER app\nWORKDIR /wd/a\nRUN true" => "/wd" "405:1001 0755", "/wd/a" "405:1001 0755";
    podman_knows_no_group_for_a_number: "podman" "USER 9999\nWORKDIR /wd\nRUN true" => "/wd" "9999:9999 0755";
    podman_leaves_it_to_a_copy: "podman" "USER app\nWORKDIR /wd\nCOPY --chown=alice f g" => "/wd" "1000:1000 0755";
    commands_are_the_users: "docker" "USER app\nRUN mkdir /tmp/d && touch /tmp/f" => "/tmp/d" "405:1001 0755", "/tmp/f" "405:1001 0644";
    podman_makes_it_with_any_copy: "podman" "WORKDIR /sgid/w\nUSER app\nWORKDIR /wd/a\nCOPY --chmod=600 f /tmp/f\nUSER root" => "/wd" "405:1001 0755", "/wd/a" "405:1001 0755";
    podman_takes_a_number_for_its_own_group: "podman" "USER 405\nWORKDIR /wd\nRUN true" => "/wd" "405:405 0755";
    what_always_fails: "docker" "RUN false && mkdir /a; mkdir /b" => "/a" "missing", "/b" "0:0 0755";
    a_set_group_id_directory: "docker" "USER app\nRUN cd /sgid && mkdir d && touch f" => "/sgid/d" "405:50 2755", "/sgid/f" "405:50 0644";
    modes_of_mkdir: "docker" "RUN umask 077 && mkdir -p /a/b && mkdir -m 1770 /c" => "/a" "0:0 0700", "/a/b" "0:0 0700", "/c" "0:0 1770";
    the_next_run_has_a_new_shell: "docker" "RUN umask 077; cd /tmp\nRUN mkdir a" => "/a" "0:0 0755";
    names_and_login_groups: "docker" "RUN chown app:staff /open && chown -R bob: /data" => "/open" "405:50 0666", "/data/a" "1001:1000 0600";
    a_change_of_owner_takes_set_id_bits: "docker" "RUN chmod 6755 /open && chown app /open" => "/open" "405:0 0755";
    through_a_link: "docker" "RUN chmod o+r /link/a" => "/data/a" "405:1001 0604";
    a_copy_is_roots: "docker" "USER app\nCOPY --chmod=640 f /dir/f" => "/dir" "0:0 0755", "/dir/f" "0:0 0640";
    classic_gives_parents_of_a_file_away: "docker\nbuilder: classic" "COPY --chown=app f /made/f" => "/made" "405:1001 0755";
    classic_keeps_parents_of_a_directory: "docker\nbuilder: classic" "COPY --chown=app:staff tree /made/to" => "/made" "0:0 0755", "/made/to" "405:50 0755";
    podman_gives_those_away_too: "podman" "COPY --chown=app:staff tree /made/to" => "/made" "405:50 0755", "/made/to" "405:50 0755";
    numbers_come_first: "docker" "COPY --chown=1001 --chmod=600 f /f" => "/f" "1001:1001 0600";
    classic_wants_a_group_of_that_name: "docker\nbuilder: classic" "COPY --chown=bob f /f" =>
        "/f" "refused: image built cannot be built: `COPY --chown=bob f /f`: the image has no group `bob`";
    podman_takes_the_login_group: "podman" "COPY --chown=bob --chmod=600 f /f" => "/f" "1001:1000 0600";
    a_group_alone: "podman" "COPY --chown=:staff --chmod=600 f /f" => "/f" "0:50 0600";
    an_existing_directory_keeps_its_own: "docker" "COPY --chown=9:9 tree /data" => "/data" "405:1001 0750", "/data/sub" "not known";
    the_ignore_file_counts: "docker" "COPY . /all" => "/all/left" "missing", "/all/tree/f" "not known";
    from_a_stage_owners_stay: "docker" "RUN chown app /open && chmod 4755 /open\nFROM base\nCOPY --from=0 /open /o\nCOPY --from=0 --chown=9 /open /p" =>
        "/o" "405:0 4755", "/p" "9:9 4755";
    classic_takes_set_id_bits_of_files: "docker\nbuilder: classic" "RUN chmod 4755 /open\nFROM base\nCOPY --from=0 --chown=9 /open /p" => "/p" "9:9 0755";
    classic_knows_no_chmod: "docker\nbuilder: classic" "COPY --chmod=640 f /f" =>
        "/f" "refused: image built cannot be built: `COPY --chmod=640 f /f`: --chmod needs BuildKit";
    classic_needs_a_directory_to_work_in: "docker\nbuilder: classic" "WORKDIR ${UNSET}" =>
        "/" "refused: image built cannot be built: WORKDIR `${UNSET}`: it names no directory";
    buildkit_makes_the_working_directory_for_the_user: "docker" "USER app\nWORKDIR /wd/a" => "/wd" "405:1001 0755", "/wd/a" "405:1001 0755";
    buildkit_gives_a_number_away_as_it_is: "docker" "USER 405\nWORKDIR /wd\nWORKDIR /sgid/w" => "/wd" "405:405 0755", "/sgid/w" "405:405 2755";
    buildkit_leaves_root_the_group_above: "docker" "WORKDIR /sgid/a\nCOPY --chmod=600 f /sgid/n/f" => "/sgid/a" "0:50 2755", "/sgid/n" "0:50 2755", "/sgid/n/f" "0:0 0600";
    buildkit_gives_parents_away: "docker" "COPY --chown=405:50 tree /made/to" => "/made" "405:50 0755", "/made/to" "405:50 0755";
    buildkit_takes_the_login_group: "docker" "COPY --chown=bob --chmod=600 f /f" => "/f" "1001:1000 0600";
    buildkit_sets_permissions_alone: "docker" "COPY --chmod=4711 f /f" => "/f" "0:0 0711";
    buildkit_keeps_what_is_below_a_volume: "docker" "VOLUME /data\nRUN chown alice /data && touch /data/new" => "/data" "1000:1001 0750", "/data/new" "0:0 0644";
    buildkit_takes_no_name_for_root: "docker" "COPY --chown=nouser --chmod=600 f /f" => "/f" "0:0 0600";
    nobody_runs_a_command: "docker" "USER nouser\nRUN true\nUSER root" => "/" "refused: image built cannot be built: RUN `true`: the image has no user `nouser`";
    no_one_by_that_group: "podman" "USER app:nogroup\nRUN true\nUSER root" => "/" "refused: image built cannot be built: RUN `true`: the image has no group `nogroup`";
    an_empty_working_directory: "docker" "WORKDIR ${UNSET}\nRUN touch f" => "/f" "0:0 0644";
    a_group_of_the_account: "docker" "USER alice\nRUN mkdir /tmp/d && chgrp staff /tmp/d" => "/tmp/d" "1000:50 0755";
    a_copied_file: "docker" "RUN cp /open /c && cp -p /data/a /k && cp /open /data/a" => "/c" "0:0 0644", "/k" "405:1001 0600", "/data/a" "405:1001 0600";
    a_copied_tree: "docker" "RUN cp -a /data /c && cp -r /data /d && cp -r /data/. /tmp" => "/c" "405:1001 0750", "/c/a" "405:1001 0600", "/d" "0:0 0750", "/tmp/a" "0:0 0600";
    tools_differ_about_set_id_bits: "docker" "RUN cp -r /sgid /c && cp -a /sgid /k" => "/c" "not known", "/k" "405:50 2775";
    a_directory_needs_a_word: "docker" "RUN cp /data /c" => "/" "refused: image built cannot be built: RUN `cp /data /c`: -r is not given for a directory";
    moved: "docker" "RUN mv /data/a /b && mv /data /tmp/" => "/b" "405:1001 0600", "/tmp/data" "405:1001 0750", "/data" "missing";
    removed: "docker" "RUN rm /open && rm -rf /data/* && rmdir /sgid" => "/open" "missing", "/data" "405:1001 0750", "/data/a" "missing", "/sgid" "missing";
    not_removed: "docker" "RUN rm /data" => "/" "refused: image built cannot be built: RUN `rm /data`: EISDIR";
    pointed_at: "docker" "RUN ln -s /data/a /l && ln -sfn /open /link && ln /open /hard" => "/l" "405:1001 0600", "/link" "0:0 0666", "/hard" "0:0 0666";
    installed: "docker" "RUN install -d -o app -g staff -m 2750 /i/a && install -m 640 /open /i/a/f && install -D -o 9 /open /j/k/f" =>
        "/i" "0:0 0755", "/i/a" "405:50 2750", "/i/a/f" "0:50 0640", "/j/k" "0:0 0755", "/j/k/f" "9:0 0755";
    output_into_files: "docker" "RUN umask 027; echo x > /o && echo y >> /open && : > /data/a" => "/o" "0:0 0640", "/open" "0:0 0666", "/data/a" "405:1001 0600";
    output_into_nothing: "docker" "RUN echo x > /none/x" => "/" "refused: image built cannot be built: RUN `echo x > /none/x`: ENOENT";
    a_text_into_a_file: "docker" "RUN cat <<E > /t && chmod 600 /t\nUSER nobody\nE\nRUN chown 5 /t" => "/t" "5:0 0600";
    a_test_that_holds: "docker" "RUN test -d /data && chmod 700 /data; [ -f /data ] && chmod 711 /data; true" => "/data" "405:1001 0700";
    a_test_that_does_not: "docker" "RUN [ -f /data ]" => "/" "refused: image built cannot be built: RUN `[ -f /data ]`: it is not so";
    failure_that_does_not_matter: "docker" "RUN rm /none || true; mkdir /m && mkdir /m; mkdir /n" => "/m" "0:0 0755", "/n" "0:0 0755";
    a_pattern_that_is_known: "docker" "RUN chmod 600 /op* /dat[a-b]" => "/open" "0:0 0600", "/data" "405:1001 0600";
    links_themselves: "docker" "RUN chown -h app /link" => "/data" "405:1001 0750";
    what_is_refused_changes_nothing: "docker" "USER alice\nRUN cp -p /open /data/a; ln -s /open /data/l; mv /open /data/m; true\nUSER root" =>
        "/data/a" "405:1001 0600", "/data/l" "missing", "/data/m" "missing", "/open" "0:0 0666";
    one_that_is_missing_stops_no_other: "docker" "RUN cp -p /none /data/a /tmp/; true" => "/tmp/a" "405:1001 0600";
    moved_to_where_a_directory_may_be: "docker" "RUN mkdir /opt && apk add tini && mv /open /opt/x" => "/opt/x" "not known";
    command_starts_another: "docker" "RUN command -v tini; command mkdir /c; env A=b mkdir /e" => "/c" "0:0 0755", "/data/new" "missing";
    removed_in_what_is_not_listed: "docker" "RUN apk add tini && mkdir -p /var/cache/apk/x && rm -rf /var/cache/apk/* && mkdir /later" =>
        "/later" "0:0 0755", "/data/a" "405:1001 0600";
    packages_leave_the_rest_alone: "docker" "RUN apk add --no-cache tini" => "/data/new" "missing", "/usr/x" "not known";
    stages_by_name: "docker" "RUN mkdir /x\nFROM base AS two\nCOPY --from=one /x /y\nFROM two" => "/y" "not known";
    missing_sources: "docker" "COPY nothing /x" => "/x" "refused: image built cannot be built: `COPY nothing /x`: nothing is not in the build context";
    a_refused_command: "docker" "USER alice\nRUN mkdir /data/x" =>
        "/" "refused: image built cannot be built: RUN `mkdir /data/x`: user 1000 is refused: EACCES (permission denied)";
    a_refused_owner: "docker" "USER alice\nRUN chown alice /open" =>
        "/" "refused: image built cannot be built: RUN `chown alice /open`: user 1000 is refused: EPERM (operation not permitted)";
    what_is_there_already: "docker" "RUN mkdir /data" => "/" "refused: image built cannot be built: RUN `mkdir /data`: EEXIST";
    no_parent: "docker" "RUN mkdir /a/b" => "/" "refused: image built cannot be built: RUN `mkdir /a/b`: ENOENT";
    a_name_nobody_has: "docker" "RUN chown nobody-at-all /data" =>
        "/" "refused: image built cannot be built: RUN `chown nobody-at-all /data`: there is no user or group `nobody-at-all`";
    set_id_bits_of_directories_differ_by_tool: "docker" "RUN chmod 0755 /sgid && chmod 2750 /data" => "/sgid" "not known", "/data" "405:1001 2750";
    an_archive: "docker" "ADD x.tar /data/" => "/" "refused: image built cannot be built: `ADD x.tar /data/`: x.tar is not in the build context";
    an_address: "docker" "ADD https://tides.example/gauge /data/\nADD --chmod=640 https://tides.example/gauge /g" => "/data/gauge" "not known", "/g" "0:0 0640";
}

macro_rules! accounts {
    ($($name:ident: $lines:literal => $expected:literal;)+) => {$(
        #[test]
        fn $name() {
            assert_eq!(identity(&built("docker", $lines)), $expected);
        }
    )+};
}

accounts! {
    short_options: "RUN addgroup -g 7200 tides && adduser -D -H -u 7101 -G tides gauge\nUSER gauge" => "7101:7200 7200";
    long_options: "RUN addgroup --gid 7200 tides && adduser --disabled-password --gecos '' --uid 7101 --ingroup tides gauge\nUSER gauge" => "7101:7200 7200";
    large_images: "RUN groupadd -r -g 720 tides; useradd -rmu 710 -g tides -G staff,wheel gauge\nUSER gauge" => "710:720 10,50,720";
    an_own_group: "RUN useradd -u 7101 -U gauge\nUSER gauge" => "7101:7101 7101";
    members: "RUN adduser -D -u 7101 gauge && addgroup gauge staff && adduser gauge wheel\nUSER gauge" => "7101:7101 10,50,7101";
    changed_groups: "RUN usermod -aG wheel app && usermod -G audio alice && usermod -g staff bob\nUSER app" => "405:1001 10,50,1001";
    replaced_groups: "RUN usermod -G audio alice\nUSER alice" => "1000:1000 29,1000";
    another_login_group: "RUN usermod -g audio -u 77 bob\nUSER bob" => "77:29 29,50,4101";
    system_accounts_of_small_images: "RUN addgroup -S tides && adduser -S -G tides gauge\nUSER gauge" => "100:100 100";
    the_last_user_counts: "USER app\nUSER alice:staff" => "1000:50 50";
    a_group_nobody_has: "RUN adduser -D -G nothing gauge\nUSER gauge" =>
        "refused: image built cannot be built: RUN `adduser -D -G nothing gauge`: there is no group `nothing`";
    only_root_adds_accounts: "USER app\nRUN adduser -D gauge" =>
        "refused: image built cannot be built: RUN `adduser -D gauge`: it does not run as root";
    variables: "ARG WHO=app\nENV U=$WHO\nUSER ${U}:${NONE:-staff}" => "405:50 50";
}

#[test]
fn a_number_that_a_tool_picks_is_an_assumption_or_unknown() {
    let scratch = "FROM scratch\nCOPY f /bin/sh\nRUN addgroup tides && adduser -D -G tides gauge\nUSER gauge";
    let stage = built_on("", "docker", scratch);
    assert_eq!(identity(&stage), "1000:1000 1000");
    let assumed =
        stage.actors[0].identity.assumptions.iter().any(|text| text.contains("the first one free from 1000"));
    assert!(assumed, "{:?}", stage.actors[0].identity.assumptions);
    // With gaps tools differ, and downwards it depends on their settings.
    for lines in ["RUN adduser -D gauge\nUSER gauge", "RUN useradd -r gauge\nUSER gauge"] {
        let stage = built("docker", lines);
        let facts = &stage.actors[0].identity.facts;
        assert!(facts.iter().any(|fact| fact.value == "that of `gauge`"), "{facts:?}");
    }
}

#[test]
fn without_facts_of_the_base_its_own_are_unknown_and_what_is_set_is_known() {
    let lines = "FROM tides/base:1\nRUN mkdir -p /data/in && chown 7101:7200 /data/in && chmod 2770 /data/in\nUSER 7101:7200";
    let stage = built_on("", "docker", lines);
    let outcome = |act: &str| ask(&stage, &parse_act(act).unwrap()).map(|answer| answer.outcome).unwrap();
    assert_eq!(outcome("c creates /data/in/x"), Outcome::Allowed);
    assert_eq!(outcome("c reads /etc/passwd"), Outcome::Depends);
    assert_eq!(at(&stage, "/data/in"), "7101:7200 2770");
}

#[test]
fn what_is_not_understood_names_itself() {
    let stage = built("docker", "RUN npm ci && tar -xf /tmp/x -C /data\nRUN mkdir /later\nUSER 5555");
    let dependence = |act: &str| {
        let answer = ask(&stage, &parse_act(act).unwrap()).unwrap();
        assert_eq!(answer.outcome, Outcome::Depends, "{act}");
        answer.depends_on.iter().map(|one| one.fact.clone()).collect::<Vec<_>>().join("; ")
    };
    assert!(dependence("c reads /data/a").contains("what becomes of /data in RUN `tar -xf /tmp/x -C /data`"));
    assert!(dependence("c reads /etc/new").contains("which files are added by RUN `npm ci`"));
    let question = stage.actors[0].identity.question.as_ref().unwrap();
    assert_eq!(&*question.fact, "the account files of image built");
    // What comes behind it is known again, and what it does not name is assumed to stay.
    assert_eq!(at(&stage, "/later"), "0:0 0755");
    let answer = ask(&stage, &parse_act("c lists /sgid").unwrap()).unwrap();
    assert!(answer.assumptions.iter().any(|text| text.contains("npm ci")), "{:?}", answer.assumptions);
}

#[test]
fn facts_that_somebody_gives_win() {
    let images = "images:\n  built: { user: '7:8', tree: [{ path: /, kind: dir, owner: '7:8', mode: 0700 }, { path: /x, owner: '7:8', mode: 0700 }] }\n";
    let stage = built_on(images, "docker", "FROM other\nUSER 1:1\nRUN mkdir /x");
    assert_eq!((identity(&stage).as_str(), at(&stage, "/x").as_str()), ("7:8 8", "7:8 0700"));
    // The root directory is the storage's, whatever anybody gives.
    assert_eq!(at(&stage, "/"), "0:0 0755");
}

#[test]
fn arguments_targets_and_inline_files() {
    let compose = "
services:
  c:
    build:
      context: .
      target: test
      args: [UID, GID=7200]
      dockerfile_inline: |
        ARG GID=1
        FROM scratch AS test
        ARG UID=5 GID
        USER $$UID:$$GID
        FROM scratch
";
    let stage = stage("compose.yaml", &[("compose.yaml", compose), ("$UID", "7101")]);
    assert_eq!(identity(&stage), "7101:7200 7200");
}

#[test]
fn slips_point_into_the_build_file() {
    let said = |compose: &str, file: &str| {
        read("compose.yaml", &[("compose.yaml", compose), ("/Dockerfile", file), ("/f", "x")]).1
    };
    let plain = "services:\n  c: { build: . }\n";
    let whose = |said: Vec<String>| said.join("\n");
    assert!(whose(said(plain, "FROM scratch\nRUNN x\n")).contains("error Dockerfile:2: unknown instruction"));
    assert!(
        whose(said(plain, "FROM scratch\nUSER $NOBODY\n"))
            .contains("warning Dockerfile:1: no value for NOBODY")
    );
    assert!(
        whose(said(plain, "FROM scratch\nCOPY ../x /\n")).contains("error Dockerfile:2: `../x` is outside")
    );
    assert!(
        whose(said(plain, "FROM scratch\nCOPY --chmod=u+x f /\n"))
            .contains("warning Dockerfile:2: --chmod `u+x`")
    );
    let target = "services:\n  c: { build: { context: ., target: none } }\n";
    assert!(whose(said(target, "FROM scratch AS one\n")).contains("there is no build stage `none`"));
    let missing = "services:\n  c: { build: { context: ., dockerfile: Other } }\n";
    assert!(whose(said(missing, "")).contains("warning compose.yaml:2: Other cannot be read"));
    let remote = "services:\n  c: { build: 'https://tides.example/gauge.git' }\n";
    assert!(whose(said(remote, "")).contains("note compose.yaml:2: the build context of"));
}
