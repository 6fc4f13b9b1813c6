"""What a system made of a step beside what was asked for: for whom it means something else."""

from __future__ import annotations

from collections.abc import Sequence

from neatledger.core.steps.contract import Step
from neatledger.errors import StepError
from neatledger.formats.names import show_address
from neatledger.questions.beside import changes_between
from neatledger.questions.carrying import Judge
from neatledger.questions.imagined import imagined_office
from neatledger.questions.office import Office
from neatledger.reports.change_words import file_words, level_word, what_changes

__all__ = ["judge_made"]

_MOST = 4


def judge_made(office: Office) -> Judge:
    """Return what judges a step as made by one as asked, on an office as it was counted before all steps."""

    def judge(so_far: Sequence[Step], asked: Step, made: Step) -> str:
        try:
            changes = changes_between(*(imagined_office(office, [*so_far, one]) for one in (asked, made)))
        except StepError as error:
            return f"what that means cannot be said before it is counted anew: {error.what}"
        words = []
        for one in changes[:_MOST]:
            change = one.change
            levels = f"{level_word(change.before)} → {level_word(change.after)}"
            what = levels if change.before != change.after else file_words(change)
            words.append(f"{change.person} {what_changes(change)} ({what}) on {show_address(one.address)}")
        more = f" and {len(changes) - _MOST} more" if len(changes) > _MOST else ""
        return "; ".join(words) + more

    return judge
