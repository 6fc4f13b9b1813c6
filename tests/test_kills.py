"""Carrying out, going on and taking back, killed wherever it is: what follows is as if it had never been killed.

`pytest tests/test_kills.py --kills 200` kills as often as that on each sort of system.
"""

from __future__ import annotations

import os
import random
import signal
import tempfile
import time
import traceback
import warnings
from collections.abc import Callable, Sequence
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

import pytest

from judges import ldap, smb
from neatledger.core.steps.contract import Step
from neatledger.demo import meadow
from neatledger.demo.service.server import Service
from neatledger.ledger.imagined import ImaginedReader
from neatledger.questions import carrying, worklist
from neatledger.questions.office import open_office
from step_offices import (
    DIRECTORY_PLAN,
    SERVICE_PLAN,
    carry,
    gathered,
    looks,
    make_office,
    random_descriptor_steps,
    random_memberships,
    random_sharing_steps,
    random_steps,
    resume,
    shared_of,
    told,
)

pytestmark = pytest.mark.judge


@dataclass
class Subject:
    """An office, steps that fit it as it is, how its systems look from outside, and who may change them."""

    folder: Path
    steps: Sequence[Step]
    look: Callable[[], object]
    user: str = ""
    password: str = ""

    def work(self, name: str) -> carrying.Carried:
        """Carry out, go on or undo."""
        office = open_office(self.folder)
        if name == "carry out":
            return carry(office, self.steps, self.password, self.user)
        return resume(office, carrying.go_on if name == "go on" else carrying.undo, self.password, self.user)

    def lines(self) -> int:
        """How many lines the journal has."""
        return len(open_office(self.folder).ledger.journal.entries())

    def is_waiting(self) -> bool:
        """Tell whether something was begun and not finished."""
        runs = open_office(self.folder).ledger.journal.runs()
        return bool(runs) and not runs[-1].is_ended


def begin(subject: Subject, name: str) -> int:
    """Do some work in a process of its own; return its number."""
    with warnings.catch_warnings():
        # Some servers here run in threads; none of them does anything now.
        warnings.simplefilter("ignore", DeprecationWarning)
        child = os.fork()
    if child == 0:
        try:
            done = subject.work(name)
            for said in (done.stopped, *(f"left: {why}" for _, why in done.left)):
                os.write(2, said.encode() + b"\n" if said else b"")
            os._exit(1 if done.stopped or done.left else 0)
        except BaseException:
            traceback.print_exc()
            os._exit(2)
    return child


def kill_within(subject: Subject, name: str, seconds: float) -> bool | None:
    """Kill some work after so long; tell whether that stopped it after it had begun; None where it ended before."""
    lines = subject.lines()
    child = begin(subject, name)
    time.sleep(seconds)
    os.kill(child, signal.SIGKILL)
    status = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    if status == -signal.SIGKILL:
        return subject.lines() > lines
    assert status == 0, f"{name} ended with {status}"
    return None


def kill_often(subject: Subject, kills: int, rng: random.Random) -> None:
    """Carry out and take back, killed again and again, until so many kills came into the midst of it."""
    before = subject.look()
    begun = time.monotonic()
    assert os.waitpid(begin(subject, "carry out"), 0)[1] == 0
    long = time.monotonic() - begun
    wanted = subject.look()
    assert wanted != before and not subject.work("undo").left and subject.look() == before
    landed = 0
    ledger = (subject.folder / "ledger.db").read_bytes()
    while landed < kills:
        # A journal of hundreds of runs would be all that is waited for.
        (subject.folder / "ledger.db").write_bytes(ledger)
        landed += kill_in_turn(subject, "carry out", long, rng)
        is_undone = rng.random() < 0.5
        if not is_undone or not subject.is_waiting():
            if subject.is_waiting():
                assert not subject.work("go on").stopped
            assert subject.look() == wanted
        landed += kill_in_turn(subject, "undo", long, rng)
        if subject.is_waiting():
            assert not subject.work("undo").left
        assert subject.look() == before


