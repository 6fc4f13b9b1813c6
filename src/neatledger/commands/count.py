"""``count``: look at all systems and keep a dated count."""

from __future__ import annotations

import argparse
import shutil
import signal
from datetime import timedelta
from tempfile import SpooledTemporaryFile

from neatledger import __version__
from neatledger.app import App
from neatledger.errors import NeatError, UsageError
from neatledger.faces.show import show_report
from neatledger.files import copy_file
from neatledger.formats.names import show_text
from neatledger.ledger.carried import NAMESPACE
from neatledger.questions import gather, keeping, readlogs, told
from neatledger.questions.lognames import systems_with_logs
from neatledger.reports.gathered import gathered_report
from neatledger.reports.report import count_of
from neatledger.reports.trail import kept_words, logs_report

__all__ = ["add_arguments", "run"]

_IN_MEMORY = 64_000_000


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("systems", nargs="*", metavar="SYSTEM", help="look at these alone (all, if none is named)")
    parser.add_argument("--not-seen", action="store_true", help="list all that could not be seen")
    parser.add_argument("--no-check", action="store_true", help="do not look for what is wrong")
    parser.add_argument("--logs", action="store_true", help="only read what is new in the systems' logs")
    parser.add_argument("--export", metavar="FILE", help="into a file (-: standard output), for ledger --import")
    parser.add_argument("--key", metavar="FILE", help="--export: an SSH key that signs it")
    parser.add_argument(
        "--allow", action="append", default=[], choices=("future",), help="future: keep it though it is dated so"
    )


def run(args: argparse.Namespace, app: App) -> int:
    """Gather the systems; the count is stored at the end, each system in it whole, or not at all."""
    if args.logs:
        return _logs(app)
    if app.now > app.clock + timedelta(days=1) and "future" not in args.allow:
        hint = "see --today and the clock; --allow future keeps it, and until then it is the newest"
        raise UsageError(f"the count would be dated {app.now:%Y-%m-%d}, in the future", hint=hint)
    if args.export is not None:
        return _into_file(args, app)
    if args.key is not None:
        raise UsageError("--key belongs to --export", hint="write: count --export FILE --key KEY")
    before = signal.getsignal(signal.SIGINT)

    def begun() -> None:
        # From here on Ctrl-C comes too late: "stopped" must not be said of a count that is kept.
        signal.signal(signal.SIGINT, signal.SIG_IGN)

    try:
        office = app.office
        found = gather.ask(
            office,
            app.now,
            __version__,
            app.credentials_for,
            app.progress,
            begun,
            args.systems,
        )
        if found.count is not None:
            report = gathered_report(found.count, found.surveys, found.seconds, found.failed, list_all=args.not_seen)
            show_report(report, app.output)
            newest = office.ledger.counts()[-1]
            if newest.id != found.count:
                message = f"count {newest.id} is dated later, {newest.when}, and answers are given from it"
                app.complain(f"{message} (ledger --remove {newest.id} removes it)")
    finally:
        signal.signal(signal.SIGINT, before)
    for name, error in found.failed.items():
        app.complain(show_text(f"{name} was not counted: {error}"))
    if found.count is not None:
        _read_logs(app)
    if found.count is not None and office.ledger.counts()[-1].id == found.count and not args.no_check:
        _look(app)
    return 2 if found.failed else 0


def _logs(app: App) -> int:
    """Read the logs and nothing else; the status is 2 where one could not be read."""
    with app.progress("reading logs") as progress:
        read = readlogs.read(app.office, app.now, progress, app.credentials_for)
    show_report(logs_report(read), app.output)
    for done in keeping.keep(app.office, app.now):
        app.say(kept_words(done))
    return 2 if any(one.failed for one in read) else 0


def _into_file(args: argparse.Namespace, app: App) -> int:
    """Gather into a file: no ledger is asked, and none is made."""
    signed = None if args.key is None else app.signer(args.key, NAMESPACE)
    with SpooledTemporaryFile(_IN_MEMORY) as made:
        target = gather.Target(made, signed)
        found = gather.ask(
            app.office,
            app.now,
            __version__,
            app.credentials_for,
            app.progress,
            systems=args.systems,
            target=target,
        )
        if found.digest:
            made.seek(0)
            if args.export == "-":
                shutil.copyfileobj(made, app.streams.out.buffer)
                app.streams.out.buffer.flush()
            else:
                copy_file(args.export, made)
            systems = ", ".join(one.system for one in found.surveys)
            app.say(f"{systems} counted into {args.export}, SHA-256 {found.digest}")
    for name, error in found.failed.items():
        app.complain(show_text(f"{name} was not counted: {error}"))
    return 2 if found.failed else 0


def _read_logs(app: App) -> None:
    """Read what the systems wrote down since the last time; whatever comes of it, the count is kept."""
    if not systems_with_logs(app.office):
        return
    with app.progress("reading logs") as progress:
        read = readlogs.read(app.office, app.now, progress, app.credentials_for)
    for one in read:
        why = one.failed or "; ".join(one.notes)
        if one.bad_lines:
            file, line, fault = one.faults[0]
            told = f"{count_of(one.bad_lines, 'line')} could not be read, the first {file}, line {line}: {fault}"
            why = f"{why}; {told}" if why else told
        if why:
            app.complain(show_text(f"{one.system}: the log {one.file}: {why}"))
    for done in keeping.keep(app.office, app.now):
        app.say(kept_words(done))
    records = sum(one.records for one in read)
    if records:
        app.say(f"{count_of(records, 'record')} read from logs: neatledger trail")


def _look(app: App) -> None:
    """Look for what is not in order, and keep it with the count; whatever comes between, the count is kept."""
    try:
        with app.progress("looking for what is wrong"):
            found = told.ask(app.office)
    except KeyboardInterrupt:
        app.complain("the count is kept; what is wrong was not looked for (neatledger check does)")
        return
    except NeatError as error:
        app.complain(show_text(f"the count is kept, but what is wrong could not be looked for: {error}"))
        return
    standing = sum(one.acceptance is None for one in told.grade(app.office, found.findings))
    app.say(f"{count_of(standing, 'finding')} in it: neatledger brief")
