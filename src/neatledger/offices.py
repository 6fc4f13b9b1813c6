"""One question put to many offices, side by side over processes; one that fails does not stop the others.

`--office` is a pattern then, and names the folders of the offices. Each is asked in a process of its own, which
hands back its reports, or in words why it could not.
"""

from __future__ import annotations

import argparse
import io
import multiprocessing
import os
import signal
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import replace
from functools import partial
from glob import glob
from importlib import import_module
from multiprocessing.connection import Connection, wait
from multiprocessing.process import BaseProcess
from pathlib import Path

from neatledger.app import App, Options, Streams
from neatledger.errors import NeatError, PlanError, UsageError
from neatledger.extras import extras_for
from neatledger.faces.output import Output, open_output
from neatledger.faces.papers import write_paper
from neatledger.faces.progress import Progress, Waits
from neatledger.faces.show import show_report
from neatledger.faces.table import Layout, render_table
from neatledger.faces.view import shape
from neatledger.formats.names import show_text
from neatledger.formats.ownfaults import spell_own_fault
from neatledger.office.first import SCHEMA_NAME
from neatledger.office.read import PLAN_NAME, read_plan
from neatledger.processes import undisturbed
from neatledger.reports.offices import OfficeAnswer, merged_report, offices_report, summary_paper
from neatledger.reports.report import Report

__all__ = ["run_over"]

_SUMMARY = "offices"
_LEDGER = "ledger.db"
"""What tells that a folder was an office, though its plan is gone."""
_STOP_SECONDS = 5.0


def run_over(name: str, args: argparse.Namespace, options: Options, streams: Streams) -> int:
    """Ask every office that the pattern means; returns 2 where one failed, else the gravest of their statuses."""
    folders, others = _offices(options.office or "")
    names = _names(folders)
    is_paper = name == "report"
    if is_paper:
        for target in args.others or [None]:
            _check_pattern(target, "-o", "report office --office 'clients/*' -o 'pages/*.html'")
    with Progress(Waits(streams.err, quiet=options.quiet), "offices") as progress:
        tasks = [_task(name, args, options, folder, names[folder]) for folder in folders]
        answers = list(_side_by_side(folders, tasks, progress))
    answers.sort(key=lambda one: folders.index(Path(one.folder)))
    if is_paper:
        _write_summary(args.others[0], answers, streams, names, others)
    else:
        _show(answers, options, streams, others)
    for one in answers:
        for line in one.said:
            print(f"{one.folder}: {line}", file=streams.err)
    return max(one.status for one in answers)


def _offices(pattern: str) -> tuple[list[Path], list[str]]:
    """Return the offices that a pattern means, one that lost its plan among them, and folders that are none."""
    found = sorted(Path(one) for one in glob(os.path.expanduser(pattern)))
    folders = [one for one in found if os.path.isdir(one)]
    offices = [one for one in folders if _is_office(one)]
    if not offices:
        hint = f"an office is a folder with {PLAN_NAME} in it; quote the pattern: --office 'clients/*'"
        raise UsageError("no office is called so", pattern, hint)
    return offices, [str(one) for one in folders if one not in offices]


def _is_office(folder: Path) -> bool:
    """Tell whether a folder is an office's: where a ledger lies and no plan, or nobody may look, that is told."""
    if not os.access(folder, os.R_OK | os.X_OK):
        return True
    return any(os.path.lexists(folder / sign) for sign in (PLAN_NAME, SCHEMA_NAME, _LEDGER))


def _names(folders: Sequence[Path]) -> dict[Path, str]:
    """Return what each office's own files are called: its folder, and what is above it where others are called so."""
    found: dict[Path, str] = {}
    depth, left = 1, list(folders)
    while left:
        called = {folder: "-".join(folder.resolve().parts[-depth:]) for folder in left}
        taken = [name.casefold() for name in (*found.values(), *called.values(), _SUMMARY)]
        clear = {folder: name for folder, name in called.items() if taken.count(name.casefold()) == 1}
        if not clear and depth > max(len(folder.resolve().parts) for folder in left):
            raise UsageError("two of these offices are one folder", str(left[0]), "name each by one pattern only")
        found |= clear
        left = [folder for folder in left if folder not in clear]
        depth += 1
    return found


def _check_pattern(target: str | None, option: str, example: str) -> None:
    if target is None or "*" not in target:
        raise UsageError(f"{option} names one file for many offices: put * where each has its name", hint=example)


def _task(
    name: str, args: argparse.Namespace, options: Options, folder: Path, called: str
) -> Callable[[], OfficeAnswer]:
    """Return what asks one office, with files of its own wherever the call names one."""
    mine = argparse.Namespace(**vars(args))
    for target in args.others:
        _check_pattern(target, "-o", "-o 'calendars/*.ics'")
    mine.others = [target.replace("*", called) for target in args.others]
    if name == "notices" and args.send_to:
        mine.send_to = str(Path(args.send_to) / called)
    alone = replace(options, office=str(folder), output=None, is_paged=False)
    return partial(_ask, name, mine, alone)


