"""Every kind of step on a small system in memory: the laws that all keep, their words, and where they do not fit."""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterable, Mapping
from copy import deepcopy
from dataclasses import dataclass, field, replace
from datetime import date
from types import SimpleNamespace
from typing import Any

import pytest

from neatledger.core.access.shares import Share
from neatledger.core.lists import nt, posix, role
from neatledger.core.lists.descriptors import Ace, Acl, Descriptor
from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right
from neatledger.core.lists.subjects import Subject
from neatledger.core.plan.limits import UNLIMITED, On, Settings
from neatledger.core.steps.accounts import AccountStep, ServiceStep, WholeAccountStep
from neatledger.core.steps.contract import FileSort, ItemState, Step
from neatledger.core.steps.devices import DeviceStep
from neatledger.core.steps.folders import FolderStep, PushStep
from neatledger.core.steps.grants import grant_steps
from neatledger.core.steps.groups import GroupStep
from neatledger.core.steps.hand_outs import HandOutStep
from neatledger.core.steps.limits import LimitStep
from neatledger.core.steps.links import LinkStep
from neatledger.core.steps.lists import FilesStep, ListStep, files_steps
from neatledger.core.steps.members import MemberStep
from neatledger.core.steps.shares import ShareStep
from neatledger.core.steps.table import KINDS, step_of_facts, step_to_facts
from neatledger.core.steps.teams import TeamStep
from neatledger.core.steps.whom import Sort, Whom
from neatledger.core.survey.accounts import Account, AccountState, Admission, Group
from neatledger.core.survey.limits import FoundLimit
from neatledger.core.survey.shared import Audience, Device, HandOut, Link, Member, Shared, TeamFolder, Towards
from neatledger.core.tree.address import Address
from neatledger.errors import FormatError, StepError
from neatledger.reports.mend import mend_report

READ, WRITE = LEVEL_RIGHTS[Level.READ], LEVEL_RIGHTS[Level.WRITE]
DAY, ANY = date(2026, 11, 2), 0xFFFFFFFF


class Words:
    """The names of the system in memory."""

    def user(self, ident: str) -> str:
        return {"11": "ada", "12": "ben"}.get(ident, ident)

    def group(self, ident: str) -> str:
        return {"31": "vets", "32": "desk"}.get(ident, ident)

    def holder(self, ident: str) -> str:
        return {"11": "ada", "12": "ben", "31": "vets"}.get(ident, ident)


@dataclass
class Memory:
    """A system as steps see it."""

    system: str = "barn"
    accounts: list[Account] = field(default_factory=list)
    groups: list[Group] = field(default_factory=list)
    facts: dict[str, Any] = field(default_factory=dict)
    shared: Shared | None = None
    folders: dict[bytes, ItemState] = field(default_factory=dict)
    files: dict[bytes, dict[FileSort, int]] = field(default_factory=dict)
    tells_files: bool = True

    def folder_state(self, path: bytes) -> ItemState | None:
        return self.folders.get(path)

    def put_folder(self, path: bytes, item: ItemState) -> None:
        self.folders[path] = item

    def make_folder(self, path: bytes, item: ItemState | None) -> None:
        if item is None:
            del self.folders[path]
        else:
            self.folders[path] = item

    def subfolders(self, path: bytes) -> Iterable[bytes]:
        return [one for one in self.folders if one != b"/" and (one.rpartition(b"/")[0] or b"/") == path]

    def file_sorts(self, path: bytes) -> Mapping[FileSort, int]:
        return self.files.get(path, {})

    def put_files(self, path: bytes, before: FileSort, after: FileSort, files: int) -> bool:
        if not self.tells_files:
            return False
        sorts = self.files[path]
        sorts[before] -= files
        sorts[after] = sorts.get(after, 0) + files
        self.files[path] = {one: number for one, number in sorts.items() if number}
        return True


def mode(bits: int, gid: int = 31) -> bytes:
    return posix.pack_body(bits, gid)


