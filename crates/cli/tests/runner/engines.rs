//! What engines and Compose put into containers beside what is asked for, and how volumes are named.

use serde_json::Value;

use crate::scratch::Scratch;

const IMAGES: &str = "
images:
  hive:
    user: null
    accounts: { passwd: 'root:x:0:0::/:/bin/sh', group: 'root:x:0:' }
    tree:
      - { path: /, kind: dir, owner: '0:0', mode: 0755 }
      - { path: /etc, kind: dir, owner: '0:0', mode: 0755 }
      - { path: /run, kind: dir, owner: '0:0', mode: 0755 }
      - { path: /comb, kind: dir, owner: '5101:5200', mode: 0750 }
      - { path: /comb/a, owner: '5101:5200', mode: 0600 }
  keeper:
    user: null
    accounts: { passwd: 'root:x:0:0::/:/bin/sh', group: 'root:x:0:' }
    tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }, { path: /comb, kind: dir, owner: '7:8', mode: 0701 }]
    volumes: [/comb]
";

/// A scene of `runtime` with one Compose file.
fn scene(runtime: &str, compose: &str) -> Scratch {
    Scratch::with("s.yaml", &format!("scene: 1\nruntime: {runtime}\nworkloads: [c.yaml]\n{IMAGES}"))
        .and("c.yaml", compose)
}

/// What is at a path for `actor`, as `uid:gid mode`.
fn at(scratch: &Scratch, input: &str, actor: &str, path: &str) -> String {
    let answer = scratch.json(["access", input, "--actor", actor, path, "-q", "--format", "json"]);
    let row = &answer["rows"][0];
    if row["missing"] == Value::Bool(true) {
        return "missing".to_owned();
    }
    format!("{}:{} {}", row["uid"], row["gid"], row["mode"].as_str().unwrap_or("unknown"))
}

#[test]
fn files_that_an_engine_adds() {
    for (runtime, service, path, wanted) in [
        ("docker", "user: '5'", "/.dockerenv", "0:0 0755"),
        ("podman", "user: '5'", "/.dockerenv", "missing"),
        ("podman", "user: '5'", "/run/.containerenv", "0:0 0644"),
        ("podman", "tmpfs: /run", "/run/.containerenv", "missing"),
        ("podman", "read_only: true", "/run/.containerenv", "missing"),
        ("podman", "volumes: [/run]", "/run/.containerenv", "0:0 0644"),
        ("docker", "network_mode: none", "/etc/resolv.conf", "0:0 0644"),
        ("podman", "network_mode: none", "/etc/resolv.conf", "missing"),
        ("docker", "user: '5', tty: true", "/dev/console", "5:5 0620"),
        ("podman", "user: '5', tty: true", "/dev/console", "5:5 0620"),
        ("docker", "user: '5'", "/dev/console", "missing"),
        ("docker", "user: '5'", "/dev/null", "0:0 0666"),
        ("podman", "user: '5:6'", "/dev/null", "5:6 0666"),
        ("podman", "user: '5:6', stdin_open: true", "/dev/null", "0:0 0666"),
        ("docker", "user: '5'", "/proc/acpi", "0:0 1777"),
    ] {
        let scratch = scene(runtime, &format!("services: {{ a: {{ image: hive, {service} }} }}\n"));
        assert_eq!(at(&scratch, "s.yaml", "a", path), wanted, "{runtime} {service} {path}");
    }
}

#[test]
fn account_files_that_an_engine_makes() {
    let bare = "images: { hive: { user: null, accounts: null, tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }, { path: /etc, kind: dir, owner: '0:0', mode: 0755 }] } }";
    for (runtime, service, wanted) in [
        ("podman", "user: '4242:77'", "0:0 0600"),
        ("podman", "user: '4242', read_only: true", "0:0 0644"),
        ("podman", "init: true", "missing"),
        ("docker", "user: '4242'", "missing"),
    ] {
        let scratch =
            Scratch::with("s.yaml", &format!("scene: 1\nruntime: {runtime}\nworkloads: [c.yaml]\n{bare}\n"))
                .and("c.yaml", format!("services: {{ a: {{ image: hive, {service} }} }}\n"));
        assert_eq!(at(&scratch, "s.yaml", "a", "/etc/passwd"), wanted, "{runtime} {service}");
    }
    // Where nobody is named Podman takes no group from the account of root.
    let rooted =
        bare.replace("accounts: null", "accounts: { passwd: 'root:x:0:50::/:/bin/sh', group: null }");
    for (runtime, service, gid) in
        [("podman", "init: true", 0), ("podman", "user: root", 50), ("docker", "init: true", 50)]
    {
        let scratch = Scratch::with(
            "s.yaml",
            &format!("scene: 1\nruntime: {runtime}\nworkloads: [c.yaml]\n{rooted}\n"),
        )
        .and("c.yaml", format!("services: {{ a: {{ image: hive, {service} }} }}\n"));
        let answer = scratch.json(["identity", "s.yaml", "-q", "--format", "json"]);
        assert_eq!(answer["actors"][0]["gid"], gid, "{runtime} {service}");
    }
}

