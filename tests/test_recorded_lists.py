"""What lists of all models say, and what becomes of them, by lot: as it was when it was last looked at.

Whether it is right is judged elsewhere, by real systems and slow evaluators; here nothing changes unseen.
"""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import replace
from itertools import product

import pytest

from neatledger.core.lists import nfs4, nt, posix, role
from neatledger.core.lists.contract import ItemContext, Maker, word_entry
from neatledger.core.lists.descriptors import Ace, Acl, Descriptor
from neatledger.core.lists.doubt import judge, judge_all, judge_owners
from neatledger.core.lists.holders import Crowd, Holder
from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right
from neatledger.core.lists.subjects import Subject
from neatledger.core.lists.table import MODELS
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Kind
from neatledger.core.steps.contract import FileSort, ItemState
from neatledger.core.steps.folders import PushStep
from neatledger.core.steps.grants import grant_steps, set_holder, with_holder
from neatledger.core.steps.lists import ListStep, list_changes
from neatledger.core.steps.narrowed import narrowed_item
from neatledger.core.steps.wanted import Meant, wanted_item
from neatledger.core.steps.whom import Sort, Whom
from neatledger.core.survey.accounts import Account
from recording import tried
from test_step_kinds import Memory

SEEDS = range(18)
SID = "S-1-5-21-1-2-3-"
PEOPLE = {model: ("11", "12", "13") if model != "nt" else (f"{SID}11", f"{SID}12", f"{SID}13") for model in MODELS}
GROUPS = {model: ("21", "22") if model != "nt" else (f"{SID}21", f"{SID}22") for model in MODELS}
MASKS = (0x1F01FF, 0x1301BF, 0x1200A9, 0x1, 0x2, 0x4, 0x6, 0x20, 0x40, 0x10000, 0x40000, 0x80000, 0x120089, 0x3)


class Names:
    """Names for the identifiers that are drawn."""

    def user(self, ident: str) -> str:
        return {"11": "ada", "12": "ben"}.get(ident.rpartition("-")[2], ident)

    def group(self, ident: str) -> str:
        return {"21": "vets"}.get(ident.rpartition("-")[2], ident)

    def holder(self, ident: str) -> str:
        return {"11": "ada", "12": "ben", "21": "vets"}.get(ident.rpartition("-")[2], ident)


def _posix(rng: random.Random) -> bytes:
    entries = []
    if rng.random() < 0.7:
        named = [(tag, ident) for tag in (posix.USER, posix.GROUP) for ident in rng.sample((11, 12, 21, 22), 2)]
        entries = [posix.Entry(tag, rng.randrange(8), ident) for tag, ident in rng.sample(named, rng.randrange(4))]
        entries += [posix.Entry(tag, rng.randrange(8)) for tag in (posix.USER_OBJ, posix.GROUP_OBJ, posix.OTHER)]
        entries += [posix.Entry(posix.MASK, rng.randrange(8))]
        entries.sort(key=lambda one: (one.tag, one.ident))
    mode = rng.randrange(0o1000) | rng.choice((0, 0, 0o1000, 0o2000, 0o4000))
    return posix.pack_body(
        mode, rng.choice((21, 22)), posix.pack_entries(entries) if entries else b"", rng.choice((0, 0, 0x10, 0x20))
    )


def _nt(rng: random.Random) -> bytes:
    whom = (*PEOPLE["nt"], *GROUPS["nt"], "S-1-1-0", "S-1-5-11", "S-1-3-0", "S-1-3-1", "S-1-3-4", "S-1-5-32-544")
    flags = (0, 0, 0, 3, 3, 1, 2, 0x10, 0x13, 0x13, 0x8, 0xB, 0x1B, 0x7, 0x9)
    aces = tuple(
        Ace(
            rng.choice((0, 0, 0, 0, 1, 1, 2, 0x09, 0x05, 0x11)),
            rng.choice(flags),
            rng.choice((*MASKS, 1 << 28, 1 << 31)),
            rng.choice(whom),
        )
        if rng.random() < 0.95
        else Ace(0, 0, 0, "", raw=b"\x01")
        for _ in range(rng.randrange(6))
    )
    aces = tuple(replace(one, object_types=b"\0" * 4) if one.type == 0x05 else one for one in aces)
    dacl = None if rng.random() < 0.04 else Acl(aces)
    return nt.pack_body(
        Descriptor("", rng.choice(GROUPS["nt"]), dacl, None, 0x8004 | rng.choice((0, 0, 0x1000, 0x400)))
    )


def _nfs4(rng: random.Random) -> bytes:
    entries = []
    for _ in range(rng.randrange(6)):
        who = rng.choice((*PEOPLE["nfs4"], *GROUPS["nfs4"], nfs4.OWNER, nfs4.GROUP, nfs4.EVERYONE))
        group = nfs4.IS_GROUP if who in (*GROUPS["nfs4"], nfs4.GROUP) else 0
        flags = rng.choice((0, 0, 0, 3, 3, 0x83, 0x80, 0xB, 1, 2, 7, 9))
        entries.append(nfs4.Entry(rng.choice((0, 0, 0, 1, 1, 2)), flags | group, rng.choice(MASKS), who))
    return nfs4.pack_body(rng.choice(GROUPS["nfs4"]), entries)


