"""One rule, asked in three ways that must agree: one holder, a crowd, and everyone on everything."""

from __future__ import annotations

import functools
import itertools
import json
import operator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from neatledger.core.access.everyone import FLAG_RIGHTS, Everyone, RowFilter, flag_rights
from neatledger.core.access.matrix import Matrix
from neatledger.core.access.tree_gates import Item
from neatledger.core.access.ways import FileClass, access_to
from neatledger.core.lists import nfs4, nt, posix, role
from neatledger.core.lists.contract import ItemContext
from neatledger.core.lists.doubt import judge, judge_all
from neatledger.core.lists.holders import Crowd, Holder
from neatledger.core.lists.rights import EVERY_RIGHT, LEVEL_RIGHTS, Level, Right, level_of
from neatledger.core.lists.table import MODELS
from neatledger.core.tree.columns import SeenState
from neatledger.core.tree.table import folder_paths
from neatledger.formats import nfs4acl, rolelist
from neatledger.formats.posixacl import (
    entries_from_attribute,
    entries_from_text,
    entries_to_attribute,
    entries_to_text,
    pack_entries,
)
from neatledger.formats.sddl import descriptor_from_sddl
from strategies import NAMES, WORLDS, posix_entries, principals, trees
from strategies import terms as share_terms

VECTORS = Path(__file__).parent / "vectors"
# How a vector of each model states its list.
BODIES = {
    "posix": lambda one: posix.pack_body(
        int(one["mode"], 8), one["group"], pack_entries(entries_from_text(one["list"])) if one["list"] else b""
    ),
    "nt": lambda one: nt.pack_body(descriptor_from_sddl(one["list"])),
    "nfs4": lambda one: nfs4.pack_body(one["group"], nfs4acl.entries_from_text(one["list"])),
    "role": lambda one: role.pack_body(rolelist.entries_from_text(one["list"], lambda name, _: name)),
}
EACH_VECTOR = [(name, one) for name in MODELS for one in json.loads((VECTORS / f"{name}.json").read_text())]


def _right(words: str) -> Right:
    found = Right.NONE
    for word in words.split():
        found |= Right[word.upper()]
    return found


@pytest.mark.parametrize(("name", "vector"), EACH_VECTOR, ids=[f"{name}-{one['name']}" for name, one in EACH_VECTOR])
def test_the_vectors_of_every_model(name: str, vector) -> None:
    model = MODELS[name]
    holder = Holder("x", str(vector["user"]), frozenset(map(str, vector["groups"])) | model.everyone_has)
    decision = model.parse(BODIES[name](vector)).decide(ItemContext(str(vector["owner"]), vector["folder"]), holder)
    assert decision.rights == _right(vector["expect"]), vector["because"]
    assert decision.is_unsure == vector.get("unsure", False) and decision.reasons
    if "decides" in vector:
        assert vector["decides"] in [str(reason.entry) for reason in decision.reasons]


@given(st.data(), st.sampled_from(WORLDS), st.booleans())
def test_a_crowd_is_decided_as_each_alone(data, world, is_folder) -> None:
    model, owner = world.model, data.draw(st.sampled_from(world.users + world.groups))
    crowd = data.draw(st.lists(world.holders, min_size=1, max_size=80))
    parsed = model.parse(data.draw(world.bodies))
    together = Crowd(crowd)
    as_other, as_owner = parsed.decide_all(together, is_folder=is_folder)
    for number, holder in enumerate(crowd):
        owns = holder.user == owner or (model.groups_may_own and owner in holder.groups)
        sets = as_owner if owns else as_other
        found = Right(sum(right for right, bits in sets.items() if bits >> number & 1))
        decision = parsed.decide(ItemContext(owner, is_folder), holder)
        assert found == decision.rights | (Right.UNSURE if decision.is_unsure else Right.NONE)
        granted = Right(0)
        for reason in decision.reasons:
            granted |= reason.rights
        if granted & Right.LIST and granted & Right.ENTER:
            granted |= Right.READ  # two requests, which two entries may grant
        missing = decision.rights & EVERY_RIGHT & ~granted & ~(Right.CLEAR | Right.CLEAR_OWN)
        assert not missing and (decision.reasons or not granted), "a right without a reason"
        assert all(entry for entry in parsed.describe(NAMES)) and parsed.view(is_folder=is_folder)


@given(st.data(), st.sampled_from(WORLDS), st.booleans())
def test_where_membership_is_not_told_only_what_hangs_on_it_is_unknown(data, world, is_folder) -> None:
    model, owner = world.model, data.draw(st.sampled_from(world.users + world.groups))
    people = data.draw(st.lists(world.holders, min_size=1, max_size=20))
    parsed, context = model.parse(data.draw(world.bodies)), ItemContext(owner, is_folder)
    as_other, as_owner = judge_all(parsed, Crowd(people), is_folder=is_folder)
    for number, holder in enumerate(people):
        decision = judge(parsed, context, holder)
        answers = set()
        for size in range(len(holder.maybe) + 1):
            for some in itertools.combinations(sorted(holder.maybe), size):
                one = parsed.decide(context, replace(holder, groups=holder.groups | set(some), maybe=frozenset()))
                answers.add(Right.UNSURE if one.is_unsure else one.rights)
        if not decision.is_unsure:
            assert answers == {decision.rights}
        elif owner not in holder.maybe:
            assert len(answers) > 1 or answers == {Right.UNSURE}
        if owner not in holder.maybe:
            sets = as_owner if model.owns(holder, owner) else as_other
            assert bool(sets.get(Right.UNSURE, 0) >> number & 1) == decision.is_unsure


