"""The carrier of a directory's accounts and groups: one modification of one entry a step (RFC 4511 section 4.6).

A group is added (section 4.7) or deleted (section 4.8) as one entry.
"""

from __future__ import annotations

import ssl
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from datetime import date
from functools import cached_property
from typing import Any

from neatledger.carriers.accountentries import why_by_hand
from neatledger.carriers.contract import CarrierContext, Details, Looked, Standing
from neatledger.carriers.entrychanges import (
    EntryChange,
    WholeEntry,
    change_of,
    closing_by_hand,
    group_entry,
    kept_of,
    standing_of,
)
from neatledger.carriers.wholeentries import (
    WholeStep,
    details_of_entry,
    is_made,
    look_for_entry,
    new_entry,
    standing_entries,
    whole_change,
)
from neatledger.core.people.credentials import make_password
from neatledger.core.steps.accounts import AccountStep, WholeAccountStep
from neatledger.core.steps.contract import Step
from neatledger.core.steps.groups import GroupStep
from neatledger.core.steps.members import MemberStep
from neatledger.errors import SourceError, StepError
from neatledger.formats.directory import Entry, Places
from neatledger.formats.directoryschema import Schema
from neatledger.sources.ldapaccounts import (
    in_words,
    make_connection,
    read_entry,
    search,
    sign_in,
    starts_tls,
    told_entries,
    wants_sids,
)

__all__ = ["DirectoryCarrier", "by_hand"]


def by_hand(step: Step, settings: Mapping[str, Any]) -> str:
    """Say why a person must make a step; nothing where this carrier can."""
    if isinstance(step, GroupStep) and not step.made and step.group.startswith("S-1-"):
        return "made again it would have another identifier, so a person must remove it"
    if isinstance(step, WholeAccountStep):
        return why_by_hand(step)
    is_ours = isinstance(step, MemberStep | AccountStep | GroupStep)
    return "" if is_ours else "what is in the directory beside that a person makes"


