"""How much the fast tests see: change one thing at a time in the core, and name the changes that no test notices.

Each change is one that a hand could slip into: a bound one off, a condition turned round, a number one higher. Of
all such changes some are drawn by lot (the same ones every time), each is made in a copy of the code, and the
tests that run that line are run on it, the quickest first, until one fails: as many as take `--seconds` together
on the code as it is. Prints every survivor and the share that was killed.

    python bench/mutants.py [--number 120] [--seed 1] [--only core/sharing] [--jobs 2] [--examples 40] [--seconds 60]
                            [--again LOG] [--keep FOLDER] | --sentences

`--again` takes only what an earlier run, whose output is in LOG, says survived. `--keep` writes into FOLDER which
tests run which lines, and reads it from there the next time: that takes minutes, and changes little from day to day.
"""

from __future__ import annotations

import argparse
import ast
import copy
import os
import random
import resource
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from importlib import import_module
from math import inf
from pathlib import Path
from xml.etree import ElementTree

from coverage import CoverageData

ROOT = Path(__file__).parent.parent
PACKAGE = ROOT / "src" / "neatledger"
SWAPS: dict[type[ast.AST], type[ast.AST]] = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq,
    ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.And: ast.Or, ast.Or: ast.And,
    ast.Add: ast.Sub, ast.Sub: ast.Add,
}  # fmt: skip
# What the tests use of others (plugins of pytest apart, which it must load itself): with it a run begins at once.
THEIRS = (
    *("pytest", "numpy", "scipy.stats", "matplotlib.figure", "openpyxl"),
    *("ruamel.yaml", "jsonschema_rs", "ldap3", "pyarrow.parquet"),
)
# A test that takes longer is not one of the fast ones (seconds).
LONGEST = 16.0
_FIRST = 15
_MOST_BYTES = 4 << 30


@dataclass(frozen=True)
class Mutant:
    """One change: the module, the line, what it was and what it is, and the module's text with it."""

    path: Path
    line: int
    last: int
    was: str
    now: str
    text: str

    def __str__(self) -> str:
        return f"{self.path.relative_to(ROOT)}:{self.line}: {self.was}  →  {self.now}"


def changes(node: ast.AST) -> Iterator[ast.AST]:
    """Yield what a node may be changed into."""
    if isinstance(node, ast.Compare) and type(node.ops[0]) in SWAPS:
        other = copy.deepcopy(node)
        other.ops[0] = SWAPS[type(node.ops[0])]()  # type: ignore[call-overload]
        yield other
    elif isinstance(node, (ast.BoolOp, ast.BinOp)) and type(node.op) in SWAPS:
        swapped = copy.deepcopy(node)
        swapped.op = SWAPS[type(node.op)]()  # type: ignore[assignment]
        yield swapped
    elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
        yield node.operand
    elif isinstance(node, ast.Constant) and isinstance(node.value, bool):
        yield ast.Constant(not node.value)
    elif isinstance(node, ast.Constant) and type(node.value) is int:
        yield ast.Constant(node.value + 1)


class _Put(ast.NodeTransformer):
    """Puts one node in the place of another."""

    def __init__(self, target: ast.AST, other: ast.AST) -> None:
        self.target, self.other = target, other

    def visit(self, node: ast.AST) -> ast.AST:
        return self.other if node is self.target else super().generic_visit(node)


def _is_aside(node: ast.AST) -> bool:
    match node:
        case ast.Raise() | ast.Assert() | ast.JoinedStr() | ast.Assign(targets=[ast.Name(id="__all__"), *_]):
            return True
        case ast.keyword(arg="strict"):
            # That what is gone through together is of one length is asserted, as by an assert.
            return True
        case ast.If():
            return "TYPE_CHECKING" in ast.dump(node.test)
        case _:
            return False


