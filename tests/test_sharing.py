"""Team folders, hand-outs and links: three evaluations that must agree, and what taking back takes."""

from __future__ import annotations

import json
from dataclasses import replace
from datetime import date
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from neatledger.core.access.everyone import FLAG_RIGHTS, Everyone, RowFilter, flag_rights
from neatledger.core.lists.holders import Holder
from neatledger.core.lists.rights import Right
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Kind
from neatledger.core.plan.rules import PlacedRule, RuleOn, SharingRule, tightest
from neatledger.core.sharing.judging import Exposed, Offer, judge_offer, pass_on_depth
from neatledger.core.sharing.service import Service
from neatledger.core.sharing.takeback import find_losses, take_back
from neatledger.core.survey.accounts import Account
from neatledger.core.survey.shared import HandOut, Shared, Towards, fingerprint_of
from neatledger.core.tree.columns import SeenState
from neatledger.formats.shared import Fields, link_of, rule_from
from neatledger.office.read import parse_plan
from shared_offices import Office, offices, rules, slow_rights

VECTORS = Path(__file__).parent / "vectors"
SHOWN = sum(FLAG_RIGHTS)


def _by_ways(office: Office) -> dict[tuple[int, int, str], Right]:
    found = {}
    for row in range(office.tree.folders.rows):
        ways = office.ways(row)
        for number in range(len(office.service.principals)):
            for way in ways.access([number]).ways:
                if way.rights:
                    key = row, number, way.name
                    found[key] = found.get(key, Right.NONE) | way.rights
    return found


@settings(deadline=None, max_examples=12)
@given(offices())
def test_every_person_folder_and_way_is_as_the_slow_evaluator_has_it(office) -> None:
    slow = slow_rights(office)
    keep = ~(Right.CLEAR_OWN | Right.UNSURE)
    assert {key: rights & keep for key, rights in _by_ways(office).items() if rights & keep} == {
        key: rights & keep for key, rights in slow.items() if rights & keep
    }


@settings(deadline=None, max_examples=12)
@given(offices())
def test_everyone_at_once_is_each_alone(office) -> None:
    wide, narrow = Everyone(office.matrix(False)), Everyone(office.matrix(True))
    ways = [office.ways(row) for row in range(office.tree.folders.rows)]
    seen = set()
    for everyone in (wide, narrow):
        for block in everyone.blocks(RowFilter.ALL):
            counts = block.counts
            files = (counts.files, counts.read, counts.change, counts.delete)
            numbers = (block.folder, block.column, block.flags, block.unknown, *files)
            for row, place, flags, unknown, *counts in zip(*(each.tolist() for each in numbers), strict=True):
                column = everyone.columns[place]
                asked = ways[row].access(column.principals)
                mine = [way for way in asked.ways if column.way in ("any", way.name)]
                if everyone is narrow and column.way == "share":
                    mine = [way for way in asked.ways if way.name != "admin"]
                rights = Right.NONE
                for way in mine:
                    rights |= way.rights
                where = (row, column, [way.name for way in mine])
                assert flag_rights(flags) == Right(rights & SHOWN), where
                is_known = asked.is_known if column.way == "any" else all(way.is_known for way in mine)
                assert unknown == (not is_known), where
                seen.add((row, place))
                if len(mine) == 1 and not unknown:
                    told = mine[0].counts
                    expected = [-1] * 4 if told is None else [told.files, told.read, told.change, told.delete]
                    assert counts[1:] == expected[1:], (where, counts, expected)
    assert len(seen) >= office.tree.folders.rows * len(office.service.principals)
    shown = {
        (f, c) for block in wide.blocks(RowFilter.DIFFER) for f, c in zip(block.folder, block.column, strict=True)
    }
    cells, with_files = {}, set()
    states = wide.matrix.folders["state"]
    for block in wide.blocks(RowFilter.ALL):
        numbers = block.folder, block.column, block.flags, block.unknown, *_numbers_of(block.counts)
        for folder, column, flags, unknown, *files in zip(*(each.tolist() for each in numbers), strict=True):
            cells[folder, column] = flags, unknown
            # Where entering is not asked for, a folder of which somebody has nothing but files has a row of its own.
            is_bare = not (flags or unknown or wide.matrix.terms.asks_enter) and states[folder] == SeenState.WHOLE
            if is_bare and any(files):
                with_files.add((folder, column))
    for (row, column), cell in cells.items():
        above = int(office.tree.folders["parent"][row])
        before = cells[above, column] if above >= 0 else (0, False)
        assert ((row, column) in shown) == (cell != before or (row, column) in with_files)


