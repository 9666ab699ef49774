"""Containers that tools/engine-agreement makes up from a seed: options are combined as nobody would think of combining them."""

import random

from engine_cases import row

USERS = ["root", "0", "alice", "1000", "app", "405", "bob", "9999", "alice:staff", "9999:9998", "1000:1000", ":staff", "dupb", "1234", "alice:4300"]
GROUPS = ["staff", "50", "7777", "wheel", "1001", "4300"]
CAPABILITIES = ["CHOWN", "FOWNER", "DAC_OVERRIDE", "DAC_READ_SEARCH", "FSETID", "MKNOD", "SETUID", "KILL", "ALL"]
# Where things are mounted: what is there, what is a link, what is missing, and what the engine itself puts there.
PLACES = ["/data", "/data/sub", "/data/none/x", "/empty", "/sticky", "/sgid", "/sgid/new", "/m0", "/new", "/new/a/b", "/link", "/link/sub", "/srv/", "/tmp", "/run", "/etc", "/dev/shm", "/opt//x", "/open"]
TMPFS = ["", ":mode=700", ":mode=1770", ":size=1m", ":ro", ":noexec", ":exec", ":uid=405", ":uid=1000,gid=50,mode=750"]
LOOKED_AT = ["/", "/etc", "/etc/passwd", "/etc/hosts", "/etc/hostname", "/etc/resolv.conf", "/.dockerenv", "/run/.containerenv", "/run", "/tmp", "/var/tmp", "/dev", "/dev/shm", "/dev/console", "/dev/null", "/dev/pts", "/dev/mqueue", "/proc", "/sys", "/data", "/data/a", "/data/sub", "/empty", "/sticky", "/sgid", "/m0", "/open"]
FILES = ["/etc/passwd", "/etc/hosts", "/etc/hostname", "/etc/resolv.conf", "/.dockerenv", "/run/.containerenv", "/data/a", "/open"]
FLAGS = ["/dev", "/dev/shm", "/dev/mqueue", "/proc", "/sys", "/etc/hosts", "/etc/resolv.conf", "/tmp", "/run", "/proc/sys", "/proc/bus", "/proc/keys"]


def some(rng, things, most):
    return rng.sample(things, rng.randint(0, min(most, len(things))))


def mounts(rng, host, service, args, places, podman):
    """Volumes, binds and tmpfs mounts, each at a place of its own."""
    binds = [f"{host}/d", f"{host}/full", f"{host}/empty", f"{host}/d/f"]
    volumes, tmpfs = [], []
    for at in some(rng, PLACES, 3):
        if any(at.startswith("/etc") and other.startswith("/etc") for other in places):
            continue
        # Which of two lies on top that come to one place by different ways is the order of a table in the engine.
        if at.startswith("/link") and any(other.startswith(("/link", "/data")) for other in places) or at.startswith("/data") and any(other.startswith("/link") for other in places):
            continue
        places.append(at)
        kind = rng.choice(["vol", "vol2", "anonymous", "bind", "bind", "tmpfs"])
        if any(volume.startswith(kind + ":") for volume in volumes):
            # Podman prepares one volume at two places in the order of the day.
            kind = "anonymous"
        read_only = ":ro" if rng.random() < 0.2 else ""
        if kind == "tmpfs":
            option = rng.choice(TMPFS)
            tmpfs.append(at + option)
            args += ["--tmpfs", at + option]
        elif kind == "anonymous":
            volumes.append(at)
            args += ["-v", at]
        else:
            source = rng.choice(binds) if kind == "bind" else kind
            word = "" if kind == "bind" or rng.random() < 0.8 or read_only else ":nocopy"
            volumes.append(f"{source}:{at}{read_only}{word}")
            args += ["-v", f"{source}:{at}{read_only}{word}"]
    if volumes:
        service["volumes"] = volumes
    if tmpfs:
        service["tmpfs"] = tmpfs


