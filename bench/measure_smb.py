"""Measure the reading of an SMB server beside a C client library that asks in turn, on one tree in one run.

    python bench/measure_smb.py [--folders 50] [--files 60] [--runs 5] [--encrypted]   (as root)

Needs Samba's server and, for the other side, its Python bindings for the system's own Python (python3-samba). Each
side runs in a process of its own, alternately.
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

from neatledger.demo.smbserver import SmbAccount, SmbServer, SmbShare, missing

SID = "S-1-5-21-7101-7102-7103"
HERE = Path(__file__).parent
COMMAND = str(Path(sys.executable).with_name("neatledger"))


def make_tree(root: Path, folders: int, files: int) -> int:
    for number in range(folders):
        folder = root / f"area{number % 10}" / f"case{number}"
        folder.mkdir(parents=True)
        for each in range(files):
            (folder / f"report {each}.odt").write_bytes(b"r" * 100)
    return sum(len(inside) + len(below) for _, inside, below in os.walk(root)) + 1


def timed(words: list[str], typed: str, environment: dict[str, str]) -> float:
    started = time.perf_counter()
    done = subprocess.run(words, input=typed, text=True, capture_output=True, env=environment, check=False)
    assert done.returncode == 0, done.stderr
    return time.perf_counter() - started


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    for name, usual in (("--folders", 50), ("--files", 60), ("--runs", 5)):
        parser.add_argument(name, type=int, default=usual)
    parser.add_argument("--encrypted", action="store_true", help="both sides encrypt")
    words = parser.parse_args()
    if missing():
        raise SystemExit(f"no SMB server can be started here: {missing()}")
    with tempfile.TemporaryDirectory(dir="/tmp") as folder:
        top = Path(folder)
        os.chmod(top, 0o755)
        tree = top / "share"
        tree.mkdir()
        items = make_tree(tree, words.folders, words.files)
        more = {"server smb encrypt": "default" if words.encrypted else "off"}
        share = SmbShare("Records", tree)
        running = SmbServer(top / "server", SID, [SmbAccount("p1", 52001, 5001)], [], [share], settings=more)
        # The C library knows no other port.
        running.port = 445
        with running as server:
            office = top / "office"
            office.mkdir()
            setting = {"source": "smb", "host": "127.0.0.1", "port": server.port, "user": server.admin}
            (office / "office.yaml").write_text(f"office: Bench\nsystems: {{loft: {setting}}}\n")
            environment = {**os.environ, "NEATLEDGER_PASSWORD_LOFT": server.password}
            ours = [COMMAND, "count", "--quiet", "--office", str(office)]
            theirs = ["/usr/bin/python3", str(HERE / "client_smb.py"), "Records", server.admin]
            theirs += ["encrypted"] if words.encrypted else []
            timed(theirs, server.password + "\n", environment)
            pairs = [
                (timed(ours, "", environment), timed(theirs, server.password + "\n", environment))
                for _ in range(words.runs)
            ]
            mine, other = (median(side) for side in zip(*pairs, strict=True))
            print(f"| {items:,} items: gather, whole | {mine:.2f} s | {1000 * mine / items:.2f} ms an item |")
            print(f"| the C library, in turn | {other:.2f} s | {1000 * other / items:.2f} ms an item |")
            print(f"| ratio | {mine / other:.2f} | ≤ 1.5 |")


if __name__ == "__main__":
    main()
