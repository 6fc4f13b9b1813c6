"""Find a command by its name, import its module alone, run it, and decide the exit status."""

from __future__ import annotations

import argparse
import gc
import os
import re
import signal
import sys
from collections.abc import Sequence
from contextlib import closing, suppress
from datetime import date
from importlib import import_module
from textwrap import fill
from typing import TYPE_CHECKING, NoReturn

from neatledger import __version__
from neatledger.commandtable import COMMANDS, EXAMPLES, MAP, OLD_NAMES, OLD_OPTIONS, WIDTH, list_of_commands
from neatledger.errors import LedgerError, NeatError, PlanError, UsageError
from neatledger.extras import extras_for
from neatledger.pace import listening

if TYPE_CHECKING:
    from neatledger.app import App, Options
    from neatledger.faces.view import View

__all__ = [
    "ALL_DEPTHS",
    "FORMATS",
    "command_called",
    "common_help",
    "day_of",
    "days_of",
    "depth_of",
    "is_folder",
    "main",
    "make_parser",
    "number_of",
    "parse_call",
    "span_of",
]

FORMATS = ("table", "csv", "json", "jsonl", "xml", "parquet")
"""How a result may be written: for people, or by one of the writers in `faces.machine`."""

_STOPPED = 130


class _Parser(argparse.ArgumentParser):
    """Says of a call that cannot be what is wrong in it, and what would be right."""

    def error(self, message: str) -> NoReturn:
        from neatledger.formats.nearest import nearest, or_else

        name = self.prog.rpartition(" ")[2]
        see = f"see: {self.prog} --help"
        like = f"as in: neatledger {EXAMPLES[name][0]}" if EXAMPLES.get(name) else see
        message = message.removeprefix("argument ")
        choice = re.fullmatch(r"(.+?): invalid choice: '(.*)' \(choose from (.*)\)", message, re.DOTALL)
        if choice is not None:
            where, word, choices = choice[1].rpartition("/")[2], choice[2], re.findall(r"'([^']*)'", choice[3])
            head = f"{where} " if where.startswith("-") else ""
            raise UsageError(f"{head}{word!r} is none of {', '.join(choices)}", hint=or_else(word, choices, see))
        if message.startswith("unrecognized arguments: "):
            words = message.removeprefix("unrecognized arguments: ").split()
            option = next((word.partition("=")[0] for word in words if word.startswith("-")), "")
            if option in OLD_OPTIONS:
                raise UsageError(f"{option} is now: {_today(OLD_OPTIONS[option], name)}", hint=see)
            if option:
                known = [word.lstrip("-") for word in self._option_string_actions if word.startswith("--")]
                near = [f"--{word}" for word in nearest(option.lstrip("-"), known)]
                hint = f"did you mean {' or '.join(near)}?" if near else see
                raise UsageError(f"{name} has no option {option}", hint=hint)
            raise UsageError(f"one word too many: {' '.join(words)!r}", hint=like)
        if message.startswith("the following arguments are required: "):
            wanted = message.removeprefix("the following arguments are required: ")
            raise UsageError(f"{name} wants {wanted}", hint=like)
        raise UsageError(message, hint=see)


def _today(options: str, command: str) -> str:
    """Return what an option of before is now, of a text that says it by command: ``--start (join, move), …``."""
    for option, commands in re.findall(r"([^,()]+?) \(([^)]*)\)", options):
        if command in commands.split(", "):
            return str(option.strip())
    return options


_FIRST_YEAR, _LAST_YEAR = 1900, 2999
_MOST_DAYS = 36_500


def day_of(text: str) -> date:
    """Return the day that a word of the call names; raises `argparse.ArgumentTypeError`."""
    try:
        day = date.fromisoformat(text)
    except ValueError:
        raise argparse.ArgumentTypeError(_not_a_date(text)) from None
    if not _FIRST_YEAR <= day.year <= _LAST_YEAR:
        raise argparse.ArgumentTypeError(
            f"{day} is beyond the years that are reckoned with, {_FIRST_YEAR} to {_LAST_YEAR}"
        )
    return day