@settings(deadline=None, max_examples=30)
@given(st.data(), st.sampled_from(WORLDS))
def test_everyone_on_everything_is_each_on_each(data, world) -> None:
    model, users = world.model, world.users + world.groups
    bodies = data.draw(st.lists(world.bodies, min_size=1, max_size=6))
    folders, classes = data.draw(trees(len(bodies)))
    people = data.draw(principals(world))
    path_of = folder_paths(folders)
    terms = data.draw(share_terms(model, [path_of(row) for row in range(folders.rows)]))
    matrix = Matrix(folders, classes, bodies, users, people, terms=terms)
    everyone = Everyone(matrix)
    parsed = [model.parse(body) for body in bodies]
    cells = {}
    for block in everyone.blocks(RowFilter.ALL):
        files = block.counts
        numbers = (
            block.folder,
            block.column,
            block.flags,
            block.unknown,
            files.files,
            files.read,
            files.change,
            files.delete,
        )
        for folder, column, *rest in zip(*(each.tolist() for each in numbers), strict=True):
            cells[folder, column] = rest
    assert len(cells) == folders.rows * len(everyone.columns)
    mask = sum(FLAG_RIGHTS)
    for folder in range(folders.rows):
        chain, row = [], folder
        while row >= 0:
            owner, state = users[folders["owner"][row]], SeenState(int(folders["state"][row]))
            chain.append(Item(path_of(row), parsed[folders["list"][row]], owner, state))
            row = int(folders["parent"][row])
        mine = [number for number in range(classes.rows) if classes["folder"][number] == folder]
        files = [
            FileClass(parsed[classes["list"][n]], users[classes["owner"][n]], int(classes["files"][n])) for n in mine
        ]
        is_seen = chain[0].state is SeenState.WHOLE
        for number, column in enumerate(everyone.columns):
            who = [people[principal] for principal in column.principals]
            asked = access_to(chain[::-1], who, files if is_seen else None, terms=terms)
            ways = [way for way in asked.ways if column.way in ("any", way.name)]
            flags, unknown, *counts = cells[folder, number]
            is_known = asked.is_known if column.way == "any" else all(way.is_known for way in ways)
            assert bool(unknown) == (not is_known), (folder, column)
            if not unknown:
                rights = functools.reduce(operator.or_, (way.rights for way in ways))
                assert flag_rights(flags) == Right(rights & mask), (folder, column)
                told = asked.counts if column.way == "any" else ways[0].counts
                if is_seen and (column.way == "any" or len(ways) == 1):
                    assert counts[1:] == ([-1] * 3 if told is None else [told.read, told.change, told.delete])
    shown = {
        (f, c) for block in everyone.blocks(RowFilter.DIFFER) for f, c in zip(block.folder, block.column, strict=True)
    }
    for (folder, number), (flags, unknown, _, *of_files) in cells.items():
        above = int(folders["parent"][folder])
        before = cells[above, number][:2] if above >= 0 else [0, False]
        # Where nobody is asked for entering, single files may be reached in a folder that gives nothing.
        is_seen = folders["state"][folder] == SeenState.WHOLE
        by_files = not terms.asks_enter and not flags and not unknown and is_seen and any(of_files)
        assert ((folder, number) in shown) == ((flags, unknown) != tuple(before) or by_files)
    every = {
        (f, c) for block in everyone.blocks(RowFilter.EVERY) for f, c in zip(block.folder, block.column, strict=True)
    }
    for (folder, number), (flags, unknown, _, *of_files) in cells.items():
        is_seen = folders["state"][folder] == SeenState.WHOLE
        assert ((folder, number) in every) == bool(flags or unknown or (is_seen and any(of_files)))
    order = matrix.order.order.tolist()
    assert sorted(order) == list(range(folders.rows))
    assert all(order.index(int(folders["parent"][row])) < order.index(row) for row in range(1, folders.rows))
    assert np.array_equal(np.sort(everyone.rows_below(0)), np.arange(folders.rows))


@given(posix_entries())
def test_posix_text_and_attribute_come_back(entries) -> None:
    packed = pack_entries(entries)
    assert pack_entries(entries_from_text(entries_to_text(packed))) == packed
    assert entries_from_attribute(entries_to_attribute(entries)) == packed


@given(st.text(max_size=40) | st.from_regex(r"(user|group|mask|other|u|g):[0-9a-z]*:[rwx-]{0,4}(,[a-z:]*)?"))
def test_posix_text_parsing_is_total(text) -> None:
    from neatledger.errors import FormatError

    try:
        entries_from_text(text)
    except FormatError as error:
        assert str(error)


def test_levels_name_their_own_rights() -> None:
    for level, rights in LEVEL_RIGHTS.items():
        assert level_of(rights) is (Level.LIST if level is Level.LIST else level)
    assert level_of(Right.ENTER) is Level.MIXED
    assert level_of(LEVEL_RIGHTS[Level.READ] | Right.DELETE) is Level.MIXED
    assert level_of(EVERY_RIGHT) is Level.MANAGE