ITEM, SHUT = ItemState("11", mode(0o750)), ItemState("11", mode(0o700))
SORT, OTHER = FileSort("11", mode(0o640)), FileSort("12", mode(0o600))
ADA = Account("ada", "11", "31", name="Ada", admission=Admission(ends=DAY))
BEN = Account("ben", "12", "32", state=AccountState.DISABLED, may_use=False, last_seen=DAY)
TEAM = TeamFolder(b"/Cases", "Cases", (Member("ada", False, WRITE), Member("vets", True, READ)))
OUT = HandOut("h1", "ada", "ben", Towards.PERSON, b"/Cases/x", WRITE)
LINK = Link("k1", "ada", b"/Cases", WRITE, Audience.NAMED, ("ben", "cy"))
DEVICE = Device("d1", "ada", "Slate")
SHARE = Share("files", b"/", enters=frozenset({"11"}))
LIMIT = FoundLimit(On.FOLDER, "/a", 5_000_000_000, warn=(80,), by="quotas")


def system() -> Memory:
    """Return the system that all steps are tried on."""
    return Memory(
        accounts=[ADA, BEN],
        groups=[Group("vets", "31", ("ada",), ("32",)), Group("desk", "32", ("ben",)), Group("old", "33")],
        facts={"limits": [LIMIT.to_facts(), replace(LIMIT, on=On.PERSON, name="ada").to_facts()],
               "shares": [SHARE.to_facts()], "more": 1},
        shared=Shared((TEAM,), (OUT,), (LINK,), (DEVICE,)),
        folders={b"/": ITEM, b"/a": ITEM, b"/a/b": SHUT, b"/c": SHUT},
        files={b"/a": {SORT: 3, OTHER: 1}},
    )  # fmt: skip


def step(kind: type, *values: Any) -> Step:
    return kind("barn", *values)


