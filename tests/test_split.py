"""Which folders belong together by how they change; devices by text, what a service keeps, who can bring back."""

from __future__ import annotations

import csv
import io
import json
from dataclasses import replace
from datetime import date, timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from ruamel.yaml import YAML

from neatledger.core.drafting.protection import RHYTHMS, FolderUse, split
from neatledger.core.plan.protection import BackupRule, SnapshotRule, SystemProtection, Wanted
from neatledger.core.tree.address import Address

DAY = timedelta(days=1)


def rows(text: str) -> list[dict[str, str]]:
    return list(csv.DictReader(io.StringIO(text)))


@st.composite
def uses(draw: st.DrawFn, path: bytes = b"", depth: int = 0) -> FolderUse:
    parts = (
        []
        if depth == 2
        else [draw(uses(path + b"/%d" % number, depth + 1)) for number in range(draw(st.integers(0, 3)))]
    )
    most = draw(st.integers(0, 3000)) + sum(one.most for one in parts)
    least = min(most, draw(st.integers(0, 40)) + sum(one.least for one in parts))
    size = draw(st.integers(0, 10**9)) + sum(one.size for one in parts)
    return FolderUse(
        Address("barn", path or b"/top"), 28, size, least, most, draw(st.integers(0, size)) if most else 0,
        growth=draw(st.none() | st.floats(-1e6, 1e6)), parts=tuple(parts),
    )  # fmt: skip


def savings_in(use: FolderUse, loss: timedelta) -> float:
    """How many are to be expected, hour by hour of a week of five days of eight hours."""
    hours = loss / timedelta(hours=1)
    a_week = max(use.most, use.savings or 0) / 4
    return a_week / 40 * min(hours, 8) if hours <= 24 else a_week * hours / (7 * 24)


@given(uses(), st.none() | st.sampled_from([DAY, 2 * DAY, timedelta(hours=3)]), st.none() | st.just(400 * DAY))
def test_no_more_savings_are_lost_than_may_be_and_no_copy_is_made_oftener_than_that_needs(use, loss, reach) -> None:
    groups = split([(use, Wanted(loss=loss, reach=reach))], SystemProtection())
    parts = [(group, part) for group in groups for part in group.parts]
    for group, part in parts:
        assert group.rhythm.loss <= part.loss or group.rhythm is RHYTHMS[0]
        assert group.keep >= (reach or timedelta(0)) and group.least <= group.most
        assert (group.snapshots is not None) == (group.rhythm.loss < DAY)
        if loss is not None:
            assert part.is_said and part.loss == loss
            continue
        assert savings_in(part.use, part.loss) <= 10.0001 or group.rhythm is RHYTHMS[0]
        rarer = [one for one in RHYTHMS if one.loss > part.loss]
        assert all(savings_in(part.use, one.loss) > 9.9999 for one in rarer)
    # What stands apart is stiller than the rest, large, left out there, and nothing is in two of them.
    tops = {part.use.address for _, part in parts}
    left_out = {place for _, part in parts for place in part.without}
    assert tops - {use.address} == left_out and len(parts) == len(tops)
    if loss is None:
        assert sum(part.use.size for _, part in parts) == use.size
        losses = {part.use.address: part.loss for _, part in parts}
        assert all(losses[place] > part.loss for _, part in parts for place in part.without)
    # What a rule copies so already is told as its own, and asks for nothing.
    rule = BackupRule("all", (b"/",), disk="tape", every=timedelta(minutes=1), keep=5000 * DAY)
    for group in split([(use, Wanted(loss=loss, reach=reach))], SystemProtection("array", "", (), (rule,))):
        assert group.by == ("backup all" if group.snapshots is None else "")


def use(**more: object) -> FolderUse:
    return FolderUse(
        **{"address": Address("barn", b"/a"), "days": 28, "size": 1000, "least": 0, "most": 0, "written": 0} | more
    )


# Ten savings may be lost, in a week of five days of eight hours.
RHYTHM = [
    (0, None, "each-month"), (9, None, "each-month"), (10, None, "each-week"), (40, None, "each-week"), (41, None, "each-day"),
    (200, None, "each-day"), (201, None, "each-hour"), (1600, None, "each-hour"), (1601, None, "each-quarter-hour"),
    (0, 9, "each-month"), (900, 40, "each-week"), (900, 201, "each-hour"), (10**6, 10**6, "each-quarter-hour"),
]  # fmt: skip


