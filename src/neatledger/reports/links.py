"""Links and hand-outs as a table: what each gives, to whom, until when, what it exposes, and what is not in order."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import UTC, date, datetime
from typing import Protocol

from neatledger.core.sharing.judging import Breach, Offer
from neatledger.core.survey.shared import HandOut, Link
from neatledger.reports.assurances import assured
from neatledger.reports.report import Column, Report, Row, Show, Size, count_of, day_cell, hide, shortened

__all__ = ["Judged", "links_report", "supposed_rule_report"]

_COLUMNS = (
    Column("id", "ID"),
    Column("sort", "SORT", Show.MACHINE),
    Column("fingerprint", "FINGERPRINT", Show.MACHINE),
    Column("target", "LEADS TO", cuts=True),
    Column("type", "TYPE", Show.MACHINE),
    Column("maker", "MADE BY", cuts=True),
    Column("level", "GIVES"),
    Column("audience", "TO", cuts=True),
    Column("made", "MADE", spare=True),
    Column("expires", "UNTIL"),
    Column("guards", "GUARDS", Show.MACHINE),
    Column("guard_words", "GUARDS", Show.PEOPLE, wraps=True, spare=True),
    Column("last_used", "LAST USED", spare=True),
    Column("uses", "USES", Show.MACHINE, number=True),
    Column("files", "FILES", number=True, spare=True),
    Column("size_bytes", "SIZE", number=True, spare=True),
    Column("kinds", "KINDS", Show.MACHINE),
    Column("kind_words", "KINDS", Show.PEOPLE, wraps=True, spare=True),
    Column("newest", "NEWEST", Show.MACHINE),
    Column("passed_from", "PASSED ON FROM", Show.MACHINE),
    Column("state", "STATE", Show.MACHINE),
    Column("state_words", "STATE", Show.PEOPLE, wraps=True),
    Column("amiss", "NOT IN ORDER", Show.MACHINE),
)
_FEW_KINDS, _NO_GUARD = 3, "none"


def _guards(offer: Offer) -> tuple[str, ...]:
    item = offer.item
    found = []
    if isinstance(item, Link):
        found += ["password"] if item.password else []
        found += [] if item.encrypted else ["not encrypted"]
        found += [f"{item.uses_left} uses left"] if item.uses_left is not None else []
    found += [] if item.download else ["no download"]
    return tuple(found)


class Judged(Protocol):
    """A link or hand-out with all that is not in order with it."""

    @property
    def offer(self) -> Offer: ...
    @property
    def breaches(self) -> Sequence[Breach]: ...


def _is_told(one: Judged) -> bool:
    """Tell whether all of a link or hand-out was told that its judgement rests on."""
    return bool(one.offer.maker) and not one.offer.item.is_doubtful


def _row(one: Judged, day: date, names: Mapping[str, str]) -> Row:
    offer, item, exposed = one.offer, one.offer.item, one.offer.exposed
    over = offer.why_dead(day)
    fine = "in order" if _is_told(one) else "not known: it was not told whole, or not by whom it was made"
    state = "; ".join(breach.message for breach in one.breaches) or (f"over: {over}" if over else fine)
    kinds = tuple(kind or "(none)" for kind in exposed.kinds) if exposed else ()
    shown = kinds if len(kinds) <= _FEW_KINDS else (*kinds[:_FEW_KINDS], f"{len(kinds) - _FEW_KINDS} more")
    newest = datetime.fromtimestamp(exposed.newest, UTC).date() if exposed and exposed.newest else None
    return {
        "id": item.id,
        "sort": "link" if offer.is_link else "hand-out",
        "fingerprint": item.fingerprint if isinstance(item, Link) else "",
        "target": offer.address,
        "type": "file" if item.is_file else "folder",
        "maker": names.get(offer.maker, offer.maker) or "nobody known",
        "level": offer.level,
        "audience": offer.audience,
        "made": day_cell(item.made),
        "expires": day_cell(item.expires) or "no end",
        "guards": _guards(offer),
        "guard_words": ", ".join(_guards(offer)) or _NO_GUARD,
        "last_used": day_cell(item.last_used) if isinstance(item, Link) else "",
        "uses": item.uses if isinstance(item, Link) else None,
        "files": exposed.files if exposed else None,
        "size_bytes": Size(exposed.size_bytes) if exposed and exposed.size_bytes is not None else None,
        "kinds": kinds,
        "kind_words": ", ".join(shown),
        "newest": day_cell(newest),
        "passed_from": item.passed_from if isinstance(item, HandOut) else "",
        "state": state,
        "state_words": shortened(state),
        "amiss": tuple(dict.fromkeys(breach.check for breach in one.breaches)),
    }


def _rank(one: Judged, day: date) -> tuple[object, ...]:
    offer = one.offer
    return not one.breaches, bool(offer.why_dead(day)), -len(one.breaches), not offer.is_link, offer.item.id


def links_report(judged: Sequence[Judged], names: Mapping[str, str], all_of: int, day: date, when: str) -> Report:
    """Make the table, those with most not in order first; `all_of` is how many there are without filters."""
    rows = [_row(one, day, names) for one in sorted(judged, key=lambda one: _rank(one, day))]
    faulty = sum(bool(one.breaches) for one in judged)
    links = sum(one.offer.is_link for one in judged)
    shown = f"{count_of(links, 'link')} and {count_of(len(judged) - links, 'hand-out')}"
    unsure = sum(not _is_told(one) for one in judged)
    headline = f"{shown}, {faulty} of them break a rule of the plan"
    headline += f"; of {unsure:,} not all was told" if unsure else ""
    is_clean = bool(judged) and not faulty and not unsure
    said = assured("links", is_clean, headline, shown=shown, when=when)
    # Of equally frequent ones the first that was met comes first.
    counts = Counter(check for one in judged for check in dict.fromkeys(breach.check for breach in one.breaches))
    notes = []
    if counts:
        notes.append("Broken rules: " + ", ".join(f"{name} {number}" for name, number in counts.most_common()) + ".")
    if len(judged) < all_of:
        notes.append(f"{all_of - len(judged):,} more do not match.")
    columns: Sequence[Column] = _COLUMNS
    if all(row["guard_words"] == _NO_GUARD for row in rows):
        columns = hide(_COLUMNS, "guard_words")
    empty = "no link or hand-out is like that" if all_of else "no service tells of any"
    return Report("links", f"{said.text}.", columns, rows, notes, empty, is_assured=said.is_assured)


def supposed_rule_report(
    caught: Sequence[Judged], names: Mapping[str, str], all_of: int, day: date, when: str, words: str, where: str
) -> Report:
    """List what a rule would catch, if it were set: its `words`, and in words `where`."""
    report = links_report(caught, names, all_of, day, when)
    report.name = "suppose"
    report.headline = f"Suppose the rule {words} for {where}: {len(caught)} of {all_of:,} would be caught."
    report.notes.append("A rule ends nothing that is there: these would stay, outside of it. Nothing was changed.")
    return report
