"""Connecting systems: what is at an address as a piece of the plan, and whether what the plan has works."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import Any

from neatledger.core.people.credentials import Credentials
from neatledger.core.tree.columns import NotSeen
from neatledger.errors import NeatError
from neatledger.extras import extras_for
from neatledger.office.read import check_system_name
from neatledger.probes.contract import Hints, Proposal
from neatledger.probes.table import probe
from neatledger.sources.contract import SourceContext

__all__ = ["Proposal", "Tried", "ask", "try_all", "try_settings"]

AskCredentials = Callable[[str, str], Credentials]


@dataclass(frozen=True, slots=True)
class Tried:
    """One part of a system that was asked for: whether it works, what is there, and else what to do."""

    system: str
    part: str
    works: bool
    message: str
    hint: str = ""

    @property
    def is_partly(self) -> bool:
        """Tell whether it answers, and something of it cannot be had."""
        return self.works and bool(self.hint)


def ask(
    office_dir: Path,
    system: str,
    addresses: Sequence[str],
    said: Mapping[str, Any],
    answer: Callable[[str], str],
    credentials_for: Callable[[str], AskCredentials],
) -> Proposal:
    """Return what an address, or the files of a listing, come to; raises `UsageError` and `SourceError`."""
    check_system_name(system)
    with extras_for("connect"):
        mine, accounts = credentials_for(system), credentials_for(f"{system} accounts")
        return probe(list(addresses), Hints(system, office_dir, said, answer, mine, accounts))


def try_all(
    office_dir: Path,
    systems: Mapping[str, Mapping[str, Any]],
    credentials_for: Callable[[str], AskCredentials],
) -> Iterator[Tried]:
    """Try every part of some systems of a plan, as `gather` would read it, but for the trees below their roots."""
    for name, settings in systems.items():
        yield from try_settings(office_dir, name, settings, credentials_for)


def try_settings(
    office_dir: Path,
    name: str,
    settings: Mapping[str, Any],
    credentials_for: Callable[[str], AskCredentials],
) -> Iterator[Tried]:
    """Try every part of one system."""
    context = SourceContext(
        name,
        office_dir,
        settings,
        date.today(),
        lambda _: None,
        credentials_for(name),
        account_credentials=credentials_for(f"{name} accounts"),
    )
    for part, work in _parts(context):
        try:
            with extras_for(name):
                message, hint = work()
        except NeatError as error:
            yield Tried(name, part, False, f"{error.where}: {error.what}" if error.where else error.what, error.hint)
        except OSError as error:
            yield Tried(name, part, False, f"{error.filename or ''}: {error.strerror}".lstrip(": "))
        else:
            yield Tried(name, part, True, message, hint)


Work = Callable[[], tuple[str, str]]


def _parts(context: SourceContext) -> Iterator[tuple[str, Work]]:
    settings = context.settings
    match settings["source"]:
        case "tree":
            yield "files", lambda: _root_of_tree(context)
        case "smb":
            yield "files", lambda: _shares(context)
        case "dav":
            yield "files", lambda: _root_of_dav(context)
        case "listing":
            yield "files", lambda: _listing(context)
    if settings["source"] != "smb" or settings.get("accounts") is not None:
        yield "accounts", lambda: _accounts(context)
    if "sharing" in settings:
        yield "sharing", lambda: _sharing(context)
    if "limits-file" in settings or "figures" in settings:
        yield "limits", lambda: _limits(context)


def _root_of_tree(context: SourceContext) -> tuple[str, str]:
    path = context.office_dir / str(context.settings["path"])
    names = os.listdir(path)
    hint = "" if os.geteuid() == 0 else "without root only what this account may read is seen"
    return f"{path}: {_count(len(names), 'thing')} in it", hint if not os.access(path, os.R_OK | os.X_OK) else ""


def _shares(context: SourceContext) -> tuple[str, str]:
    from neatledger.sources.smberrors import Refused
    from neatledger.sources.smbnames import read_directory, read_shares
    from neatledger.sources.smbsession import Terms
    from neatledger.sources.smbsteady import SteadySession

    settings = context.settings
    terms = Terms.of_settings(settings)
    with SteadySession(terms, terms.credentials(str(settings.get("user", "")), context.credentials)) as session:
        there = [one.name for one in session.ask(read_shares)]
        wanted = list(settings.get("shares") or there)
        missing = [one for one in wanted if one not in there]
        refused = []
        for name in wanted:
            try:
                session.on(name, lambda tree: tree.descriptor(""))
            except Refused as error:
                refused.append(f"{name} ({error})")
        try:
            told = session.ask(read_directory)
            people = f"{len(told.accounts)} accounts of its own"
        except Refused as error:
            people = f"its accounts are not told ({error})"
    if refused:
        hint = "let the account that signs in read them, or leave them out of shares:"
        return f"{len(wanted) - len(refused)} of {len(wanted)} shares open; not {', '.join(refused)}", hint
    if missing:
        return f"it does not list {', '.join(missing)}, which open all the same; {people}", ""
    return f"{len(wanted)} shares open; {people}", ""


def _root_of_dav(context: SourceContext) -> tuple[str, str]:
    from neatledger.sources.http import Web

    url = str(context.settings["url"])
    with Web(context, url) as web:
        answer = web.ask("PROPFIND", url, headers={"Depth": "0"}, tries=2)
    if answer.status_code != 207:
        return f"{url} answers {answer.status_code} {answer.reason_phrase}", "see url and web: {user: …} in the plan"
    return f"{url}: a collection", ""


def _listing(context: SourceContext) -> tuple[str, str]:
    from neatledger.sources.listing import read

    survey = read(context)
    text = f"{_count(survey.folders.rows, 'folder')}, {_count(survey.files, 'file')}"
    unread = [one for one in survey.not_seen if one.why]
    if unread:
        return f"{text}; {_not_read(unread)}", _SEE
    return text, ""


def _accounts(context: SourceContext) -> tuple[str, str]:
    from neatledger.sources.accounts import read_accounts

    found = read_accounts(context)
    text = f"{_count(len(found.accounts), 'account')}, {_count(len(found.groups), 'group')}"
    if not found.accounts:
        return text, "nobody is told: see accounts: in the plan"
    if found.not_seen:
        return f"{text}; {_not_read(found.not_seen)}", _SEE
    return text, ""


def _sharing(context: SourceContext) -> tuple[str, str]:
    from neatledger.sources.accounts import read_accounts
    from neatledger.sources.shared import read_shared

    found = read_accounts(context)
    before = len(found.not_seen)
    shared = read_shared(context, found, {})
    assert shared is not None, "asked where the plan names it"
    numbers = ((len(shared.teams), "team folder"), (len(shared.links), "link"), (len(shared.hand_outs), "hand-out"))
    text = ", ".join(_count(*one) for one in numbers)
    more = found.not_seen[before:]
    return (f"{text}; {_not_read(more)}", _SEE) if more else (text, "")


def _limits(context: SourceContext) -> tuple[str, str]:
    from neatledger.sources.limits import read_limits

    not_seen: list[NotSeen] = []
    count = len(read_limits(context, not_seen))
    if not_seen:
        return f"{_count(count, 'limit')}; {_not_read(not_seen)}", _SEE
    return _count(count, "limit"), ""


_SEE = "count it, and ledger --not-seen lists them"


def _count(number: int, word: str) -> str:
    return f"{number:,} {word}{'' if number == 1 else 's'}"


def _not_read(missed: Sequence[NotSeen]) -> str:
    things = "1 thing" if len(missed) == 1 else f"{len(missed):,} things, the first"
    return f"not read: {things}: {missed[0].why}"
