"""What is used: against du on random trees, a slow evaluator of random tables, and a file system that keeps quotas."""

from __future__ import annotations

import csv
import io
import os
import random
import re
import subprocess
import tempfile
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import status_as_nobody
from judges import btrfs
from neatledger.cli import main
from neatledger.core.plan.limits import On
from neatledger.core.plan.space import SameAs, Sort, SpaceRules
from neatledger.core.space.figures import Figures
from neatledger.core.space.usage import FOLDERS, OTHERS, Again, Usage
from neatledger.core.tree.columns import CLASS_COLUMNS, FOLDER_COLUMNS, HARD_COLUMNS, OTHER_COLUMNS
from neatledger.core.tree.table import Table
from neatledger.ledger.opening import open_ledger
from neatledger.ledger.space import SpaceView
from neatledger.office.addresses import parse_address
from neatledger.questions import limits, space
from neatledger.questions.office import open_office
from neatledger.questions.views import load_views
from test_gather import gather, paths_of


def make_tree(root: Path, seed: int) -> None:
    """Make a tree with hard links (also of links and pipes), holes, nested links and names that are not UTF-8."""
    rng = random.Random(seed)
    root.mkdir()
    folders, files = [os.fsencode(root)], []
    for number in range(25):
        path = rng.choice(folders) + b"/" + rng.choice([b"a", b"b c", b"\xff\xfe", "é".encode()]) + b"%d" % number
        os.mkdir(path)
        folders.append(path)
    for number in range(160):
        path = rng.choice(folders) + b"/f%d." % number + rng.choice([b"odt", b"DCM", b"\xff", b"tif"])
        sort = rng.random()
        if sort < 0.3 and files:
            os.link(rng.choice(files), path, follow_symlinks=False)
        elif sort < 0.42:
            os.symlink(rng.choice([b"short", b"x" * 90, b"../" * 600, b"."]), path)
        elif sort < 0.46:
            os.mkfifo(path)
        elif sort < 0.6:
            with open(path, "wb") as out:
                out.truncate(rng.randrange(1 << 25))
                out.seek(rng.randrange(1 << 20))
                out.write(b"z" * rng.randrange(9_999))
        else:
            Path(os.fsdecode(path)).write_bytes(b"q" * rng.randrange(70_000))
        files.append(path)
        os.chown(path, rng.choice([2001, 2002, 0]), rng.choice([3001, 0]), follow_symlinks=False)


def du(path: bytes, *words: str) -> int:
    told = subprocess.run(["du", "-s", "-B1", *words, path], capture_output=True, check=True).stdout
    return int(told.split()[0])


@pytest.mark.judge
@pytest.mark.parametrize("seed", [1, None])
def test_every_folder_of_a_random_tree_is_as_du_counts_it(tmp_path: Path, seed: int | None) -> None:
    seed = seed or (7 if os.environ.get("CI") else random.randrange(10**6))
    root = tmp_path / "tree"
    make_tree(root, seed)
    survey = gather(root, tmp_path)
    usage = Usage(survey.folders, survey.classes, survey.others, survey.hard)
    keys = {"owner": usage.items.owner, "kind": usage.items.kind, "list": usage.items.list}
    rolled = {}
    for name, each in keys.items():
        folder, key, figures = usage.roll_up_by(each)
        for row, number, sums in zip(folder.tolist(), key.tolist(), figures.tolist(), strict=True):
            rolled.setdefault((name, row), {})[number] = tuple(sums)
    for row, path in enumerate(paths_of(survey)):
        whole = os.fsencode(root) + path
        told = du(whole, "--apparent-size"), du(whole)
        assert (survey.totals["totals"]["bytes"][row], survey.totals["totals"]["occupied"][row]) == told, (seed, path)
        for name, each in keys.items():
            parts = usage.by(each, row)
            assert tuple(sum(part[place] for part in parts.values()) for place in (1, 2)) == told, (seed, path, name)
            assert rolled[name, row] == parts
    for owner in ("2001", "2002", "0"):
        # Each object once, whoever's it is: the inodes that find sees.
        words = ["find", root, "-uid", owner, "-printf", "%D:%i %s %b\\n"]
        seen = set(subprocess.run(words, capture_output=True, text=True, check=True).stdout.splitlines())
        sums = usage.by(usage.items.owner)[survey.idents.index(owner)]
        assert sums[1] == sum(int(line.split()[1]) for line in seen)
        assert sums[2] == 512 * sum(int(line.split()[2]) for line in seen)


