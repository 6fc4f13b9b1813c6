"""Links and hand-outs as a table: what each gives, to whom, until when, what it exposes, and what is amiss."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime

from neatledger.core.sharing.judging import Breach, Offer
from neatledger.core.survey.shared import HandOut, Link
from neatledger.reports.report import Cell, Column, Report, Show, Size, count_of

__all__ = ["links_report"]

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
    Column("guards", "GUARDS", wraps=True, spare=True),
    Column("last_used", "LAST USED", spare=True),
    Column("uses", "USES", Show.MACHINE, number=True),
    Column("files", "FILES", number=True),
    Column("size_bytes", "SIZE", number=True),
    Column("kinds", "KINDS", wraps=True, spare=True),
    Column("newest", "NEWEST", Show.MACHINE),
    Column("passed_from", "PASSED ON FROM", Show.MACHINE),
    Column("state", "STATE", wraps=True),
    Column("amiss", "AMISS", Show.MACHINE),
)
_FEW_KINDS = 3


def _guards(offer: Offer) -> tuple[str, ...]:
    item = offer.item
    found = []
    if isinstance(item, Link):
        found += ["password"] if item.password else []
        found += [] if item.encrypted else ["not encrypted"]
        found += [f"{item.uses_left} uses left"] if item.uses_left is not None else []
    found += [] if item.download else ["no download"]
    return tuple(found)


def _row(
    offer: Offer, breaches: Sequence[Breach], day: str, machine: bool, names: Mapping[str, str]
) -> Sequence[Cell]:
    item, exposed = offer.item, offer.exposed
    dead = offer.why_dead(day)
    amiss = tuple(dict.fromkeys(breach.check for breach in breaches))
    state: Cell = "over: " + dead if dead else "in order"
    if breaches:
        state = "; ".join(breach.message for breach in breaches)
    kinds = tuple(kind or "(none)" for kind in exposed.kinds) if exposed else ()
    if not machine and len(kinds) > _FEW_KINDS:
        kinds = (*kinds[:_FEW_KINDS], f"{len(kinds) - _FEW_KINDS} more")
    newest = datetime.fromtimestamp(exposed.newest, UTC).date().isoformat() if exposed and exposed.newest else ""
    return (
        item.id,
        "link" if offer.is_link else "hand-out",
        item.fingerprint if isinstance(item, Link) else "",
        offer.address,
        "file" if item.is_file else "folder",
        names.get(offer.maker, offer.maker) or "nobody known",
        offer.level,
        offer.audience,
        item.made,
        item.expires or "no end",
        _guards(offer) if machine else ", ".join(_guards(offer)) or "none",
        item.last_used if isinstance(item, Link) else "",
        item.uses if isinstance(item, Link) else None,
        exposed.files if exposed else None,
        Size(exposed.size_bytes) if exposed and exposed.size_bytes is not None else None,
        kinds if machine else ", ".join(kinds),
        newest,
        item.passed_from if isinstance(item, HandOut) else "",
        state,
        amiss,
    )


def links_report(
    judged: Sequence[tuple[Offer, Sequence[Breach]]],
    day: str,
    when: str,
    *,
    machine: bool,
    names: Mapping[str, str],
    all_of: int,
) -> Report:
    """Make the table, those with most amiss first; `all_of` is how many there are without filters."""
    ranked = sorted(
        judged,
        key=lambda each: (
            not each[1],
            bool(each[0].why_dead(day)),
            -len(each[1]),
            not each[0].is_link,
            each[0].item.id,
        ),
    )
    rows = [_row(offer, breaches, day, machine, names) for offer, breaches in ranked]
    amiss = sum(bool(breaches) for _, breaches in judged)
    links = sum(offer.is_link for offer, _ in judged)
    shown = f"{count_of(links, 'link')} and {count_of(len(judged) - links, 'hand-out')}"
    headline = f"{shown}, {amiss} not in order by the plan's rules (count of {when})."
    counts = Counter(breach.check for _, breaches in judged for breach in {b.check: b for b in breaches}.values())
    notes = []
    if counts:
        notes.append("Amiss: " + ", ".join(f"{name} {number}" for name, number in counts.most_common()) + ".")
    if len(judged) < all_of:
        notes.append(f"{all_of - len(judged):,} more do not match.")
    hidden = set() if machine else {"guards"} if all(row[10] == "none" for row in rows) else set()
    columns = [column for column in _COLUMNS if column.key not in hidden]
    keep = [place for place, column in enumerate(_COLUMNS) if column.key not in hidden]
    cells: list[Sequence[Cell]] = [[row[place] for place in keep] for row in rows]
    return Report("links", headline, columns, cells, notes, "no link or hand-out is like that")