def _numbers_of(counts):
    return counts.read, counts.change, counts.delete


@settings(deadline=None, max_examples=8)
@given(offices().filter(lambda office: any(one.holder.maybe for one in office.service.principals)), st.data())
def test_what_is_known_is_so_whoever_is_in_the_groups_that_were_not_told(office, data) -> None:
    principals = office.service.principals

    def told(rights) -> tuple[Right, ...]:
        # Who may take a file away may look at it: no way need say so.
        return tuple(each & ~Right.VIEW if each & Right.READ else each for each in rights)

    def settled(groups) -> Office:
        holders = [
            replace(one.holder, groups=one.holder.groups | groups(one.holder), maybe=frozenset())
            for one in principals
        ]
        ready = [replace(one, holder=holder) for one, holder in zip(principals, holders, strict=True)]
        return replace(office, service=replace(office.service, principals=ready))

    some = [
        settled(lambda holder: frozenset()), settled(lambda holder: holder.maybe),
        *(settled(lambda holder: frozenset(g for g in sorted(holder.maybe) if data.draw(st.booleans()))) for _ in range(3)),
    ]  # fmt: skip
    for row in range(office.tree.folders.rows):
        ways, others = office.ways(row), [one.ways(row) for one in some]
        for number, principal in enumerate(principals):
            asked, answers = ways.access([number]), [one.access([number]) for one in others]
            if asked.is_known:
                known = {told((one.rights,)) for one in answers if one.is_known}
                assert known == {told((asked.rights,))}, (row, number)
                classes = [told(one.file_rights) for one in answers if one.file_rights is not None]
                for place, rights in enumerate(told(asked.file_rights or ())):
                    assert rights & Right.UNSURE or {each[place] for each in classes} == {rights}, (row, number)
            # Nothing is unknown that is the same either way: what a role gives hangs on that alone.
            teams = [
                [(way.rights, way.is_known) for way in one.ways if way.name == "team"] for one in (asked, *answers)
            ]
            if teams[0] and principal.holder.maybe and all(each == teams[1] for each in teams[2:]):
                assert teams[0][0][1] or not teams[1][0][1] or teams[0][0][0] == teams[1][0][0]


@settings(deadline=None, max_examples=20)
@given(offices(), st.data())
def test_taking_back_takes_exactly_what_vanishes(office, data) -> None:
    shared, names = office.service.shared, [principal.account.login for principal in office.service.principals]
    words = [f"link:{one.id}" for one in shared.links] + [f"hand-out:{one.id}" for one in shared.hand_outs]
    words += [f"member:{team.path.decode()}={member.holder}" for team in shared.teams for member in team.members]
    words += [f"guest:{name}" for name in names]
    after, told, top = take_back(office.service, data.draw(st.sampled_from(words)))
    assert told
    then = replace(office, service=after)
    slow = {}
    now = slow_rights(then)
    for key, rights in slow_rights(office).items():
        gone = Right(rights & SHOWN & ~now.get(key, Right.NONE))
        if gone:
            slow[key] = gone
    losses = find_losses(Everyone(office.matrix(False)), Everyone(then.matrix(False)), [top])
    assert {(one.folder, one.principal, one.way): one.lost for one in losses} == slow
    people = [principal.person for principal in office.service.principals]
    for one in losses:
        mine = [number for number, person in enumerate(people) if person == people[one.principal]]
        kept = Right.NONE
        for (row, number, _), rights in now.items():
            kept |= rights if row == one.folder and number in mine else Right.NONE
        assert one.kept == Right(kept & SHOWN)