def named(tables: dict[str, dict[str, list[int]]]) -> list[Table]:
    """Make tables of some columns, nought where they have none."""
    found = []
    for spec, columns in zip(
        (FOLDER_COLUMNS, CLASS_COLUMNS, OTHER_COLUMNS, HARD_COLUMNS), tables.values(), strict=True
    ):
        rows = len(next(iter(columns.values())))
        found.append(
            Table(
                {
                    name: [b""] * rows if dtype == "bytes" else np.array(columns.get(name, [0] * rows), dtype=dtype)
                    for name, dtype in spec.items()
                },
                rows,
            )
        )
    return found


@st.composite
def trees(draw, *, shared: bool = True) -> tuple[list[Table], list[dict], list[Again]]:
    """A random tree as tables, and as a plain list of objects: folder, identity, owner, kind, bytes."""
    rows = draw(st.integers(1, 12))
    parent = [-1, *sorted(draw(st.integers(0, row - 1)) for row in range(1, rows))]
    # Breadth-first: a parent's place must not come after its neighbours' children.
    children = [parent.count(row) for row in range(rows)]
    identity = [
        draw(st.integers(1, 9)) * 100 + row if not shared or draw(st.integers(0, 4)) else 77 for row in range(rows)
    ]
    objects = [
        {"folder": row, "id": ("d", identity[row]), "owner": 0, "kind": FOLDERS, "bytes": 10} for row in range(rows)
    ]
    classes: dict[str, list[int]] = {name: [] for name in ("folder", "owner", "kind", "files", "bytes", "occupied")}
    others: dict[str, list[int]] = {name: [] for name in ("folder", "owner", "items", "bytes", "occupied")}
    hard: dict[str, list[int]] = {
        name: [] for name in ("folder", "owner", "kind", "inode", "device", "bytes", "occupied")
    }
    size_of = {}
    for row in range(rows):
        for number in range(draw(st.integers(0, 3))):
            linked = shared and draw(st.booleans())
            kind = draw(st.sampled_from([0, 1, OTHERS]))
            inode = draw(st.integers(1, 4)) if linked else 0
            if linked:
                # All names of one object have its size, owner and form.
                owner, size, form = size_of.setdefault(
                    inode, (draw(st.integers(0, 2)), draw(st.integers(0, 50)), kind == OTHERS)
                )
                kind = OTHERS if form else kind if kind != OTHERS else 0
            else:
                owner, size = draw(st.integers(0, 2)), draw(st.integers(0, 50))
            ident = ("h", inode) if linked else ("f", row, number)
            objects.append({"folder": row, "id": ident, "owner": owner, "kind": kind, "bytes": size})
            table = others if kind == OTHERS else classes
            for name, value in (
                ("folder", row),
                ("owner", owner),
                ("kind", kind),
                ("files", 1),
                ("items", 1),
                ("bytes", size),
                ("occupied", 2 * size),
            ):
                if name in table:
                    table[name].append(value)
            if linked:
                for name, value in (
                    ("folder", row),
                    ("owner", owner),
                    ("kind", kind),
                    ("inode", inode),
                    ("device", 5),
                    ("bytes", size),
                    ("occupied", 2 * size),
                ):
                    hard[name].append(value)
    folders = {
        "parent": parent,
        "first_child": [1 + sum(children[:row]) for row in range(rows)],
        "children": children,
        "bytes": [10] * rows,
        "occupied": [20] * rows,
        "inode": identity,
        "device": [5] * rows,
    }
    again = []
    if not shared and rows > 2:
        row, other = draw(st.integers(1, rows - 1)), draw(st.integers(-1, rows - 1))
        if other < 0 or not {row, other} & (lineage(parent, row) & lineage(parent, other)):
            again.append(Again(row, other))
    return named({"folders": folders, "classes": classes, "others": others, "hard": hard}), objects, again


def lineage(parent: list[int], row: int) -> set[int]:
    found = set()
    while row >= 0:
        found.add(row)
        row = parent[row]
    return found


