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
from neatledger.core.steps.order import (
    Direction,
    Harm,
    Hinge,
    HingedOrder,
    Scope,
    is_harmless,
    meeting_groups,
    try_out,
)
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


@st.composite
def hinges(draw, steps: int) -> list[Hinge]:
    """Hinges of a few steps each, of which some sets harm somebody: never none of the steps, and never all."""
    found = []
    for _ in range(draw(st.integers(0, 4))):
        some = draw(st.lists(st.integers(0, steps - 1), min_size=1, max_size=min(3, steps), unique=True))
        sets = st.integers(1, max(1, (1 << len(some)) - 2))
        harms = draw(st.dictionaries(sets, st.tuples(st.integers(1, 7), st.just(0)), max_size=4))
        harms.pop((1 << len(some)) - 1, None)
        found.append(Hinge(tuple(some), harms, list(range(draw(st.integers(1, 2))))))
    return found


@given(st.integers(1, 6), st.data())
def test_of_few_steps_no_order_harms_less(number: int, data) -> None:
    """Beside all orders that keep what must come first: the least harm on the whole way, and told step by step."""
    some = data.draw(hinges(number))
    pairs = data.draw(st.lists(st.tuples(st.integers(0, number - 1), st.integers(0, number - 1)), max_size=3))
    needs = {}
    for first, second in pairs:
        if first < second:
            needs.setdefault(second, set()).add(first)
    order = HingedOrder(range(number), some, needs)
    placed = order.arrange()
    found = [one.number for one in placed]

    def harm(made: Sequence[int]) -> int:
        return sum(one.weight(one.set_of(made)) for one in some)

    def on_the_way(steps: Sequence[int]) -> int:
        return sum(harm(steps[:place]) for place in range(1, number + 1))

    def keeps(steps: Sequence[int]) -> bool:
        return all(steps.index(first) < steps.index(second) for second in needs for first in needs[second])

    orders = [each for each in permutations(range(number)) if keeps(each)]
    assert tuple(found) in orders
    assert on_the_way(found) == min(map(on_the_way, orders))
    for place, one in enumerate(placed):
        moved = [each for each in some if one.number in each.steps]
        assert (one.harm.weight if one.harm else 0) == sum(
            each.weight(each.set_of(found[: place + 1])) for each in moved
        )
        made = data.draw(st.sets(st.sampled_from(found)))
        is_well = needs.get(one.number, set()) <= made | {one.number} and not any(
            each.weight(each.set_of(made | {one.number})) for each in moved
        )
        assert order.is_harmless(one.number, made) == is_well


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


@given(st.lists(st.tuples(st.integers(0, 15), st.integers(0, 15)), min_size=2, max_size=4), st.integers(0, 15))
def test_of_steps_that_are_tried_out_each_is_the_first_that_harms_least(steps, start: int) -> None:
    prober = Toggles(steps, start)
    placed = try_out(range(len(steps)), prober)
    order = [one.number for one in placed]
    assert sorted(order) == list(range(len(steps)))
    first, last = int(prober.cells(())[0]), int(prober.cells(order)[0])

    def harm(made: Sequence[int]) -> tuple[int, int]:
        now = int(prober.cells(made)[0])
        return now & ~(first | last), first & last & ~now

    for number, one in enumerate(placed, start=1):
        extra, missing = harm(order[:number])
        told = one.harm or Harm((), ())
        assert [flags for _, flags in told.extra] == [extra] * bool(extra)
        assert [flags for _, flags in told.missing] == [missing] * bool(missing)
        assert is_harmless(prober, order, order[:number]) == (one.harm is None)
        weights = [
            sum(bits.bit_count() for bits in harm([*order[: number - 1], left]))
            for left in sorted(order[number - 1 :])
        ]
        here = told.weight
        assert here == min(weights)
        assert sorted(order[number - 1 :])[weights.index(here)] == one.number


@given(
    st.lists(
        st.tuples(
            st.sampled_from("st"),
            st.sets(st.sampled_from("pqr"), min_size=1),
            st.sampled_from([b"/", b"/a", b"/a/b", b"/ab", b"/c"]),
            st.booleans(),
            st.sampled_from(["", "", "c"]),
        ),
        max_size=6,
    ),
    st.sampled_from([{}, {1: [0]}]),
)
def test_what_may_hang_together_is_what_meets(drawn, needs) -> None:
    scopes = [Scope(s, frozenset(who), (top,), Direction.RAISES, fixed, c) for s, who, top, fixed, c in drawn]
    needs = needs if len(scopes) > 1 else {}
    found = {number: set(group) for group in meeting_groups(scopes, needs) for number in group}
    for here, one in enumerate(scopes):
        reached, waiting = {here}, [here]
        while waiting:
            place = waiting.pop()
            more = {number for number, other in enumerate(scopes) if scopes[place].meets(other)}
            more |= {0, 1} if needs and place in (0, 1) else set()
            waiting += more - reached
            reached |= more
        assert found[here] == reached
        for other in scopes:
            shares = one.people & other.people or one.is_fixed or other.is_fixed
            below = any(
                a == b or a == b"/" or a.startswith(b + b"/") or b == b"/" or b.startswith(a + b"/")
                for a in one.tops
                for b in other.tops
            )
            beside = bool(one.cluster and one.cluster == other.cluster and one.people & other.people)
            assert one.meets(other) == ((bool(shares) and below) if one.system == other.system else beside)


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
