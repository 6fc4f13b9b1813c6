"""Read one survey of a count: a path at a time without NumPy, or whole columns with it."""

from __future__ import annotations

import json
import os
from collections import Counter
from collections.abc import Collection, Iterator, Sequence
from datetime import date
from functools import cached_property
from typing import TYPE_CHECKING, Any

from neatledger.core.access.shares import SystemTerms
from neatledger.core.lists.table import MODELS
from neatledger.core.people.principals import FoundAccounts
from neatledger.core.space.figures import FIGURES, Figures
from neatledger.core.survey.accounts import Account, AccountState, Admission, Group
from neatledger.core.survey.shared import Shared
from neatledger.core.tree.columns import COLUMNS, FolderFacts, NotSeen, OddFile, SeenState
from neatledger.errors import LedgerError
from neatledger.ledger.engines.contract import Database
from neatledger.ledger.packing import CHUNK_ROWS, BytesChunk, inflate, unpack_bytes, unpack_numbers
from neatledger.ledger.seals import check_seal

if TYPE_CHECKING:
    from neatledger.core.tree.table import Table

__all__ = ["SurveyReader"]


_UNTOLD = Admission()


def _admission(text: str) -> Admission:
    return _UNTOLD if text == "{}" else Admission.of_facts(json.loads(text))


def _day(text: str) -> date | None:
    # Older counts kept the time with it.
    return date.fromisoformat(text[:10]) if text else None


