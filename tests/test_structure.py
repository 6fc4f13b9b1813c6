"""The picture of the code: imports run one way, tables are complete, nothing is left lying about."""

from __future__ import annotations

import ast
import re
import subprocess
import sys
import tomllib
from functools import cache
from pathlib import Path

import pytest

from neatledger.cli import FORMATS, make_parser
from neatledger.commandtable import COMMANDS
from neatledger.core.checks.table import CHECKS, FAMILIES
from neatledger.core.lists.table import MODELS
from neatledger.extras import EXTRAS
from neatledger.faces.machine import PARQUET, WRITERS
from neatledger.office.read import load_schema
from neatledger.sources.listing import FORMS
from neatledger.sources.table import SOURCES, load_source

ROOT = Path(__file__).parent.parent
PACKAGE = ROOT / "src" / "neatledger"
# The floors from the top: each imports only those that it names. `FREE` may be imported by all.
FLOORS = {
    "__main__": {"start"},
    "start": {"cli"},
    "commandtable": set(),
    "words": set(),
    "cli": {"app", "offices", "faces", "formats", "commandtable"},
    "cluster": {"processes", "core"},
    "processes": set(),
    "keyrings": set(),
    "offices": {"app", "processes", "office", "faces", "reports", "formats"},
    "commands": {
        "commandtable",
        "words",
        "app",
        "papers",
        "cli",
        "questions",
        "faces",
        "reports",
        "office",
        "ledger",
        "sources",
        "demo",
        "formats",
        "core",
    },
    "frames": {"app", "cli"},
    "papers": {"questions", "faces", "reports", "formats", "core"},
    "app": {"cluster", "processes", "keyrings", "questions", "faces", "office", "reports", "formats", "core"},
    "questions": {"office", "ledger", "sources", "probes", "carriers", "formats", "core"},
    "probes": {"sources", "formats", "core"},
    "faces": {"formats", "reports", "core"},
    "office": {"formats", "core"},
    "ledger": {"keyrings", "formats", "core"},
    "sources": {"formats", "core"},
    "carriers": {"sources", "formats", "core"},
    "demo": {"sources", "formats", "core"},
    "reports": {"formats", "core"},
    "formats": {"core"},
    "core": set(),
}
FREE = {"counting", "errors", "extras", "files", "pace", "__init__"}
# The rooms of the core from the ground: each imports only those before it.
ROOMS = (
    "lists",
    "tree",
    "plan",
    "survey",
    "people",
    "posts",
    "access",
    "trail",
    "space",
    "protection",
    "sharing",
    "steps",
    "reviews",
    "checks",
    "drafting",
    "grouping",
)
MOST_OF_THE_CODE = 0.25


@cache
def _imports(path: Path) -> set[str]:
    """Return what a module imports of the project, inside functions too; hints for the type checker alone apart."""
    tree = ast.parse(path.read_text())
    hints = {
        node
        for block in ast.walk(tree)
        if isinstance(block, ast.If) and isinstance(block.test, ast.Name) and block.test.id == "TYPE_CHECKING"
        for node in ast.walk(block)
    }
    found = set()
    for node in ast.walk(tree):
        if node in hints and path.parent.name == "faces":
            continue
        if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("neatledger"):
            names = [f"{node.module}.{alias.name}" for alias in node.names]
            found |= {
                name if (PACKAGE.parent / (name.replace(".", "/") + ".py")).is_file() else node.module
                for name in names
            }
        elif isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names if alias.name.startswith("neatledger")}
    return found


def _floor(module: str) -> str:
    return ([*module.split("."), "__init__"])[1]


MODULES = sorted(PACKAGE.rglob("*.py"))


@pytest.mark.parametrize("room", sorted({path.parent for path in MODULES}), ids=lambda room: room.name)
def test_imports_run_downwards(room: Path) -> None:
    for path in room.glob("*.py"):
        parts = path.relative_to(PACKAGE).with_suffix("").parts
        for module in _imports(path):
            floor = _floor(module)
            assert floor in {parts[0]} | FREE or floor in FLOORS.get(parts[0], set()), f"{path} imports {module}"
            if parts[0] == floor == "core" and parts[1] in ROOMS:
                other = module.split(".")[2]
                assert ROOMS.index(other) <= ROOMS.index(parts[1]), f"{path} imports upwards: {module}"
        text = path.read_text()
        assert text.count("\n") <= 500, f"{path}: split it"
        assert parts[0] in FREE | {"__main__"} or path.name == "__init__.py" or "__all__" in text, path


def test_every_room_says_what_it_is_and_none_is_too_large() -> None:
    lines = {path: path.read_text().count("\n") for path in MODULES}
    rooms = {path.name for path in (PACKAGE / "core").iterdir() if path.is_dir() and path.name != "__pycache__"}
    assert rooms == set(ROOMS)
    assert not [path for path in (PACKAGE / "core").glob("*.py") if path.name != "__init__.py"]
    for floor in [PACKAGE / "core" / room for room in ROOMS] + [PACKAGE / name for name in FLOORS if name != "core"]:
        inside = [path for path in MODULES if path.is_relative_to(floor)]
        if floor.is_dir():
            assert (floor / "__init__.py").read_text().startswith('"""')
        assert sum(lines[path] for path in inside) < MOST_OF_THE_CODE * sum(lines.values()), floor


