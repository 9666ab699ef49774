"""Podman of somebody who is not root, for tools/engine-agreement: an account with subordinate ids, and rows about user namespaces."""

import contextlib
import os
import random
import shutil
import signal
import subprocess
import zlib
from pathlib import Path

import engine_random
from engine_cases import row

NAME, UID, GID = "worker", 1500, 1500
PASSWD = f"root:x:0:0::/root:/bin/sh\n{NAME}:x:{UID}:{GID}::/:/bin/sh\nother:x:1001:1001::/:/bin/sh\n"
GROUP = f"root:x:0:\n{NAME}:x:{GID}:\ncrew:x:1600:{NAME}\nother:x:1001:\n"
# Two ranges, out of order: the map has them by their first id.
SUBORDINATE = f"other:500000:65536\n{NAME}:300000:4000\n{NAME}:200000:61536\n"
# What is on the host, below the folder that is bound: owner, group, mode; a trailing slash makes a directory.
OWNED = [
    ("mine/", UID, GID, 0o755), ("mine/f", UID, GID, 0o640), ("mine/closed/", UID, GID, 0o700), ("sub/", 200404, 201000, 0o750),
    ("sub/f", 200404, 201000, 0o640), ("crew/", 0, 1600, 0o2770), ("crew/f", 0, 1600, 0o660), ("far/", 303000, 303000, 0o755), ("far/f", 303000, 303000, 0o600),
    ("others/", 1001, 1001, 0o777), ("others/f", 1001, 1001, 0o644), ("sticky/", 0, 0, 0o1777), ("nobody/f", 65534, 65534, 0o644), ("shut/", 0, 0, 0o700), ("shut/in/", UID, GID, 0o755),
]


FILES = {"passwd": PASSWD, "group": GROUP, "subuid": SUBORDINATE, "subgid": SUBORDINATE}


class Skipped(Exception):
    pass


class Starter:
    def __init__(self, folder):
        self.home, self.runtime, self.volumes = folder / "home", Path(f"/run/user/{UID}"), None

    def command(self):
        path = os.environ["PATH"] + ":/usr/sbin"
        return ["setpriv", "--reuid", str(UID), "--regid", str(GID), "--init-groups", "env", "-i", "-C", str(self.home), f"HOME={self.home}", f"USER={NAME}", f"PATH={path}", f"XDG_RUNTIME_DIR={self.runtime}"]

    def afresh(self):
        """The process that holds his namespaces ends: the next one sees what is mounted by then."""
        for pause in self.runtime.glob("**/pause.pid"):
            with contextlib.suppress(ProcessLookupError):
                os.kill(int(pause.read_text()), signal.SIGKILL)

    def end(self):
        """Nothing of his stays, and his folder below /run goes."""
        self.afresh()
        subprocess.run(["umount", "--lazy", self.runtime], stderr=subprocess.DEVNULL)
        # What is mounted over these next lies on the files themselves otherwise, and keeps them from being removed.
        for name in FILES:
            subprocess.run(["umount", f"/etc/{name}"], stderr=subprocess.DEVNULL)

    @staticmethod
    def facts():
        return {"started-by": NAME, "accounts": {"passwd": PASSWD, "group": GROUP}, "subuid": SUBORDINATE, "subgid": SUBORDINATE}

    @staticmethod
    def owned(host):
        known = {name for name, _, _, _ in OWNED}
        for name, user, group, mode in OWNED:
            path = host / name
            path.parent.mkdir(parents=True, exist_ok=True)
            if name.endswith("/"):
                path.mkdir(exist_ok=True)
                for left in path.iterdir():
                    if f"{name}{left.name}" not in known and f"{name}{left.name}/" not in known:
                        shutil.rmtree(left) if left.is_dir() and not left.is_symlink() else left.unlink()
            else:
                path.write_text("x")
            os.lchown(path, user, group)
            path.chmod(mode)

    @staticmethod
    def tree(host):
        tree = [{"path": str(host / "nobody"), "kind": "dir", "owner": "0:0", "mode": "0755"}]
        for name, user, group, mode in OWNED:
            tree.append({"path": str(host / name).rstrip("/"), "kind": "dir" if name.endswith("/") else "file", "owner": f"{user}:{group}", "mode": f"{mode:04o}"})
        return tree

    @staticmethod
    def sources(case):
        """Where a row's binds and volumes are on the host, by where they are mounted."""
        for before, word in zip(case["args"], case["args"][1:]):
            if before in ("-v", "--volume") and word.count(":") >= 1:
                yield word.split(":")[1].rstrip("/"), word.split(":")[0], word.split(":")[2:] 

    def left(self, case):
        """What a row makes that can be looked at on the host, and where."""
        found = {}
        for act in case["acts"]:
            verb, path = act.split()[:2]
            for at, source, options in self.sources(case):
                if verb == "creates" and path.startswith(at + "/") and "/" not in path[len(at) + 1:] and not any("O" in option.split(",") for option in options):
                    folder = Path(source) if source.startswith("/") else self.volumes / source / "_data"
                    found[act] = folder / path[len(at) + 1:]
        return found

    def seen(self, case, seen):
        result = {}
        for act, path in self.left(case).items():
            if seen.get(act) == "allowed" and path.exists():
                status = path.stat()
                result["left " + act] = f"{status.st_uid}:{status.st_gid}"
                path.unlink()
        return result


