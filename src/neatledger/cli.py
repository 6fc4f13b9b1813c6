"""Find a command by its name, import its module alone, run it, and decide the exit status."""

from __future__ import annotations

import argparse
import gc
import os
import signal
import sys
from collections.abc import Sequence
from contextlib import closing, suppress
from datetime import date
from importlib import import_module
from textwrap import fill
from typing import TYPE_CHECKING, NoReturn

from neatledger import __version__
from neatledger.errors import LedgerError, NeatError, PlanError, UsageError
from neatledger.extras import extras_for

if TYPE_CHECKING:
    from neatledger.app import App
    from neatledger.faces.view import View

__all__ = ["COMMANDS", "EXAMPLES", "FORMATS", "day_of", "days_of", "main", "make_parser"]

# Name → what it does, in the order of the work; the module is neatledger.commands.NAME.
COMMANDS: dict[str, str] = {
    "brief": "one screen for Monday: what is new, gravest, lapsing, waiting",
    "demo": "make the sample office and walk through the main questions",
    "new": "write the first plan of an office",
    "connect": "what is at an address, as a system of the plan; --test tries what the plan has",
    "draft": "the first plan from what was found, and what is rather a question",
    "plan": "every fault of the plan at once; what it says of a person or folder, by line",
    "gather": "look at all systems and keep a dated count",
    "counts": "list the counts in the ledger",
    "people": "list the people with their accounts and groups, or one person's sheet",
    "groups": "list the groups and who is in them; which would do (--suggest)",
    "match": "accounts that no person of the plan has, and whose they may be",
    "folders": "list the folders with their owners and lists",
    "inherit": "what a new folder or file gets here, and what pushing the list down would change",
    "who": "who can reach a folder, and by what",
    "reach": "what a person can reach",
    "why": "why a person can, or cannot, reach a folder or file",
    "compare": "two people or groups, or one at two dates: what only one has, and by what",
    "most": "who can change, delete or read the most, and by which group",
    "links": "all links and hand-outs: what they give and expose, until when, and what is not in order",
    "guests": "who is a guest, by whom, what they reach, and what is to happen next",
    "devices": "which devices hold copies of what, and which give cause for worry",
    "lapses": "everything that lapses, by date, as a table and as a calendar",
    "access": "everything: people, folders and ways as one table",
    "space": "what is used, allowed and left, the fullest first; or what a folder holds",
    "room": "how much a person can still put in a folder, and what stops first",
    "bands": "limits that many places share: who is on band, and what restating one does",
    "kinds": "how much there is of each kind of file, and what is stored though it is barred",
    "versions": "what old versions and the bin take, and what another setting would free",
    "synced": "what a synced device would hold for a person",
    "forecast": "when warnings, limits and pools are met",
    "suppose": "what a change would do: to access, limits, pools, versions, sharing rules, or taking back",
    "want": "the fewest changes that give people a level on a folder, and nothing else to anybody",
    "join": "somebody starts: logins, home, what they will reach, the steps; whether they have it (--prove)",
    "move": "somebody changes posts: what goes, what comes, what stays, the steps of each day",
    "leave": "somebody leaves: all that hangs on them, who takes it over, the days, the steps",
    "mend": "the steps from found to plan: shown, made when asked, taken back",
    "changes": "what changed between two counts: access and by what, accounts, groups, links, limits",
    "history": "what somebody had on a folder count by count, and what changed each time",
    "trail": "what was done, by whom, where and from where, as the systems' own logs say",
    "unused": "rights that nobody used, as far as the logs reach; what would be missed without them",
    "protect": "would it come back: what would be lost now, how far back it goes, who could destroy all copies",
    "check": "test the office against the plan and against good order",
    "review": "who answers for a folder says who keeps what: packs, answers, what is due",
    "notices": "who is to be told what by mail: shown, written as files, sent; each once",
    "report": "the office, access, people, sharing, space or worklist as a page or workbook",
    "completion": "what completes words on a shell's command line",
    "manual": "a manual page, made from the commands' own words",
    "accept": "write into the plan that the office lives with a finding",
}
FORMATS = ("table", "csv", "json", "jsonl", "xml", "parquet")
"""How a result may be written: for people, or by one of the writers in `faces.machine`."""

_STOPPED = 130


class _Parser(argparse.ArgumentParser):
    def error(self, message: str) -> NoReturn:
        raise UsageError(message, hint=f"see: {self.prog} --help")


