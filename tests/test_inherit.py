"""Pushing lists down, shares before lists, and whose accounts may be: each against a plainer way."""

from __future__ import annotations

import itertools
from dataclasses import replace

from hypothesis import given, settings
from hypothesis import strategies as st

from neatledger.core.access.matrix import Matrix
from neatledger.core.access.pushing import push_down
from neatledger.core.access.shares import WRITING, Share, SystemTerms
from neatledger.core.lists import nt
from neatledger.core.lists.contract import ItemContext
from neatledger.core.lists.holders import Crowd, Holder
from neatledger.core.lists.rights import EVERY_RIGHT, Right
from neatledger.core.lists.table import MODELS
from neatledger.core.people.matching import propose
from neatledger.core.people.membership import holders_of
from neatledger.core.people.principals import FoundAccounts, find_principals
from neatledger.core.plan.plan import Kind
from neatledger.core.survey.accounts import Account, Group
from neatledger.office.read import parse_plan
from strategies import WORLDS, descriptors, principals, trees

TOLD = (Right.ENTER, Right.LIST, Right.READ, Right.ADD, Right.CHANGE, Right.DELETE, Right.MANAGE)


@settings(max_examples=30)
@given(st.data(), st.sampled_from(WORLDS), st.booleans())
def test_a_push_changes_what_walking_down_item_by_item_changes(data, world, keeps_own) -> None:
    model, users = world.model, world.users
    bodies = data.draw(st.lists(world.bodies, min_size=1, max_size=5))
    folders, classes = data.draw(trees(len(bodies)))
    people = [replace(principal, person=f"q{n}") for n, principal in enumerate(data.draw(principals(world))[:6])]
    matrix = Matrix(folders, classes, bodies, users, people, terms=SystemTerms(model, model.asks_enter))
    top = data.draw(st.integers(0, folders.rows - 1))
    default = bodies[0] if model.name == "posix" else None
    found = list(push_down(matrix, bodies, default, top, keeps_own=keeps_own))

    def rights(body: bytes, owner: str, holder: Holder, is_folder: bool) -> Right:
        return model.parse(body).decide(ItemContext(owner, is_folder), holder).rights

    expected = {}

    def judge(row: int, files: int, before: bytes, after: bytes, owner: str) -> None:
        if before == after:
            return
        for principal in people:
            had, has = (rights(body, owner, principal.holder, not files) for body in (before, after))
            for right in TOLD:
                if (had ^ has) & right:
                    expected.setdefault((row, files, before, owner), set()).add(
                        (principal.person, right, bool(has & right))
                    )
        expected.setdefault((row, files, before, owner), set())

    def walk(row: int, above: bytes) -> None:
        sorts = {}
        for n in range(classes.rows):
            if classes["folder"][n] == row:
                key = bodies[classes["list"][n]], users[classes["owner"][n]]
                number = int(classes["list"][n]), int(classes["owner"][n])
                sorts[number] = (key, sorts.get(number, (key, 0))[1] + int(classes["files"][n]))
        for (before, owner), files in sorts.values():
            judge(row, files, before, model.pushed(above, before, owner, keeps_own=keeps_own, is_folder=False), owner)
        for child in range(folders.rows):
            if folders["parent"][child] == row:
                before, owner = bodies[folders["list"][child]], users[folders["owner"][child]]
                after = model.pushed(above, before, owner, keeps_own=keeps_own, is_folder=True)
                judge(child, 0, before, after, owner)
                walk(child, above if default is not None else after)

    walk(top, default if default is not None else bodies[folders["list"][top]])
    told = [
        (one.row, one.files, {(p, right, True) for p, given in one.gains.items() for right in TOLD if given & right}
         | {(p, right, False) for p, taken in one.loses.items() for right in TOLD if taken & right})
        for one in found
    ]  # fmt: skip
    by_place = lambda each: (each[0], each[1], sorted(map(str, each[2])))  # noqa: E731
    assert sorted(told, key=by_place) == sorted(
        ((row, files, what) for (row, files, _, _), what in expected.items()), key=by_place
    )


