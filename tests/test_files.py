"""Files that are written: whole or not at all, theirs who had them, and through nobody else's link."""

from __future__ import annotations

import csv
import io
import os
import shutil
import subprocess
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from neatledger import files
from neatledger.errors import NeatError
from neatledger.files import open_replacement, write_file

AS_ROOT = pytest.mark.skipif(not hasattr(os, "geteuid") or os.geteuid() != 0, reason="gives files to others")


def standing(path: Path) -> tuple[int, int, int, dict[str, bytes]]:
    info = path.lstat()
    return info.st_uid, info.st_gid, info.st_mode, {name: os.getxattr(path, name) for name in os.listxattr(path)}


@AS_ROOT
@pytest.mark.judge
@pytest.mark.parametrize("mode", [0o600, 0o640, 0o664])
@pytest.mark.parametrize("entries", [[], ["-m", "u:daemon:rw"], ["-m", "u:games:r,g:mail:rwx,m::rw"]])
def test_a_file_that_is_replaced_stays_whose_it_was(tmp_path: Path, mode: int, entries: list[str]) -> None:
    subprocess.run(["setfacl", "-d", "-m", "u:news:rwx", tmp_path], check=True)
    kept, link = tmp_path / "kept", tmp_path / "link"
    kept.write_text("before")
    subprocess.run(["setfacl", "-b", kept], check=True)
    kept.chmod(mode)
    os.chown(kept, 5, 60)
    if entries:
        subprocess.run(["setfacl", *entries, kept], check=True)
    os.setxattr(kept, "user.note", b"x")
    link.symlink_to("kept")
    before = standing(kept)
    write_file(link, b"after")
    assert kept.read_text() == "after" and standing(kept) == before and os.readlink(link) == "kept"
    with pytest.raises(ZeroDivisionError), open_replacement(kept) as out:
        out.write("half")
        raise ZeroDivisionError
    assert kept.read_text() == "after" and sorted(one.name for one in tmp_path.iterdir()) == ["kept", "link"]


@AS_ROOT
def test_who_may_only_write_a_file_leaves_it_to_its_owner(tmp_path: Path) -> None:
    shared = tmp_path / "shared"
    shared.write_text("a longer text than after it")
    shared.chmod(0o666)
    os.chown(shared, 5, 60)
    tmp_path.chmod(0o777)
    for folder in tmp_path.parents:
        folder.chmod(folder.stat().st_mode | 0o011)
    child = os.fork()
    if not child:
        os.setgroups([])
        os.setgid(65534)
        os.setuid(65534)
        try:
            write_file(shared, b"short")
        except BaseException:
            os._exit(1)
        os._exit(0)
    assert os.waitpid(child, 0)[1] == 0
    assert shared.read_text() == "short" and (shared.stat().st_uid, shared.stat().st_gid) == (5, 60)


@AS_ROOT
@pytest.mark.parametrize(("sticky", "owner", "follows"), [
    (0o1777, 5, False), (0o1777, 0, True), (0o777, 5, True), (0o1755, 5, True),
])  # fmt: skip
def test_no_link_is_followed_that_somebody_planted(tmp_path: Path, sticky: int, owner: int, follows: bool) -> None:
    (tmp_path / "precious").write_text("before")
    place = tmp_path / "shared"
    place.mkdir()
    place.chmod(sticky)
    (place / "out").symlink_to(tmp_path / "precious")
    os.lchown(place / "out", owner, owner)
    if follows:
        write_file(place / "out", b"after")
    else:
        with pytest.raises(NeatError, match="somebody else's link"):
            write_file(place / "out", b"after")
    assert (tmp_path / "precious").read_text() == ("after" if follows else "before")


def test_a_lock_that_does_not_end_is_one_line(tmp_path: Path, monkeypatch) -> None:
    monkeypatch.setattr(files, "_PATIENCE_SECONDS", 0.1)
    with (
        files.locked(tmp_path),
        pytest.raises(NeatError, match="another command is changing the plan"),
        files.locked(tmp_path),
    ):
        raise AssertionError


@pytest.fixture
def office(demo: Path, tmp_path: Path) -> Path:
    shutil.copytree(demo, tmp_path / "office", symlinks=True)
    return tmp_path / "office"


def test_edits_at_the_same_time_are_all_kept(office: Path, start, run) -> None:
    rows = csv.DictReader(
        io.StringIO(run("check", "--only", "no-end", "--format", "csv", "--office", office, status=1).stdout)
    )
    places = sorted({row["place"] for row in rows})[:6]

    def accept(place: str) -> None:
        start("accept", "no-end", place, "--reason", "at once", "--quiet", "--office", office)

    with ThreadPoolExecutor(6) as pool:
        list(pool.map(accept, places))
    text = (office / "office.yaml").read_text()
    assert len(places) > 4 and all(f"place: {place}\n    reason: at once" in text for place in places)


@pytest.mark.parametrize(("words", "told"), [
    ("accept no-end meadow:/nothing --reason x", "no finding of no-end at meadow:/nothing"),
    ("lapses --what nothing", "nothing that lapses is called 'nothing'"),
    ("links --by nobody", "nobody is called 'nobody'"),
    ("links --to nobody", "nobody is called 'nobody'"),
    ("check --only nothing", "there is no check 'nothing'"),
    ("access --below barn:/Nope", "no folder of this name"),
    ("who barn:/Rota -o OUT.xlsx", "who does not write xlsx"),
    ("who barn:/Rota -o OUT.html", "who does not write html"),
    ("who barn:/Rota -o OUT.csv --format json", "leave one of them out"),
    ("report space -o OUT.csv", "where to, and as what?"),
])  # fmt: skip
def test_what_is_not_there_is_refused(demo: Path, run, tmp_path: Path, words: str, told: str) -> None:
    said = run(*words.replace("OUT", f"{tmp_path}/out").split(), "--office", demo, status=2).stderr
    assert told in said and said.count("\n") == 1 and not list(tmp_path.glob("out*"))


def test_a_file_is_what_its_ending_says(demo: Path, run, tmp_path: Path) -> None:
    for name in ("a.csv", "a.json", "a.CSV", "a.txt"):
        run("who", "barn:/Rota", "-o", tmp_path / name, "--office", demo)
        form = {"a.json": "json", "a.txt": "table"}.get(name, "csv")
        assert (tmp_path / name).read_text() == run("who", "barn:/Rota", "--format", form, "--office", demo).stdout