#[test]
fn secrets_that_are_no_files_of_the_host() {
    let compose = "
services:
  a:
    image: hive
    user: '7'
    secrets: [plain, { source: plain, target: /etc/s2, uid: '7', gid: '8', mode: 0400 }]
    configs: [{ source: c, target: /srv/c.toml, mode: 288 }]
secrets: { plain: { environment: HOME } }
configs: { c: { content: hi } }
";
    let scratch = scene("docker", compose);
    for (path, wanted) in [
        ("/run/secrets/plain", "0:0 0444"),
        ("/run/secrets", "0:0 0755"),
        ("/etc/s2", "7:8 0400"),
        ("/srv/c.toml", "0:0 0440"),
    ] {
        assert_eq!(at(&scratch, "s.yaml", "a", path), wanted, "{path}");
    }
    let refused = scene("docker", &compose.replace("user: '7'", "read_only: true"));
    let said = refused.run(["identity", "s.yaml"]);
    assert!(
        said.contains("Compose cannot put the secret `plain` into a service that is `read_only`"),
        "{said}"
    );
}

#[test]
fn volumes_that_are_lent() {
    let compose = |from: &str| {
        format!(
            "services:\n  z: {{ image: keeper, volumes: ['v:/sv:nocopy'], tmpfs: /t }}\n  a: {{ image: hive, user: '5101', volumes_from: [{from}] }}\nvolumes: {{ v: }}\n"
        )
    };
    // A volume of the lender's image is one for both, filled by the lender.
    for (runtime, from) in [("docker", "z"), ("podman", "z"), ("docker", "'z:ro'")] {
        let scratch = scene(runtime, &compose(from));
        assert_eq!(at(&scratch, "s.yaml", "a", "/comb"), "7:8 0701", "{runtime} {from}");
        // Podman goes on until something was copied.
        let content = if runtime == "podman" { "5101:5200 0600" } else { "missing" };
        assert_eq!(at(&scratch, "s.yaml", "a", "/comb/a"), content, "{runtime} {from}");
        assert_eq!(at(&scratch, "s.yaml", "a", "/t"), "missing", "{runtime} {from}");
    }
    let left = scene("docker", &compose("z").replace("['v:/sv:nocopy']", "['v:/comb:nocopy']"));
    assert_eq!(at(&left, "s.yaml", "a", "/comb"), "0:0 0755");
    assert_eq!(at(&left, "s.yaml", "a", "/comb/a"), "missing");
    // Podman forgets that nothing is to be copied where a mode is said.
    let filled = scene("podman", &compose("'z:rw'").replace("['v:/sv:nocopy']", "['v:/comb:nocopy']"));
    assert_eq!(at(&filled, "s.yaml", "a", "/comb/a"), "5101:5200 0600");
    let tmpfs = |runtime: &str| {
        let text = compose("z").replace("['v:/sv:nocopy']", "[{ type: tmpfs, target: /lent }]");
        scene(runtime, &text).run(["identity", "s.yaml", "--actor", "a"])
    };
    assert!(tmpfs("docker").contains("the tmpfs at /lent cannot be lent"), "{}", tmpfs("docker"));
    assert!(!tmpfs("podman").contains("never runs"), "{}", tmpfs("podman"));
}

