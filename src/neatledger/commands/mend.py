"""``mend``: from what was found to what is meant: the worklist, carrying it out, and taking it back."""

from __future__ import annotations

import argparse
import signal
from collections.abc import Callable, Sequence
from contextlib import closing
from pathlib import Path

from neatledger.app import App
from neatledger.cli import number_of
from neatledger.commands.ways.written import keep_steps
from neatledger.core.checks.contract import Finding
from neatledger.core.tree.address import Address
from neatledger.errors import NeatError, StepError, UsageError
from neatledger.faces.output import open_output
from neatledger.faces.show import show_report
from neatledger.formats.names import show_address
from neatledger.formats.stepfiles import read_steps
from neatledger.questions import Office, carrying, check, gather, proof, readlogs, worklist
from neatledger.questions.closing import remains_of_closed
from neatledger.questions.ends import findings_ended, steps_of_cause
from neatledger.questions.foreseen import foreseen
from neatledger.questions.made_otherwise import judge_made
from neatledger.questions.meant import subjects_of
from neatledger.questions.texts import StepTexts
from neatledger.reports.mend import (
    carried_report,
    journal_report,
    mend_report,
    stays_report,
    texts_report,
    undo_report,
    without_plan,
)
from neatledger.reports.mend_groups import groups_report, step_groups
from neatledger.reports.proof import proof_notes
from neatledger.reports.report import Report, count_of

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument(
        "words", nargs="*", metavar="GROUP|N|FILE|WHAT",
        help="a group of steps, as A; the number of a problem of check; a file of steps; a folder, person or system",
    )  # fmt: skip
    parser.add_argument("--left", action="store_true", help="what no step ends, and why")
    parser.add_argument("--only", action="append", metavar="CHECK", help="only steps that end findings of this check")
    parser.add_argument("--steps", dest="keep", metavar="FILE", help="also write the steps there")
    parser.add_argument("--script", action="store_true", help="print the steps for the systems' own tools")
    act = parser.add_mutually_exclusive_group()
    act.add_argument("--carry-out", action="store_true", help="make the steps, after asking")
    act.add_argument("--go-on", action="store_true", help="finish what was begun and stopped")
    act.add_argument("--undo", action="store_true", help="take back what was made last")
    act.add_argument("--log", action="store_true", help="everything that was ever carried out")
    parser.add_argument("--yes", action="store_true", help="do not ask; --expect says how many steps there are")
    parser.add_argument("--expect", type=number_of, metavar="N", help="--yes: another number of steps stops it")


def run(args: argparse.Namespace, app: App) -> int:
    """Show the worklist, or do what is asked with it."""
    _take_words(args)
    if args.log:
        return _journal(app)
    if args.go_on or args.undo:
        return _resume(args, app)
    if args.left and (args.steps or args.only or args.cause or args.group):
        raise UsageError("--left is of all that the plan says", hint="only a folder and a person narrow it")
    with app.progress("looking for steps"):
        found = _worklist(args, app)
        ends = [] if args.left else findings_ended(app.office, found)
    if args.left:
        show_report(stays_report(found.left), app.output)
        return 1 if found.left else 0
    if args.only:
        chosen = [number for number, some in enumerate(ends) if any(one.check in args.only for one in some)]
        found, ends = _some_of(found, ends, chosen)
    if args.cause:
        causes = check.ask_for_causes(app.office, check.ask(app.office))
        _, cause = check.find_cause(causes, args.cause)
        chosen = steps_of_cause(found, ends, cause)
        found, ends = _some_of(found, ends, chosen)
    if args.group:
        found, ends = _some_of(found, ends, _places_of_group(args, app, found, ends))
    keep_steps(app, args.keep, [item.step for item in found.items])
    if args.script:
        _print_texts(app, found)
    elif args.carry_out:
        return _carry_out(args, app, found, ends)
    else:
        report = _report(args, app, found, ends)
        show_report(_at_a_glance(args, app, found, ends, report), app.output)
    return 1 if found.items or found.left else 0


def _take_words(args: argparse.Namespace) -> None:
    """Tell the words of the call apart: a group of steps, a problem, a file of steps; what is left narrows."""
    args.group = args.cause = args.steps = args.below = None
    args.person, args.narrowing = [], []
    for word in args.words:
        # The groups are A, B, … AA: one letter in any case, for people may be called by two.
        if word.isalpha() and (len(word) == 1 or (len(word) == _LONGEST_LETTER and word.isupper())):
            args.group = word
        elif check.is_cause(word):
            args.cause = word
        elif word.endswith(".json") or (Path(word).is_file() and ":" not in word):
            args.steps = word
        else:
            args.narrowing.append(word)
    if args.expect is not None and not args.yes:
        raise UsageError("--expect belongs to --yes", hint="write: mend --carry-out --yes --expect N")
    if args.yes and args.expect is None and (args.carry_out or args.undo):
        raise UsageError("--yes wants to know how many steps", hint="write: --yes --expect N")


_LONGEST_LETTER = 2
_MANY = 10
"""Steps, as people see them, of which groups say more at a glance."""


