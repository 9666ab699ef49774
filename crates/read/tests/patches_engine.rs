//! Changes written into scripts and unit files, as somebody who types them would: the lines that go and those that come.

mod fixtures;

use mivask_core::change::parse_change;
use mivask_read::patch::{PatchError, patched};

use fixtures::read;

/// `text` with a change of its container `gauge`.
fn changed(file: &str, text: &str, sentence: &str) -> Result<String, PatchError> {
    let (scene, said) = read(file, &[(file, text)]);
    assert!(!said.iter().any(|one| one.starts_with("error")), "{text}: {said:?}");
    let workload = scene.workloads.iter().find(|one| one.containers.iter().any(|one| one.name == "gauge"));
    let change = parse_change(&format!("gauge {sentence}")).expect(sentence);
    patched(text, workload.expect(text), &change)
}

/// A one-line script around these options, and the options after the change.
fn options(engine: &str, given: &str, sentence: &str) -> String {
    let text = format!("{engine} run --name gauge {given}tides/gauge:1 serve\n");
    let new = match changed("run.sh", &text, sentence) {
        Ok(new) => new,
        Err(error) => return error.to_string(),
    };
    let within = new
        .strip_prefix(&format!("{engine} run --name gauge "))
        .and_then(|rest| rest.strip_suffix("tides/gauge:1 serve\n"));
    within.expect(&new).to_owned()
}

#[test]
fn an_option_takes_the_place_of_the_one_that_is_there() {
    for (given, sentence, then) in [
        ("", "becomes 7101:7300", "--user 7101:7300 "),
        ("-d --user=5 ", "becomes 7101", "-d --user=7101 "),
        ("-u 5:6 -d ", "becomes 7101", "-u 7101:6 -d "),
        ("-itu5 ", "becomes 7101", "-itu7101 "),
        ("-itu 5 ", "becomes 7101", "-itu 7101 "),
        ("--user '5' --user \"6:7\" ", "becomes 7101", "--user '5' --user 7101:7 "),
        ("--user \"$(id -u):$(id -g)\" ", "becomes 7101:7300", "--user 7101:7300 "),
        ("--group-add=5 ", "joins 7300", "--group-add=5 --group-add=7300 "),
        (
            "--group-add keep-groups ",
            "joins 7300",
            "`--group-add keep-groups` stands alone: Podman takes no other group beside it",
        ),
        ("", "umask 0007", "--umask 0007 "),
        ("", "user-namespace keep-id:uid=7101,gid=7300", "--userns keep-id:uid=7101,gid=7300 "),
        ("--userns=host ", "user-namespace keep-id", "--userns=keep-id "),
        (
            "--uidmap 0:1:10 ",
            "user-namespace keep-id",
            "`--uidmap` gives it a map, and excludes `--userns`: put `--userns=keep-id` in its place by hand",
        ),
        ("--cap-add=CHOWN --cap-add CAP_FOWNER ", "drops CHOWN", "--cap-add CAP_FOWNER --cap-drop=CHOWN "),
        ("--cap-add=CHOWN --cap-add FOWNER ", "drops ALL", "--cap-drop=ALL "),
        ("--cap-drop all ", "adds CHOWN", "--cap-drop all --cap-add CHOWN "),
        ("", "level s0:c7,c8", "--security-opt label=level:s0:c7,c8 "),
        (
            "--security-opt=label:level:s0:c1 --security-opt label=type:x_t ",
            "level s0:c7,c8",
            "--security-opt=label=level:s0:c7,c8 --security-opt label=type:x_t ",
        ),
        ("", "mounts / with ro", "--read-only "),
        ("--read-only -d ", "mounts / with rw", "-d "),
        ("--read-only=true ", "mounts / with rw", ""),
        ("", "mounts scratch at /tmp", "--tmpfs /tmp "),
        (
            "--pod new:p ",
            "user-namespace keep-id",
            "its pod has the user namespace: give it to `podman pod create --userns`",
        ),
        ("", "filesystem-group 5", "an engine's container has no filesystem group"),
    ] {
        assert_eq!(options("podman", given, sentence), then, "{given}{sentence}");
    }
}

#[test]
fn docker_is_given_what_docker_takes() {
    let umask = options("docker", "", "umask 0007");
    assert!(umask.starts_with("Docker has no option for the umask"), "{umask}");
    let option = options("docker", "-v /in:/in ", "mounts /in with U");
    assert!(option.starts_with("a volume of docker run takes no option `U`"), "{option}");
}