def _not_a_date(text: str) -> str:
    """Say what is wrong with a day, and how the one that is likely to be meant is written."""
    parts = re.fullmatch(r"(\d{1,4})[./ -](\d{1,2})[./ -](\d{1,4})", text.strip())
    numbers = [int(part) for part in parts.groups()] if parts else []
    if numbers and numbers[0] < 32:
        numbers.reverse()
        # Some write the month first: where it cannot be one, it is the day.
        numbers[1:] = [numbers[2], numbers[1]] if numbers[1] > 12 else numbers[1:]
    try:
        meant = date(*numbers) if len(numbers) == 3 and numbers[0] > 99 else None
    except ValueError:
        return f"there is no day {text[:40]!r}"
    return f"not a date: {text[:40]!r} (write it as {meant or '2026-03-31'})"


def days_of(text: str) -> int:
    """Return a number of days, nought to a hundred years; raises `argparse.ArgumentTypeError`."""
    if not text.isdecimal() or len(text) > 9 or int(text) > _MOST_DAYS:
        raise argparse.ArgumentTypeError(f"not a number of days, 0 to {_MOST_DAYS:,}: {text[:40]!r}")
    return int(text)


ALL_DEPTHS = 1 << 30


def depth_of(text: str) -> int:
    """Return how far below is asked for, a number or ``all``; raises `argparse.ArgumentTypeError`."""
    if text == "all":
        return ALL_DEPTHS
    if not text.isdecimal() or len(text) > 4:
        raise argparse.ArgumentTypeError(f"not a depth: {text[:40]!r} (a number, or all)")
    return int(text)


_SPANS = {"d": 1, "w": 7, "m": 30, "y": 365}


def span_of(text: str) -> int:
    """Return a span as days: ``7d``, ``2w``, ``6m``, ``1y``, or days alone; raises `argparse.ArgumentTypeError`."""
    number, unit = (text, "d") if text.isdecimal() else (text[:-1], text[-1:].casefold())
    if unit not in _SPANS or not number.isdecimal() or len(number) > 9:
        raise argparse.ArgumentTypeError(f"not a span: {text[:40]!r} (write 7d, 2w, 6m or 1y)")
    days = int(number) * _SPANS[unit]
    if days > _MOST_DAYS:
        raise argparse.ArgumentTypeError(f"not a number of days, 0 to {_MOST_DAYS:,}: {text[:40]!r}")
    return days


def number_of(text: str) -> int:
    """Return a whole number of the call; raises `argparse.ArgumentTypeError`."""
    if not text.isdecimal() or len(text) > 9:
        raise argparse.ArgumentTypeError(f"not a whole number: {text[:40]!r}")
    return int(text)


def is_folder(word: str) -> bool:
    """Tell whether a word of a call names a folder or a file, and no person, group or system."""
    return "/" in word


def parse_call(name: str, words: Sequence[str]) -> tuple[argparse.Namespace, Options]:
    """Return what a call of a command asks for, and the options that all have; raises `UsageError`, `SystemExit`."""
    from neatledger.app import Options

    args = make_parser(name).parse_intermixed_args(list(words))
    args.output, args.others = _split_outputs(name, args.outputs)
    return args, Options(
        args.office,
        getattr(args, "side", "found"),
        args.as_of,
        args.today,
        _form_of(name, args.format, args.output),
        args.output,
        args.quiet,
        _view_of(args, name),
        not getattr(args, "no_pager", False),
        getattr(args, "on", ""),
    )


def common_help() -> str:
    """Return the options that all commands have, with what they mean."""
    parser = _Parser(
        prog="neatledger COMMAND",
        add_help=False,
        formatter_class=lambda prog: argparse.RawDescriptionHelpFormatter(prog, max_help_position=28, width=WIDTH),
        description="Every command has these, where they make sense:",
    )
    _add_view(parser, shown=True)
    _add_common(parser, "check", shown=True)
    return parser.format_help().rstrip()