def _left_alone(tree: ast.Module) -> set[int]:
    """Return the nodes that decide nothing: hints of types, what a protocol asks for, texts of errors, asserts."""
    found: set[int] = set()
    for node in ast.walk(tree):
        parts: list[ast.AST] = []
        if isinstance(node, ast.AnnAssign):
            parts = [node.annotation]
        elif isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef)):
            parts = [one for one in (node.returns, *(arg.annotation for arg in node.args.args)) if one]
            parts += node.decorator_list
        elif isinstance(node, ast.ClassDef):
            parts = [node] if "Protocol" in map(ast.unparse, node.bases) else list(node.decorator_list)
        elif _is_aside(node):
            parts = [node]
        found |= {id(below) for part in parts for below in ast.walk(part)}
    return found


def drawn(only: str, number: int, seed: int) -> list[Mutant]:
    """Return some of all changes, the same ones for the same seed."""
    places = []
    for path in sorted((PACKAGE / "core").rglob("*.py")):
        if only in str(path.relative_to(PACKAGE)):
            tree = ast.parse(path.read_text())
            skipped = _left_alone(tree)
            kept = [
                place for place, node in enumerate(ast.walk(tree)) if id(node) not in skipped and any(changes(node))
            ]
            places += [(path, place) for place in kept]
    chosen = random.Random(seed).sample(places, min(number, len(places)))
    return [_made(path, place) for path, place in chosen]


def _made(path: Path, place: int) -> Mutant:
    tree = ast.parse(path.read_text())
    node = list(ast.walk(tree))[place]
    other = next(iter(changes(node)))
    was, now = ast.unparse(node), ast.unparse(other)
    text = ast.unparse(ast.fix_missing_locations(_Put(node, ast.copy_location(other, node)).visit(tree)))
    line = getattr(node, "lineno", 0)
    return Mutant(path, line, getattr(node, "end_lineno", line), was, now, text)


def reassuring() -> list[Mutant]:
    """Return a change for each condition on which it is said that all is well, and for each part of it."""
    found = []
    for path in sorted(PACKAGE.rglob("*.py")):
        tree = ast.parse(path.read_text())
        for node in ast.walk(tree):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "assured":
                found += [_put(path, part, ast.Constant(True)) for part in _parts(tree, node.args[1])]
    return found


def _parts(tree: ast.Module, condition: ast.expr) -> list[ast.expr]:
    """Return a condition and what it is put together from; of a name what was last given to it in the module."""
    if isinstance(condition, ast.Name):
        values = [
            node.value
            for node in ast.walk(tree)
            if isinstance(node, ast.Assign) and ast.unparse(node.targets[0]) == condition.id
        ]
        return _parts(tree, values[-1]) if values else [condition]
    parts = condition.values if isinstance(condition, ast.BoolOp) and isinstance(condition.op, ast.And) else []
    return [condition, *parts]


def _put(path: Path, target: ast.expr, other: ast.expr) -> Mutant:
    """Return the change of one place into something else."""
    tree = ast.parse(path.read_text())
    found = next(
        node
        for node in ast.walk(tree)
        if isinstance(node, type(target))
        and (node.lineno, node.col_offset, node.end_col_offset)
        == (target.lineno, target.col_offset, target.end_col_offset)
    )
    text = ast.unparse(ast.fix_missing_locations(_Put(found, ast.copy_location(other, found)).visit(tree)))
    last = target.end_lineno or target.lineno
    return Mutant(path, target.lineno, last, ast.unparse(target), ast.unparse(other), text)


class OfSentences:
    """The tests of the sentences that all is well, for each change of one."""

    def tests_of(self, mutant: Mutant, seconds: float) -> tuple[list[str], float]:
        """Return the tests, and for how long they may take together."""
        return ["tests/test_assurances.py", "tests/test_proof.py"], seconds


@dataclass
class Seen:
    """Which tests run which lines of the core, and how long each takes (seconds)."""

    by_line: dict[str, dict[int, list[str]]]
    seconds: dict[str, float]

    def tests_of(self, mutant: Mutant, seconds: float) -> tuple[list[str], float]:
        """Return the tests that run the changed line, the quickest first, and what they take on the code as it is."""
        lines = self.by_line.get(str(mutant.path.relative_to(PACKAGE)), {})
        found = {name for line in range(mutant.line, mutant.last + 1) for name in lines.get(line, ())}
        if not found:
            # A constant of the module: whatever runs anything of the module.
            found = {name for some in lines.values() for name in some}
        chosen, total = [], 0.0
        for name in sorted(
            (one for one in found if self.seconds.get(one, inf) < LONGEST), key=self.seconds.__getitem__
        ):
            total += self.seconds[name]
            if total > seconds:
                break
            chosen.append(name)
        return chosen, total


