"""The carrier of what a service shares, by its own listing: a row set or removed, as docs/sharing.md has it.

A row is set only where its table is as it was read (If-Match with the table's mark, RFC 9110 section 13.1.1). A
link's address is a secret that is in its row: it is sent back as it came, and is never written down; so a link is
ended by its switch and not by removing its row.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import date
from typing import Any
from urllib.parse import quote, urlencode

from neatledger.carriers.contract import CarrierContext, Details, Looked, Standing
from neatledger.core.lists.rights import LEVEL_RIGHTS, Right, parse_rights, spell_rights
from neatledger.core.steps.contract import Step
from neatledger.core.steps.hand_outs import HandOutStep
from neatledger.core.steps.links import LinkStep
from neatledger.core.steps.teams import TeamStep
from neatledger.core.survey.shared import HandOut, Link, Member, TeamFolder
from neatledger.errors import StepError
from neatledger.formats.names import encode_bytes
from neatledger.formats.shared import Fields, hand_out_of, link_of, member_of, team_of
from neatledger.sources.http import MOST_PAGES, Web

__all__ = ["SharingCarrier", "by_hand"]

_PAGE = 500


def by_hand(step: Step, settings: Mapping[str, Any]) -> str:
    """Say why a person must make a step; nothing where this carrier can."""
    if settings.get("columns"):
        return "its listing has words of its own: the service's console makes it"
    match step:
        case LinkStep() if step.before is None or step.after is None:
            return "a link is made, and removed for good, in the service's console"
        case LinkStep() if step.after.password and not step.before.password:
            return "somebody must choose the password and tell it to whom it concerns"
        case TeamStep() if step.before is None or step.after is None:
            return "a team folder is made and removed in the service's console"
        case TeamStep() if _changes_replies(step):
            return "whether and since when somebody takes part is theirs to say"
        case LinkStep() | HandOutStep() | TeamStep():
            return ""
        case _:
            return "somebody must ask the device to do it"


@dataclass(frozen=True, slots=True)
class _Row:
    """One row of a table: its id there, what it says, and the mark of the table as it was read."""

    id: str
    cells: Mapping[str, Any]
    mark: int


class SharingCarrier:
    """Makes steps on the links, hand-outs and team folders of one service."""

    def __init__(self, context: CarrierContext) -> None:
        self._url = str(context.settings["sharing"]["url"]).rstrip("/")
        self._web = Web(context.as_source(), self._url)

    def close(self) -> None:
        """Let go of the service."""
        self._web.__exit__()

    def settle(self) -> None:
        """Do nothing: the service has kept what it says that it has done."""

    # Rows -------------------------------------------------------------------------------------------

    def _rows(self, table: str) -> list[_Row]:
        found: list[_Row] = []
        for _ in range(MOST_PAGES):
            answer = self._web.ask_json(f"{self._url}/{table}?{urlencode({'from': len(found), 'count': _PAGE})}")
            items, idents, mark = answer.get("items"), answer.get("ids"), answer.get("mark")
            if not isinstance(items, list) or not isinstance(idents, list) or not isinstance(mark, int):
                raise StepError("the service tells no ids of its rows: its console makes it", self._url)
            found += [_Row(str(ident), item, mark) for ident, item in zip(idents, items, strict=True)]
            if not items or len(found) >= int(answer.get("total", 0)):
                return found
        raise StepError(f"more than {MOST_PAGES:,} pages of {table}", self._url)

    def _find(self, table: str, make: Callable[[Fields, int], Any], key: Callable[[Any], Any], known: Any) -> Any:
        """Return the row of a record and the record itself; None twice where there is none."""
        for number, row in enumerate(self._rows(table), start=1):
            try:
                record = make(Fields(row.cells), number)
            except ValueError:
                continue
            if key(record) == known:
                return row, record
        return None, None

    def _put(self, step: Step, table: str, row: _Row | None, ident: str, cells: Mapping[str, Any] | None) -> None:
        """Set a row, or remove it, if its table is as it was read."""
        headers = {"Content-Type": "application/json"}
        if row is not None:
            headers["If-Match"] = f'"{row.mark}"'
        method, content = ("DELETE", "") if cells is None else ("PUT", json.dumps(dict(cells)))
        answer = self._web.ask(
            method, f"{self._url}/{table}/{quote(ident, safe='')}", content=content, headers=headers
        )
        where = step.where
        if answer.status_code == 412:
            raise StepError("somebody changes it right now", where, "try again: mend --go-on")
        if answer.status_code not in (200, 204):
            raise StepError(f"the service refuses: {answer.status_code} {answer.reason_phrase}", where)

    # What every carrier does ------------------------------------------------------------------------

    def look(self, step: Step, details: Details | None = None) -> Looked:
        """Read the record anew."""
        found = self._record(step)
        before, after = getattr(step, "before", None), getattr(step, "after", None)
        if _plain(found) == _plain(after):
            return Looked(Standing.AFTER)
        if _plain(found) == _plain(before):
            return Looked(Standing.BEFORE)
        if details is not None and isinstance(step, TeamStep) and _is_between(found, step.before, step.after):
            return Looked(Standing.BETWEEN, "some of its members are as the step makes them")
        return Looked(Standing.OTHER, "it is not as it was counted")

    def _record(self, step: Step) -> Any:
        match step:
            case LinkStep():
                return self._find("links", link_of, lambda one: one.id, _id(step))[1]
            case HandOutStep():
                return self._find("hand-outs", hand_out_of, lambda one: one.id, _id(step))[1]
            case TeamStep():
                return self._team(step)[1]
        raise StepError("this carrier does not make such a step", step.where)

    def _team(self, step: TeamStep) -> tuple[_Row | None, TeamFolder | None]:
        row, team = self._find("teams", lambda cells, _: team_of(cells), lambda one: one.path, _path(step))
        if team is None:
            return None, None
        members = [member for _, path, member in self._members() if path == team.path]
        return row, _with_members(team, members)

    def _members(self) -> list[tuple[_Row, bytes, Member]]:
        found = []
        for row in self._rows("team-members"):
            try:
                found.append((row, *member_of(Fields(row.cells))))
            except ValueError:
                continue
        return found

    def prepare(self, step: Step) -> Details:
        """Return the rows that go, so that the very same can come again; of a link none, for its address is in it."""
        match step:
            case HandOutStep() if step.after is None:
                row = self._find("hand-outs", hand_out_of, lambda one: one.id, _id(step))[0]
                return {"rows": [{"id": row.id, "cells": dict(row.cells)}]} if row else {}
            case TeamStep():
                path = _path(step)
                rows = [row for row, team, _ in self._members() if team == path]
                return {"rows": [{"id": row.id, "cells": dict(row.cells)} for row in rows]}
        return {}

    def make(self, step: Step, details: Details) -> None:
        """Make the step, or finish it."""
        if self.look(step).standing is Standing.AFTER:
            return
        match step:
            case LinkStep():
                row, found = self._find("links", link_of, lambda one: one.id, _id(step))
                self._put(step, "links", row, row.id, {**row.cells, **_link_cells(found, step.after)})
            case HandOutStep():
                self._make_hand_out(step, details)
            case TeamStep():
                self._make_team(step, details)

    def _make_hand_out(self, step: HandOutStep, details: Details) -> None:
        row, found = self._find("hand-outs", hand_out_of, lambda one: one.id, _id(step))
        if step.after is None:
            self._put(step, "hand-outs", row, row.id, None)
        elif row is None:
            known = next(iter(details.get("rows", ())), None)
            if known is None:
                raise StepError("a hand-out is made in the service's console", step.where)
            self._put(step, "hand-outs", None, known["id"], known["cells"])
        else:
            self._put(step, "hand-outs", row, row.id, {**row.cells, **_hand_out_cells(found, step.after)})

    def _make_team(self, step: TeamStep, details: Details) -> None:
        """Set the row of the team folder, take away the members that go, change those that stay, and add the new."""
        row, team = self._team(step)
        if row is None or team is None:
            raise StepError("the team folder is not there any more", step.where)
        cells = _team_cells(team, step.after)
        if cells:
            self._put(step, "teams", row, row.id, {**row.cells, **cells})
        wanted = {(one.is_group, one.holder): one for one in step.after.members}
        known = {one["id"]: one["cells"] for one in details.get("rows", ())}
        for member_row, path, member in self._members():
            if path != team.path:
                continue
            target = wanted.pop((member.is_group, member.holder), None)
            if target != member:
                changed = None if target is None else {**member_row.cells, **_member_cells(member, target)}
                self._put_member(step, member_row.id, changed)
        for target in wanted.values():
            ident, fresh = _fresh_member(team.path, target, known)
            self._put_member(step, ident, fresh)

    def _put_member(self, step: TeamStep, ident: str, cells: Mapping[str, Any] | None) -> None:
        # The table is read once for all members: its mark moves with each of them.
        self._put(step, "team-members", None, ident, cells)


def _id(step: LinkStep | HandOutStep) -> str:
    record: Link | HandOut = step.after if step.before is None else step.before
    return record.id


def _path(step: TeamStep) -> bytes:
    team: TeamFolder = step.after if step.before is None else step.before
    return team.path


def _with_members(team: TeamFolder, members: list[Member]) -> TeamFolder:
    return TeamFolder(team.path, team.name, tuple(members), team.is_on, team.over, team.download, team.ends)


def _plain(record: Any) -> Any:
    """Return a record in a form in which equal ones are equal: a service tells members in an order of its own."""
    if isinstance(record, TeamFolder):
        return _with_members(record, []), frozenset(record.members)
    return record


def _changes_replies(step: TeamStep) -> bool:
    """Tell whether somebody who stays a member is to have answered otherwise, or since another day."""
    known = {(one.is_group, one.holder): (one.reply, one.since) for one in step.before.members}
    return any(
        known.get((one.is_group, one.holder), (one.reply, one.since)) != (one.reply, one.since)
        for one in step.after.members
    )


def _is_between(found: TeamFolder | None, before: TeamFolder, after: TeamFolder) -> bool:
    """Tell whether a team folder is as a step may leave it that was stopped in the middle."""
    if found is None:
        return False
    known = {*before.members, *after.members}
    plain = [_with_members(one, []) for one in (found, before, after)]
    return plain[0] in plain[1:] and set(found.members) <= known


def _level(rights: Right) -> str:
    """Return the word or words of a row that mean some rights."""
    for word in (*(level.value for level in LEVEL_RIGHTS), spell_rights(rights)):
        try:
            if parse_rights(word) == rights:
                return word
        except ValueError:
            continue
    raise StepError(f"a row of the service has no words for just {spell_rights(rights)}")


def _day(day: date | None) -> str:
    return "" if day is None else day.isoformat()


def _link_cells(found: Link, after: Link) -> dict[str, Any]:
    """Return the cells of a link's row that change; all others stay as they are."""
    cells: dict[str, Any] = {}
    for name, key in (("is_on", "on"), ("password", "password"), ("download", "download")):
        if getattr(found, name) != getattr(after, name):
            cells[key] = getattr(after, name)
    if found.expires != after.expires:
        cells["expires"] = _day(after.expires)
    if found.rights != after.rights:
        cells["level"] = _level(after.rights)
    return cells


