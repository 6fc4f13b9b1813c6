"""Texts made from templates: the office's own where it has them, else ours; a template can do nothing beside.

A template is a text file. Its first line is the subject, after ``Subject:``; then comes an empty line, and the text.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from importlib import resources
from pathlib import Path
from typing import Any

from neatledger.errors import FormatError

__all__ = ["LETTERS", "Letters"]

LETTERS: Mapping[str, frozenset[str]] = {
    **dict.fromkeys(
        ("own home", "limit", "link", "review", "starter", "leaver", "finding", "brief", "report"),
        frozenset({"office", "name", "items", "largest", "text", "day"}),
    ),
    "welcome": frozenset({"office", "name", "passwords", "day"}),
}
"""What there are templates of, and the names that each may speak of."""

_EXAMPLES: Mapping[str, Any] = {
    "office": "Office", "name": "Name", "items": ("one", "another"), "largest": (("/a/file", "1 MB"),),
    "text": "text", "day": "2026-01-31", "passwords": (("system", "login", "word"),),
}  # fmt: skip
_SUBJECT = "Subject:"


class Letters:
    """The templates of an office: what its folder of them has goes before ours."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def check(self) -> None:
        """Fill every template of the office with examples; raises `FormatError` for the first that has a fault."""
        for about in LETTERS:
            if self._own(about).exists():
                self.fill(about, {key: _EXAMPLES[key] for key in LETTERS[about]})

    def fill(self, about: str, facts: Mapping[str, Any]) -> tuple[str, str]:
        """Return the subject and the text; raises `FormatError` where the template has a fault."""
        from jinja2 import StrictUndefined, TemplateError, TemplateSyntaxError
        from jinja2.sandbox import SandboxedEnvironment

        text, where = self._read(about)
        try:
            template = SandboxedEnvironment(undefined=StrictUndefined, autoescape=False).from_string(text)
            whole = template.render(facts)
        except TemplateSyntaxError as error:
            raise FormatError(f"a template with a fault: {error.message}", f"{where}:{error.lineno}") from None
        except (TemplateError, TypeError, ValueError, ArithmeticError, LookupError, AttributeError) as error:
            known = ", ".join(sorted(LETTERS[about]))
            raise FormatError(f"a template with a fault: {error}", where, f"it may speak of: {known}") from None
        first, _, rest = whole.partition("\n")
        if not first.startswith(_SUBJECT) or rest[:1] != "\n":
            raise FormatError("a template without a subject", where, "first line: Subject: …, then an empty line")
        return " ".join(first.removeprefix(_SUBJECT).split()), rest.strip("\n") + "\n"

    def _own(self, about: str) -> Path:
        return self._folder / _file_of(about)

    def _read(self, about: str) -> tuple[str, str]:
        own = self._own(about)
        try:
            return own.read_text("utf-8"), str(own)
        except FileNotFoundError:
            ours = resources.files("neatledger.faces").joinpath(f"templates/{_file_of(about)}")
            return ours.read_text("utf-8"), f"our own template {_file_of(about)}"
        except (OSError, UnicodeDecodeError) as error:
            raise FormatError(f"a template that cannot be read: {error}", str(own)) from None


def _file_of(about: str) -> str:
    return f"{about.replace(' ', '-')}.txt"


def lines_of(items: Sequence[str]) -> list[str]:
    """Return texts as single lines: nothing in them may look like a line of its own."""
    return [" ".join(one.split()) for one in items]