def prepared(folder, wrapper):
    """The account, in the mount namespace of this program alone."""
    for tool in ("newuidmap", "newgidmap", "setpriv"):
        if shutil.which(tool, path=os.environ["PATH"] + ":/usr/sbin") is None:
            raise Skipped(f"there is no {tool}")
    folder.mkdir()
    user = Starter(folder)
    for name, text in FILES.items():
        own = folder / name
        own.write_text(text)
        if not Path("/etc", name).exists():
            raise Skipped(f"there is no /etc/{name} to put another one over")
        subprocess.run(["mount", "--bind", own, f"/etc/{name}"], check=True)
    (folder / "crun").write_text(wrapper)
    (folder / "crun").chmod(0o755)
    user.home.mkdir()
    user.runtime.mkdir(parents=True, exist_ok=True)
    subprocess.run(["mount", "-t", "tmpfs", "-o", f"uid={UID},gid={GID},mode=700", "tmpfs", user.runtime], check=True)
    os.chown(user.home, UID, GID)
    return user


DAEMON = """
mkdir -p "$HOME/bin" "$HOME/docker-state"
# The daemon wants what RootlessKit has beside it; nothing here has a port.
printf '#!/bin/sh\\n' > "$HOME/bin/rootlesskit-docker-proxy"
chmod +x "$HOME/bin/rootlesskit-docker-proxy"
echo $$ > "$HOME/docker-state/child_pid"
mount -t tmpfs tmpfs /run
mkdir -p "$XDG_RUNTIME_DIR"
export PATH="$HOME/bin:$PATH" ROOTLESSKIT_STATE_DIR="$HOME/docker-state"
exec dockerd --rootless --data-root "$HOME/docker-data" --exec-root /run/docker-exec --pidfile /run/docker-pid -H "unix://$HOME/docker-socket" \
    --storage-driver vfs --iptables=false --ip6tables=false --bridge=none --userland-proxy=false --exec-opt native.cgroupdriver=cgroupfs > "$HOME/docker-log" 2>&1
"""


def daemon(user):
    """A Docker daemon of his, and its socket."""
    script = user.home / "daemon"
    script.write_text(DAEMON)
    script.chmod(0o755)
    unshare = ["podman", "--root", str(user.home / "store-vfs"), "--runroot", str(user.runtime / "run-vfs"), "--storage-driver", "vfs", "--cgroup-manager", "cgroupfs", "unshare"]
    return subprocess.Popen([*user.command(), *unshare, "bash", str(script)], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL), f"unix://{user.home}/docker-socket"