DENIED = nt.pack_body(
    Descriptor(dacl=Acl((Ace(1, 0, 0x1F01FF, "S-1-5-21-1-2-3-12"), Ace(0, 0, 0x1200A9, "S-1-1-0"))))
)
ROLES = [
    role.pack_body([role.Entry(Subject.USER, "ada", rights), role.Entry(Subject.GROUP, "vets", READ)])
    for rights in (READ, WRITE)
]
FITTING: list[tuple[Step, str, str]] = [
    (step(ListStep, b"/a", "posix", ITEM, SHUT), "/a", "change: its own group: r-x → nothing (---)"),
    (step(ListStep, b"/a", "posix", ITEM, ItemState("12", ITEM.body)), "/a", "owner: ben"),
    (step(ListStep, b"/a", "posix", ITEM, ItemState("11", mode(0o750, 32))), "/a", ""),
    (step(ListStep, b"/a", "posix", ITEM, ItemState("11", ITEM.body, mode(0o750))), "/a", ""),
    (step(FilesStep, b"/a", "posix", SORT, FileSort("12", SORT.body), 3), "/a (files)",
     "of 3 files in it: owner: ben"),
    (step(FilesStep, b"/a", "posix", OTHER, SORT, 1, (0, 3)), "/a (files)", "of its one file: owner: ada; "),
    (step(FolderStep, b"/a/new", "posix", ITEM), "/a/new", "make the folder, owned by ada, with the list: "),
    (step(FolderStep, b"/new", "posix", ITEM), "/new", "make the folder, owned by ada, with the list: "),
    (step(FolderStep, b"/c", "posix", SHUT, False), "/c", "remove the empty folder"),
    (step(GroupStep, "34", "new", True), "new", "make the group new"),
    (step(GroupStep, "34", "new", True, "ben"), "new", "make the group new with ben in it"),
    (step(GroupStep, "33", "old", False), "old", "remove the group old"),
    (step(MemberStep, "31", "vets", "ben", False, True), "vets / ben", "put ben into the group vets"),
    (step(MemberStep, "32", "desk", "ben", False, False), "desk / ben", "take ben out of the group desk"),
    (step(MemberStep, "32", "desk", "33", True, True, "old"), "desk / old", "put the group old into the group desk"),
    (step(MemberStep, "31", "vets", "32", True, False), "vets / 32", "take the group 32 out of the group vets"),
    (step(AccountStep, "ada", AccountState.OPEN, AccountState.DISABLED), "ada", "close the account ada"),
    (step(AccountStep, "ada", AccountState.OPEN, AccountState.LOCKED), "ada", "close the account ada (locked)"),
    (step(AccountStep, "ben", AccountState.DISABLED, AccountState.OPEN), "ben", "open the account ben"),
    (step(ServiceStep, "ada", False), "ada", "switch the service off for the account ada"),
    (step(ServiceStep, "ben", True), "ben", "switch the service on for the account ben"),
    (step(WholeAccountStep, None, Account("cy", "13", "31"), ("31", "33")), "cy",
     "make the account cy in the groups vets, 33"),
    (step(WholeAccountStep, None, Account("cy", "13", "31")), "cy", "make the account cy"),
    (step(WholeAccountStep, BEN, None, ("32",)), "ben", "remove the account ben"),
    (step(LimitStep, On.FOLDER, "/a", Settings(5_000_000_000), Settings(UNLIMITED)), "/a",
     "set the limit to no limit (now 5 GB)"),
    (step(LimitStep, On.PERSON, "ada", Settings(5_000_000_000), Settings(0)), "person ada",
     "set the limit to 0 B (now 5 GB)"),
    (step(ShareStep, SHARE, replace(SHARE, read_only=True)), "files", "on the share files: make it read-only"),
    (step(ShareStep, SHARE, replace(SHARE, enters=None)), "files", "on the share files: who may come in: all"),
    (step(ShareStep, SHARE, replace(SHARE, enters=frozenset(), writers=frozenset({"12", "11"}))), "files",
     "on the share files: who may come in: -; who may write though it is read-only: ada, ben"),
    (step(TeamStep, TEAM, None), "/Cases", "end its sharing as a team folder"),
    (step(TeamStep, None, TeamFolder(b"/New", "New", TEAM.members)), "/New",
     "make it a team folder: let ada in with write; let the group vets in with read"),
    (step(TeamStep, None, TeamFolder(b"/New", "New")), "/New", "make it a team folder: without members"),
    (step(TeamStep, TEAM, replace(TEAM, is_on=False, ends=DAY, download=False)), "/Cases",
     "switch it off as a team folder; let it end on 2026-11-02; allow no downloading"),
    (step(TeamStep, TEAM, replace(TEAM, members=(Member("ada", False, READ),))), "/Cases",
     "give ada read in place of write; take the group vets out"),
    (step(TeamStep, TEAM, replace(TEAM, name="Other")), "/Cases", "change it"),
    (step(HandOutStep, OUT, None), "hand-out h1", "end the hand-out h1 from ada to ben"),
    (step(HandOutStep, None, replace(OUT, id="h2", giver="")), "hand-out h2",
     "hand it out from somebody not told to ben"),
    (step(HandOutStep, OUT, replace(OUT, expires=DAY, rights=READ, download=False)), "hand-out h1",
     "hand-out h1 from ada to ben: let it end on 2026-11-02, let it give less, allow no downloading"),
    (step(HandOutStep, OUT, replace(OUT, rights=WRITE | Right.SHARE)), "hand-out h1",
     "hand-out h1 from ada to ben: let it give more"),
    (step(LinkStep, LINK, None), "link k1", "end the link k1"),
    (step(LinkStep, None, replace(LINK, id="k2")), "link k2", "make the link k2"),
    (step(LinkStep, LINK, replace(LINK, is_on=False, expires=DAY, password=True, rights=READ, named=("ben",))),
     "link k1", "link k1: switch it off, let it end on 2026-11-02, guard it with a password, let it give less, "
     "let it be for cy no more"),
    (step(LinkStep, LINK, replace(LINK, rights=WRITE | Right.SHARE, download=False)), "link k1",
     "link k1: let it give more, allow no downloading"),
    (step(DeviceStep, DEVICE, None), "device d1", "erase the copies on Slate of ada"),
    (step(DeviceStep, None, replace(DEVICE, id="d2")), "device d2", "connect Slate"),
    (step(LimitStep, On.PERSON, "ada", Settings(5_000_000_000), Settings(5_000_000_000, False, 7)), "person ada",
     "make the limit of 5 GB watched, 7 days' grace (now enforced)"),
    (step(LimitStep, On.PERSON, "ada", Settings(5_000_000_000), Settings(4_000_000_000, False)), "person ada",
     "set the limit to 4 GB, watched (now 5 GB, enforced)"),
    (step(LimitStep, On.GROUP, "new", Settings(UNLIMITED), Settings(1000, False, 3)), "group new",
     "set the limit to 1 kB, watched, 3 days' grace (now no limit)"),
]  # fmt: skip


