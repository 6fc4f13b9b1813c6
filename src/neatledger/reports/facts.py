"""What a finding comes to in a few words, with its figures: what a list of problems has room for."""

from __future__ import annotations

import re
from collections.abc import Sequence

from neatledger.core.checks.contract import ANYONE, Finding
from neatledger.core.checks.table import CHECKS
from neatledger.core.tree.address import Address
from neatledger.formats.names import show_address
from neatledger.formats.shelllines import quoted_text

__all__ = ["event_of", "fact_of", "facts_of", "filled", "offer_of"]

_LONGEST = 46
"""Characters of the facts of a problem: two lines of a screen."""

# Check → where its evidence has the figures, and the fact that they make; without a match its summary says it.
_FIGURES: dict[str, tuple[str, str]] = {
    "one-unknown-kind": (r"([\d,]+) files of .* became (\.\S+)", "{} files renamed to {}"),
    "mass-deletion": (r"([\d,]+ files deleted) within ([\d,]+ \w+)", "{} in {}"),
    "mass-renaming": (r"([\d,]+ files renamed) within ([\d,]+ \w+)", "{} in {}"),
    "mass-writing": (r"([\d,]+ files written) within ([\d,]+ \w+)", "{} in {}"),
    "account-tried": (r"([\d,]+) sign-ins refused", "{} sign-ins refused"),
    "accounts-tried": (r"([\d,]+) accounts tried", "one address tried {} accounts"),
    "nothing-written": (r"written for ([\d,]+ days?)", "nothing logged for {}"),
    "full-soon": (r"(\S+ \w+) of (\S+ \w+); full on ([\d-]+)", "{} of {} used; full about {}"),
    "below-use": (r"(\S+ \w+) used of (\S+ \w+)", "{} used of {}"),
    "overpromised": (r"(\S+ \w+) promised .* of (\S+ \w+)", "limits promise {} of {}"),
    "files-run-out": (r"([\d,]+) of ([\d,]+) files and folders", "{} of {} files and folders used"),
    "backup-late": (r"was (\d+ days?) ago", "the backup is late: last {} ago"),
    "guest-idle": (r"not seen for (\d+ days?)", "the guest was not seen for {}"),
    "too-many-administrators": (r"([\d,]+) accounts? open everything", "{} administrators, more than planned"),
    "device-of-leaver": (r"^(.+) \(([^)]*)\): .* left on ([\d-]+)", "{} still holds {} of somebody who left"),
    "device-lost": (r"^(.+) \(([^)]*)\): it is lost", "{} is lost and not erased; it holds {}"),
    "download-void": (r"([\d,]+ people) can take", "download is off, but {} get the files by a share"),
}


def fact_of(finding: Finding) -> str:
    """Return what a finding comes to: its figures where its check has any, else what the check finds."""
    pattern, words = _FIGURES.get(finding.check, ("", ""))
    found = re.search(pattern, finding.evidence) if pattern else None
    return words.format(*found.groups()) if found else CHECKS[finding.check].summary


_SIGNS = {
    "one-unknown-kind": (r"([\d,]+) files of .* became (\.\S+)", "{} files to {}"),
    "mass-deletion": (r"([\d,]+) files deleted", "{} files deleted"),
    "mass-renaming": (r"([\d,]+) files renamed", "{} files renamed"),
    "mass-writing": (r"([\d,]+) files written", "{} files written"),
    "account-tried": (r"([\d,]+) sign-ins refused", "{} sign-ins refused"),
    "accounts-tried": (r"([\d,]+) accounts tried", "one address, {} accounts"),
    "nothing-written": (r"written for ([\d,]+ days?)", "log silent for {}"),
    "logging-changed": ("", "logging changed"),
    "left-but-active": ("", "closed account used"),
    "unknown-account": ("", "unknown account"),
    "widened-and-narrowed": ("", "rights changed twice"),
    "unusual-hour": ("", "an unusual hour"),
    "unusual-place": ("", "a new network"),
}  # fmt: skip
"""Unusual event → where its words have the figures, and what a list of events has room for."""


def event_of(kind: str, words: str) -> str:
    """Return an unusual event in as few words as a row of a list has room for."""
    pattern, text = _SIGNS[kind]
    found = re.search(pattern, words)
    return text.format(*found.groups()) if found else CHECKS[kind].summary


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
