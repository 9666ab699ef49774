"""What tools/engine-agreement asks of engines: the image, and one case a row."""

PASSWD = """root:x:0:0::/root:/bin/sh
app:x:405:1001::/home/app:/bin/sh
alice:x:1000:1000::/home/alice:/bin/sh
bob:x:1001:1000::/home/bob:/bin/sh
dupa:x:2000:2001::/home/dupa:/bin/sh
dupb:x:2000:2002::/home/dupb:/bin/sh
1234:x:5678:5679::/home/n:/bin/sh
"""
GROUP = """root:x:0:
app:x:1001:
alice:x:1000:
wheel:x:10:root,alice
staff:x:50:alice,bob,app
4300:x:4301:alice
50:x:5050:
gdupb:x:4050:dupb
gdupa:x:4051:dupa
# old:x:7001:alice,app
"""
# Lines that no account tool writes, behind all others, as some stop what looks for a later line.
PASSWD += """onlyname
short:x:3300
nogid:x:3301:
baduid:x:xyz:3500::/:
badgid:x:3400:abc::/:
wraps:x:4294967296:3600::/:
large:x:3000000000:3700::/:
negative:x:-5:3800::/:
negative-group:x:3900:-7::/:
large-group:x:3901:3000000000::/:
lonely-group:x:3902:3000000001::/:
minus-one:x:4294967295:1000::/:
""" + "".join(f"in-{group}:x:{uid}:{uid}::/:\n" for uid, group in enumerate(("negative", "wraps", "large", "letters", "nothing"), 4000))
GROUP += """negative:x:-7:in-negative
wraps:x:4294967296:in-wraps
large:x:3000000000:in-large
letters:x:abc:in-letters
nothing:x::in-nothing
"""
MALFORMED = [line.split(":")[0] for line in PASSWD.splitlines()[PASSWD.splitlines().index("onlyname"):]]
# path, owner, group, mode; a trailing slash makes a directory.
TREE = [
    ("/", 0, 0, 0o755), ("/bin/", 0, 0, 0o755), ("/etc/", 0, 0, 0o755), ("/proc/", 0, 0, 0o755), ("/sys/", 0, 0, 0o755),
    ("/dev/", 0, 0, 0o755), ("/run/", 0, 0, 0o755), ("/tmp/", 0, 0, 0o1777), ("/var/", 0, 0, 0o755),
    ("/var/tmp/", 0, 0, 0o1777), ("/data/", 405, 1001, 0o750), ("/data/a", 405, 1001, 0o600),
    ("/data/sub/", 405, 50, 0o2775), ("/empty/", 405, 1001, 0o750), ("/sticky/", 0, 50, 0o1777),
    ("/sgid/", 405, 50, 0o2775), ("/m0/", 405, 405, 0o000), ("/open", 0, 0, 0o666), ("/etc/passwd", 0, 0, 0o644),
    ("/etc/group", 0, 0, 0o644), ("/bin/busybox", 0, 0, 0o755),
]
LINKS = [("/bin/" + name, "busybox") for name in ("sh", "cat", "stat", "grep", "ls", "mkdir", "mkfifo", "touch", "chown", "chmod", "chgrp", "true")] + [("/link", "/data"), ("/broken", "/nowhere/x")]


def row(name, service, args, paths=(), acts=(), flags=()):
    return {"name": name, "service": service, "args": args, "paths": list(paths), "acts": list(acts), "flags": list(flags)}


def user(text):
    return row(f"user {text!r}", {"user": text}, ["--user", text])