def who(rng, service, args):
    if rng.random() < 0.7:
        service["user"] = rng.choice(USERS)
        args += ["--user", service["user"]]
    added = some(rng, GROUPS, 2) if rng.random() < 0.3 else []
    if added:
        service["group_add"] = added
        for group in added:
            args += ["--group-add", group]
    for key, option in (("cap_add", "--cap-add"), ("cap_drop", "--cap-drop")):
        names = some(rng, CAPABILITIES, 2) if rng.random() < 0.3 else []
        if names:
            service[key] = names
            for name in names:
                args += [option, name]
    if rng.random() < 0.1:
        service["security_opt"] = ["no-new-privileges"]
        args += ["--security-opt", "no-new-privileges"]


def act(rng, place, service):
    """Something to try at `place`, which a shell can say the end of; none of what the kernel shows, and of devices."""
    place = place.replace("//", "/").rstrip("/") or "/"
    if place.startswith(("/proc", "/sys", "/dev/null", "/dev/console", "/dev/pts", "/dev/mqueue")):
        return None
    bound = {volume.split(":")[1].replace("//", "/").rstrip("/") for volume in service.get("volumes", ()) if volume.split(":")[0].endswith("/d/f")}
    if place in bound or place in FILES:
        return f"{rng.choice(['reads', 'writes'])} {place}"
    if place == "/data/sub" and "/data" in bound or place in ("/link", "/link/sub") and bound:
        return None
    return f"creates {place.rstrip('/')}/made" if rng.random() < 0.7 else f"lists {place}"


def container(rng, host, podman, number, seed, mapped):
    service, args, places = {"network_mode": "none"}, [], []
    who(rng, service, args)
    mounts(rng, host, service, args, places, podman)
    if rng.random() < 0.2:
        service["read_only"] = True
        args.append("--read-only")
    if rng.random() < 0.08:
        service["privileged"] = True
        args.append("--privileged")
    if rng.random() < 0.15:
        service["working_dir"] = rng.choice(["/data", "/new", "/sgid/w", "/wd/a", "/link/w", "/open", "/tmp/w", "/m0"])
        places.append(service["working_dir"])
        args += ["--workdir", service["working_dir"]]
    if rng.random() < 0.1:
        service["ipc"] = rng.choice(["none", "private", "shareable"])
        args += ["--ipc", service["ipc"]]
    # A pseudo-terminal is the client's to ask for.
    if rng.random() < 0.1:
        service["tty"] = True
        args.append("--tty")
    looked = sorted(set(rng.sample(LOOKED_AT, 5) + [place.rstrip("/") for place in places]))
    acts = [act(rng, place, service) for place in rng.sample(LOOKED_AT, 3) + places[:2]]
    flags = sorted(set(some(rng, FLAGS, 2)))
    return row(f"random {'mapped ' if mapped else ''}{seed}/{number}", service, args, [path for path in looked if path != "/"] + ["/"] * ("/" in looked), sorted({act for act in acts if act}), flags)


def containers(seed, count, host, podman, mapped=None):
    """`count` containers; the same for a seed whatever else is asked. `mapped` is the user namespace that they have, as a line of a map."""
    made = []
    for number in range(count):
        case = container(random.Random(f"{seed}/{number}/{podman}{mapped or ''}"), host, podman, number, seed, mapped)
        if mapped:
            if podman:
                line = mapped.replace(" ", ":")
                case["args"] = ["--uidmap", line, "--gidmap", line, *case["args"]]
            case["namespace"] = {"uids": [mapped], "gids": [mapped]}
        made.append(case)
    return made