@given(st.lists(rules, min_size=1, max_size=6), st.randoms())
def test_the_tightest_rule_is_as_tight_as_each_in_whatever_order(found, random) -> None:
    placed = [PlacedRule(RuleOn.OFFICE, "", rule) for rule in found]
    whole = tightest(placed)
    random.shuffle(placed)
    assert tightest(placed) == whole == tightest([*placed, *placed])
    for one in found:
        assert whole.tighter(one) == whole
        assert not whole.open_rights & ~one.open_rights
        for listed, mail in ((True, "x@here.example"), (False, "x@here.example"), (False, "y@out.example")):
            assert one.lets_guest(listed, mail) or not whole.lets_guest(listed, mail) or one.guests is None
        assert one.link_days is None or whole.link_days <= one.link_days
        assert one.download is not False or whole.download is False
    assert SharingRule.of_facts(json.loads(json.dumps(whole.to_facts()))) == whole


@given(offices())
def test_what_is_shared_comes_back_from_the_ledgers_form(office) -> None:
    shared = office.service.shared
    assert Shared.of_facts(json.loads(json.dumps(shared.to_facts()))) == shared


@pytest.mark.parametrize("vector", json.loads((VECTORS / "offers.json").read_text()), ids=lambda one: one["name"])
def test_links_put_to_rules(vector) -> None:
    plan = parse_plan("office: X\nsystems: {meadow: {source: listing, path: x}}\n", "x")
    link = link_of(Fields({"maker": "hale", "path": "/a", **vector["link"]}), 1)
    principals = [
        Principal(
            login,
            login,
            kind,
            "meadow",
            Account(login, login, "", "", mail),
            Holder(login, login, frozenset()),
            False,
        )
        for login, kind, mail in (("hale", Kind.STAFF, "hale@x.example"), ("una", Kind.GUEST, "una@books.example"))
    ]
    service = Service("meadow", Shared(links=(link,)), principals, {}, "2026-06-15")
    exposed = None if link.path == b"/gone" else Exposed(3, 30_000_000, ("odt", "exe"), 0, 12_000_000)
    offer = Offer("meadow", link, exposed)
    found = judge_offer(offer, rule_from(Fields(vector["rule"])), service, plan, date(2026, 6, 15), {})
    assert sorted(breach.check for breach in found) == sorted(vector["amiss"])
    assert all(breach.message for breach in found)


def test_a_chain_is_followed_to_its_beginning_even_where_it_is_a_ring() -> None:
    def one(name: str, before: str) -> HandOut:
        return HandOut(name, "a", "b", Towards.PERSON, b"/x", Right.READ, passed_from=before)

    known = {
        each.id: each
        for each in (one("1", ""), one("2", "1"), one("3", "2"), one("4", "5"), one("5", "4"), one("6", "gone"))
    }
    assert [pass_on_depth(each, known) for each in known.values()] == [0, 1, 2, 1, 1, 0]


@pytest.mark.parametrize(
    ("row", "told"),
    [
        ({"level": "reed"}, "neither a level"),
        ({"path": ""}, "path is empty"),
        ({"expires": "31.12.2026"}, "no day"),
        ({"expires": "2026-02-30"}, "day is out of range"),
        ({"audience": "all"}, "none of anyone, guests, office, named"),
        ({"password": "perhaps"}, "neither yes nor no"),
        ({"uses-left": "-1"}, "no whole number"),
        ({"fingerprint": "https://x.example/s/secret"}, "fingerprint is none"),
    ],
)
def test_rows_that_are_wrong_say_what_is(row, told) -> None:
    fields = Fields({"path": "/a", "level": "read", **row})
    if {"path", "fingerprint"} & row.keys():
        with pytest.raises(ValueError, match=told):
            link_of(fields, 1)
        return
    # What can be read of it still counts: that there is a link, and where.
    assert link_of(fields, 1).is_doubtful and told in "".join(fields.doubts)


def test_of_an_address_only_the_fingerprint_is_taken_on() -> None:
    link = link_of(Fields({"path": "/a%20b/", "level": "read", "address": "https://x.example/s/secret"}), 1)
    assert link.path == b"/a b" and "secret" not in repr(link)
    assert link.fingerprint == fingerprint_of("https://x.example/s/secret") and len(link.fingerprint) == 10
