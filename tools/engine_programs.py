"""Containers whose program is set-id, has capabilities of its own, or is neither: what tools/engine-agreement makes and asks."""

import shutil
import struct
import subprocess
from pathlib import Path

# path, owner, group, mode, capabilities as a scene writes them.
PROGRAMS = [
    ("/bin/show", 0, 0, 0o755, None), ("/bin/raise", 0, 0, 0o4755, None), ("/bin/turn", 1001, 50, 0o6755, None),
    ("/bin/group", 405, 50, 0o2755, None), ("/bin/hold", 0, 0, 0o755, "CHOWN,DAC_OVERRIDE=ep"), ("/bin/keep", 0, 0, 0o755, "CHOWN=p"),
    ("/bin/shut", 0, 0, 0o700, None), ("/bin/both", 0, 0, 0o4755, "CHOWN=ep"), ("/bin/marked", 0, 50, 0o2745, None),
]
SCRIPT = ("/bin/script", 0, 0, 0o755)
CAPABILITIES = {"CHOWN": 0, "DAC_OVERRIDE": 1}
ACTS = ("reads /data/a", "may-read /data/a", "writes /open", "creates /data/x", "gives /m0")


def attribute(text):
    """`security.capability`, version 2 (linux/capability.h)."""
    names, flags = text.split("=")
    bits = sum(1 << CAPABILITIES[name] for name in names.split(","))
    return struct.pack("<IIIII", 0x02000000 | ("e" in flags), bits, 0, 0, 0)


def compiled(folder):
    """The program, or `None` where it cannot be made."""
    compiler, target = shutil.which("cc"), folder / "program"
    source = Path(__file__).with_name("engine_program.c")
    if compiler is None or subprocess.run([compiler, "-static", "-s", "-O1", "-o", target, source]).returncode:
        return None
    return target.read_bytes()


def entries(program):
    """Path, owner, group, mode, bytes and capability text of each file."""
    return [(*entry[:4], program, entry[4]) for entry in PROGRAMS] + [(*SCRIPT, b"#!/bin/raise\n", None)]


def facts():
    tree = []
    for path, uid, gid, mode, capabilities in PROGRAMS:
        held = {"capabilities": capabilities} if capabilities else {}
        tree.append({"path": path, "owner": f"{uid}:{gid}", "mode": f"{mode:04o}", "content": "program", **held})
    path, uid, gid, mode = SCRIPT
    return [*tree, {"path": path, "owner": f"{uid}:{gid}", "mode": f"{mode:04o}", "content": "#!/bin/raise"}]


def words(acts):
    return [word for act in acts for word in act.split()]


def rows():
    """Programs by path and by name, as several users and under several options."""
    made = []
    names = [path for path, *_ in PROGRAMS] + [SCRIPT[0], "raise", "bin/raise"]
    users = ["0", "alice", "bob:staff"]
    cases = [(name, user, {}, []) for name in names for user in users]
    quiet = ({"security_opt": ["no-new-privileges"]}, ["--security-opt", "no-new-privileges"])
    bare = ({"cap_drop": ["ALL"]}, ["--cap-drop", "ALL"])
    one = ({"cap_drop": ["ALL"], "cap_add": ["CHOWN"]}, ["--cap-drop", "ALL", "--cap-add", "CHOWN"])
    added = ({"cap_add": ["FOWNER"]}, ["--cap-add", "FOWNER"])
    for name in ("/bin/raise", "/bin/turn", "/bin/hold", "/bin/keep", "/bin/both", "/bin/script"):
        cases += [(name, user, *options) for user in ("0", "alice") for options in (quiet, bare, one, added)]
    for name, user, service, args in cases:
        said = "".join(f" {word}" for word in args)
        made.append({
            "name": f"program {name} as {user}{said}", "paths": [], "flags": [], "acts": list(ACTS), "program": name,
            "service": {"user": user, "entrypoint": [name, *words(ACTS)], **service}, "args": ["--user", user, *args],
        })
    return made


def bundle_rows():
    """The same of bundles, whose configuration says what the process holds until its program starts."""
    made = []
    held = {kind: ["CAP_CHOWN", "CAP_DAC_OVERRIDE", "CAP_FOWNER"] for kind in ("bounding", "effective", "permitted")}
    less = {"bounding": ["CAP_CHOWN", "CAP_DAC_OVERRIDE"]}
    kept = dict(held, inheritable=["CAP_FOWNER"], ambient=["CAP_FOWNER"])
    for name in [path for path, *_ in PROGRAMS] + [SCRIPT[0], "raise"]:
        for uid in (0, 1000):
            for label, held_sets in (("held", held), ("bounding only", less), ("ambient", kept)):
                for quiet in (False, True):
                    process = {"user": {"uid": uid, "gid": 1000}, "capabilities": held_sets, "noNewPrivileges": quiet, "args": [name, *words(ACTS)]}
                    said = " no-new-privileges" if quiet else ""
                    made.append({"name": f"program {name} as {uid}, {label}{said}", "process": process, "mounts": [], "paths": [], "acts": list(ACTS),
                                 "readonly": False, "flags": [], "mapped": False, "program": name})
    return made


def build_rows():
    def build(name, lines):
        return {"name": "build: " + name, "lines": lines, "paths": [], "acts": [], "program": True}

    return [
        build("a set-user-ID entrypoint", ["USER alice", 'ENTRYPOINT ["/bin/raise"]']),
        build("one by name, below the image's PATH", ["RUN mkdir /own && chmod 755 /own", "ENV PATH=/own:/bin", "USER alice", 'ENTRYPOINT ["raise"]']),
        build("an entrypoint that is made in the build", ["COPY s /own", "RUN chmod 4755 /own", "USER alice", 'ENTRYPOINT ["/bin/turn"]', 'CMD []']),
    ]
