//! Images from a real registry server and from real engines: each must give what the archive of the same image gives.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]
#![expect(clippy::print_stdout, reason = "what is skipped is said")]

use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use crate::scratch::Scratch;
use crate::standin::image::Images;

/// A pod whose one container runs `tides/gauge:3`.
const POD: &str = "apiVersion: v1
kind: Pod
metadata: {name: tide}
spec: {containers: [{name: gauge, image: 'tides/gauge:3'}]}
";

/// A server that ends with the test.
pub(crate) struct Server(Child);

impl Server {
    /// Starts a program, and waits until `ready`. `None` where it does not get so far; that is said.
    fn start(command: &mut Command, log: &Path, ready: impl Fn() -> bool) -> Option<Self> {
        let out = std::fs::File::create(log).unwrap();
        command.stdin(Stdio::null()).stdout(out.try_clone().unwrap()).stderr(out);
        let mut server = Self(command.spawn().ok()?);
        let begun = Instant::now();
        while begun.elapsed() < Duration::from_secs(60) {
            if ready() {
                return Some(server);
            }
            if server.0.try_wait().unwrap().is_some() {
                break;
            }
            std::thread::sleep(Duration::from_millis(100));
        }
        let said = std::fs::read_to_string(log).unwrap_or_default();
        let program = command.get_program().display();
        println!("skipped: {program} does not start here: {}", said.lines().last().unwrap_or_default());
        None
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        // An engine takes its children along where it is asked to end.
        let asked =
            Command::new("kill").arg(self.0.id().to_string()).status().is_ok_and(|status| status.success());
        let begun = Instant::now();
        while asked && begun.elapsed() < Duration::from_secs(20) {
            if self.0.try_wait().is_ok_and(|ended| ended.is_some()) {
                return;
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        drop(self.0.kill());
        drop(self.0.wait());
    }
}

/// Where a program is; where it is missing that is said.
pub(crate) fn program(name: &str) -> Option<PathBuf> {
    let path = std::env::var("PATH").unwrap_or_default() + ":/usr/sbin:/sbin";
    let found = path.split(':').map(|folder| Path::new(folder).join(name)).find(|path| path.is_file());
    if found.is_none() {
        println!("skipped: {name} is not installed");
    }
    found
}

pub(crate) fn succeeds(command: &mut Command) {
    let output = command.stdin(Stdio::null()).output().unwrap();
    assert!(output.status.success(), "{command:?}: {}", String::from_utf8_lossy(&output.stderr));
}

/// The scene's folder with the image as a layout, and what its archive says: the listing, and who runs.
pub(crate) fn ground() -> (Scratch, String, String) {
    let mut scratch = Scratch::with("pod.yaml", POD).and("auth/empty.json", "{}");
    for (path, bytes) in Images::gauge().layout("tides/gauge:3") {
        scratch = scratch.and(&format!("layout/{path}"), bytes);
    }
    let listing = scratch.at_home(["survey", "layout", "--to", "jsonl"], &[]);
    let who = scratch.at_home(["identity", "pod.yaml", "--image", "tides/gauge:3=layout"], &[]);
    assert!(listing.contains("srv/new") && who.contains("7101"), "{listing}{who}");
    (scratch, listing, who)
}

/// Asks twice, the second time from what was kept.
pub(crate) fn agrees(
    ground: &(Scratch, String, String),
    source: &str,
    place: &str,
    shown: &str,
    more: &[(&str, &str)],
) {
    let (scratch, listing, who) = ground;
    for time in ["first", "second"] {
        assert_eq!(scratch.at_home(["survey", source, "--to", "jsonl"], more), *listing, "{time}: {source}");
        let got = scratch.at_home(["identity", "pod.yaml", "--images-from", place], more);
        // The column of sources is as wide as what is in it.
        let words = |text: &str| text.split_whitespace().map(str::to_owned).collect::<Vec<_>>().join(" ");
        assert_eq!(words(&got.replace(shown, "layout")), words(who), "{time}: {place}");
    }
}

pub(crate) fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

pub(crate) fn registry(scratch: &Scratch, port: u16, more: &str) -> Option<Server> {
    let folder = scratch.path();
    let config = folder.join(format!("registry-{port}.yml"));
    let text = format!(
        "version: 0.1\nlog: {{level: error, accesslog: {{disabled: true}}}}\nstorage: {{filesystem: {{rootdirectory: {}}}}}\n{}",
        folder.join("registry").display(),
        more.replace("PORT", &port.to_string()).replace("FOLDER", &folder.display().to_string())
    );
    std::fs::write(&config, text).unwrap();
    let mut command = Command::new(program("docker-registry")?);
    command.arg("serve").arg(&config);
    Server::start(&mut command, &folder.join("registry.log"), || {
        TcpStream::connect(("127.0.0.1", port)).is_ok()
    })
}

#[test]
fn a_real_registry_gives_what_the_archive_gives() {
    let ground = ground();
    let scratch = &ground.0;
    let port = free_port();
    let Some(_server) = registry(scratch, port, "http: {addr: '127.0.0.1:PORT'}\n") else { return };
    let Some(skopeo) = program("skopeo") else { return };
    let target = format!("docker://127.0.0.1:{port}/tides/gauge:3");
    for form in ["oci", "v2s2"] {
        // The second form has other media types and another digest.
        let mut copy = Command::new(&skopeo);
        copy.args([
            "copy",
            "--insecure-policy",
            "--dest-tls-verify=false",
            "--format",
            form,
            "oci:layout:tides/gauge:3",
            &target,
        ]);
        succeeds(copy.current_dir(scratch.path()));
        let place = format!("registry:http://127.0.0.1:{port}");
        let source = format!("{place}/tides/gauge:3");
        agrees(&ground, &source, &place, &source, &[]);
    }
    // What is not there, and what it calls itself by.
    let said = scratch.at_home(
        ["survey", &format!("registry:http://127.0.0.1:{port}/tides/gauge:4"), "--to", "mtree"],
        &[],
    );
    assert!(said.contains("has no image tides/gauge:4"), "{said}");
}

/// Makes a container, and asks the engine what it is.
fn tells_of_a_container(word: &str, scratch: &Scratch, address: &str, client: &dyn Fn() -> Command) {
    let options = ["--user", "7101:7200", "--group-add", "7300", "--cap-drop", "ALL", "--read-only"];
    let mut create = client();
    create.args(["create", "--name", "gauge", "--network", "none"]).args(options);
    succeeds(create.args(["-v", "/srv:/in:ro", "-v", "held:/held", "tides/gauge:3", "/bin/gauge"]));
    let variable = if word == "docker" { "DOCKER_HOST" } else { "CONTAINER_HOST" };
    // Of the other engine there is a socket where nobody listens.
    let other = if word == "docker" { "CONTAINER_HOST" } else { "DOCKER_HOST" };
    let set = [(variable, address), (other, "unix:///nowhere")];
    let identity = scratch.at_home(["identity", "container:gauge"], &set);
    for field in [("uid", "7101"), ("gid", "7200"), ("group", "7300"), ("bounding", "none")] {
        let row = |line: &str| line.split_whitespace().take(2).eq([field.0, field.1]);
        assert!(identity.lines().any(row), "{field:?}: {identity}");
    }
    let mounts = scratch.at_home(["mounts", &format!("container:{word}:gauge")], &set);
    assert!(mounts.contains("/in    host path /srv") && mounts.contains("/held  volume held"), "{mounts}");
    let act = ["ask", "container:gauge", "gauge creates /in/x", "gauge creates /held/x"];
    let answers = scratch.at_home(act, &set);
    assert!(answers.starts_with("denied"), "{answers}");
    // The volume is there, and nobody said what it holds: it is not filled from the image any more.
    assert!(answers.contains("depends        gauge creates /held/x"), "{answers}");
    let said = scratch.at_home(["identity", "container:nobody"], &set);
    assert!(said.contains(&format!("{word}: has no container nobody")), "{said}");
    assert!(said.ends_with("--- status 2"), "{said}");
}

/// Loads the archive of the image into an engine, and asks it.
fn engine_agrees(
    word: &str,
    ground: &(Scratch, String, String),
    socket: &Path,
    client: &dyn Fn() -> Command,
) {
    let Some(skopeo) = program("skopeo") else { return };
    let mut save = Command::new(skopeo);
    save.args([
        "copy",
        "--insecure-policy",
        "oci:layout:tides/gauge:3",
        "docker-archive:gauge.tar:tides/gauge:3",
    ]);
    succeeds(save.current_dir(ground.0.path()));
    succeeds(client().args(["load", "-i", "gauge.tar"]).current_dir(ground.0.path()));
    let place = format!("{word}:{}", socket.display());
    let variable = if word == "docker" { "DOCKER_HOST" } else { "CONTAINER_HOST" };
    let address = format!("unix://{}", socket.display());
    let source = format!("{word}:tides/gauge:3");
    agrees(ground, &source, &place, &source, &[(variable, &address)]);
    let said = ground
        .0
        .at_home(["survey", &format!("{word}:tides/gauge:4"), "--to", "mtree"], &[(variable, &address)]);
    assert!(said.contains("has no image tides/gauge:4"), "{said}");
    tells_of_a_container(word, &ground.0, &address, client);
}

fn is_root() -> bool {
    let root = rustix::process::geteuid().is_root();
    if !root {
        println!("skipped: an engine of one's own takes root");
    }
    root
}

#[test]
fn a_real_podman_gives_what_the_archive_gives() {
    let ground = ground();
    let (Some(podman), true) = (program("podman"), is_root()) else { return };
    let folder = ground.0.path().join("p");
    let base = |command: &mut Command| {
        command
            .arg("--root")
            .arg(folder.join("root"))
            .arg("--runroot")
            .arg(folder.join("run"))
            .args(["--storage-driver", "vfs"]);
    };
    std::fs::create_dir(&folder).unwrap();
    let socket = folder.join("s");
    let mut service = Command::new(&podman);
    base(&mut service);
    service.args(["system", "service", "--time", "0"]).arg(format!("unix://{}", socket.display()));
    let Some(_server) = Server::start(&mut service, &folder.join("log"), || socket.exists()) else { return };
    let client = || {
        let mut command = Command::new(&podman);
        base(&mut command);
        command
    };
    engine_agrees("podman", &ground, &socket, &client);
}

#[test]
fn a_real_docker_gives_what_the_archive_gives() {
    let ground = ground();
    let (Some(dockerd), Some(docker), true) = (program("dockerd"), program("docker"), is_root()) else {
        return;
    };
    let folder = ground.0.path().join("d");
    std::fs::create_dir(&folder).unwrap();
    let socket = folder.join("s");
    let mut daemon = Command::new(dockerd);
    for (option, name) in [("--data-root", "data"), ("--exec-root", "exec"), ("--pidfile", "pid")] {
        daemon.arg(option).arg(folder.join(name));
    }
    daemon.args(["--iptables=false", "--ip6tables=false", "--bridge=none", "--storage-driver", "vfs", "-H"]);
    daemon.arg(format!("unix://{}", socket.display()));
    let address = format!("unix://{}", socket.display());
    let client = || {
        let mut command = Command::new(&docker);
        command.args(["-H", &address]).stdout(Stdio::null()).stderr(Stdio::null());
        command
    };
    let ready = || client().arg("info").status().is_ok_and(|status| status.success());
    let Some(_server) = Server::start(&mut daemon, &folder.join("log"), ready) else { return };
    engine_agrees("docker", &ground, &socket, &client);
}
