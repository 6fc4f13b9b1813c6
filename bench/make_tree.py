"""Make a big tree on disk for measuring: folders, files, and access lists on every tenth file.

    python bench/make_tree.py DIR [--folders 100000] [--files 900000] [--lists 1000] [--owners 300]

Needs root (it gives entries to many owners). The same arguments always make the same tree. Beside DIR
it writes DIR.passwd and DIR.group with the accounts.
"""

from __future__ import annotations

import argparse
import os
import random
import struct
from pathlib import Path

FIRST_UID, FIRST_GID = 20000, 30000
KINDS = ("doc", "pdf", "jpg", "txt", "xlsx", "dcm")


def make_list(rng: random.Random, owners: int) -> bytes:
    """Return the value of system.posix_acl_access for a random list with a mask."""
    entries = [(1, 6, 0xFFFFFFFF)]
    users = sorted(rng.sample(range(FIRST_UID, FIRST_UID + owners), rng.randint(0, 3)))
    entries += [(2, rng.choice((4, 5, 6, 7)), uid) for uid in users]
    entries.append((4, rng.choice((0, 4, 5)), 0xFFFFFFFF))
    groups = sorted(rng.sample(range(FIRST_GID, FIRST_GID + 40), rng.randint(1, 3)))
    entries += [(8, rng.choice((4, 5, 6, 7)), gid) for gid in groups]
    entries += [(16, 7, 0xFFFFFFFF), (32, rng.choice((0, 0, 4, 5)), 0xFFFFFFFF)]
    return struct.pack("<I", 2) + b"".join(struct.pack("<HHI", *entry) for entry in entries)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("dir", type=Path)
    parser.add_argument("--folders", type=int, default=100_000)
    parser.add_argument("--files", type=int, default=900_000)
    parser.add_argument("--lists", type=int, default=1_000)
    parser.add_argument("--owners", type=int, default=300)
    words = parser.parse_args()
    rng = random.Random(1)
    words.dir.mkdir()
    lists = [make_list(rng, words.owners) for _ in range(words.lists)]
    paths, depths, given = [str(words.dir)], [0], [0]
    per_folder, left = words.files / words.folders, 0.0
    number = 0
    for row in range(words.folders):
        path = paths[row]
        if row:
            os.mkdir(path)
            os.chown(path, FIRST_UID + rng.randrange(words.owners), FIRST_GID + rng.randrange(40))
            os.setxattr(path, "system.posix_acl_access", lists[given[row]])
        else:
            os.chmod(path, 0o755)
        left += per_folder
        while left >= 1:
            left -= 1
            number += 1
            name = f"{path}/file {number:07d} of the office.{KINDS[number % 6]}"
            fd = os.open(name, os.O_CREAT | os.O_WRONLY, 0o640)
            os.fchown(fd, FIRST_UID + (row * 7 + (number % 20 == 0)) % words.owners, FIRST_GID + row % 40)
            if number % 10 == 0:
                os.setxattr(fd, "system.posix_acl_access", lists[(row + number // 10) % words.lists])
            os.close(fd)
        # Children are made in breadth-first order, at most twelve deep, with a list of their own now and then.
        want = 10 if depths[row] < 4 else rng.randint(1, 4)
        if depths[row] < 11:
            for child in range(min(want, words.folders - len(paths))):
                paths.append(f"{path}/folder {child:02d} {rng.choice('abcdefgh')}")
                depths.append(depths[row] + 1)
                given.append(rng.randrange(words.lists) if rng.random() < 0.1 else given[row])
    people = "".join(
        f"p{n}:x:{FIRST_UID + n}:{FIRST_GID + n % 40}:Person {n}:/:/bin/sh\n" for n in range(words.owners)
    )
    Path(f"{words.dir}.passwd").write_text(people)
    groups = ""
    for group in range(40):
        members = ",".join(f"p{n}" for n in range(words.owners) if (n * 7 + group) % 13 == 0)
        groups += f"g{group}:x:{FIRST_GID + group}:{members}\n"
    Path(f"{words.dir}.group").write_text(groups)


if __name__ == "__main__":
    main()
