"""What a system made of a step beside what was asked for: for whom it means something else."""

from __future__ import annotations

from collections.abc import Sequence

from neatledger.core.steps.contract import Step
from neatledger.errors import StepError
from neatledger.questions.beside import changes_between
from neatledger.questions.imagined import imagined_office
from neatledger.questions.making import Judge, MadeOtherwise
from neatledger.questions.office import Office

__all__ = ["judge_made"]


def judge_made(office: Office) -> Judge:
    """Return what judges a step as made by one as asked, on an office as it was counted before all steps."""

    def judge(so_far: Sequence[Step], asked: Step, made: Step) -> MadeOtherwise:
        try:
            changes = changes_between(*(imagined_office(office, [*so_far, one]) for one in (asked, made)))
        except StepError as error:
            return MadeOtherwise(asked, made, unclear=error.what)
        return MadeOtherwise(asked, made, changes)

    return judge