def instruction(rng, paths):
    """One instruction of a build, and the paths that it is about."""
    who = rng.choice(["app", "405", "alice", "9999", "405:50", "app:staff", "1000:1000"])
    owner = f"--chown={who} " if rng.random() < 0.5 else ""
    to = rng.choice(["/made", "/made/b", "/empty", "/sgid/n", "/sticky", "/made/", "/sgid/", "/m0/x"])
    at = rng.choice(["/wd", "/wd/a", "/sgid/w", "rel", "/data/w", "/empty"])
    source, below = rng.choice([("f", None), ("s", None), ("tree", "/closed"), ("st", "/in"), ("l", None), ("dl", "/closed"), ("tree/f", None), ("f s", "/f")])
    kind = rng.choice(["copy", "copy", "copy", "user", "workdir", "run", "run", "volume"])
    if kind == "copy":
        if " " in source and not to.endswith("/"):
            to += "/"
        paths.append(to.rstrip("/"))
        if below:
            paths.append(to.rstrip("/") + below)
        elif to.endswith("/"):
            paths.append(to + source.rsplit("/")[-1])
        return f"COPY {owner}{source} {to}"
    if kind == "user":
        return f"USER {rng.choice(['app', 'alice', '405', '9999', 'alice:staff', 'root', '0:50'])}"
    if kind == "workdir":
        paths.append(at if at.startswith("/") else "/rel")
        return f"WORKDIR {at}"
    if kind == "volume":
        path = rng.choice(["/data", "/empty", "/vol", "/made"])
        paths.append(path)
        return f"VOLUME {path}"
    path = rng.choice(["/tmp/d", "/empty/d", "/sgid/d", "/data/d", "/made/d", "/sticky/d"])
    paths.append(path)
    return "RUN " + rng.choice([
        f"mkdir -p {path}", f"mkdir -m 2770 -p {path}", f"mkdir -p {path} && chmod 750 {path}", f"touch {path}", f"mkdir -p {path}/e && chown -R {who} {path}",
        f"chown {who} /empty", "chmod 3777 /sgid", "umask 077; mkdir -p /tmp/u/v", f"mkdir -p {path} && chgrp staff {path}", *shell(rng, path, paths),
    ])


def shell(rng, path, paths):
    """Commands that make, move and remove."""
    paths += ["/c1", "/c1/sub", "/c2", "/data/a", "/data/sub", "/ln", "/empty", "/empty/o"]
    return [
        "cp /open /c1", "cp -r /data /c1", "cp -a /data /c1", "cp -p /open /c2", "cp /open /empty/o", "cp -R /data/. /empty", "cp -a /data/sub /sgid/", "cp /data/a /open /sticky/",
        "mv /data/a /c2", "mv /data /c1", "mv /open /empty/o", "mv /data/sub /data/a /empty", "rm -f /data/a /none", "rm -r /data/sub", "rm /data", "rm -rf /data/* /empty/*", "rmdir /empty",
        "ln -s /data /ln", "ln -sf data/sub /link", "ln -sfn /open /link", "ln /open /c2", "ln -s /open /empty", "echo x > /c1", "echo x >> /open", ": > /data/a",
        "mkdir /c1 && echo x > /c1/sub 2>/dev/null", "test -d /data && chmod 711 /data", "[ -f /none ] && rm -rf /data; true", "rm /none || true; mkdir /c2", "set -eux; mkdir /c1; chown 405 /c1",
        "chmod 600 /data/* && chown alice /data/s*", "umask 027; echo x > /c1; mkdir -p /c2", "cd /data && cp a /c2 && mv sub /c1", "chown -h alice /link", "cp /link/a /c1", "cp -r /link /c1", "cp -a /link /c1",
        "cp -p /none /data/a /sticky/; true", "chmod 600 /data/a; cp -p /open /data/a; ln -s /open /data/l; mv /open /data/m; true",
        "false; mkdir /c1", "mkdir /data; mkdir /c1", "ls /none; mkdir /c1", "cat /open /none", "mv /none /c1", "echo hi > /none/x", "cp -r /empty /c1 && chmod -R g+w /c1", "ls / > /dev/null && mkdir /c1",
    ]


def builds(seed, count):
    """`count` build files."""
    made = []
    for number in range(count):
        rng, paths = random.Random(f"build {seed}/{number}"), []
        lines = [instruction(rng, paths) for _ in range(rng.randint(2, 6))]
        made.append({"name": f"random build {seed}/{number}", "lines": lines, "paths": sorted(set(paths))[:8], "acts": []})
    return made