def docker_rows(host):
    """Users and mounts of a daemon without root: it knows no user namespaces of containers."""
    made = []
    for who in USERS:
        service, args = ({"user": who}, ["--user", who]) if who else ({}, [])
        made.append(row(f"rootless: docker, user {who}", service, args, ["/", "/data", "/data/a", "/etc/passwd", "/etc/hosts", "/dev/null", "/dev/shm", "/proc"], ["creates /data/x", "reads /data/a", "creates /tmp/x"]))
    for who in (None, "alice", "405"):
        service, args = ({"user": who}, ["--user", who]) if who else ({}, [])
        for folder in ("mine", "sub", "crew", "far", "others", "sticky", "nobody", "shut", "shut/in", "d", "mine/new", "shut/new", "mine/closed/new", "full/new", "full/new/er", "crew/new", "others/new", "sub/new"):
            bind = f"{host}/{folder}:/in"
            made.append(row(f"rootless: docker, {folder} bound for {who}", {**service, "volumes": [bind]}, [*args, "-v", bind], ["/in", "/in/f"], ["creates /in/x", "reads /in/f", "lists /in"]))
        for at in ("/data", "/new", "/empty", "/sticky"):
            made.append(row(f"rootless: docker, volume at {at} for {who}", {**service, "volumes": [f"vol:{at}"]}, [*args, "-v", f"vol:{at}"], [at, "/data/a"], [f"creates {at}/x"], [at]))
        made.append(row(f"rootless: docker, tmpfs for {who}", {**service, "tmpfs": ["/t"]}, [*args, "--tmpfs", "/t"], ["/t"], ["creates /t/x"], ["/t"]))
    made += [
        row("rootless: docker, privileged", {"privileged": True}, ["--privileged"], ["/dev/null", "/proc", "/sys"], ["creates /data/x"]),
        row("rootless: docker, read-only", {"read_only": True}, ["--read-only"], ["/tmp", "/run"], ["creates /tmp/x", "creates /etc/x"]),
        row("rootless: docker, host namespace", {"userns_mode": "host"}, ["--userns", "host"], ["/data"], ["creates /data/x"]),
        row("rootless: docker, another namespace", {"userns_mode": "keep-id"}, ["--userns", "keep-id"]),
        row("rootless: docker, a group far off", {"group_add": ["70000"]}, ["--group-add", "70000"]),
        row("rootless: docker, a working directory", {"user": "alice", "working_dir": "/wd/a"}, ["--user", "alice", "--workdir", "/wd/a"], ["/wd", "/wd/a"]),
    ]
    return made


# How a container gets its ids: what a description says of it, where one can, and what is typed.
MAPS = [
    ("", {}, []), ("host", {"userns_mode": "host"}, ["--userns", "host"]),
    *((mode, {"userns_mode": mode}, ["--userns", mode]) for mode in (
        "keep-id", "keep-id:uid=405,gid=1001", "keep-id:uid=405", "keep-id:gid=50", "keep-id:uid=1000,gid=1000", "keep-id:uid=0,gid=0", "nomap", "auto:size=8000")),
    *((f"map {uids} {gids}", None, [word for option, lines in (("--uidmap", uids), ("--gidmap", gids)) for line in lines for word in (option, line)]) for uids, gids in (
        (("0:1:6000",), ()), (("0:0:1", "1:1:6000"), ("0:0:1", "1:1:6000")), (("0:100:1001", "1001:0:1"), ("0:100:1001", "1001:0:1")), (("0:1:6000",), ("0:60000:5000",)), (("405:0:1", "0:1:300"), ("0:0:1", "1001:7:1")))),
]
USERS = [None, "root", "alice", "405", "app", "1500", "9999", "alice:staff", "0:50", "405:7", "2000"]


def mapped(name, form, service, args, paths=(), acts=(), flags=()):
    mode, of_mode, words = form
    service = None if of_mode is None or service is None else {**service, **of_mode}
    return row(f"rootless: {name}{mode and ', ' + mode}", service, [*words, *args], paths, acts, flags)


