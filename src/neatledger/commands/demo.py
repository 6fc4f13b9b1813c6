"""``demo``: make the sample office and walk through the main questions."""

from __future__ import annotations

import argparse
import secrets
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from datetime import UTC, date, datetime, time, timedelta
from importlib import import_module
from pathlib import Path
from typing import Any

from neatledger import __version__
from neatledger.app import App, Options
from neatledger.cli import make_parser
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
    ("Whose are the accounts there that the plan gives to nobody?", ("match",)),
    ("What was shared from the team folders, and what of it is not as the plan has it?", ("links", "--not-in-order")),
    (
        "Who can reach the pictures that a student handed out before he left?",
        ("who", "meadow:/Teams/Imaging exchange/2026"),
    ),
    (
        "What if the students were no members there any more? All that was passed on goes too:",
        ("suppose", "--take-back", "member:Imaging exchange=students"),
    ),
    ("Who decides who keeps what, and what of that is not done?", ("review",)),
    ("What ends in the next two weeks?", ("lapses", "--within", "14")),
    ("What would pushing the surgery's list down change?", ("inherit", "loft:/Surgery", "--push")),
    ("Plan and found beside each other:", ("who", "barn:/Payroll", "--side", "both")),
    ("One person's sheet:", ("people", "kestrel")),
    ("What is used, allowed and left? The fullest first:", ("space",)),
    ("Until when will it last? A clean-up, an import and a film came in between:", ("forecast",)),
    (
        "How much can Owen Rook still store with the other pictures, and what stops him?",
        ("room", "rook", "barn:/Imaging"),
    ),
    ("What if the homes had less? Nothing is changed, only shown:", ("bands", "home", "--limit", "600 kB")),
    (
        "And if the pictures moved to a disk of their own?",
        ("suppose", "--move", "barn:/Imaging=attic", "--limit", "attic=500 MB"),
    ),
)
_DOGS, _DRUGS, _PROTOCOLS = "barn:/Records/2026/Dogs", "loft:/Surgery/Controlled drugs", "meadow:/Teams/Protocols"
# What is mended for real and taken back, on the system that must be there for it.
_MENDED: tuple[tuple[str, str, tuple[str, ...]], ...] = (
    ("barn", "The two letters that nobody can open: what would bring them to the plan?", ("mend", "--below", _DOGS)),
    ("barn", "It is made, looked at again and proved:", ("mend", "--below", _DOGS, "--carry-out", "--yes", "2")),
    ("barn", "And taken back, as if nothing had been:", ("mend", "--undo")),
    ("loft", "The refusal one line too low, mended on the server:", ("mend", "--below", _DRUGS)),
    ("loft", "As the server itself shows it then:", ("mend", "--below", _DRUGS, "--carry-out", "--yes", "2")),
    ("loft", "And taken back:", ("mend", "--undo")),
    ("meadow", "A link that never ends:", ("mend", "--below", _PROTOCOLS, "--only", "no-end")),
    (
        "meadow",
        "Ended over the service's own protocol:",
        ("mend", "--below", _PROTOCOLS, "--only", "no-end", "--carry-out", "--yes", "1"),
    ),
    ("meadow", "And taken back; the journal keeps all of it:", ("mend", "--undo")),
)
_PAYROLL = ("--below", "barn:/Payroll", "--person", "thistle")
_AFTER: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("What if the student left the payroll group?", ("suppose", "--out-of", "payroll=thistle")),
    ("So the plan says too. Made, looked at again, proved:", ("mend", *_PAYROLL, "--carry-out", "--yes", "1")),
    ("What changed since the count before?", ("changes",)),
    ("A folder of scans is gone. Who deleted it, when, and from where?", ("trail", "loft:/Scans", "--did", "delete")),
    ("What else looks wrong in what was done?", ("trail", "--odd")),
    ("Which rights did nobody use since spring?", ("unused",)),
    ("And everything the audit has to say now:", ("check",)),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument(
        "dir", metavar="DIR", type=Path, nargs="?", default=Path("demo-office"), help="where to make it"
    )
    parser.add_argument(
        "--listing", action="store_true", help="as a listing, even where the tree could be made for real"
    )
    parser.add_argument("--no-tour", action="store_true", help="only make it, and keep its counts")


def run(args: argparse.Namespace, app: App) -> int:
    """Make, gather, ask, change, gather again, ask again."""
    require_all("demo")
    on_disk = is_root() and not args.listing
    before, now = (datetime.fromisoformat(f"{day}T12:00+00:00") for day in (_BEFORE, _TODAY))
    make_office(args.dir, before, on_disk=on_disk)
    how = "for real, with owners and access lists" if on_disk else "as a listing (root would make it for real)"
    _say(app, f"The Pellowmere practice is in {args.dir}; its file server `barn` was made {how}.")
    _keep_history(app, args.dir)
    with ExitStack() as stack:
        env = stack.enter_context(_loft(app, args.dir, on_disk=on_disk))
        if not args.listing:
            env = env | stack.enter_context(_meadow(app, args.dir))
        walker = App(app.options, app.streams, {**app.env, **env})
        _step(walker, args.dir, _BEFORE, "Look at the systems, and keep a count:", ("gather",))
        for sentence, words in () if args.no_tour else _TOUR:
            _step(walker, args.dir, _BEFORE, sentence, words)
        live = {"barn": on_disk, "loft": "NEATLEDGER_PASSWORD_LOFT" in env, "meadow": not args.listing}
        for system, sentence, words in () if args.no_tour else _MENDED:
            if live[system]:
                _step(walker, args.dir, _BEFORE, sentence, words)
        if args.no_tour:
            take_out(args.dir, "payroll", "tthistle")
        go_on(args.dir, before, now, on_disk=on_disk)
        _step(walker, args.dir, _TODAY, "A week later, another count:", ("gather",))
    for sentence, words in () if args.no_tour else _AFTER:
        _step(app, args.dir, _TODAY, sentence, words)
    _say(app, f"Ask on:  cd {args.dir} && neatledger --help\n")
    return 0


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

    Afterwards the plan reads it from its listing, which gathers to the same.
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
        "The SMB server was stopped; the plan now reads `loft` from its listing, which gathers to the same.\n",
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
    args = make_parser(words[0]).parse_args(words[1:])
    options = Options(str(office), "found", args.as_of, date.fromisoformat(today))
    import_module(f"neatledger.commands.{words[0]}").run(args, App(options, app.streams, app.env))
    _say(app, "")
