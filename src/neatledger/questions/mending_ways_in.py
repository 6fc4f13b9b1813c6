"""Letting people through a folder on their way to one below it, and nothing else being opened by that.

The way in goes to the holder that the plan names on the folder below. What lies beside the way, and was kept from
these people by the folder alone that they now come through, is kept from them by its own list first.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from neatledger.core.lists.rights import Right
from neatledger.core.lists.table import MODELS
from neatledger.core.steps.contract import FileSort, ItemState, Step
from neatledger.core.steps.grants import set_holder
from neatledger.core.steps.lists import ListStep, files_steps
from neatledger.core.steps.whom import Sort, Whom
from neatledger.errors import StepError
from neatledger.ledger.imagined import ImaginedReader
from neatledger.questions.beside import SystemChange, changes_between
from neatledger.questions.imagined import imagined_office
from neatledger.questions.office import Office
from neatledger.questions.unasked import is_unasked_gain

__all__ = ["way_in_steps"]

_MOST_BESIDE = 200
"""On so many folders beside the way a list of their own may be set."""


def way_in_steps(office: Office, state: ImaginedReader, place: bytes, whoms: Sequence[Whom]) -> list[Step]:
    """Return the steps that let holders through a folder; empty where no entry of its list could.

    Where these cannot but open more, they do: whoever shows them says what, as of every step.
    """
    item = state.folder_state(place)
    if item is None or state.model != "posix":
        return []
    try:
        after = _let_through(state.model, item, whoms)
    except StepError:
        return []
    if after == item:
        return []
    system, through = state.system, ListStep(state.system, place, state.model, item, after)
    opened = _unasked(office, [through])
    if not opened:
        return [through]
    try:
        beside = _keep_out(state, system, place, opened, whoms)
    except StepError:
        return [through]
    if beside and not _unasked(office, [*beside, through]) and not _lost(office, beside):
        return [*beside, through]
    return [through]


def _let_through(model: str, item: ItemState, whoms: Iterable[Whom]) -> ItemState:
    body = item.body
    for whom in whoms:
        view = MODELS[model].parse(body).view(is_folder=True)
        has = (view.users if whom.sort is Sort.USER else view.groups).get(whom.ident, Right.NONE)
        body = set_holder(model, body, whom, has | Right.ENTER, is_folder=True)
    # What is made in it later is not on their way.
    return ItemState(item.owner, body, item.default)


def _unasked(office: Office, steps: Sequence[Step]) -> list[SystemChange]:
    then = imagined_office(office, steps)
    return [one for one in changes_between(office, then) if is_unasked_gain(office.plan, one)]


def _lost(office: Office, steps: Sequence[Step]) -> bool:
    """Tell whether anybody loses anything by lists that only keep out who did not come to them anyhow."""
    return any(one.change.loses for one in changes_between(office, imagined_office(office, steps)))


def _keep_out(
    state: ImaginedReader, system: str, place: bytes, opened: Sequence[SystemChange], whoms: Sequence[Whom]
) -> list[Step]:
    """Return the steps that name holders with nothing on what would be opened to them, folders and files."""
    found: list[Step] = []
    paths = dict.fromkeys(one.address.path for one in opened if one.address.system == system)
    if len(paths) > _MOST_BESIDE:
        return []
    for path in paths:
        item = state.folder_state(path)
        if item is None:
            continue
        if path != place:
            body = _with_nothing(state.model, item.body, whoms, is_folder=True)
            if body != item.body:
                found.append(ListStep(system, path, state.model, item, ItemState(item.owner, body, item.default)))
            continue
        sorts = state.file_sorts(path)
        then = {
            sort: FileSort(sort.owner, _with_nothing(state.model, sort.body, whoms, is_folder=False))
            for sort in sorts
        }
        found += files_steps(system, path, state.model, sorts, then)
    return found


def _with_nothing(model: str, body: bytes, whoms: Iterable[Whom], *, is_folder: bool) -> bytes:
    for whom in whoms:
        view = MODELS[model].parse(body).view(is_folder=is_folder)
        if whom.ident not in (view.users if whom.sort is Sort.USER else view.groups):
            body = set_holder(model, body, whom, Right.NONE, is_folder=is_folder)
    return body
