"""How much the fast tests see: change one thing at a time in the core, and name the changes that no test notices.

Each change is one that a hand could slip into: a bound one off, a condition turned round, a number one higher. Of
all such changes some are drawn by lot (the same ones every time), each is made in a copy of the code, and the
tests that need no real system are run on it until one fails. Prints every survivor and the share that was killed.

    python bench/mutants.py [--number 120] [--seed 1] [--only core/sharing] [--jobs 2]
"""

from __future__ import annotations

import argparse
import ast
import copy
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from queue import Queue

ROOT = Path(__file__).parent.parent
PACKAGE = ROOT / "src" / "neatledger"
SWAPS: dict[type[ast.AST], type[ast.AST]] = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq,
    ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.And: ast.Or, ast.Or: ast.And,
    ast.Add: ast.Sub, ast.Sub: ast.Add,
}  # fmt: skip
SECONDS = 240


@dataclass(frozen=True)
class Mutant:
    """One change: the module, the line, what it was and what it is, and the module's text with it."""

    path: Path
    line: int
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


def _left_alone(tree: ast.Module) -> set[int]:
    """Return the nodes that decide nothing: hints of types, texts of errors, default arguments of caches."""
    found: set[int] = set()
    for node in ast.walk(tree):
        parts: list[ast.AST] = []
        if isinstance(node, ast.AnnAssign):
            parts = [node.annotation]
        elif isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef)):
            parts = [one for one in (node.returns, *(arg.annotation for arg in node.args.args)) if one]
            parts += node.decorator_list
        elif isinstance(node, (ast.ClassDef, ast.Raise, ast.Assert, ast.JoinedStr)):
            parts = list(node.decorator_list) if isinstance(node, ast.ClassDef) else [node]
        elif (
            isinstance(node, ast.Assign) and isinstance(node.targets[0], ast.Name) and node.targets[0].id == "__all__"
        ) or (isinstance(node, ast.If) and "TYPE_CHECKING" in ast.dump(node.test)):
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
    return Mutant(path, getattr(node, "lineno", 0), was, now, text)


def _tests_for(path: Path) -> list[str]:
    """Return the test files, those first that name the module."""
    module = ".".join(path.relative_to(PACKAGE.parent).with_suffix("").parts)
    files = sorted((ROOT / "tests").glob("test_*.py"))
    first = ["test_boundaries.py", "test_gates.py", "test_core.py"]
    rank = {file: (module not in file.read_text(), file.name not in first) for file in files}
    left_out = {"test_structure.py"}
    return [str(file) for file in sorted(files, key=lambda file: rank[file]) if file.name not in left_out]


def is_killed(mutant: Mutant, package_dir: Path) -> bool:
    """Make the change in a copy of the package, run the fast tests on it, and take it back."""
    target = package_dir / "neatledger" / mutant.path.relative_to(PACKAGE)
    before = target.read_text()
    target.write_text(mutant.text)
    env = {**os.environ, "PYTHONPATH": f"{package_dir}:{ROOT / 'tests'}", "PYTHONDONTWRITEBYTECODE": "1"}
    env.pop("CI", None)
    words = [sys.executable, "-m", "pytest", "-x", "-q", "-m", "not judge", "-p", "no:cacheprovider", "--no-header"]
    words += ["--hypothesis-profile=mutants", *_tests_for(mutant.path)]
    try:
        done = subprocess.run(words, env=env, cwd=ROOT, capture_output=True, timeout=SECONDS)
        return done.returncode != 0
    except subprocess.TimeoutExpired:
        return True
    finally:
        target.write_text(before)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--number", type=int, default=120)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--only", default="core")
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 1)
    words = parser.parse_args()
    chosen = drawn(words.only, words.number, words.seed)
    with tempfile.TemporaryDirectory() as name:
        copies: Queue[Path] = Queue()
        for number in range(words.jobs):
            copies.put(Path(name) / str(number))
            shutil.copytree(
                PACKAGE, Path(name) / str(number) / "neatledger", ignore=shutil.ignore_patterns("__pycache__")
            )

        def judge(mutant: Mutant) -> bool:
            package_dir = copies.get()
            try:
                killed = is_killed(mutant, package_dir)
            finally:
                copies.put(package_dir)
            print("killed   " if killed else "SURVIVES ", mutant, flush=True)
            return killed

        with ThreadPoolExecutor(words.jobs) as pool:
            killed = sum(pool.map(judge, chosen))
    print(f"{killed} of {len(chosen)} killed: {killed / max(1, len(chosen)):.0%}")


if __name__ == "__main__":
    main()
