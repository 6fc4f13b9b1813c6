"""What all tests share: the installed command, and which real judges are live."""

from __future__ import annotations

import contextlib
import fcntl
import gc
import io
import os
import shutil
import signal
import subprocess
import sys
import warnings
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from hypothesis import HealthCheck, Phase, settings

import recording
from judges import btrfs, domain, ldap, postgres
from neatledger.cli import main
from neatledger.demo import smbserver

# Machines differ in speed; and a run of the same commit must always end the same way in CI.
settings.register_profile("here", deadline=None)
settings.register_profile("ci", deadline=None, derandomize=True, max_examples=15)
# What only asks whether a fault is seen need not make it small.
settings.register_profile(
    "mutants",
    deadline=None,
    derandomize=True,
    max_examples=int(os.environ.get("MUTANT_EXAMPLES", "40")),
    phases=[Phase.explicit, Phase.generate],
    # Watched line by line everything is slow, and a test that fails for that would see nothing.
    suppress_health_check=[HealthCheck.too_slow],
)
settings.load_profile("ci" if os.environ.get("CI") else "here")

# A shell that runs the tests in the background has them ignore Ctrl-C, and with them every program that they start.
if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:
    signal.signal(signal.SIGINT, signal.default_int_handler)

ANY = -1  # whatever exit status
COMMAND = Path(sys.executable).with_name("neatledger")
Run = Callable[..., subprocess.CompletedProcess[str]]


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption("--kills", type=int, default=0, help="how often the command is killed on each sort of system")
    parser.addoption("--record", action="store_true", help="keep what is answered, in place of comparing it")
    parser.addoption("--seeds", type=int, default=0, help="how many random offices are changed, in place of a few")


def pytest_generate_tests(metafunc: pytest.Metafunc) -> None:
    marker = metafunc.definition.get_closest_marker("seeds")
    if marker:
        metafunc.parametrize("seed", range(metafunc.config.getoption("--seeds") or marker.args[0]))


def _judges() -> dict[str, bool]:
    return {
        "kernel as root": os.geteuid() == 0,
        "getfacl": shutil.which("getfacl") is not None,
        "du": shutil.which("du") is not None,
        "SMB server": not smbserver.missing(),
        "directory server": ldap.is_there(),
        "quotas on Btrfs": btrfs.is_there(),
        "domain": domain.is_there(),
        "PostgreSQL": postgres.is_there(),
        "browser": shutil.which("chromium") is not None,
    }


def pytest_report_header() -> str:
    live = [name for name, is_live in _judges().items() if is_live]
    missing = [name for name, is_live in _judges().items() if not is_live]
    return f"real judges live: {', '.join(live) or 'none'}; missing: {', '.join(missing) or 'none'}"


_LONG = (
    *("office", "smb_judge", "services", "kills", "stores", "started", "papers", "cluster", "structure", "mend"),
    *("domain", "space", "files", "causes", "offices", "reviews", "forecast", "trail", "protect", "sources"),
)
"""Files that take long: begun last, one of them would keep a worker when the others are done.

Of the first ones a single one needs the sample office: all others would wait until it is made.
"""


def pytest_collection_finish() -> None:
    # All that was imported and collected stays to the end: looking through it for rings again and again costs a tenth.
    gc.freeze()
    gc.set_threshold(50_000, 20, 20)


def _rank(item: pytest.Item) -> int:
    name = item.path.stem.removeprefix("test_")
    return _LONG.index(name) if name in _LONG else len(_LONG)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    items.sort(key=_rank)
    missing = [name for name, is_live in _judges().items() if not is_live]
    if missing and os.environ.get("CI"):
        pytest.exit(f"in CI every judge must be live; missing: {', '.join(missing)}", returncode=1)
    for item in items:
        if missing and item.get_closest_marker("judge"):
            item.add_marker(pytest.mark.skip(reason=f"no {' and no '.join(missing)} here"))


DROP_SHARING = (
    *("DROP INDEX counts_taken_once", "ALTER TABLE counts DROP COLUMN origin"),
    *("ALTER TABLE counts DROP COLUMN signer", "DROP TABLE plans"),
)
"""What makes a ledger one from before counts came from elsewhere, and before it was shared."""
DROP_TRAIL = (
    "DROP INDEX IF EXISTS chain_by_subject",
    *(
        f"DROP TRIGGER IF EXISTS {one}_of_sealed"
        for one in ("surveys", "accounts", "account_groups", "not_seen", "packed", "shared", "seals")
    ),
    *DROP_SHARING,
    *(f"DROP TABLE trail_{one}" for one in ("logs", "blocks", "deeds", "folders", "words", "moves", "gaps")),
)
"""What makes a ledger one from before there was a trail in it."""