@pytest.mark.parametrize(("most", "savings", "name"), RHYTHM)
def test_a_rhythm_is_the_rarest_that_loses_no_more_than_may_be(most: int, savings: int | None, name: str) -> None:
    (group,) = split([(use(most=most, savings=savings), Wanted())], SystemProtection())
    assert group.rhythm.name == name and group.name == f"barn-{name}"
    assert group.every == max(group.rhythm.loss, DAY) and group.keep == max(group.rhythm.keep, 30 * DAY)


WORDS = [
    ({}, "nothing written in 28 days"), ({"newest": date(2026, 1, 2)}, "nothing written in 28 days, the last on 2026-01-02"),
    ({"most": 1, "least": 1}, "1 file written in 28 days"), ({"most": 1200, "least": 3}, "3 to 1,200 files written in 28 days"),
    ({"most": 3, "savings": 1, "people": 1}, "1 saving in 28 days by 1 account"), ({"savings": 1500, "people": 2}, "1,500 savings in 28 days by 2 accounts"),
    ({"most": 1, "savings": 0}, "0 savings in 28 days"),
]  # fmt: skip


@pytest.mark.parametrize(("told", "why"), WORDS, ids=range(len(WORDS)))
def test_why_a_folder_stands_where_it_does(told: dict[str, object], why: str) -> None:
    (group,) = split([(use(**told), Wanted())], SystemProtection())
    assert group.parts[0].why == why and not group.parts[0].is_said
    (group,) = split([(use(**told), Wanted(loss=DAY, reach=31 * DAY))], SystemProtection())
    assert group.parts[0].why == f"the plan says so; {why}" and group.name == "barn-each-day-kept-31-days"


def test_what_copies_take_in_a_year() -> None:
    told = {"most": 160, "least": 16, "written": 2800, "growth": 2.0}
    (group,) = split([(use(**told), Wanted())], SystemProtection())
    # At least: all of it once, and each day what is surely written. At most: what it will have grown to, each day.
    assert (group.keep, group.least, group.most) == (30 * DAY, 1000 + 30 * 10, 30 * (1000 + 2 * 365))
    (group,) = split([(use(**told | {"growth": None}), Wanted(reach=400 * DAY))], SystemProtection())
    assert (group.least, group.most) == (1000 + 365 * 10, 365 * 1000)
    (group,) = split([(use(**told | {"growth": -9.0, "most": 320, "savings": 640}), Wanted())], SystemProtection())
    # And between them snapshots of each hour for a week: each saving as large as a file that was written.
    assert group.snapshots == (timedelta(hours=1), 7 * DAY)
    assert (group.least, group.most) == (1000 + 30 * 5, 30 * 1000 + 7 * 200)
    (group,) = split([(use(savings=5), Wanted())], SystemProtection())
    assert (group.least, group.most) == (1000, 12 * 1000)


def test_what_is_large_and_stiller_stands_apart_and_nothing_else_does() -> None:
    def parts(*below: FolderUse, **more: object) -> list[tuple[bytes, str, int]]:
        groups = split([(use(most=400, savings=400, parts=below, **more), Wanted())], SystemProtection())
        return [
            (part.use.address.path, group.rhythm.name, len(part.without)) for group in groups for part in group.parts
        ]

    still = use(address=Address("barn", b"/a/old"), size=250)
    assert parts(still) == [(b"/a", "each-hour", 1), (b"/a/old", "each-month", 0)]
    assert parts(replace(still, size=249)) == parts(replace(still, size=1000)) == [(b"/a", "each-hour", 0)]
    assert parts(replace(still, most=400, savings=400)) == [(b"/a", "each-hour", 0)], "it is no stiller than the rest"
    assert parts(replace(still, size=0), size=0) == [(b"/a", "each-hour", 0)]


COPIED = [
    ({}, "nightly"), ({"every": timedelta(hours=25)}, ""), ({"keep": 29 * DAY}, ""), ({"keep": None}, ""), ({"every": None}, ""), ({"disk": "one"}, ""),
    ({"disk": "two"}, "nightly"), ({"without": (b"/a",)}, ""),
]  # fmt: skip


@pytest.mark.parametrize(("more", "by"), COPIED, ids=range(len(COPIED)))
def test_a_rule_of_the_plan_does_where_it_is_as_often_and_as_long_and_elsewhere(more: dict, by: str) -> None:
    rule = BackupRule(**{"name": "nightly", "of": (b"/",), "every": DAY, "keep": 30 * DAY} | more)
    (group,) = split([(use(savings=200), Wanted())], SystemProtection(disk="one", backups=(rule,)))
    assert group.by == (rule.title if by else "")
    hourly = use(savings=400)
    for every, found in ((timedelta(hours=1), by), (timedelta(hours=2), "")):
        taken = SnapshotRule(b"/", b"/.s", every=every)
        (group,) = split([(hourly, Wanted())], SystemProtection(disk="one", backups=(rule,), snapshots=(taken,)))
        assert group.by == (rule.title if found else "")


