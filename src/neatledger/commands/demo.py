"""``demo``: make the sample office and walk through the main questions."""

from __future__ import annotations

import argparse
import io
import secrets
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, closing, contextmanager
from dataclasses import replace
from datetime import UTC, date, datetime, time, timedelta
from importlib import import_module
from pathlib import Path
from typing import Any

from neatledger import __version__
from neatledger.app import App, Streams
from neatledger.cli import parse_call
from neatledger.core.people.credentials import Credentials
from neatledger.core.reviews.pack import Choice, Decision
from neatledger.core.survey.survey import Survey
from neatledger.demo.barn import former_passwd_text
from neatledger.demo.holdings import FIRST_WEEK, WEEKS, things_at
from neatledger.demo.make import (
    LOFT_LISTING,
    LOFT_LIVE,
    MEADOW_LISTING,
    MEADOW_LIVE,
    go_on,
    make_office,
    point_system,
    take_out,
    write_listing,
)
from neatledger.demo.smbserver import is_root, missing
from neatledger.errors import SourceError
from neatledger.extras import require_all
from neatledger.questions import Office, open_office, review
from neatledger.questions.gather import read_system

__all__ = ["add_arguments", "run"]

_BEFORE, _TODAY = "2026-11-16", "2026-11-23"
_REVIEWED = date(2026, 10, 5)
_BEFORE_BRAND = 4
"""Weeks in which a login was somebody else's."""
_TOUR: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("Who can really read Payroll? One reader is a surprise:", ("who", "barn:/Payroll")),
    ("Why can the student? The chain of gates is the computation itself:", ("why", "thistle", "barn:/Payroll")),
    ("What is the audit's word on it? (The gravest come first.)", ("check", "--only", "expectation-broken")),
    ("What does the laboratory, a guest, reach?", ("reach", "hollin")),
    ("Why can the front desk not look at the scans, and what is missing?", ("why", "marsh", "barn:/Imaging/2026")),
    ("Two letters in a folder everybody shares are closed to most:", ("who", "barn:/Records/2026/Dogs")),
    (
        "On the other server students were refused the register of controlled drugs, one line too low:",
        ("why", "thistle", "loft:/Surgery/Controlled drugs"),
    ),
    ("Whose are the accounts there that the plan gives to nobody?", ("people", "--match")),
    (
        "What was shared from the team folders, and what of it is not as the plan has it?",
        ("links", "--only", "breaking"),
    ),
    (
        "Who can reach the pictures that a student handed out before he left?",
        ("who", "meadow:/Teams/Imaging exchange/2026"),
    ),
    (
        "What if the students were no members there any more? All that was passed on goes too:",
        ("suppose", "--unshare", "member:Imaging exchange=students"),
    ),
    ("Who decides who keeps what, and what of that is not done?", ("review",)),
    ("What ends in the next two weeks?", ("expiring", "--within", "14d")),
    ("What would pushing the surgery's list down change?", ("folders", "loft:/Surgery", "--pushed")),
    ("Plan and found beside each other:", ("who", "barn:/Payroll", "--side", "both")),
    ("One person's sheet:", ("people", "kestrel")),
    ("What is used, allowed and left? The fullest first:", ("space",)),
    ("Until when will it last? A clean-up, an import and a film came in between:", ("space", "--forecast")),
    (
        "How much can Owen Rook still store with the other pictures, and what stops him?",
        ("space", "barn:/Imaging", "rook"),
    ),
    ("What if the homes had less? Nothing is changed, only shown:", ("limits", "home", "--limit", "600 kB")),
    (
        "And if the pictures moved to a disk of their own?",
        ("suppose", "--relocate", "barn:/Imaging=attic", "--limit", "attic=500 MB"),
    ),
)
_DOGS, _DRUGS, _PROTOCOLS = "barn:/Records/2026/Dogs", "loft:/Surgery/Controlled drugs", "meadow:/Teams/Protocols"
# What is mended for real and taken back, on the system that must be there for it.
_MENDED: tuple[tuple[str, str, tuple[str, ...]], ...] = (
    ("barn", "The two letters that nobody can open: what would bring them to the plan?", ("mend", _DOGS)),
    ("barn", "It is made, looked at again and proved:", ("mend", _DOGS, "--carry-out", "--yes", "--expect", "2")),
    ("barn", "And taken back, as if nothing had been:", ("mend", "--undo")),
    ("loft", "The refusal one line too low, mended on the server:", ("mend", _DRUGS)),
    ("loft", "As the server itself shows it then:", ("mend", _DRUGS, "--carry-out", "--yes", "--expect", "2")),
    ("loft", "And taken back:", ("mend", "--undo")),
    ("meadow", "A link that never ends:", ("mend", _PROTOCOLS, "--only", "no-end")),
    (
        "meadow",
        "Ended over the service's own protocol:",
        ("mend", _PROTOCOLS, "--only", "no-end", "--carry-out", "--yes", "--expect", "1"),
    ),
    ("meadow", "And taken back; the journal keeps all of it:", ("mend", "--undo")),
)
_PAY = "barn:/Payroll"
_PAYROLL = (_PAY, "thistle")
_AFTER: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("What if the student left the payroll group?", ("suppose", "--no-member", "payroll=thistle")),
    (
        "So the plan says too. Made, looked at again, proved:",
        ("mend", *_PAYROLL, "--carry-out", "--yes", "--expect", "1"),
    ),
    ("What changed since the count before?", ("changes",)),
    (
        "A folder of scans is gone. Who deleted it, and from where?",
        ("trail", "loft:/Scans", "--only", "delete"),
    ),
    ("What else is unusual in what was done?", ("trail", "--unusual")),
    ("Which rights did nobody use since spring?", ("unused",)),
    ("And everything the audit has to say now:", ("check",)),
)