@pytest.fixture(scope="session")
def made_demo(tmp_path_factory) -> Path:
    """The sample office as a listing, made once for all workers of a run."""
    root = tmp_path_factory.getbasetemp()
    root = root.parent if "PYTEST_XDIST_WORKER" in os.environ else root
    with open(root / "demo.lock", "w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not (root / "demo" / "ledger.db").exists():
            made = root / "demo"
            subprocess.run([COMMAND, "demo", made, "--listing", "--no-tour"], check=True, capture_output=True)
            # Most tests ask on this day: what is found then is kept with the count, and so in all copies of it.
            looked = [COMMAND, "check", "--office", made, "--today", "2026-11-23"]
            assert subprocess.run(looked, capture_output=True).returncode == 1
    return root / "demo"


@pytest.fixture(scope="module")
def demo(made_demo, tmp_path_factory) -> Path:
    """The sample office, to do with as one likes."""
    return Path(shutil.copytree(made_demo, tmp_path_factory.mktemp("demo") / "office"))


def _environment() -> dict[str, str]:
    env = {**os.environ, "PYTHONUTF8": "1", "NO_COLOR": "1"}
    env.pop("COLUMNS", None)
    return env


def _checked(done: subprocess.CompletedProcess[str], status: int | None) -> subprocess.CompletedProcess[str]:
    assert status == ANY or done.returncode in ((0, 1) if status is None else (status,)), (
        f"{done.args}: status {done.returncode}\n{done.stdout}\n{done.stderr}"
    )
    return done


@pytest.fixture
def start() -> Run:
    """Start the installed command as a user does; the exit status must be the one expected (None: 0 or 1)."""

    def _start(
        *words: object, status: int | None = 0, env: dict[str, str] | None = None, **more: object
    ) -> subprocess.CompletedProcess[str]:
        done = subprocess.run(  # type: ignore[call-overload]
            [COMMAND, *map(str, words)],
            capture_output=True,
            text=True,
            errors="surrogateescape",
            env=_environment() | (env or {}),
            timeout=120,
            **more,
        )
        return _checked(done, status)

    return _start


@pytest.fixture
def begin() -> Iterator[Callable[..., subprocess.Popen[str]]]:
    """Start the installed command and go on; what still runs at the end is killed."""
    begun: list[subprocess.Popen[str]] = []

    def _begin(*words: object) -> subprocess.Popen[str]:
        pipe = subprocess.PIPE
        env = _environment()
        begun.append(subprocess.Popen([COMMAND, *map(str, words)], stdout=pipe, stderr=pipe, text=True, env=env))
        return begun[-1]

    yield _begin
    for process in begun:
        process.kill()
        process.wait()


@pytest.fixture
def run(monkeypatch: pytest.MonkeyPatch) -> Run:
    """Call the command in this process, with streams and an environment of its own: as `start`, without the start."""
    for name in set(os.environ) - set(_environment()):
        monkeypatch.delenv(name)
    monkeypatch.setenv("NO_COLOR", "1")

    def _run(*words: object, status: int | None = 0, cwd: Path | None = None) -> subprocess.CompletedProcess[str]:
        asked = list(map(str, words))
        out, err = (io.TextIOWrapper(io.BytesIO(), "utf-8", "surrogateescape", newline="") for _ in range(2))
        with (
            contextlib.redirect_stdout(out),
            contextlib.redirect_stderr(err),
            contextlib.chdir(cwd or "."),
            warnings.catch_warnings(),
        ):
            try:
                # Libraries' own old names are theirs to mend; as the command itself does not show them.
                warnings.simplefilter("ignore", DeprecationWarning)
                returned = main(asked)
            except SystemExit as stop:
                returned = int(stop.code or 0)
            finally:
                gc.enable()
        for stream in (out, err):
            stream.flush()
        texts = [
            stream.buffer.getvalue().decode("utf-8", "surrogateescape").replace("\r\n", "\n") for stream in (out, err)
        ]
        return _checked(subprocess.CompletedProcess(asked, returned, *texts), status)

    return _run


_recorded: dict[str, dict[str, object]] = {}


@pytest.fixture
def recorded(request: pytest.FixtureRequest) -> Callable[[object], None]:
    """Compare an answer with what was answered when this test was last looked at (see `recording`)."""
    name, test = request.path.stem.removeprefix("test_"), request.node.name

    def _compare(value: object) -> None:
        value = recording.plain(value)
        if request.config.getoption("--record"):
            _recorded.setdefault(name, {})[test] = value
        else:
            assert value == recording.known(name)[test]

    return _compare


def pytest_sessionfinish() -> None:
    if _recorded and "PYTEST_XDIST_WORKER" in os.environ:
        pytest.exit("--record wants all tests of a file in one process: leave out -n", returncode=2)
    for name, values in _recorded.items():
        recording.keep(name, values)


def status_as_nobody(folder: Path, work: Callable[[], object]) -> int:
    """Let somebody who is nobody in particular do something below a folder; return 0, or what it returned or 1."""
    for above in (folder, *folder.parents):
        above.chmod(above.stat().st_mode | 0o011)
    child = os.fork()
    if child:
        return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    status = 1
    try:
        os.setgroups([])
        os.setgid(65534)
        os.setuid(65534)
        status = int(work() or 0)  # type: ignore[call-overload]
    finally:
        os._exit(status)
