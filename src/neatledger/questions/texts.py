"""Steps as text for the systems' own tools, with what an office knows of where things stand."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from neatledger.carriers.contract import CarrierContext
from neatledger.carriers.entrychanges import EntryChange, WholeEntry, change_of, closing_by_hand
from neatledger.carriers.wholeentries import WholeStep, whole_change
from neatledger.core.people.credentials import Credentials
from neatledger.core.steps.accounts import AccountStep
from neatledger.core.steps.contract import Step
from neatledger.core.steps.members import MemberStep
from neatledger.errors import NeatError
from neatledger.formats.directory import Places
from neatledger.formats.ldif import add_record, change_record, delete_record, parse_ldif
from neatledger.formats.names import show_text
from neatledger.formats.scimrequests import scim_request
from neatledger.formats.steptexts import Ground, text_of_step
from neatledger.questions.office import Office
from neatledger.sources.ldapaccounts import wants_sids

if TYPE_CHECKING:
    from neatledger.carriers.directory import DirectoryCarrier

__all__ = ["StepTexts"]

_Changes = Callable[[Step], Sequence[EntryChange | WholeEntry]]


class StepTexts:
    """Makes texts of steps; a directory's export is read when a step first needs it.

    With `credentials_for` a live directory is signed in to for its steps; without, they are told as they are.
    """

    def __init__(
        self, office: Office, credentials_for: Callable[[str], Callable[[str, str], Credentials]] | None = None
    ) -> None:
        self._office, self._credentials_for = office, credentials_for
        self._changes: dict[str, _Changes | None] = {}
        self._why: dict[str, str] = {}
        self._open: list[DirectoryCarrier] = []
        self._grounds: dict[str, Ground] = {}

    def close(self) -> None:
        """Leave the directories that were signed in to."""
        for one in self._open:
            one.close()

    def lines(self, step: Step) -> list[str]:
        """Return a step as lines of its system's own language; a directory's are LDIF change records."""
        notes: list[str] = []
        if isinstance(step, MemberStep | AccountStep | WholeStep):
            changes = self._changes_of(step.system)
            why = self._why.get(step.system, "")
            try:
                found = None if changes is None else changes(step)
            except NeatError as error:
                found, why = None, str(error)
            if found:
                return [line for one in found for line in _record(one)]
            notes = [f"# as it is, and not as a change of the directory: {show_text(why)}"] if why else []
        planned = self._office.plan.systems.get(step.system)
        accounts: Any = planned.settings.get("accounts") if planned else None
        if isinstance(accounts, Mapping) and "scim" in accounts:
            requests = scim_request(step, str(accounts["scim"]).rstrip("/"))
            if requests:
                return requests
        if step.system not in self._grounds:
            self._grounds[step.system] = self._ground(step.system)
        lines = text_of_step(step, self._grounds[step.system])
        return [*notes, *(lines or ["# no line of a tool says it: it is done in the system's own console"])]

    def _ground(self, system: str) -> Ground:
        planned = self._office.plan.systems.get(system)
        if planned is None:
            return Ground()
        settings, accounts = planned.settings, self._office.readers[system].accounts
        path = str(settings.get("path", "")) if planned.source == "tree" else ""
        root = str(self._office.folder.resolve() / path).encode("utf-8", "surrogateescape") if path else b""
        setting = settings.get("accounts", "machine" if path else "")
        is_machine = setting == "machine" or (isinstance(setting, Mapping) and "passwd" in setting)
        idents = {one.login: one.ident for one in accounts}
        is_btrfs = bool(path) and "limits-file" not in settings
        return Ground(root, is_btrfs, planned.source == "smb", is_machine, lambda login: idents.get(login, ""))

    def _changes_of(self, system: str) -> _Changes | None:
        if system not in self._changes:
            planned = self._office.plan.systems.get(system)
            setting: Any = planned.settings.get("accounts") if planned else None
            self._changes[system] = None
            if planned is not None and isinstance(setting, Mapping):
                try:
                    if "ldif" in setting:
                        self._changes[system] = self._of_export(planned.settings, setting)
                    elif "ldap" in setting and self._credentials_for:
                        self._changes[system] = self._of_directory(system, planned.settings, self._credentials_for)
                except (NeatError, OSError) as error:
                    # Out of reach, or nobody to sign in as: the step is told as it is, with the reason.
                    self._changes[system] = None
                    self._why[system] = str(error)
        return self._changes[system]

    def _of_export(self, settings: Mapping[str, Any], setting: Mapping[str, Any]) -> _Changes:
        path = self._office.folder / str(setting["ldif"])
        entries, _ = parse_ldif(path.read_text("utf-8-sig", "surrogateescape"), str(path))
        places = Places.of(entries, by_sid=wants_sids(settings, setting))

        def changes(step: Step) -> Sequence[EntryChange | WholeEntry]:
            if isinstance(step, WholeStep):
                return [whole_change(step, places)]
            return closing_by_hand(step, places) or change_of(step, places)

        return changes

    def _of_directory(
        self,
        system: str,
        settings: Mapping[str, Any],
        credentials_for: Callable[[str], Callable[[str, str], Credentials]],
    ) -> _Changes:
        from neatledger.carriers.directory import DirectoryCarrier

        context = CarrierContext(system, self._office.folder, settings, credentials_for(f"{system} accounts"))
        carrier = DirectoryCarrier(context)
        self._open.append(carrier)
        return carrier.changes


def _record(one: EntryChange | WholeEntry) -> list[str]:
    if isinstance(one, WholeEntry):
        return add_record(one.name, one.attributes) if one.attributes else delete_record(one.name)
    return change_record(one.name, one.operation, one.attribute, one.values)
