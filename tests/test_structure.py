"""The picture of the code: imports run one way, tables are complete, nothing is left lying about."""

from __future__ import annotations

import ast
import re
from pathlib import Path

import pytest

from neatledger.cli import COMMANDS, make_parser
from neatledger.core.checks.table import CHECKS
from neatledger.core.lists.table import MODELS
from neatledger.office.read import load_schema
from neatledger.sources.listing import FORMS
from neatledger.sources.table import SOURCES, load_source

ROOT = Path(__file__).parent.parent
PACKAGE = ROOT / "src" / "neatledger"
BELOW = {
    "core": set(),
    "formats": {"core"},
    "reports": {"core"},
    "office": {"core", "formats"},
    "ledger": {"core", "formats"},
    "sources": {"core", "formats"},
    "faces": {"core", "reports"},
    "demo": {"core", "formats"},
    "commands": {"core", "formats", "reports", "office", "ledger", "sources", "faces", "demo", "app", "cli"},
    "app": {"core", "office", "ledger"},
    "cli": {"app", "faces"},
    "__main__": {"cli"},
}
FREE = {"errors", "__init__"}


def _room(module: str) -> str:
    parts = module.split(".")
    return parts[1] if len(parts) > 1 else "__init__"


def _imports(path: Path) -> set[str]:
    tree = ast.parse(path.read_text())
    hints = {
        node
        for block in ast.walk(tree)
        if isinstance(block, ast.If) and "TYPE_CHECKING" in ast.dump(block.test)
        for node in ast.walk(block)
    }
    found = set()
    for node in ast.walk(tree):
        if node in hints and path.parent.name in ("faces",):
            continue
        if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("neatledger"):
            found.add(node.module)
        elif isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names if alias.name.startswith("neatledger")}
    return found


@pytest.mark.parametrize("path", sorted(PACKAGE.rglob("*.py")), ids=lambda path: str(path.relative_to(PACKAGE)))
def test_imports_run_downwards(path: Path) -> None:
    room = path.relative_to(PACKAGE).parts[0].removesuffix(".py")
    for module in _imports(path):
        target = _room(module)
        assert target in {room} | FREE or target in BELOW.get(room, set()), f"{path} imports {module}"
    text = path.read_text()
    assert text.count("\n") <= 500, "split it"
    assert room in FREE | {"__main__"} or path.name == "__init__.py" or "__all__" in text


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
    for check in CHECKS.values():
        assert check.summary and check.advice
    assert set(FORMS) == set(MODELS) == set(load_schema()["$defs"]["system"]["properties"]["lists"]["enum"])
    for name in MODELS:
        assert (ROOT / "tests" / "vectors" / f"{name}.json").is_file()
    readme = (ROOT / "README.md").read_text()
    for shot in re.findall(r"docs/screenshots/[\w-]+\.png", readme):
        assert (ROOT / shot).is_file()
