"""The chain: everything that is written into the ledger, sealed with all that was written before it.

A *link* stands for one writing: a count, entries of the journal, of reviews or of notices, or that a count was
removed. It holds the SHA-256 (FIPS 180-4) of the rows, table by table, and a seal: the SHA-256 of the seal before it
and of the link itself. Whatever is altered, taken out or put in between later does not fit any more. Who can write
the file can make a whole chain anew; the seal of the last link, the *head*, is to lie somewhere else too.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from enum import Enum
from hashlib import sha256

from neatledger.errors import LedgerError, UsageError
from neatledger.ledger.engines.contract import ENGINE_ERRORS, Database

__all__ = ["Chain", "Link", "LinkState", "Proof", "ProvedLink", "Subject"]

_NOTHING = b"\0" * 32
_SHORTEST = 16  # hexadecimal digits of a head: fewer could be another link's by chance


class Subject(Enum):
    """What a link stands for; its value is the word in the file."""

    COUNT = "count"
    REMOVED = "removed"
    JOURNAL = "journal"
    REVIEWS = "reviews"
    NOTICES = "notices"
    FINDINGS = "findings"  # what was found in a count: it may go, for it can be worked out anew
    TRAIL = "trail"  # records one by one, as a ledger kept them once; they are in blocks now
    TRAIL_BLOCKS = "trail_blocks"
    TRAIL_DEEDS = "trail_deeds"
    TRAIL_FOLDERS = "trail_folders"
    TRAIL_WORDS = "trail_words"
    TRAIL_MOVES = "trail_moves"
    TRAIL_GAPS = "trail_gaps"
    DROPPED = "dropped"  # a block of the trail, added up or without somebody's records, in other blocks from then on
    FORGOTTEN = "forgotten"  # a word of the trail, whose text is gone and whose digest stays


class LinkState(Enum):
    """What is known of a link once it was recomputed."""

    HOLDS = "intact"
    BROKEN = "broken"
    REMOVED = "removed"  # what was removed afterwards: its link stands, its rows cannot be compared


# Table → its columns when links of this form began, which rows are a link's, and their order. A column that comes
# later belongs to a later form, so that older links are recomputed over what they were made of.
_OF_COUNT = "survey_id IN (SELECT id FROM surveys WHERE count_id BETWEEN ?1 AND ?2)"
_ENTRIES = "id BETWEEN ?1 AND ?2"
_Rows = tuple[str, str, str, str]
_FORMS: dict[int, dict[Subject, Sequence[_Rows]]] = {
    1: {
        Subject.COUNT: (
            ("counts", "id, taken_at, tool", _ENTRIES, "id"),
            (
                "surveys",
                "id, count_id, system, source, model, folders, files, facts",
                "count_id BETWEEN ?1 AND ?2",
                "id",
            ),
            (
                "accounts",
                "survey_id, place, login, ident, primary_ident, name, email, home, shell, state, note, may_use,"
                " last_seen, is_entitled, admission",
                _OF_COUNT,
                "survey_id, place",
            ),
            (
                "account_groups",
                "survey_id, place, name, ident, members, nested, untold",
                _OF_COUNT,
                "survey_id, place",
            ),
            ("not_seen", "survey_id, place, path, why", _OF_COUNT, "survey_id, place"),
            ("packed", "survey_id, name, chunk, data", _OF_COUNT, "survey_id, name, chunk"),
            ("shared", "survey_id, data", _OF_COUNT, "survey_id"),
            ("seals", "survey_id, name, columns, digest", _OF_COUNT, "survey_id, name"),
        ),
        Subject.REMOVED: (),
        Subject.JOURNAL: (("journal", "id, run, event, step, moment, facts", _ENTRIES, "id"),),
        Subject.REVIEWS: (("reviews", "id, event, moment, facts, seal", _ENTRIES, "id"),),
        Subject.NOTICES: (("notices", "id, event, moment, keys, facts", _ENTRIES, "id"),),
        Subject.TRAIL: (
            ("trail", "id, moment, system, login, did, state, path, dest, address, device, detail", _ENTRIES, "id"),
        ),
    }
}
_FORMS[2] = {
    **{subject: tables for subject, tables in _FORMS[1].items() if subject is not Subject.TRAIL},
    Subject.TRAIL_BLOCKS: (
        (
            "trail_blocks",
            "id, system, first_moment, last_moment, rows, moments, deeds, folders, names, more, numbers",
            _ENTRIES,
            "id",
        ),
    ),
    Subject.TRAIL_DEEDS: (("trail_deeds", "id, who, did, state, address, device", _ENTRIES, "id"),),
    Subject.TRAIL_FOLDERS: (("trail_folders", "id, system, path", _ENTRIES, "id"),),
    Subject.TRAIL_WORDS: (("trail_words", "id, system, digest", _ENTRIES, "id"),),
    Subject.TRAIL_MOVES: (("trail_moves", "id, system, moment, source, dest", _ENTRIES, "id"),),
    Subject.TRAIL_GAPS: (("trail_gaps", 'id, system, file, "after", "before", why', _ENTRIES, "id"),),
    Subject.DROPPED: (),
    Subject.FORGOTTEN: (),
}
_COUNT, *_OF_SURVEYS = _FORMS[2][Subject.COUNT]
_FORMS[3] = {
    **_FORMS[2],
    Subject.COUNT: (("counts", "id, taken_at, tool, origin, signer", *_COUNT[2:]), *_OF_SURVEYS),
}
_FORMS[4] = {
    **_FORMS[3],
    Subject.FINDINGS: (("findings", "id, count_id, basis, day, standing, subjects, data", _ENTRIES, "id"),),
}
_FORM = max(_FORMS)
_LARGE = frozenset({"packed", "shared", "trail_blocks", "findings"})
_MAY_GO = frozenset({one.value for one in (Subject.COUNT, Subject.TRAIL, Subject.TRAIL_BLOCKS, Subject.FINDINGS)})
_LOGS = (Subject.JOURNAL, Subject.REVIEWS, Subject.NOTICES)
"""What may stand in a ledger from before there was a chain, beside counts."""


@dataclass(frozen=True, slots=True)
class Link:
    """One link: of the rows `first` to `last` of its subject, written at `moment` (UTC, ISO 8601).

    `digests` is JSON: table → SHA-256 in hexadecimal digits.
    """

    id: int
    subject: str
    first: int
    last: int
    moment: str
    form: int
    digests: str
    seal: bytes

    def seal_after(self, before: bytes) -> bytes:
        """Return the seal that this link must have after the seal of the link before it."""
        facts = [self.id, self.subject, self.first, self.last, self.moment, self.form, self.digests]
        return sha256(before + json.dumps(facts, default=repr).encode()).digest()


@dataclass(frozen=True, slots=True)
class ProvedLink:
    """A link with what was found of it; `why` says what does not fit (empty: nothing)."""

    link: Link
    state: LinkState
    why: str


@dataclass(frozen=True, slots=True)
class Proof:
    """The whole chain recomputed; `loose` is what stands in the ledger and in no link, in words."""

    links: Sequence[ProvedLink]
    loose: Sequence[str]

    @property
    def first_broken(self) -> ProvedLink | None:
        """The first link that does not hold."""
        return next((one for one in self.links if one.state is LinkState.BROKEN), None)

    @property
    def holds(self) -> bool:
        """Tell whether everything is as it was written."""
        return self.first_broken is None and not self.loose


class Chain:
    """The chain of an open ledger."""

    def __init__(self, connection: Database, where: str) -> None:
        self._db = connection
        self._where = where

    def add(self, subject: Subject, first: int, last: int) -> None:
        """Add a link for rows that were just written, within the transaction that wrote them."""
        row = self._db.execute("SELECT id, seal FROM chain ORDER BY id DESC LIMIT 1").fetchone()
        number, before = (row[0] + 1, bytes(row[1])) if row else (1, _NOTHING)
        digests = json.dumps(_digests(self._db, _FORM, subject, first, last))
        moment = datetime.now(UTC).isoformat(timespec="seconds")
        link = Link(number, subject.value, first, last, moment, _FORM, digests, b"")
        values = (number, subject.value, first, last, moment, _FORM, digests, link.seal_after(before))
        self._db.execute("INSERT INTO chain VALUES (?, ?, ?, ?, ?, ?, ?, ?)", values)

    def add_rows(self, subject: Subject, number: int) -> None:
        """Add a link for so many rows that were just written at the end of a record's table."""
        (last,) = self._db.execute(f"SELECT max(id) FROM {_ENTRY[subject][0]}").fetchone()
        self.add(subject, last - number + 1, last)

    def begin(self) -> None:
        """Seal what stood in the ledger before it had a chain, within the transaction that gives it one."""
        for (number,) in self._db.execute("SELECT id FROM counts ORDER BY id").fetchall():
            self.add(Subject.COUNT, number, number)
        for subject in _LOGS:
            first, last = self._db.execute(f"SELECT min(id), max(id) FROM {subject.value}").fetchone()
            if first is not None:
                self.add(subject, first, last)

    def seal_findings(self) -> None:
        """Seal what was found before findings were sealed, within the transaction that begins to."""
        for (number,) in self._db.execute("SELECT id FROM findings ORDER BY id").fetchall():
            self.add(Subject.FINDINGS, number, number)

    def holds(self, subject: Subject, number: int) -> bool:
        """Tell whether one row is as the last link of it has it; no where it is in no link."""
        query = "SELECT form, digests FROM chain WHERE subject = ? AND first = ? ORDER BY id DESC LIMIT 1"
        row = self._db.execute(query, (subject.value, number)).fetchone()
        if row is None:
            return False
        form, digests = row
        try:
            return bool(json.loads(digests) == _digests(self._db, form, subject, number, number))
        except (ValueError, KeyError):
            return False

    def head(self) -> Link | None:
        """Return the last link, whose seal stands for all of them; None where nothing was ever written."""
        return next(self._links("ORDER BY id DESC LIMIT 1"), None)

    def find(self, seal: str) -> Link | None:
        """Return the link whose seal begins with these hexadecimal digits, if any; raises `UsageError`."""
        digits = seal.strip().lower()
        if len(digits) < _SHORTEST or not set(digits) <= set("0123456789abcdef"):
            hint = f"give at least its first {_SHORTEST} digits, 0 to 9 and a to f, as a report or mail shows it"
            raise UsageError(f"{seal!r} is no head of a ledger", hint=hint)
        return next((one for one in self._links("ORDER BY id") if one.seal.hex().startswith(digits)), None)

    def _links(self, order: str) -> Iterator[Link]:
        try:
            rows = self._db.execute(
                f"SELECT id, subject, first, last, moment, form, digests, seal FROM chain {order}"
            )
            for number, subject, first, last, moment, form, digests, seal in rows:
                # A seal that is no longer bytes is one that does not fit.
                whole = seal if isinstance(seal, bytes) else repr(seal).encode()
                yield Link(number, subject, first, last, moment, form, digests, whole)
        except ENGINE_ERRORS as error:
            raise LedgerError(f"the chain cannot be read: {error}", self._where, "put back a copy") from error

    def prove(self, step: Callable[[int], object] = lambda _: None) -> Proof:
        """Recompute every link, calling `step` after each; raises `LedgerError` where the chain cannot be read."""
        links = list(self._links("ORDER BY id"))
        standing = self._standing(links)
        found: list[ProvedLink] = []
        before, expected = _NOTHING, 1
        for link in links:
            why = "" if link.id == expected else f"link {expected} is gone"
            if not why and link.seal_after(before) != link.seal:
                why = "it does not fit to what was written before it"
            if not why and link in standing:
                why = self._compare(link)
            is_removed = link.subject in _MAY_GO and link not in standing
            state = LinkState.BROKEN if why else LinkState.REMOVED if is_removed else LinkState.HOLDS
            found.append(ProvedLink(link, state, why))
            before, expected = link.seal, link.id + 1
            step(1)
        return Proof(found, [*self._loose(standing), *self._unproved_words(links)])

    def _standing(self, links: Sequence[Link]) -> set[Link]:
        """Return the links whose rows must be there, and those of findings that are."""
        there = {number for (number,) in self._db.execute("SELECT id FROM findings")}
        standing = _standing(links)
        gone = {link for link in standing if link.subject == Subject.FINDINGS.value and link.first not in there}
        return standing - gone

    def _compare(self, link: Link) -> str:
        """Say what of a link's rows is not as it was written; empty where nothing is."""
        try:
            then = json.loads(link.digests)
            now = _digests(self._db, link.form, Subject(link.subject), link.first, link.last)
        except (*ENGINE_ERRORS, ValueError, KeyError, TypeError) as error:
            return f"it cannot be recomputed: {error}"
        empty = sha256().hexdigest()
        gone = [table for table in now if now[table] == empty != then.get(table)]
        other = [table for table in now if now[table] != then.get(table) and table not in gone]
        parts = [f"{_words(tables)} {verb}" for tables, verb in ((other, "altered"), (gone, "gone")) if tables]
        return ", ".join(parts)

    def _unproved_words(self, links: Sequence[Link]) -> Iterator[str]:
        """Say which words of the trail are not what their digests say, or are gone though nobody forgot them."""
        forgotten = {one.first for one in links if one.subject == Subject.FORGOTTEN.value}
        try:
            for number, text, salt, digest in self._db.execute("SELECT id, text, salt, digest FROM trail_words"):
                if salt is None and not text and number in forgotten:
                    continue
                whole = salt if isinstance(salt, bytes) else repr(salt).encode()
                if sha256(whole + str(text).encode()).digest() != digest:
                    yield f"word {number} of the trail was altered"
        except ENGINE_ERRORS as error:
            yield f"trail_words cannot be read: {error}"

    def _loose(self, standing: set[Link]) -> Iterator[str]:
        """Say what stands in the tables and in no link."""
        for subject in _ENTRY:
            spans = sorted(
                (one.first, one.last)
                for one in standing
                if one.subject == subject.value and isinstance(one.first, int) and isinstance(one.last, int)
            )
            table, what = _ENTRY[subject]
            try:
                rows = self._db.execute(f"SELECT id FROM {table} ORDER BY id").fetchall()
            except ENGINE_ERRORS as error:
                yield f"{table} cannot be read: {error}"
                continue
            reach, following = None, 0
            for (number,) in rows:
                while following < len(spans) and spans[following][0] <= number:
                    reach = spans[following][1] if reach is None else max(reach, spans[following][1])
                    following += 1
                if reach is None or number > reach:
                    yield f"{what} {number} is in no link: it was not written by this tool"