def test_a_draft_is_written_and_taken_out_again_and_what_is_there_stays(demo: Path, run) -> None:
    day = ("--office", demo, "--today", "2026-11-23")
    before = YAML(typ="safe").load((demo / "office.yaml").read_text())
    found = rows(run("protect", "--split", "--format", "csv", *day).stdout)
    accounts = next(row for row in found if row["where"] == "loft:/Accounts")
    assert accounts["loss"] == "1 hour" and accounts["snapshots"] == "each 1 hour, kept 7 days"
    text = run("draft", "--only", "protection", "--text", *day).stdout
    run("draft", "--only", "protection", "--write", *day)
    plan = (demo / "office.yaml").read_text()
    assert "loft:/Accounts: {loss: 1 hour}" in plan and "nightly" in plan and "barn-each-week" in text
    # Once written it is nothing new, and the rules are the plan's own.
    assert "0 entries added" in run("draft", "--only", "protection", "--write", *day).stdout
    again = rows(run("protect", "--split", "--format", "csv", *day).stdout)
    assert {row["pool"] for row in again if row["where"] == "meadow:/People"} == {"backup meadow-each-month"}
    run("draft", "--undo", *day)
    assert YAML(typ="safe").load((demo / "office.yaml").read_text()) == before
    assert "drafted" not in (demo / "office.yaml").read_text()


MOUNTS = r"""
/dev/mapper/vault /srv ext4 rw 0 0
/dev/mapper/vg-raid /srv/raid xfs rw 0 0
/dev/mapper/vg-mixed /srv/mixed xfs rw 0 0
/dev/sdb1 /srv/plain ext4 rw 0 0
/dev/sdb1 /srv/plain/a\040b ext4 rw 0 0
/dev/mapper/check /srv/check ext4 rw 0 0
/dev/mapper/gone /srv/gone ext4 rw 0 0
server:/export /srv/net nfs4 rw 0 0
/dev/mapper/vault /srv/plain/deep ext4 rw 0 0
"""
CRYPT = (
    "/dev/mapper/vault is active and is in use.\n  type:    LUKS2\n  cipher:  aes-xts-plain64\n"
    "/dev/mapper/gone is inactive.\n/dev/mapper/check is active.\n  type:    VERITY\n",
    "vg-raid: 0 100 linear 253:7 2048\nvg-raid: 100 100 linear 253:7 4096\nvg-mixed: 0 100 striped 2 128 253:7 0 8:17 0\n"
    "vg-other: 0 50 linear 253:7 0\nvg-other: 50 50 linear /dev/sdc 0\nbottom: 0 999 crypt aes-xts-plain64 :64:logon:x 0 8:2 32768\nbottom\t(253:7)\n",
)  # fmt: skip


@pytest.mark.parametrize(("path", "found"), [
    ("/x", "encrypted"), ("/raid", "encrypted"), ("/mixed", "not known"), ("/plain", "not encrypted"), ("/plain/a b/c", "not encrypted"),
    ("/check", "not encrypted"), ("/gone", "not known"), ("/net", "not known"), ("/plain/deep/er", "encrypted"), ("/raids", "encrypted"),
])  # fmt: skip
def test_devices_are_encrypted_as_their_own_tools_tell(tmp_path: Path, run, path: str, found: str) -> None:
    (tmp_path / "tree").mkdir()
    (tmp_path / "mounts").write_text(MOUNTS)
    for number, text in enumerate(CRYPT):
        (tmp_path / f"crypt{number}").write_text(text)
    (tmp_path / "office.yaml").write_text(
        "office: P\npeople:\n  ada: {name: Ada, accounts: {barn: ada}}\nsystems:\n  barn:\n    source: tree\n    path: tree\n"
        "    accounts: {passwd: passwd, group: group}\n    protection:\n"
        "      devices: {mounts: mounts, crypt: [crypt0, crypt1], below: /srv}\n"
        f"      encrypted: {{'{path}': [ada]}}\n"
    )
    (tmp_path / "passwd").write_text("ada:x:1001:1001:Ada:/:/bin/sh\n")
    (tmp_path / "group").write_text("ada:x:1001:\n")
    run("count", "--no-check", "--quiet", "--office", tmp_path)
    told = run("check", "--only", "device-not-encrypted", "--format", "csv", "--office", tmp_path, status=None).stdout
    assert len(rows(told)) == (found == "not encrypted")
    page = tmp_path / "page.html"
    run("report", "protection", "-o", page, "--office", tmp_path)
    assert f">{found}<" in page.read_text()