def reading_order(parent: list[int]) -> list[int]:
    order, waiting = [], [0]
    while waiting:
        row = waiting.pop()
        order.append(row)
        waiting += reversed([child for child, above in enumerate(parent) if above == row])
    return order


def slow_total(parent: list[int], objects: list[dict], top: int, key: str | None = None) -> dict:
    """Add up what lies below a folder, each object once: by its first name in reading order."""
    order = reading_order(parent)
    seen, sums = set(), {}
    rank = {row: place for place, row in enumerate(order)}
    mine = [one for one in objects if top in lineage(parent, one["folder"])]
    # What a folder seen again has of its own is the same objects again.
    same = {}
    for row in range(len(parent)):
        same.setdefault(
            next(one["id"] for one in objects if one["folder"] == row and one["id"][0] == "d"), []
        ).append(row)
    for one in sorted(mine, key=lambda one: rank[one["folder"]]):
        folder_id = next(each["id"] for each in objects if each["folder"] == one["folder"] and each["id"][0] == "d")
        twins = [row for row in same[folder_id] if row != one["folder"] and rank[row] < rank[one["folder"]]]
        is_seen = one["id"] in seen if one["id"][0] == "h" else any(top in lineage(parent, row) for row in twins)
        if is_seen:
            continue
        seen.add(one["id"])
        name = one[key] if key else "all"
        sums[name] = sums.get(name, 0) + one["bytes"]
    return sums


@given(trees())
def test_totals_add_up_at_every_level_each_object_once(found) -> None:
    tables, objects, _ = found
    usage = Usage(*tables)
    parent = tables[0]["parent"].tolist()
    totals = usage.totals
    for row in range(len(parent)):
        assert totals[row, 1] == slow_total(parent, objects, row).get("all", 0)
        assert totals[row, 2] == 2 * totals[row, 1]
        for key, keys in (("owner", usage.items.owner), ("kind", usage.items.kind)):
            slow = slow_total(parent, objects, row, key)
            assert {name: part[1] for name, part in usage.by(keys, row).items() if part[1]} == {
                name: size for name, size in slow.items() if size
            }
        below = [child for child in range(len(parent)) if parent[child] == row]
        met = totals[row, 1] - usage.own_at(row)[1] - sum(totals[child, 1] for child in below)
        assert met <= 0, "nothing comes out of nowhere"


@given(trees(shared=False))
def test_a_tree_counted_elsewhere_is_taken_off_once_and_whole(found) -> None:
    tables, _, again = found
    usage, plain = Usage(*tables, again=again), Usage(*tables)
    parent = tables[0]["parent"].tolist()
    off = np.zeros_like(plain.totals)
    for one in again:
        # Where it meets the same tree; or, where that is in another system, in the folder above it.
        meets = parent[one.row] if one.same_as < 0 else max(lineage(parent, one.row) & lineage(parent, one.same_as))
        off[sorted(lineage(parent, meets))] += plain.totals[one.row]
    assert np.array_equal(usage.totals, plain.totals - off)


def _pooled(root: Path, pools: dict[str, list[tuple[str, Path]]], tops: dict[str, Path]) -> dict[str, int]:
    """Work out slowly what each pool holds: every object once, in the pools whose folders show it."""
    held: dict[str, dict[tuple[int, int], int]] = {name: {} for name in pools}
    for system, top in tops.items():
        # Folders of a system by the nearest top above them; the first pool that names it.
        owners: dict[Path, str] = {}
        for name, holds in pools.items():
            for where, path in holds:
                if where == system:
                    owners.setdefault(top / path, name)
        for here, folders, files in os.walk(top):
            nearest = next((above for above in (Path(here), *Path(here).parents) if above in owners), None)
            if nearest is None or not nearest.is_relative_to(top):
                continue
            links = [name for name in folders if os.path.islink(os.path.join(here, name))]
            for name in ("", *files, *links):
                seen = os.lstat(os.path.join(here, name))
                held[owners[nearest]][seen.st_dev, seen.st_ino] = seen.st_blocks * 512
    return {name: sum(sizes.values()) for name, sizes in held.items()}