def make_parser(name: str) -> argparse.ArgumentParser:
    """Return the parser of one command, its own words and the common ones."""
    examples = "".join(f"\n  neatledger {each}" for each in EXAMPLES.get(name, ()))
    parser = _Parser(
        prog=f"neatledger {name}",
        description=fill(COMMANDS[name], WIDTH),
        epilog=f"for example:{examples}" if examples else None,
        formatter_class=lambda prog: argparse.RawDescriptionHelpFormatter(prog, max_help_position=28, width=WIDTH),
        allow_abbrev=False,
    )
    import_module(f"neatledger.commands.{name}").add_arguments(parser)
    if name not in _NO_TABLE:
        _add_view(parser)
    _add_common(parser, name)
    return parser


def _add_common(parser: argparse.ArgumentParser, name: str, *, shown: bool = False) -> None:
    """Add the options that every command has; only `help options` shows them."""

    def told(text: str) -> str:
        return text if shown else argparse.SUPPRESS

    common = parser.add_argument_group("common options" if shown else None)
    common.add_argument("-o", dest="outputs", action="append", default=[], metavar="FILE", help=told(_OUTPUT_HELP))
    common.add_argument("-f", "--format", choices=FORMATS, metavar="FORM", help=told(f"as {', '.join(FORMATS)}"))
    common.add_argument("-q", "--quiet", action="store_true", help=told("no progress and no remarks"))
    common.add_argument("--office", metavar="DIR", help=told(_OFFICE_HELP[shown or name in _MANY]))
    if shown or name in _SIDED:
        common.add_argument(
            "--side",
            choices=("plan", "found", "both"),
            default="found",
            help=told("put the question to the plan, or what was found"),
        )
    common.add_argument("--as-of", type=day_of, metavar="DATE", help=told("the newest count of that day or before"))
    common.add_argument("--today", type=day_of, metavar="DATE", help=told("take this as today"))
    if shown or name in _ON_CLUSTERS:
        common.add_argument(
            "--on",
            metavar="SCHEDULER",
            default="",
            help=told("by other processes: local:4, or a cluster's tls://HOST:8786"),
        )


_OUTPUT_HELP = "write to FILE, in the form that its ending says; again for another form"
# What shows no table, and what may be asked of the plan too.
_NO_TABLE = ("demo", "help", "report")
_ON_CLUSTERS = ("check", "count", "reach", "report")
_MANY = ("brief", "check", "expiring", "notices", "report")
"""What may be asked of many offices at once."""
_OFFICE_HELP = (
    "the folder of office.yaml (or NEATLEDGER_OFFICE)",
    "the folder of office.yaml (or NEATLEDGER_OFFICE); 'clients/*': those of many",
)
_SIDED = ("expiring", "folders", "groups", "limits", "people", "reach", "space", "suppose", "who", "why")


def _add_view(parser: argparse.ArgumentParser, *, shown: bool = False) -> None:
    """Add what chooses columns and rows of a table; only `help options` shows all of it."""

    def told(text: str) -> str:
        return text if shown else argparse.SUPPRESS

    table = parser.add_argument_group("the table" if shown else None)
    if not any("--all" in action.option_strings for action in parser._actions):
        table.add_argument("-a", "--all", action="store_true", help="every row, nothing folded")
    table.add_argument("-w", "--wide", action="store_true", help=told("whole addresses, all columns"))
    table.add_argument("-c", "--columns", metavar="A,B", help=told("only these columns; +A: one more (since, used)"))
    table.add_argument(
        "-s", "--sort", metavar="A,B:up", help=told("numbers largest first, words A to Z; :up or :down to change")
    )
    table.add_argument(
        "-n", "--top", dest="first_rows", type=number_of, metavar="N", help=told("only the first N rows")
    )
    table.add_argument("--no-pager", action="store_true", help=told("print at once, however long"))


