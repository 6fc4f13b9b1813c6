"""What `why` says would help, helps: each piece of advice is carried out on the sample office, and asked again."""

from __future__ import annotations

from pathlib import Path

from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right
from neatledger.core.steps.accounts import AccountStep
from neatledger.core.steps.grants import with_holder
from neatledger.core.steps.lists import ListStep
from neatledger.core.steps.members import MemberStep
from neatledger.core.steps.whom import Sort, Whom
from neatledger.core.survey.accounts import AccountState
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import folder_paths
from neatledger.ledger.imagined import ImaginedReader
from neatledger.questions import why
from neatledger.questions.imagined import imagined_office
from neatledger.questions.office import Office, open_office

READS = LEVEL_RIGHTS[Level.READ]


def reads(office: Office, person: str, address: Address) -> bool:
    found = why.ask(office, person, address)
    return found is not None and not READS & ~found.access.rights


def test_what_is_said_to_help_helps_and_what_is_not_said_does_not(demo: Path) -> None:
    office = open_office(demo)
    told = {"group": 0, "entries": 0, "first": 0, "nothing": 0}
    for system in ("barn", "loft"):
        reader = office.readers[system]
        path_of = folder_paths(reader.table("folders"))
        folders = [Address(system, path_of(row)) for row in range(0, reader.table("folders").rows, 5)]
        groups = {one.name: one for one in reader.groups}
        for person in list(office.people_on(system))[::3]:
            for address in folders:
                found = why.ask(office, person, address)
                if found is None or len(found.advice) != 1:
                    continue
                (advice,) = found.advice
                opening = []
                account = next(one for one in reader.accounts if one.login == advice.login)
                if account.state is not AccountState.OPEN:
                    opening = [AccountStep(system, account.login, account.state, AccountState.OPEN)]
                if any("service" in one or "share" in one or "entitled" in one for one in advice.first):
                    told["first"] += 1
                    continue
                if advice.is_enough:
                    assert opening and reads(imagined_office(office, opening), person, address)
                    told["first"] += 1
                    continue
                for name, group in groups.items():
                    if advice.login in group.members:
                        continue
                    joined = MemberStep(system, group.ident, name, advice.login, False, True)
                    assert reads(imagined_office(office, [*opening, joined]), person, address) == (
                        group.ident in advice.groups
                    )
                    told["group"] += group.ident in advice.groups
                if advice.entries:
                    told["entries"] += 1
                    state, steps = ImaginedReader(reader), []
                    whom = Whom(Sort.USER, account.ident, account.login)
                    for path, what in advice.entries:
                        item = state.folder_state(path)
                        after = with_holder(
                            reader.terms.model.name, item, whom, Right.ENTER if what == "enter" else READS
                        )
                        steps.append(ListStep(system, path, reader.terms.model.name, item, after))
                    assert reads(imagined_office(office, [*opening, *steps]), person, address)
                    # And no fewer of them do.
                    assert not reads(imagined_office(office, [*opening, *steps[:-1]]), person, address)
                told["nothing"] += not (advice.groups or advice.entries)
    assert told["group"] > 20 and told["entries"] > 50 and told["first"] > 1, told