def engine_rows(host):
    """Containers of the ready-made image, the same for every engine."""
    rows = [row("nobody named", {}, [])]
    rows += [user(text) for text in (
        "root", "0", "alice", "1000", "alice:", "01000", "app", "405", "bob", "1234", "5678", "9999", "alice:staff", "alice:50",
        "1000:1000", "alice:7777", "9999:9998", ":staff", "dupa", "dupb", "alice:4300", "nouser", "alice:nogroup",
        *MALFORMED, "3300", "3400", "3700", "3900", "3901", "4000", "4001", "4294967296", "3000000009", "-5", "alice:-7", "alice:3000000000", "alice:4294967296", "4294967291", "3000000000", "alice:negative", "alice:wraps", "alice:large", "alice:letters",
    )]
    rows += [row(f"group added, {name}", {"user": "alice", "group_add": [name]}, ["--user", "alice", "--group-add", name]) for name in ("negative", "wraps", "large", "letters")]
    rows += [
        row("group added by name", {"user": "9999", "group_add": ["staff", "7777"]}, ["--user", "9999", "--group-add", "staff", "--group-add", "7777"]),
        row("two spellings of a group", {"user": "9999", "group_add": ["50", "staff"]}, ["--user", "9999", "--group-add", "50", "--group-add", "staff"]),
        row("group added without a name", {"user": "alice", "group_add": [""]}, ["--user", "alice", "--group-add="]),
        *(row(f"group added out of range, {number}", {"user": "alice", "group_add": [number]}, ["--user", "alice", "--group-add", number]) for number in ("2147483648", "4294967295", "2147483647")),
        row("bind at a link that points at nothing", {"volumes": [f"{host}/d:/broken"]}, ["-v", f"{host}/d:/broken"], ["/broken"], ["lists /nowhere/x"]),
        row("bind below a link that points at nothing", {"volumes": [f"{host}/d:/broken/in"]}, ["-v", f"{host}/d:/broken/in"], ["/broken"]),
        row("volume at a link that points at nothing", {"volumes": ["vol:/broken"]}, ["-v", "vol:/broken"], ["/broken"]),
        row("tmpfs at a link that points at nothing", {"tmpfs": ["/broken"]}, ["--tmpfs", "/broken"], ["/broken"]),
        row("capability added", {"user": "alice", "cap_add": ["CHOWN"]}, ["--user", "alice", "--cap-add", "CHOWN"], acts=["reads /data/a"]),
        row("override added", {"user": "alice", "cap_add": ["DAC_OVERRIDE"]}, ["--user", "alice", "--cap-add", "DAC_OVERRIDE"], acts=["reads /data/a", "creates /data/new"]),
        row("all dropped", {"cap_drop": ["ALL"]}, ["--cap-drop", "ALL"], acts=["reads /data/a", "lists /m0", "creates /new"]),
        row("all dropped but one", {"cap_drop": ["ALL"], "cap_add": ["FOWNER"]}, ["--cap-drop", "ALL", "--cap-add", "FOWNER"]),
        row("one in both lists", {"cap_drop": ["CHOWN"], "cap_add": ["CHOWN"]}, ["--cap-drop", "CHOWN", "--cap-add", "CHOWN"]),
        row("no new privileges", {"user": "alice", "security_opt": ["no-new-privileges"]}, ["--user", "alice", "--security-opt", "no-new-privileges"]),
        row("volume filled from the image", {"volumes": ["vol:/data"]}, ["-v", "vol:/data"], ["/data", "/data/a", "/data/sub"]),
        row("volume at an empty directory", {"volumes": ["vol:/empty"]}, ["-v", "vol:/empty"], ["/empty"]),
        row("volume at a sticky directory", {"volumes": ["vol:/sticky"]}, ["-v", "vol:/sticky"], ["/sticky"]),
        row("volume at a missing path", {"user": "alice", "volumes": ["vol:/new"]}, ["--user", "alice", "-v", "vol:/new"], ["/new"], ["creates /new/x"]),
        row("volume for a user without account", {"user": "9999", "volumes": ["vol:/new"]}, ["--user", "9999", "-v", "vol:/new"], ["/new"]),
        row("volume through a link", {"volumes": ["vol:/link"]}, ["-v", "vol:/link"], ["/data", "/data/a"]),
        row("volume mounted read-only", {"volumes": ["vol:/data:ro"]}, ["-v", "vol:/data:ro"], ["/data"], ["creates /data/x"]),
        row("anonymous volume", {"volumes": ["/data"]}, ["-v", "/data"], ["/data"]),
        row("tmpfs over a directory", {"tmpfs": ["/data"]}, ["--tmpfs", "/data"], ["/data", "/data/a"]),
        row("tmpfs at a new path", {"tmpfs": ["/new"]}, ["--tmpfs", "/new"], ["/new"]),
        row("tmpfs with a mode", {"tmpfs": ["/data:mode=700"]}, ["--tmpfs", "/data:mode=700"], ["/data"]),
        row("tmpfs with an owner", {"tmpfs": ["/data:uid=405"]}, ["--tmpfs", "/data:uid=405"]),
        *(row(f"tmpfs with {option}", {"tmpfs": [f"/new:{option}"]}, ["--tmpfs", f"/new:{option}"], ["/new"])
          for option in ("bogus", "mode=999", "mode=17777", "mode=", "uid=app", "size=abc", "size=1m,mode=750", "size=50%", "noatime", "nr_inodes=1k", "lazytime", "nosymfollow", "defaults", "private")),
        row("read-only root", {"read_only": True, "user": "alice"}, ["--read-only", "--user", "alice"], ["/tmp", "/run", "/var/tmp"],
            ["creates /tmp/x", "creates /run/x", "creates /etc/x", "writes /open", "creates /dev/shm/x"]),
        row("bind of the host", {"user": "405", "volumes": [f"{host}/d:/in"]}, ["--user", "405", "-v", f"{host}/d:/in"], ["/in", "/in/f"], ["reads /in/f", "creates /in/x"]),
        row("bind read-only", {"volumes": [f"{host}/d:/in:ro"]}, ["-v", f"{host}/d:/in:ro"], ["/in"], ["creates /in/y", "reads /in/f"]),
        row("bind of nothing", {"volumes": [f"{host}/none:/in"]}, ["-v", f"{host}/none:/in"]),
        row("bind of nothing in a set-group-id directory", {"volumes": [f"{host}/d/none:/in"]}, ["-v", f"{host}/d/none:/in"], ["/in"], ["creates /in/x"]),
        row("bind of nothing below a set-group-id directory", {"volumes": [f"{host}/d/no/ne:/in"]}, ["-v", f"{host}/d/no/ne:/in"], ["/in"], ["creates /in/x"]),
        row("bind at a new path", {"volumes": [f"{host}/d:/a/b/c"]}, ["-v", f"{host}/d:/a/b/c"], ["/a", "/a/b"]),
        row("default mounts", {"user": "alice"}, ["--user", "alice"], ["/dev", "/dev/shm", "/proc", "/sys"], ["creates /dev/shm/x", "creates /dev/x", "writes /dev/full"]),
        row("the root directory", {"cap_drop": ["ALL"]}, ["--cap-drop", "ALL"], ["/"], ["creates /new", "creates /tmp/x"]),
        row("the root directory of somebody", {"user": "alice"}, ["--user", "alice"], ["/"], ["creates /new"]),
        row("tmpfs on /dev/shm", {"user": "alice", "tmpfs": ["/dev/shm"]}, ["--user", "alice", "--tmpfs", "/dev/shm"], ["/dev/shm"], ["creates /dev/shm/x"]),
        row("tmpfs on /dev/shm with a mode", {"tmpfs": ["/dev/shm:mode=700"]}, ["--tmpfs", "/dev/shm:mode=700"], ["/dev/shm"]),
        row("file bound on /dev/shm", {"volumes": [f"{host}/d/f:/dev/shm"]}, ["-v", f"{host}/d/f:/dev/shm"], ["/dev/shm"]),
        row("bind on a directory of /proc", {"volumes": [f"{host}/d:/proc/sys"]}, ["-v", f"{host}/d:/proc/sys"], [], ["lists /proc/sys"]),
        row("bind on a file of /proc", {"user": "405", "volumes": [f"{host}/d/f:/proc/uptime"]}, ["--user", "405", "-v", f"{host}/d/f:/proc/uptime"], ["/proc/uptime"], ["reads /proc/uptime"]),
        row("bind on a directory of /sys", {"user": "405", "volumes": [f"{host}/d:/sys/class"]}, ["--user", "405", "-v", f"{host}/d:/sys/class"], ["/sys/class"], ["creates /sys/class/x"]),
        row("relative working directory", {"working_dir": "rel"}, ["-w", "rel"]),
        row("working directory that is a file", {"working_dir": "/open"}, ["-w", "/open"]),
        row("volume of a tmpfs with flags", {"volumes": ["vol:/t"]}, ["-v", "vol:/t"], [], ["creates /t/x"], ["/t"]) | {"vol": {"type": "tmpfs", "device": "tmpfs", "o": "noexec,nosuid,nodev,ro"}},
        row("volume of a bind with flags", {"volumes": ["vol:/t"]}, ["-v", "vol:/t"], [], ["creates /t/x"]) | {"vol": {"type": "none", "device": f"{host}/full", "o": "bind,ro,noexec"}},
        row("set-group-id directory", {"user": "alice:staff"}, ["--user", "alice:staff"], ["/sgid"], ["creates /sgid/x", "creates /data/x"]),
    ]
    return rows