class SurveyReader:
    """One system as one count saw it; `is_read` tells whether anything of its tree was read.

    All columns of a small one (`is_small`) are read at once: in a database elsewhere each by itself is waited for.
    """

    # Of what steps would make of a system another reader tells (`imagined`): what it stands on, what they touched.
    stands_on: SurveyReader | None = None
    touched: Collection[bytes] = ()
    old_rows: Sequence[int] | None = None

    def __init__(self, connection: Database, survey: int, system: str, model: str, *, is_small: bool = False) -> None:
        self._db = connection
        self._survey = survey
        self.system = system
        self.model = model
        self.is_small = is_small
        self.is_read = False
        self._tables: dict[str, Table] = {}
        self._strings: dict[str, list[bytes]] = {}
        self._chunks: dict[tuple[str, int], memoryview | BytesChunk] = {}

    def _stand_on(self, other: SurveyReader) -> None:
        """Read the same survey as another reader, and use what that has read of it."""
        SurveyReader.__init__(self, other._db, other._survey, other.system, other.model, is_small=other.is_small)
        self._chunks, self._packed = other._chunks, other._packed

    @cached_property
    def _packed(self) -> dict[str, dict[int, bytes]] | None:
        """The packed columns by name and chunk; None where they are read one by one."""
        if not self.is_small:
            return None
        query = "SELECT name, chunk, data FROM packed WHERE survey_id = ? ORDER BY name, chunk"
        found: dict[str, dict[int, bytes]] = {}
        for name, chunk, data in self._db.execute(query, (self._survey,)):
            found.setdefault(name, {})[chunk] = data
        return found

    @cached_property
    def facts(self) -> dict[str, Any]:
        """Facts of the whole system, such as ``pool_bytes``, ``read_only`` and ``shares``."""
        check_seal(self._db, self._survey, "surveys")
        (text,) = self._db.execute("SELECT facts FROM surveys WHERE id = ?", (self._survey,)).fetchone()
        facts: dict[str, Any] = json.loads(text)
        return facts

    @cached_property
    def terms(self) -> SystemTerms:
        """The terms on which the system lets people to its lists."""
        return SystemTerms.of_facts(self.facts, MODELS[self.model])

    @cached_property
    def found_accounts(self) -> FoundAccounts:
        """Accounts and groups with what makes holders of them."""
        model = MODELS[self.model]
        return FoundAccounts(self.accounts, self.groups, model.everyone_has, self.facts.get("privileges", {}))

    @cached_property
    def accounts(self) -> list[Account]:
        """All accounts, in the source's order."""
        check_seal(self._db, self._survey, "accounts")
        rows = self._db.execute(
            "SELECT login, ident, primary_ident, name, email, home, shell, state, note, may_use, last_seen,"
            " is_entitled, admission FROM accounts WHERE survey_id = ? ORDER BY place",
            (self._survey,),
        )
        return [
            Account(
                login, ident, primary, name, email, home, shell, AccountState(state), note, bool(may_use),
                _day(seen), bool(entitled), _admission(admission),
            )
            for (
                login, ident, primary, name, email, home, shell, state, note, may_use, seen, entitled, admission
            ) in rows
        ]  # fmt: skip

    @cached_property
    def groups(self) -> list[Group]:
        """All groups, in the source's order."""
        check_seal(self._db, self._survey, "account_groups")
        rows = self._db.execute(
            "SELECT name, ident, members, nested, untold FROM account_groups WHERE survey_id = ? ORDER BY place",
            (self._survey,),
        )
        return [
            Group(name, ident, tuple(json.loads(members)), tuple(json.loads(nested)), tuple(json.loads(untold)))
            for name, ident, members, nested, untold in rows
        ]

    @cached_property
    def shared(self) -> Shared | None:
        """What the system shares beside its lists; None where it is no service that does."""
        row = self._db.execute("SELECT data FROM shared WHERE survey_id = ?", (self._survey,)).fetchone()
        if row is None:
            return None
        try:
            return Shared.of_facts(json.loads(inflate(row[0], f"what {self.system} shares")))
        except (ValueError, KeyError, TypeError, RecursionError) as error:
            raise LedgerError(f"what {self.system} shares is damaged: {error}", hint="take a new count") from None

    @cached_property
    def not_seen(self) -> list[NotSeen]:
        """What the source could not see."""
        check_seal(self._db, self._survey, "not_seen")
        rows = self._db.execute("SELECT path, why FROM not_seen WHERE survey_id = ? ORDER BY place", (self._survey,))
        # A NUL, which no path can hold, marks a part of the source.
        return [
            NotSeen.of_source(path[1:].decode("utf-8", "surrogateescape"), why)
            if path.startswith(b"\0")
            else NotSeen(path, why)
            for path, why in rows
        ]

    @cached_property
    def unread(self) -> Counter[str]:
        """What parts of its source were not read, by why: what such a part would have told of is not known."""
        return Counter(one.why for one in self.not_seen if one.source)

    # One row at a time -----------------------------------------------------------------------------

    def _chunk(self, name: str, number: int) -> Any:
        self.is_read = True
        known = self._chunks.get((name, number))
        if known is None:
            data = self._data_of(name, number)
            if data is None:
                raise LedgerError(f"the column {name} lacks its chunk {number}", hint="take a new count")
            table, _, column = name.partition(".")
            dtype = COLUMNS[table][column]
            known = unpack_bytes(data, name) if dtype == "bytes" else unpack_numbers(data, dtype, name)
            self._chunks[name, number] = known
        return known

    def _data_of(self, name: str, number: int) -> bytes | None:
        if self._packed is not None:
            return self._packed.get(name, {}).get(number)
        row = self._db.execute(
            "SELECT data FROM packed WHERE survey_id = ? AND name = ? AND chunk = ?", (self._survey, name, number)
        ).fetchone()
        return None if row is None else row[0]

    def _cell(self, name: str, row: int) -> Any:
        return self._chunk(name, row // CHUNK_ROWS)[row % CHUNK_ROWS]

    def list_body(self, number: int) -> bytes:
        """Return the stored body of a list."""
        body: bytes = self._cell("lists.body", number)
        return body

    def ident(self, number: int) -> str:
        """Return the identifier that stands for an owner's number."""
        text: bytes = self._cell("idents.text", number)
        return text.decode()

    def folder(self, row: int) -> FolderFacts:
        """Return what is known of one folder."""

        def cell(column: str) -> Any:
            return self._cell(f"folders.{column}", row)

        return FolderFacts(
            row=row,
            name=cell("name"),
            parent=cell("parent"),
            list=cell("list"),
            default=cell("default"),
            owner=self.ident(cell("owner")),
            state=SeenState(cell("state")),
            children=range(cell("first_child"), cell("first_child") + cell("children")),
            classes=range(cell("first_class"), cell("first_class") + cell("classes")),
            odds=range(cell("first_odd"), cell("first_odd") + cell("odds")),
        )

    def chunk_count(self, name: str) -> int:
        """Return how many chunks of a column there are; none where the count is older than the column."""
        row = self._db.execute(
            "SELECT count(*) FROM packed WHERE survey_id = ? AND name = ?", (self._survey, name)
        ).fetchone()
        return int(row[0])

    def totals(self, row: int) -> Figures:
        """Return what a folder holds with all below it, as the count keeps it."""
        return Figures.of_row(self._cell(f"totals.{name}", row) for name in FIGURES)

    def folder_bytes(self, row: int) -> int:
        """Return a folder's own apparent bytes, without what is in it."""
        return int(self._cell("folders.bytes", row))

    def find_child(self, folder: FolderFacts, name: bytes) -> int | None:
        """Return the row of a folder's subfolder by its name, by bisection."""
        return self._find_name(name, folder.children.start, folder.children.stop)

    def _find_name(self, name: bytes, low: int, high: int) -> int | None:
        """Return the row of a folder's name among the sorted rows from `low` to before `high`."""
        while low < high:
            middle = (low + high) // 2
            here: bytes = self._cell("folders.name", middle)
            if here == name:
                return middle
            if here < name:
                low = middle + 1
            else:
                high = middle
        return None

    def child_names(self, folder: FolderFacts) -> list[str]:
        """Return the names of a folder's subfolders as text; bytes that are none come back by `os.fsencode`."""
        return [os.fsdecode(self._cell("folders.name", row)) for row in folder.children]

    def find_row(self, path: bytes) -> int | None:
        """Return the row of the folder at a path; None where no folder is. `find_path` tells what is on the way."""
        row: int | None = 0
        for name in path.split(b"/"):
            if name and row is not None:
                first = self._cell("folders.first_child", row)
                row = self._find_name(name, first, first + self._cell("folders.children", row))
        return row

    def rows_named(self, names: Collection[bytes]) -> dict[bytes, list[int]]:
        """Return the rows of all folders with each of some names, in their order; one pass over the names."""
        was_read = self.is_read
        found: dict[bytes, list[int]] = {name: [] for name in names}
        for number, data in enumerate(self._chunks_of("folders.name")):
            chunk = unpack_bytes(data, "folders.name")
            for name, rows in found.items():
                rows += [number * CHUNK_ROWS + place for place in chunk.places_of(name)] if name else []
        # What a folder is called rests on nothing that may not have been seen.
        self.is_read = was_read
        return found

    def has_end(self, row: int, parts: Sequence[bytes]) -> bool:
        """Tell whether the path of a folder ends in some names."""
        for name in reversed(parts):
            if not row or self._cell("folders.name", row) != name:
                return False
            row = self._cell("folders.parent", row)
        return True

    def path_of(self, row: int) -> bytes:
        """Return the path of a folder."""
        parts: list[bytes] = []
        while row:
            parts.insert(0, self._cell("folders.name", row))
            row = self._cell("folders.parent", row)
        return b"/" + b"/".join(parts)

    def find_path(self, path: bytes) -> tuple[list[FolderFacts], bytes | None]:
        """Return the folders from the root down along `path`, and the first name that is no folder."""
        chain = [self.folder(0)]
        for name in path.split(b"/"):
            if name:
                row = self.find_child(chain[-1], name)
                if row is None:
                    return chain, name
                chain.append(self.folder(row))
        return chain, None

    def class_rows(self, rows: range) -> Iterator[dict[str, int]]:
        """Yield class rows as column → number."""
        for row in rows:
            yield {column: self._cell(f"classes.{column}", row) for column in COLUMNS["classes"]}

    def find_odd(self, folder: FolderFacts, name: bytes) -> OddFile | None:
        """Return a file that differs from its neighbours, by name."""
        for row in folder.odds:
            if self._cell("odd.name", row) == name:
                return OddFile(name, self._cell("odd.list", row), self.ident(self._cell("odd.owner", row)))
        return None

    def odd_sorts(self, folder: FolderFacts) -> set[tuple[int, str]]:
        """Return the lists and owners that files kept by name have in a folder."""
        return {(self._cell("odd.list", row), self.ident(self._cell("odd.owner", row))) for row in folder.odds}

    def kind(self, number: int) -> bytes:
        """Return the word for a kind of file."""
        word: bytes = self._cell("kinds.word", number)
        return word

    @property
    def kinds(self) -> frozenset[bytes]:
        """The kinds that files have, by their endings in small letters."""
        found = (unpack_bytes(data, "kinds.word").strings() for data in self._chunks_of("kinds.word"))
        return frozenset(one for some in found for one in some)

    # Whole columns ---------------------------------------------------------------------------------

    def _chunks_of(self, name: str) -> Iterator[bytes]:
        self.is_read = True
        if self._packed is not None:
            yield from self._packed.get(name, {}).values()
            return
        rows = self._db.execute(
            "SELECT data FROM packed WHERE survey_id = ? AND name = ? ORDER BY chunk", (self._survey, name)
        )
        for (data,) in rows:
            yield data

    def strings(self, name: str) -> list[bytes]:
        """Return a whole column of byte strings, such as ``lists.body``; those of a small survey are kept."""
        known = self._strings.get(name)
        if known is not None:
            return known
        found: list[bytes] = []
        for data in self._chunks_of(name):
            found += unpack_bytes(data, name).strings()
        if self.is_small:
            self._strings[name] = found
        return found

    def idents(self) -> list[str]:
        """Return the identifiers that owners' numbers stand for."""
        return [os.fsdecode(text) for text in self.strings("idents.text")]

    def table(self, name: str) -> Table:
        """Return a table of NumPy arrays and sequences of byte strings, each read when it is first asked for."""
        if name not in self._tables:
            from neatledger.ledger.whole import read_table

            self._tables[name] = read_table(name, self._chunks_of)
        return self._tables[name]