def kill_in_turn(subject: Subject, name: str, long: float, rng: random.Random) -> int:
    """Kill some work, and what goes on with it, up to three times; it ends, or is left in its midst."""
    landed = 0
    for _ in range(rng.randint(1, 3)):
        is_begun = subject.is_waiting()
        word = "go on" if is_begun and name == "carry out" else name
        found = kill_within(subject, word, rng.uniform(0, long * (0.6 if is_begun else 1.1)))
        landed += bool(found)
        # It may have come to its end in the very moment of the kill.
        if found is None or (found and not subject.is_waiting()):
            return landed
    if not subject.is_waiting():
        assert not subject.work(name).stopped
    return landed


def number_of(request: pytest.FixtureRequest, few: int) -> int:
    return int(request.config.getoption("--kills")) or few


def test_on_a_tree(tmp_path: Path, run, request) -> None:
    folder = make_office(tmp_path, 7, 40)
    office = gathered(folder, run)
    steps = worklist._spelled_out(office, random_steps(office, 3, 100))
    kill_often(Subject(folder, steps, lambda: looks(folder)), number_of(request, 6), random.Random(1))


def test_on_a_directory(tmp_path: Path, run, request, monkeypatch) -> None:
    rng = random.Random(2)
    monkeypatch.setenv("NEATLEDGER_PASSWORD_PEOPLE", ldap.PASSWORD)
    with ldap.running(tmp_path, ldap.random_ldif(rng, 60, 9)[0]) as url:
        user = f"cn=root,{ldap.BASE}"
        (tmp_path / "office.yaml").write_text(DIRECTORY_PLAN.format(url=url, base=ldap.BASE, user=user))
        steps = random_memberships(gathered(tmp_path, run), rng, 60)
        subject = Subject(tmp_path, steps, lambda: told(tmp_path), user, ldap.PASSWORD)
        kill_often(subject, number_of(request, 1), rng)


def test_on_a_service(tmp_path: Path, run, request, monkeypatch) -> None:
    with Service(tmp_path / "service.db") as service:
        service.store.fill(meadow.users(), meadow.groups(), meadow.nodes(), meadow.shared_tables())
        service.store.set_password(meadow.READER, "only for this run")
        monkeypatch.setenv("NEATLEDGER_PASSWORD_MEADOW", "only for this run")
        (tmp_path / "office.yaml").write_text(SERVICE_PLAN.format(url=service.url, user=meadow.READER))
        steps = random_sharing_steps(gathered(tmp_path, run), random.Random(3), 12)
        # A count is a look from outside: it goes into a ledger of its own, beside the one with the journal.
        beside = tmp_path / "beside"
        beside.mkdir()
        (beside / "office.yaml").write_text((tmp_path / "office.yaml").read_text())
        look = lambda: shared_of(gathered(beside, run))  # noqa: E731
        subject = Subject(tmp_path, steps, look, meadow.READER, "only for this run")
        kill_often(subject, number_of(request, 1), random.Random(4))


def test_on_an_smb_server(tmp_path: Path, run, request, monkeypatch) -> None:
    rng = random.Random(5)
    # Every account must be able to pass the folders above, which pytest's own do not allow.
    with tempfile.TemporaryDirectory(dir="/tmp") as folder, smb.server(Path(folder), {"open": ""}) as running:
        with closing(smb.Client(running, running.admin)) as admin:
            paths = [b"/open/" + path.replace("\\", "/").encode() for path in smb.fill(admin, rng, "open", 20)]
        monkeypatch.setenv("NEATLEDGER_PASSWORD_LOFT", running.password)
        settings = {"source": "smb", "host": "127.0.0.1", "port": running.port, "user": running.admin}
        settings |= {"shares": ["open"], "may-change": True}
        for where in (tmp_path, tmp_path / "beside"):
            where.mkdir(exist_ok=True)
            (where / "office.yaml").write_text(f"office: Loft\nsystems: {{loft: {settings}}}\n")

        def look() -> object:
            run("count", "--quiet", "--office", tmp_path / "beside", status=None)
            state = ImaginedReader(open_office(tmp_path / "beside").readers["loft"])
            found = [b"/open"]
            for path in found:
                found += state.subfolders(path)
            return {path: (state.folder_state(path), state.file_sorts(path)) for path in found}

        run("count", "--quiet", "--office", tmp_path, status=None)
        steps = random_descriptor_steps(open_office(tmp_path), rng, paths)
        subject = Subject(tmp_path, steps, look, running.admin, running.password)
        kill_often(subject, number_of(request, 1), rng)