@pytest.mark.judge
@pytest.mark.parametrize("seed", range(4))
def test_each_byte_is_once_in_every_pool_however_it_is_reached(tmp_path: Path, seed: int, run) -> None:
    rng, root = random.Random(seed), tmp_path / "tree"
    make_tree(root, seed)
    folders = [Path(here) for here, _, _ in os.walk(root) if here.isascii()]
    tops = {"one": root, "two": rng.choice(folders), "three": rng.choice(folders)}
    names = list(tops)
    rng.shuffle(names)
    lines = [f"  {name}: {{source: tree, path: {tops[name]}, accounts: machine}}" for name in names]
    head = "office: X\nsystems:\n" + "\n".join(lines) + "\n"
    (tmp_path / "office.yaml").write_text(head)
    run("count", "--office", tmp_path)
    for _ in range(6):
        pools: dict[str, list[tuple[str, Path]]] = {}
        for system in names:
            inside = [each.relative_to(tops[system]) for each in folders if each.is_relative_to(tops[system])]
            pools.setdefault(f"p{rng.randrange(2)}", []).append((system, Path()))
            for path in rng.sample(inside, min(len(inside), rng.randrange(3))):
                if path != Path():
                    pools.setdefault(f"p{rng.randrange(3)}", []).append((system, path))
        words = [
            f"  {name}: {{holds: {[f'{where}:/{path}' for where, path in holds]}}}" for name, holds in pools.items()
        ]
        (tmp_path / "office.yaml").write_text(head + "pools:\n" + "\n".join(words).replace("/.'", "/'") + "\n")
        office = open_office(tmp_path)
        statuses = limits.ask(office, load_views(office))
        found = {one.target.name: one.used for one in statuses if one.target.on is On.POOL}
        assert found == _pooled(root, pools, tops), (words, tops)
        parts = {each.name: each.figures for each in space.ask_office(office, "system").parts}
        assert sum(each.occupied for each in parts.values()) == du(os.fsencode(root))
        for by in ("owner", "kind"):
            whole = space.ask_office(office, by)
            assert sum(each.figures.occupied for each in whole.parts) == whole.whole.figures.occupied


def _kept_and_worked_out(tmp_path: Path, root: Path, rules: SpaceRules, same=()) -> tuple[SpaceView, SpaceView]:
    ledger = open_ledger(tmp_path / "ledger.db", create=True)
    ledger.add_count([gather(root, tmp_path)], datetime.now(UTC), "test")
    info = ledger.find_count().surveys[0]
    return SpaceView(ledger.read_survey(info), SpaceRules()), SpaceView(ledger.read_survey(info), rules, same)


@pytest.mark.judge
def test_kept_totals_are_those_worked_out_and_sorts_add_up(tmp_path: Path) -> None:
    root = tmp_path / "tree"
    make_tree(root, 11)
    (root / ".snap" / "monday").mkdir(parents=True)
    (root / "work").mkdir()
    (root / "work" / ".old").mkdir()
    (root / "work" / "report.odt").write_bytes(b"x" * 50_000)
    os.link(root / "work" / "report.odt", root / ".snap" / "monday" / "report.odt")
    (root / "work" / ".old" / "report 1.odt").write_bytes(b"y" * 30_000)
    rules = SpaceRules(patterns={Sort.VERSIONS: (b"/**/.old",), Sort.SNAPSHOTS: (b"/.snap",)})
    kept, apart = _kept_and_worked_out(tmp_path, root, rules)
    assert kept.is_kept_whole and not apart.is_kept_whole
    for row in range(kept.folders.rows):
        assert kept.at(row) == Figures.of_row(kept.usage().totals[row])
    for by in ("by_owner", "by_kind", "by_group"):
        whole = getattr(kept, by)()
        assert whole == getattr(_without_totals(kept), by)()
        assert by == "by_group" or sum(part.occupied for part in whole.values()) == du(os.fsencode(root))
    sorts = apart.by_sort()
    assert sum(part.occupied for part in sorts.values()) == apart.all_at(0).occupied == du(os.fsencode(root))
    # What a snapshot shares with the files in use costs it nothing; only its folders do.
    assert sorts[Sort.SNAPSHOTS].files == 0 and sorts[Sort.VERSIONS].files == 1
    assert apart.at(0).occupied == sorts[Sort.CURRENT].occupied
    both = SpaceRules(patterns=rules.patterns, counted=frozenset({Sort.CURRENT, Sort.VERSIONS}))
    counted = SpaceView(apart.reader, both)
    assert counted.at(0).files == sorts[Sort.CURRENT].files + 1


