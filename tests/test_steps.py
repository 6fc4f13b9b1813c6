"""Steps by themselves: a grant changes nobody else's part of a list; an order is judged by trying every other."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import permutations

import numpy as np
from hypothesis import assume, given
from hypothesis import strategies as st

from neatledger.core.access.differences import COMPARED
from neatledger.core.lists.contract import ItemContext
from neatledger.core.lists.holders import Holder
from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right
from neatledger.core.lists.table import MODELS
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Kind
from neatledger.core.steps.contract import ItemState
from neatledger.core.steps.grants import set_holder
from neatledger.core.steps.narrowed import narrowed_item
from neatledger.core.steps.order import Direction, Harm, Scope, arrange, is_harmless
from neatledger.core.steps.wanted import Meant, wanted_item
from neatledger.core.steps.whom import Sort, Whom
from neatledger.core.survey.accounts import Account
from neatledger.errors import StepError
from strategies import WORLDS, World

GIVEN = [None, Right(0), LEVEL_RIGHTS[Level.READ], LEVEL_RIGHTS[Level.WRITE]]


@given(st.sampled_from(WORLDS), st.data(), st.booleans(), st.booleans())
def test_a_grant_changes_nobody_elses_part(world: World, data, is_group: bool, is_folder: bool) -> None:
    body = data.draw(world.bodies)
    names = world.groups if is_group else world.users
    whom = Whom(Sort.GROUP if is_group else Sort.USER, data.draw(st.sampled_from(names)))
    rights, other = data.draw(st.sampled_from(GIVEN)), data.draw(world.holders)
    assume(whom.ident not in other.idents | other.maybe and whom.ident != world.model.group_of(body))
    try:
        after = set_holder(world.model.name, body, whom, rights, is_folder=is_folder)
    except StepError:
        return
    context = ItemContext("nobody of these", is_folder)
    was, now = (world.model.parse(one) for one in (body, after))
    assert now.decide(context, other).rights == was.decide(context, other).rights
    # Set once more it stays, byte for byte; and whom no entry names but this one has what it says.
    assert set_holder(world.model.name, after, whom, rights, is_folder=is_folder) == after
    view = now.view(is_folder=is_folder)
    named = {**view.either, **(view.groups if is_group else view.users)}.get(whom.ident)
    if rights and whom.ident != "S-1-5-32-545":  # whoever signs in is in that group: it counts as everyone
        assert named is not None and named & Right.READ
        alone = Holder("x", "" if is_group else whom.ident, frozenset({whom.ident}) if is_group else frozenset())
        if world.model.name == "posix":
            told = now.decide(context, alone).rights
            assert bool(told & Right.READ) == bool(rights & Right.READ)
            assert bool(told & Right.CHANGE) == bool(rights & Right.CHANGE) or is_folder
    elif rights is None:
        assert named is None


class Toggles:
    """Cells that steps set and clear, each by a mask of its own; the last word on a bit is the last step's."""

    def __init__(self, steps: Sequence[tuple[int, int]], start: int) -> None:
        self.steps, self.start = steps, start

    def cells(self, made: Sequence[int]) -> np.ndarray:
        found = self.start
        # In the order of their numbers: what a set of steps makes does not hang on the order they are made in.
        for number in sorted(made):
            gives, takes = self.steps[number]
            found = (found | gives) & ~takes
        return np.array([found], np.int64)


@given(st.lists(st.tuples(st.integers(0, 15), st.integers(0, 15)), min_size=1, max_size=4), st.integers(0, 15))
def test_an_order_harms_nobody_where_the_first_harmless_steps_lead_to_one(steps, start: int) -> None:
    prober = Toggles(steps, start)
    scope = Scope("s", frozenset({"p"}), (b"/a",), Direction.BOTH)
    placed = arrange([scope] * len(steps), lambda _: prober)
    order = [one.number for one in placed]
    assert sorted(order) == list(range(len(steps)))
    first, last = int(prober.cells(())[0]), int(prober.cells(order)[0])

    def harm(made: Sequence[int]) -> tuple[int, int]:
        now = int(prober.cells(made)[0])
        return now & ~(first | last), first & last & ~now

    for number, one in enumerate(placed, start=1):
        if len(placed) == 1:
            break
        extra, missing = harm(order[:number])
        told = one.harm or Harm((), ())
        assert [flags for _, flags in told.extra] == [extra] * bool(extra)
        assert [flags for _, flags in told.missing] == [missing] * bool(missing)
        assert is_harmless(prober, order, order[:number]) == (one.harm is None)
        if one.harm:
            # No other step that was left would have harmed less at that point.
            weight = sum(bits.bit_count() for bits in (extra, missing))
            others = [harm([*order[: number - 1], left]) for left in order[number:]]
            assert all(sum(bits.bit_count() for bits in each) >= weight for each in others)
    if len(placed) > 1 and placed[0].harm:
        assert not any(harm(each[:1]) == (0, 0) for each in permutations(order))