def _hand_out_cells(found: HandOut, after: HandOut) -> dict[str, Any]:
    cells: dict[str, Any] = {}
    if found.expires != after.expires:
        cells["expires"] = _day(after.expires)
    if found.rights != after.rights:
        cells["level"] = _level(after.rights)
    if found.download != after.download:
        cells["download"] = after.download
    return cells


def _team_cells(found: TeamFolder, after: TeamFolder) -> dict[str, Any]:
    cells: dict[str, Any] = {}
    if found.is_on != after.is_on:
        cells["on"] = after.is_on
    if found.download != after.download:
        cells["download"] = after.download
    if found.ends != after.ends:
        cells["ends"] = _day(after.ends)
    return cells


def _member_cells(found: Member, after: Member) -> dict[str, Any]:
    return {"level": _level(after.rights)} if found.rights != after.rights else {}


def _fresh_member(
    path: bytes, member: Member, known: Mapping[str, Mapping[str, Any]]
) -> tuple[str, Mapping[str, Any]]:
    """Return the id and the cells of a member that comes, the very same as before where they were there before."""
    for ident, cells in known.items():
        try:
            if member_of(Fields(cells)) == (path, member):
                return ident, cells
        except ValueError:
            continue
    kind = "group" if member.is_group else "person"
    cells = {"team": encode_bytes(path), "holder": member.holder, "kind": kind, "level": _level(member.rights)}
    if member.since is not None:
        cells["since"] = member.since.isoformat()
    return f"m-{kind}-{encode_bytes(path).strip('/').replace('/', '-')}-{member.holder}", cells