def _role(rng: random.Random) -> bytes:
    if rng.random() < 0.06:
        return rng.choice((role.OPEN, role.RoleModel.unread))
    entries = []
    for _ in range(rng.randrange(5)):
        sees = rng.choice(list(Subject))
        ident = (
            rng.choice((*PEOPLE["role"], *GROUPS["role"]))
            if sees in (Subject.USER, Subject.GROUP, Subject.EITHER)
            else ""
        )
        entries.append(
            role.Entry(sees, ident, rng.choice(list(LEVEL_RIGHTS.values())), rng.random() < 0.8, rng.random() < 0.3)
        )
    return role.pack_body(entries)


BODIES: dict[str, Callable[[random.Random], bytes]] = {"posix": _posix, "nt": _nt, "nfs4": _nfs4, "role": _role}


def default_of(body: bytes) -> bytes | None:
    """Return the entries of a POSIX list as a default list; None where it has none."""
    return posix.pack_body(0, 0, body[6:]) if len(body) > 6 else None


def holders(model: str) -> list[Holder]:
    """One in a group, one in both, one in none, one perhaps in one, one with a privilege, one of the servers' groups."""
    (ada, ben, cy), (vets, desk), all_of = PEOPLE[model], GROUPS[model], MODELS[model].everyone_has
    found = [("ada", ada, {vets}), ("ben", ben, {vets, desk}), ("cy", cy, set()), ("dee", "19", {desk})]
    some = [Holder(login, ident, frozenset(groups) | all_of) for login, ident, groups in found]
    some.append(Holder("eve", "18", all_of, maybe=frozenset({vets})))
    some.append(Holder("fay", cy, all_of, frozenset({"backup"}) if model != "posix" else frozenset()))
    some.append(Holder("gus", "17", all_of | {"S-1-5-32-544"}, perhaps=frozenset({"everything"})))
    return [*some, Holder("root", "0", frozenset({"0"}) | all_of)]


CASES = list(product(MODELS, SEEDS))


@pytest.mark.parametrize(("model", "seed"), CASES)
def test_what_a_list_says(model: str, seed: int, recorded) -> None:
    body = BODIES[model](random.Random(f"{model} {seed}"))
    kind, who = MODELS[model], holders(model)
    parsed = kind.parse(body)
    told: dict[str, object] = {"named": parsed.named, "group": kind.group_of(body)}
    told["lock"] = [kind.may_lock(body), kind.passes_on(body)]
    for is_folder in (True, False):
        decided = [
            judge(parsed, ItemContext(owner, is_folder), one)
            for one, owner in product(who, (PEOPLE[model][0], GROUPS[model][0], "7"))
        ]
        everyone, owners = judge_all(parsed, Crowd(who), is_folder=is_folder)
        told["folder" if is_folder else "file"] = {
            "words": parsed.describe(Names(), is_folder=is_folder),
            "view": str(parsed.view(is_folder=is_folder)),
            "locked": int(parsed.locked(is_folder=is_folder)),
            "rights": " ".join(f"{one.rights:x}{'?' * one.is_unsure}" for one in decided),
            "why": sorted({f"{each.effect.name} {word_entry(each.entry, Names())} {each.rights:x} {each.because}" for one in decided for each in one.reasons}),
            "all": " ".join(f"{right.name} {everyone.get(right, 0):x}/{owners.get(right, 0):x}" for right in Right if right in everyone or right in owners),
            "owned": [judge_owners(parsed, Crowd(who), group, is_folder=is_folder) for group in GROUPS[model]],
        }  # fmt: skip
    recorded(told)


@pytest.mark.parametrize(("model", "seed"), CASES)
def test_what_is_made_of_a_list(model: str, seed: int, recorded) -> None:
    rng = random.Random(f"{seed} {model}")
    above, child, other = (BODIES[model](rng) for _ in range(3))
    kind, ident = MODELS[model], PEOPLE[model][0]
    default = None
    if kind.has_defaults and rng.random() < 0.7:
        default = default_of(above)
    told: dict[str, object] = {"above": above.hex(), "child": child.hex()}
    for is_folder, keeps_own in product((True, False), (True, False)):
        maker = Maker(ident, GROUPS[model][1])
        came = kind.new_child(above, default, maker, is_folder=is_folder)
        pushed = (
            "-"
            if kind.has_defaults and default is None
            else kind.pushed(default or above, child, ident, keeps_own=keeps_own, is_folder=is_folder).hex()
        )
        changed = [kind.followed(above, other, one, ident, is_folder=is_folder).hex() for one in (child, came)]
        told[f"{is_folder} {keeps_own}"] = [came.hex(), pushed, *changed]
    recorded(told)


def principal(holder: Holder) -> Principal:
    return Principal(
        holder.login, holder.login, Kind.STAFF, "barn", Account(holder.login, holder.user, "0"), holder, True
    )


