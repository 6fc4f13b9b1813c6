"""The installed program beside the same calls in this process."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import ANY, _environment

# A dozen calls of each group of commands, as the installed program: the same as in this process, byte for byte.
STARTED = {
    "access": [
        "who barn:/Payroll", "who barn:/Rota --format csv", "who loft:/Accounts --all --format json", "reach rook", "reach frost --format csv",
        "why marsh barn:/Imaging/2026", "why thistle loft:/Surgery --format json", "reach --format csv", "reach --level any --format json",
        "changes --format json", "who barn:/Payroll --side plan", "folders barn:/Imaging --pushed",
    ],
    "people and folders": [
        "people", "people rook", "people --format csv", "groups", "groups --format json", "folders", "folders barn:/Records", "folders --format csv",
        "people --match", "people --match --format json", "ledger", "people nemo",
    ],
    "sharing": [
        "links", "links --format csv", "links --only link --format json", "links --only breaking", "people --guests", "people --guests --format csv", "devices",
        "devices --format json", "expiring --within 14", "expiring --format csv", "suppose --unshare member:Cases=students", "links --made-by moss",
    ],
    "space": [
        "space", "space barn:/Imaging", "space --format csv", "space barn:/ --by kind --format json", "space rook barn:/Imaging/Ultrasound", "limits",
        "limits --format csv", "space --forecast barn --format json", "space --by kind", "space --by version --format csv", "devices rook --would-hold", "suppose --versions barn=0",
    ],
    "order": [
        "check", "check --only no-end --format csv", "check --only no-email --format json", "check --list", "check --only homes-opened", "check --only nothing",
        "check --only no-end --all --fail-at high",
        "report space", "check 1 --accept why", "ledger --format json", "expiring --past", "check --side plan",
    ],
}  # fmt: skip
# No assert does any work: these are the same where Python leaves all of them out.
OPTIMIZED = [
    "reach --side both", "brief", "check", "reach thorne --compare stone", "changes thistle barn:/Payroll", "mend", "plan", "protect",
    "suppose --no-member payroll=finch", "suppose --delete rook", "trail --unusual", "join --verify wren",
]  # fmt: skip


_EACH = """
import io, json, sys
from contextlib import redirect_stderr, redirect_stdout
from neatledger.cli import main

found = []
for words in json.loads(sys.argv[1]):
    out, err = (io.TextIOWrapper(io.BytesIO(), "utf-8", "surrogateescape", newline="") for _ in range(2))
    with redirect_stdout(out), redirect_stderr(err):
        status = main(words)
    out.flush(), err.flush()
    found.append([status, *(each.buffer.getvalue().decode() for each in (out, err))])
print(json.dumps(found))
"""


def test_asserts_do_no_work(demo: Path, run) -> None:
    calls = [[*call.split(), "--office", str(demo), "--today", "2026-11-23"] for call in OPTIMIZED]
    command = [sys.executable, "-O", "-c", _EACH, json.dumps(calls)]
    started = json.loads(
        subprocess.run(command, capture_output=True, text=True, check=True, env=_environment()).stdout
    )
    for words, (status, out, err) in zip(calls, started, strict=True):
        called = run(*words, status=ANY)
        assert (status, out, err) == (called.returncode, called.stdout, called.stderr), words
        assert status in (0, 1) and out, words


@pytest.mark.parametrize("group", STARTED)
def test_the_installed_program_says_what_a_call_in_this_process_says(demo: Path, run, start, group: str) -> None:
    for call in STARTED[group]:
        words = [*call.split(), "--office", demo, "--today", "2026-11-23"]
        both = [ask(*words, status=ANY) for ask in (start, run)]
        started, called = [(done.returncode, done.stdout, done.stderr) for done in both]
        assert started == called and any(started[1:]), call