def _person_of(office: Office) -> Callable[[str, str], str]:
    """Return what tells whose a login is, or is to be; the login itself where nobody in the plan has it."""
    known = {
        (system, login): person.id
        for person in office.plan.people.values()
        for system, logins in person.accounts.items()
        for login in logins
    }
    return lambda system, login: known.get((system, login), login)


def _places_of_group(
    args: argparse.Namespace, app: App, found: worklist.Worklist, ends: Sequence[Sequence[Finding]]
) -> tuple[int, ...]:
    """Return the places of one group's steps, as the first screen has it; raises `UsageError` where there is none."""
    groups = step_groups(found.items, ends, _person_of(app.office))
    group = next((one for one in groups if one.letter == args.group.upper()), None)
    if group is None:
        hint = f"there are {groups[0].letter} to {groups[-1].letter}" if groups else "there is nothing to do"
        raise UsageError(f"there is no group {args.group} of steps", hint=hint)
    return group.places


def _some_of(
    found: worklist.Worklist, ends: Sequence[list[Finding]], places: Sequence[int]
) -> tuple[worklist.Worklist, list[list[Finding]]]:
    """Return some steps of a worklist by their places, with what each ends; that others are left is not said then."""
    items = [found.items[place] for place in places]
    return worklist.Worklist(items, [], found.then), [ends[place] for place in places]


def _at_a_glance(
    args: argparse.Namespace,
    app: App,
    found: worklist.Worklist,
    ends: Sequence[Sequence[Finding]],
    report: Report,
) -> Report:
    """Return the steps by groups, where people are shown many of them; else the report of all."""
    is_for_people = app.output.form == "table" and not app.output.view
    if not is_for_people or args.all or args.group or args.cause or len(report.shown) <= _MANY:
        return report
    groups = step_groups(found.items, ends, _person_of(app.office))
    return groups_report(found.items, groups, len(found.left), report, app.office.count.when)


def _report(
    args: argparse.Namespace, app: App, found: worklist.Worklist, ends: Sequence[Sequence[Finding]]
) -> Report:
    office = app.office
    # What is only shown asks nobody for a password: a live directory is asked by --script alone.
    text = StepTexts(office).lines
    report = mend_report(
        found.items, ends, found.left, found.names, text, office.count.when, _scope(args), _source(args)
    )
    if found.items or found.left:
        report.notes[:0] = remains_of_closed(found.then, [item.step for item in found.items if not item.refused])
        return report
    if args.only or args.cause or args.steps:
        # Some steps were chosen and there are none: that says nothing of what else there is to do.
        chosen = " or ".join(args.only or []) or (f"problem {args.cause}" if args.cause else args.steps)
        report.headline = f"No step of the tool ends what was asked for: {chosen}."
        report.empty = f"check {args.cause} tells what to do" if args.cause else "no step"
        report.is_assured = False
        return report
    # The plan may have nothing to say of what is wrong all the same.
    waiting = sum(one.acceptance is None for one in check.ask(office))
    plan = office.plan
    if not (plan.people or plan.groups or plan.folders or plan.space.limits):
        report = without_plan(report)
    if waiting:
        report.notes.append(f"check has {count_of(waiting, 'finding')} that no step of the tool ends.")
    return report


def _source(args: argparse.Namespace) -> str:
    """Say from where some steps are that were chosen; nothing of all that the plan asks for."""
    if args.steps:
        return f" of {args.steps}"
    if args.cause:
        return f" against problem {args.cause}" if args.cause.isdecimal() else f" against {args.cause}"
    if args.group:
        return f" of group {args.group.upper()}"
    return f" against {' and '.join(args.only)}" if args.only else ""


def _scope(args: argparse.Namespace) -> str:
    below = f" in {args.below} and below" if args.below else ""
    return below + (f" for {' and '.join(args.person)}" if args.person else "")


def _print_texts(app: App, found: worklist.Worklist) -> None:
    steps = [item.step for item in found.items]
    with closing(StepTexts(app.office, app.credentials_for)) as texts:
        text = texts_report(steps, texts.lines, lambda step: step.word(found.names(step.system)))
    with open_output(app.output) as out:
        out.write(text)


def _worklist(args: argparse.Namespace, app: App) -> worklist.Worklist:
    if args.only:
        args.only = [check.check_called(name) for name in args.only]
    if args.steps:
        if args.narrowing:
            raise UsageError("steps of a file are taken whole", hint="name the file alone")
        return worklist.ask_for_steps(app.office, read_steps(args.steps))
    people: set[str] | None = None
    below: Address | None = None
    for word in args.narrowing:
        subject = subjects_of(app.office, [word], ("person", "folder"))
        if subject.folder is not None:
            if below is not None:
                raise UsageError(
                    f"two folders: {show_address(below)} and {show_address(subject.folder)}", hint="name one"
                )
            below = subject.folder
        elif subject.person is not None:
            people = {*(people or ()), subject.person.id}
    args.below, args.person = below, sorted(people or ())
    return worklist.ask(app.office, below, people)


