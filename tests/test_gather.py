"""What gathering keeps, against a slow and plain reading of the same tree, and against du."""

from __future__ import annotations

import os
import stat
import subprocess
import sys
from collections import Counter
from datetime import date
from pathlib import Path

import numpy as np
import pytest

from judges import kernel
from neatledger.core.lists.posix import pack_body
from neatledger.core.people.credentials import Credentials
from neatledger.core.survey.survey import Survey
from neatledger.core.tree.columns import SeenState, kind_of
from neatledger.formats.posixacl import entries_from_attribute
from neatledger.sources import tree as tree_source
from neatledger.sources.contract import SourceContext
from neatledger.sources.table import load_source


def _nobody(user: str, host: str) -> Credentials:
    raise AssertionError("a tree wants no password")


def gather(root: Path, tmp_path: Path, source: str = "tree", **settings: object) -> Survey:
    (tmp_path / "passwd").write_text(kernel.PASSWD)
    (tmp_path / "group").write_text(kernel.GROUP_FILE)
    accounts = {"passwd": str(tmp_path / "passwd"), "group": str(tmp_path / "group")}
    told: list[int] = []
    context = SourceContext(
        "barn", tmp_path, {"path": str(root), "accounts": accounts, **settings}, date.today(), told.append, _nobody
    )
    survey = load_source(source)(context)
    assert sum(told) + (source == "tree") == survey.facts["entries"]
    return survey


def paths_of(survey: Survey) -> list[bytes]:
    names, parent = survey.folders.texts("name"), survey.folders["parent"]
    found: list[bytes] = []
    for row, name in enumerate(names):
        found.append(b"/" if row == 0 else found[parent[row]].rstrip(b"/") + b"/" + name)
    return found


def body_of(path: bytes, attribute: str = kernel.ACCESS) -> bytes:
    info = os.lstat(path)
    try:
        entries = entries_from_attribute(os.getxattr(path, attribute, follow_symlinks=False))
    except OSError:
        entries = b""
    if attribute == kernel.DEFAULT:
        return pack_body(0, 0, entries) if entries else b""
    return pack_body(info.st_mode, info.st_gid, entries)


def slow_reading(root: Path) -> dict[bytes, dict[str, object]]:
    """Read a tree in the plainest way, path by path."""
    top = os.fsencode(root)
    found: dict[bytes, dict[str, object]] = {}
    for path, folders, names in os.walk(top):
        here: dict[str, object] = {"links": 0, "specials": 0}
        classes: Counter[tuple[bytes, str, bytes]] = Counter()
        sizes: Counter[tuple[bytes, str, bytes]] = Counter()
        files: dict[bytes, tuple[bytes, str]] = {}
        real = []
        for name in folders + names:
            info = os.lstat(path + b"/" + name)
            if stat.S_ISREG(info.st_mode):
                sort = body_of(path + b"/" + name), str(info.st_uid)
                classes[(*sort, kind_of(name))] += 1
                sizes[(*sort, kind_of(name))] += info.st_size
                files[name] = sort
                real.append(name)
            elif stat.S_ISLNK(info.st_mode):
                here["links"] = int(str(here["links"])) + 1
            elif stat.S_ISDIR(info.st_mode):
                real.append(name)
            else:
                here["specials"] = int(str(here["specials"])) + 1
        folded = Counter(os.fsdecode(name).casefold() for name in real)
        here |= {
            "list": body_of(path),
            "default": body_of(path, kernel.DEFAULT),
            "owner": str(os.lstat(path).st_uid),
            "classes": classes,
            "sizes": sizes,
            "files": files,
            "collisions": {name for name in real if folded[os.fsdecode(name).casefold()] > 1},
        }
        found[path[len(top) :] or b"/"] = here
    return found