def joined_rows():
    """Containers that join the IPC namespace or the network of another one, which runs before."""
    made = "creates /dev/shm/m mode 0600"

    def joins(name, ipc, lender, acts=()):
        of_lender = {} if lender is None else {"ipc": lender}
        case = row("joined: " + name, {"user": "405", "ipc": ipc}, ["--user", "405", "--ipc", ipc.replace("service:", "container:")], [], acts)
        return case | {"lender": {"service": of_lender, "args": [] if lender is None else ["--ipc", lender], "act": made}}

    read = ["reads /dev/shm/m", "creates /dev/shm/x"]
    network = row("joined: network", {"user": "alice", "network_mode": "service:lender"}, ["--user", "alice"], [], ["reads /etc/hosts", "reads /etc/hostname"])
    return [
        joins("a shareable one", "service:lender", "shareable", read),
        joins("one that says nothing", "service:lender", None, read),
        joins("a private one", "service:lender", "private", read),
        joins("one without", "service:lender", "none", read),
        joins("none of its own", "none", "shareable", read),
        joins("nobody", "private", "shareable", read),
        network | {"network": "container:lender", "lender": {"service": {}, "args": [], "act": "sets-mode 0600 on /etc/hosts"}},
    ]


def lent_rows(host):
    """Containers that have the volumes of another one, which runs before."""
    lender = {"lender": {"service": {"volumes": ["vol:/sv"]}, "args": ["-v", "vol:/sv"], "act": "creates /dev/shm/m mode 0600"}}
    lent = ["--volumes-from", "lender"]
    rows = [
        row("lent: all", {"volumes_from": ["lender"]}, lent, ["/sv"], ["creates /sv/x"]),
        row("lent: read-only", {"volumes_from": ["lender:ro"]}, ["--volumes-from", "lender:ro"], ["/sv"], ["creates /sv/x"]),
        row("lent: one of its own at the same path", {"volumes_from": ["lender"], "volumes": [f"{host}/d:/sv"]}, [*lent, "-v", f"{host}/d:/sv"], ["/sv", "/sv/f"]),
    ]
    rows = [case | lender for case in rows]

    def lends(name, service, args, mode, paths, acts, image="i:1", own=({}, [])):
        borrowed = row(f"lent: {name}{mode}", {"user": "405", "volumes_from": ["lender" + mode], **own[0]}, ["--user", "405", "--volumes-from", "lender" + mode, *own[1]], paths, acts)
        return borrowed | {"lender": {"service": service, "args": args, "image": image, "act": "creates /dev/shm/m mode 0600"}}

    acts = ["creates /data/x", "reads /data/a"]
    for mode in ("", ":ro", ":rw"):
        rows += [
            lends("an anonymous volume", {"volumes": ["/data"]}, ["-v", "/data"], mode, ["/data", "/data/a"], acts),
            lends("a volume of the image", {}, [], mode, ["/data", "/data/a"], acts, "i:v"),
            lends("one that is not filled", {"volumes": ["vol:/data:nocopy"]}, ["-v", "vol:/data:nocopy"], mode, ["/data"], acts),
            lends("a bind", {"volumes": [f"{host}/d:/data"]}, ["-v", f"{host}/d:/data"], mode, ["/data", "/data/f"], ["creates /data/x", "reads /data/f"]),
            lends("a tmpfs of its own", {"tmpfs": ["/sv"]}, ["--tmpfs", "/sv"], mode, ["/sv"], ["creates /sv/x"]),
            lends("one of its own over a volume of the image", {}, [], mode, ["/data"], acts, "i:v", ({"volumes": [f"{host}/d:/data"]}, ["-v", f"{host}/d:/data"])),
        ]
    return rows