@pytest.mark.judge
@pytest.mark.parametrize("linked", [False, True])
def test_what_is_kept_beside_is_taken_off_the_same_either_way(tmp_path: Path, linked: bool) -> None:
    root = tmp_path / "tree"
    make_tree(root, 12)
    for number, where in enumerate(("", "work/", "work/deep/", "work/deep/.old/inner/")):
        (root / where / ".old").mkdir(parents=True)
        (root / where / ".old" / f"one {number}.odt").write_bytes(b"y" * (9_000 + number))
        (root / where / "here.odt").write_bytes(b"x" * 100)
    if linked:
        os.link(root / "work" / "here.odt", root / ".old" / "the same.odt")
    rules = SpaceRules(
        patterns={Sort.VERSIONS: (b"/**/.old",), Sort.BIN: (b"/work/de*",)}, counted=frozenset({Sort.CURRENT})
    )
    inner = SpaceRules(patterns={Sort.VERSIONS: (b"/.old", b"/work/.old")}, counted=frozenset({Sort.CURRENT}))
    for each in (rules, inner):
        _, view = _kept_and_worked_out(tmp_path, root, each)
        slow = SpaceView(view.reader, each)
        slow.__dict__["_apart"] = None
        assert (view._apart is None) == (linked or each is rules), (
            "trees within trees, and links out of them, are worked out"
        )
        for row in range(view.folders.rows):
            assert view.at(row) == slow.at(row)
        for by in ("by_owner", "by_kind", "by_group"):
            assert getattr(view, by)() == getattr(slow, by)()
        (tmp_path / "ledger.db").unlink()


def _without_totals(view: SpaceView) -> SpaceView:
    found = SpaceView(view.reader, view.rules)
    found.__dict__["is_kept_whole"] = False
    return found


@pytest.mark.judge
def test_one_tree_under_two_paths_is_counted_once_by_identity_or_by_the_plan(tmp_path: Path, run) -> None:
    root = tmp_path / "tree"
    for name in ("homes/ada", "shown/again", "copy"):
        (root / name).mkdir(parents=True)
    (root / "homes" / "ada" / "letter.odt").write_bytes(b"a" * 40_000)
    (root / "copy" / "letter.odt").write_bytes(b"a" * 40_000)
    subprocess.run(["mount", "--bind", root / "homes", root / "shown" / "again"], check=True)
    try:
        survey = gather(root, tmp_path)
        once = du(os.fsencode(root / "homes")) + sum(du(os.fsencode(root / name)) for name in ("copy",))
        # The two folders that hold the mount, and the root itself, are counted too.
        assert survey.totals["totals"]["occupied"][0] == once + 2 * 4096
        here = paths_of(survey).index(b"/shown/again")
        assert survey.totals["totals"]["occupied"][here] == du(os.fsencode(root / "homes"))
        kept, view = _kept_and_worked_out(
            tmp_path, root, SpaceRules(), [SameAs(parse_address("barn:/copy"), parse_address("barn:/homes/ada"))]
        )
        assert kept.at(0).occupied - view.at(0).occupied == du(os.fsencode(root / "copy"))
        assert kept.seen_twice() == [(parse_address("barn:/shown/again"), parse_address("barn:/homes"))]
        away = SpaceView(view.reader, SpaceRules(), [SameAs(parse_address("barn:/copy"), parse_address("loft:/x"))])
        assert away.at(0) == view.at(0) and away.at(away.row_of(b"/copy")).files == 1
    finally:
        subprocess.run(["umount", root / "shown" / "again"], check=True)


