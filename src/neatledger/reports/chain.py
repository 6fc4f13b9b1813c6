"""Whether everything in the ledger is as it was written, link by link."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from enum import Enum
from itertools import groupby
from typing import Protocol

from neatledger.reports.assurances import assured
from neatledger.reports.report import Aside, Column, Moment, Report, Row, Show, count_of, moment_cell

__all__ = ["Link", "chain_report", "head_words"]

_COLUMNS = (
    Column("link", "LINK", Show.MACHINE, number=True),
    Column("links", "LINK", Show.PEOPLE),
    Column("what", "WHAT", wraps=True),
    Column("written", "WRITTEN"),
    Column("state", "STATE"),
    Column("why", "WHY", wraps=True),
    Column("seal", "SEAL", Show.MACHINE),
)
_MOST_NAMED = 8
_ENTRIES = {
    "journal": "carried-out steps",
    "reviews": "reviews",
    "notices": "notices",
    "findings": "findings",
    "trail": "trail",
    "trail_blocks": "blocks of the trail",
    "trail_deeds": "deeds of the trail",
    "trail_folders": "folders of the trail",
    "trail_words": "logins and places of the trail",
    "trail_moves": "moved folders of the trail",
    "trail_gaps": "gaps of the trail",
    "dropped": "blocks of the trail that others took the place of",
    "forgotten": "forgotten words of the trail",
}


class Link(Protocol):
    """One link of the chain: what it stands for, its rows, and its seal."""

    @property
    def id(self) -> int: ...
    @property
    def subject(self) -> str: ...
    @property
    def first(self) -> int: ...
    @property
    def last(self) -> int: ...
    @property
    def moment(self) -> str: ...
    @property
    def seal(self) -> bytes: ...


class Proved(Protocol):
    """A link with what was found of it."""

    @property
    def link(self) -> Link: ...
    @property
    def state(self) -> Enum: ...
    @property
    def why(self) -> str: ...


class Proof(Protocol):
    """The chain recomputed, and what stands in no link."""

    @property
    def links(self) -> Sequence[Proved]: ...
    @property
    def loose(self) -> Sequence[str]: ...
    @property
    def first_broken(self) -> Proved | None: ...


def head_words(head: Link) -> str:
    """Return what is to be kept elsewhere: the last link and its seal."""
    return f"The ledger is sealed up to link {head.id}: {head.seal.hex()}"


def chain_report(found: Proof, where: str, asked: str | None, kept: Link | None) -> Report:
    """Show what does not hold first, then every link; `asked` is a head kept elsewhere, `kept` its link if any."""
    links = found.links
    rows = sorted(map(_row, links), key=lambda row: row["state"] != "broken")
    broken = [one for one in links if one.why]
    first = found.first_broken
    if first is not None:
        more = f", the first of {len(broken)}" if len(broken) > 1 else ""
        headline = (
            f"Link {first.link.id} of {len(links)} in {where} is broken{more}: {_what(first.link)}: {first.why}."
        )
    else:
        count = count_of(len(links), "link")
        otherwise = (
            f"{count} of {where} verified, but not all that stands there is in {'it' if len(links) == 1 else 'them'}"
        )
        otherwise = otherwise if found.loose else f"Nothing was ever written into {where}"
        is_whole = bool(links) and not found.loose
        headline = f"{assured('ledger', is_whole, otherwise, links=count, where=where).text}."
    notes: list[str] = [f"{text[:1].upper()}{text[1:]}." for text in found.loose]
    if asked is not None:
        notes.append(_kept_words(asked, kept, first, links))
        notes += [] if kept is None else _since_words([one.link for one in links if one.link.id > kept.id])
    if links:
        head = links[-1].link
        notes.append(head_words(head))
        if asked is None:
            advice = "Keep that seal elsewhere: ledger --verify --head SEAL then shows that nothing before it"
            notes.append(Aside(f"{advice} was altered or cut off."))
    return Report("proof", headline, _COLUMNS, rows, notes, "no link yet", _folded(links))


_TAKEN_OUT = ("removed", "dropped", "forgotten")


def _since_words(links: Sequence[Link]) -> list[str]:
    """Say what was taken out of the ledger, and what was put in, by the links after a head that was kept."""
    taken = [link for link in links if link.subject in _TAKEN_OUT]
    put = [link for link in links if link.subject not in _TAKEN_OUT]
    found = []
    if taken:
        runs = [
            list(group) for _, group in groupby(taken, key=lambda link: (link.subject, _moment(link.moment)[:10]))
        ]
        words = [f"{_gone_words(run)} ({_moment(run[0].moment)[:10]}, {_links_words(run)})" for run in runs]
        found.append(f"Taken out since: {'; '.join(words)}.")
    if any(link.subject == "dropped" for link in taken):
        found.append("Sums of each day stand in the place of those records: compare them, as trail shows them.")
    if put:
        kinds = dict.fromkeys(link.subject for link in put)
        words = [f"{count_of(sum(link.subject == kind for link in put), 'link')} of {_kind(kind)}" for kind in kinds]
        found.append(f"Put in since: {', '.join(words)}.")
    if not taken:
        found.insert(0, "Nothing was taken out or put in place of anything since.")
    return found


def _gone_words(links: Sequence[Link]) -> str:
    kind = {"removed": "count", "dropped": "block of the trail", "forgotten": "word of the trail"}[links[0].subject]
    numbers = ", ".join(str(link.first) for link in links[:_MOST_NAMED])
    more = f" and {len(links) - _MOST_NAMED:,} more" if len(links) > _MOST_NAMED else ""
    return (
        f"{kind if len(links) == 1 else kind.replace(' of', 's of') if ' of' in kind else kind + 's'} {numbers}{more}"
    )


def _links_words(links: Sequence[Link]) -> str:
    if len(links) <= 3:
        return f"link{'s' if len(links) > 1 else ''} {', '.join(str(link.id) for link in links)}"
    return f"links {links[0].id} to {links[-1].id}"


def _kind(subject: str) -> str:
    return "counts" if subject == "count" else _ENTRIES.get(subject, subject)


def _kept_words(asked: str, kept: Link | None, first: Proved | None, links: Sequence[Proved]) -> str:
    if kept is None:
        return f"No link has the seal {asked}: the ledger was altered or cut off since, or that is another ledger's."
    if first is not None and first.link.id <= kept.id:
        return f"The seal that was kept is that of link {kept.id}, and what is before it is not intact."
    is_whole = not any(one.link.id > kept.id and one.link.subject in _TAKEN_OUT for one in links)
    still = "" if is_whole else " that still stands"
    return f"The seal that was kept is that of link {kept.id}: all up to it{still} is as it was then."


def _row(one: Proved) -> Row:
    return {
        "link": one.link.id,
        "links": str(one.link.id),
        "what": _what(one.link),
        "written": _moment(one.link.moment),
        "state": str(one.state.value),
        "why": one.why,
        "seal": one.link.seal.hex(),
    }


def _what(first: Link, last: Link | None = None) -> str:
    """Say what links stand for, from the first to the last."""
    span = str(first.first) if first.first == (last or first).last else f"{first.first} to {(last or first).last}"
    some = "" if span == str(first.first) else "s"
    if first.subject == "count":
        return f"count{some} {span}"
    if first.subject == "removed":
        return f"count{some} {span} removed"
    return f"{_ENTRIES.get(first.subject, first.subject)}, {'entries' if some else 'entry'} {span}"


def _moment(text: str) -> Moment | str:
    try:
        return moment_cell(datetime.fromisoformat(text))
    except (ValueError, TypeError):
        return ""


def _folded(links: Sequence[Proved]) -> list[Row]:
    """Return the rows for people: what is broken first; what holds one after the other is one line."""
    folded: list[Row] = []
    runs = groupby(links, key=lambda one: (one.link.subject, one.state, one.link.id if one.why else None))
    for some in (list(group) for _, group in runs):
        first, last = some[0].link, some[-1].link
        row = _row(some[-1])
        if len(some) > 1:
            row = {**row, "links": f"{first.id}–{last.id}", "what": _what(first, last)}
        folded.append(row)
    return sorted(folded, key=lambda row: row["state"] != "broken")