@pytest.mark.parametrize(("rules", "told", "less"), [
    ("keep-versions: 9", "keep-versions: 8", "it keeps 8 old versions, and the plan says 9"), ("keep-versions: 9", "keep-versions: 9", ""),
    ("keep-versions: {odt: 9, others: 1}", "keep-versions: 8", "it keeps 8 old versions, and the plan says 9"),
    ("keep-bin-days: 30", "keep-bin-days: 29", "its bin keeps for 29 days, and the plan says for 30"), ("keep-bin-days: 30", "keep-bin-days: for ever", ""),
    ("keep-bin-days: for ever", "keep-bin-days: 99", "its bin keeps for 99 days, and the plan says forever"),
    ("keep-bin-days: for ever", "keep-bin-days: many", ""), ("keep-bin-days: 30", "keep-versions: 1", ""),
])  # fmt: skip
def test_what_a_service_tells_of_itself_is_held_against_the_plan(tmp_path: Path, run, rules, told, less) -> None:
    (tmp_path / "office.yaml").write_text(
        "office: P\npeople:\n  ada: {name: Ada, accounts: {cloud: ada}}\nsystems:\n  cloud:\n    source: listing\n    lists: role\n"
        f"    path: cloud.csv\n    accounts: {{people: people.csv}}\n    sharing: cloud.json\n    space: {{{rules}}}\n"
    )
    (tmp_path / "cloud.csv").write_text("path,type,list\n/,folder,\n")
    (tmp_path / "people.csv").write_text("login,id,name\nada,ada,Ada\n")
    key, _, value = told.partition(": ")
    (tmp_path / "cloud.json").write_text(json.dumps({"service": [{"running": "yes", key: value}]}))
    run("count", "--no-check", "--quiet", "--office", tmp_path)
    only = ("--only", "keeps-less-than-plan", "--format", "csv", "--office", tmp_path)
    assert [row["evidence"] for row in rows(run("check", *only, status=None).stdout)] == [less] * bool(less)
    not_seen = run("ledger", "--not-seen", "cloud", "--office", tmp_path).stdout
    assert ("no whole number" in not_seen) == (value == "many")


def test_who_can_bring_back_is_who_reads_the_copy_and_writes_there_or_whom_the_plan_names(demo: Path, run) -> None:
    day = ("--format", "csv", "--office", demo, "--today", "2026-11-23")
    told = {row["where"]: row for row in rows(run("protect", *day, status=1).stdout)}
    copy = {row["person"] for row in rows(run("who", "barn:/Incoming scans", *day).stdout) if row["read"] == "1"}
    here = {row["person"] for row in rows(run("who", "barn:/Rota", *day).stdout) if row["add"] == "1"}
    names, _, more = told["barn:/Rota"]["restorers"].partition(" and ")
    assert set(names.split(", ")) <= copy & here and len(copy & here) == 4 + int(more.split()[0])
    assert told["barn:/Records"]["restorers"] == "kestrel" and told["barn:/Records"]["back_minutes"] == "360"
    assert "only single files can be restored" in told["barn:/Homes"]["why"]


def test_another_number_of_versions_is_told_beside_the_rest(demo: Path, run) -> None:
    day = ("--format", "csv", "--office", demo, "--today", "2026-11-23")
    then = rows(run("suppose", "--versions", "barn=20", "--versions", "barn:dcm=40", *day, status=0).stdout)
    kept = {row["kind"]: row for row in rows(run("space", "barn", "--by", "version", *day).stdout)}
    odt = next(row for row in then if row["where"] == "barn: old versions of odt")
    assert (odt["state"], odt["then_state"]) == ("6 kept", "20 kept")
    # Of 6 kept 20 would be: at most each file has as many as that.
    assert 0 <= int(odt["least_bytes"]) <= int(odt["most_bytes"]) <= int(kept["odt"]["measured_bytes"]) * 14 // 6 + 1
    assert next(row for row in then if "dcm" in row["where"])["then_state"] == "40 kept"
    for words, said in (
        ("barn:nope=3", "no files of the kind 'nope'"),
        ("born=3", "no system"),
        ("barn=few", "few"),
    ):
        assert said in run("suppose", "--versions", words, "--office", demo, status=2).stderr
