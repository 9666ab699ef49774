"""Data for tools/bench-disks, and the report of what it measured."""

import gzip
import hashlib
import io
import json
import os
import random
import shlex
import statistics
import subprocess
import sys
import tarfile
import time

MODES = [0o644, 0o640, 0o600, 0o664, 0o660]


def make_tree(root):
    """500,000 files of 13 owners and 5 groups in 5,050 directories, some of them closed."""
    random.seed(1)
    for site in range(50):
        for run in range(100):
            folder = f"{root}/site{site:02}/run-{run:03}"
            os.makedirs(folder)
            for index in range(100):
                name = f"{folder}/sample-{index:04}-{random.randrange(1 << 16):04x}.dat"
                handle = os.open(name, os.O_CREAT | os.O_WRONLY)
                if index % 10 == 0:
                    os.write(handle, b"0\n")
                os.fchown(handle, 7100 + (site * 7 + index) % 13, 7200 + site % 5)
                os.fchmod(handle, MODES[(index + run) % 5])
                os.close(handle)
            os.chmod(folder, 0o700 if run % 25 == 0 else 0o755)


def make_five_million(path):
    with open(path, "w") as out:
        out.write("#mtree\n. type=dir uid=0 gid=0 mode=0755\n")
        for folder in range(50_000):
            name = f"./site{folder // 500:03}/run-{folder % 500:03}"
            if folder % 500 == 0:
                out.write(f"{name[:9]} type=dir uid=0 gid=0 mode=0755\n")
            out.write(f"{name} type=dir uid={7100 + folder % 7} gid=7200 mode=0755\n")
            for index in range(99):
                mode = MODES[(index + folder) % 5]
                out.write(f"{name}/sample-{index:04}.dat type=file uid={7100 + index % 13} gid={7200 + index % 3} mode={mode:04o}\n")


def make_drift(folder):
    """Two states of the tree as listings and surveys: the later one has 1 % of its files given away, opened or gone."""
    listing = f"find {folder}/tree -printf '%m %U %G %y %p\\0%l\\0'"
    subprocess.run(f"{listing} >{folder}/before.txt", shell=True, check=True)
    for number, (mode, owner, kind, path) in enumerate(entries(f"{folder}/before.txt")):
        if kind != "f" or number % 100:
            continue
        match number // 100 % 3:
            case 0:
                os.chown(path, 7999, -1)
            case 1:
                os.chmod(path, 0o666)
            case _:
                os.unlink(path)
    subprocess.run(f"{listing} >{folder}/after.txt", shell=True, check=True)


def entries(path):
    with open(path, "rb") as file:
        for record in file.read().split(b"\0")[::2]:
            if record:
                mode, owner, _, kind, name = record.decode().split(" ", 4)
                yield mode, owner, kind, name