#[test]
fn what_is_included_has_an_environment_of_its_own() {
    let web = "services: { web: { image: hive, user: '${WHO}', volumes: ['./d:/d'] } }\n";
    for (include, user, host) in [
        ("[../web.yaml]", "55", ""),
        ("[{ path: ../web.yaml, env_file: ../other.env }]", "66", ""),
        ("[{ path: ../web.yaml, project_directory: ../other }]", "77", "other/"),
        ("[{ path: ../web.yaml, env_file: [../other.env, ../other/.env] }]", "77", ""),
    ] {
        let scratch = Scratch::with("web.yaml", web)
            .and(".env", "WHO=55\n")
            .and("other.env", "WHO=66\n")
            .and("other/.env", "WHO=77\n")
            .and("sub/c.yaml", format!("include: {include}\n"));
        let answer = scratch.json(["identity", "sub/c.yaml", "-q", "--format", "json"]);
        assert_eq!(answer["actors"][0]["uid"].to_string(), user, "{include}");
        let mounts = scratch.run(["mounts", "sub/c.yaml"]);
        assert!(mounts.contains(&format!("/{host}d  rw")), "{include}: {mounts}");
    }
    // What is there already counts before what an included file brings.
    let scratch = Scratch::with("web.yaml", web)
        .and("other.env", "WHO=66\n")
        .and("sub/.env", "WHO=88\n")
        .and("sub/c.yaml", "include: [{ path: ../web.yaml, env_file: ../other.env }]\n");
    let answer = scratch.json(["identity", "sub/c.yaml", "-q", "--format", "json"]);
    assert_eq!(answer["actors"][0]["uid"].to_string(), "88");
    let missing = scratch.and("sub/c.yaml", "include: [{ path: ../web.yaml, env_file: ../none.env }]\n");
    let said = missing.run(["identity", "sub/c.yaml"]);
    assert!(said.contains("env_file sub/../none.env cannot be read"), "{said}");
}

#[test]
fn a_volume_by_the_name_that_its_engine_lists() {
    let compose = "name: apiary\nservices: { a: { image: hive, volumes: ['v:/v', 'w:/w', 'x:/x'] } }\n\
                   volumes: { v: , w: { name: honey }, x: { external: true } }\n";
    let scratch = Scratch::with("c.yaml", compose).and("v.txt", "").and("disk/f", "x");
    for name in ["v", "apiary_v", "w", "honey", "x"] {
        let at = format!("/{}", if name == "honey" { "w" } else { &name[name.len() - 1..] });
        let disk = format!("{name}=disk");
        let answer = scratch.run(["access", "c.yaml", &format!("{at}/f"), "--disk", &disk]);
        assert!(answer.contains("-rw"), "{name}: {answer}");
    }
    let wrong = scratch.run(["access", "c.yaml", "--disk", "apiary_none=disk"]);
    assert!(wrong.contains("nothing here has the volume apiary_none"), "{wrong}");
}

#[test]
fn the_base_of_a_build_is_an_image_too() {
    let scratch = Scratch::with("c.yaml", "services: { a: { build: . } }\n")
        .and(
            "Dockerfile",
            "FROM base:1 AS one\nFROM scratch\nCOPY --from=other:2 /srv/f /f\nCOPY --from=one /g /g\n",
        )
        .and("base/g", "x")
        .and("other/srv/f", "x");
    let answer =
        scratch.run(["access", "c.yaml", "/f", "/g", "--image", "base:1=base", "--image", "other:2=other"]);
    assert!(answer.matches("-rw").count() == 2, "{answer}");
    let wrong = scratch.run(["access", "c.yaml", "--image", "base:2=base"]);
    assert!(wrong.contains("nothing here has the image base:2"), "{wrong}");
}

