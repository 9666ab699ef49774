"""Made-up volumes and the descriptions of who mounts them."""

import json
import os
import random
import shutil
import subprocess
from pathlib import Path

UIDS = [0, 1000, 1001, 1002, 7101, 7102, 65534]
GIDS = [0, 1000, 2000, 3000, 7200, 65534]
MODES = ["755", "750", "700", "775", "770", "711", "777", "2775", "2770", "1777", "555", "000"]
FILES = ["644", "640", "600", "664", "660", "666", "444", "400", "755", "4755", "2755", "000", "004", "604"]
NAMES = ["a", "b", "data", "in", "log", "one two", "tls.key", "token", "x.pem", "größe", "it's", "50%", "under_score", "back\\slash"]


def volume(folder, random_, acls):
    """Fills a folder with directories and files of all sorts of owners and modes."""
    folder.mkdir(parents=True)
    directories = [folder]
    for _ in range(random_.randint(3, 14)):
        above = random_.choice(directories)
        new = above / random_.choice(NAMES)
        if len(new.parts) < len(folder.parts) + 6 and not os.path.lexists(new):
            new.mkdir()
            directories.append(new)
    files = []
    for _ in range(random_.randint(5, 40)):
        above = random_.choice(directories)
        new = os.path.join(os.fsencode(above), random_.choice(NAMES).encode() + random_.choice([b"", b".txt", b"\xff", b"2", b".key"]))
        if os.path.lexists(new):
            continue
        kind = random_.random()
        if kind < 0.08:
            os.symlink(random_.choice([b"a", b"../data", b"/etc/passwd", b"nowhere"]), new)
        elif kind < 0.14 and files:
            os.link(random_.choice(files), new)
        elif kind < 0.17:
            os.mkfifo(new)
        else:
            content = random_.choice([b"", b"text\n", b"#!/bin/sh\n", b"#!/data/a\n", b"\x7fELF\x02\x01\x01" + bytes(57)])
            with open(new, "wb") as file:
                file.write(content)
            files.append(new)
    for above, below, names in os.walk(os.fsencode(folder), topdown=False):
        for name in names:
            path = os.path.join(above, name)
            os.lchown(path, random_.choice(UIDS), random_.choice(GIDS))
            if not os.path.islink(path):
                os.chmod(path, int(random_.choice(FILES), 8))
                if acls and random_.random() < 0.1:
                    acl(path, f"u:{random_.choice(UIDS)}:{random_.choice(['r', 'rw', 'rx', '-'])},g:{random_.choice(GIDS)}:r")
        os.chown(above, random_.choice(UIDS), random_.choice(GIDS))
        os.chmod(above, int(random_.choice(MODES), 8))
        if acls and random_.random() < 0.1:
            acl(above, f"u:{random_.choice(UIDS)}:{random_.choice(['rx', 'x', 'rwx'])}")


def acl(path, entries):
    subprocess.run([b"setfacl", b"-m", entries.encode(), path], check=False, stderr=subprocess.DEVNULL)


def parts(folder):
    """Paths below a folder that a subPath may name."""
    found = [os.path.relpath(os.path.join(above, one), folder) for above, below, files in os.walk(folder) for one in below + files]
    plain = [path for path in found if path.isascii() and path.isprintable() and "\\" not in path and not os.path.islink(os.path.join(folder, path))]
    return sorted(plain)


def security(random_):
    given = {"runAsUser": random_.choice(UIDS)}
    if random_.random() < 0.6:
        given["runAsGroup"] = random_.choice(GIDS)
    return given