# Endings that some commands write beside the formats themselves.
_PAPERS, _IMAGES = (".html", ".htm", ".xlsx"), (".png", ".svg", ".pdf")
_OTHER_FORMS = {
    "space": _IMAGES, "expiring": (".ics",), "join": _PAPERS, "move": _PAPERS, "leave": _PAPERS,
    "report": (*_PAPERS, *_IMAGES, ".ods", ".yaml", ".md"),
}  # fmt: skip
_FOREIGN = (".html", ".xlsx", ".htm", ".xls", ".ods", ".pdf", ".yaml", ".md", ".png", ".svg", ".ics", ".gif", ".jpg")


def _split_outputs(name: str, targets: Sequence[str]) -> tuple[str | None, list[str]]:
    """Return the file that the answer itself goes to, and those of other forms; raises `UsageError`."""
    others = [one for one in targets if os.path.splitext(one)[1].casefold() in _OTHER_FORMS.get(name, ())]
    plain = [one for one in targets if one not in others]
    if name == "report":
        return None, list(targets)
    if len(plain) > 1:
        raise UsageError(f"one answer goes to one file: {' and '.join(plain)}", hint="ask again for another form")
    return (plain[0] if plain else None), others


def _form_of(name: str, form: str | None, target: str | None) -> str:
    """Return the format that is asked for, by the option or by the ending of the file; raises `UsageError`."""
    ending = os.path.splitext(target or "")[1].casefold()
    if name == "report":
        return form or FORMATS[0]
    if ending in _FOREIGN:
        writes = ", ".join((*FORMATS, *(one[1:] for one in _OTHER_FORMS.get(name, ()))))
        raise UsageError(f"{name} does not write {ending[1:]}", target or "", f"it writes {writes}: -o FILE.csv")
    meant = ending[1:] if ending[1:] in FORMATS else None
    if form and meant and form != meant:
        raise UsageError(f"--format {form} and a file that ends in {ending}", target or "", "leave one of them out")
    return form or meant or FORMATS[0]


def _view_of(args: argparse.Namespace, name: str) -> View:
    """Return what of the table is asked for; more columns (`+since`) are put into ``args.extra`` for the command."""
    from neatledger.faces.view import View

    def words(text: str | None) -> tuple[str, ...]:
        return tuple(word.strip() for word in (text or "").split(",") if word.strip())

    columns, sort = words(getattr(args, "columns", None)), words(getattr(args, "sort", None))
    known = getattr(import_module(f"neatledger.commands.{name}"), "EXTRA_COLUMNS", ())
    args.extra = [word[1:] for word in columns if word.startswith("+")]
    for word in args.extra:
        if word not in known:
            has = f"there are: {', '.join(f'+{one}' for one in known)}" if known else "it has no more columns than -w"
            raise UsageError(f"{name} has no column +{word}", hint=has)
    columns = tuple(word for word in columns if not word.startswith("+"))
    is_all, is_wide = (getattr(args, word, False) is True for word in ("all", "wide"))
    return View(columns, sort, getattr(args, "first_rows", None), is_all, is_wide)


def _told(words: Sequence[str]) -> str:
    """Return what is only printed, where no command is asked for: the map, the list, the version."""
    if not words:
        return _bare()
    texts = {"-h": MAP, "--help": MAP, "--all": list_of_commands()}
    if words[0] == "--version":
        return f"neatledger {__version__}"
    return texts.get(words[0], "")


def command_called(word: str) -> str:
    """Return the command that is meant; raises `UsageError`, with its new name for one of before."""
    from neatledger.formats.nearest import one_of, or_else

    old = one_of(word, OLD_NAMES)
    if old:
        raise UsageError(f"{old} is now: neatledger {OLD_NAMES[old]}")
    name = one_of(word, COMMANDS)
    if name is None:
        raise UsageError(f"there is no command {word!r}", hint=or_else(word, COMMANDS, "see: neatledger help --all"))
    return name