_EIGHT: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("1. Who could read the wages on 16 November? One of them is a student:", ("who", _PAY, "--as-of", _BEFORE)),
    ("2. Why could the student?", ("why", "thistle", _PAY, "--as-of", _BEFORE)),
    ("3. Since when, and what ended it?", ("changes", "thistle", _PAY)),
    ("4. What needs you today?", ("brief",)),
    ("5. The most serious problem, and what to do about it:", ("check", "1")),
    ("6. A disk is nearly full. What to free first?", ("space",)),
    (
        "7. What if the student came back into the group? Nothing is changed:",
        ("suppose", "--member", "payroll=thistle"),
    ),
    (
        "8. A vet leaves at the end of the year. What does he leave, and who takes over?",
        ("leave", "hale", "--last-day", "2026-12-31", "--successor", "fenn", "-n", "12"),
    ),
)
"""What the first minute asks, each answered on one screen."""
_MADE = (
    (
        "A change made for real: two letters that nobody can open.",
        ("mend", _DOGS, "--carry-out", "--yes", "--expect", "2"),
    ),
    ("And taken back:", ("mend", "--undo", "--yes", "--expect", "2")),
)
_NEXT = """Ask on:  cd {folder}

neatledger                       the commands, on one screen
neatledger who barn:/Records     who can reach a folder
neatledger mend                  what would put all of it right
neatledger help band             what a word means
neatledger demo --all            every question, one after the other

Your own:  neatledger connect --office my-office files=/srv/files
           neatledger count --office my-office
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument(
        "dir", metavar="DIR", type=Path, nargs="?", default=Path("demo-office"), help="where to make it"
    )
    parser.add_argument(
        "--listing", action="store_true", help="as a listing, even where the tree could be made for real"
    )
    parser.add_argument("--no-tour", action="store_true", help="only make it, and keep its counts")
    parser.add_argument("--all", action="store_true", help="ask everything, and not only the eight first questions")


def run(args: argparse.Namespace, app: App) -> int:
    """Make, gather, ask, change, count again, ask again."""
    require_all("demo")
    on_disk = is_root() and not args.listing
    before, now = (datetime.fromisoformat(f"{day}T12:00+00:00") for day in (_BEFORE, _TODAY))
    make_office(args.dir, before, on_disk=on_disk)
    how = "for real, with owners and access lists" if on_disk else "as a listing (root would make it for real)"
    _say(app, f"The Pellowmere practice is in {args.dir}: an invented office of 29 people with two file servers")
    _say(app, f"and team folders, {WEEKS + 2} weekly counts, and much that is wrong.")
    _say(app, f"Its file server `barn` was made {how}.\n")
    _keep_history(app, args.dir)
    with ExitStack() as stack:
        env = stack.enter_context(_loft(app, args.dir, on_disk=on_disk))
        if not args.listing:
            env = env | stack.enter_context(_meadow(app, args.dir))
        streams = app.streams if args.all else Streams(app.streams.out, app.streams.err, _WIDTH, False)
        walker = App(app.options, streams, {**app.env, **env})
        _look(walker, args.dir, _BEFORE, "Look at the systems, and keep a count:", is_shown=args.all)
        for sentence, words in _TOUR if args.all else ():
            _step(walker, args.dir, _BEFORE, sentence, words)
        live = {"barn": on_disk, "loft": "NEATLEDGER_PASSWORD_LOFT" in env, "meadow": not args.listing}
        for system, sentence, words in _MENDED if args.all else ():
            if live[system]:
                _step(walker, args.dir, _BEFORE, sentence, words)
        if not args.all:
            take_out(args.dir, "payroll", "tthistle")
        go_on(args.dir, before, now, on_disk=on_disk)
        _look(walker, args.dir, _TODAY, "A week later, another count:", is_shown=args.all)
        if not args.all and not args.no_tour:
            for sentence, words in (*_EIGHT, *(_MADE if on_disk else ())):
                _step(walker, args.dir, _TODAY, sentence, words)
    for sentence, words in _AFTER if args.all else ():
        _step(app, args.dir, _TODAY, sentence, words)
    _say(app, _NEXT.format(folder=args.dir))
    return 0


_WIDTH = 80


def _look(app: App, office: Path, today: str, sentence: str, *, is_shown: bool) -> None:
    """Look at the systems, and keep a count; what that says is shown only to who walks through everything."""
    if is_shown:
        _step(app, office, today, sentence, ("count",))
        return
    args, options = parse_call("count", [])
    options = replace(options, office=str(office), today=date.fromisoformat(today), quiet=True)
    silent = App(options, replace(app.streams, out=io.StringIO()), app.env)
    with closing(silent):
        import_module("neatledger.commands.count").run(args, silent)


def _keep_history(app: App, office: Path) -> None:
    """Keep a count for each week before the first that the tour takes, of the servers as they were then."""
    looked_at = open_office(office, today=date.fromisoformat(_BEFORE))
    plan, ledger = looked_at.plan, looked_at.books.open_ledger(create=True)
    listing, passwd = office / ".barn-then.csv", office / ".barn-then.passwd"
    passwd.write_text(former_passwd_text(), "utf-8")
    with app.progress(f"{WEEKS} weeks of counts") as progress:
        try:
            loft = _read(looked_at, plan.systems["loft"].settings, "loft")
            for week in range(WEEKS):
                when = FIRST_WEEK + timedelta(weeks=week)
                write_listing(listing, things_at(int(when.timestamp())))
                settings = {**plan.systems["barn"].settings, "source": "listing", "path": listing.name}
                if week < _BEFORE_BRAND:
                    settings["accounts"] = {"passwd": passwd.name, "group": "barn.group"}
                ledger.add_count([_read(looked_at, settings, "barn"), loft], when, __version__)
                progress(1)
        finally:
            listing.unlink(missing_ok=True)
            passwd.unlink(missing_ok=True)
            ledger.close()
    _keep_review(office)


def _keep_review(office: Path) -> None:
    """Keep what Vera Stone decided in the autumn; of her one removal nobody has seen to it yet."""
    then = open_office(office, as_of=_REVIEWED, today=_REVIEWED)
    moment = datetime.combine(_REVIEWED, time(9), UTC)
    (made,) = review.make(then, ["stone"], moment)
    decisions = [
        Decision(row, Choice.REMOVE if row.person == "afinch" else Choice.KEEP, None, "Vera Stone", _REVIEWED)
        for row in made.pack.rows
    ]
    then.ledger.reviews.add_answer(made.pack, "Vera Stone", _REVIEWED, decisions, moment)
    then.ledger.close()


def _read(office: Office, settings: Mapping[str, Any], system: str) -> Survey:
    def nobody(user: str, host: str) -> Credentials:
        raise SourceError("the sample office asks for no password", host)

    return read_system(office, system, settings, "listing", nobody)


@contextmanager
def _loft(app: App, office: Path, *, on_disk: bool) -> Iterator[dict[str, str]]:
    """Serve ``loft`` by a real SMB server where one can be had; give the environment in which it can be read.

    Afterwards the plan reads it from its listing, which gives the same.
    """
    lacking = missing() if on_disk else ["--listing"] if is_root() else ["root"]
    if lacking:
        why = "" if lacking == ["--listing"] else f" (an SMB server wants {', '.join(lacking)})"
        _say(app, f"Its second server `loft` is a listing{why}.\n")
        yield {}
        return
    from neatledger.demo.liveloft import running_loft

    with ExitStack() as stack:
        try:
            server = stack.enter_context(running_loft(office / "loft"))
        except SourceError as error:
            _say(app, f"Its second server `loft` is a listing ({error}).\n")
            yield {}
            return
        live = LOFT_LIVE.format(port=server.port, user=server.admin)
        point_system(office, LOFT_LISTING, live)
        _say(app, "Its second server `loft` is a real SMB server, running on loopback while this tour lasts.\n")
        try:
            yield {"NEATLEDGER_PASSWORD_LOFT": server.password}
        finally:
            point_system(office, live, LOFT_LISTING)
    _say(
        app,
        "The SMB server was stopped; the plan now reads `loft` from its listing, which gives the same.\n",
    )


@contextmanager
def _meadow(app: App, office: Path) -> Iterator[dict[str, str]]:
    """Serve ``meadow`` by the service that comes with the tool; afterwards the plan reads it from its listing."""
    from neatledger.demo import meadow
    from neatledger.demo.service.server import Service

    store = office / "meadow.service.db"
    password = secrets.token_urlsafe(18)
    with Service(store) as service:
        service.store.fill(meadow.users(), meadow.groups(), meadow.nodes(), meadow.shared_tables())
        service.store.set_password(meadow.READER, password)
        live = MEADOW_LIVE.format(url=service.url, user=meadow.READER)
        point_system(office, MEADOW_LISTING, live)
        _say(app, "Its team folders `meadow` are a small service on loopback, over SCIM and WebDAV.\n")
        try:
            yield {"NEATLEDGER_PASSWORD_MEADOW": password}
        finally:
            point_system(office, live, MEADOW_LISTING)


def _say(app: App, text: str) -> None:
    print(text, file=app.streams.out)


def _step(app: App, office: Path, today: str, sentence: str, words: Sequence[str]) -> None:
    shown = [f"'{word}'" if " " in word else word for word in words]
    _say(app, f"{sentence}\n$ neatledger {' '.join(shown)}")
    args, options = parse_call(words[0], words[1:])
    options = replace(options, office=str(office), today=date.fromisoformat(today))
    import_module(f"neatledger.commands.{words[0]}").run(args, App(options, app.streams, app.env))
    _say(app, "")
