"""Make the ledger of a large team-folder service over a file share: ``make_service.py DIR``.

By default 100,000 folders, 300 people and 30 guests, 40 team folders (half of them over the share), 5,000 links and
20,000 hand-outs, some of them passed on.
"""

from __future__ import annotations

import argparse
from datetime import UTC, date, datetime, timedelta
from pathlib import Path

import numpy as np
from make_ledger import FIRST_GID, FIRST_UID, GROUPS, KINDS, make_folders, make_lists, typed

from neatledger.core.lists import role
from neatledger.core.lists.posix import pack_body
from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right, with_view
from neatledger.core.lists.subjects import Subject
from neatledger.core.plan.rules import Guests, PlacedRule, RuleOn, SharingRule
from neatledger.core.space.usage import Usage, find_totals
from neatledger.core.survey.accounts import Account, Admission, Group
from neatledger.core.survey.shared import Audience, HandOut, Link, Member, Shared, TeamFolder, Towards
from neatledger.core.survey.survey import Survey
from neatledger.core.tree.address import Address
from neatledger.core.tree.columns import (
    CLASS_COLUMNS,
    COLLISION_COLUMNS,
    HARD_COLUMNS,
    LARGE_COLUMNS,
    ODD_COLUMNS,
    OTHER_COLUMNS,
)
from neatledger.core.tree.table import Table, folder_paths
from neatledger.ledger.opening import open_ledger

RIGHTS = [with_view(LEVEL_RIGHTS[level]) for level in (Level.VIEW, Level.READ, Level.WRITE, Level.MANAGE)]


def make_survey(
    name: str, model: str, folders: Table, lists: list[bytes], accounts: list[Account], groups: list[Group],
    idents: list[str], rng: np.random.Generator,
) -> Survey:  # fmt: skip
    """Return the survey of one system with files in every fourth folder."""
    having = np.flatnonzero(folders["classes"])
    sizes = rng.integers(1, 1 << 22, len(having)) * 9
    table = {
        "folder": having, "list": folders["list"][having], "owner": folders["owner"][having],
        "kind": rng.integers(0, KINDS, len(having)), "files": np.full(len(having), 9), "bytes": sizes,
        "occupied": sizes,
    }  # fmt: skip
    classes = typed(table, CLASS_COLUMNS, len(having))
    hard, others = typed({}, HARD_COLUMNS, 0), typed({}, OTHER_COLUMNS, 0)
    return Survey(
        name, "listing", model, accounts, groups, folders, classes, typed({}, ODD_COLUMNS, 0), hard, others,
        typed({}, LARGE_COLUMNS, 0), find_totals(Usage(folders, classes, others, hard)),
        typed({}, COLLISION_COLUMNS, 0), lists, idents, [f"kind{n}" for n in range(KINDS)], [],
        {"read_only": 0, "folders_again": 0},
    )  # fmt: skip


