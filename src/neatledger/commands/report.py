"""``report space``: a paper for people who decide, as a page or a workbook."""

from __future__ import annotations

import argparse
from pathlib import Path

from neatledger.app import App
from neatledger.commands.check import graded_findings
from neatledger.commands.forecast import look_ahead
from neatledger.commands.holdings import load_history, load_views
from neatledger.commands.space import office_shares
from neatledger.commands.spacefacts import load_space
from neatledger.core.checks import limits, storing
from neatledger.core.checks.contract import Office, SpaceFacts
from neatledger.core.plan.limits import On
from neatledger.core.space.sizes import show_size
from neatledger.errors import UsageError
from neatledger.faces.show import write_file
from neatledger.reports.bands import bands_report
from neatledger.reports.findings import findings_report
from neatledger.reports.forecast import forecast_report, full_words, growth_of
from neatledger.reports.kinds import barred_report
from neatledger.reports.paper import Paper, Part, Use
from neatledger.reports.promises import promises_report
from neatledger.reports.report import Report
from neatledger.reports.space import breakdown_report, space_report
from neatledger.reports.versions import versions_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("about", choices=("space",), help="what the report is about")


def run(args: argparse.Namespace, app: App) -> int:
    """Write the paper to the file that -o names; its form goes by the file's ending."""
    target = app.options.output
    suffix = Path(target).suffix.lower() if target else ""
    if target is None or suffix not in (".html", ".xlsx"):
        raise UsageError("where to, and as what?", hint="write: report space -o space.html (a page) or -o space.xlsx")
    paper = space_paper(app)
    if suffix == ".html":
        from neatledger.faces.page import render_page

        write_file(target, render_page(paper).encode("utf-8", "backslashreplace"))
    else:
        from neatledger.faces.workbook import render_workbook

        write_file(target, render_workbook(paper))
    app.say(f"The report is in {target}.")
    return 0


def space_paper(app: App) -> Paper:
    """Gather everything about space into one paper."""
    views, when = load_views(app), app.count.when
    history = load_history(app)
    facts = load_space(app, views, history)
    lines = facts.lines
    limited = [line for line in lines if line.settings.limit]
    outlooks = look_ahead(app, limited, history)
    of_place = {(each.line.target.on, each.line.target.key): each for each in outlooks}
    pools = [line for line in lines if line.target.on is On.POOL]
    fullest = sorted((line for line in limited if line.target.on is On.FOLDER), key=lambda line: -line.fullness)[:3]
    figures = [
        growth_of(outlook, history.used(line))
        for line in [*pools, *fullest]
        if (outlook := of_place.get((line.target.on, line.target.key))) is not None and outlook.trend is not None
    ]
    parts = [
        Part("Limits", space_report(lines, when, app.today, show_all=False, machine=False)),
        Part("Forecast", forecast_report(outlooks, when, show_all=False, machine=False), figures),
        Part("Promised", promises_report(facts.promises, when)),
    ]
    for by in ("system", "kind", "owner"):
        whole, shares = office_shares(app, views, by)
        use = Use(str(whole.name), by, [(str(share.name), share.occupied) for share in shares])
        parts.append(Part(f"Use by {by}", breakdown_report(by, whole, shares, when, [], machine=False), [use]))
    parts.append(Part("Bands", bands_report(app.plan.space.bands, lines, None, show_all=False)))
    kept = [(name, view.rules, facts.kept.get(name, ()), facts.bins[name]) for name, view in views.items()]
    parts.append(Part("Versions and bin", versions_report(kept, when, asked=False, machine=False)))
    parts.append(Part("Barred kinds", barred_report(facts.barred, app.plan.space.barred, when)))
    parts.append(Part("Findings", _findings(app, facts)))
    lead = [
        f"{line.target.key}: {show_size(line.amount)} of {show_size(line.settings.limit)} used; full: "
        f"{full_words(of_place[On.POOL, line.target.key])}."
        for line in pools
        if line.settings.limit and (On.POOL, line.target.key) in of_place
    ]
    lead += [parts[0].report.headline, parts[2].report.headline, parts[-1].report.headline]
    return Paper(f"{app.plan.office}: space", f"As counted on {when}; written on {app.today}.", lead, parts)


def _findings(app: App, facts: SpaceFacts) -> Report:
    """Return what the checks on space have to say; they ask of no system's lists."""
    office = Office(app.plan, [], app.today, lambda: facts, list)
    names = [check.name for family in (limits, storing) for check in family.CHECKS]
    return findings_report(graded_findings(office, names), app.count.when, show_all=False, machine=False)