def test_no_module_imports_itself_by_a_circle() -> None:
    known = {".".join(("neatledger", *path.relative_to(PACKAGE).with_suffix("").parts)): path for path in MODULES}
    needs = {name: {one for one in _imports(path) if one in known} for name, path in known.items()}
    while ready := [name for name, wants in needs.items() if not wants & needs.keys()]:
        for name in ready:
            del needs[name]
    assert not needs, f"a circle among {sorted(needs)}"


def test_core_has_no_interface_and_no_system_in_it() -> None:
    barred = re.compile(r"^\s*(import|from) (os\b|sqlite3|argparse|rich|yaml|pathlib|subprocess)", re.MULTILINE)
    allowed = {"names.py": "os"}
    for path in (PACKAGE / "core").rglob("*.py"):
        for found in barred.finditer(path.read_text()):
            assert allowed.get(path.name) == found.group(2), path
        assert "print(" not in path.read_text()


def test_every_row_of_every_table_is_whole() -> None:
    for name, summary in COMMANDS.items():
        assert summary and make_parser(name).format_help()
        assert (PACKAGE / "commands" / f"{name}.py").is_file()
    for name in SOURCES:
        assert callable(load_source(name)) and SOURCES[name][1]
    assert set(SOURCES) == set(load_schema()["$defs"]["system"]["properties"]["source"]["enum"])
    assert len(CHECKS) == sum(len(family.CHECKS) for family in FAMILIES), "two checks of one name"
    for check in CHECKS.values():
        assert check.summary and check.advice
    assert set(FORMS) == set(MODELS)
    assert {"table", *WRITERS, PARQUET} == set(FORMATS)
    for name in MODELS:
        assert (ROOT / "tests" / "vectors" / f"{name}.json").is_file()
    readme = (ROOT / "README.md").read_text()
    for shot in re.findall(r"docs/screenshots/[\w-]+\.png", readme):
        assert (ROOT / shot).is_file()


HIDDEN = """
import importlib, os, sys
for name in ("fcntl", "pwd", "grp", "resource", "termios"):
    sys.modules[name] = None
for name in ("fchdir", "geteuid", "getxattr", "listxattr", "posix_fallocate", "sched_getaffinity", "fstatvfs"):
    delattr(os, name)
from neatledger.cli import main
for name in ("smb", "directory", "dav", "listing", "tree", "ldapaccounts", "scimaccounts", "passwdaccounts", "limits"):
    importlib.import_module(f"neatledger.sources.{name}")
sys.exit(main(sys.argv[1:]))
"""


@pytest.mark.parametrize(
    "words", ["count --quiet", "who barn:/Rota", "check --fail-at high", "demo --listing --no-tour OFFICE/new"]
)
def test_another_system_than_the_servers_can_ask(demo: Path, words: str) -> None:
    asked = [word.replace("OFFICE", str(demo)) for word in words.split()]
    asked += [] if asked[0] == "demo" else ["--office", str(demo)]
    done = subprocess.run([sys.executable, "-c", HIDDEN, *asked], capture_output=True, text=True)
    assert done.returncode in (0, 1) and "Traceback" not in done.stderr, done.stderr


def test_what_an_extra_brings_is_missed_in_one_line(demo: Path) -> None:
    hide = "import sys\nsys.modules.update(dict.fromkeys(sys.argv[1].split(',')))\n"
    hide += "from neatledger.cli import main\nsys.exit(main(sys.argv[2:]))\n"

    def without(libraries: str, words: str) -> subprocess.CompletedProcess[str]:
        words_all = [sys.executable, "-c", hide, libraries, *words.split(), "--office", str(demo)]
        return subprocess.run(words_all, capture_output=True, text=True, cwd=demo)

    for library, words, extra in [
        ("ldap3", "count", "ldap"), ("matplotlib", "space --forecast barn -o x.png", "reports"),
        ("numpy", "reach finch", "gather"), ("openpyxl", "report space -o x.xlsx", "reports"), ("icalendar", "expiring -o x.ics", "reports"),
    ]:  # fmt: skip
        done = without(library, words)
        told = [line for line in done.stderr.splitlines() if line.startswith("neatledger: ")]
        assert done.returncode == 2 and len(told) == 1, done.stderr
        assert library in done.stderr and f"pip install 'neatledger[{extra}]'" in done.stderr
    # All that a command will come to need is told at once.
    told = without("numpy,matplotlib,openpyxl", "report space -o x.xlsx").stderr
    assert "needs what is not installed: numpy, matplotlib, openpyxl" in told and "neatledger[gather,reports]" in told
    # One start for all: what a base install answers.
    asked = ["who barn:/Rota", "why finch barn:/Rota", "folders", "expiring", "ledger"]
    code = hide.replace(
        "main(sys.argv[2:])", "sum(main([*one.split(), '--office', sys.argv[2]]) for one in sys.argv[3:])"
    )
    libraries_all = ",".join(one for libraries in EXTRAS.values() for one in libraries)
    done = subprocess.run([sys.executable, "-c", code, libraries_all, demo, *asked], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    assert all(word in done.stdout for word in ("finch", "counts in", "things end")), done.stdout[-300:]
    declared = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]["optional-dependencies"]
    for extra, libraries in EXTRAS.items():
        assert {re.split(r"[>\[]", one)[0].lower() for one in declared[extra]} >= set(libraries)


def test_every_link_of_a_page_leads_somewhere() -> None:
    for page in (*ROOT.glob("*.md"), *(ROOT / "docs").glob("*.md")):
        for target in re.findall(r"\]\(([^)#:\s]+)[^)]*\)", page.read_text()):
            assert (page.parent / target).exists(), f"{page.name}: {target}"