def layer(number, files, size):
    raw = io.BytesIO()
    with tarfile.open(fileobj=raw, mode="w") as tar:
        for index in range(files):
            info = tarfile.TarInfo(f"opt/layer{number}/d{index % 50}/file-{index:05}")
            info.size, info.mode, info.uid, info.gid = size, MODES[index % 5], 7100 + index % 5, 7200
            # Half of it does not pack, as in programs.
            block = random.randbytes(size // 2) + bytes(size - size // 2)
            tar.addfile(info, io.BytesIO(block))
    return raw.getvalue()


def make_image(folder):
    """About 200 MB in five layers, as an engine saves it and as a layout with packed layers."""
    layers = [layer(number, 4_000, 10_000) for number in range(5)]
    config = json.dumps({"architecture": "amd64", "os": "linux", "config": {"User": "7101"}, "rootfs": {"type": "layers", "diff_ids": []}}).encode()
    plain, packed = [], []
    with tarfile.open(f"{folder}/image.tar", "w") as tar:
        def add(name, data):
            info = tarfile.TarInfo(name)
            info.size = len(data)
            tar.addfile(info, io.BytesIO(data))
        for number, data in enumerate(layers):
            add(f"{number}/layer.tar", data) if number else add(f"{'0' * 64}/layer.tar", data)
            with open(f"{folder}/layer{number}.tar", "wb") as out:
                out.write(data)
            plain.append(f"{folder}/layer{number}.tar")
        add("config.json", config)
        names = [f"{'0' * 64}/layer.tar"] + [f"{number}/layer.tar" for number in range(1, 5)]
        add("manifest.json", json.dumps([{"Config": "config.json", "RepoTags": ["tides/gauge:3"], "Layers": names}]).encode())
    os.makedirs(f"{folder}/layout/blobs/sha256")

    def blob(data, media):
        digest = hashlib.sha256(data).hexdigest()
        path = f"{folder}/layout/blobs/sha256/{digest}"
        with open(path, "wb") as out:
            out.write(data)
        return {"mediaType": media, "digest": f"sha256:{digest}", "size": len(data)}, path

    told = []
    for data in layers:
        descriptor, path = blob(gzip.compress(data, 6), "application/vnd.oci.image.layer.v1.tar+gzip")
        told.append(descriptor)
        packed.append(path)
    config, _ = blob(config, "application/vnd.oci.image.config.v1+json")
    manifest, _ = blob(json.dumps({"schemaVersion": 2, "config": config, "layers": told}).encode(), "application/vnd.oci.image.manifest.v1+json")
    for name, data in [("index.json", {"schemaVersion": 2, "manifests": [manifest]}), ("oci-layout", {"imageLayoutVersion": "1.0.0"})]:
        with open(f"{folder}/layout/{name}", "w") as out:
            json.dump(data, out)
    for name, files in [("plain", plain), ("gzip", packed)]:
        with open(f"{folder}/list-{name}", "w") as out:
            out.write("#!/bin/sh\n" + "".join(f"tar -tvf {path}\n" for path in files))
        os.chmod(f"{folder}/list-{name}", 0o755)


def measure(folder, rounds):
    """Runs every command of standard input (`name: command` on a line) once a round, so that whatever else the machine does meets all of them."""
    commands = dict(line.strip().split(": ", 1) for line in sys.stdin if line.strip())
    runs = {name: [] for name in commands}
    # The first round fills the page cache.
    for number in range(rounds + 1):
        for name, command in commands.items():
            begun = time.monotonic()
            process = subprocess.Popen(shlex.split(command), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            _, status, used = os.wait4(process.pid, 0)
            process.returncode = os.waitstatus_to_exitcode(status)
            wall = time.monotonic() - begun
            # find ends with 1 where directories are closed to it, and diff where there are differences.
            if process.returncode not in (0, 1):
                sys.exit(f"{name} ended {process.returncode}: {command}")
            if number:
                runs[name].append((wall, used.ru_utime + used.ru_stime))
        print(f"round {number} of {rounds}", file=sys.stderr)
    medians = {name: [statistics.median(column) for column in zip(*all)] for name, all in runs.items()}
    with open(f"{folder}/times.json", "w") as file:
        json.dump(medians, file)


def report(folder):
    with open(f"{folder}/times.json") as file:
        runs = json.load(file)
    wall = lambda name: runs[name][0]
    cpu = lambda name: runs[name][1]
    size = lambda name: os.path.getsize(f"{folder}/{name}")
    peak = lambda name: int(open(f"{folder}/peak-{name}").read()) / 1024
    inodes = 505_051
    rows = [
        ("survey, live, against find -printf, wall", wall("survey") / wall("find"), 0.55),
        ("survey, live, against getdents and statx, CPU", cpu("survey") / cpu("bare"), 1.55),
        ("the same without asking for ACLs, CPU", cpu("survey-without-acls") / cpu("bare"), 1.15),
        ("access --tree, live, against find as that user, wall", wall("access-live") / wall("find-access"), 0.65),
        ("access --tree, survey, against find as that user, wall", wall("access-survey") / wall("find-access"), 0.1),
        ("compare two surveys, against diff of two listings, wall", wall("compare-surveys") / wall("diff"), 1.0),
        ("compare two surveys, seconds", wall("compare-surveys"), 1.0),
        ("compare two listings, seconds", wall("compare-listings"), 1.0),
        ("survey file, bytes an inode", size("tree.survey") / inodes, 12),
        ("loading and writing a survey, seconds a million inodes", wall("load") / inodes * 1e6, 0.6),
        ("access --tree of 5,000,000 inodes, peak MB", peak("five"), 600),
        ("layers, plain archive, against tar -tvf, wall", wall("layers-plain") / wall("tar-plain"), 1.0),
        ("layers, gzip layout, against tar -tvf, wall", wall("layers-gzip") / wall("tar-gzip"), 1.0),
        ("layers of 200 MB, peak MB", peak("layers"), 64),
    ]
    for name, (seconds, used) in runs.items():
        print(f"{name:<22} wall {seconds:.3f} s  CPU {used:.3f} s")
    print()
    for name, value, bound in rows:
        print(f"{'ok  ' if value <= bound else 'OVER'}  {name:<58} {value:8.3f}  (bound {bound})")


if sys.argv[1] == "make":
    make_tree(f"{sys.argv[2]}/tree")
    make_five_million(f"{sys.argv[2]}/five-million.mtree")
    make_image(sys.argv[2])
elif sys.argv[1] == "drift":
    make_drift(sys.argv[2])
elif sys.argv[1] == "measure":
    measure(sys.argv[2], int(sys.argv[3]))
else:
    report(sys.argv[2])