@given(descriptors(), st.booleans(), st.lists(WORLDS[1].holders, min_size=1, max_size=20))
def test_a_share_decides_for_a_crowd_as_for_each_and_read_only_takes_all_writing(found, is_cut, people) -> None:
    share = Share("s", b"/a", nt.pack_body(found), is_cut)
    again = Share.of_facts(share.to_facts())
    sets = again.decide_all(Crowd(people))
    for number, holder in enumerate(people):
        decision = share.decide(holder)
        for right in (
            Right.LIST,
            Right.READ,
            Right.ADD,
            Right.CHANGE,
            Right.ENTER,
            Right.DELETE,
            Right.MANAGE,
            Right.CLEAR,
        ):
            assert bool(decision.rights & right) == bool(sets[right] >> number & 1)
        assert decision.is_unsure == bool(sets[Right.UNSURE] >> number & 1)
        assert bool(decision.rights & EVERY_RIGHT) == bool(sets[Right.NONE] >> number & 1)
        if is_cut or not decision.rights & Right.ADD:
            assert not decision.rights & WRITING


def test_shares_lie_in_each_other_by_their_places_on_the_server() -> None:
    whole, inner, other = (Share("s", b"/s", place=place) for place in ("C:\\data", "c:/Data/Accounts/", "C:\\data2"))
    assert inner.lies_in(whole) and not whole.lies_in(inner) and not other.lies_in(whole)
    assert not Share("x", b"/x").lies_in(whole) and whole.lies_in(whole)
    assert [
        share.name for share in SystemTerms(MODELS["nt"], True, shares=(inner, whole)).covering([b"s", b"t"])
    ] == ["s", "s"]


NAMES = ["ada", "Ada", "bo", "cy"]
EMAILS = ["", "ada@x.example", "ADA@x.example", "both@x.example"]


@given(
    st.dictionaries(st.sampled_from(["ada", "bo", "cy"]), st.tuples(st.sampled_from(EMAILS), st.sampled_from([None, "ada", "zed"])), min_size=1),
    st.lists(st.tuples(st.sampled_from(["one", "two"]), st.sampled_from(NAMES), st.sampled_from(EMAILS)), max_size=6, unique_by=lambda one: one[:2]),
)  # fmt: skip
def test_proposals_are_those_of_equal_addresses_then_logins(people, accounts) -> None:
    taken = set()
    value = {}
    for person, (email, login) in people.items():
        value[person] = {"email": email} if email else {}
        if login and ("one", login) not in taken:
            taken.add(("one", login))
            value[person]["accounts"] = {"one": login}
    system = {"source": "listing", "path": "x"}
    plan = parse_plan(str({"office": "X", "systems": {"one": system, "two": system}, "people": value}), "x")
    found = {
        name: FoundAccounts(
            [
                Account(login, f"{n}", "", email=email)
                for n, (where, login, email) in enumerate(accounts, 2000)
                if where == name
            ],
            [],
        )
        for name in ("one", "two")
    }
    proposals = {(one.system, one.account.login): one for one in propose(plan, find_principals(plan, found))}
    for system_name, login, email in accounts:
        one = proposals.get((system_name, login))
        if (system_name, login) in taken:
            assert one is None, "what the plan joins is joined"
            continue
        known = {person: {(people[person][0] or "-").casefold()} for person in value}
        for (where, name), person in itertools.product(taken, value):
            if value[person].get("accounts", {}).get(where) == name:
                known[person] |= {each.casefold() for place, his, each in accounts if (place, his) == (where, name)}
        by_email = {person for person in value if email and email.casefold() in known[person]}
        logins = {
            person: {person.casefold(), *(each.casefold() for each in value[person].get("accounts", {}).values())}
            for person in value
        }
        by_login = {person for person in value if login.casefold() in logins[person]}
        wanted = by_email or by_login
        if wanted:
            assert one is not None and set(one.candidates) == wanted
            assert one.is_clear == (len(wanted) == 1)
        else:
            assert one is None or all(":" in other for other in one.candidates), "only another account of nobody's"


def test_groups_in_groups_count_for_those_whose_primary_group_lies_in_one() -> None:
    accounts = [Account("ada", "u1", "g1"), Account("bo", "u2", "g9")]
    groups = [
        Group("users", "g1"),
        Group("all", "g2", ("bo",), ("users",)),
        Group("every", "g3", (), ("all", "every")),
    ]
    ada, bo = holders_of(accounts, groups, frozenset({"S-1-1-0"}), {"g2": ["backup"], "u1": ["restore"]})
    assert ada.groups == {"g1", "g2", "g3", "S-1-1-0"} and ada.privileges == {"backup", "restore"}
    assert bo.groups == {"g9", "g2", "g3", "S-1-1-0"} and bo.privileges == {"backup"}
    assert (
        Kind.STAFF
        is find_principals(
            parse_plan("office: x\nsystems: {a: {source: smb, host: h}}\n", "x"),
            {"a": FoundAccounts(accounts, groups)},
        )["a"][0].kind
    )
