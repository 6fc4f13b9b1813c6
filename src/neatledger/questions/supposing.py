"""Changes to access in the words of an office, made into steps on what was found."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from neatledger.core.lists.rights import LEVEL_RIGHTS, Right
from neatledger.core.plan.plan import CLASSES
from neatledger.core.steps.accounts import AccountStep, WholeAccountStep
from neatledger.core.steps.contract import ItemState, Step
from neatledger.core.steps.folders import PushStep
from neatledger.core.steps.grants import grant_steps
from neatledger.core.steps.lists import ListStep
from neatledger.core.steps.members import MemberStep
from neatledger.core.steps.owners import owner_steps
from neatledger.core.steps.whom import Sort, Whom
from neatledger.core.survey.accounts import AccountState, Group
from neatledger.core.tree.address import Address
from neatledger.errors import FormatError, StepError, UnknownNameError, UsageError
from neatledger.formats.listtexts import item_of_text
from neatledger.formats.nearest import meant_by, or_else
from neatledger.ledger.imagined import ImaginedReader
from neatledger.ledger.locations import unknown_folder
from neatledger.questions.office import Office

__all__ = ["LEVELS", "Wishes", "rights_called", "steps_of"]


@dataclass(frozen=True)
class Wishes:
    """What is supposed, each as words of the call; pairs have what stands before and after the last ``=``.

    `into` and `out_of` are groups with whom to put in or take out; `grants` folders with ``WHO:LEVEL``; `withdrawn`
    folders with whose entry goes; `closed` and `gone` are people or accounts; `lists` folders with another folder or
    the text of a list; `pushed` are folders, and `given` folders with the group they go to.
    """

    into: tuple[tuple[str, str], ...] = ()
    out_of: tuple[tuple[str, str], ...] = ()
    grants: tuple[tuple[str, str], ...] = ()
    withdrawn: tuple[tuple[str, str], ...] = ()
    closed: tuple[str, ...] = ()
    gone: tuple[str, ...] = ()
    lists: tuple[tuple[str, str], ...] = ()
    pushed: tuple[str, ...] = ()
    given: tuple[tuple[str, str], ...] = ()

    def __bool__(self) -> bool:
        return any((self.into, self.out_of, self.grants, self.withdrawn, self.closed, self.gone)) or any(
            (self.lists, self.pushed, self.given)
        )


def steps_of(office: Office, wishes: Wishes) -> tuple[list[Step], list[str]]:
    """Return the steps that make wishes true, one after the other, and the wishes as sentences.

    Raises `UnknownNameError`, `UsageError`, and `StepError` where something cannot be done, or is so already.
    """
    maker = StepMaker(office)
    for group, who in wishes.into:
        maker.membership(group, who, True)
    for group, who in wishes.out_of:
        maker.membership(group, who, False)
    for folder, word in wishes.grants:
        who, colon, level = word.rpartition(":")
        if not colon:
            raise UsageError(f"{word!r} says too little", hint="write --grant FOLDER=WHO:LEVEL")
        maker.grant(folder, who, level)
    for folder, who in wishes.withdrawn:
        maker.grant(folder, who, None)
    for folder, text in wishes.lists:
        maker.set_list(folder, text)
    for folder, group in wishes.given:
        maker.give(folder, group)
    for folder in wishes.pushed:
        maker.push(folder)
    for who in wishes.closed:
        maker.close(who)
    for who in wishes.gone:
        maker.remove(who)
    return maker.steps, maker.sentences


class StepMaker:
    """Makes steps on the systems as they are after those made before."""

    def __init__(self, office: Office) -> None:
        self.office = office
        self.steps: list[Step] = []
        self.sentences: list[str] = []
        self._states: dict[str, ImaginedReader] = {}

    def state(self, system: str) -> ImaginedReader:
        if system not in self._states:
            self._states[system] = ImaginedReader(self.office.reader(system))
        return self._states[system]

    def add(self, steps: Iterable[Step]) -> None:
        for step in steps:
            step.apply(self.state(step.system))
            self.steps.append(step)

    # Groups -----------------------------------------------------------------------------------------

    def membership(self, group: str, who: str, is_in: bool) -> None:
        """Put somebody, or a group, into a group or take them out, on every system where both are."""
        found: list[Step] = []
        already = 0
        group = self._called(group)
        for system in self._systems_with(group):
            state = self.state(system)
            target = self._group(system, group)
            assert target is not None, "only systems with the group are asked"
            for step in self._members(system, target, who, is_in):
                try:
                    step.apply(state)
                except StepError as error:
                    if "already" not in str(error) and "not in it" not in str(error):
                        raise
                    already += 1
                    continue
                self.steps.append(step)
                found.append(step)
        if not found:
            known = self.office.find_person(who) if not already else None
            what = f"no account of {known.id if known else who} is where that group is"
            if already:
                what = "they are in it already" if is_in else "they are not in it but perhaps by another group"
            raise StepError(f"nothing to suppose: {what}", f"{group} = {who}")
        verb = "joins" if is_in else "leaves"
        systems = ", ".join(dict.fromkeys(step.system for step in found))
        self.sentences.append(f"{who} {verb} {group.rpartition(':')[2]} on {systems}")

    def _members(self, system: str, target: Group, who: str, is_in: bool) -> list[MemberStep]:
        inner = self._group(system, who)
        if inner is not None and who not in self.office.plan.people:
            if inner.ident == target.ident and inner.name == target.name:
                raise StepError("a group cannot be in itself", f"{system}:{target.name}")
            step = MemberStep(system, target.ident, target.name, inner.ident, True, is_in, inner.name)
            return [step]
        logins = self._logins(system, who)
        return [MemberStep(system, target.ident, target.name, login, False, is_in) for login in logins]

    def _systems_with(self, group: str) -> list[str]:
        system, colon, _ = group.partition(":")
        if colon:
            self.office.reader(system)
        some = [system] if colon else list(self.office.readers)
        found = [name for name in some if self._group(name, group) is not None]
        if not found:
            where = f" on {system}" if colon else ""
            name = group.rpartition(":")[2]
            raise UnknownNameError(f"no group is called {name!r}{where}", hint=self._groups_near(name, some))
        return found

    def _called(self, group: str) -> str:
        """Return the name of the group that is meant: as it is written, in any case, or a part that one has."""
        system, colon, name = group.rpartition(":")
        if colon:
            self.office.reader(system)
        some = [system] if colon else list(self.office.readers)
        if any(self._group(each, group) is not None for each in some):
            return group
        names = {known.name: () for each in some for known in self.state(each).groups}
        found = meant_by(name, names | dict.fromkeys(self.office.plan.groups, ()))
        return f"{system}{colon}{found.pop()}" if len(found) == 1 else group

    def _groups_near(self, name: str, systems: Sequence[str]) -> str:
        known = {one.name for system in systems for one in self.state(system).groups}
        return or_else(name, [*known, *self.office.plan.groups], "see: groups")

    def _group(self, system: str, name: str) -> Group | None:
        """Return a group of a system by its name there, its identifier, or its name in the plan."""
        name = name.removeprefix(f"{system}:")
        planned = self.office.plan.groups.get(name)
        names = {name} | ({planned.names.get(system, name)} if planned else set())
        groups = self.state(system).groups
        return next((one for one in groups if one.name in names or one.ident == name), None)

    def _logins(self, system: str, who: str) -> list[str]:
        state = self.state(system)
        if any(account.login == who for account in state.accounts):
            return [who]
        person = self.office.find_person(who)
        return [principal.account.login for principal in person.on(system)]

    # Folders ----------------------------------------------------------------------------------------

    def _folder(self, text: str) -> tuple[Address, ItemState, str]:
        address = self.office.address(text)
        state = self.state(address.system)
        item = state.folder_state(address.path)
        if item is None:
            raise unknown_folder(self.office.reader(address.system), address, "folder")
        return address, item, state.model

    def grant(self, folder: str, who: str, level: str | None) -> None:
        """Give a holder a level on a folder and all below it, or take their entries away there."""
        address, _, model = self._folder(folder)
        rights = None if level is None else rights_called(level)
        found: list[Step] = []
        for whom in self._whom(address.system, who):
            try:
                steps = grant_steps(self.state(address.system), address.path, model, whom, rights)
            except StepError as error:
                raise StepError(error.what, folder, error.hint) from None
            self.add(steps)
            found += steps
        if not found:
            raise StepError("nothing to suppose: it is so already", f"{folder} = {who}")
        does = f"has {level} on" if level is not None else "has no entry any more on"
        self.sentences.append(f"{who} {does} {folder}")

    def _whom(self, system: str, who: str) -> list[Whom]:
        if who in CLASSES:
            if CLASSES[who] is not None:
                raise UsageError(f"{who} is no holder that a list could name", hint="name a group, or: everyone")
            return [Whom(Sort.EVERYONE, "", who)]
        group = self._group(system, who)
        if group is not None and who not in self.office.plan.people:
            return [Whom(Sort.GROUP, group.ident, group.name)]
        by_login = {one.login: one for one in self.state(system).accounts}
        logins = self._logins(system, who)
        if not logins:
            raise StepError(f"{who} has no account there", system)
        return [Whom(Sort.USER, by_login[login].ident, login) for login in logins]

    def set_list(self, folder: str, text: str) -> None:
        """Give a folder the list of another one of its system, or the list that a text says."""
        address, item, model = self._folder(folder)
        if text.partition(":")[0] in self.office.plan.systems:
            other, source, _ = self._folder(text)
            if other.system != address.system:
                raise UsageError("a list means something only on its own system", hint=f"{folder} and {text}")
            after = ItemState(item.owner, source.body, source.default)
            self.sentences.append(f"{folder} has the list of {text}")
        else:
            after = item_of_text(
                model, text, item, lambda name, is_group: self._ident(address.system, name, is_group)
            )
            self.sentences.append(f"{folder} has the list {text}")
        if after == item:
            raise StepError("nothing to suppose: it has this list already", folder)
        self.add([ListStep(address.system, address.path, model, item, after)])

    def _ident(self, system: str, name: str, is_group: bool) -> str:
        """Return the identifier of a name in a list's text."""
        if name.isdecimal():
            return name
        if is_group:
            group = self._group(system, name)
            found = None if group is None else group.ident
        else:
            found = next((one.ident for one in self.state(system).accounts if one.login == name), None)
        if found is None:
            raise FormatError(f"no {'group' if is_group else 'account'} is called {name!r}", system)
        return found

    def give(self, folder: str, group: str) -> None:
        """Give a folder and all below it to another owning group, or owner where groups may own."""
        address, _, model = self._folder(folder)
        target = self._group(address.system, group)
        if target is None:
            hint = self._groups_near(group, [address.system])
            raise UnknownNameError(f"no group is called {group!r} on {address.system}", hint=hint)
        steps = owner_steps(self.state(address.system), address.path, model, target.ident)
        if not steps:
            raise StepError("nothing to suppose: it is that group's already", folder)
        self.add(steps)
        self.sentences.append(f"{folder} is given to {group}")

    def push(self, folder: str) -> None:
        """Push a folder's list down to all below it."""
        address, _, model = self._folder(folder)
        parts = PushStep(address.system, address.path, model).parts(self.state(address.system))
        if not parts:
            raise StepError("nothing to suppose: all below it is as its list would make it", folder)
        self.add([PushStep(address.system, address.path, model)])
        self.sentences.append(f"the list of {folder} is pushed down")

    # Accounts ---------------------------------------------------------------------------------------

    def _accounts(self, who: str) -> Mapping[str, list[str]]:
        system, colon, login = who.partition(":")
        if colon and system in self.office.readers:
            if not any(one.login == login for one in self.state(system).accounts):
                raise UnknownNameError(f"no account is called {login!r} on {system}", hint="see: people")
            return {system: [login]}
        person = self.office.find_person(who)
        mine = {name: [p.account.login for p in some] for name, some in person.principals.items()}
        known = {name: {one.login for one in self.state(name).accounts} for name in mine}
        return {name: [one for one in logins if one in known[name]] for name, logins in mine.items()}

    def close(self, who: str) -> None:
        """Close a person's accounts, or one account."""
        found = []
        for system, logins in self._accounts(who).items():
            for account in self.state(system).accounts:
                if account.login in logins and account.state is not AccountState.DISABLED:
                    found.append(AccountStep(system, account.login, account.state, AccountState.DISABLED))
        if not found:
            raise StepError("nothing to suppose: no account of theirs is open", who)
        self.add(found)
        self.sentences.append(f"{_words(found)} {'is' if len(found) == 1 else 'are'} closed")

    def remove(self, who: str) -> None:
        """Take somebody's accounts away with their memberships; what they own stays theirs by identifier."""
        found = []
        for system, logins in self._accounts(who).items():
            state = self.state(system)
            for account in state.accounts:
                if account.login in logins:
                    groups = tuple(one.ident for one in state.groups if account.login in one.members)
                    found.append(WholeAccountStep(system, account, None, groups))
        if not found:
            raise StepError("nothing to suppose: they have no account", who)
        self.add(found)
        self.sentences.append(f"{who} is gone from {', '.join(dict.fromkeys(step.system for step in found))}")


def _words(steps: Iterable[AccountStep]) -> str:
    return ", ".join(f"{step.system}:{step.login}" for step in steps)


LEVELS = {level.value: level for level in LEVEL_RIGHTS}


def rights_called(level: str) -> Right:
    """Return the rights of a level by its word; raises `UsageError`."""
    if level not in LEVELS:
        raise UsageError(f"no level is called {level!r}", hint=f"there are: {', '.join(LEVELS)}")
    return LEVEL_RIGHTS[LEVELS[level]]