_FIRST_YEAR, _LAST_YEAR = 1900, 2999
_MOST_DAYS = 36_500


def day_of(text: str) -> date:
    """Return the day that a word of the call names; raises `argparse.ArgumentTypeError`."""
    try:
        day = date.fromisoformat(text)
    except ValueError:
        raise argparse.ArgumentTypeError(f"not a date: {text[:40]!r} (write it as 2026-03-31)") from None
    if not _FIRST_YEAR <= day.year <= _LAST_YEAR:
        raise argparse.ArgumentTypeError(
            f"{day} is beyond the years that are reckoned with, {_FIRST_YEAR} to {_LAST_YEAR}"
        )
    return day


def days_of(text: str) -> int:
    """Return a number of days, nought to a hundred years; raises `argparse.ArgumentTypeError`."""
    if not text.isdecimal() or len(text) > 9 or int(text) > _MOST_DAYS:
        raise argparse.ArgumentTypeError(f"not a number of days, 0 to {_MOST_DAYS:,}: {text[:40]!r}")
    return int(text)


_MAP = (
    ("every day", ("brief", "gather", "check", "who", "reach", "why", "mend")),
    ("begin", ("demo", "new", "connect", "draft", "plan", "counts", "match")),
    ("people", ("people", "groups", "compare", "most", "join", "move", "leave")),
    ("folders", ("folders", "access", "inherit", "changes", "history", "trail", "unused", "protect")),
    ("sharing", ("links", "guests", "devices", "lapses")),
    ("space", ("space", "room", "bands", "kinds", "versions", "synced", "forecast")),
    ("deciding", ("suppose", "want", "accept", "review", "report", "notices")),
    ("shell", ("completion", "manual")),
)
"""The commands in the order of the work, those of every day first."""

EXAMPLES: dict[str, tuple[str, ...]] = {
    "brief": ("brief", "brief -f json -o monday.json"),
    "demo": ("demo", "demo sample --no-tour"),
    "new": ("new office barn=/srv/barn", "new . home=/home people=ldaps://people.office.example"),
    "connect": ("connect loft smb://loft.office.example", "connect desk people.csv groups.csv", "connect --test"),
    "draft": ("draft", "draft --text", "draft --only people --write"),
    "plan": ("plan --check", "plan --show thistle", "plan --show barn:/Payroll"),
    "gather": ("gather", "gather barn --not-seen"),
    "counts": ("counts", "counts --not-seen barn", "counts --prove"),
    "people": ("people", "people thistle"),
    "groups": ("groups", "groups --side both", "groups --suggest"),
    "match": ("match", "match --write"),
    "folders": ("folders", "folders barn:/Records --depth 3"),
    "inherit": ("inherit barn:/Records", "inherit loft:/Surgery --push"),
    "who": ("who barn:/Payroll", "who payroll --since"),
    "reach": ("reach thistle", "reach 'Jonas Hale' --since"),
    "why": ("why thistle barn:/Payroll", "why marsh barn:/Imaging/2026"),
    "compare": ("compare croft quill", "compare thistle --then 2026-06-01"),
    "most": ("most", "most --by read -n 5"),
    "links": ("links --not-in-order", "links --below meadow:/Teams"),
    "guests": ("guests", "guests -c guest,reaches,next"),
    "devices": ("devices", "devices --of hale"),
    "lapses": ("lapses --within 14", "lapses --calendar lapses.ics"),
    "access": ("access --below barn:/Records", "access --every -o access.parquet"),
    "space": ("space", "space barn:/Imaging --by kind"),
    "room": ("room quill barn:/Imaging", "room rook barn:/Homes/orook"),
    "bands": ("bands", "bands home --limit '600 kB'"),
    "kinds": ("kinds", "kinds --barred"),
    "versions": ("versions", "versions barn --keep 4"),
    "synced": ("synced hale", "synced quill -s size"),
    "forecast": ("forecast", "forecast barn --figure growth.png"),
    "suppose": ("suppose --into payroll=thistle", "suppose --like thistle", "suppose --push barn:/Records"),
    "want": ("want barn:/Payroll stone=write thistle=none", "want loft:/Scans nurses=write --keep steps.json"),
    "join": ("join 'Hugo Larke' --post nurse --from 2026-12-07", "join teal --prove"),
    "move": ("move croft --to desk --from 2026-12-14", "move dove --to desk --overlap 2026-12-31 --write"),
    "leave": ("leave hale --last-day 2026-12-31 --to fenn", "leave frost --last-day 2026-12-31 --to birch --write"),
    "mend": ("mend --below barn:/Records", "mend --cause 1", "mend --carry-out"),
    "changes": ("changes", "changes --since 2026-10-01"),
    "history": ("history thistle barn:/Payroll", "history una 'barn:/Rota'"),
    "trail": ("trail --read", "trail thistle --since 2026-11-01", "trail barn:/Records --did delete"),
    "unused": ("unused", "unused loft:/Surgery --days 90 --try", "unused --only member --keep steps.json"),
    "protect": ("protect", "protect barn:/Records", "protect --split"),
    "check": ("check", "check --cause 1", "check --below barn:/Records --new"),
    "review": ("review", "review make stone -o packs", "review take 'packs/review stone 2026-11-23.xlsx'"),
    "notices": ("notices", "notices --write mails", "notices --send"),
    "report": ("report office -o office.html --also office.xlsx", "report access --against 2026-10-01 -o a.xlsx"),
    "completion": ("completion bash >> ~/.bashrc", "completion fish > ~/.config/fish/completions/neatledger.fish"),
    "manual": ("manual > neatledger.1", "manual | man -l -"),
    "accept": (
        "accept everyone-may-read 'barn:/Policies' --reason 'meant for all'",
        "accept no-end '*' --reason 'until spring' --until 2027-03-31",
    ),
}
"""At least two of each command."""
_WIDTH = 80