def entered_rows():
    """Somebody whom the engine starts in a container that runs."""
    containers = [
        ("", {}, []),
        (" of alice", {"user": "alice"}, ["--user", "alice"]),
        (" of alice with a capability", {"user": "alice", "cap_add": ["CHOWN"]}, ["--user", "alice", "--cap-add", "CHOWN"]),
        (" without capabilities", {"cap_drop": ["ALL"]}, ["--cap-drop", "ALL"]),
        (" under no-new-privileges", {"security_opt": ["no-new-privileges"]}, ["--security-opt", "no-new-privileges"]),
        (" of alice under no-new-privileges", {"user": "alice", "security_opt": ["no-new-privileges"]}, ["--user", "alice", "--security-opt", "no-new-privileges"]),
        (" with groups added", {"user": "app", "group_add": ["777", "staff"]}, ["--user", "app", "--group-add", "777", "--group-add", "staff"]),
    ]
    acts = ["reads /data/a", "creates /data/x", "lists /m0", "creates /sgid/x"]
    rows = []
    for name, service, args in containers:
        for who in ("root", "alice", "bob", "alice:staff", "0:50", "9999", "405:7", "nouser"):
            rows.append(row(f"entered: {who} in a container{name}", service, args, ["/data"], acts) | {"as": who})
    return rows


def host_mount_rows(host):
    """Binds of a host with mounts of its own, which tools/engine-agreement makes: quiet, quiet/inner, fixed and dead."""

    def bind(name, path, mode, flags, acts):
        mount = f"{host}/{path}:/in{mode}"
        return row("host mounts: " + name, {"volumes": [mount]}, ["-v", mount], [], acts, flags)

    def long(name, recursive, option, flags, acts):
        service = {"volumes": [{"type": "bind", "source": f"{host}/quiet", "target": "/in", "bind": {"recursive": recursive}}]}
        return row("host mounts: " + name, service, ["--mount", f"type=bind,source={host}/quiet,target=/in{option}"], [], acts, flags)

    inner = ["creates /in/x", "creates /in/inner/x"]
    return [
        bind("flags are shown", "quiet", "", ["/in", "/in/inner"], inner),
        bind("flags under a read-only bind", "quiet", ":ro", ["/in", "/in/inner"], inner),
        bind("two levels below", "", "", ["/in", "/in/quiet", "/in/quiet/inner"], ["creates /in/quiet/x", "creates /in/fixed/x", "creates /in/dead/x"]),
        bind("a mount that is read-only", "fixed", "", ["/in"], ["creates /in/x"]),
        bind("a mount that is read-only, under a read-only bind", "fixed", ":ro", ["/in"], ["creates /in/x"]),
        bind("a file system that is read-only", "dead", "", [], ["creates /in/x"]),
        bind("a directory of such a mount", "quiet/d", "", ["/in"], ["creates /in/x"]),
        long("mounts left behind", "disabled", ",bind-nonrecursive", ["/in", "/in/inner"], ["creates /in/x"]),
        long("mounts brought along", "enabled", "", ["/in", "/in/inner"], inner),
    ]


def option_rows(host):
    """What only Podman knows."""

    def volume(name, mount, who, paths=(), acts=()):
        service = {"volumes": [mount], **({"user": who} if who else {})}
        return row("option: " + name, service, [*(["--user", who] if who else []), "-v", mount], paths, acts)

    return [
        volume("U on a volume", "vol:/data:U", "alice", ["/data", "/data/a", "/data/sub"]),
        volume("U at a missing path", "vol:/new:U", "alice", ["/new"], ["creates /new/x"]),
        volume("U on a bind", f"{host}/d:/in:U", "alice", ["/in", "/in/f"], ["reads /in/f"]),
        volume("U on a bind that is read-only", f"{host}/d:/in:U,ro", "app", ["/in", "/in/f"], ["creates /in/x"]),
        volume("O on a bind", f"{host}/d:/in:O", "app", ["/in", "/in/f"], ["creates /in/x"]),
        volume("idmap without a namespace", "vol:/data:idmap", None),
        row("option: a read-only root without scratch space", None, ["--user", "alice", "--read-only", "--read-only-tmpfs=false"], ["/tmp", "/run", "/var/tmp"],
            ["creates /tmp/x", "creates /run/x", "creates /dev/shm/x"]),
        volume("noexec and nosuid", "vol:/data:noexec,nosuid", None, ["/data"]),
        *(row(f"option: a {kind} behind a volume at {at}", {"user": "alice", "volumes": [f"vol:{at}"]}, ["--user", "alice", "-v", f"vol:{at}"], [at], [f"creates {at}/x"]) | {"vol": options}
          for kind, options in (("tmpfs", {"type": "tmpfs", "device": "tmpfs", "o": "mode=0700"}), ("folder", {"type": "none", "device": f"{host}/empty", "o": "bind"}))
          for at in ("/data", "/new", "/sgid")),
        row("option: keep-groups", {"user": "alice", "group_add": ["keep-groups"]}, ["--user", "alice", "--group-add", "keep-groups"]),
        row("option: keep-groups beside another", {"group_add": ["staff", "keep-groups"]}, ["--group-add", "staff", "--group-add", "keep-groups"]),
        row("option: keep-groups of nobody", {"group_add": ["keep-groups"]}, ["--group-add", "keep-groups"]),
    ]