@pytest.mark.judge
def test_the_least_of_a_subvolumes_limits_is_the_one_that_stops(run) -> None:
    """What it has for itself may be limited, and the groups that it is in, on several levels."""
    with tempfile.TemporaryDirectory(dir="/tmp") as name, btrfs.mounted(Path(name)) as top:
        for word in ("above", "own", "free"):
            btrfs.make_subvolume(top / word, 60_000_000 if word == "above" else None)
        btrfs.limit_above(top, "above", 20_000_000)
        btrfs.limit_own(top / "own", 10_000_000)
        for word in ("above", "own", "free"):
            btrfs.write_more(top / word / "x", 1_000_000)
        btrfs.make_subvolume(top / "packed", None)
        subprocess.run(["btrfs", "property", "set", top / "packed", "compression", "zstd"], check=True)
        (top / "packed" / "log").write_bytes(b"the same line again\n" * 400_000)
        btrfs.settle(top)
        office = Path(name) / "office"
        office.mkdir()
        (office / "passwd").write_text("ada:x:2001:3001:Ada:/:/bin/sh\n")
        (office / "group").write_text("staff:x:3001:\n")
        (office / "office.yaml").write_text(
            f"office: Loop\nsystems: {{disk: {{source: tree, path: {top}, accounts: {{passwd: passwd, group: group}}}}}}\n"
        )
        run("count", "--office", office)
        lines = csv.DictReader(io.StringIO(run("space", "--format", "csv", "--office", office).stdout))
        found = {line["place"]: (line["found_bytes"], line["left_bytes"]) for line in lines if line["on"] == "folder"}
        assert [found[f"disk:/{word}"][0] for word in ("above", "own", "free")] == [
            "20000000",
            "10000000",
            "no limit",
        ]
        # Compressed data: what is counted is not what the system goes by, and both are said.
        packed = run("space", "disk:/packed", "--office", office).stdout
        assert re.search(r"disk:/packed: the system says \d+ kB used, the counted files make 8\.0\d MB\.", packed), (
            packed
        )
        assert "Compressed data" in packed
        assert "the system says" not in run("space", "disk:/free", "--office", office).stdout
        for word in ("above", "own"):
            left = int(found[f"disk:/{word}"][1])
            assert btrfs.write_more(top / word / "big", left) == left
            assert btrfs.write_more(top / word / "big", 4096, append=True) == 0
        # Who is not root is told of no quota groups by some kernels: then a limit is not known, and never "none".
        (office / "ledger.db").unlink()
        os.chmod(office, 0o777)
        assert status_as_nobody(office, lambda: main(["count", "--quiet", "--office", str(office)])) == 0
        lines = csv.DictReader(io.StringIO(run("space", "--format", "csv", "--office", office).stdout))
        told = {line["place"]: (line["found_bytes"], line["state"]) for line in lines if line["on"] == "folder"}
        least = {"disk:/above": 20_000_000, "disk:/own": 10_000_000}
        for place, (limit, state) in told.items():
            assert limit != "no limit" and (limit or state == "not told"), (place, limit, state)
            assert not limit or int(limit) == least.get(place), (place, limit)