def compare(survey: Survey, slow: dict[bytes, dict[str, object]]) -> None:
    paths = paths_of(survey)
    folders, classes, odd = survey.folders, survey.classes, survey.odd
    assert sorted(paths) == sorted(slow)
    for row, path in enumerate(paths):
        known = slow[path]
        default = int(folders["default"][row])
        assert survey.lists[folders["list"][row]] == known["list"]
        assert (survey.lists[default] if default >= 0 else b"") == known["default"]
        assert survey.idents[folders["owner"][row]] == known["owner"]
        assert (folders["links"][row], folders["specials"][row]) == (known["links"], known["specials"])
        children = range(
            int(folders["first_child"][row]), int(folders["first_child"][row] + folders["children"][row])
        )
        assert all(folders["parent"][child] == row for child in children)
        names = [folders.texts("name")[child] for child in children]
        assert names == sorted(names)
        counts: Counter[tuple[bytes, str, bytes]] = Counter()
        sizes: Counter[tuple[bytes, str, bytes]] = Counter()
        first = int(folders["first_class"][row])
        for each in range(first, first + int(folders["classes"][row])):
            assert classes["folder"][each] == row
            key = (
                survey.lists[classes["list"][each]],
                survey.idents[classes["owner"][each]],
                os.fsencode(survey.kinds[classes["kind"][each]]),
            )
            counts[key] += int(classes["files"][each])
            sizes[key] += int(classes["bytes"][each])
        assert (counts, +sizes) == (known["classes"], +known["sizes"])
        first = int(folders["first_odd"][row])
        named = {
            odd.texts("name")[each]: (survey.lists[odd["list"][each]], survey.idents[odd["owner"][each]])
            for each in range(first, first + int(folders["odds"][row]))
        }
        files = known["files"]
        assert all(files[name] == sort for name, sort in named.items())
        usual = {sort for name, sort in files.items() if name not in named}
        assert len(usual) <= 1 and not usual & set(named.values()), (
            "every file is odd by name, or of the one usual sort"
        )
        most = max(Counter(files.values()).values(), default=0)
        assert len(files) - len(named) == most
    found: dict[bytes, set[bytes]] = {}
    for row, name in zip(survey.collisions["folder"], survey.collisions.texts("name"), strict=True):
        found.setdefault(paths[row], set()).add(name)
    assert found == {path: known["collisions"] for path, known in slow.items() if known["collisions"]}


@pytest.mark.judge
@pytest.mark.parametrize("workers", [1, 2])
def test_a_survey_is_a_plain_reading_of_the_tree(tmp_path: Path, monkeypatch, workers: int) -> None:
    root = tmp_path / "tree"
    kernel.make_random_tree(root, 40 + workers, 300)
    for name in ("Week.TXT", "week.txt", "WEEK.txt", "other.Txt", ".hidden", "no ending", "a." + "long" * 5):
        (root / name).write_text(name)
    (root / "Folder").mkdir()
    (root / "folder").mkdir()
    monkeypatch.setattr(tree_source, "_ENOUGH_JOBS", 8)
    monkeypatch.setattr(tree_source.os, "sched_getaffinity", lambda _: range(workers))
    here = os.getcwd()
    survey = gather(root, tmp_path)
    assert os.getcwd() == here
    compare(survey, slow_reading(root))
    assert survey.not_seen == []


@pytest.mark.judge
def test_bytes_are_those_of_du_with_hard_links_and_holes(tmp_path: Path) -> None:
    root = tmp_path / "tree"
    kernel.make_random_tree(root, 7, 80)
    with open(root / "with a hole", "wb") as out:
        out.truncate(5_000_000)
        out.seek(4_000_000)
        out.write(b"x" * 10_000)
    (root / "one" / "deep").mkdir(parents=True)
    (root / "one" / "file").write_bytes(b"y" * 123_456)
    os.link(root / "one" / "file", root / "one" / "deep" / "same")
    os.link(root / "one" / "file", root / "same again")
    for link in [path for path in root.rglob("*") if path.is_symlink() or path.is_fifo()]:
        link.unlink()
    survey = gather(root, tmp_path)
    hard = survey.hard
    assert hard.rows == 3 and len(set(hard["inode"].tolist())) == 1
    for column, words in (("bytes", ["--apparent-size"]), ("occupied", [])):
        told = subprocess.run(["du", "-s", "-B1", *words, root], capture_output=True, text=True, check=True).stdout
        twice = int(hard[column].sum()) - int(hard[column][0])
        ours = int(survey.folders[column].sum()) + int(survey.classes[column].sum()) - twice
        assert ours == int(told.split()[0]), column


