"""``suppose``: what an imagined change would do: to access, to limits, space and dates, or to what is shared."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.commands.ways import protection
from neatledger.commands.ways.written import keep_steps
from neatledger.errors import UsageError
from neatledger.faces.show import show_report
from neatledger.formats.words import parse_pair, parse_pairs, parse_size_limit, parse_whole
from neatledger.reports.report import Aside, Report

__all__ = ["add_arguments", "run"]

_ACCESS = (
    ("--member", "GROUP=WHO", "a person or a group put into a group"),
    ("--no-member", "GROUP=WHO", "a person or a group taken out of a group"),
    ("--grant", "FOLDER=WHO:LEVEL", "a level given on a folder and all below it"),
    ("--revoke", "FOLDER=WHO", "whose entries go from a folder and all below it"),
    ("--close", "WHO", "a person's accounts closed, or SYSTEM:LOGIN"),
    ("--delete", "WHO", "a person's accounts gone altogether, or SYSTEM:LOGIN"),
    ("--copy-list", "FOLDER=LIST", "a folder with the list of another one, or with the list that a text says"),
    ("--push", "FOLDER", "a folder's list pushed down to all below"),
    ("--owning-group", "FOLDER=GROUP", "another owning group on a folder and all below it"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("folder", metavar="FOLDER", nargs="?", help="backups: only what concerns this folder")
    parser.add_argument("--findings", action="store_true", help="compare all findings, in an office however large")
    parser.add_argument("--plan", metavar="FILE", help="what was found brought to the plan of another file")
    parser.add_argument("--like", metavar="PERSON", help="somebody new, in all the groups of this person")
    access = parser.add_argument_group("access", "as many as wanted, together")
    for word, form, help_text in _ACCESS:
        access.add_argument(word, action="append", default=[], metavar=form, help=help_text)
    for word, form, help_text in (
        ("--limit", "PLACE=SIZE", "a limit on a folder, person, group or pool"),
        ("--band", "BAND=SIZE", "a band restated"),
        ("--newcomers", "SYSTEM=N", "N more people on a system"),
        ("--relocate", "FOLDER=DISK", "a folder moved to another disk"),
        ("--versions", "SYSTEM[:KIND]=N", "another number of old versions kept"),
        ("--unshare", "WHAT", "link:ID, hand-out:ID, member:FOLDER=HOLDER or guest:LOGIN: who then loses what"),
        ("--sharing-rule", "SETTING=VALUE", "a sharing rule: what it would catch"),
    ):
        parser.add_argument(word, action="append", default=[], metavar=form, help=help_text)
    parser.add_argument(
        "--rule-for", default="office", metavar="PLACE", help="a folder, system or person (default: the office)"
    )
    copies = parser.add_argument_group("backups, if all ran as it is said")
    copies.add_argument(
        "--backup", action="append", default=[], metavar="FOLDER=BACKUP", help="a folder is taken into a backup"
    )
    copies.add_argument(
        "--backup-every", action="append", default=[], metavar="SYSTEM:RULE=SPAN", help="it runs so often"
    )
    copies.add_argument(
        "--backup-kept", action="append", default=[], metavar="SYSTEM:RULE=SPAN", help="its runs are kept for so long"
    )
    parser.add_argument("--steps", metavar="FILE", help="also write the steps there, for mend FILE")
    parser.add_argument(
        "--space-left", nargs=2, metavar=("PERSON", "FOLDER"), help="also how much this person can still store there"
    )


def run(args: argparse.Namespace, app: App) -> int:
    """Answer about space, or about what is shared."""
    if args.like:
        return _like(args, app)
    of_copies = [*args.backup, *args.backup_every, *args.backup_kept]
    of_copies += [word for word in args.versions if ":" in word.partition("=")[0]]
    of_space = [*args.limit, *args.band, *args.newcomers, *args.relocate, *([] if of_copies else args.versions)]
    of_access = bool(args.plan) or any(getattr(args, word[2:].replace("-", "_")) for word, _, _ in _ACCESS)
    asked = (of_copies, of_space, args.unshare, args.sharing_rule, of_access)
    if sum(map(bool, asked)) > 1:
        raise UsageError("suppose one thing at a time: access, space, backups, --unshare, or --sharing-rule")
    if args.steps and not of_access:
        raise UsageError("only changes of access have steps", hint="leave --steps out")
    if of_copies:
        return protection.run(args, app)
    if args.folder:
        raise UsageError("only backups are supposed of one folder", hint=f"leave {args.folder} out")
    # Each sort of question imports only what it needs: forecasts are slow to load.
    if of_access:
        report = _access(args, app)
    else:
        report = (
            _take_back(args, app) if args.unshare else _rule(args, app) if args.sharing_rule else _space(args, app)
        )
    show_report(report, app.output)
    return 0


def _like(args: argparse.Namespace, app: App) -> int:
    from neatledger.questions import compare
    from neatledger.reports.compare import like_report

    office = app.office
    found = compare.ask_like(office, args.like)
    person = office.find_person(args.like)
    apart = [system for system in person.principals if office.systems.service(system) is not None]
    groups = {system: sorted(names) for system, names in found.left.groups.items()}
    show_report(like_report(found, groups, apart, office.count.when), app.output)
    return 0


def _access(args: argparse.Namespace, app: App) -> Report:
    from neatledger.questions import plan_words, suppose_access
    from neatledger.questions.supposing import Wishes, steps_of
    from neatledger.reports.plan_words import plan_notes
    from neatledger.reports.supposed import supposed_report

    def pairs(words: list[str], form: str) -> tuple[tuple[str, str], ...]:
        return tuple(parse_pair(word, form) for word in words)

    wishes = Wishes(
        into=pairs(args.member, "--member GROUP=WHO"),
        out_of=pairs(args.no_member, "--no-member GROUP=WHO"),
        grants=pairs(args.grant, "--grant FOLDER=WHO:LEVEL"),
        withdrawn=pairs(args.revoke, "--revoke FOLDER=WHO"),
        closed=tuple(args.close),
        gone=tuple(args.delete),
        lists=tuple(_list_pair(word) for word in args.copy_list),
        pushed=tuple(args.push),
        given=pairs(args.owning_group, "--owning-group FOLDER=GROUP"),
    )
    steps, sentences = steps_of(app.office, wishes)
    if args.plan:
        if wishes:
            raise UsageError("suppose the plan of a file, or single changes")
        steps, sentences = suppose_access.steps_to_plan(app.office, args.plan), [f"the plan of {args.plan} held"]
    found = suppose_access.ask(app.office, steps, all_findings=args.findings)
    keep_steps(app, args.steps, steps)
    when = app.office.count.when
    report = supposed_report(sentences, found.changes, found.outside, found.gone, found.come, when)
    if args.steps:
        report.notes[:0] = plan_notes(plan_words.ask(app.office, found.then, steps))
    if found.only is not None:
        few = ", ".join(found.only)
        report.notes.append(Aside(f"In so large an office only some findings are compared ({few}); --findings: all."))
    return report


def _list_pair(word: str) -> tuple[str, str]:
    # A list's text has signs of equality of its own: the folder ends at the first one.
    folder, equals, text = word.partition("=")
    if not folder or not equals or not text:
        raise UsageError(
            f"{word!r} says too little", hint="write --copy-list FOLDER=FOLDER or --copy-list FOLDER=TEXT"
        )
    return folder, text.strip()


def _take_back(args: argparse.Namespace, app: App) -> Report:
    from neatledger.questions import suppose_sharing
    from neatledger.reports.takeback import takeback_report

    return takeback_report(suppose_sharing.ask_take_back(app.office, args.unshare), app.office.count.when)


def _rule(args: argparse.Namespace, app: App) -> Report:
    from neatledger.formats.shared import rule_from_words
    from neatledger.questions import suppose_sharing
    from neatledger.reports.links import supposed_rule_report

    try:
        rule = rule_from_words(parse_pair(word, "--sharing-rule SETTING=VALUE") for word in args.sharing_rule)
    except ValueError as error:
        raise UsageError(str(error), hint="see docs/sharing.md") from None
    found = suppose_sharing.ask_rule(app.office, rule, args.rule_for)
    caught, office = found.caught, app.office
    where = found.rule.describe()
    words = ", ".join(args.sharing_rule)
    return supposed_rule_report(
        caught.judged, caught.names, caught.total, office.day, office.count.when, words, where
    )


def _space(args: argparse.Namespace, app: App) -> Report:
    from neatledger.questions import suppose_space
    from neatledger.reports.suppose import (
        outlooks_beside,
        promises_beside,
        rooms_beside,
        statuses_beside,
        suppose_report,
    )

    supposed = suppose_space.Supposition(
        limits=parse_pairs(args.limit, "--limit PLACE=SIZE", parse_size_limit),
        bands=parse_pairs(args.band, "--band BAND=SIZE", parse_size_limit),
        joining=parse_pairs(args.newcomers, "--newcomers SYSTEM=N", parse_whole),
        moves=parse_pairs(args.relocate, "--relocate FOLDER=DISK", str),
        versions=parse_pairs(args.versions, "--versions SYSTEM=N", parse_whole),
        room=tuple(args.space_left) if args.space_left else None,
    )
    found = suppose_space.ask(app.office, supposed, is_of_plan=app.is_of_plan)
    beside = statuses_beside(found.before.statuses, found.after.statuses) + promises_beside(*found.promises)
    beside += rooms_beside(*found.rooms) if found.rooms else []
    beside += outlooks_beside(found.outlooks)
    return suppose_report(beside, found.sentences, found.after.notes, app.office.count.when)
