"""One system of a count as it would be after some steps: read like the count itself, and nothing of it is changed."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Any

from neatledger.core.access.shares import SystemTerms
from neatledger.core.lists.table import MODELS
from neatledger.core.people.principals import FoundAccounts
from neatledger.core.steps.contract import FileSort, ItemState, Step
from neatledger.core.survey.accounts import Account, Group
from neatledger.core.survey.shared import Shared
from neatledger.core.tree.columns import FolderFacts
from neatledger.errors import StepError
from neatledger.ledger.reader import SurveyReader

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from neatledger.core.tree.table import Table

__all__ = ["ImaginedReader", "begin_imagining", "imagine"]

_BY_LIST_OR_OWNER = ("list_totals", "owner_totals")


class ImaginedReader(SurveyReader):
    """A system as it would be: to steps a `State`, to questions a reader like that of a count.

    What steps change stands beside the count and over it. Folders keep their rows, until one is made: then the tables
    are made anew with it in its place. `touched` are the folders of which, or of whose files, something else decides
    since this reader was made. `old_rows` tells which row each folder had then, -1 for one made since; None: its own.
    """

    accounts: list[Account]
    groups: list[Group]
    facts: dict[str, Any]
    shared: Shared | None

    stands_on: SurveyReader
    touched: set[bytes]
    old_rows: list[int] | None

    def __init__(self, found: SurveyReader) -> None:
        self._stand_on(found)
        self.found = self.stands_on = found
        self.accounts, self.groups = list(found.accounts), list(found.groups)
        self.facts = dict(found.facts)
        self.shared = found.shared
        self.touched = set()
        self.old_rows = None
        self._rows: dict[bytes, int] = {}
        self._over: dict[str, dict[int, dict[str, int]]] = {"folders": {}, "classes": {}, "odd": {}}
        self._more: dict[str, list[bytes]] = {"lists.body": [], "idents.text": []}
        self._known: dict[str, dict[bytes, int]] = {}
        self._first: dict[str, int] = {}
        self._grown: dict[str, Table] = {}

    def copy(self) -> ImaginedReader:
        """Return another one that stands as this one does by now; what is changed in it is not changed here."""
        made = ImaginedReader(self.found)
        made.stands_on = self
        made.accounts, made.groups = list(self.accounts), list(self.groups)
        made.facts, made.shared = dict(self.facts), self.shared
        made._over = {table: dict(rows) for table, rows in self._over.items()}
        made._more = {name: list(texts) for name, texts in self._more.items()}
        made._known = {name: dict(texts) for name, texts in self._known.items()}
        made._first, made._grown = dict(self._first), dict(self._grown)
        made._rows = dict(self._rows)
        return made

    def cut(self, kept: NDArray[np.int64]) -> ImaginedReader:
        """Return the same of some folders alone, with all above each: for questions of rights, and no others."""
        from neatledger.ledger.growing import cut_to

        made = self.copy()
        made._grown = cut_to({table: self.table(table) for table in ("folders", "classes", "odd")}, kept)
        made._over = {table: {} for table in made._over}
        made._rows = {}
        return made

    # As a state ----------------------------------------------------------------------------------------

    @property
    def terms(self) -> SystemTerms:
        """The terms on which the system would let people to its lists."""
        return SystemTerms.of_facts(self.facts, MODELS[self.model])

    @property
    def found_accounts(self) -> FoundAccounts:
        """Accounts and groups as they would be."""
        model = MODELS[self.model]
        return FoundAccounts(self.accounts, self.groups, model.everyone_has, self.facts.get("privileges", {}))

    def _row_at(self, path: bytes) -> int | None:
        """Return the row of a folder; looked up once, for rows stay until a folder is made."""
        if path not in self._rows:
            above, _, name = path.rpartition(b"/")
            row: int | None = 0
            if name:
                parent = self._row_at(above or b"/")
                row = None if parent is None else self._child(parent, name)
            if row is None:
                return None
            self._rows[path] = row
        return self._rows[path]

    def _child(self, parent: int, name: bytes) -> int | None:
        first = self._cell("folders.first_child", parent)
        rows = range(first, first + self._cell("folders.children", parent))
        place = bisect_left(rows, name, key=lambda row: self._cell("folders.name", row))
        return rows[place] if place < len(rows) and self._cell("folders.name", rows[place]) == name else None

    def _folder_at(self, path: bytes) -> FolderFacts | None:
        row = self._row_at(path)
        return None if row is None else self.folder(row)

    def folder_state(self, path: bytes) -> ItemState | None:
        """Return what decides about a folder; None where there is none of this path."""
        row = self._row_at(path)
        if row is None:
            return None
        number, default, owner = (self._cell(f"folders.{name}", row) for name in ("list", "default", "owner"))
        own = self.list_body(default) if default >= 0 else None
        return ItemState(self.ident(owner), self.list_body(number), own)

    def put_folder(self, path: bytes, item: ItemState) -> None:
        """Let other things decide about a folder that is there."""
        row = self._row_at(path)
        assert row is not None, "a step looks first"
        self._over["folders"][row] = self._numbers(item)
        self._put(path)

    def _numbers(self, item: ItemState) -> dict[str, int]:
        default = -1 if item.default is None else self._number("lists.body", item.default)
        owner = self._number("idents.text", item.owner.encode())
        return {"list": self._number("lists.body", item.body), "default": default, "owner": owner}

    def subfolders(self, path: bytes) -> list[bytes]:
        """Return the paths of the folders right below one."""
        folder = self._folder_at(path)
        above = path.rstrip(b"/") + b"/"
        return [] if folder is None else [above + self._cell("folders.name", row) for row in folder.children]

    def file_sorts(self, path: bytes) -> Mapping[FileSort, int]:
        """Return how many files of a folder there are of each sort."""
        folder = self._folder_at(path)
        found: dict[FileSort, int] = {}
        for row in () if folder is None else self.class_rows(folder.classes):
            sort = FileSort(self.ident(row["owner"]), self.list_body(row["list"]))
            found[sort] = found.get(sort, 0) + row["files"]
        return found

    def put_files(self, path: bytes, before: FileSort, after: FileSort, files: int) -> bool:
        """Make so many files of one sort in a folder into another; false where it is not told which."""
        folder = self._folder_at(path)
        assert folder is not None, "a step looks first"
        chosen = self._rows_of("classes", folder.classes, before)
        if sum(self._cell("classes.files", row) for row in chosen) != files:
            return False
        numbers = {
            "list": self._number("lists.body", after.body),
            "owner": self._number("idents.text", after.owner.encode()),
        }
        for table, rows in (("classes", chosen), ("odd", self._rows_of("odd", folder.odds, before))):
            for row in rows:
                self._over[table][row] = numbers
        self._put(path)
        return True

    def _rows_of(self, table: str, rows: range, sort: FileSort) -> list[int]:
        """Return those rows of a table of files that are of a sort."""
        return [
            row
            for row in rows
            if (self.ident(self._cell(f"{table}.owner", row)), self.list_body(self._cell(f"{table}.list", row)))
            == (sort.owner, sort.body)
        ]

    def make_folder(self, path: bytes, item: ItemState | None) -> None:
        """Make an empty folder in one that is there, or (None) take such a one away."""
        from neatledger.ledger.growing import TABLES, with_folder, without_folder

        above, _, name = path.rpartition(b"/")
        folder = self._folder_at(above or b"/")
        assert folder is not None, "a step looks first"
        tables = {table: self.table(table) for table in TABLES}
        rows = self.old_rows or list(range(tables["folders"].rows))
        if item is None:
            row = self.find_child(folder, name)
            assert row is not None, "a step looks first"
            self._grown = without_folder(tables, row)
            self.old_rows = [*rows[:row], *rows[row + 1 :]]
        else:
            self._over = {table: {} for table in self._over}
            self._grown = with_folder(tables, folder.row, name, self._numbers(item))
            row = self.find_child(self.folder(folder.row), name)
            assert row is not None, "made just now"
            self.old_rows = [*rows[:row], -1, *rows[row:]]
        # They are in the tables by now.
        self._rows = {}
        self._over = {table: {} for table in self._over}
        self._put(path)

    def _put(self, path: bytes) -> None:
        self.touched.add(path)
        self._tables.clear()

    def _number(self, name: str, text: bytes) -> int:
        """Return the number of a list or an identifier, of a new one if need be."""
        if name not in self._known:
            known: dict[bytes, int] = {}
            for number, each in enumerate(self.found.strings(name)):
                known.setdefault(each, number)
            self._known[name] = known
            self._first[name] = len(self.found.strings(name))
        known = self._known[name]
        if text not in known:
            known[text] = self._first[name] + len(self._more[name])
            self._more[name].append(text)
        return known[text]

    # As a reader ---------------------------------------------------------------------------------------

    def _cell(self, name: str, row: int) -> Any:
        table, _, column = name.partition(".")
        over = self._over.get(table)
        if over and column in over.get(row, ()):
            return over[row][column]
        if table in self._grown:
            value = self._grown[table].columns[column][row]
            return value if isinstance(value, bytes) else int(value)
        if self._more.get(name) and row >= self._first[name]:
            return self._more[name][row - self._first[name]]
        return self.found._cell(name, row)

    def strings(self, name: str) -> list[bytes]:
        """Return a whole column of byte strings, with what steps brought."""
        return [*self.found.strings(name), *self._more.get(name, ())]

    def table(self, name: str) -> Table:
        """Return a table, with what steps changed in it."""
        if name not in self._tables:
            if name in _BY_LIST_OR_OWNER and (self._grown or any(self._over.values())):
                # What the count added up is by the lists and owners of then.
                from neatledger.core.space.usage import Usage, find_totals_by

                parts = self.table("folders"), self.table("classes"), self.table("others"), self.table("hard")
                self._tables |= find_totals_by(Usage(*parts), ("list", "owner"))
            else:
                self._tables[name] = self._with_changes(name)
        return self._tables[name]

    def _with_changes(self, name: str) -> Table:
        found = self._grown.get(name) or self.found.table(name)
        over = self._over.get(name)
        if over:
            rows = list(over)
            for column in dict.fromkeys(column for each in over.values() for column in each):
                changed = found[column].copy()
                changed[rows] = [over[row].get(column, int(changed[row])) for row in rows]
                found = found.with_column(column, changed)
        return found


def imagine(
    readers: Mapping[str, SurveyReader], imagined: Mapping[str, ImaginedReader], steps: Iterable[Step]
) -> dict[str, ImaginedReader]:
    """Return the systems that are as steps made them, after some more of these; raises `StepError`.

    `readers` are all systems as they are by now, `imagined` those of them that steps made so; neither is changed.
    """
    changed: dict[str, ImaginedReader] = {}
    for step in steps:
        if step.system not in readers:
            raise StepError("the system was not counted", step.where, "count it first")
        if step.system not in changed:
            changed[step.system] = begin_imagining(readers, imagined, step.system)
        step.apply(changed[step.system])
    return {**imagined, **changed}


def begin_imagining(
    readers: Mapping[str, SurveyReader], imagined: Mapping[str, ImaginedReader], system: str
) -> ImaginedReader:
    """Return a system as it is by now, to be changed by whoever asked, and by nobody else."""
    known = imagined.get(system)
    return ImaginedReader(readers[system]) if known is None else known.copy()
