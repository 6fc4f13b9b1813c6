"""The proof after carrying out, with other hands in between: what they did is found, and nothing else is told.

Random trees, steps by lot carried out on them by the kernel; then a hand that knows nothing of the ledger changes the
mode, list or owner of a folder or file, or a member of a group.
"""

from __future__ import annotations

import os
import random
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from neatledger.core.steps.contract import Step
from neatledger.core.tree.table import folder_paths
from neatledger.questions import carrying, gather, making, proof
from neatledger.questions.office import Office
from step_offices import carry, gathered, make_office, now, random_steps, resume

pytestmark = pytest.mark.skipif(os.getuid() != 0, reason="files of several owners are made")

SEEDS = range(5)
KINDS = ("list", "list", "files", "folder", "member")


@pytest.fixture(params=SEEDS)
def made(request: pytest.FixtureRequest, tmp_path: Path, run) -> Iterator[tuple[Path, Office, list[Step]]]:
    """An office whose steps were carried out, with the count of before."""
    office = gathered(make_office(tmp_path, request.param), run)
    steps = random_steps(office, request.param, 10, KINDS)
    done = carry(office, steps)
    assert not done.stopped
    yield tmp_path, office, list(done.made)


def look_again(folder: Path, office: Office, run) -> proof.Proof:
    run("count", "--quiet", "--office", folder)
    return proof.prove(office.with_(), ["barn"])


def paths_of(office: Office) -> list[bytes]:
    folders = office.readers["barn"].table("folders")
    path_of = folder_paths(folders)
    return [path_of(row) for row in range(folders.rows)]


def on_disk(folder: Path, path: bytes) -> bytes:
    return os.fsencode(folder / "tree") + path


def another_mode(path: bytes) -> None:
    os.chmod(path, os.stat(path).st_mode & 0o7777 ^ 0o004)


def test_what_was_carried_out_alone_is_as_it_was_to_be(made, run) -> None:
    folder, office, steps = made
    found = look_again(folder, office, run)
    assert found.is_as_meant, found
    assert found.made == len(steps)
    assert found.looked[0].folders == len(paths_of(office.newest()))


HANDS: dict[str, Callable[[bytes], object]] = {
    "mode": another_mode,
    "owner": lambda path: os.chown(path, 4242, -1),
    "list": lambda path: subprocess.run(["setfacl", "-m", "u:4243:rwx", path], check=True),
}


@pytest.mark.parametrize("hand", HANDS)
def test_another_hand_is_found_where_it_was(made, hand: str, run) -> None:
    folder, office, steps = made
    touched = {step.place.path for step in steps if step.place is not None}
    path = random.Random(len(steps)).choice([one for one in paths_of(office) if one not in touched])
    HANDS[hand](on_disk(folder, path))
    found = look_again(folder, office, run)
    assert [one.place.path for one in found.others] == [path] and not found.failed and not found.is_as_meant


def test_a_hand_on_what_a_step_set_is_a_step_that_does_not_show(made, run) -> None:
    folder, office, steps = made
    last = next(step for step in reversed(steps) if step.kind == "list")
    another_mode(on_disk(folder, last.path))
    found = look_again(folder, office, run)
    assert [one.place.path for one in found.failed] == [last.path]
    assert last in found.failed[0].steps


def test_a_step_that_was_never_made_is_told_as_such(tmp_path: Path, run) -> None:
    office = gathered(make_office(tmp_path, 7), run)
    steps = [step for step in random_steps(office, 7, 30, KINDS) if step.kind == "list"][:1]
    before = subprocess.run(["getfacl", "-R", "-n", "tree"], cwd=tmp_path, capture_output=True, check=True).stdout
    carry(office, steps)
    subprocess.run(["setfacl", "--restore=-"], cwd=tmp_path, input=before, check=True)
    found = look_again(tmp_path, office, run)
    assert [(one.place.path, one.is_as_before) for one in found.failed] == [(steps[0].path, True)]


def test_a_member_whom_another_hand_put_in_is_told(made, run) -> None:
    folder, office, _ = made
    groups = (folder / "group").read_text().splitlines()
    name, word, number, members = groups[0].split(":")
    login = next(one.login for one in office.readers["barn"].accounts if one.login not in members.split(","))
    groups[0] = ":".join([name, word, number, f"{members},{login}".lstrip(",")])
    (folder / "group").write_text("\n".join(groups) + "\n")
    found = look_again(folder, office, run)
    told = [str(one.place) for one in found.others + found.failed]
    assert told == [f"barn: member {name} / {login}"], found


@pytest.mark.parametrize("stops_after", [4, 5, 8, 9])
def test_what_was_stopped_finished_and_taken_back_gives_no_false_alarm(
    tmp_path: Path, stops_after: int, run, monkeypatch
) -> None:
    monkeypatch.setattr(making, "_BATCH", 2)
    office = gathered(make_office(tmp_path, stops_after), run)
    calls = iter(range(99))

    def clock():
        if next(calls) == stops_after:
            raise KeyboardInterrupt
        return now()

    steps = random_steps(office, stops_after, 10, KINDS)
    done = resume(office, lambda journal, carriers, _: carrying.carry_out(journal, steps, carriers, clock))
    assert done.stopped and len(done.made) < len(steps) and not done.is_over
    resume(office, carrying.go_on)
    assert look_again(tmp_path, office, run).is_as_meant
    resume(office, carrying.undo)
    found = look_again(tmp_path, office, run)
    assert found.is_as_meant, found


def test_the_command_says_what_another_hand_did_meanwhile(tmp_path: Path, run, monkeypatch) -> None:
    office = gathered(make_office(tmp_path, 3), run)
    from neatledger.formats.stepfiles import write_steps

    steps = [step for step in random_steps(office, 3, 12, KINDS) if step.kind == "list"][:2]
    write_steps(tmp_path / "steps.json", steps)
    quiet = ("mend", tmp_path / "steps.json", "--carry-out", "--yes", "--expect", len(steps), "--office", tmp_path)
    told = run(*quiet).stdout
    assert "everything else is as it was" in told

    ask = gather.ask
    free = next(one for one in reversed(paths_of(office)) if one not in {step.path for step in steps})

    def ask_late(*args, **named):
        os.chmod(on_disk(tmp_path, free), 0o777)
        return ask(*args, **named)

    monkeypatch.setattr(gather, "ask", ask_late)
    told = run("mend", "--undo", "--yes", "--expect", len(steps), "--office", tmp_path, status=1).stdout
    assert "everything else is as it was" not in told and "Somebody else changed 1 thing" in told
