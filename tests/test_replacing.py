"""One holder given the place of others in all lists, on shares and in team folders: who has what stays as it was."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import product

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatledger.core.access.shares import Share
from neatledger.core.lists import nfs4, nt, posix, role
from neatledger.core.lists.contract import ItemContext, Maker
from neatledger.core.lists.descriptors import Acl, Descriptor
from neatledger.core.lists.holders import Holder
from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right
from neatledger.core.lists.subjects import Subject
from neatledger.core.lists.table import MODELS
from neatledger.core.steps.contract import FileSort, ItemState
from neatledger.core.steps.grants import set_holder
from neatledger.core.steps.owners import owner_steps
from neatledger.core.steps.regrouping import (
    group_in_place_of_people,
    holder_in_place_of_group,
    in_place_on_shares,
    without_covered,
)
from neatledger.core.steps.reteaming import in_place_in_teams
from neatledger.core.steps.whom import Sort, Whom
from neatledger.core.survey.shared import Member, Reply, Shared, TeamFolder
from neatledger.errors import StepError
from neatledger.formats.posixacl import pack_entries
from strategies import posix_bodies, posix_entries
from test_step_kinds import Memory

READ, WRITE = LEVEL_RIGHTS[Level.READ], LEVEL_RIGHTS[Level.WRITE]
PATHS = [b"/", b"/a", b"/a/b"]
SID = "S-1-5-21-7-7-7-"
EMPTY = {
    "nt": nt.pack_body(Descriptor(dacl=Acl(()))), "nfs4": nfs4.pack_body("0", []),
    "role": role.pack_body([role.Entry(Subject.OWNER, "", READ)]),
}  # fmt: skip
# Two people and two groups; nobody on a list of the first three models but who is drawn.
PEOPLE = {model: ["11", "12"] if model != "nt" else [f"{SID}11", f"{SID}12"] for model in MODELS}
GROUPS = {model: ["21", "22"] if model != "nt" else [f"{SID}21", f"{SID}22"] for model in MODELS}
STRANGER = {model: "19" if model != "nt" else f"{SID}19" for model in MODELS}
given_rights = st.sampled_from([None, None, READ, WRITE, Right.READ | Right.LIST | Right.ENTER | Right.ADD])


def _owned(body: bytes, owning: Sequence[str]) -> bytes:
    """Return a POSIX list whose owning group is the last of some, where some are said."""
    return body[:2] + int(owning[-1]).to_bytes(4, "little") + body[6:] if owning else body


@st.composite
def systems(draw, model: str) -> Memory:
    """Three folders in one another, with a sort of files in each; what is set above comes down, where it does."""
    found = Memory()
    if model == "posix":
        # In half of them the first group owns nothing: what it gives, it gives by entries alone.
        owning = draw(st.sampled_from([(), GROUPS["posix"]]))
        for path in PATHS:
            # A default list is entries alone, whatever the mode of its folder.
            default = draw(st.none() | posix_entries().map(lambda some: posix.pack_body(0, 0, pack_entries(some))))
            owner = draw(st.sampled_from(["11", "19"]))
            found.folders[path] = ItemState(owner, _owned(draw(posix_bodies()), owning), default)
            found.files[path] = {
                FileSort(draw(st.sampled_from(["11", "19"])), _owned(draw(posix_bodies()), owning)): 2
            }
        return found
    above = EMPTY[model]
    for path in PATHS:
        body = above
        if path == b"/" or draw(st.booleans()):
            for sort, ident in [*product([Sort.USER], PEOPLE[model]), *product([Sort.GROUP], GROUPS[model])]:
                rights = draw(given_rights)
                if rights:
                    body = set_holder(model, body, Whom(sort, ident), rights, is_folder=True)
        maker = Maker("9", "9") if model != "nt" else Maker(f"{SID}9", f"{SID}8")
        found.folders[path] = ItemState(maker.user, body)
        found.files[path] = {FileSort(maker.user, MODELS[model].new_child(body, None, maker, is_folder=False)): 3}
        above = MODELS[model].new_child(body, None, maker, is_folder=True)
    return found


def rights(state: Memory, model: str, user: str, *groups: str) -> list[Right]:
    """Return what somebody has on each folder and on the files in it, by its list alone."""
    holder = Holder("x", user, frozenset(groups) | MODELS[model].everyone_has)
    found = []
    for path in PATHS:
        item, (sort,) = state.folders[path], state.files[path]
        for owner, body, is_folder in ((item.owner, item.body, True), (sort.owner, sort.body, False)):
            found.append(MODELS[model].parse(body).decide(ItemContext(owner, is_folder), holder).rights)
    return found


def copied(state: Memory) -> Memory:
    return replace(state, folders=dict(state.folders), files={path: dict(some) for path, some in state.files.items()})


def made(state: Memory, model: str, steps: list) -> Memory:
    """Return the system after steps that were drawn up on a copy of it; each fits, and all can be taken back."""
    after = copied(state)
    for one in steps:
        one.apply(after)
    back = copied(after)
    for one in reversed(steps):
        one.inverse().apply(back)
    assert back == state
    return after


@pytest.mark.parametrize("model", MODELS)
@given(data=st.data())
def test_a_group_in_place_of_another_gives_its_people_what_both_gave(model: str, data) -> None:
    state = data.draw(systems(model))
    (old, new), (ada, _), other = GROUPS[model], PEOPLE[model], STRANGER[model]
    try:
        steps = holder_in_place_of_group(copied(state), model, Whom(Sort.GROUP, old), Whom(Sort.GROUP, new))
    except StepError as error:
        assert model == "posix" and "not together" in error.what
        return
    after = made(state, model, steps)
    for user in (ada, other):
        assert rights(after, model, user, new) == rights(state, model, user, old, new)
        assert rights(after, model, user) == rights(state, model, user) == rights(after, model, user, old)
    assert holder_in_place_of_group(after, model, Whom(Sort.GROUP, old), Whom(Sort.GROUP, new)) == []


@pytest.mark.parametrize("model", MODELS)
@given(data=st.data())
def test_a_person_in_place_of_a_group_has_what_it_gave(model: str, data) -> None:
    state = data.draw(systems(model))
    (old, kept), (_, ben), other = GROUPS[model], PEOPLE[model], STRANGER[model]
    try:
        steps = holder_in_place_of_group(copied(state), model, Whom(Sort.GROUP, old), Whom(Sort.USER, ben))
    except StepError as error:
        assert model == "posix" and ("only a group can" in error.what or "not together" in error.what)
        return
    after = made(state, model, steps)
    assert rights(after, model, other, old) == rights(after, model, other) == rights(state, model, other)
    assert rights(after, model, other, kept) == rights(state, model, other, kept)
    was, now = rights(state, model, ben, old), rights(after, model, ben)
    if model != "posix":
        assert now == was
        return
    # There an entry for a person is asked alone, and one that was there stays at least as it was.
    bodies = [
        body for path in PATHS for body in (state.folders[path].body, *(sort.body for sort in state.files[path]))
    ]
    for body, before, then in zip(bodies, was, now, strict=True):
        is_named = any(one.tag == posix.USER and str(one.ident) == ben for one in posix.unpack_entries(body))
        assert then == before if not is_named else not before & ~then, body


@pytest.mark.parametrize("model", MODELS)
@given(data=st.data())
def test_a_group_in_place_of_people_gives_them_what_their_entries_gave(model: str, data) -> None:
    state = data.draw(systems(model))
    group, people, other = GROUPS[model][0], PEOPLE[model], STRANGER[model]
    if model != "posix" and any(
        group in view.groups | view.either
        for view in (MODELS[model].parse(item.body).view(is_folder=True) for item in state.folders.values())
    ):
        return
    after = made(state, model, group_in_place_of_people(copied(state), model, people, Whom(Sort.GROUP, group)))
    assert rights(after, model, other) == rights(state, model, other)
    if model != "posix":
        assert rights(after, model, other, GROUPS[model][1]) == rights(state, model, other, GROUPS[model][1])
    for one in people:
        # On POSIX systems lists that name the group already are left as they are.
        was = rights(state, model, one, *([group] if model == "posix" else []))
        assert rights(after, model, one, group) == was


@pytest.mark.parametrize("model", MODELS)
@given(data=st.data())
def test_entries_that_a_group_covers_go_and_nobody_in_it_notices(model: str, data) -> None:
    state = data.draw(systems(model))
    (group, inner), (ada, ben), other = GROUPS[model], PEOPLE[model], STRANGER[model]
    covered = [Whom(Sort.USER, ada), Whom(Sort.GROUP, inner)]
    after = made(state, model, without_covered(copied(state), model, Whom(Sort.GROUP, group), covered))
    for user, groups in ((ada, [group]), (ben, [group, inner]), (ben, [group]), (other, []), (other, [group])):
        assert rights(after, model, user, *groups) == rights(state, model, user, *groups)
    gives = list(zip(rights(state, model, other, group), rights(state, model, other, inner), strict=True))
    for (mine, theirs), item in zip(gives[::2], after.folders.values(), strict=True):
        view = MODELS[model].parse(item.body).view(is_folder=True)
        if model != "posix" and group in view.groups | view.either and not theirs & ~mine:
            assert inner not in view.groups | view.either, "what the group gives too is gone"


def test_owners_are_given_where_groups_may_own() -> None:
    body = posix.pack_body(0o2770, 21)
    state = Memory(
        folders={b"/": ItemState("11", body, body), b"/a": ItemState("12", posix.pack_body(0o700, 22))},
        files={b"/": {FileSort("11", posix.pack_body(0o640, 21)): 2, FileSort("12", posix.pack_body(0o640, 22)): 1}},
    )
    after = copied(state)
    for one in owner_steps(copied(state), b"/", "posix", "22"):
        one.apply(after)
    assert after.folders == {
        b"/": ItemState("11", posix.pack_body(0o2770, 22), body), b"/a": state.folders[b"/a"],
    }  # fmt: skip
    given = posix.pack_body(0o640, 22)
    assert after.files[b"/"] == {FileSort("11", given): 2, FileSort("12", given): 1}
    assert owner_steps(after, b"/", "posix", "22") == []
    descriptor = ItemState(f"{SID}11", EMPTY["nt"])
    owned = Memory(folders={b"/": descriptor}, files={b"/": {FileSort(f"{SID}11", EMPTY["nt"]): 1}})
    for one in owner_steps(owned, b"/", "nt", f"{SID}21"):
        one.apply(owned)
    assert owned.folders[b"/"] == replace(descriptor, owner=f"{SID}21")
    assert list(owned.files[b"/"]) == [FileSort(f"{SID}21", EMPTY["nt"])]
    for model in ("nfs4", "role"):
        with pytest.raises(StepError, match="nothing belongs to a group"):
            owner_steps(state, b"/", model, "22")
    with pytest.raises(StepError, match="the folder is not there") as told:
        owner_steps(state, b"/none", "posix", "22")
    assert told.value.where == "barn: /none"


VETS, DESK = Whom(Sort.GROUP, f"{SID}21", "vets"), Whom(Sort.GROUP, f"{SID}22", "desk")


def permission(*some: tuple[Whom, Right]) -> bytes:
    body = EMPTY["nt"]
    for who, has in some:
        body = set_holder("nt", body, who, has, is_folder=True)
    return body


@pytest.mark.parametrize(
    ("before", "after"),
    [
        (Share("s", b"/", permission((VETS, READ))), Share("s", b"/", permission((DESK, READ)))),
        (
            Share("s", b"/", permission((VETS, WRITE), (DESK, READ))),
            Share("s", b"/", permission((DESK, WRITE | READ))),
        ),
        (Share("s", b"/", permission((DESK, READ))), None),
        (
            Share("s", b"/", enters=frozenset({VETS.ident, "x"}), writers=frozenset({VETS.ident})),
            Share("s", b"/", enters=frozenset({DESK.ident, "x"}), writers=frozenset({DESK.ident})),
        ),
        (Share("s", b"/", writers=frozenset({VETS.ident})), Share("s", b"/", writers=frozenset({DESK.ident}))),
        (Share("s", b"/", enters=frozenset({"x"})), None),
    ],
)
def test_on_shares_a_holder_takes_the_place_of_a_group(before: Share, after: Share | None) -> None:
    state = Memory(facts={"shares": [before.to_facts(), Share("other", b"/a").to_facts()]})
    steps = in_place_on_shares(state, VETS, DESK)
    assert [(one.before, one.after) for one in steps] == ([] if after is None else [(before, after)])
    assert in_place_on_shares(Memory(facts={"shares": None}), VETS, DESK) == []


ADA, BEN, CY = (Whom(Sort.USER, ident, name) for ident, name in (("11", "ada"), ("12", ""), ("13", "cy")))
A, B, V = Member("ada", False, READ), Member("12", False, READ), Member("vets", True, READ)
D = Member("desk", True, WRITE)


@pytest.mark.parametrize(
    ("members", "old", "new", "after"),
    [
        ((A, B, V), [ADA, BEN], DESK, (Member("desk", True, READ), V)),
        ((V, B, A), [ADA, BEN], DESK, (V, Member("desk", True, READ))),
        ((A, B), [ADA, BEN], CY, (Member("cy", False, READ),)),
        ((A, B), [ADA], BEN, (B,)),
        ((V, A), [VETS], CY, (Member("cy", False, READ), A)),
        ((A, B, D), [ADA, BEN], DESK, (Member("desk", True, READ | WRITE),)),
        ((D, A, B), [ADA, BEN], DESK, (Member("desk", True, READ | WRITE),)),
        ((V, D), [VETS], DESK, (Member("desk", True, READ | WRITE),)),
        ((A, V), [ADA, BEN], DESK, None),
        ((A, replace(B, rights=WRITE)), [ADA, BEN], DESK, None),
        ((A, replace(B, reply=Reply.WAITING)), [ADA, BEN], DESK, None),
        ((Member("vets", False, READ),), [VETS], DESK, None),
        ((V,), [ADA], DESK, None),
        ((V,), [], DESK, None),
    ],
    ids=range(14),
)
def test_in_team_folders_somebody_takes_the_place_of_members_alike(
    members: tuple[Member, ...], old: list[Whom], new: Whom, after: tuple[Member, ...] | None
) -> None:
    state = Memory(shared=Shared((TeamFolder(b"/T", "T", members), TeamFolder(b"/none", "none"))))
    steps = in_place_in_teams(state, old, new)
    assert [one.after.members for one in steps] == ([] if after is None else [after])
    assert in_place_in_teams(Memory(), old, new) == []


def allow(flags: int, who: str, mask: int = 0x1200A9) -> nfs4.Entry:
    return nfs4.Entry(nfs4.ALLOW, flags, mask, who)


OLD, NEW = nfs4.pack_body("0", [allow(0x43, "21")]), nfs4.pack_body("0", [allow(0x43, "21"), allow(0x3, "11")])
MARKED, ADDED, PLAIN = allow(0xC3, "21"), allow(0x83, "11"), allow(0x43, "21")


@pytest.mark.parametrize(
    ("child", "old", "new", "after"),
    [
        ([MARKED], OLD, NEW, [MARKED, ADDED]),
        ([allow(0, "12"), MARKED], OLD, NEW, [allow(0, "12"), MARKED, ADDED]),
        ([MARKED, ADDED], NEW, OLD, [MARKED]),
        ([MARKED], OLD, nfs4.pack_body("0", []), []),
        # Servers that mark nothing.
        ([allow(0, "12"), PLAIN], OLD, NEW, [allow(0, "12"), PLAIN, allow(0x3, "11")]),
        ([PLAIN, allow(0, "12")], OLD, NEW, None),
        # Nothing came down before: the child's own entries are all that it has.
        ([allow(0, "12")], nfs4.pack_body("0", []), OLD, [allow(0, "12"), MARKED]),
        ([], nfs4.pack_body("0", []), OLD, [MARKED]),
        # Closed to what is above, in part or whole, or it came from elsewhere.
        ([allow(0, "12")], OLD, NEW, None),
        ([], OLD, NEW, None),
        ([MARKED], NEW, OLD, None),
        ([MARKED, allow(0, "12")], OLD, NEW, None),
        ([allow(0x83, "12")], OLD, NEW, None),
    ],
    ids=range(13),
)
def test_what_was_closed_to_the_list_above_stays_closed(
    child: list[nfs4.Entry], old: bytes, new: bytes, after: list[nfs4.Entry] | None
) -> None:
    body = nfs4.pack_body("7", child)
    found = MODELS["nfs4"].followed(old, new, body, "9", is_folder=True)
    assert found == (body if after is None else nfs4.pack_body("7", after))
