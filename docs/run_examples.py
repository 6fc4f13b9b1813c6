"""Run the commands of the tour anew on a sample office, and put what they say in the place of what they said.

    python docs/run_examples.py demo-office

A command that changes something stays as it is, and so does a block that only shows how a command is typed.
"""

from __future__ import annotations

import os
import re
import shlex
import subprocess
import sys
from pathlib import Path

FILES = ("tour.md",)
TODAY = "2026-11-23"
CHANGES = ("--write", "--carry-out", "--undo", "--send", "--remove", " demo")
BLOCK = re.compile(r"(```console\n)(.*?)(```)", re.DOTALL)


def answer(command: str, office: Path) -> str:
    """Return what a command says on a screen of eighty columns."""
    words = shlex.split(command.removeprefix("$ neatledger "))
    ours = {**os.environ, "COLUMNS": "80", "NO_COLOR": "1"}
    done = subprocess.run(
        [sys.executable, "-m", "neatledger", *words, "--office", str(office), "--today", TODAY, "-q"],
        capture_output=True,
        text=True,
        env=ours,
    )
    return done.stdout + done.stderr


def remade(block: re.Match[str], office: Path) -> str:
    """Return a block with its commands run anew."""
    parts = re.split(r"(?m)^(?=\$ )", block[2])
    found = []
    for part in parts:
        command, _, said = part.partition("\n")
        is_shown = command.startswith("$ neatledger ") and said.strip()
        if is_shown and not any(word in command for word in CHANGES):
            part = f"{command}\n{answer(command, office)}\n"
        found.append(part)
    return block[1] + "".join(found).rstrip("\n") + "\n" + block[3]


def main() -> None:
    """Remake every block of the files."""
    office = Path(sys.argv[1])
    for name in FILES:
        path = Path(__file__).parent / name
        path.write_text(BLOCK.sub(lambda block: remade(block, office), path.read_text("utf-8")), "utf-8")


if __name__ == "__main__":
    main()
