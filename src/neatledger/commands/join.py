"""``join NAME``: somebody starts: proposed, written into the plan, its steps; and whether they have it then."""

from __future__ import annotations

import argparse
import os
from pathlib import Path

from neatledger.app import App
from neatledger.cli import day_of
from neatledger.commands.ways.written import keep_steps, write_worksheets
from neatledger.errors import UsageError
from neatledger.faces.letters import Letters
from neatledger.faces.show import show_report
from neatledger.formats.words import parse_pair
from neatledger.office.edit_people import add_person, arrival_text
from neatledger.questions import joining, proving
from neatledger.reports.joining import joining_rows, proof_report, sheet, step_rows
from neatledger.reports.report import Aside, count_of

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("name", metavar="NAME", help="the whole name, as in 'Ada Lark'; or who is to be proved")
    parser.add_argument(
        "--post", action="append", default=[], metavar="POST", help="a post of the plan; may be given again"
    )
    parser.add_argument("--like", default="", metavar="PERSON", help="the posts and groups of somebody who is there")
    parser.add_argument("--start", type=day_of, metavar="DATE", help="the first day (default: at once)")
    parser.add_argument("--last-day", type=day_of, metavar="DATE", help="the last day, where it is known")
    parser.add_argument("--id", default="", metavar="WORD", help="what the plan is to call them")
    parser.add_argument(
        "--email", default="", metavar="ADDRESS", help="the address, where the post's form will not do"
    )
    parser.add_argument(
        "--login", action="append", default=[], metavar="SYSTEM=LOGIN", help="a login, where the form will not do"
    )
    parser.add_argument("--steps", metavar="FILE", help="also write the steps there, for mend FILE")
    act = parser.add_mutually_exclusive_group()
    act.add_argument("--write", action="store_true", help="write it into office.yaml")
    act.add_argument("--verify", action="store_true", help="whether somebody of the plan has just what it says")
    act.add_argument(
        "--passwords", nargs="?", const="", metavar="FILE", help="first passwords: shown once, or a letter to print"
    )
    parser.add_argument("--yes", action="store_true", help="with --passwords: without asking")


def run(args: argparse.Namespace, app: App) -> int:
    """Propose, write, or prove."""
    if args.verify:
        return _prove(args, app)
    if args.passwords is not None:
        return _passwords(args, app)
    if not args.post and not args.like:
        posts = ", ".join(app.office.plan.posts) or "the plan says none yet: posts: {NAME: {groups: […]}}"
        raise UsageError("which post?", hint=f"--post POST ({posts}), or --like PERSON")
    logins = dict(parse_pair(word, "SYSTEM=LOGIN") for word in args.login)
    newcomer = joining.Newcomer(
        args.name, args.post, args.like, args.id, args.email, args.start, args.last_day, logins
    )  # fmt: skip
    with app.progress("looking what comes of it"):
        found = joining.ask(app.office, newcomer)
    keep_steps(app, args.steps, [item.step for item in found.work.items])
    notes: list[str | Aside] = [f"Mind: {note}." for note in found.notes]
    if args.write:
        add_person(app.office.folder, found.arrival)
        today = f" --today {found.day}" if found.day > app.today else ""
        notes.append(f"{found.arrival.id} was written into office.yaml.")
        notes.append(Aside(f"mend {found.arrival.id}{today} shows the steps; with --carry-out it makes them."))
        notes.append(Aside(f"join {found.arrival.id} --verify says afterwards whether they have just that."))
    else:
        notes += ["The plan would say:", *(f"  {line}" for line in arrival_text(found.arrival).rstrip().split("\n"))]
        notes.append("Nothing was changed; --write writes it into office.yaml.")
    words = found.arrival.words
    rows = joining_rows(words, found.choices, found.home, found.reach, found.promises, found.tell)
    rows += step_rows(found.work.items, found.work.names, found.day)
    steps = count_of(len(found.work.items), "step")
    headline = f"{words['name']} ({found.arrival.id}) starts on {found.day}: {steps}."
    report = sheet(headline, "joining", rows, notes)
    write_worksheets(app, args.others, report)
    show_report(report, app.output)
    return 0


def _prove(args: argparse.Namespace, app: App) -> int:
    office = app.office
    proofs = proving.ask(office, args.name)
    person = office.plan.people[office.find_planned(args.name)]
    show_report(proof_report(person.name, proofs, office.count.when), app.output)
    return 1 if any(one.verdict is not proving.Verdict.AS_PLANNED for one in proofs) else 0


def _passwords(args: argparse.Namespace, app: App) -> int:
    """Set first passwords, and show them once, or put them into a letter that nobody else can read."""
    from neatledger.questions import carrying, first_passwords

    office = app.office
    person = office.plan.people[office.find_planned(args.name)]
    accounts = first_passwords.accounts_of(office, person.id)
    target = Path(args.passwords) if args.passwords else None
    if target is not None and target.exists():
        raise UsageError(f"{target} is there already", hint="a letter is written anew: name another file")
    letters = Letters(office.folder / office.plan.notices.templates)
    letters.check()
    names = ", ".join(f"{system}:{login}" for system, login in accounts)
    if not args.yes and not app.agrees(f"Set new first passwords for {names} now?"):
        app.say("Nothing was changed.")
        return 1
    carriers = carrying.Carriers(office, app.credentials_for)
    try:
        found = first_passwords.ask(accounts, carriers)
    finally:
        carriers.close()
    told = [(one.system, one.login, one.password) for one in found if one.password]
    if told:
        facts = {"office": office.plan.office, "name": person.name, "passwords": told, "day": f"{office.today}"}
        subject, text = letters.fill("welcome", facts)
        letter = f"{subject}\n\n{text}"
        if target is None:
            app.streams.out.write(letter)
        else:
            # Nobody else may read it, not even for a moment.
            with open(os.open(target, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "w", encoding="utf-8") as out:
                out.write(letter)
            app.say(f"The letter is in {target}: print it, and remove it.")
    for one in found:
        if one.why:
            app.complain(one.why)
    return 0 if told and len(told) == len(found) else 1