@pytest.mark.judge
def test_another_file_system_is_not_entered_unless_told(tmp_path: Path) -> None:
    root = tmp_path / "tree"
    (root / "mounted").mkdir(parents=True)
    subprocess.run(["mount", "-t", "tmpfs", "none", root / "mounted"], check=True)
    try:
        (root / "mounted" / "inside").mkdir()
        survey = gather(root, tmp_path)
        assert paths_of(survey) == [b"/", b"/mounted"]
        assert survey.folders["state"][1] == SeenState.OTHER_FILE_SYSTEM
        assert survey.not_seen[0].path == b"/mounted" and "another file system" in survey.not_seen[0].why
        assert b"/mounted/inside" in paths_of(gather(root, tmp_path, **{"one-file-system": False}))
    finally:
        subprocess.run(["umount", root / "mounted"], check=True)


def test_a_listing_with_faults_is_read_as_far_as_it_goes(tmp_path: Path) -> None:
    lines = [
        "path,type,owner,group,mode,list,default,bytes,occupied,changed,identity,links",
        "/,folder,0,0,0755,,,4096,4096,0,1,",
        "/a,folder,2001,3001,2770,,,4096,4096,0,2,",
        "/a/b%2Cc,file,2001,3001,0640,,,10,4096,5,3,2",
        "/a/twin,file,2001,3001,0640,,,10,4096,5,3,2",
        "/a/odd,file,2001,3001,0664,user::rw-;group::r--,,10,4096,5,4,1",
        '/a/list,file,2001,3001,0660,"user::rw-,user:2002:r--,group::---,mask::rw-,other::---",,7,4096,9,5,1',
        "/b,door,0,0,0755,,,0,0,0,,",
        "/c,file,minus,0,0755,,,0,0,0,,",
        "/nowhere/file,file,0,0,0644,,,1,1,1,,",
        "/link,link,0,0,0777,,,4,0,0,,",
    ]
    listing = tmp_path / "listing.csv"
    listing.write_text("\n".join(lines) + "\n")
    survey = gather(listing, tmp_path, "listing")
    assert paths_of(survey) == [b"/", b"/a"] and survey.files == 5 and survey.folders["links"].tolist() == [1, 0]
    assert survey.hard.rows == 2
    why = [((each.source or os.fsdecode(each.path)).rpartition("/")[2], each.why) for each in survey.not_seen]
    assert [place for place, _ in why] == ["listing.csv:6", "listing.csv:8", "listing.csv:9", "file"]
    assert "door" in why[1][1] and "no folder above" in why[3][1]
    assert np.sum(survey.classes["bytes"]) == 27


@pytest.mark.judge
@pytest.mark.parametrize("closed", ["", "inner"])
def test_a_folder_that_may_be_listed_and_not_entered_is_not_seen(tmp_path: Path, closed: str) -> None:
    for name in ("tree/inner/deep", "tree/open"):
        (tmp_path / name).mkdir(parents=True)
    for name in ("tree/inner/f", "tree/open/f"):
        (tmp_path / name).write_bytes(b"x")
    code = "from neatledger.cli import main; import sys; sys.exit(main(sys.argv[1:]))"
    words = [sys.executable, "-c", code]
    subprocess.run(
        [*words, "connect", "--office", tmp_path / "office", f"barn={tmp_path / 'tree'}"],
        check=True,
        capture_output=True,
    )
    for path in (tmp_path, *tmp_path.parents[:-1]):
        path.chmod(path.stat().st_mode | 0o011)
    subprocess.run(["chown", "-R", "6543:6543", tmp_path], check=True)
    (tmp_path / "tree" / closed).chmod(0o400)
    user = ["setpriv", "--reuid", "6543", "--regid", "6543", "--clear-groups"]
    done = subprocess.run(
        [*user, *words, "count", "--not-seen", "--office", tmp_path / "office"], capture_output=True, text=True
    )
    assert "Traceback" not in done.stderr
    if closed:
        assert done.returncode == 0 and "barn:/inner  what is in it: permission denied" in done.stdout.lower(), done
        who = subprocess.run(
            [*words, "who", "barn:/open", "--office", tmp_path / "office"], capture_output=True, text=True
        )
        assert "In it and below: 1 file" in " ".join(who.stdout.split())
    else:
        assert done.returncode == 2 and done.stderr.count("\n") == 1 and str(tmp_path / "tree") in done.stderr
