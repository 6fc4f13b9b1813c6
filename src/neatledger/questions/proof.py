"""The proof after carrying out: the systems are looked at again, and everything in them held against what was to be.

What was to be is the count of before with every step that the journal has made since. Three outcomes are told apart,
thing by thing: it is as it was to be; a step does not show; and somebody else changed something meanwhile.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from neatledger.core.lists.table import MODELS
from neatledger.core.people.names import EntryNames
from neatledger.core.steps.accounts import WholeAccountStep
from neatledger.core.steps.contract import FileSort, ItemState, Step
from neatledger.core.steps.lists import FilesStep, ListStep
from neatledger.core.steps.things import Thing, ThingChange, file_changes, folder_changes, settings_of
from neatledger.core.trail.records import Did
from neatledger.core.tree.address import Address
from neatledger.errors import StepError
from neatledger.ledger.imagined import ImaginedReader
from neatledger.ledger.reader import SurveyReader
from neatledger.questions import trail
from neatledger.questions.beside import SystemChange, changes_between
from neatledger.questions.lognames import logs_of
from neatledger.questions.office import Office

__all__ = ["Deviation", "LookedAt", "Proof", "prove"]


@dataclass(frozen=True, slots=True)
class LookedAt:
    """What was compared of one system, and how many things were not, since they were not seen then or now."""

    system: str
    folders: int
    files: int
    accounts: int
    groups: int
    unseen: int


@dataclass(frozen=True, slots=True)
class Deviation:
    """One thing that is not as it was to be: where, in what words, and the steps of it that do not show.

    With `is_as_before` it stands as if these had not been made. Without steps somebody else changed it: `who`, as the
    log of its system tells.
    """

    system: str
    place: Address | str
    what: str
    steps: Sequence[Step] = ()
    is_as_before: bool = False
    who: Sequence[str] = ()


@dataclass
class Proof:
    """What looking again showed; `since` is when it was looked at before.

    `passed_on` are folders to which a server itself passed on what a step set above them. `came` and `went` are files
    that are new or gone, as people work. `changes` is what people gained and lost by what no step made. `silent` are
    the systems that changed and keep no log. Of `not_as_asked` steps a system made what gives somebody more or less.
    """

    since: str
    looked: list[LookedAt] = field(default_factory=list)
    made: int = 0
    failed: list[Deviation] = field(default_factory=list)
    others: list[Deviation] = field(default_factory=list)
    passed_on: list[Address] = field(default_factory=list)
    came: int = 0
    went: int = 0
    changes: list[SystemChange] = field(default_factory=list)
    untold: list[str] = field(default_factory=list)
    silent: list[str] = field(default_factory=list)
    not_as_asked: int = 0

    @property
    def is_as_meant(self) -> bool:
        """Tell whether everything that could be compared is as it was to be."""
        return not (self.not_as_asked or self.failed or self.others or self.passed_on or self.changes or self.untold)


def prove(before: Office, systems: Sequence[str]) -> Proof:
    """Hold the newest count of some systems against an older one with all steps that were made since."""
    after = before.newest()
    found = Proof(before.count.when)
    expected: dict[str, ImaginedReader] = {}
    unclear: set[tuple[str, bytes]] = set()
    for name in systems:
        survey = next((one.id for one in before.count.surveys if one.system == name), None)
        if survey is None or name not in after.readers:
            found.untold.append(f"{name} was not counted before: there is nothing to compare it with")
            continue
        steps = [step for step in before.ledger.journal.made_after(survey) if step.system == name]
        prover = _SystemProver(before.readers[name], after.readers[name], steps)
        expected[name] = prover.expected
        unclear |= {(name, path) for path in prover.unclear}
        prover.prove(found)
    meant = before.with_(imagined={**before.imagined, **expected}, only=expected)
    changes = changes_between(meant, after.with_(only=expected))
    found.changes = [one for one in changes if (one.address.system, one.address.path) not in unclear]
    _ask_logs(after, before, found)
    return found


_OF_ACCOUNTS = ("state", "service", "entitlement", "identifier", "primary group")


class _SystemProver:
    """Holds one system against what was to be of it."""

    def __init__(self, before: SurveyReader, after: SurveyReader, steps: Sequence[Step]) -> None:
        self.before, self.after, self.steps = before, after, steps
        self.expected = ImaginedReader(before)
        self.was, self.now = ImaginedReader(before), ImaginedReader(after)
        self.untold: list[str] = []
        self.names = _names_of(before, after)
        # Which steps set a thing, and how many files of a folder each made into another sort.
        self.by_thing: dict[Thing, list[Step]] = {}
        self.moved: dict[bytes, list[FilesStep]] = {}
        # Folders of which a count does not tell which files of a sort became others: there numbers must do.
        self.unclear: set[bytes] = set()
        for step in steps:
            self._apply(step)

    def _apply(self, step: Step) -> None:
        known = settings_of(self.expected)
        if isinstance(step, FilesStep):
            self.moved.setdefault(step.path, []).append(step)
            self.by_thing.setdefault(Thing("files", step.path), []).append(step)
        try:
            self._as_counted(step).apply(self.expected)
        except StepError as error:
            if isinstance(step, FilesStep):
                self.unclear.add(step.path)
            else:
                self.untold.append(f"{step.where}: {error.what}")
            return
        now = settings_of(self.expected)
        touched = [thing for thing in known.keys() | now.keys() if known.get(thing) != now.get(thing)]
        if step.place is not None and not isinstance(step, FilesStep):
            touched.append(Thing("folder", step.place.path))
        for thing in touched:
            self.by_thing.setdefault(thing, []).append(step)

    def _as_counted(self, step: Step) -> Step:
        """Return a step that takes an account away as it was counted: its system may have added to it."""
        if not isinstance(step, WholeAccountStep) or step.before is None:
            return step
        login = step.before.login
        account = next((one for one in self.expected.accounts if one.login == login), step.before)
        groups = tuple(one.ident for one in self.expected.groups if login in one.members)
        return replace(step, before=account, groups=groups)

    def prove(self, found: Proof) -> None:
        """Add to a proof what this system shows."""
        folders, unseen, pairs = folder_changes(self.expected, self.after)
        was, wanted, now = (settings_of(each) for each in (self.before, self.expected, self.after))
        settings = [
            ThingChange(thing, wanted.get(thing), now.get(thing))
            for thing in dict.fromkeys([*wanted, *now])
            if not _is_alike(thing, wanted.get(thing), now.get(thing), is_new=thing not in was)
        ]
        for change in settings:
            self._tell(found, change, was.get(change.thing))
        for change in folders:
            path = change.thing.name
            assert isinstance(path, bytes)
            self._tell(found, change, self.was.folder_state(path))
        for change in file_changes(self.expected, self.after, pairs):
            self._tell_files(found, change)
        self._look_at_moved(found)
        found.made += len(self.steps)
        found.untold += self.untold
        files = self.after.table("classes")["files"].sum() if self.after.table("classes").rows else 0
        found.looked.append(
            LookedAt(
                self.after.system,
                self.after.table("folders").rows,
                int(files),
                len(self.after.accounts),
                len(self.after.groups),
                unseen + len(self.after.not_seen),
            )
        )

    def _tell(self, found: Proof, change: ThingChange, was: Any) -> None:
        """Add one thing that is not as it was to be."""
        steps = self.by_thing.get(change.thing, [])
        place = self._place_of(change.thing)
        is_as_before = bool(steps) and _is_alike(change.thing, was, change.after)
        if not steps and isinstance(place, Address) and self._is_passed_on(change):
            found.passed_on.append(place)
            return
        what = self._words(change)
        deviation = Deviation(self.after.system, place, what, steps, is_as_before)
        (found.failed if steps else found.others).append(deviation)

    def _place_of(self, thing: Thing) -> Address | str:
        if isinstance(thing.name, bytes):
            return Address(self.after.system, thing.name)
        kind = f"{thing.kind} " if thing.kind != "terms" else ""
        return f"{self.after.system}: {kind}{thing.name.replace(chr(0), ' / ')}"

    def _words(self, change: ThingChange) -> str:
        kind, before, after = change.thing.kind, change.before, change.after
        if before is None or after is None:
            return "it is there" if before is None else "it is not there"
        if kind == "folder":
            step = ListStep(self.after.system, b"", self.after.model, before, after)
            return "; ".join(step.changes(self.names)) or "its list is written in another way"
        if isinstance(before, Mapping) and isinstance(after, Mapping):
            names = [name for name in after if before.get(name) != after.get(name)]
            return "; ".join(f"{name}: {before.get(name)} → {after.get(name)}" for name in names)
        if kind == "account":
            pairs = zip(
                ("state", "service", "entitlement", "identifier", "primary group"), before, after, strict=True
            )
            return "; ".join(f"{name}: {_plain(one)} → {_plain(other)}" for name, one, other in pairs if one != other)
        return f"{_plain(before)} → {_plain(after)}"

    def _is_passed_on(self, change: ThingChange) -> bool:
        """Tell whether a server gave a folder what a step set on one above it: its own entries are as they were."""
        path, before, after = change.thing.name, change.before, change.after
        if self.after.model != "nt" or not isinstance(path, bytes):
            return False
        if not (isinstance(before, ItemState) and isinstance(after, ItemState)) or before.owner != after.owner:
            return False
        above = path.rpartition(b"/")[0] or b"/"
        here = Address(self.after.system, path)
        is_below_a_step = any(
            isinstance(step, ListStep) and here.is_within(Address(step.system, step.path)) for step in self.steps
        )
        parent = self.now.folder_state(above)
        if not is_below_a_step or parent is None:
            return False
        model = MODELS[self.after.model]
        passed = model.pushed(parent.body, before.body, before.owner, keeps_own=True, is_folder=True)
        return model.parse(passed).describe(self.names) == model.parse(after.body).describe(self.names)

    # Files ---------------------------------------------------------------------------------------------

    def _look_at_moved(self, found: Proof) -> None:
        """Hold the files of folders whose files steps made into other sorts against what was to be, by number."""
        for path, steps in self.moved.items():
            if self.now.folder_state(path) is None:
                continue
            was = dict(self.was.file_sorts(path))
            wanted = dict(was)
            for step in steps:
                wanted[step.before] = wanted.get(step.before, 0) - step.files
                wanted[step.after] = wanted.get(step.after, 0) + step.files
            self._hold_files(found, path, wanted, self.now.file_sorts(path), was)

    def _tell_files(self, found: Proof, change: ThingChange) -> None:
        path = change.thing.name
        assert isinstance(path, bytes)
        if path not in self.moved:
            self._hold_files(found, path, change.before.sorts, change.after.sorts, change.before.sorts)

    def _hold_files(
        self,
        found: Proof,
        path: bytes,
        wanted: Mapping[FileSort, int],
        there: Mapping[FileSort, int],
        was: Mapping[FileSort, int],
    ) -> None:
        """Tell files that are of another sort than they were to be; mere growth is counted."""
        sorts = dict.fromkeys([*wanted, *there])
        more = {one: number for one in sorts if (number := there.get(one, 0) - max(0, wanted.get(one, 0))) > 0}
        fewer = {one: number for one in sorts if (number := max(0, wanted.get(one, 0)) - there.get(one, 0)) > 0}
        other = min(sum(more.values()), sum(fewer.values()))
        # A sort that no file of the folder had: people may do with these what they could with none.
        strange = sum(number for one, number in more.items() if not wanted.get(one))
        if not (other or strange):
            found.came += sum(more.values())
            found.went += sum(fewer.values())
            return
        steps = self.by_thing.get(Thing("files", path), []) if other else []
        is_as_before = bool(steps) and all(there.get(one, 0) >= number for one, number in was.items())
        words = [self._sort_words(one, number, "more") for one, number in more.items()]
        words += [self._sort_words(one, number, "fewer") for one, number in fewer.items()]
        place = Address(self.after.system, path)
        deviation = Deviation(self.after.system, place, f"of its files: {'; '.join(words)}", steps, is_as_before)
        (found.failed if steps else found.others).append(deviation)

    def _sort_words(self, sort: FileSort, number: int, word: str) -> str:
        entries = MODELS[self.after.model].parse(sort.body).describe(self.names, is_folder=False)
        return f"{number:,} {word}, {self.names.owner(sort.owner)}'s: {', '.join(entries)}"


def _names_of(before: SurveyReader, after: SurveyReader) -> EntryNames:
    accounts = {(one.ident, one.login): one for side in (before, after) for one in side.accounts}
    groups = {(one.ident, one.name): one for side in (before, after) for one in side.groups}
    return EntryNames(accounts.values(), groups.values(), after.terms.model)


def _is_alike(thing: Thing, before: Any, after: Any, *, is_new: bool = False) -> bool:
    """Tell whether a thing is the same; an account or a group that steps made gets its identifier from its system."""
    if is_new and before is not None and after is not None:
        if thing.kind == "account":
            return bool(before[:3] == after[:3])
        if thing.kind == "group":
            return True
    return bool(before == after)


def _plain(value: Any) -> str:
    return str(getattr(value, "value", value))


# Who it was --------------------------------------------------------------------------------------------

_MOST_ASKED = 20
_DIDS = (Did.RIGHTS, Did.CHANGE, Did.MAKE, Did.RENAME, Did.DELETE)
_ON_ACCOUNTS = (Did.ACCOUNT, Did.SHARE)


def _ask_logs(after: Office, before: Office, found: Proof) -> None:
    """Add who changed what no step did, as far as logs tell."""
    found.silent = sorted({one.system for one in found.others if not logs_of(after, one.system)})
    told = []
    for number, one in enumerate(found.others):
        is_asked = number < _MOST_ASKED and one.system not in found.silent
        told.append(replace(one, who=tuple(_who(after, before, one)) if is_asked else ()))
    found.others = told


def _who(after: Office, before: Office, deviation: Deviation) -> Iterable[str]:
    """Yield who did something there since the count before, and from where."""
    place = deviation.place
    below = place if isinstance(place, Address) else Address(deviation.system, b"/")
    dids = _DIDS if isinstance(place, Address) else _ON_ACCOUNTS
    since = before.count.taken_at
    answer = trail.ask(after, below=below, since=since.astimezone().date(), did=dids, is_folded=False)
    seen = {}
    for one in answer.seen:
        record = one.fold.first
        if record.moment >= since and one.fold.system == deviation.system:
            address = f" from {record.address}" if record.address else ""
            when = record.moment.astimezone().strftime("%Y-%m-%d %H:%M")
            seen[f"{one.who}{address}"] = f"{one.who} {record.did.value} it{address}, {when}"
    return seen.values()