_ENTRY = {
    Subject.COUNT: ("counts", "count"),
    Subject.JOURNAL: ("journal", "entry of carried-out steps"),
    Subject.REVIEWS: ("reviews", "entry of reviews"),
    Subject.NOTICES: ("notices", "entry of notices"),
    Subject.FINDINGS: ("findings", "set of findings"),
    Subject.TRAIL_BLOCKS: ("trail_blocks", "block of the trail"),
    Subject.TRAIL_DEEDS: ("trail_deeds", "deed of the trail"),
    Subject.TRAIL_FOLDERS: ("trail_folders", "folder of the trail"),
    Subject.TRAIL_WORDS: ("trail_words", "word of the trail"),
    Subject.TRAIL_MOVES: ("trail_moves", "moved folder of the trail"),
    Subject.TRAIL_GAPS: ("trail_gaps", "gap of the trail"),
}
_TABLES = {
    "counts": "the count itself",
    "surveys": "its systems",
    "account_groups": "groups",
    "not_seen": "what was not seen",
    "packed": "folders and files",
    "shared": "team folders and links",
    "findings": "what was found",
    "journal": "steps",
    "trail_blocks": "records",
    "trail_deeds": "deeds",
    "trail_folders": "folders",
    "trail_words": "logins and places",
}