def _help() -> str:
    """Return the map of the commands: one screen, in the order of the work."""
    lines = ["usage: neatledger COMMAND [OPTION ...]", ""]
    lines += ["Plan and audit a small office's accounts, groups and shared folders.", ""]
    for title, names in _MAP:
        if title == "every day":
            lines += [f"  {name:<8}  {COMMANDS[name]}" for name in names] + [""]
        else:
            lines.append(f"  {title + ':':<10}{'  '.join(names)}")
    lines += [
        "",
        "  neatledger COMMAND --help   what it takes, with examples",
        "  neatledger --all            every command with what it does",
        "  neatledger --version",
    ]
    return "\n".join(lines)


def _list() -> str:
    """Return every command with what it does."""
    width = max(map(len, COMMANDS))
    return "\n".join(f"{name:<{width}}  {summary}" for name, summary in COMMANDS.items())


def make_parser(name: str) -> argparse.ArgumentParser:
    """Return the parser of one command, its own words and the common ones."""
    examples = "".join(f"\n  neatledger {each}" for each in EXAMPLES.get(name, ()))
    parser = _Parser(
        prog=f"neatledger {name}",
        description=fill(COMMANDS[name], _WIDTH),
        epilog=f"for example:{examples}" if examples else None,
        formatter_class=lambda prog: argparse.RawDescriptionHelpFormatter(prog, max_help_position=28, width=_WIDTH),
        allow_abbrev=False,
    )
    import_module(f"neatledger.commands.{name}").add_arguments(parser)
    if name not in _NO_TABLE:
        _add_view(parser)
    common = parser.add_argument_group("common options")
    common.add_argument("--office", metavar="DIR", help=_OFFICE_HELP[name in _MANY])
    if name in _SIDED:
        common.add_argument(
            "--side",
            choices=("plan", "found", "both"),
            default="found",
            help="put the question to the plan, or what was found",
        )
    common.add_argument("--as-of", type=day_of, metavar="DATE", help="the newest count of that day or before")
    common.add_argument("--today", type=day_of, metavar="DATE", help="take this as today")
    common.add_argument(
        "-f", "--format", choices=FORMATS, metavar="FORM", help=f"{', '.join(FORMATS)}; -o FILE says it by its ending"
    )
    common.add_argument("-o", dest="output", metavar="FILE", help="write the result to FILE")
    if name in _ON_CLUSTERS:
        common.add_argument(
            "--on",
            metavar="SCHEDULER",
            default="",
            help="by other processes: local:4, or a cluster's tls://HOST:8786",
        )
    common.add_argument("-q", "--quiet", action="store_true", help="no progress and no remarks")
    return parser