def mapped_rows(host):
    """The same under a user namespace of the container's own, which Podman gives on its command line."""
    remap = ["--uidmap", "0:100000:65536", "--gidmap", "0:100000:65536"]
    mapped = [
        row("mapped: image", {"user": "alice"}, ["--user", "alice"], ["/", "/data", "/m0"], ["creates /data/x", "creates /tmp/x"]),
        row("mapped: root over others' files", {}, [], ["/m0"], ["lists /m0", "reads /data/a", "creates /data/x"]),
        row("mapped: volume filled from the image", {"volumes": ["vol:/data"]}, ["-v", "vol:/data"], ["/data", "/data/a", "/data/sub"]),
        row("mapped: volume at a missing path", {"user": "alice", "volumes": ["vol:/new"]}, ["--user", "alice", "-v", "vol:/new"], ["/new"], ["creates /new/x"]),
        row("mapped: bind of unmapped owners", {"volumes": [f"{host}/d:/in"]}, ["-v", f"{host}/d:/in"], ["/in", "/in/f"], ["reads /in/f", "creates /in/x"]),
        row("mapped: tmpfs", {"tmpfs": ["/new"]}, ["--tmpfs", "/new"], ["/new"], ["creates /new/x"]),
        row("mapped: a user without a mapping", {"user": "70000"}, ["--user", "70000"]),
    ]
    mapped.append(row("mapped: idmap on a bind", {"volumes": [f"{host}/d:/in:idmap"]}, ["-v", f"{host}/d:/in:idmap"], ["/in", "/in/f"], ["reads /in/f", "creates /in/x"]))
    mapped.append(row("mapped: U on a bind", {"user": "alice", "volumes": [f"{host}/d:/in:U"]}, ["--user", "alice", "-v", f"{host}/d:/in:U"], ["/in", "/in/f"], ["reads /in/f"]))
    for path, option in (("quiet", ""), ("quiet", ",bind-nonrecursive"), ("quiet", ",ro"), ("fixed", ""), ("plain", ",ro")):
        recursive = "disabled" if "nonrecursive" in option else "enabled"
        bind = {"type": "bind", "source": f"{host}/{path}", "target": "/in", "read_only": option == ",ro", "bind": {"recursive": recursive}}
        mount = f"type=bind,source={host}/{path},target=/in{option}"
        mapped.append(row(f"host mounts, mapped: {path}{option}", {"volumes": [bind]}, ["--mount", mount], [], ["creates /in/x"], ["/in", "/in/inner"]))
    for case in mapped:
        case["args"] = remap + case["args"]
        case["namespace"] = {"uids": ["0 100000 65536"], "gids": ["0 100000 65536"]}
    return mapped


# Somebody who is on every machine, with ranges out of order and a group's that decides nothing.
REMAPPED_RANGES = "nogroup:7:7\nnobody:300000:5000\nnobody:165536:60536\n"
REMAPPED = {"remapped-to": "nobody:nogroup", "accounts": {"passwd": "nobody:x:65534:65534::/:/bin/false\n"}, "subuid": REMAPPED_RANGES, "subgid": REMAPPED_RANGES}


def remapped_rows(host):
    """Docker whose containers all have a user namespace (`userns-remap`)."""
    outside = {"userns_mode": "host"}, ["--userns", "host"]
    rows = [
        row("remapped: image", {"user": "alice"}, ["--user", "alice"], ["/", "/data", "/m0"], ["creates /data/x", "creates /tmp/x"]),
        row("remapped: privileged", {"privileged": True}, ["--privileged"]),
        row("remapped: privileged for nobody special", {"user": "alice", "privileged": True}, ["--user", "alice", "--privileged"]),
        row("remapped: volume filled from the image", {"volumes": ["vol:/data"]}, ["-v", "vol:/data"], ["/data", "/data/a", "/data/sub"]),
        row("remapped: volume at a missing path", {"user": "alice", "volumes": ["vol:/new"]}, ["--user", "alice", "-v", "vol:/new"], ["/new"], ["creates /new/x"]),
        row("remapped: bind of owners without a mapping", {"volumes": [f"{host}/d:/in"]}, ["-v", f"{host}/d:/in"], ["/in", "/in/f"], ["reads /in/f", "creates /in/x"]),
        row("remapped: a mount point in such a bind", {"volumes": [f"{host}/d:/in", "vol:/in/new"]}, ["-v", f"{host}/d:/in", "-v", "vol:/in/new"]),
        row("remapped: out of the namespace", outside[0], outside[1], ["/", "/data", "/data/a", "/etc/hosts", "/etc/passwd", "/dev", "/dev/shm"], ["reads /data/a", "creates /new"]),
        row("remapped: somebody out of the namespace", {"user": "alice", **outside[0]}, ["--user", "alice", *outside[1]], ["/data", "/tmp"], ["creates /tmp/x", "creates /data/x", "writes /open"]),
        row("remapped: a volume out of the namespace", {"volumes": ["vol:/data"], **outside[0]}, ["-v", "vol:/data", *outside[1]], ["/data", "/data/a"], ["creates /data/x"]),
        row("remapped: privileged out of the namespace", {"privileged": True, "user": "alice", **outside[0]}, ["--user", "alice", "--privileged", *outside[1]], ["/data"]),
    ]
    for case in rows:
        case["namespace"] = REMAPPED
    return rows


