"""Draw the rooms of the code, and who imports whom, from the imports themselves: ``python docs/draw_rooms.py``.

Writes ``docs/rooms.svg``. Every floor is a row, the ground at the bottom; in the core the rooms stand side by side,
and each may use those to its left. A box tells its lines of code; the thicker an arrow, the more modules go there.
"""

from __future__ import annotations

import ast
from collections import Counter
from html import escape
from pathlib import Path

DOCS = Path(__file__).parent
PACKAGE = DOCS.parent / "src" / "neatledger"
ROWS = (
    ("commands", "app"),
    ("faces", "demo"),
    ("reports", "questions"),
    ("office", "ledger", "sources"),
    ("formats",),
    ("lists", "tree", "plan", "survey", "people", "access", "space", "sharing", "checks"),
)
CORE = ROWS[-1]
WIDTH, HEIGHT, LEFT, TOP, BOX, BOWS = 1240, 800, 20, 60, 46, 150


def room_of(module: str) -> str:
    """Return the room or floor of a module: below the core its room, else the floor."""
    parts = module.split(".")[1:]
    name = parts[1] if parts and parts[0] == "core" and len(parts) > 1 else parts[0] if parts else ""
    return {"cli": "app", "__main__": "app"}.get(name, name)


def imports_of(path: Path) -> set[str]:
    """Return the project's modules that a module imports, inside functions too."""
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("neatledger"):
            for alias in node.names:
                whole = PACKAGE.parent / (f"{node.module}.{alias.name}".replace(".", "/") + ".py")
                found.add(f"{node.module}.{alias.name}" if whole.is_file() else str(node.module))
    return found


def measure() -> tuple[Counter[str], Counter[tuple[str, str]]]:
    """Return the lines of every room, and how many modules of one use another."""
    lines: Counter[str] = Counter()
    arrows: Counter[tuple[str, str]] = Counter()
    for path in PACKAGE.rglob("*.py"):
        here = room_of(".".join(("neatledger", *path.relative_to(PACKAGE).with_suffix("").parts)))
        lines[here] += path.read_text().count("\n")
        for there in {room_of(module) for module in imports_of(path)} - {here}:
            arrows[here, there] += 1
    return lines, arrows


def draw() -> str:
    """Return the picture."""
    lines, arrows = measure()
    place: dict[str, tuple[float, float, float]] = {}
    step = (HEIGHT - TOP - BOX - BOWS) / (len(ROWS) - 1)
    for row, names in enumerate(ROWS):
        room = (WIDTH - 2 * LEFT) / len(names)
        width = min(room - 26, 150)
        for column, name in enumerate(names):
            place[name] = LEFT + room * (column + 0.5) - width / 2, TOP + row * step, width
    ground = TOP + (len(ROWS) - 1) * step - 40
    out = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH} {HEIGHT}" font-family="sans-serif">',
        "<title>The rooms of Neat Ledger</title>",
        f'<rect width="{WIDTH}" height="{HEIGHT}" fill="white"/>',
        f'<text x="{LEFT}" y="30" font-size="18">Arrows run downwards, and in the core to the left</text>',
        f'<rect x="6" y="{ground}" width="{WIDTH - 12}" height="{HEIGHT - ground - 8}" fill="#f2f2ee" rx="8"/>',
        f'<text x="{LEFT}" y="{ground + 22}" fill="#555" font-size="14">core</text>',
    ]
    joined: Counter[tuple[str, str]] = Counter()
    for (here, there), number in arrows.items():
        # From above all of the core is one thing.
        if here in place and there in place:
            joined[here, there if here in CORE or there not in CORE else ""] += number
    for (here, there), number in sorted(joined.items()):
        x, y, w = place[here]
        u, v, t = place[there] if there else (x, ground, w)
        path = f"M {x + w / 2} {y + BOX} L {u + t / 2} {v}"
        if y == v:
            # Side by side: a bow below the boxes, the deeper the farther it goes.
            deep = y + BOX + 12 + abs(x - u) * 0.19
            path = f"M {x + w / 2 - 8} {y + BOX} Q {(x + u + w) / 2} {deep} {u + t / 2 + 8} {v + BOX}"
        words = f"{escape(here)} uses {escape(there or 'core')}: {number} times"
        line = f'fill="none" stroke="#456" stroke-width="{0.7 + min(number, 48) / 12:.1f}" opacity="0.5"'
        out.append(f'<path d="{path}" {line}><title>{words}</title></path>')
    for name, (x, y, w) in place.items():
        middle = f'x="{x + w / 2:.0f}" text-anchor="middle"'
        out += [
            f'<rect x="{x:.0f}" y="{y:.0f}" width="{w:.0f}" height="{BOX}" rx="6" fill="#fff" stroke="#234"/>',
            f'<text {middle} y="{y + 19:.0f}" font-size="14">{escape(name)}</text>',
            f'<text {middle} y="{y + 37:.0f}" fill="#555" font-size="12">{lines[name]:,} lines</text>',
        ]
    return "\n".join([*out, "</svg>", ""])


if __name__ == "__main__":
    (DOCS / "rooms.svg").write_text(draw())