@pytest.mark.judge
def test_a_quota_group_is_read_and_room_is_what_can_be_written(run) -> None:
    with tempfile.TemporaryDirectory(dir="/tmp") as name, btrfs.mounted(Path(name)) as top:
        office = Path(name) / "office"
        office.mkdir()
        (office / "passwd").write_text("root:x:0:0:root:/root:/bin/sh\nada:x:2001:3001:Ada:/:/bin/sh\n")
        (office / "group").write_text("root:x:0:\nstaff:x:3001:\n")
        (office / "office.yaml").write_text(
            f"office: Loop\nsystems:\n  disk:\n    source: tree\n    path: {top}\n"
            "    accounts: {passwd: passwd, group: group}\npeople: {ada: {accounts: {disk: ada}}}\n"
        )
        rng = random.Random(3 if os.environ.get("CI") else None)
        limits = {}
        for number in range(4):
            limits[f"v{number}"] = rng.randrange(3_000_000, 12_000_000)
            btrfs.make_subvolume(top / f"v{number}", limits[f"v{number}"])
        btrfs.make_subvolume(top / "v0" / "inner", 2_000_000)
        (top / "free").mkdir()
        for path in (top / "v0" / "inner", *(top / f"v{number}" for number in range(4)), top / "free"):
            path.chmod(0o777)
            for number in range(rng.randrange(8)):
                (path / f"f{number}").write_bytes(os.urandom(rng.randrange(5_000, 60_000)))
        run("count", "--office", office)
        told = btrfs.referenced(top)
        lines = list(csv.DictReader(io.StringIO(run("space", "--format", "csv", "--office", office).stdout)))
        folders = {line["place"]: line for line in lines if line["on"] == "folder"}
        for path, (used, limit) in told.items():
            line = folders[f"disk:/{path}"]
            assert (int(line["told_bytes"]), line["found_bytes"]) == (
                used,
                "no limit" if limit is None else str(limit),
            )
            assert int(line["used_bytes"]) == used and line["found_rule"] == ("enforced" if limit else "-")
        for path in ("v0/inner", *limits):
            answer = run("space", "ada", f"disk:/{path}", "--format", "csv", "--office", office).stdout
            first = next(csv.DictReader(io.StringIO(answer)))
            assert first["what"] == f"limit on disk:/{path}" and "quota group 0/" in first["because"]
            room = int(first["room_bytes"])
            # An outer subvolume's limit does not count what lies in an inner one.
            assert ("limit on disk:/v0," in answer.replace('"', "")) == (path == "v0")
            assert btrfs.write_more(top / path / "big", room) == room
            assert btrfs.write_more(top / path / "big", 4096, append=True) == 0, "one block more cannot be written"
        pool = next(line for line in lines if line["on"] == "pool")
        info = os.statvfs(top)
        assert int(pool["found_bytes"]) == info.f_blocks * info.f_frsize


@pytest.mark.judge
def test_what_is_mounted_in_a_tree_has_a_limit_of_its_own(tmp_path: Path, run) -> None:
    root = tmp_path / "tree"
    (root / "outside store").mkdir(parents=True)
    (root / "here").mkdir()
    (tmp_path / "passwd").write_text("root:x:0:0:root:/root:/bin/sh\nada:x:2001:3001:Ada:/:/bin/sh\n")
    (tmp_path / "group").write_text("root:x:0:\nstaff:x:3001:\n")
    (tmp_path / "office.yaml").write_text(
        "office: X\nsystems:\n  barn: {source: tree, path: tree, one-file-system: false,"
        " accounts: {passwd: passwd, group: group}}\npeople: {ada: {accounts: {barn: ada}}}\n"
    )
    subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=4m,nr_inodes=40,mode=777", "none", root / "outside store"], check=True
    )
    try:
        (root / "outside store" / "a.odt").write_bytes(b"x" * 100_000)
        run("count", "--office", tmp_path)
        answer = run("space", "ada", "barn:/outside store", "--format", "csv", "--office", tmp_path).stdout
        stop, files = csv.DictReader(io.StringIO(answer))
        free = os.statvfs(root / "outside store")
        assert int(stop["left_bytes"]) == free.f_bavail * free.f_frsize
        lines = {
            row["place"]: row
            for row in csv.DictReader(io.StringIO(run("space", "--format", "csv", "--office", tmp_path).stdout))
        }
        assert int(lines["barn:/outside store"]["found_bytes"]) == 4 * 1024**2
        # The pool of the root holds the root's own files alone.
        assert int(lines["barn"]["used_bytes"]) == int(lines["barn"]["told_bytes"]) > 4 * 1024**2
        assert "barn:/outside store" not in run("space", "ada", "barn:/here", "--office", tmp_path).stdout
        # As many files as are said to fit can be made, and not one more, whatever space is left.
        told = re.search(r"2 of 40 files and folders, .*: (\d+) more can be made", files["because"])
        assert told and int(lines["barn:/outside store"]["items_limit"]) == 40
        for number in range(int(told[1])):
            (root / "outside store" / str(number)).touch()
        with pytest.raises(OSError, match="No space left"):
            (root / "outside store" / "more").touch()
        run("count", "--office", tmp_path)
        answer = run("space", "ada", "barn:/outside store", "--format", "csv", "--office", tmp_path).stdout
        assert next(csv.DictReader(io.StringIO(answer)))["room_bytes"] == "0" and "not one more can be made" in answer
        assert "full: no more files" in run("space", "--office", tmp_path).stdout
    finally:
        subprocess.run(["umount", root / "outside store"], check=True)