def bundle_rows(host):
    """OCI bundles, the same for runc and crun."""
    def bundle(name, process, mounts=(), paths=(), acts=(), readonly=False, flags=(), mapped=False):
        return {"name": name, "process": process, "mounts": list(mounts), "paths": list(paths), "acts": list(acts),
                "readonly": readonly, "flags": list(flags), "mapped": mapped, "shifted": True, "maps": ([(0, 100000, 65536)], [(0, 100000, 65536)])}

    def bind(name, path, options, mapped):
        mount = {"destination": "/in", "type": "bind", "source": f"{host}/{path}", "options": options}
        acts = ["creates /in/x", "creates /in/inner/x"] if "rbind" in options and path == "plain" and not mapped else ["creates /in/x"]
        return bundle("host mounts: " + name, {"user": ids(0, 0)}, [mount], [], acts, flags=["/in", "/in/inner"], mapped=bool(mapped))

    caps = {kind: ["CAP_CHOWN", "CAP_FOWNER"] for kind in ("bounding", "effective", "permitted")}
    more = dict(caps, inheritable=["CAP_CHOWN"], ambient=["CAP_CHOWN"])
    ids = lambda uid, gid, *groups: {"uid": uid, "gid": gid, **({"additionalGids": list(groups)} if groups else {})}
    tmpfs = {"destination": "/data", "type": "tmpfs", "source": "tmpfs", "options": ["mode=700"]}
    fresh = {"destination": "/new", "type": "tmpfs", "source": "tmpfs", "options": ["mode=700", "uid=405", "gid=50"]}
    return [
        bundle("no additional groups", {"user": ids(1000, 1000)}),
        bundle("a group named like a number", {"user": ids(1000, 1000, 50, 50, 1000)}),
        bundle("another one", {"user": ids(5, 4300, 4300)}),
        bundle("umask", {"user": dict(ids(405, 1001), umask=0o077)}, acts=["creates /sgid/x"]),
        bundle("capabilities of an ordinary user", {"user": ids(5, 5), "capabilities": caps}),
        bundle("ambient capabilities", {"user": ids(5, 5), "capabilities": more}),
        bundle("capabilities of root", {"user": ids(0, 0), "capabilities": caps}, acts=["reads /data/a"]),
        bundle("none at all", {"user": ids(0, 0)}, acts=["reads /data/a", "lists /m0"]),
        bundle("read-only root", {"user": ids(405, 1001)}, acts=["creates /data/x", "writes /data/a"], readonly=True),
        bundle("tmpfs over a directory", {"user": ids(0, 0)}, [tmpfs], ["/data"]),
        bundle("tmpfs at a new path", {"user": ids(0, 0)}, [fresh], ["/new"]),
        bundle("nobody named", {}, acts=["reads /data/a"]),
        bundle("capabilities that nobody knows", {"user": ids(0, 0), "capabilities": {"bounding": ["CAP_NONE", "CHOWN", "CAP_KILL"], "effective": ["CAP_KILL", "CHOWN"], "permitted": ["CAP_KILL"]}}),
        bundle("relative working directory", {"user": ids(0, 0), "cwd": "rel"}),
        bundle("working directory that is a file", {"user": ids(0, 0), "cwd": "/open"}),
        bundle("memory in a /dev of its own", {"user": ids(405, 1001)}, [
            {"destination": "/dev", "type": "tmpfs", "source": "tmpfs", "options": ["nosuid", "mode=755"]},
            {"destination": "/dev/shm", "type": "tmpfs", "source": "shm", "options": ["nosuid", "mode=1777"]},
        ], ["/dev/shm"], ["creates /dev/shm/x"]),
        bundle("a mount at /sys/fs/cgroup", {"user": ids(405, 1001)}, [
            {"destination": "/sys", "type": "sysfs", "source": "sysfs", "options": ["nosuid", "noexec", "nodev", "ro"]},
            {"destination": "/sys/fs/cgroup", "type": "tmpfs", "source": "tmpfs", "options": ["ro", "mode=755"]},
        ], ["/sys/fs"], ["creates /sys/fs/cgroup/x"]),
        bundle("mapped: a root that is not shifted", {"user": ids(0, 0)}, [{"destination": "/dev/shm", "type": "tmpfs", "source": "shm", "options": ["mode=1777"]}],
               ["/", "/etc", "/dev", "/dev/shm", "/open"], ["creates /x", "creates /etc/x", "writes /open", "reads /etc/passwd", "creates /tmp/x", "lists /m0"], mapped=True) | {"shifted": False},
        bundle("mapped: a root that is shifted", {"user": ids(405, 1001)}, [], ["/", "/data", "/data/a", "/dev"], ["creates /data/x", "creates /tmp/x"], mapped=True),
        bundle("mapped: a bind with idmap", {"user": ids(405, 1001)}, [{"destination": "/in", "type": "bind", "source": f"{host}/d", "options": ["bind", "idmap"]}], ["/in", "/in/f"], ["reads /in/f"], mapped=True),
        bundle("hidden and read-only paths", {"user": ids(0, 0)}, [], ["/data", "/sgid"],
               ["creates /data/x", "lists /data", "writes /open", "creates /sgid/x", "writes /etc/group", "reads /etc/passwd"], flags=["/data", "/sgid", "/open"])
        | {"linux": {"maskedPaths": ["/data", "/open", "/none"], "readonlyPaths": ["/sgid", "/etc/group", "/none"]}},
        bundle("mounts below a read-only path", {"user": ids(0, 0)}, [
            {"destination": "/sgid", "type": "tmpfs", "source": "tmpfs", "options": ["nosuid", "mode=755"]}, {"destination": "/sgid/in", "type": "tmpfs", "source": "tmpfs", "options": []},
        ], ["/sgid"], ["creates /sgid/x", "creates /sgid/in/x"], flags=["/sgid"]) | {"linux": {"readonlyPaths": ["/sgid"]}},
        bundle("a hidden path through a link", {"user": ids(0, 0)}, [], ["/link"], ["creates /data/x"]) | {"linux": {"maskedPaths": ["/link"]}},
        *(bundle(f"a tmpfs that is filled, {' '.join(options)} at {at}", {"user": ids(0, 0)}, [{"destination": at, "type": "tmpfs", "source": "tmpfs", "options": ["tmpcopyup", *options]}], [at, "/data", "/data/a", "/data/sub"], ["creates /data/x"])
          for at in ("/data", "/new", "/link") for options in ([], ["mode=701"], ["uid=5", "ro"])),
        *(bind(f"{path} {' '.join(options)}{mapped and ' in a user namespace'}", path, options, mapped)
          for mapped in ("", "yes") for path, options in (
            ("quiet", ["rbind"]), ("quiet", ["bind"]), ("quiet", ["rbind", "ro"]), ("quiet", ["rbind", "rro"]), ("quiet", ["rbind", "noexec"]),
            ("quiet", ["rbind", "rexec"]), ("quiet/inner", ["bind"]), ("fixed", ["rbind"]), ("fixed", ["rbind", "noexec"]),
            ("plain", ["rbind", "ro", "noexec", "rw", "exec"]), ("plain", ["rbind", "rro", "rrw"]), ("plain", ["rbind", "ro", "rrw"]),
            ("plain", ["bind", "rro"]), ("plain", ["rbind", "nosuid", "rnodev"]), ("plain", ["rbind", "noexec"]),
        )),
        *of_maps(bundle, ids, host),
    ]


