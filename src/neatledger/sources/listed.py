"""The files of a folder with what the system tells of them, of a folder in which others write meanwhile."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

__all__ = ["files_in"]


def files_in(folder: Path) -> Iterator[tuple[Path, os.stat_result]]:
    """Yield the files right in a folder, links to files among them, sorted by name; raises `OSError`."""
    for one in sorted(folder.iterdir()):
        try:
            facts = one.stat() if one.is_file() else None
        except FileNotFoundError:
            # It was taken away since it was listed: by a backup program, by the next rotation.
            continue
        if facts is not None:
            yield one, facts
