"""What questions of packaging/fleet have to answer, worked out from the disk and from single answers instead."""

import os
import stat
from collections import Counter, defaultdict

KINDS = {stat.S_IFREG: "file", stat.S_IFDIR: "dir", stat.S_IFLNK: "link", stat.S_IFIFO: "fifo"}


def look(folder, text):
    """Every entry of a folder by its path as the dataset writes it: kind, owner, group, mode, and all that makes it another class."""
    found = {}
    top = os.fsencode(folder)
    for above, below, files in os.walk(top):
        for path in [above] * (above == top) + [os.path.join(above, one) for one in below + files]:
            facts = os.lstat(path)
            kind = KINDS[stat.S_IFMT(facts.st_mode)]
            acls = [] if kind == "link" else [attribute(path, name) for name in ("system.posix_acl_access", "system.posix_acl_default")]
            empty = not os.listdir(path) if kind == "dir" else kind == "file" and facts.st_size == 0
            name = text(os.fsdecode(path[len(top) :])) or "/"
            found[name] = (kind, facts.st_uid, facts.st_gid, stat.S_IMODE(facts.st_mode), acls, empty)
    return found


def attribute(path, name):
    try:
        return os.getxattr(path, name)
    except OSError:
        return None


class Truth:
    """`before` and `now`: the entries of each volume on both days. `actors`: rows of the table. `answers`: of both states."""

    def __init__(self, before, now, actors, answers):
        self.before, self.now, self.answers = before, now, answers
        self.mounts = defaultdict(list)
        self.uids = defaultdict(set)
        for input_, actor, at, volume, shows, uid, verdicts in actors:
            self.uids[volume].add(uid)
            if verdicts is not None:
                self.mounts[input_, actor].append((at, volume, shows))
        self.cells = {state: list(self.placed(state)) for state in answers}

    def placed(self, state):
        """Each answer about an entry: who, the mount, the volume and path there, act and answer."""
        for input_, actors in self.answers[state].items():
            for actor, cells in actors.items():
                for (inside, act), answer in cells.items():
                    around = [one for one in self.mounts[input_, actor] if inside == one[0] or inside.startswith(one[0] + "/")]
                    if not around:
                        continue
                    at, volume, shows = max(around, key=lambda one: len(one[0]))
                    path = ("" if shows == "/" else shows) + inside[len(at) :] or "/"
                    if path in self.now[volume]:
                        yield (input_, actor, at), volume, path, act, answer

    def world_writable(self):
        counts = Counter()
        for volume, entries in self.now.items():
            for kind, _, _, mode, *_ in entries.values():
                if mode & 2 and (kind == "file" or kind == "dir" and not mode & 0o1000):
                    counts[volume, kind, "allowed"] += 1
        return counts

    def open_to_group_0(self):
        found = {}
        for volume, entries in self.now.items():
            bits = [mode >> 3 & 7 for kind, _, gid, mode, *_ in entries.values() if gid == 0 and kind != "link"]
            if any(bit & 6 for bit in bits):
                found[volume,] = (sum(bit >> 1 & 1 for bit in bits), sum(bit >> 2 & 1 for bit in bits), 0)
        return found

    def orphaned_ids(self):
        counts = Counter()
        for volume, entries in self.now.items():
            if None not in self.uids[volume]:
                counts.update((volume, uid) for _, uid, *_ in entries.values() if uid and uid not in self.uids[volume])
        return counts

    def who_reads(self, below):
        under = below.rstrip("/") + "/"
        files = (one for one in self.cells["given"] if one[3] == "read" and one[4][0] == "allowed" and self.now[one[1]][one[2]][0] == "file")
        return Counter((who, volume) for who, volume, path, *_ in files if path == below or path.startswith(under))

    def secrets(self, more_than):
        readers = defaultdict(set)
        for who, volume, path, act, answer in self.cells["given"]:
            directory, _, name = path.rpartition("/")
            secret = name.endswith((".key", ".pem", ".p12")) or name in (".env", "id_rsa", "id_ed25519")
            secret = secret or any(word in name for word in ("secret", "token", "password")) or "secret" in directory
            if act == "read" and answer[0] == "allowed" and secret and self.now[volume][path][0] == "file":
                readers[volume, path].add(who[:2])
        return {key: len(who) for key, who in readers.items() if len(who) > more_than}

    def root_only(self, uids):
        seen, open_ = set(), set()
        for who, volume, path, act, answer in self.cells["given"]:
            if act == "read" and self.now[volume][path][0] == "file":
                seen.add((volume, path))
                if answer[0] != "denied" and uids[who[:2]] != 0:
                    open_.add((volume, path))
        return Counter((volume,) for volume, _ in seen - open_)

    def opens_and_closes(self):
        after = {(who, volume, path, act): answer[0] for who, volume, path, act, answer in self.cells["changed"]}
        counts = Counter()
        for who, volume, path, act, answer in self.cells["given"]:
            now = after.get((who, volume, path, act))
            if now not in (None, answer[0]):
                _, uid, gid, *_ = self.now[volume][path]
                counts[who, volume, uid, gid, act, answer[0], now] += 1
        return counts

    def uncertain(self):
        return Counter((who, volume, act) for who, volume, _, act, answer in self.cells["given"] if answer[0] == "depends")

    def drift(self):
        counts = Counter()
        for volume, before in self.before.items():
            now = self.now[volume]
            counts[volume, "gone"] += len(before.keys() - now.keys())
            counts[volume, "appeared"] += len(now.keys() - before.keys())
            counts[volume, "changed"] += sum(before[path] != now[path] for path in before.keys() & now.keys())
        return +counts


def differences(truth, uids, rows, below, readers):
    """The questions whose rows are not what they have to be, with some of both; `rows` runs one. It was asked for what is `below` a path, and secrets with more than
    `readers`."""
    asked = {
        "world-writable": ({row[:3]: int(row[3]) for row in rows("world-writable.sql")}, truth.world_writable()),
        "open-to-group-0": ({row[:1]: tuple(map(int, row[1:])) for row in rows("open-to-group-0.sql")}, truth.open_to_group_0()),
        "orphaned-ids": ({row[:2]: int(row[2]) for row in rows("orphaned-ids.sql")}, truth.orphaned_ids()),
        "who-reads": ({((row[0], row[2], row[6]), row[5]): int(row[7]) for row in rows("who-reads.sql")}, truth.who_reads(below)),
        "secrets": ({row[:2]: row[2] for row in rows("secrets.sql")}, truth.secrets(readers)),
        "root-only": ({row[:1]: int(row[1]) for row in rows("root-only.sql")}, truth.root_only(uids)),
        "opens-and-closes": ({((row[4], row[6], row[7]), row[0], row[1], row[2], row[3], row[8], row[9]): int(row[10]) for row in rows("opens-and-closes.sql")}, truth.opens_and_closes()),
        "uncertain": ({((row[1], row[3], row[4]), row[0], row[5]): int(row[6]) for row in rows("uncertain.sql") if row[5]}, truth.uncertain()),
        "drift": ({row[:2]: row[2] for row in rows("drift.sql")}, truth.drift()),
    }
    return {
        name: [(key, told.get(key), true.get(key)) for key in told.keys() | true.keys() if told.get(key) != true.get(key)]
        for name, (told, true) in asked.items()
        if dict(told) != dict(true)
    }, {name: len(true) for name, (_, true) in asked.items()}