def rows(host, sampled=True):
    """Every way to ids with every kind of user, and with every kind of mount."""
    made = []
    held = {name for name, _, _, _ in OWNED} | {"d/f"}
    image = ["/", "/data", "/data/a", "/etc/passwd", "/etc/hosts", "/dev/null", "/dev/shm", "/dev/mqueue", "/proc", "/run/.containerenv"]
    for form in MAPS:
        for who in USERS:
            service, args = ({"user": who}, ["--user", who]) if who else ({}, [])
            made.append(mapped(f"user {who}", form, service, args, image, ["creates /data/x", "reads /data/a", "creates /tmp/x"]))
        made.append(mapped("groups kept", form, {"group_add": ["keep-groups"]}, ["--group-add", "keep-groups"], ["/data"]))
        made.append(mapped("groups kept by alice", form, {"user": "alice", "group_add": ["keep-groups"], "volumes": [f"{host}/crew:/in"]},
                           ["--user", "alice", "--group-add", "keep-groups", "-v", f"{host}/crew:/in"], ["/in", "/in/f"], ["creates /in/x", "reads /in/f"]))
        made.append(mapped("a group added", form, {"user": "alice", "group_add": ["7", "staff"]}, ["--user", "alice", "--group-add", "7", "--group-add", "staff"]))
        made.append(mapped("a group far off", form, {"group_add": ["70000"]}, ["--group-add", "70000"]))
        for folder in ("mine", "sub", "crew", "far", "others", "sticky", "nobody", "shut", "shut/in", "d"):
            for who in (None, "alice", "405"):
                service, args = ({"user": who}, ["--user", who]) if who else ({}, [])
                bind = f"{host}/{folder}:/in"
                made.append(mapped(f"{folder} bound for {who}", form, {**service, "volumes": [bind]}, [*args, "-v", bind], ["/in", "/in/f"], ["creates /in/x", "reads /in/f", *(["writes /in/f"] if f"{folder}/f" in held else []), "lists /in"]))
        for option in ("ro", "U", "idmap", "O", "U,ro", "z"):
            for folder in ("mine", "sub", "far", "others"):
                for who in (None, "405"):
                    service, args = ({"user": who}, ["--user", who]) if who else ({}, [])
                    bind = f"{host}/{folder}:/in:{option}"
                    made.append(mapped(f"{folder} bound {option} for {who}", form, {**service, "volumes": [bind]}, [*args, "-v", bind], ["/in", "/in/f"], ["creates /in/x", "reads /in/f"]))
        for who in (None, "alice", "405"):
            service, args = ({"user": who}, ["--user", who]) if who else ({}, [])
            for at in ("/data", "/new", "/empty", "/sticky"):
                for option in ("", ":U", ":idmap"):
                    volume = f"vol:{at}{option}"
                    made.append(mapped(f"volume at {at}{option} for {who}", form, {**service, "volumes": [volume]}, [*args, "-v", volume], [at, "/data/a"], [f"creates {at}/x"], [at]))
            made.append(mapped(f"tmpfs for {who}", form, {**service, "tmpfs": ["/t"]}, [*args, "--tmpfs", "/t"], ["/t"], ["creates /t/x"], ["/t"]))
            made.append(mapped(f"anonymous volume for {who}", form, {**service, "volumes": ["/data"]}, [*args, "-v", "/data"], ["/data", "/data/a"], ["creates /data/x"], ["/data"]))
        made.append(mapped("privileged", form, {"privileged": True}, ["--privileged"], ["/dev/null", "/proc", "/sys"], ["creates /data/x"]))
        made.append(mapped("read-only", form, {"read_only": True}, ["--read-only"], ["/tmp", "/run"], ["creates /tmp/x", "creates /etc/x"]))
        made.append(mapped("a working directory", form, {"user": "alice", "working_dir": "/wd/a"}, ["--user", "alice", "--workdir", "/wd/a"], ["/wd", "/wd/a"]))
    for form in MAPS:
        for path, option in (("quiet", ""), ("quiet", ",bind-nonrecursive"), ("quiet", ",ro"), ("fixed", ""), ("plain", ",ro")):
            recursive = "disabled" if "nonrecursive" in option else "enabled"
            bind = {"type": "bind", "source": f"{host}/{path}", "target": "/in", "read_only": option == ",ro", "bind": {"recursive": recursive}}
            words = ["--mount", f"type=bind,source={host}/{path},target=/in{option}"]
            made.append(mapped(f"{path}{option}", form, {"volumes": [bind]}, words, [], ["creates /in/x"], ["/in", "/in/inner"]))
            made[-1]["name"] = "host mounts, " + made[-1]["name"]
    # All of them take an hour: every kind of user, and one in six of the rest.
    return [case for case in made if not sampled or ": user " in case["name"] or zlib.crc32(case["name"].encode()) % 6 == 0]


def containers(seed, count, host):
    """Containers made up as for the engines of root, each with one way to ids and a bind of the starter's."""
    made = []
    for number in range(count):
        rng = random.Random(f"rootless {seed}/{number}")
        case = engine_random.container(rng, host, True, number, seed, None)
        mode, of_mode, words = rng.choice(MAPS)
        if rng.random() < 0.6:
            folder = rng.choice(["mine", "sub", "crew", "far", "others", "sticky", "nobody"])
            bind = f"{host}/{folder}:/bound{rng.choice(['', '', ':ro', ':U', ':O'])}"
            case["args"] = ["-v", bind, *case["args"]]
            case["service"]["volumes"] = [bind, *case["service"].get("volumes", ())]
            case["paths"] += ["/bound", "/bound/f"]
            case["acts"] += ["creates /bound/made", "reads /bound/f"]
        if rng.random() < 0.15:
            case["args"] += ["--group-add", "keep-groups"]
            case["service"]["group_add"] = [*case["service"].get("group_add", ()), "keep-groups"]
        case["args"] = [*words, *case["args"]]
        case["name"] = f"random rootless {seed}/{number}{mode and ', ' + mode}"
        case["service"] = None if of_mode is None else {**case["service"], **of_mode}
        made.append(case)
    return made
