"""The proof after carrying out: the systems are looked at again, and compared with what was to be."""

from __future__ import annotations

from collections.abc import Sequence

from neatledger.core.steps.contract import Step
from neatledger.questions.imagined import changes_between, imagined_office
from neatledger.questions.office import Office, open_office

__all__ = ["prove"]


def prove(before: Office, made: Sequence[Step]) -> list[str]:
    """Say what the newest count shows beside the one before with these steps made: nobody else gained or lost."""
    now = open_office(before.folder, today=before.today)
    systems = list(dict.fromkeys(step.system for step in made))
    then = imagined_office(before, made)
    # Only what was looked at again is compared: of other systems both sides are the same count.
    then.__dict__["readers"] = {name: then.readers[name] for name in systems}
    real = imagined_office(now, [])
    real.__dict__["readers"] = {name: now.readers[name] for name in systems}
    strange = changes_between(then, real)
    if not strange:
        return [
            f"Looked at again: {', '.join(systems)} stands as it was to be, and nobody else gained or lost anything."
        ]
    notes = ["Looked at again: not all stands as it was to be (somebody else may have changed something meanwhile):"]
    for one in strange[:10]:
        change = one.change
        what = f"gained {change.gained!r}" if change.gained else f"lost {change.lost!r}"
        notes.append(f"  {change.person} on {one.address}: {what}")
    return notes