@pytest.mark.parametrize(("one", "target", "words"), FITTING, ids=range(len(FITTING)))
def test_what_fits_is_made_and_taken_back(one: Step, target: str, words: str) -> None:
    state, before = system(), system()
    one.apply(state)
    assert state != before, "a step changes something"
    with pytest.raises(StepError) as told:
        one.apply(state)
    assert told.value.where == one.where == f"barn: {target}"
    back = one.inverse()
    assert back.word(Words()) and back.target == target
    back.apply(state)
    ordered = [sorted(side.groups, key=lambda group: group.ident) for side in (state, before)]
    assert ordered[0] == ordered[1] and sorted(map(repr, state.accounts)) == sorted(map(repr, before.accounts))
    state.groups, state.accounts = before.groups, before.accounts
    assert state == before, "and its inverse leaves it as it was"
    assert back.inverse() == one == step_of_facts(step_to_facts(one))
    assert one.word(Words()).startswith(words)
    place = one.place
    assert place is None or (place.system == "barn" and place.path.startswith(b"/"))
    assert isinstance(place, Address) == (target.startswith("/") or isinstance(one, HandOutStep | LinkStep))


def test_every_kind_is_tried_here() -> None:
    assert {one.kind for one, _, _ in FITTING} | {PushStep.kind} == set(KINDS)
    for facts in ({"kind": "none", "system": "barn"}, {"system": "barn"}, 3, {"kind": "list", "system": "barn"}):
        with pytest.raises(FormatError):
            step_of_facts(facts)
    with pytest.raises(FormatError, match="something before it or after it"):
        step_of_facts({"kind": "link", "system": "barn", "before": None, "after": None})
    with pytest.raises(FormatError, match="made, or it is taken away"):
        step_of_facts({"kind": "whole account", "system": "barn", "before": None, "after": None, "groups": []})
    with pytest.raises(FormatError, match="no list model"):
        step_of_facts({"kind": "push", "system": "barn", "path": "/", "model": "none", "keeps_own": False})


def gone(path: bytes) -> Callable[[Memory], None]:
    return lambda state: state.folders.pop(path) and None


def changed(**values: Any) -> Callable[[Memory], None]:
    return lambda state: [setattr(state, name, value) for name, value in values.items()] and None