# What shows no table, and what may be asked of the plan too.
_NO_TABLE = ("accept", "completion", "demo", "manual", "new", "report")
_ON_CLUSTERS = ("access", "check", "gather", "report")
_MANY = ("brief", "check", "lapses", "notices", "report")
"""What may be asked of many offices at once."""
_OFFICE_HELP = (
    "the folder of office.yaml (or NEATLEDGER_OFFICE)",
    "the folder of office.yaml (or NEATLEDGER_OFFICE); 'clients/*': those of many",
)
_SIDED = (
    *("access", "bands", "folders", "forecast", "groups", "lapses", "people", "reach", "room", "space", "suppose"),
    *("who", "why"),
)


def _add_view(parser: argparse.ArgumentParser) -> None:
    """Add what chooses columns and rows of a table; a command that counts its rows itself keeps its own words."""
    table = parser.add_argument_group("the table")
    table.add_argument("-c", "--columns", metavar="A,B", help="only these columns, by heading or name")
    table.add_argument("-s", "--sort", metavar="A,B:up", help="by these: numbers fall, words rise; or :up, :down")
    if not any("--top" in action.option_strings for action in parser._actions):
        table.add_argument("-n", "--top", dest="first_rows", type=_number, metavar="N", help="only the first N rows")
    if not any("--all" in action.option_strings for action in parser._actions):
        table.add_argument("-a", "--all", action="store_true", help="every row, nothing folded")
    table.add_argument("-w", "--wide", action="store_true", help="whole addresses and all columns")
    table.add_argument("--no-pager", action="store_true", help="print at once, however long")


def _number(text: str) -> int:
    if not text.isdecimal() or len(text) > 9:
        raise argparse.ArgumentTypeError(f"not a number of rows: {text[:40]!r}")
    return int(text)


# What a file's ending may promise beside the formats themselves; `report` keeps some of it, and no other command any.
_OTHERS = (".html", ".xlsx", ".htm", ".xls", ".ods", ".pdf", ".yaml", ".md", ".png", ".svg")


def _form_of(name: str, form: str | None, target: str | None) -> str:
    """Return the format that is asked for, by the option or by the ending of the file; raises `UsageError`."""
    ending = os.path.splitext(target or "")[1].casefold()
    if name == "report":
        return form or FORMATS[0]
    if ending in _OTHERS:
        raise UsageError(
            f"{name} does not write {ending[1:]}", target or "", f"it writes {', '.join(FORMATS)}: -o FILE.csv"
        )
    meant = ending[1:] if ending[1:] in FORMATS else None
    if form and meant and form != meant:
        raise UsageError(f"--format {form} and a file that ends in {ending}", target or "", "leave one of them out")
    return form or meant or FORMATS[0]


def _view_of(args: argparse.Namespace) -> View:
    from neatledger.faces.view import View

    def words(text: str | None) -> tuple[str, ...]:
        return tuple(word.strip() for word in (text or "").split(",") if word.strip())

    columns, sort = getattr(args, "columns", None), getattr(args, "sort", None)
    is_all, is_wide = (getattr(args, word, False) is True for word in ("all", "wide"))
    return View(words(columns), words(sort), getattr(args, "first_rows", None), is_all, is_wide)


def _run(words: Sequence[str]) -> int:
    if not words or words[0] in ("-h", "--help", "help"):
        print(_help(), flush=True)
        return 0
    if words[0] == "--all":
        print(_list(), flush=True)
        return 0
    if words[0] == "--version":
        print(f"neatledger {__version__}", flush=True)
        return 0
    from neatledger.formats.nearest import one_of, or_else

    name = one_of(words[0], COMMANDS) or ""
    if not name:
        hint = or_else(words[0], COMMANDS, "see: neatledger --help")
        raise UsageError(f"there is no command {words[0]!r}", hint=hint)
    with extras_for(name):
        try:
            args = make_parser(name).parse_args(words[1:])
        except SystemExit:
            # Its help was asked for, and is written.
            sys.stdout.flush()
            return 0
        from neatledger.app import App, Options, Streams

        form = _form_of(name, args.format, args.output)
        options = Options(
            args.office,
            getattr(args, "side", "found"),
            args.as_of,
            args.today,
            form,
            args.output,
            args.quiet,
            _view_of(args),
            not getattr(args, "no_pager", False),
            getattr(args, "on", ""),
        )
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
                status: int = import_module(f"neatledger.commands.{name}").run(args, app)
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
                hint = "put back a copy of it, or move it away and gather again"
                raise LedgerError(f"the ledger is damaged: {damage}", hint=hint) from error
    sys.stdout.flush()
    return status


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
        print(
            "neatledger: there is not enough memory for this; ask for less at once, as --below does", file=sys.stderr
        )
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