def make_shared(rng: np.random.Generator, paths: list[bytes], tops: list[int], words: argparse.Namespace) -> Shared:
    """Return team folders at the top, and links and hand-outs anywhere."""
    today = date.today()

    def day(low: int, high: int) -> date:
        return today + timedelta(days=int(rng.integers(low, high)))

    def right() -> Right:
        return RIGHTS[int(rng.integers(len(RIGHTS)))]

    everybody = [f"p{n}" for n in range(words.people)] + [f"guest{n}" for n in range(words.guests)]
    who = lambda: everybody[int(rng.integers(len(everybody)))]  # noqa: E731
    teams = []
    for place, row in enumerate(tops):
        members = [Member(f"g{int(g)}", True, right()) for g in rng.choice(GROUPS, 4, replace=False)]
        members += [Member(who(), False, right()) for _ in range(3)]
        over = Address("barn", paths[row]) if place % 2 else None
        teams.append(TeamFolder(paths[row], f"team{place}", tuple(members), True, over, place % 5 != 0))
    hand_outs: list[HandOut] = []
    for number in range(words.hand_outs):
        before = hand_outs[int(rng.integers(len(hand_outs)))] if hand_outs and rng.random() < 0.3 else None
        giver, path = (before.receiver, before.path) if before else (who(), paths[int(rng.integers(len(paths)))])
        ends = day(-30, 300) if rng.random() < 0.6 else None
        hand_outs.append(
            HandOut(
                f"h{number}", giver, who(), Towards.PERSON, path, right(), made=day(-400, 0), expires=ends,
                passed_from=before.id if before else "",
            )
        )  # fmt: skip
    links = tuple(
        Link(
            f"k{number}", who(), paths[int(rng.integers(len(paths)))], right(),
            list(Audience)[int(rng.integers(4))], (who(), who()), made=day(-400, 0),
            expires=day(-30, 300) if rng.random() < 0.6 else None, password=bool(rng.random() < 0.5),
            last_used=day(-300, 0), fingerprint=f"{number:010x}",
        )
        for number in range(words.links)
    )  # fmt: skip
    rules = [PlacedRule(RuleOn.OFFICE, "", SharingRule(guests=Guests.INVITED, open_links="write"))]
    rules += [PlacedRule(RuleOn.FOLDER, paths[row].decode(), SharingRule(open_links="read")) for row in tops[:10]]
    rules += [PlacedRule(RuleOn.PERSON, who(), SharingRule(open_links="nothing")) for _ in range(10)]
    return Shared(tuple(teams), tuple(hand_outs), links, (), tuple(rules))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("dir", type=Path)
    for name, number in (
        ("folders", 100_000),
        ("people", 300),
        ("guests", 30),
        ("links", 5_000),
        ("hand-outs", 20_000),
    ):
        parser.add_argument(f"--{name}", type=int, default=number)
    words = parser.parse_args()
    rng = np.random.default_rng(1)
    folders = make_folders(rng, words.folders, 400, words.people)
    path_of = folder_paths(folders)
    paths = [path_of(row) for row in range(words.folders)]
    top = int(folders["children"][0])
    tops = list(range(1, 1 + top)) + list(range(1 + top, 1 + top + 28))
    groups = [tuple(f"p{n}" for n in range(words.people) if (n * 7 + g) % 13 == 0) for g in range(GROUPS)]
    barn_people = [Account(f"p{n}", str(FIRST_UID + n), str(FIRST_GID + n % GROUPS)) for n in range(words.people)]
    barn_groups = [Group(f"g{g}", str(FIRST_GID + g), inside) for g, inside in enumerate(groups)]
    lists = [pack_body(0o755, FIRST_GID), *make_lists(rng, 399, words.people)]
    owners = [str(FIRST_UID + n) for n in range(words.people)]
    barn = make_survey("barn", "posix", folders, lists, barn_people, barn_groups, owners, rng)
    people = [Account(f"p{n}", f"p{n}", "", email=f"p{n}@office.example") for n in range(words.people)]
    people += [
        Account(f"guest{n}", f"guest{n}", "", email=f"g{n}@out.example", admission=Admission(is_guest=True))
        for n in range(words.guests)
    ]
    bodies = [role.OPEN]
    for _ in range(399):
        entries = [
            role.Entry(Subject.GROUP, f"g{int(g)}", RIGHTS[int(rng.integers(4))]) for g in rng.integers(0, GROUPS, 3)
        ]
        bodies.append(role.pack_body(entries))
    # Outside of team folders, and here and there in them, folders have lists; the rest goes by roles.
    mine = make_folders(rng, words.folders, 400, words.people)
    mine.columns["list"] = np.where(rng.random(words.folders) < 0.02, mine["list"], 0).astype("i4")
    mine.columns["list"][0] = 1
    named = [Group(f"g{g}", f"g{g}", inside) for g, inside in enumerate(groups)]
    meadow = make_survey("meadow", "role", mine, bodies, people, named, [f"p{n}" for n in range(words.people)], rng)
    meadow.shared = make_shared(rng, paths, tops, words)
    words.dir.mkdir(parents=True)
    joined = "".join(f"  p{n}: {{accounts: {{barn: p{n}, meadow: p{n}}}}}\n" for n in range(words.people))
    (words.dir / "office.yaml").write_text(
        "office: Big\nsystems:\n  barn: {source: listing, path: none.csv}\n"
        "  meadow: {source: listing, lists: role, path: none.csv}\n"
        f"people:\n{joined}sharing: {{office: {{link-days: 180, guests: invited, open-links: read, chain: 2}}}}\n"
    )
    ledger = open_ledger(words.dir / "ledger.db", create=True)
    ledger.add_count([barn, meadow], datetime.now(UTC), "bench")
    ledger.close()


if __name__ == "__main__":
    main()