def _carry_out(
    args: argparse.Namespace, app: App, found: worklist.Worklist, ends: Sequence[Sequence[Finding]]
) -> int:
    before = app.office.with_()
    carriers = carrying.Carriers(before, app.credentials_for)
    try:
        with app.progress("signing in"):
            found = foreseen(found, carriers)
        return _carry_out_by(carriers, args, app, before, found, ends)
    finally:
        carriers.close()


def _carry_out_by(
    carriers: carrying.Carriers,
    args: argparse.Namespace,
    app: App,
    before: Office,
    found: worklist.Worklist,
    ends: Sequence[Sequence[Finding]],
) -> int:
    steps = [item.step for item in found.makeable()]
    if not steps:
        why = next((item.by_hand for item in found.items if item.by_hand), "")
        raise StepError("there is nothing that the tool could make", hint=why or "mend shows who must, and why")
    if not args.yes:
        report = _report(args, app, found, ends)
        report.notes = [note for note in report.notes if note != "Nothing was changed."]
        show_report(report, app.output)
        if not app.agrees(f"Make these {len(steps)} steps now?"):
            app.say("Nothing was changed.")
            return 1
    elif args.expect != len(steps):
        message = f"--expect {args.expect} was said, and there are {len(steps)} steps"
        raise UsageError(message, hint="look at the list again: mend")
    with carrying.alone(before):
        groups = [item.group for item in found.makeable()]
        done = carrying.carry_out(
            before.ledger.journal, steps, carriers, lambda: app.clock, groups, judge_made(before)
        )
    return _show(app, before, done, is_undone=False)


def _resume(args: argparse.Namespace, app: App) -> int:
    if args.undo and not _agrees_to_undo(args, app):
        return 1
    # What stood before is what the newest count says: it is read before another one is made.
    before = app.office.with_()
    carriers = carrying.Carriers(app.office, app.credentials_for)
    try:
        work = carrying.undo if args.undo else carrying.go_on
        with carrying.alone(app.office):
            done = work(app.office.ledger.journal, carriers, lambda: app.clock)
    finally:
        carriers.close()
    return _show(app, before, done, is_undone=args.undo)


def _agrees_to_undo(args: argparse.Namespace, app: App) -> bool:
    """Show what would be taken back and ask; `--yes` answers where `--expect` is the number of the steps."""
    run, steps = carrying.undoable(app.office.ledger.journal)
    if not steps:
        # Nothing to ask about: whoever takes it back says so.
        return True
    if not args.yes:
        show_report(undo_report(run, steps, app.office.names), app.output)
        if not app.agrees(f"Take these {count_of(len(steps), 'step')} back now?"):
            app.say("Nothing was changed.")
            return False
    elif args.expect != len(steps):
        message = f"--expect {args.expect} was said, and there are {len(steps)} steps to take back"
        raise UsageError(message, hint="look at them first: mend --undo")
    return True


def _show(app: App, before: Office, done: carrying.Carried, *, is_undone: bool) -> int:
    proved, notes = True, list[str]()
    if done.stopped == carrying.BY_HAND:
        notes = ["What came of it was not looked at."]
    elif done.made:
        proved, notes = _look_again(app, before, done)
    show_report(carried_report(done, app.office.names, notes, is_undone=is_undone), app.output)
    if done.stopped:
        return 128 + signal.SIGINT if done.stopped == carrying.BY_HAND else 2
    return 1 if done.left or not proved else 0


def _look_again(app: App, before: Office, done: carrying.Carried) -> tuple[bool, list[str]]:
    """Gather the systems again that were changed; tell whether all is as it was to be, and say what that proves."""
    systems = list(dict.fromkeys(step.system for step in done.made))
    try:
        from neatledger import __version__

        gathered = gather.ask(before, app.now, __version__, app.credentials_for, app.progress, systems=systems)
        if gathered.failed:
            failed = gathered.failed.items()
            return False, [f"{name} could not be looked at again: {error}" for name, error in failed]
        readlogs.read(before, app.clock, credentials_for=app.credentials_for, systems=systems)
        found = proof.prove(before, systems)
        found.not_as_asked = sum(not one.means_the_same for one in done.otherwise)
        notes = proof_notes(found, is_over=not (done.stopped or done.left))
        return found.is_as_meant, [*notes, *remains_of_closed(app.office.newest(), done.made)]
    except NeatError as error:
        return False, [f"It could not be looked at again: {error}"]


def _journal(app: App) -> int:
    journal = app.office.ledger.journal
    steps = {run.id: run.steps for run in journal.runs()}
    entries = []
    for entry in journal.entries():
        step = None if entry.step is None else steps[entry.run][entry.step]
        message = str(entry.facts.get("why", ""))
        if entry.step is None and "steps" in entry.facts:
            undoes = entry.facts.get("undoes")
            message = f"{len(entry.facts['steps'])} steps" + (f", taking back run {undoes}" if undoes else "")
        entries.append((entry, entry.event.value, step, message))
    show_report(journal_report(entries, app.office.names), app.output)
    return 0
