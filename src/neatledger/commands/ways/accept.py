"""``accept CHECK PLACE``: write into the plan that the office lives with a finding."""

from __future__ import annotations

import argparse
from collections.abc import Sequence

from neatledger.app import App
from neatledger.core.tree.patterns import match_text
from neatledger.errors import UnknownNameError, UsageError
from neatledger.office.edit import add_acceptance
from neatledger.office.read import PLAN_NAME
from neatledger.questions import check
from neatledger.questions.told import place_of
from neatledger.reports.report import count_of

__all__ = ["run"]


def run(args: argparse.Namespace, app: App) -> int:
    """Edit the plan, keeping its comments, once somebody has said so; raises `UsageError` where nobody does."""
    office = app.office
    until = args.until.isoformat() if args.until else None
    chosen = _of_problem(args, app) if _is_number(args.words) else _of_check(args, app)
    for name, place in chosen:
        app.say(f"{name} at {place}")
    ending = f" until {until}" if until else ""
    if not args.yes and not app.agrees(f"Accept {count_of(len(chosen), 'finding')}{ending} in {PLAN_NAME}?"):
        raise UsageError("nothing was accepted", hint="say yes, or --yes")
    for name, place in chosen:
        add_acceptance(office.folder, name, place, args.accept, until)
    app.say(f"{office.folder / PLAN_NAME}: {count_of(len(chosen), 'finding')} accepted{ending}.")
    return 0


def _is_number(words: Sequence[str]) -> bool:
    return len(words) == 1 and words[0].isdecimal()


def _of_problem(args: argparse.Namespace, app: App) -> list[tuple[str, str]]:
    """Return the findings of a problem, by check and place."""
    causes = check.ask_for_causes(app.office, check.ask(app.office))
    _, cause = check.find_cause(causes, args.words[0])
    return list(dict.fromkeys((one.check, place_of(one)) for one in cause.findings))


def _of_check(args: argparse.Namespace, app: App) -> list[tuple[str, str]]:
    """Return a check and the place, or the pattern of places, that is named."""
    if not args.only or len(args.only) != 1 or len(args.words) != 1:
        hint = "write: check N --accept WHY, or check --only CHECK PLACE --accept WHY"
        raise UsageError("what is to be accepted?", hint=hint)
    name, place = args.only[0], args.words[0]
    found = check.ask(app.office, [name])
    if not any(match_text(place, place_of(one.finding)) for one in found):
        where = f"{len(found)} elsewhere" if found else "none anywhere"
        hint = f"check --only {name} -a lists them: {where}"
        raise UnknownNameError(f"no finding of {name} at {place} in the count", hint=hint)
    return [(name, place)]