class Fleet:
    """Forty volumes, sixty actors."""

    def __init__(self, folder, seed):
        self.folder = Path(folder)
        self.random = random.Random(seed)
        # What an input calls a volume, by input: the folder it is.
        self.inputs = {}
        self.acls = shutil.which("setfacl") is not None
        names = [f"alpha.c{n}" for n in range(10)] + [f"beta.c{n}" for n in range(8)] + [f"c{n}" for n in range(20, 24)]
        names += [f"shop_v{n}" for n in range(8)] + [f"s{n}" for n in range(10)]
        self.volumes = {name: self.folder / "volumes" / name for name in names}
        for path in self.volumes.values():
            volume(path, self.random, self.acls)
        self.kubernetes("alpha", 14)
        self.kubernetes("beta", 12)
        self.compose(14)
        self.scene(20)

    def another_day(self):
        """Changes a third of the volumes, as a night does; gives their names."""
        changed = self.random.sample(sorted(self.volumes), len(self.volumes) // 3)
        for name in changed:
            folder = os.fsencode(self.volumes[name])
            for above, below, names in os.walk(folder):
                for one in names:
                    path = os.path.join(above, one)
                    kind = self.random.random()
                    if os.path.islink(path) or kind > 0.3:
                        continue
                    if kind < 0.1:
                        os.unlink(path)
                    elif kind < 0.2:
                        os.chmod(path, int(self.random.choice(FILES), 8))
                    else:
                        os.chown(path, self.random.choice(UIDS), self.random.choice(GIDS))
            with open(os.path.join(folder, b"new"), "w") as file:
                file.write("new\n")
        return changed

    def mounts(self, names, claim):
        """Mounts of some volumes, with parts of them and mounts in each other."""
        random_ = self.random
        mounts, at = [], ["/data", "/srv/work", "/cache"]
        random_.shuffle(at)
        for place in at[: random_.randint(1, 3)]:
            key = random_.choice(names)
            mount = {"volume": key, "at": place, "readOnly": random_.random() < 0.2}
            known = parts(claim(key))
            if known and random_.random() < 0.35:
                mount["part"] = random_.choice(known)
            mounts.append(mount)
        first = mounts[0]
        inside = [part for part in parts(claim(first["volume"])) if (claim(first["volume"]) / part).is_dir()]
        if inside and "part" not in first and random_.random() < 0.4:
            below = first["at"] + "/" + random_.choice(inside)
            mounts.append({"volume": random_.choice(names), "at": below, "readOnly": False})
        self.used.update(mount["volume"] for mount in mounts)
        return mounts

    def kubernetes(self, namespace, pods):
        self.used = set()
        known = [f"c{n}" for n in range(24) if f"{namespace}.c{n}" in self.volumes] + [f"c{n}" for n in range(20, 24)]
        place = lambda claim: self.volumes.get(f"{namespace}.{claim}") or self.volumes[claim]
        objects = []
        for claim in known:
            if claim == "c1":
                continue
            name = f"{namespace}-{claim}"
            capacity = {"storage": "1Gi"}
            objects.append({"apiVersion": "v1", "kind": "PersistentVolume", "metadata": {"name": name}, "spec": {"capacity": capacity, "accessModes": ["ReadWriteOnce"], "claimRef": {"namespace": namespace, "name": claim}, "csi": {"driver": "csi.made.up", "volumeHandle": name, "fsType": "ext4"}}})
            objects.append({"apiVersion": "v1", "kind": "PersistentVolumeClaim", "metadata": {"name": claim, "namespace": namespace}, "spec": {"accessModes": ["ReadWriteOnce"], "volumeName": name, "resources": {"requests": capacity}}})
        for number in range(pods):
            mounts = self.mounts(known, place)
            volumes = sorted({mount["volume"] for mount in mounts})
            spec = {"containers": [{"name": "main", "image": "made.up/tool:1", "securityContext": security(self.random), "volumeMounts": [
                {"name": mount["volume"], "mountPath": mount["at"], "readOnly": mount["readOnly"], **({"subPath": mount["part"]} if "part" in mount else {})} for mount in mounts]}],
                "volumes": [{"name": volume, "persistentVolumeClaim": {"claimName": volume}} for volume in volumes]}
            if self.random.random() < 0.5:
                spec["securityContext"] = {"fsGroup": self.random.choice(GIDS[1:])}
                if self.random.random() < 0.4:
                    spec["securityContext"]["fsGroupChangePolicy"] = "OnRootMismatch"
            objects.append({"apiVersion": "v1", "kind": "Pod", "metadata": {"name": f"{namespace}-p{number}", "namespace": namespace}, "spec": spec})
        path = self.folder / f"{namespace}.json"
        path.write_text("\n---\n".join(json.dumps(one) for one in objects))
        self.inputs[path] = {claim: place(claim) for claim in known if claim in self.used}

    def compose(self, services):
        self.used = set()
        known = [f"v{n}" for n in range(8)]
        place = lambda name: self.volumes[f"shop_{name}"]
        all_ = {}
        for number in range(services):
            mounts = self.mounts(known, place)
            all_[f"svc{number}"] = {"image": "made.up/tool:1", "user": f"{self.random.choice(UIDS)}:{self.random.choice(GIDS)}", "volumes": [
                {"type": "volume", "source": mount["volume"], "target": mount["at"], "read_only": mount["readOnly"], **({"volume": {"subpath": mount["part"]}} if "part" in mount else {})} for mount in mounts]}
        path = self.folder / "compose.yaml"
        path.write_text(json.dumps({"name": "shop", "services": all_, "volumes": {name: {} for name in known}}))
        self.inputs[path] = {name: place(name) for name in known if name in self.used}

    def scene(self, containers):
        self.used = set()
        known = [f"s{n}" for n in range(10)]
        place = lambda name: self.volumes[name]
        all_ = []
        for number in range(containers):
            mounts = self.mounts(known, place)
            one = {"name": f"k{number}", "user": f"{self.random.choice(UIDS)}:{self.random.choice(GIDS)}", "mounts": [
                {"volume": mount["volume"], "at": mount["at"], "read-only": mount["readOnly"], **({"sub-path": mount["part"]} if "part" in mount else {})} for mount in mounts]}
            if self.random.random() < 0.3:
                one["groups"] = self.random.sample(GIDS, 2)
            if self.random.random() < 0.3:
                one["capabilities"] = {"drop": ["ALL"], "add": self.random.sample(["DAC_OVERRIDE", "DAC_READ_SEARCH", "FOWNER", "CHOWN"], 1)}
            if self.random.random() < 0.15:
                del one["user"]
            all_.append(one)
        volumes = {name: {"filesystem": "ext4"} if name != "s3" else {} for name in known}
        path = self.folder / "scene.yaml"
        path.write_text(json.dumps({"scene": 1, "volumes": volumes, "containers": all_}))
        self.inputs[path] = {name: place(name) for name in known if name in self.used}
