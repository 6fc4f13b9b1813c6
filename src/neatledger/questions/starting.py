"""The accounts and homes of those who start, as steps."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Collection, Iterable, Sequence
from dataclasses import replace

from neatledger.core.lists.contract import Maker
from neatledger.core.lists.posix import NO_ENTRIES, pack_body
from neatledger.core.lists.table import MODELS
from neatledger.core.plan.plan import Kind, Person, Plan
from neatledger.core.posts.accounts import new_account
from neatledger.core.posts.forms import fill_form
from neatledger.core.steps.accounts import WholeAccountStep
from neatledger.core.steps.contract import ItemState, Step
from neatledger.core.steps.folders import FolderStep
from neatledger.core.steps.groups import GroupStep
from neatledger.core.survey.accounts import Account
from neatledger.core.tree.address import Address
from neatledger.core.tree.columns import NotSeen
from neatledger.ledger.imagined import ImaginedReader
from neatledger.office.addresses import parse_address
from neatledger.questions.office import Office

__all__ = ["account_steps", "former_accounts", "home_of", "home_steps", "why_perhaps_there"]

_HOME_MODE = 0o700


def former_accounts(office: Office, system: str) -> dict[str, Account]:
    """Return by login every account that any count saw on a system, as the newest had it that did."""
    found: dict[str, Account] = {}
    for count in office.counts_until():
        for info in count.surveys:
            if info.system == system:
                found |= {one.login: one for one in office.ledger.read_survey(info).accounts}
    return found


def account_steps(office: Office, state: ImaginedReader, person: Person, login: str) -> list[Step]:
    """Return the steps that make an account for somebody of the plan, like those of the others there."""
    # An identifier that was somebody's stands on what they left behind.
    used = {one.ident for one in former_accounts(office, state.system).values()}
    used |= {one.ident for one in state.accounts} | {one.ident for one in state.groups} | set(state.idents())
    like = [
        one.account for one in office.principals[state.system] if one.kind is Kind.STAFF and one.is_open
    ]  # fmt: skip
    is_numbered = state.model == "posix"
    account, own = new_account(login, person.name, person.email, like, state.groups, used, is_numbered=is_numbered)
    if state.shared is not None and state.shared.wants:
        # A licence is bought and given by hand: until then the account comes to nothing.
        account = replace(account, is_entitled=False)
    steps: list[Step] = [] if own is None else [GroupStep(state.system, own.ident, own.name, True)]
    return [*steps, WholeAccountStep(state.system, None, account)]


def why_perhaps_there(not_seen: Iterable[NotSeen], login: str) -> str:
    """Say why an account may be there that was not found; nothing where it would have been.

    Of a directory or a service of which a part was not given nobody knows; a line of a file that could not be read
    is about whom it names.
    """
    for one in not_seen:
        is_line = "://" not in one.source and one.source.rpartition(":")[2].isdecimal()
        if "://" in one.source or (is_line and login in re.findall(r"[\w.@-]+", one.why)):
            return f"it may be there already: {one.source}: {one.why}"
    return ""


def home_of(plan: Plan, person: Person) -> Address | None:
    """Return where a person's post says that their home is; None where none of their posts says it."""
    for held in person.posts:
        form = plan.posts[held.post].home
        if form and held.is_held(plan.today):
            system = form.partition(":")[0]
            logins = person.accounts.get(system, ())
            if logins or "{login}" not in form:
                return parse_address(fill_form(form, person.name, "".join(logins[:1])))
    return None


def home_steps(office: Office, state: ImaginedReader, person: Person) -> list[Step]:
    """Return the step that makes the home of somebody of the plan, where it is not there and its owner is."""
    home = home_of(office.plan, person)
    if home is None or home.system != state.system or state.folder_state(home.path) is not None:
        return []
    above = home.path.rpartition(b"/")[0] or b"/"
    parent = state.folder_state(above)
    logins: Collection[str] = person.accounts.get(home.system, ())
    owner = next((one for one in state.accounts if one.login in logins), None)
    # What has the account's number for a name is their home already.
    if parent is None or owner is None or state.folder_state(_below(above, owner.ident)) is not None:
        return []
    return [FolderStep(home.system, home.path, state.model, _home_item(state, above, parent, owner))]


def _below(above: bytes, name: str) -> bytes:
    return above.rstrip(b"/") + b"/" + name.encode("utf-8", "surrogateescape")


def _home_item(state: ImaginedReader, above: bytes, parent: ItemState, owner: Account) -> ItemState:
    """Return what decides about a new home: as most of those beside it have it, and its owner's."""
    model = MODELS[state.model]
    if state.model != "posix":
        maker = Maker(owner.ident, owner.primary)
        return ItemState(owner.ident, model.new_child(parent.body, parent.default, maker, is_folder=True))
    beside = [item for path in state.subfolders(above) if (item := state.folder_state(path)) is not None]
    mode = _most_modes([int.from_bytes(one.body[:2], "little") & 0o7777 for one in beside])
    return ItemState(owner.ident, pack_body(mode, int(owner.primary or owner.ident), NO_ENTRIES))


def _most_modes(modes: Sequence[int]) -> int:
    found = Counter(modes)
    return max(found, key=lambda one: (found[one], -one), default=_HOME_MODE)
