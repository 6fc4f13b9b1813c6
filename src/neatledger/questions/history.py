"""What one person had on one folder, count by count, and what changed each time: an entry, a group, an account."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date

from neatledger.core.access.moved_files import moved_files
from neatledger.core.access.tree_gates import Item
from neatledger.core.access.ways import Access, FileCounts, told_by
from neatledger.core.lists.contract import Names, word_entry
from neatledger.core.lists.rights import Right
from neatledger.core.people.names import BareIdents
from neatledger.core.people.principals import Principal, principals_by_person
from neatledger.core.tree.address import Address
from neatledger.errors import UnknownNameError
from neatledger.ledger.locations import find_location, is_there
from neatledger.ledger.reader import SurveyReader
from neatledger.ledger.store import CountInfo
from neatledger.questions.office import Office, names_of
from neatledger.questions.systems import Systems

__all__ = ["Between", "Had", "History", "Since", "ask", "ask_since", "counts_of"]


@dataclass(frozen=True, slots=True)
class Had:
    """What they had from a count on: since after `not_before` (None: the first count) and by `day` at the latest.

    `rights` is None where they had no account, or the folder was not there (not `is_there`); `counts` where its files
    were not seen; `causes` say what changed.
    """

    not_before: date | None
    day: date
    rights: Right | None
    is_known: bool
    counts: FileCounts | None
    by: str
    causes: tuple[str, ...]
    is_there: bool = True


@dataclass(frozen=True)
class History:
    """One person on one folder: what they had, the oldest first, over how many counts of its system."""

    person: str
    address: Address
    had: Sequence[Had]
    counts: int


_NO_FOLDER, _NO_ACCOUNT = "the folder was not there", "they had no account there"
_UNSEEN = "whether the folder was there was not seen"
_NOT_TOLD = "whether they had an account there was not told"


@dataclass(frozen=True, slots=True)
class _ListSeen:
    """The list of a folder on the way at one count: its entries with bare identifiers, and the same in words."""

    path: bytes
    entries: tuple[str, ...]
    words: tuple[str, ...]
    owner: str


@dataclass(frozen=True)
class _Seen:
    """One count's answer, with what it rests on; `named` are the groups that lists speak of (None: others count).

    `told` are the groups that there were, `unread` what parts of the source were not read, and `untold` those of the
    person's groups of which a count beside this one told and this one could not.
    """

    rights: Right | None
    is_known: bool
    by: str
    groups: frozenset[str]
    states: tuple[str, ...]
    lists: tuple[_ListSeen, ...]
    missing: str
    named: frozenset[str] | None = None
    counts: FileCounts | None = None
    sorts: Mapping[tuple[tuple[str, ...], str], int] = field(default_factory=dict)
    decided: str = ""
    told: frozenset[str] = frozenset()
    unread: Counter[str] = field(default_factory=Counter)
    untold: frozenset[str] = frozenset()

    def beside(self, other: _Seen) -> _Seen:
        """Return the answer with what another count tells and this one could not, for less of its source was read."""
        is_untold_since = other.missing == _NOT_TOLD or bool(other.untold)
        if not (self.unread - other.unread or (is_untold_since and self.unread)):
            return self
        if self.missing == _NO_ACCOUNT and other.missing != _NO_ACCOUNT:
            return replace(self, is_known=False, missing=_NOT_TOLD)
        untold = (other.groups | other.untold) - self.told
        return replace(self, is_known=self.is_known and not untold, untold=untold)


def ask(office: Office, name: str, address: Address | str) -> History:
    """Return what a person had on a folder at every count; raises `UnknownNameError` for a person nobody knows."""
    address = office.address(address)
    person = office.find_person(name).id
    found: list[Had] = []
    last: tuple[CountInfo, _Seen] | None = None
    read = 0
    for count in counts_of(office, address.system):
        seen = _look(office, count, person, address)
        seen = seen if last is None else seen.beside(last[1])
        read += 1
        is_there = seen.missing != _NO_FOLDER
        said = count.day, seen.rights, seen.is_known, seen.counts, seen.by
        if last is None:
            found.append(Had(None, *said, (seen.missing or "the first count",), is_there))
        elif _is_other(last[1], seen):
            causes = tuple(_causes(last[1], seen)) or ("something that the counts do not tell",)
            found.append(Had(last[0].day, *said, causes, is_there))
        last = count, seen
    return History(person, address, found, read)


def _is_other(old: _Seen, new: _Seen) -> bool:
    """Tell whether they may do something else on the folder, or with its files, or by something else."""
    if (new.rights, new.is_known, new.decided, new.missing) != (old.rights, old.is_known, old.decided, old.missing):
        return True
    return any(_moved(old.counts, new.counts))


def _moved(old: FileCounts | None, new: FileCounts | None) -> tuple[int, int]:
    """Return of how many files at least somebody gained and lost something."""
    if old is None or new is None:
        return 0, 0
    moved = [
        moved_files(had, has, old.files - had, new.files - has)
        for had, has in ((old.read, new.read), (old.change, new.change), (old.delete, new.delete))
    ]
    return max(gained for gained, _ in moved), max(lost for _, lost in moved)


@dataclass(frozen=True, slots=True)
class Since:
    """Since when somebody has what they have: not yet at a count of `not_before` (None: there is none), by `day`."""

    not_before: date | None
    day: date


def ask_since(office: Office, address: Address | str) -> dict[str, Since]:
    """Return for everybody since when they have on a folder what they have now, without a break."""
    address = office.address(address)
    found: dict[str, Since] = {}
    open_: dict[str, tuple[Right, bool]] = {}
    day: date | None = None
    for count in reversed(list(counts_of(office, address.system))):
        here = _rights_at(office, count, address, None if day is None else open_)
        if day is None:
            open_ = {person: has for person, has in here.items() if has[0] or not has[1]}
        else:
            for person in [one for one, has in open_.items() if here.get(one) != has]:
                del open_[person]
                found[person] = Since(count.day, day)
        day = count.day
        if not open_:
            return found
    return found | {person: Since(None, day) for person in open_ if day is not None}


def _rights_at(
    office: Office, count: CountInfo, address: Address, only: Collection[str] | None
) -> dict[str, tuple[Right, bool]]:
    readers = office.readers_of(count)
    systems = office.systems_of(readers, count.day)
    try:
        location = find_location(readers[address.system], address)
    except UnknownNameError:
        return {}
    people = principals_by_person(systems.holders[address.system])
    asked = {
        person: systems.access(location, mine) for person, mine in people.items() if only is None or person in only
    }
    return {person: (one.rights, one.is_known) for person, one in asked.items()}


def counts_of(office: Office, system: str) -> Iterable[CountInfo]:
    """Yield the counts up to the one that is asked which looked at a system, with what older ones say of others."""
    for count in office.counts_until():
        if any(one.system == system for one in count.surveys):
            yield office.ledger.carried(count, office.plan.systems)


class Between:
    """Says what came between two counts, of what somebody's rights rest on."""

    def __init__(self, office: Office, older: CountInfo, newer: CountInfo) -> None:
        self._sides = []
        for count in (older, newer):
            readers = office.readers_of(count)
            self._sides.append((readers, office.systems_of(readers, count.day)))

    def causes(self, person: str, address: Address) -> tuple[str, ...]:
        """Return what changed; empty where the counts do not tell."""
        old, new = (
            _look_at(readers, systems, person, address)
            if address.system in readers
            else _Seen(None, True, "", frozenset(), (), (), "the system was not counted")
            for readers, systems in self._sides
        )
        return tuple(_causes(old.beside(new), new.beside(old)))


