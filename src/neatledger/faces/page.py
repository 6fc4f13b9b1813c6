"""A paper as one page of HTML that needs nothing else: figures inside, with their words; readable in print."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from neatledger.faces.figures import Drawn, draw_growth, draw_use
from neatledger.faces.table import show_cell
from neatledger.reports.forecast import Growth
from neatledger.reports.paper import Paper, Use
from neatledger.reports.report import Column, MachineNote, Report, Show

__all__ = ["draw", "render_page"]

_TEMPLATE = """<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>{{ paper.title }}</title>
<style>
:root { color-scheme: light; }
body { font: 15px/1.45 system-ui, sans-serif; color: #1a1a1a; background: #fff; margin: 2rem auto; max-width: 72rem;
  padding: 0 1rem; }
h1 { font-size: 1.6rem; margin: 0; }
h2 { font-size: 1.15rem; margin: 2.2rem 0 .3rem; border-top: 1px solid #bbb; padding-top: .8rem; }
.sub { color: #555; margin: .2rem 0 1.2rem; }
.lead { border-left: 4px solid #444; padding: .2rem 0 .2rem 1rem; margin: 1rem 0; }
.lead li { margin: .25rem 0; }
.wide { overflow-x: auto; }
table { border-collapse: collapse; margin: .6rem 0; font-size: .92rem; }
th, td { padding: .22rem .8rem .22rem 0; text-align: left; vertical-align: top; }
th { border-bottom: 1px solid #888; font-weight: 600; white-space: nowrap; }
tr:nth-child(even) td { background: #f4f4f4; }
td.n, th.n { text-align: right; font-variant-numeric: tabular-nums; white-space: nowrap; }
td.b { font-family: ui-monospace, monospace; white-space: nowrap; }
.note { color: #444; font-size: .9rem; margin: .15rem 0; }
img { max-width: 100%; height: auto; }
figure { margin: .8rem 0; }
figcaption { color: #444; font-size: .88rem; }
@media print { body { margin: 0; max-width: none; } h2, figure { break-inside: avoid; } }
</style>
</head>
<body>
<h1>{{ paper.title }}</h1>
<p class="sub">{{ paper.subtitle }}</p>
<ul class="lead">{% for sentence in paper.lead %}<li>{{ sentence }}</li>{% endfor %}</ul>
{% for part in parts %}
<section>
<h2>{{ part.title }}</h2>
<p>{{ part.headline }}</p>
{% for figure in part.figures %}
<figure><img src="{{ figure.data }}" alt="{{ figure.words }}"><figcaption>{{ figure.words }}</figcaption></figure>
{% endfor %}
{% if part.rows %}
<div class="wide"><table>
<thead><tr>
{% for column in part.columns %}<th class="{{ column.sort }}">{{ column.head }}</th>{% endfor %}
</tr></thead>
<tbody>
{% for row in part.rows %}<tr>{% for cell in row %}<td class="{{ cell.sort }}">{{ cell.text }}</td>{% endfor %}</tr>
{% endfor %}</tbody>
</table></div>
{% else %}<p class="note">{{ part.empty }}</p>{% endif %}
{% for note in part.notes %}<p class="note">{{ note }}</p>
{% endfor %}
</section>
{% endfor %}
</body>
</html>
"""


def draw(figure: Growth | Use) -> Drawn:
    """Draw a figure of a paper."""
    if isinstance(figure, Growth):
        return draw_growth(figure)
    return draw_use(figure.name, figure.by, figure.shares)


def _sort(column: Column) -> str:
    return "n" if column.number else "b" if column.key == "bar" else ""


def _part(title: str, report: Report, figures: Sequence[Growth | Use]) -> dict[str, Any]:
    columns = [column for column in report.columns if column.show is not Show.MACHINE]
    drawn = [draw(figure) for figure in figures]
    return {
        "title": title,
        "headline": report.headline,
        "columns": [{"head": column.head, "sort": _sort(column)} for column in columns],
        "rows": [
            [{"text": show_cell(row[column.key]), "sort": _sort(column)} for column in columns]
            for row in report.shown
        ],
        "notes": [note for note in report.notes if not isinstance(note, MachineNote)],
        "empty": report.empty,
        "figures": [{"data": each.as_data(), "words": each.words} for each in drawn],
    }


def render_page(paper: Paper) -> str:
    """Return the page; what comes from outside is escaped."""
    from jinja2 import Environment

    template = Environment(autoescape=True, trim_blocks=True).from_string(_TEMPLATE)
    return template.render(paper=paper, parts=[_part(part.title, part.report, part.figures) for part in paper.parts])