def _run(words: Sequence[str]) -> int:
    told = _told(words)
    if told:
        print(told, flush=True)
        return 0
    name = command_called(words[0])
    with extras_for(name):
        try:
            args, options = parse_call(name, words[1:])
        except SystemExit:
            # Its help was asked for, and is written.
            sys.stdout.flush()
            return 0
        from neatledger.app import App, Streams

        if _is_pattern(args.office):
            # Slow to load, and asked for by few.
            from neatledger.offices import run_over

            if name not in _MANY:
                hint = f"of many: {', '.join(_MANY)}"
                raise UsageError(f"{name} is asked of one office", args.office, hint)
            return run_over(name, args, options, Streams.of_process(os.environ))
        app: App = App.of_process(options)
        # A command is short, and makes millions of small things without rings: looking for rings costs a fifth.
        gc.disable()
        with closing(app):
            try:
                command = import_module(f"neatledger.commands.{name}")
                with app.progress(name) as progress, listening(progress.part):
                    status: int = command.run(args, app)
                app.end()
            except (NeatError, OSError, MemoryError):
                raise
            except Exception as error:
                failure = app.ledger_failure(error)
                if failure is not None:
                    raise failure from error
                damage = app.ledger_damage()
                if not damage:
                    raise
                hint = "put back a copy of it, or move it away and count again"
                raise LedgerError(f"the ledger is damaged: {damage}", hint=hint) from error
    sys.stdout.flush()
    return status


def _bare() -> str:
    """Return what the command says when nothing is asked: whose office it is, and the map."""
    from neatledger.app import App, Options, Streams

    app = App(Options(), Streams.of_process(os.environ), os.environ)
    with closing(app), suppress(NeatError, OSError):
        counted = (
            f"Counted {app.office.count.when}." if app.office.has_count else "Not counted yet: neatledger count."
        )
        return f"{app.office.plan.office}. {counted}\n\n{MAP}"
    return MAP


def _is_pattern(office: str | None) -> bool:
    """Tell whether --office means many; a folder that is really called so is one."""
    return office is not None and any(sign in office for sign in "*?[") and not os.path.isdir(office)


def main(words: Sequence[str] | None = None) -> int:
    """Run the command; returns the exit status: 0 fine, 1 findings or differences, 2 could not do it."""
    try:
        return _run(sys.argv[1:] if words is None else words)
    except PlanError as error:
        for fault in error.faults:
            print(f"neatledger: {fault}", file=sys.stderr)
        return error.exit_status
    except NeatError as error:
        from neatledger.formats.names import show_text

        # One line whatever is in it: names from outside may hold anything.
        print(f"neatledger: {show_text(str(error))}", file=sys.stderr)
        return error.exit_status
    except KeyboardInterrupt:
        print("neatledger: stopped; the ledger is as it was", file=sys.stderr)
        return _STOPPED
    except BrokenPipeError:
        # Whoever read our output has gone, as `| head` does: not a fault, and nothing more to say.
        _give_up_output()
        return 128 + signal.SIGPIPE
    except OSError as error:
        _give_up_output()
        where = f"{error.filename}: " if error.filename else ""
        print(f"neatledger: {where}cannot be read or written: {error.strerror or error}", file=sys.stderr)
        return NeatError.exit_status
    except MemoryError:
        _give_up_output()
        print("neatledger: there is not enough memory for this; ask for less at once: name a folder", file=sys.stderr)
        return NeatError.exit_status
    except Exception as error:
        if sys.flags.dev_mode:
            raise
        _give_up_output()
        from neatledger.formats.ownfaults import spell_own_fault

        print(f"neatledger: {spell_own_fault(error)}", file=sys.stderr)
        return NeatError.exit_status


def _give_up_output() -> None:
    """Have what is still to be written go nowhere: trying again at the end would fail again."""
    with suppress(OSError, ValueError, AttributeError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