def _environment(package_dir: Path) -> dict[str, str]:
    env = {**os.environ, "PYTHONPATH": f"{package_dir}:{ROOT / 'tests'}", "PYTHONDONTWRITEBYTECODE": "1"}
    env.pop("CI", None)
    return env


# Those that only start programs or look at the files see nothing of the core's own working, and servers take too long
# to start for each change.
_APART = ("structure", "started", "services", "rpc", "domain", "smb_judge", "stores", "cluster", "kills", "directory")
_TESTS = ["tests", *(f"--ignore=tests/test_{name}.py" for name in _APART)]
FAST = ["-q", "-p", "no:cacheprovider", "-p", "no:xdist", "--no-header", "--hypothesis-profile=mutants"]


# Given to the tests as a plugin: each test's lines are written down under its own name.
_PLUGIN = """
import coverage, pytest

@pytest.hookimpl(hookwrapper=True)
def pytest_runtest_protocol(item):
    coverage.Coverage.current().switch_context(item.nodeid)
    yield
"""


def watch(package_dir: Path, folder: Path) -> Seen:
    """Run the fast tests once on the code as it is, and write down what each runs."""
    folder.mkdir(parents=True, exist_ok=True)
    config, data_file, times = folder / "coverage.ini", folder / "coverage", folder / "times.xml"
    config.write_text(f"[run]\nsource = {package_dir / 'neatledger' / 'core'}\n")
    (folder / "each_test_apart.py").write_text(_PLUGIN)
    words = [
        sys.executable,
        "-m",
        "coverage",
        "run",
        f"--rcfile={config}",
        f"--data-file={data_file}",
        "-m",
        "pytest",
    ]
    words += [*FAST, "-p", "each_test_apart", f"--junitxml={times}", "-o", "junit_family=xunit1", *_TESTS]
    env = _environment(package_dir)
    env["PYTHONPATH"] += f":{folder}"
    if not times.exists():
        subprocess.run(words, env=env, cwd=ROOT, stdout=subprocess.DEVNULL)
    data = CoverageData(str(data_file))
    data.read()
    seen = Seen({}, {})
    for name in data.measured_files():
        path = name.rpartition("/neatledger/")[2]
        seen.by_line[path] = {
            line: [one for one in some if one] for line, some in data.contexts_by_lineno(name).items()
        }
    for case in ElementTree.parse(times).iter("testcase"):
        name = f"{case.attrib['file']}::{case.attrib['name']}"
        # What fails on the code as it is (being watched it is slow) tells nothing of a change.
        failed = case.find("failure") is not None or case.find("error") is not None
        seen.seconds[name] = inf if failed else float(case.attrib["time"])
    return seen


def _begin(package_dir: Path, tests: list[str]) -> int:
    """Begin to run some tests on a copy of the package, in a process of its own; return the process's number."""
    child = os.fork()
    if child:
        return child
    status = 1
    try:
        os.setsid()
        # A change may let something grow without an end.
        resource.setrlimit(resource.RLIMIT_AS, (_MOST_BYTES, _MOST_BYTES))
        nowhere = os.open(os.devnull, os.O_RDWR)
        for number in range(3):
            os.dup2(nowhere, number)
        os.chdir(ROOT)
        os.environ.update(_environment(package_dir))
        os.environ.pop("CI", None)
        sys.path[:0] = [str(package_dir), str(ROOT / "tests")]
        # Finding many tests takes a while, and most changes are seen by the first few.
        for some in (tests[:_FIRST], tests[_FIRST:]):
            words = ["-x", *FAST, f"--basetemp={package_dir / 'tests'}", *some]
            status = int(import_module("pytest").main(words)) if some else 0
            if status:
                break
    finally:
        os._exit(status)