#[test]
fn mounts_get_options_where_they_are() {
    for (given, sentence, then) in [
        ("-v /in:/in ", "mounts /in with U", "-v /in:/in:U "),
        ("-v /in:/in:z ", "mounts /in with Z", "-v /in:/in:Z "),
        ("-v /in:/in/:ro,z ", "mounts /in with rw", "-v /in:/in/:z "),
        ("-v/in:/in:ro ", "mounts /in with rw", "-v/in:/in "),
        ("--volume=\"$PWD/in\":/in:ro ", "mounts /in with U", "--volume=\"$PWD/in\":/in:ro,U "),
        ("--volume=\"$PWD/in:/in:ro\" ", "mounts /in with rw", "--volume=\"$PWD/in:/in\" "),
        ("-v ${D:?not set}:/in ", "mounts /in with U", "-v ${D:?not set}:/in:U "),
        ("-v vol:/in:noexec ", "mounts /in with exec", "-v vol:/in:exec "),
        ("--mount type=bind,src=/in,dst=/in,ro ", "mounts /in with rw", "--mount type=bind,src=/in,dst=/in "),
        (
            "--mount 'type=bind,src=/in,dst=/in' ",
            "mounts /in with U",
            "--mount 'type=bind,src=/in,dst=/in,U=true' ",
        ),
        ("--tmpfs /in:size=1m,noexec ", "mounts /in with exec", "--tmpfs /in:size=1m,exec "),
        ("-v /in:/in:ro ", "mounts only /in/part", "-v /in/part:/in/part:ro "),
        ("-v \"$PWD\":/in -v /a:/a ", "mounts only /in/part", "-v \"$PWD\"/part:/in/part -v /a:/a "),
    ] {
        assert_eq!(options("podman", given, sentence), then, "{given}{sentence}");
    }
    let volume = options("podman", "-v readings:/in ", "mounts only /in/part");
    assert!(volume.starts_with("`--volume` mounts the whole of a volume"), "{volume}");
}

#[test]
fn lines_that_go_on_go_on() {
    let text = "for i in 1; do\n\tdocker run \\\r\n\t\t--name gauge \\\r\n\t\t--cap-add CHOWN \\\r\n\t\ttides/gauge:1 \\\r\n\t\tserve\ndone\n";
    let new = changed("run.sh", text, "drops CHOWN").expect("a script");
    assert_eq!(
        new,
        "for i in 1; do\n\tdocker run \\\r\n\t\t--name gauge \\\r\n\t\t--cap-drop CHOWN \\\r\n\t\ttides/gauge:1 \\\r\n\t\tserve\ndone\n"
    );
    // The options end at `--`, and the second of two commands is the one that is meant.
    let text = "podman run tides/other\npodman run --name gauge -- tides/gauge:1 --user 5\n";
    let new = changed("run.sh", text, "becomes 7101").expect("a script");
    assert_eq!(
        new,
        "podman run tides/other\npodman run --name gauge --user 7101 -- tides/gauge:1 --user 5\n"
    );
}

/// A unit with these lines in it, and those lines after a change.
fn unit(given: &str, sentence: &str) -> String {
    let text = format!(
        "[Unit]\nDescription=x\n\n[Container]\nContainerName=gauge\n{given}\n[Install]\nWantedBy=x\n"
    );
    let new = match changed("gauge.container", &text, sentence) {
        Ok(new) => new,
        Err(error) => return error.to_string(),
    };
    let within = new
        .strip_prefix("[Unit]\nDescription=x\n\n[Container]\nContainerName=gauge\n")
        .and_then(|rest| rest.strip_suffix("\n[Install]\nWantedBy=x\n"));
    within.expect(&new).to_owned()
}