def _look(office: Office, count: CountInfo, person: str, address: Address) -> _Seen:
    readers = office.readers_of(count)
    return _look_at(readers, office.systems_of(readers, count.day), person, address)


def _look_at(readers: Mapping[str, SurveyReader], systems: Systems, person: str, address: Address) -> _Seen:
    reader = readers[address.system]
    principals = [one for one in systems.holders[address.system] if one.person == person]
    if not principals:
        return _Seen(None, True, "", frozenset(), (), (), _NO_ACCOUNT, unread=reader.unread)
    try:
        location = find_location(reader, address)
    except UnknownNameError:
        is_unseen = is_there(reader, address.path) is None
        mine = _groups(reader, principals), _states(principals)
        return _Seen(None, not is_unseen, "", *mine, (), _UNSEEN if is_unseen else _NO_FOLDER)
    access = systems.access(location, principals)
    names = names_of(reader)
    lists = tuple(_list_of(item, names) for item in location.chain)
    by = _by(access, names)
    groups = {one.ident: one.name for one in reader.groups}
    spoken = {ident for item in location.chain if item.access_list is not None for ident in item.access_list.named}
    named = None if reader.shared is not None else frozenset(groups[ident] for ident in spoken if ident in groups)
    mine = _groups(reader, principals), _states(principals)
    sorts: Counter[tuple[tuple[str, ...], str]] = Counter()
    for one in location.files or ():
        sorts[tuple(one.access_list.describe(_BARE)), one.owner] += one.files
    decided = _by(access, _BARE)
    told = frozenset(groups.values())
    return _Seen(
        *(access.rights, access.is_known, by, *mine, lists, "", named, access.counts, sorts, decided),
        told=told,
        unread=reader.unread,
    )