@dataclass
class Trial:
    """One mutant that is being judged: the copy it is made in, what stood there before, and until when it may run."""

    mutant: Mutant
    package_dir: Path
    before: str
    until: float

    @property
    def target(self) -> Path:
        return self.package_dir / "neatledger" / self.mutant.path.relative_to(PACKAGE)

    def end(self, process: int) -> None:
        """End whatever the tests started, and take the change back."""
        with suppress(ProcessLookupError):
            os.killpg(process, signal.SIGKILL)
        self.target.write_text(self.before)


class Judge:
    """Judges mutants, as many at a time as there are copies of the package."""

    def __init__(self, copies: list[Path], seen: Seen | OfSentences, seconds: float) -> None:
        self.copies, self.seen, self.seconds = copies, seen, seconds
        self.killed = 0
        self._under_way: dict[int, Trial] = {}

    def judge(self, mutant: Mutant) -> None:
        """Begin with one, when there is room for it."""
        tests, usual = self.seen.tests_of(mutant, self.seconds)
        if not tests:
            self._tell(mutant, False)
            return
        while not self.copies:
            self._wait()
        package_dir = self.copies.pop()
        # The tests' own time was taken while they were watched, which is twice as slow: three times is for ever.
        trial = Trial(mutant, package_dir, "", time.monotonic() + 20 + 1.5 * usual)
        trial.before = trial.target.read_text()
        trial.target.write_text(mutant.text)
        self._under_way[_begin(package_dir, tests)] = trial

    def finish(self) -> None:
        """Wait for all that is under way."""
        while self._under_way:
            self._wait()

    def _wait(self) -> None:
        time.sleep(0.02)
        for process, trial in list(self._under_way.items()):
            ended, status = os.waitpid(process, os.WNOHANG)
            if not ended and time.monotonic() < trial.until:
                continue
            del self._under_way[process]
            trial.end(process)
            if not ended:
                os.waitpid(process, 0)
            self.copies.append(trial.package_dir)
            self._tell(trial.mutant, not ended or status != 0)

    def _tell(self, mutant: Mutant, is_killed: bool) -> None:
        self.killed += is_killed
        print("killed   " if is_killed else "SURVIVES ", mutant, flush=True)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--number", type=int, default=120)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--only", default="core")
    parser.add_argument("--examples", type=int, default=40, help="how many examples of each property")
    parser.add_argument(
        "--seconds", type=float, default=60, help="how long the tests of one change may take together"
    )
    parser.add_argument("--again", type=Path, metavar="LOG")
    parser.add_argument("--keep", type=Path, metavar="FOLDER")
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 1)
    parser.add_argument("--sentences", action="store_true", help="only the sentences that all is well")
    words = parser.parse_args()
    chosen = reassuring() if words.sentences else drawn(words.only, words.number, words.seed)
    if words.again is not None:
        survived = {line.removeprefix("SURVIVES ").strip() for line in words.again.read_text().splitlines()}
        chosen = [one for one in chosen if str(one) in survived]
    os.environ["MUTANT_EXAMPLES"] = str(words.examples)
    with tempfile.TemporaryDirectory() as name:
        copies = [Path(name) / str(number) for number in range(words.jobs)]
        for one in copies:
            shutil.copytree(PACKAGE, one / "neatledger", ignore=shutil.ignore_patterns("__pycache__"))
        seen = OfSentences() if words.sentences else watch(copies[0], words.keep or Path(name))
        for module in THEIRS:
            import_module(module)
        if isinstance(seen, OfSentences):
            quick = seen.tests_of(chosen[0], 0)[0]
        else:
            quick = sorted((name for name in seen.seconds if seen.seconds[name] < inf), key=seen.seconds.__getitem__)
        if not quick or os.waitpid(_begin(copies[0], quick[:50]), 0)[1] != 0:
            sys.exit("the tests fail on the code as it is: they would kill whatever is changed")
        judge = Judge(copies, seen, words.seconds)
        for mutant in chosen:
            judge.judge(mutant)
        judge.finish()
    print(f"{judge.killed} of {len(chosen)} killed: {judge.killed / max(1, len(chosen)):.0%}")


if __name__ == "__main__":
    main()