#[test]
fn a_unit_has_keys() {
    for (given, sentence, then) in [
        ("Image=x\n", "becomes 7101:7300", "Image=x\nUser=7101\nGroup=7300\n"),
        ("User=5:6\nImage=x\n", "becomes 7101:7300", "User=7101:7300\nImage=x\n"),
        ("User = 5\nGroup=6\nImage=x\n", "becomes 7101", "User = 7101\nGroup=6\nImage=x\n"),
        ("User=5\nImage=x\n", "umask 0007", "User=5\nImage=x\nPodmanArgs=--umask=0007\n"),
        ("PodmanArgs=--umask 0022\nImage=x\n", "umask 0007", "`PodmanArgs=` has `--umask`: change it there"),
        ("Image=x\nPodmanArgs=--user=5\n", "becomes 7101", "`PodmanArgs=` has `--user`: change it there"),
        ("Image=x\n", "user-namespace keep-id:uid=7101", "Image=x\nUserNS=keep-id:uid=7101\n"),
        ("UserNS=auto\nImage=x\n", "user-namespace keep-id", "UserNS=keep-id\nImage=x\n"),
        ("Image=x\n", "level s0:c7,c8", "Image=x\nSecurityLabelLevel=s0:c7,c8\n"),
        ("SecurityLabelLevel=s0:c1\nImage=x\n", "level s0:c7", "SecurityLabelLevel=s0:c7\nImage=x\n"),
        (
            "RemapUsers=auto\nImage=x\n",
            "user-namespace host",
            "`RemapUsers=` says who it is: put `UserNS=host` in its place by hand",
        ),
        ("GroupAdd=5\nImage=x\n", "joins 7300", "GroupAdd=5\nGroupAdd=7300\nImage=x\n"),
        (
            "AddCapability=CHOWN FOWNER\nImage=x\n",
            "drops CHOWN",
            "AddCapability=FOWNER\nImage=x\nDropCapability=CHOWN\n",
        ),
        ("Image=x\nAddCapability=CHOWN FOWNER \\\n  SETGID\n", "drops ALL", "Image=x\nDropCapability=ALL\n"),
        ("Image=x\nDropCapability=all\n", "adds CHOWN", "Image=x\nDropCapability=all\nAddCapability=CHOWN\n"),
        ("Image=x\nReadOnly=true\n", "mounts / with rw", "Image=x\nReadOnly=false\n"),
        ("Image=x\n", "mounts / with ro", "Image=x\nReadOnly=true\n"),
        ("Image=x\nVolume=/in:/in:ro\n", "mounts /in with rw", "Image=x\nVolume=/in:/in\n"),
        (
            "Image=x\nVolume=/in:/in\nVolume=a:/b\n",
            "mounts /in with U",
            "Image=x\nVolume=/in:/in:U\nVolume=a:/b\n",
        ),
        (
            "Image=x\nMount=type=bind,source=/in,target=/in\n",
            "mounts /in with U",
            "Image=x\nMount=type=bind,source=/in,target=/in,U=true\n",
        ),
        ("Image=x\n", "mounts scratch at /tmp", "Image=x\nTmpfs=/tmp\n"),
    ] {
        assert_eq!(unit(given, sentence), then, "{given}{sentence}");
    }
}

/// A line of more words than any number of bits was meant for.
#[test]
fn a_long_line_is_edited_like_a_short_one() {
    let given = format!("Image=x\nAddCapability={}FOWNER\n", "KILL ".repeat(70_000));
    assert!(unit(&given, "drops FOWNER").ends_with("KILL KILL\nDropCapability=FOWNER\n"));
}

#[test]
fn what_stands_beside_a_unit_is_changed_there() {
    let text = "[Container]\nContainerName=gauge\nImage=x\nUser=5\n";
    let beside = [
        ("gauge.container", text),
        ("gauge.container.d/user.conf", "[Container]\nUser=6\n"),
        ("gauge.container.d/mode.conf", "[Container]\nUserNS=auto\n"),
    ];
    let (scene, _) = read("gauge.container", &beside);
    for (sentence, why) in [
        ("becomes 7101", "a drop-in says `User=`: change it there"),
        ("user-namespace keep-id", "a drop-in says `UserNS=`: change it there"),
    ] {
        let change = parse_change(&format!("gauge {sentence}")).expect(sentence);
        let refused = patched(text, &scene.workloads[0], &change).expect_err(sentence);
        assert_eq!(refused.to_string(), why);
    }
    let pod = [
        ("gauge.container", "[Container]\nContainerName=gauge\nImage=x\nPod=tides.pod\n"),
        ("tides.pod", "[Pod]\nPodName=tides\n"),
    ];
    let (scene, _) = read("gauge.container", &pod);
    let change = parse_change("gauge user-namespace keep-id").expect("a change");
    let refused = patched(pod[0].1, &scene.workloads[0], &change).expect_err("a pod");
    assert_eq!(refused.to_string(), "its pod has the user namespace: give tides.pod that `UserNS=`");
}

#[test]
fn what_an_engine_printed_is_no_source() {
    let text = "[{\"Id\": \"a\", \"Name\": \"/gauge\", \"Config\": {\"Image\": \"x\", \"User\": \"5\"}, \"HostConfig\": {}, \"Mounts\": []}]";
    let refused = changed("gauge.json", text, "becomes 7101").expect_err("no source");
    assert!(refused.to_string().starts_with("what an engine printed is not edited"), "{refused}");
}