FITS_NOT: list[tuple[int, Callable[[Memory], None], str]] = [
    (0, gone(b"/a"), "the folder is not there"), (0, lambda state: state.put_folder(b"/a", SHUT), "is another one"),
    (4, gone(b"/a"), "the folder is not there"), (4, changed(files={b"/a": {SORT: 2}}), "2 files have that owner"),
    (4, changed(files={b"/a": {SORT: 3, FileSort("12", SORT.body): 1}}), "or others have it by now"),
    (4, changed(tells_files=False), "a count does not tell which"), (5, changed(files={b"/a": {SORT: 3}}), "0 files have"),
    (6, gone(b"/a"), "the folder that it would lie in is not there"), (6, lambda s: s.put_folder(b"/a/new", ITEM), "a folder of this name"),
    (8, gone(b"/c"), "the folder is not there"), (8, lambda state: state.put_folder(b"/c", ITEM), "is another one"),
    (8, lambda state: state.put_folder(b"/c/d", ITEM), "not empty any more"), (8, changed(files={b"/c": {SORT: 1}}), "not empty any more"),
    (9, changed(groups=[Group("new", "99")]), "a group of this name"), (9, changed(groups=[Group("x", "34")]), "a group of this name"),
    (10, changed(accounts=[ADA]), "there is no account ben"), (11, changed(groups=[]), "not there, or not alone"),
    (11, changed(groups=[Group("old", "33", ("ada",))]), "somebody else is in it"),
    (11, changed(groups=[Group("old", "33", (), ("31",))]), "somebody else is in it"),
    (11, changed(groups=[Group("old", "33", (), (), ("?",))]), "somebody else is in it"),
    (11, changed(groups=[Group("old", "33"), Group("x", "9", (), ("33",))]), "it is in another group"),
    (11, changed(groups=[Group("old", "33"), Group("x", "9", (), ("old",))]), "it is in another group"),
    (11, changed(accounts=[replace(ADA, primary="33")]), "somebody else is in it"),
    (11, changed(groups=[Group("old", "33"), Group("old", "9")]), "not there, or not alone"),
    (12, changed(groups=[]), "the group is not there"), (12, changed(groups=[Group("vets", "31", ("ben",))]), "they are in it already"),
    (13, changed(groups=[Group("desk", "32")]), "it is their primary group, which they keep"),
    (13, changed(groups=[Group("desk", "32")], accounts=[replace(BEN, primary="9")]), "they are not in it"),
    (14, changed(groups=[Group("desk", "32", (), ("old",)), Group("old", "33")]), "they are in it already"),
    (15, changed(groups=[Group("vets", "31", ("ada",))]), "they are not in it"),
    (16, changed(accounts=[]), "the account is not there"), (16, changed(accounts=[replace(ADA, state=AccountState.LOCKED)]), "is locked, and not open"),
    (19, changed(accounts=[replace(ADA, may_use=False)]), "the service is off for it already"),
    (20, changed(accounts=[replace(BEN, may_use=True)]), "the service is on for it already"),
    (21, changed(accounts=[Account("cy", "9", "9")]), "an account of this login"), (21, changed(groups=[Group("x", "9", ("cy",))]), "an account of this login"),
    (23, changed(accounts=[]), "it is not there"), (23, changed(accounts=[replace(BEN, name="B")]), "or its memberships are others"),
    (23, changed(groups=[Group("desk", "32")]), "or its memberships are others"),
    (24, changed(facts={"limits": [replace(LIMIT, limit=1).to_facts()]}), "the limit is 1 B, and not 5 GB"), (24, changed(facts={}), "tells no such limit"),
    (26, changed(facts={"shares": [replace(SHARE, writers=frozenset({"1"})).to_facts()]}), "its switches are others"),
    (26, changed(facts={"shares": None}), "the share is not there"), (29, changed(shared=None), "shares nothing beside its lists"),
    (29, changed(shared=Shared()), "not there any more"), (29, changed(shared=Shared((replace(TEAM, is_on=False),))), "not as it was"),
    (30, changed(shared=Shared((TeamFolder(b"/New", "x"),))), "it is there already"), (34, changed(shared=Shared()), "not there any more"),
]  # fmt: skip