class DirectoryCarrier:
    """Makes steps in one directory, as whom ``change-as`` names, else as who reads it."""

    def __init__(self, context: CarrierContext) -> None:
        setting: Mapping[str, Any] = context.settings["accounts"]["ldap"]
        self._where = str(setting["url"])
        source = context.as_source()
        by_sid = wants_sids(context.settings, context.settings["accounts"])
        user = str(setting.get("change-as") or setting.get("user", ""))
        self._connection = make_connection(source, setting, user, changes=True)
        try:
            with self._refusals():
                sign_in(self._connection, starts_tls=starts_tls(setting))
                entries = search(source, self._connection, setting, [])
        except BaseException:
            self.close()
            raise
        self._entries = {entry.name: entry for entry in entries}
        self._by_sid = by_sid
        self._told: dict[str, Entry] = {}

    def close(self) -> None:
        """Sign off."""
        with suppress(Exception):
            self._connection.unbind()

    def settle(self) -> None:
        """Do nothing: a directory has kept what it says that it has done."""

    @contextmanager
    def _refusals(self, step: Step | None = None) -> Iterator[None]:
        from ldap3.core.exceptions import LDAPCommunicationError, LDAPException, LDAPOperationResult

        where = self._where if step is None else step.where
        try:
            yield
        except LDAPOperationResult as error:
            # What the server says of it in its own words (RFC 4511 section 4.1.9: diagnosticMessage).
            said = " ".join(str(error.message or "").split())[:150]
            hint = f"it says: {said}" if said else "see change-as in the plan, and what the directory's rules ask for"
            raise StepError(f"the directory refuses: {error.description}", where, hint) from None
        except (LDAPCommunicationError, OSError, ssl.SSLError) as error:
            raise SourceError(f"the directory is out of reach: {in_words(error)[0]}", where) from None
        except LDAPException as error:
            raise StepError(in_words(error)[0], where) from None

    def _places(self, step: Step) -> Places:
        """Return where everything stands, with the entry that a step is of read anew."""
        known = Places.of(self._entries.values(), by_sid=self._by_sid)
        match step:
            case MemberStep():
                entry = group_entry(step, known)
            case AccountStep():
                entry = known.people.get(step.login)
            case _:
                entry = None
        if entry is None:
            return known
        self._entries.pop(entry.name, None)
        found = self._read(entry.name) or self._told.get(entry.name)
        if found is not None:
            self._entries[entry.name] = found
        return Places.of(self._entries.values(), by_sid=self._by_sid)

    def _read(self, name: str) -> Entry | None:
        from ldap3.core.exceptions import LDAPNoSuchObjectResult

        try:
            self._connection.search(name, "(objectClass=*)", "BASE", attributes=["*", "+"])
        except LDAPNoSuchObjectResult:
            return None
        rows = told_entries(self._connection)
        return read_entry(self._connection, rows[0]["dn"], rows[0]["raw_attributes"]) if rows else None

    def _whole(self, step: WholeStep) -> Places:
        """Return where everything stands, with the entry that a step is of read anew, if it is there."""
        known = Places.of(self._entries.values(), by_sid=self._by_sid)
        names = standing_entries(step, known)
        if not names and is_made(step):
            # What was made before the connection broke stands where it would be made now.
            with suppress(StepError):
                names = [new_entry(step, known, {}).name]
        for name in names:
            self._entries.pop(name, None)
            found = self._read(name)
            if found is not None:
                self._entries[found.name] = found
        return Places.of(self._entries.values(), by_sid=self._by_sid)

    def changes(self, step: Step) -> list[EntryChange | WholeEntry]:
        """Return what makes a step in the directory as it stands, without making it.

        Entries of whose making was told so before are taken as if they were there.
        """
        with self._refusals(step):
            if isinstance(step, WholeStep):
                found = whole_change(step, self._whole(step))
                if is_made(step):
                    self._told[found.name] = found.as_entry()
                return [found]
            self._entries |= self._told
            places = self._places(step)
            return list(closing_by_hand(step, places) or change_of(step, places))

    def foresee(self, step: Step) -> str:
        """Say why the directory would not take a step, as far as its entries and its schema tell; else nothing."""
        found = self.changes(step)
        for one in found:
            if isinstance(one, WholeEntry) and one.attributes:
                faults = list(self._schema.faults(one.attributes))
                if faults:
                    return f"its entry would not do: {'; '.join(faults)}"
        return ""

    @cached_property
    def _schema(self) -> Schema:
        """The directory's classes and attributes; without any where it does not tell them (RFC 4512 section 4.4)."""
        self._connection.search("", "(objectClass=*)", "BASE", attributes=["subschemaSubentry"])
        places = [value for row in self._rows() for value in row.get("subschemasubentry", ())]
        if not places:
            return Schema([], [])
        wanted = ["objectClasses", "attributeTypes"]
        self._connection.search(places[0].decode(), "(objectClass=subschema)", "BASE", attributes=wanted)
        told = next(iter(self._rows()), {})
        classes, attributes = (
            [one.decode("utf-8", "replace") for one in told.get(name.lower(), ())] for name in wanted
        )
        return Schema(classes, attributes)

    def _rows(self) -> list[dict[str, list[bytes]]]:
        rows = told_entries(self._connection)
        return [{key.lower(): values for key, values in row["raw_attributes"].items()} for row in rows]

    def look(self, step: Step, details: Details | None = None) -> Looked:
        """Read the entry anew."""
        if isinstance(step, WholeStep):
            with self._refusals(step):
                return look_for_entry(step, self._whole(step))
        with self._refusals(step):
            places = self._places(step)
        standing = standing_of(step, places, date.today())
        message = "the account stands otherwise than was counted" if standing is Standing.OTHER else ""
        return Looked(standing, message)

    def prepare(self, step: Step) -> Details:
        """Return the values that go, so that the very same can come again."""
        if isinstance(step, WholeStep):
            with self._refusals(step):
                return {} if is_made(step) else details_of_entry(step, self._whole(step))
        with self._refusals(step):
            places = self._places(step)
            changes = change_of(step, places)
        if isinstance(step, AccountStep):
            return kept_of(step, places)
        gone = {one.attribute: _texts(one) for one in changes if one.operation == "delete"}
        return {"values": gone} if gone else {}

    def make(self, step: Step, details: Details) -> None:
        """Make the step; done twice it changes nothing more."""
        if isinstance(step, WholeStep):
            with self._refusals(step):
                self._make_whole(step, details)
            return
        with self._refusals(step):
            places = self._places(step)
            if standing_of(step, places, date.today()) is Standing.AFTER:
                return
            for one in change_of(step, places, details):
                self._connection.modify(one.name, {one.attribute: [(_LIBRARY[one.operation], list(one.values))]})

    def first_password(self, login: str) -> str:
        """Let the directory make a password (RFC 3062), or make one where it does not, and return it."""
        entry = Places.of(self._entries.values(), by_sid=self._by_sid).people.get(login)
        where = f"{self._where}: {login}"
        if entry is None:
            raise StepError("the directory has no such account", where, "make it first: mend")
        if "user" in entry.classes:
            raise StepError("a domain's own tools set passwords", where)
        with self._refusals():
            found = self._connection.extend.standard.modify_password(user=entry.name)
            if isinstance(found, str) and found:
                return found
            made = make_password()
            self._connection.extend.standard.modify_password(user=entry.name, new_password=made)
            return made

    def _make_whole(self, step: WholeStep, details: Details) -> None:
        places = self._whole(step)
        if look_for_entry(step, places).standing is Standing.AFTER:
            return
        if not is_made(step):
            name = str(details["entry"]["dn"])
            self._connection.delete(name)
            self._entries.pop(name, None)
            return
        entry = new_entry(step, places, details)
        self._connection.add(entry.name, attributes={name: list(some) for name, some in entry.attributes.items()})
        found = self._read(entry.name)
        if found is not None:
            self._entries[found.name] = found


_LIBRARY = {"add": "MODIFY_ADD", "delete": "MODIFY_DELETE", "replace": "MODIFY_REPLACE"}


def _texts(change: EntryChange) -> list[str]:
    return [value.decode("utf-8", "surrogateescape") for value in change.values]
