"""What a finding comes to in a few words, with its figures: what a list of problems has room for."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

from neatledger.core.checks.contract import ANYONE, Finding
from neatledger.core.checks.table import CHECKS
from neatledger.core.tree.address import Address
from neatledger.formats.names import show_address
from neatledger.formats.shelllines import quoted_text

__all__ = ["event_of", "fact_of", "facts_of", "filled", "offer_of"]

_LONGEST = 46
"""Characters of the facts of a problem: two lines of a screen."""


class _Figures(NamedTuple):
    """Where the evidence of a check has its figures, and the words that they make: of a problem, and in a list."""

    pattern: str
    fact: str = ""
    event: str = ""


# Check → its figures. Without words, or where nothing matches, the check's summary says it.
_FIGURES = {
    "one-unknown-kind": _Figures(r"([\d,]+) files of .* became (\.\S+)", "{} files renamed to {}", "{} files to {}"),
    "mass-deletion": _Figures(
        r"([\d,]+) files deleted within ([\d,]+ \w+)", "{} files deleted in {}", "{} files deleted"
    ),
    "mass-renaming": _Figures(
        r"([\d,]+) files renamed within ([\d,]+ \w+)", "{} files renamed in {}", "{} files renamed"
    ),
    "mass-writing": _Figures(
        r"([\d,]+) files written within ([\d,]+ \w+)", "{} files written in {}", "{} files written"
    ),
    "account-tried": _Figures(r"([\d,]+) sign-ins refused", "{} sign-ins refused", "{} sign-ins refused"),
    "accounts-tried": _Figures(
        r"([\d,]+) accounts tried", "one address tried {} accounts", "one address, {} accounts"
    ),
    "nothing-written": _Figures(r"written for ([\d,]+ days?)", "nothing logged for {}", "log silent for {}"),
    "logging-changed": _Figures("", event="logging changed"),
    "left-but-active": _Figures("", event="closed account used"),
    "unknown-account": _Figures("", event="unknown account"),
    "widened-and-narrowed": _Figures("", event="rights changed twice"),
    "unusual-hour": _Figures("", event="an unusual hour"),
    "unusual-place": _Figures("", event="a new network"),
    "full-soon": _Figures(r"(\S+ \w+) of (\S+ \w+); full on ([\d-]+)", "{} of {} used; full about {}"),
    "below-use": _Figures(r"(\S+ \w+) used of (\S+ \w+)", "{} used of {}"),
    "overpromised": _Figures(r"(\S+ \w+) promised .* of (\S+ \w+)", "limits promise {} of {}"),
    "files-run-out": _Figures(r"([\d,]+) of ([\d,]+) files and folders", "{} of {} files and folders used"),
    "backup-late": _Figures(r"was (\d+ days?) ago", "the backup is late: last {} ago"),
    "guest-idle": _Figures(r"not seen for (\d+ days?)", "the guest was not seen for {}"),
    "too-many-administrators": _Figures(
        r"([\d,]+) accounts? open everything", "{} administrators, more than planned"
    ),
    "device-of-leaver": _Figures(r"^(.+) \(([^)]*)\): .* left on ([\d-]+)", "{} still holds {} of somebody who left"),
    "device-lost": _Figures(r"^(.+) \(([^)]*)\): it is lost", "{} is lost and not erased; it holds {}"),
    "download-void": _Figures(r"([\d,]+ people) can take", "download is off, but {} get the files by a share"),
}


def fact_of(finding: Finding) -> str:
    """Return what a finding comes to: its figures where its check has any, else what the check finds."""
    figures = _FIGURES.get(finding.check, _Figures(""))
    return _filled(figures.fact, figures.pattern, finding.evidence) or CHECKS[finding.check].summary


def event_of(kind: str, words: str) -> str:
    """Return an unusual event in as few words as a row of a list has room for."""
    figures = _FIGURES[kind]
    return _filled(figures.event, figures.pattern, words) or CHECKS[kind].summary


def _filled(text: str, pattern: str, evidence: str) -> str:
    """Return a text with the figures of an evidence; nothing where there is no text, or the figures are not there."""
    found = re.search(pattern, evidence)
    return text.format(*found.groups()) if found else ""


def filled(advice: str, finding: Finding) -> str:
    """Return an advice with the person and the folder that it is about in place of the words for them."""
    person = next((one for one in finding.people if one != ANYONE), "")
    text = advice.replace("trail PERSON", f"trail {person}" if person else "trail")
    text = text.replace("leave PERSON", f"leave {person or finding.place}")
    place = quoted_text(show_address(finding.place)) if isinstance(finding.place, Address) else str(finding.place)
    return re.sub(r"\b(trail|protect) FOLDER", lambda word: f"{word[1]} {place}", text)


def offer_of(cause: str) -> str:
    """Return a link or hand-out as people speak of it, from the key of a cause; nothing for any other."""
    word, _, ident = cause.partition(" on ")[0].partition(":")
    return f"{word} {ident}" if ident and word in ("link", "hand-out") else ""


def facts_of(key: str, findings: Sequence[Finding]) -> str:
    """Return the facts of a problem, the most serious first: two of them at most, of what was done one."""
    facts: list[str] = []
    has_deed = False
    for one in findings:
        is_deed = one.happened is not None
        fact = fact_of(one)
        if fact in facts or (is_deed and has_deed):
            continue
        facts.append(fact)
        has_deed = has_deed or is_deed
    offer = offer_of(key)
    text = f"{offer}: {facts[0]}" if offer else facts[0]
    more = next((fact for fact in facts[1:] if len(text) + len(fact) + 2 <= _LONGEST), "")
    return f"{text}; {more}" if more else text