@pytest.mark.parametrize(("number", "otherwise", "words"), FITS_NOT, ids=range(len(FITS_NOT)))
def test_what_does_not_fit_changes_nothing_and_says_why(
    number: int, otherwise: Callable[[Memory], None], words: str
) -> None:
    state = system()
    otherwise(state)
    before = deepcopy(state)
    with pytest.raises(StepError) as told:
        FITTING[number][0].apply(state)
    assert words in told.value.what and state == before


def test_a_list_pushed_down_is_made_of_the_steps_of_all_below() -> None:
    state = system()
    push = PushStep("barn", b"/a", "posix")
    with pytest.raises(StepError, match="passes no list on"):
        push.parts(state)
    state.folders[b"/a"] = ItemState("11", ITEM.body, mode(0o755))
    parts = push.parts(state)
    assert [one.target for one in parts] == ["/a (files)", "/a (files)", "/a/b"]
    push.apply(state)
    below = state.folders[b"/a/b"]
    assert below.default == mode(0o755) and below.owner == "11" and state.folders[b"/c"] == SHUT
    assert push.parts(state) == [], "what has it already needs nothing"
    with pytest.raises(StepError, match="taken back by what it was made of"):
        push.inverse()
    for part in reversed(parts):
        part.inverse().apply(state)
    assert state.folders[b"/a/b"] == SHUT and state.files == system().files
    assert push.word(Words()) == "push its list down to all below" and push.target == "/a (all below)"
    kept = replace(push, keeps_own=True)
    assert kept.word(Words()).endswith(", own entries there stay") and step_of_facts(step_to_facts(kept)) == kept
    with pytest.raises(StepError, match="the folder is not there"):
        PushStep("barn", b"/none", "posix").parts(state)


def test_files_that_become_another_sort_wait_for_those_that_leave_it() -> None:
    third = FileSort("12", SORT.body)
    steps = files_steps(
        "barn", b"/a", "posix", {SORT: 3, OTHER: 1, third: 2}, {SORT: OTHER, OTHER: third, third: third}
    )
    assert [(one.before, one.after, one.files, one.beside) for one in steps] == [
        (OTHER, third, 1, (0, 2)), (SORT, OTHER, 3, (0, 0)),
    ]  # fmt: skip
    assert files_steps("barn", b"/a", "posix", {SORT: 3}, {OTHER: SORT, SORT: SORT}) == []
    with pytest.raises(StepError, match="change places"):
        files_steps("barn", b"/a", "posix", {SORT: 3, OTHER: 1}, {SORT: OTHER, OTHER: SORT})


def test_of_a_list_of_which_much_changes_people_see_what_comes_first() -> None:
    named = b"".join(
        struct.pack("<HHI", *one)
        for one in ((1, 7, ANY), *((2, 5, 11 + n) for n in range(7)), (4, 5, ANY), (16, 7, ANY), (32, 0, ANY))
    )
    few = b"".join(
        struct.pack("<HHI", *one)
        for one in ((1, 7, ANY), *((2, 5, 11 + n) for n in range(5)), (4, 5, ANY), (16, 7, ANY), (32, 0, ANY))
    )
    for entries, ends in ((named, "; and 3 changes more (mend --script has all)"), (few, "give: user 15 (15) r-x")):
        change = step(ListStep, b"/a", "posix", ITEM, ItemState("11", posix.pack_body(0o750, 31, entries)))
        item = SimpleNamespace(step=change, effects=[], harm="", refused="", by_hand="", waits=False)
        report = mend_report([item], [[]], [], lambda system: Words(), lambda one: [], "today")
        (row,), (seen,) = report.rows, report.shown
        assert row["what"] == change.word(Words()) and str(seen["what"]).endswith(ends)
        assert len(str(seen["what"]).split("; ")) == 5