# INSIDE, OUTSIDE, COUNT for users and for groups: several lines, gaps, one id, groups of their own, the host's own ids.
MAPS = {
    "several lines": ([(0, 100000, 405), (405, 405, 1), (406, 100406, 60000)], [(0, 100000, 1001), (1001, 1001, 1), (1002, 101002, 60000)]),
    "a gap": ([(0, 100000, 100), (405, 100405, 10)], [(0, 100000, 60), (1001, 101001, 10)]),
    "one id": ([(0, 405, 1)], [(0, 1001, 1)]),
    "no root inside": ([(405, 100405, 1)], [(1001, 101001, 1)]),
    "groups of their own": ([(0, 100000, 65536)], [(0, 300000, 65536)]),
    "the host's ids": ([(0, 0, 65536)], [(0, 0, 65536)]),
    "lines out of order": ([(1000, 201000, 5000), (0, 100000, 1000)], [(1000, 201000, 5000), (0, 100000, 1000)]),
}


def through(lines, number):
    """The id outside; one without a line stays what it is."""
    return next((outside + number - inside for inside, outside, count in lines if inside <= number < inside + count), number)


def of_maps(bundle, ids, host):
    """Bundles with further maps, and binds that have maps or ask for those of the container."""
    users = {"0": ids(0, 0), "405": ids(405, 1001), "groups": ids(405, 1001, 50, 1001, 29), "unmapped": ids(7777, 1001)}
    bind = lambda *options, **more: [{"destination": "/in", "type": "bind", "source": f"{host}/d", "options": list(options)} | more]
    lines = lambda *lines: [{"containerID": inside, "hostID": outside, "size": count} for inside, outside, count in lines]
    own = {"uidMappings": lines((0, 405, 1), (1, 1, 100)), "gidMappings": lines((0, 1001, 1), (1, 1, 100))}
    binds = {
        "bind": bind("bind"), "idmap": bind("bind", "idmap"), "rbind idmap": bind("rbind", "idmap"), "ridmap": bind("bind", "ridmap"), "rbind ridmap": bind("rbind", "ridmap"),
        "a map of its own": bind("bind", **own), "a map of its own and idmap": bind("bind", "idmap", **own), "idmap with lines": bind("bind", "idmap=uids=405-0-1#1-1-100;gids=1001-0-1"),
        "idmap with lines of the container": bind("bind", "idmap=uids=@405-0-1;gids=@1001-0-1"), "a map of its own and idmap with lines": bind("bind", "idmap=uids=405-0-1;gids=1001-0-1", **own),
    }
    paths, acts = ["/", "/data", "/data/a", "/in", "/in/f", "/in/x"], ["reads /in/f", "creates /in/x", "creates /data/x"]
    plain = [bundle(f"maps: {name} as {who}", {"user": user}, [], ["/", "/data", "/data/a"], ["creates /data/x", "creates /tmp/x", "reads /data/a"], mapped=True) | {"maps": maps}
             for name, maps in MAPS.items() for who, user in users.items()]
    bound = [bundle(f"maps: {name}, {how} as {who}", {"user": users[who]}, mounts, paths[:5], acts, mapped=True) | {"maps": maps}
             for name, maps in [("the usual one", ([(0, 100000, 65536)], [(0, 100000, 65536)])), *MAPS.items()] for how, mounts in binds.items() for who in ("0", "405")]
    odd = ("uids=405-100405-1", "gids=1001-101001-1", "uids=@405-405-1", "uids=405-0", "uids=405-0-1-2", "x=1-1-1", "uids=a-1-1", "uids=1-1-0", "uids=405-0-1;", "uids=405-0-1#", "", "uids=", "uids=-1-1-1", "uids=405-0-1;uids=1-1-1", "uids=405-0-1,gids=1001-0-1")
    bound += [bundle(f"maps: odd, {text}", {"user": users["405"]}, bind("bind", f"idmap={text}"), ["/in", "/in/f"], ["reads /in/f"], mapped=True) for text in odd]
    bound += [bundle(f"maps: of one kind, {kind} as 405", {"user": users["405"]}, bind("bind", **{kind: own[kind]}), ["/in", "/in/f"], ["reads /in/f"], mapped=True) for kind in own]
    outside = [bundle(f"maps: none, {how} as {who}", {"user": users[who]}, mounts, paths[:5], acts) for how, mounts in binds.items() for who in ("0", "405")]
    return plain + bound + outside