#[test]
fn devices_have_to_be_in_what_is_mounted_over_them() {
    for (runtime, volumes, starts) in [
        ("docker", "volumes: ['v:/dev']", false),
        ("docker", "tmpfs: /dev", false),
        ("podman", "volumes: ['v:/dev']", false),
        ("docker", "volumes: ['/dev:/dev']", true),
    ] {
        let scratch =
            scene(runtime, &format!("services: {{ a: {{ image: hive, {volumes} }} }}\nvolumes: {{ v: }}\n"));
        let answer = scratch.json(["identity", "s.yaml", "-q", "--format", "json"]);
        assert_eq!(answer["actors"][0]["starts"], Value::Bool(starts), "{runtime} {volumes}");
    }
    let pod = "apiVersion: v1\nkind: Pod\nmetadata: { name: p }\nspec:\n  containers: [{ name: c, image: i, tty: true, securityContext: { runAsUser: 7 }, \
               volumeMounts: [{ name: e, mountPath: AT }] }]\n  volumes: [{ name: e, emptyDir: {} }]\n";
    let open = Scratch::with("p.yaml", &pod.replace("AT", "/srv"));
    assert_eq!(at(&open, "p.yaml", "c", "/dev/console"), "7:5 0620");
    let closed = Scratch::with("p.yaml", &pod.replace("AT", "/dev"));
    assert!(closed.run(["identity", "p.yaml"]).contains("has no /dev/null, which the runtime opens"));
}

#[test]
fn a_host_path_that_is_not_absolute_concerns_one_pod() {
    let pod = |name: &str, path: &str| {
        format!(
            "---\napiVersion: v1\nkind: Pod\nmetadata: {{ name: {name} }}\nspec:\n  containers: [{{ name: c, image: i, volumeMounts: [{{ name: h, mountPath: /h }}] }}]\n  volumes: [{{ name: h, hostPath: {{ path: {path} }} }}]\n"
        )
    };
    let scratch = Scratch::with("p.yaml", &[pod("one", "tmpfs"), pod("two", "/srv")].concat());
    let answer = scratch.run(["identity", "p.yaml"]);
    assert_eq!(answer.matches("\n  never runs").count(), 1, "{answer}");
    assert!(answer.contains("the host path tmpfs is not absolute"), "{answer}");
}

#[test]
fn an_actor_whose_name_begins_with_a_hyphen() {
    let scratch = Scratch::with("c.yaml", "services: { '--x': { image: hive, user: '5:6' } }\n");
    let answer = scratch.json(["access", "c.yaml", "--actor", "--x", "/y", "-q", "--format", "json"]);
    assert_eq!(answer["rows"][0]["actor"], "--x");
    let asked = scratch.run(["ask", "c.yaml", "--", "--x reads /y"]);
    assert!(asked.starts_with("depends        --x reads /y"), "{asked}");
    let changed = scratch.run(["compare", "c.yaml", "--change", "--x becomes 7:7"]);
    assert!(changed.ends_with("--- status 0") || changed.ends_with("--- status 1"), "{changed}");
}

#[test]
fn an_engine_with_remapped_ids() {
    let remapped = "host: { user-namespace: { uids: ['0 165536 65536'], gids: ['0 165536 65536'] } }\n";
    let scene = |runtime: &str, service: &str| {
        Scratch::with(
            "s.yaml",
            &format!("scene: 1\nruntime: {runtime}\nworkloads: [c.yaml]\n{remapped}{IMAGES}"),
        )
        .and("c.yaml", format!("services: {{ a: {{ image: hive, {service} }} }}\nvolumes: {{ v: }}\n"))
    };
    for (runtime, service, path, wanted) in [
        ("docker", "user: '5101:5200'", "/comb", "5101:5200 0750"),
        ("docker", "user: '5101:5200'", "/dev/null", "65534:65534 0666"),
        ("docker", "user: '5101:5200'", "/dev/mqueue", "0:65534 1777"),
        ("podman", "user: '5101:5200'", "/dev/null", "5101:5200 0666"),
        ("podman", "user: '5101:5200'", "/dev/mqueue", "0:0 1777"),
        ("docker", "userns_mode: host", "/comb", "170637:170736 0750"),
        ("docker", "userns_mode: host", "/etc/hosts", "165536:165536 0644"),
        ("docker", "userns_mode: host", "/dev/null", "0:0 0666"),
        ("docker", "userns_mode: host, volumes: ['v:/comb']", "/comb", "170637:170736 0750"),
    ] {
        assert_eq!(at(&scene(runtime, service), "s.yaml", "a", path), wanted, "{runtime} {service} {path}");
    }
    let starts = |service: &str| {
        let answer = scene("docker", service).json(["identity", "s.yaml", "-q", "--format", "json"]);
        answer["actors"][0]["starts"].clone()
    };
    assert_eq!(starts("privileged: true"), Value::Bool(false));
    assert_eq!(starts("privileged: true, userns_mode: host"), Value::Bool(true));
}