def _ask(name: str, args: argparse.Namespace, options: Options) -> OfficeAnswer:
    """Ask one office, in its own process."""
    said = io.StringIO()
    collected: list[Report] = []
    folder = Path(options.office or "")
    app = App(options, Streams(io.StringIO(), said, 0, False), os.environ, collected=collected)
    title, status, failure = folder.name, NeatError.exit_status, ""
    try:
        title = read_plan(folder).office
        with extras_for(name):
            status = import_module(f"neatledger.commands.{name}").run(args, app)
    except PlanError as error:
        failure = f"{error.faults[0]}" + (f" and {len(error.faults) - 1} more" if len(error.faults) > 1 else "")
    except NeatError as error:
        failure, status = str(error), error.exit_status
    except Exception as error:  # whatever it is, the others are asked all the same
        failure = spell_own_fault(error)
    if failure:
        return OfficeAnswer(str(folder), title, max(status, NeatError.exit_status), show_text(failure), [], [])
    return OfficeAnswer(str(folder), title, status, "", collected, said.getvalue().splitlines())


# Side by side ------------------------------------------------------------------------------------------


def _side_by_side(
    folders: Sequence[Path], tasks: Sequence[Callable[[], OfficeAnswer]], progress: Progress
) -> Iterator[OfficeAnswer]:
    """Yield the answers as they come, as many at once as there are processors."""
    # A copy of this process has all that it needs by now; where there is none to be had, each begins anew.
    has_fork = hasattr(os, "fork")
    context = multiprocessing.get_context("fork") if has_fork else multiprocessing.get_context("spawn")
    waiting = list(zip(folders, tasks, strict=True))[::-1]
    running: dict[Connection, tuple[Path, BaseProcess]] = {}
    with ExitStack() as stack:
        stack.callback(_stop_all, running)
        while waiting or running:
            while waiting and len(running) < (os.cpu_count() or 1):
                folder, task = waiting.pop()
                here, there = context.Pipe(duplex=False)
                process: BaseProcess = context.Process(target=_work, args=(task, there), daemon=True)
                with undisturbed():
                    process.start()
                there.close()
                running[here] = folder, process
            for one in wait(list(running)):
                assert isinstance(one, Connection)
                progress(1)
                yield _answer(one, *running.pop(one))


def _work(task: Callable[[], OfficeAnswer], out: Connection) -> None:
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    if hasattr(signal, "pthread_sigmask"):
        signal.pthread_sigmask(signal.SIG_UNBLOCK, {signal.SIGINT})
    # Nobody can answer several at once: what would ask says instead what it lacks.
    os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
    out.send(task())
    out.close()


def _answer(one: Connection, folder: Path, process: BaseProcess) -> OfficeAnswer:
    try:
        answer = one.recv()
        assert isinstance(answer, OfficeAnswer)
    except (EOFError, OSError):
        process.join()
        code = process.exitcode or 0
        why = f"its process was ended by signal {-code}" if code < 0 else f"its process ended with {code}"
        answer = OfficeAnswer(str(folder), folder.name, NeatError.exit_status, why, [], [])
    finally:
        one.close()
    process.join()
    return answer


def _stop_all(running: Mapping[Connection, tuple[Path, BaseProcess]]) -> None:
    for _, process in running.values():
        process.terminate()
        process.join(_STOP_SECONDS)
        if process.is_alive():
            process.kill()


# What is shown -----------------------------------------------------------------------------------------


def _show(answers: Sequence[OfficeAnswer], options: Options, streams: Streams, others: Sequence[str]) -> None:
    """Show the summary and then each office; for machines, the rows of all with whose they are."""
    app = App(options, streams, os.environ)
    output = app.output
    if options.format != "table":
        show_report(merged_report(answers, others), output)
        _tell_failures(answers, streams)
        return
    layout = Layout() if output.target is not None else output.layout
    parts = [render_table(offices_report(answers, others=others), layout)]
    for one in answers:
        for report in one.reports:
            text = render_table(shape(report, output.view, for_machines=False), layout)
            parts.append(f"{_rule(f'{one.title} ({one.folder})', layout.width)}\n\n{text}")
    _page("\n".join(parts), output)


def _rule(title: str, width: int) -> str:
    return f"\n── {title} " + "─" * max(3, min(width or 80, 80) - len(title) - 4)


def _page(text: str, output: Output) -> None:
    if output.target is None and output.pager and 0 < output.height <= text.count("\n"):
        from neatledger.faces.pager import show_in_pager

        if show_in_pager(output.pager, text):
            return
    with open_output(output) as out:
        out.write(text)


def _write_summary(
    target: str,
    answers: Sequence[OfficeAnswer],
    streams: Streams,
    names: Mapping[Path, str],
    others: Sequence[str],
) -> None:
    """Write one page for all, beside those of each."""
    page = target.replace("*", _SUMMARY)
    own = {one.folder: Path(target.replace("*", names[Path(one.folder)])).name for one in answers}
    write_paper(page, summary_paper(answers, own, others))
    print(f"The summary is in {page}.", file=streams.err)
    _tell_failures(answers, streams)


def _tell_failures(answers: Sequence[OfficeAnswer], streams: Streams) -> None:
    for one in answers:
        if one.failure:
            print(f"neatledger: {one.folder}: {one.failure}", file=streams.err)