def build_rows():
    """Images built on the ready-made one: what the instructions leave at the paths."""

    def build(name, lines, paths=(), acts=()):
        return {"name": "build: " + name, "lines": lines, "paths": list(paths), "acts": list(acts)}

    return [
        build("working directory", ["USER app", "WORKDIR /wd/a/b"], ["/wd", "/wd/a/b"], ["creates /wd/a/b/x"]),
        build("working directory that a command needs", ["USER app", "WORKDIR /wd/a", "RUN true"], ["/wd", "/wd/a"], ["creates /wd/a/x"]),
        build("working directory of a user without account", ["USER 9999", "WORKDIR /wd", "RUN true"], ["/wd"]),
        build("working directory that a relative copy needs", ["USER app", "WORKDIR /wd", "COPY f g"], ["/wd", "/wd/g"]),
        build("working directory that a relative copy with an owner needs", ["USER app", "WORKDIR /wd/a", "COPY --chown=alice f g"], ["/wd", "/wd/a", "/wd/a/g"]),
        build("working directory that another one needs", ["USER app", "WORKDIR /wd", "WORKDIR a", "RUN true", "USER alice", "WORKDIR b", "RUN true"], ["/wd", "/wd/a", "/wd/a/b"]),
        build("commands of the user", ["WORKDIR /sgid", "USER app", "RUN mkdir d && touch f", "RUN mkdir -m 700 /tmp/m"], ["/sgid/d", "/sgid/f", "/tmp/m"]),
        build("umask and directory of one shell", ["RUN umask 027; cd /tmp && mkdir -p a/b && touch a/f", "RUN mkdir /n"], ["/tmp/a", "/tmp/a/b", "/tmp/a/f", "/n"]),
        build("a command that is refused", ["USER alice", "RUN mkdir /data/x"]),
        build("a change of owner that is refused", ["USER alice", "RUN chown alice /open"]),
        build("a command in an image without a shell", ["FROM scratch", "COPY f /f", "RUN true"]),
        build("a program in an image without it", ["FROM scratch", "COPY f /f", 'RUN ["/bin/true"]']),
        build("a command in an image with a copied shell", ["FROM scratch", "COPY --from=0 / /", "RUN mkdir /n && chown 5:6 /n"], ["/n"]),
        build("a directory that is there", ["RUN mkdir /data"]),
        build("owners by name, number and login group", ["RUN chown app:staff /open && chown -R bob: /data && chgrp staff /empty"], ["/open", "/data", "/data/a", "/data/sub", "/empty"]),
        build("modes", ["RUN chmod g+w,o= /data/a && chmod -R u=rwX,o= /data && chmod 2770 /sgid && chmod 4755 /open && chown app /open"], ["/data/a", "/sgid", "/open"]),
        build("a copied file", ["USER app", "COPY f /f", "COPY s /dir/s"], ["/f", "/dir", "/dir/s"]),
        build("a copied directory", ["COPY tree /copied/to"], ["/copied", "/copied/to", "/copied/to/closed", "/copied/to/closed/f", "/copied/to/f"]),
        build("onto a directory that is there", ["COPY tree /empty", "COPY f /open"], ["/empty", "/empty/f", "/empty/closed", "/open"]),
        build("a copy with an owner", ["COPY --chown=app f /made/f", "COPY --chown=app:staff tree /made2/to"], ["/made", "/made/f", "/made2", "/made2/to", "/made2/to/f", "/made2/to/closed"]),
        build("a copy for a number", ["COPY --chown=405 f /f"], ["/f"]),
        build("a copy for a user whose name is not a group", ["COPY --chown=bob f /f"], ["/f"]),
        build("a copy for a group alone", ["COPY --chown=:staff f /f"], ["/f"]),
        build("a copy with an owner onto a directory", ["COPY --chown=405:50 tree /empty"], ["/empty", "/empty/f", "/empty/closed"]),
        build("a copy into a set-group-ID directory", ["COPY tree /sgid/to", "COPY f /sgid/"], ["/sgid/to", "/sgid/to/closed", "/sgid/f"]),
        build("a pattern", ["COPY tree/f* /into/"], ["/into", "/into/f", "/into/f2"]),
        build("from another stage", ["RUN mkdir /out && touch /out/f && chown -R app /out", "FROM i:1", "COPY --from=0 /out /got", "COPY --from=0 --chown=alice /out/f /f"], ["/got", "/got/f", "/f"]),
        build("a file from another stage", ["RUN chown app:staff /open && chmod 4755 /open", "FROM i:1", "COPY --from=0 /open /f", "COPY --from=0 /open /empty/", "COPY --from=0 / /whole"], ["/f", "/empty/open", "/whole/sgid", "/whole/data", "/whole/data/sub"]),
        build("a volume of the image", ["RUN mkdir /v && chown app /v && chmod 2750 /v", "VOLUME /v", "USER app"], ["/v"], ["creates /v/x"]),
        build("changes below a volume", ["VOLUME /data", "RUN chown alice /data /data/a && touch /data/new", "COPY f /data/"], ["/data", "/data/a", "/data/new", "/data/f"]),
        build("a volume that is made below", ["VOLUME /v", "RUN mkdir -p /v/x && chown app /v && touch /beside", "RUN chmod 700 /beside"], ["/v/x", "/beside"]),
        build("failures that a shell forgives", ["RUN mkdir /data; mkdir /one; chown app /one || true", "RUN set -e; mkdir /two; chown app /two"], ["/two"]),
        build("a change of owner takes file modes", ["RUN chmod 6755 /open && chown alice /open", "COPY s /open"], ["/open"]),
        build("variables", ["ARG WHO=app", "ENV HOME_OF=/home/$WHO", "RUN mkdir -p $HOME_OF && chown ${WHO}:${NONE:-staff} ${HOME_OF}", "USER $WHO"], ["/home", "/home/app"], ["creates /home/app/x"]),
        build("a link of the context", ["COPY l /got", "COPY dl /all", "COPY f l /two/"], ["/got", "/all", "/all/f", "/all/closed", "/two/f"]),
        build("a file over a directory", ["COPY tree /over", "COPY other /over"], ["/over/closed", "/over/f"]),
        build("what the ignore file leaves out", ["COPY . /all"], ["/all", "/all/tree/f"], ["reads /all/left"]),
    ]