@given(
    st.lists(
        st.tuples(
            st.sampled_from("st"),
            st.sets(st.sampled_from("pqr"), min_size=1),
            st.sampled_from([b"/", b"/a", b"/a/b", b"/ab", b"/c"]),
            st.booleans(),
        ),
        max_size=6,
    )
)
def test_what_hangs_together_is_what_meets(drawn) -> None:
    scopes = [Scope(s, frozenset(who), (top,), Direction.RAISES, fixed) for s, who, top, fixed in drawn]
    found = {one.number: set(one.members) for one in arrange(scopes, lambda _: Toggles([], 0))}
    for here, one in enumerate(scopes):
        reached, waiting = {here}, [here]
        while waiting:
            now = scopes[waiting.pop()]
            more = {number for number, other in enumerate(scopes) if now.meets(other)} - reached
            reached |= more
            waiting += more
        assert found[here] == reached
        for other in scopes:
            shares = one.people & other.people or one.is_fixed or other.is_fixed
            below = any(
                a == b or a == b"/" or a.startswith(b + b"/") or b == b"/" or b.startswith(a + b"/")
                for a in one.tops
                for b in other.tops
            )
            assert one.meets(other) == (one.system == other.system and bool(shares) and below)


@st.composite
def meant_folders(draw, world: World) -> tuple[ItemState, Meant]:
    """A folder with a list, and what the plan means there for a few people, with no holder of its own."""
    holders = draw(st.lists(world.holders, min_size=1, max_size=4, unique_by=lambda one: one.user))
    # Who may be in a group or not is told as unknown, and is no matter of a list.
    holders = [
        replace(one, login=f"l{n}", maybe=frozenset(), privileges=frozenset()) for n, one in enumerate(holders)
    ]
    people = [
        Principal(f"p{n % 3}", "", Kind.STAFF, "s", Account(f"l{n}", one.user, "0"), one, True)
        for n, one in enumerate(holders)
    ]
    rights = {f"p{n}": draw(st.sampled_from(GIVEN[1:])) for n in range(3)}
    groups = {
        ident: (f"name of {ident}", frozenset(one.login for one in holders if ident in one.groups))
        for ident in draw(st.permutations(world.groups))
    }
    owner = draw(st.sampled_from(world.users))
    return ItemState(owner, draw(world.bodies)), Meant(world.model.name, people, rights, [], groups)


def has_of(item: ItemState, meant: Meant, person: str) -> Right:
    """Return what a person has by all accounts, asked one at a time."""
    found = Right.NONE
    for one in meant.people:
        if one.person == person:
            found |= MODELS[meant.model].parse(item.body).decide(ItemContext(item.owner, True), one.holder).rights
    return found & COMPARED


@given(st.sampled_from(WORLDS), st.data())
def test_a_list_is_brought_to_the_plan_and_no_further(world: World, data) -> None:
    item, meant = data.draw(meant_folders(world))
    try:
        after = wanted_item(item, meant)
    except StepError:
        return
    # In whatever order a system tells its groups; and what is done is done.
    turned = replace(meant, groups=dict(reversed(meant.groups.items())))
    assert wanted_item(item, turned) == after
    assert wanted_item(after, meant) == after
    for person in {one.person for one in meant.people}:
        had, has, should = has_of(item, meant, person), has_of(after, meant, person), meant.rights[person] & COMPARED
        assert not has & ~should & ~had, "somebody was given more than the plan gives them"
        if Right.MANAGE not in should & ~has:
            assert not should & had & ~has, "somebody lost what the plan gives them"


@given(st.sampled_from(WORLDS), st.data())
def test_one_persons_part_in_a_list_is_narrowed_and_nobody_elses(world: World, data) -> None:
    item, meant = data.draw(meant_folders(world))
    names = sorted({one.person for one in meant.people})
    person = data.draw(st.sampled_from(names))
    level = data.draw(st.sampled_from([Level.NONE, Level.LIST, Level.READ]))
    try:
        after = narrowed_item(world.model.name, item, meant.people, meant.groups, {person: level})
    except StepError:
        return
    for one in names:
        had, has = has_of(item, meant, one), has_of(after, meant, one)
        if one == person:
            assert not has & ~(LEVEL_RIGHTS[level] & had) & ~Right.MANAGE, "more is left than was decided"
        else:
            assert (has ^ had) & ~Right.MANAGE == Right.NONE, "somebody else lost something, or was given it"