NOBODY_LEFT = ["take away: ", "take away: ", "nobody is in it then"]
CHANGES = [
    ("role", ROLES[0], ROLES[1], ["change: user ada: read → "]), ("role", ROLES[0], role.pack_body([]), NOBODY_LEFT),
    ("role", role.pack_body([]), ROLES[0], ["give: user ada", "give: group vets"]),
    ("nt", DENIED, nt.pack_body(Descriptor(dacl=Acl(()))), NOBODY_LEFT),
    ("posix", mode(0o750), mode(0o750, 32), ["owning group: desk"]),
    ("posix", mode(0o750), mode(0o700), ["change: its own group: r-x → nothing (---)"]),
    ("posix", mode(0o705), mode(0o750), ["change: its own group: nothing (---) → r-x", "change: everyone else: r-x → nothing (---)"]),
]  # fmt: skip


@pytest.mark.parametrize(("model", "before", "after", "lines"), CHANGES, ids=range(len(CHANGES)))
def test_a_change_of_a_list_is_told_entry_by_entry(model: str, before: bytes, after: bytes, lines: list[str]) -> None:
    items = ItemState("11", before), ItemState("11", after)
    told = ListStep("barn", b"/a", model, *items).changes(Words())
    assert len(told) == len(lines) and all(one.startswith(word) for one, word in zip(told, lines, strict=True)), told


ANNA, HERD, OUTER = "S-1-5-21-1-2-3-11", "S-1-5-21-1-2-3-31", "S-1-5-18"


def aces(*some: tuple[int, int, str]) -> bytes:
    return nt.pack_body(Descriptor(dacl=Acl(tuple(Ace(0, flags, mask, sid) for flags, mask, sid in some))))


def entries(body: bytes) -> list[tuple[int, int, str]]:
    dacl = nt.unpack_body(body).dacl
    return [] if dacl is None else [(one.flags, one.mask, one.sid) for one in dacl.aces]


def test_a_grant_is_passed_on_to_all_that_has_its_entries_from_above() -> None:
    top, mask = aces((0x3, 0x1F01FF, HERD)), 0x1200A9
    came, came_on_file = (0x13, 0x1F01FF, HERD), (0x10, 0x1F01FF, HERD)
    state = Memory(
        folders={
            b"/a": ItemState(OUTER, top), b"/a/b": ItemState(OUTER, aces(came)), b"/a/b/c": ItemState(OUTER, aces((0x3, 1, ANNA), came)),
            b"/a/shut": ItemState(OUTER, nt.pack_body(Descriptor(dacl=Acl(()), control=0x1004 | 0x8000))), b"/a/shut/d": ItemState(OUTER, aces((0x13, 1, ANNA))),
        },
        files={b"/a/b": {FileSort(OUTER, aces(came_on_file)): 2}, b"/a": {FileSort(OUTER, aces((0, 1, ANNA))): 1}},
    )  # fmt: skip
    steps = grant_steps(state, b"/a", "nt", Whom(Sort.USER, ANNA), READ)
    # The file in it never had what comes from above: it is not given it now.
    assert [one.target for one in steps] == ["/a", "/a/b", "/a/b (files)", "/a/b/c"]
    for one in steps:
        one.apply(state)
    assert entries(state.folders[b"/a"].body) == [(0x3, 0x1F01FF, HERD), (0x3, mask, ANNA)]
    assert entries(state.folders[b"/a/b"].body) == [came, (0x13, mask, ANNA)]
    # Its own entry stays before what comes from above.
    assert entries(state.folders[b"/a/b/c"].body) == [(0x3, 1, ANNA), came, (0x13, mask, ANNA)]
    assert entries(state.folders[b"/a/shut"].body) == [] and entries(state.folders[b"/a/shut/d"].body) == [
        (0x13, 1, ANNA)
    ]
    assert [entries(one.body) for one in state.files[b"/a/b"]] == [[came_on_file, (0x10, mask, ANNA)]]
    assert [entries(one.body) for one in state.files[b"/a"]] == [[(0, 1, ANNA)]]
    for one in reversed(steps):
        one.inverse().apply(state)
    assert entries(state.folders[b"/a/b/c"].body) == [(0x3, 1, ANNA), came]