_BARE = BareIdents()


def _list_of(item: Item, names: Names) -> _ListSeen:
    if item.access_list is None:
        return _ListSeen(item.path, (), (), item.owner)
    entries, words = (tuple(item.access_list.describe(each)) for each in (_BARE, names))
    return _ListSeen(item.path, entries, words, item.owner)


def _groups(reader: SurveyReader, principals: Iterable[Principal]) -> frozenset[str]:
    names = {one.ident: one.name for one in reader.groups}
    return frozenset(names[ident] for one in principals for ident in one.holder.groups if ident in names)


def _states(principals: Iterable[Principal]) -> tuple[str, ...]:
    return tuple(f"{one.account.login}: {one.account.state.value}" for one in principals)


def _by(access: Access, names: Names) -> str:
    found = told_by(access.ways)
    if found is None:
        return ""
    way, gate, reason = found
    return f"{way.name}, {gate.name}: {word_entry(reason.entry, names)}"


def _causes(old: _Seen, new: _Seen) -> Iterable[str]:
    """Say what is other than at the count before, of what a person's rights rest on."""
    if new.missing:
        yield _NOW.get(new.missing, new.missing)
    elif old.missing:
        came = {_NO_FOLDER: "the folder came", _NO_ACCOUNT: "they got an account"}
        came |= {one: f"{one} before" for one in (_NOT_TOLD, _UNSEEN)}
        yield came.get(old.missing, "the system is new")
    if new.missing != _NOT_TOLD:
        yield from _moves(old, new)
    for state in new.states:
        if old.states and state not in old.states:
            yield f"the account {state}"
    known = {one.path: one for one in old.lists}
    for after in new.lists:
        before = known.get(after.path)
        if before is None:
            continue
        where = after.path.decode("utf-8", "surrogateescape")
        # Who has another name by now, or none, stands in the list as before.
        words = [f"gone: {word}" for word in _only_in(before, after)]
        words += [f"new: {word}" for word in _only_in(after, before)]
        if words:
            yield f"the list of {where}: {'; '.join(words)}"
        if after.owner != before.owner:
            yield f"the owner of {where}"
    yield from _file_causes(old, new)


_NOW = {
    _NO_FOLDER: "the folder is not there",
    _NO_ACCOUNT: "they have no account there",
    _UNSEEN: "whether the folder is there was not seen",
    _NOT_TOLD: "whether they have an account there was not told",
}


def _only_in(one: _ListSeen, other: _ListSeen) -> list[str]:
    """Return the words of the entries that only the first of two lists has."""
    return [word for entry, word in zip(one.entries, one.words, strict=True) if entry not in other.entries]


def _file_causes(old: _Seen, new: _Seen) -> Iterable[str]:
    """Say what is other about the files, where they may do something else with them."""
    if not any(_moved(old.counts, new.counts)):
        return
    sorts = old.sorts.keys() | new.sorts.keys()
    more = sum(max(0, new.sorts.get(one, 0) - old.sorts.get(one, 0)) for one in sorts)
    fewer = sum(max(0, old.sorts.get(one, 0) - new.sorts.get(one, 0)) for one in sorts)
    if min(more, fewer):
        yield f"files with another list or owner: {min(more, fewer):,}"
    if more > fewer:
        yield f"new files: {more - fewer:,}"


def _moves(old: _Seen, new: _Seen) -> Iterable[str]:
    """Say into and out of which groups they came; one that no list on the way speaks of changed nothing here."""
    # Of a folder that was not there its lists of now tell.
    named = [one.named for one in (old, new) if one.lists]
    telling = None if None in named or not named else frozenset().union(*(one for one in named if one is not None))
    for word, names in (("came into", new.groups - old.groups), ("left", old.groups - new.groups)):
        for name in sorted(names):
            if telling is None or name in telling:
                side, when = (old, " before") if word == "came into" else (new, "")
                is_told = name not in side.untold
                yield f"they {word} {name}" if is_told else f"the group {name} was not told{when}"