def _words(tables: Iterable[str]) -> str:
    return ", ".join(_TABLES.get(table, table) for table in tables)


def _standing(links: Sequence[Link]) -> set[Link]:
    """Return the links whose rows must be there: a count's until it is removed, for its number may be given again."""
    counts: dict[int, Link] = {}
    blocks: dict[int, Link] = {}
    findings: dict[int, Link] = {}
    found: set[Link] = set()
    for link in links:
        if link.subject == Subject.COUNT.value:
            counts[link.first] = link
        elif link.subject == Subject.REMOVED.value:
            counts.pop(link.first, None)
        elif link.subject == Subject.TRAIL_BLOCKS.value:
            blocks[link.first] = link
        elif link.subject == Subject.DROPPED.value:
            blocks.pop(link.first, None)
        elif link.subject == Subject.FINDINGS.value:
            findings[link.first] = link
        elif link.subject != Subject.TRAIL.value:
            found.add(link)
    return found | set(counts.values()) | set(blocks.values()) | set(findings.values())


def _digests(db: Database, form: int, subject: Subject, first: int, last: int) -> dict[str, str]:
    """Return table → SHA-256 of a link's rows, each as Python writes it, that none runs into another."""
    found: dict[str, str] = {}
    for table, columns, where, order in _FORMS[form][subject]:
        digest = sha256()
        for row in db.execute(f"SELECT {columns} FROM {table} WHERE {where} ORDER BY {order}", (first, last)):
            if table in _LARGE:
                # Written out, bytes would be four times as long.
                row = tuple((len(one), sha256(one).digest()) if isinstance(one, bytes) else one for one in row)
            digest.update(repr(row).encode("utf-8", "surrogatepass"))
        found[table] = digest.hexdigest()
    return found