@pytest.mark.parametrize(("model", "seed"), CASES)
def test_what_a_list_becomes(model: str, seed: int, recorded) -> None:
    rng = random.Random(f"{model}: {seed}")
    body = BODIES[model](rng)
    (ada, ben, _), (vets, _) = PEOPLE[model], GROUPS[model]
    item = ItemState(ada, body, default_of(body) if model == "posix" else None)
    told: dict[str, object] = {"list": body.hex()}
    for sort, ident in (
        (Sort.USER, ada),
        (Sort.USER, ben),
        (Sort.GROUP, vets),
        (Sort.EVERYONE, ""),
        (Sort.OWNER, ""),
    ):
        rights = rng.choice(
            (None, Right.NONE, LEVEL_RIGHTS[Level.READ], LEVEL_RIGHTS[Level.WRITE], LEVEL_RIGHTS[Level.MANAGE])
        )
        whom, is_folder = Whom(sort, ident, "x"), rng.random() < 0.6
        found = tried(set_holder, model, body, whom, rights, is_folder=is_folder)
        after = tried(with_holder, model, item, whom, rights)
        words = (
            ListStep("barn", b"/a", model, item, after).changes(Names())
            if isinstance(after, ItemState) and after != item
            else []
        )
        given = -1 if rights is None else int(rights)
        told[f"{sort.name} {ident.rpartition('-')[2]} {given} {is_folder}"] = [found, after, words]
        if isinstance(found, bytes):
            told[f"{sort.name} {ident.rpartition('-')[2]} words"] = list_changes(
                model, body, found, Names(), is_folder=is_folder
            )
    recorded(told)


@pytest.mark.parametrize(("model", "seed"), CASES)
def test_what_a_list_should_be(model: str, seed: int, recorded) -> None:
    rng = random.Random(f"{seed}: {model}")
    body, (ada, _, cy), (vets, desk) = BODIES[model](rng), PEOPLE[model], GROUPS[model]
    some = holders(model)[:4]
    # Who has two accounts has what either gives.
    people = [*map(principal, some), replace(principal(replace(some[3], login="ada2", user="16")), person="ada")]
    groups = {vets: ("vets", frozenset({"ada", "ben"})), desk: ("desk", frozenset({"ben", "dee"}))}
    levels = {one.person: rng.choice((Level.NONE, Level.READ, Level.WRITE, Level.READ)) for one in people}
    grants = [
        (Whom(sort, ident, ident), LEVEL_RIGHTS[rng.choice((Level.READ, Level.WRITE))])
        for sort, ident in ((Sort.GROUP, vets), (Sort.GROUP, desk), (Sort.USER, cy))
        if rng.random() < 0.5
    ]
    meant = Meant(model, people, {person: LEVEL_RIGHTS[level] for person, level in levels.items()}, grants, groups)
    told: dict[str, object] = {"list": body.hex(), "levels": levels}
    for owner, is_folder in product((ada, "7"), (True, False)):
        item = ItemState(owner, body)
        told[f"wanted {owner == ada} {is_folder}"] = tried(wanted_item, item, meant, is_folder=is_folder)
        for left, gives in product(({"ada": Level.NONE}, {"ben": Level.READ, "cy": Level.READ}), (True, False)):
            told[f"left {owner == ada} {is_folder} {len(left)} {gives}"] = tried(
                narrowed_item, model, item, people, groups, left, is_folder=is_folder, gives=gives
            )
    recorded(told)


@pytest.mark.parametrize(("model", "seed"), list(product(MODELS, range(5))))
def test_what_pushing_a_list_down_comes_to(model: str, seed: int, recorded) -> None:
    rng = random.Random(f"push {model} {seed}")
    bodies = [BODIES[model](rng) for _ in range(7)]
    owners = (PEOPLE[model][0], PEOPLE[model][1])
    state = Memory()
    for number, path in enumerate((b"/", b"/a", b"/a/b", b"/c")):
        default = default_of(bodies[number]) if model == "posix" else None
        if default is not None and rng.random() >= 0.8:
            default = None
        state.folders[path] = ItemState(rng.choice(owners), bodies[number], default)
        state.files[path] = {FileSort(owners[n], bodies[4 + n]): n + 1 for n in range(2)}
    told: dict[str, object] = {}
    for path, keeps_own in product((b"/", b"/a"), (False, True)):
        parts = tried(PushStep("barn", path, model, keeps_own).parts, state)
        told[f"{path.decode()} {keeps_own}"] = (
            parts if isinstance(parts, str) else [[one.target, one.after] for one in parts]
        )
        for sort, ident in ((Sort.USER, owners[1]), (Sort.GROUP, GROUPS[model][0])):
            steps = tried(
                grant_steps,
                state,
                path,
                model,
                Whom(sort, ident, "x"),
                rng.choice((None, LEVEL_RIGHTS[Level.READ], LEVEL_RIGHTS[Level.WRITE])),
            )
            told[f"{path.decode()} {sort.name} {keeps_own}"] = (
                steps if isinstance(steps, str) else [[one.target, one.after] for one in steps]
            )
    recorded(told)
