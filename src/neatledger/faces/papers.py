"""A paper written to a file: a page or a workbook, by the file's ending."""

from __future__ import annotations

from pathlib import Path

from neatledger.errors import UsageError
from neatledger.files import write_file
from neatledger.reports.paper import Paper

__all__ = ["is_paper", "write_paper"]

_ENDINGS = (".html", ".xlsx")


def is_paper(target: str) -> bool:
    """Tell whether a file's ending is one of a paper."""
    return Path(target).suffix.lower() in _ENDINGS


def write_paper(target: str, paper: Paper) -> None:
    """Write a paper whole, or not at all; raises `UsageError` for another ending, and `NeatError`."""
    if not is_paper(target):
        raise UsageError(f"{target} is neither a page nor a workbook", hint=f"end it in {' or '.join(_ENDINGS)}")
    if Path(target).suffix.lower() == ".html":
        from neatledger.faces.page import render_page

        data = render_page(paper).encode("utf-8", "backslashreplace")
    else:
        from neatledger.faces.workbook import render_workbook

        data = render_workbook(paper)
    write_file(target, data)
