"""Ordered lists: what the models `nt` and `nfs4` have in common.

Both decide bit by bit: the first entry, in stored order, that names the holder and speaks of a bit
decides it, and what no entry decides is not given (MS-DTYP section 2.5.3.2, RFC 8881 section 6.2.1). Both
number the bits alike, and pass entries on by the same four flags.

An entry that cannot be evaluated (a condition, an object, a type nobody knows) may count or not. So there
are two answers, one as if all such entries worked against the holder and one as if for them; where the two
agree the answer is sure, else it is unknown.

For a crowd all bits of interest are worked on at once: one big integer holds a bit set of the crowd for
each of them, side by side, and multiplying a bit set by a pattern of ones copies it to the bits of a mask.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from neatledger.core.lists.contract import Decision, Effect, Entry, Reason, RightSets
from neatledger.core.lists.holders import Crowd, Holder
from neatledger.core.lists.rights import Level, Right, level_of, level_of_file, spell_rights
from neatledger.core.lists.subjects import Subject

__all__ = [
    "FILE_BITS",
    "FOLDER_BITS",
    "MAY_COUNT",
    "OF_OWNER",
    "Rule",
    "Weighed",
    "decide_crowd",
    "decide_single",
    "passed_on",
    "rights_of",
    "spell_mask",
    "unsaid_of",
    "weigh",
]

# What the bits of a mask mean on a folder and on a file (MS-DTYP 2.4.3 with MS-FSCC; RFC 8881 6.2.1.3.1).
READ_BIT, WRITE_BIT, APPEND_BIT, EXECUTE_BIT, CLEAR_BIT = 0x1, 0x2, 0x4, 0x20, 0x40
DELETE_BIT, LIST_BIT = 0x10000, 0x40000  # delete; write the access list
FOLDER_BITS: tuple[tuple[int, Right], ...] = (
    (READ_BIT, Right.LIST | Right.READ),
    (WRITE_BIT, Right.ADD),
    (EXECUTE_BIT, Right.ENTER),
    (CLEAR_BIT, Right.CLEAR),
    (DELETE_BIT, Right.DELETE),
    (LIST_BIT, Right.MANAGE),
)
FILE_BITS: tuple[tuple[int, Right], ...] = (
    (READ_BIT, Right.READ),
    (WRITE_BIT, Right.CHANGE),
    (DELETE_BIT, Right.DELETE),
    (LIST_BIT, Right.MANAGE),
)
# The masks that people set by name everywhere: all, change, and read with passing through.
_USUAL = {0x1F01FF: Level.MANAGE.value, 0x1301BF: Level.WRITE.value, 0x1200A9: Level.READ.value}
_WANTED = {True: FOLDER_BITS, False: FILE_BITS}
# The right that each bit stands for, one a bit; listing a folder is reading it too.
_PLAIN = {
    is_folder: tuple(Right.LIST if right & Right.LIST else right for _, right in bits)
    for is_folder, bits in _WANTED.items()
}


MAY_COUNT, OF_OWNER = 1, 2


@dataclass(frozen=True, slots=True, eq=False)
class Rule:
    """One entry that counts where it stands: whom it names, its mask, what it does with it; and the entry itself.

    Rules of equal entries are one object: what they do for a crowd is worked out once.
    """

    subject: Subject
    ident: str
    mask: int
    allows: bool
    is_unsure: bool = False
    entry: Any = None

    @property
    def mark(self) -> int:
        """What the whole list must know: `MAY_COUNT` for an entry not evaluated, `OF_OWNER` for one of owners."""
        return MAY_COUNT * self.is_unsure + OF_OWNER * (self.subject is Subject.OWNER)

    def names(self, holder: Holder, owns: bool) -> bool:
        """Tell whether the entry speaks of a holder."""
        return self.subject.names(self.ident, holder, owns)

    def among(self, crowd: Crowd, owns: bool) -> int:
        """Return the bit set of those whom the entry speaks of."""
        return self.subject.among(self.ident, crowd, owns)


@dataclass(frozen=True, slots=True)
class Weighed:
    """What the entries decide for one holder: masks given and refused, and which entry decided what."""

    given: int
    refused: int
    steps: tuple[tuple[Rule, int], ...]


def weigh(rules: Sequence[Rule], holder: Holder, owns: bool, *, hopeful: bool = False, first: int = 0) -> Weighed:
    """Go through the entries in order for one holder.

    Arguments: `hopeful` takes entries that cannot be evaluated for the holder, else against; `first` is a
    mask that is given before any entry is looked at.
    """
    given, refused = first, 0
    steps: list[tuple[Rule, int]] = []
    for rule in rules:
        if rule.is_unsure and rule.allows != hopeful:
            continue
        # A bit once given or refused stays so: later entries speak only of what is still open.
        bits = rule.mask & ~(given | refused)
        if bits and rule.names(holder, owns):
            steps.append((rule, bits))
            if rule.allows:
                given |= bits
            else:
                refused |= bits
    return Weighed(given, refused, tuple(steps))


def rights_of(mask: int, *, is_folder: bool) -> Right:
    """Return the rights that a mask gives."""
    rights = Right.NONE
    for bit, right in _WANTED[is_folder]:
        if mask & bit:
            rights |= right
    return rights


def spell_mask(mask: int, *, is_folder: bool) -> str:
    """Say what a mask gives, as a level where it has a name; but for the usual masks with its exact number."""
    if mask in _USUAL:
        return _USUAL[mask]
    rights = rights_of(mask, is_folder=is_folder)
    level = level_of(rights) if is_folder else level_of_file(rights)
    if level not in (Level.MIXED, Level.NONE):
        return f"{level.value} (0x{mask:x})"
    words = [spell_rights(rights)] if rights != Right.CLEAR else []
    if rights & Right.CLEAR and not rights & Right.DELETE:
        # It has no word among a folder's own rights, and is not nothing.
        words.append("removing what is in it")
    return f"{', and '.join(words)} (0x{mask:x})"


def decide_single(
    rules: Sequence[Rule],
    holder: Holder,
    *,
    is_folder: bool,
    owns: bool,
    first: int,
    entry: Callable[[Rule], Entry],
    because: Callable[[Rule], str],
) -> Decision:
    """Decide for one holder; `entry` gives the entry of a rule, and `because` says why it applies."""
    sure = weigh(rules, holder, owns, first=first)
    rights = rights_of(sure.given, is_folder=is_folder)
    is_unsure = False
    reasons = []
    for rule, bits in sure.steps:
        if rule.is_unsure:
            continue
        decided = rights_of(bits, is_folder=is_folder)
        if decided:
            effect = Effect.GRANTS if rule.allows else Effect.STOPS
            why, whole = because(rule), rights_of(rule.mask, is_folder=is_folder)
            if decided != whole:
                does = "gives" if rule.allows else "refuses"
                why += f"; {does} only {spell_rights(decided)}, the rest was decided above"
            reasons.append(Reason(effect, entry(rule), decided if rule.allows else Right.NONE, why))
    if any(rule.is_unsure for rule in rules):
        # Unknown is what differs between the best and the worst that entries not evaluated could mean.
        hopeful = weigh(rules, holder, owns, hopeful=True, first=first)
        open_bits = hopeful.given & ~sure.given & _all_bits(is_folder)
        is_unsure = bool(open_bits)
        reasons += [
            Reason(Effect.LIMITS, entry(rule), Right.NONE, "cannot be evaluated here: it may count or not")
            for rule in dict.fromkeys(rules)
            if is_unsure and rule.is_unsure and rule.mask & open_bits and rule.names(holder, owns)
        ]
        reasons = list(dict.fromkeys(reasons))
    if not sure.steps and not is_unsure:
        reasons.append(Reason(Effect.STOPS, "no entry", Right.NONE, "no entry names them or a group of theirs"))
    return Decision(rights, tuple(reasons), is_unsure, sure.given, sure.refused)


def _all_bits(is_folder: bool) -> int:
    return sum(bit for bit, _ in _WANTED[is_folder])


def _pattern(mask: int, is_folder: bool, width: int) -> int:
    pattern = 0
    for place, (bit, _) in enumerate(_WANTED[is_folder]):
        if mask & bit:
            pattern |= 1 << place * width
    return pattern


class _Patterns(dict[tuple[int, bool, int], int]):
    """Mask, folder or file, and size of the crowd → the pattern that copies a bit set; remembered."""

    def __missing__(self, key: tuple[int, bool, int]) -> int:
        if len(self) > 65536:
            self.clear()
        self[key] = found = _pattern(*key)
        return found


_PATTERNS = _Patterns()


def _sweep(
    rules: Sequence[Rule], crowd: Crowd, is_folder: bool, owns: bool, hopeful: bool, first: int
) -> tuple[int, int]:
    """Return who is given what, and what no entry decided, as sets side by side."""
    width = len(crowd.holders)
    memo = crowd.memo.setdefault((is_folder, owns), {})
    given = crowd.all * _PATTERNS[first, is_folder, width]
    rest = crowd.all * _PATTERNS[0xFFFFFFFF, is_folder, width] ^ given
    for rule in rules:
        if rule.is_unsure and rule.allows != hopeful:
            continue
        hit = memo.get(rule)
        if hit is None:
            # Multiplying copies the set of people into the place of every bit of the mask at once.
            hit = memo[rule] = rule.among(crowd, owns) * _PATTERNS[rule.mask, is_folder, width]
        hit &= rest
        if hit:
            rest ^= hit
            if rule.allows:
                given |= hit
    return given, rest


Form = tuple[RightSets, int]
"""Who has which right; and of which bits no entry spoke to whom, as sets side by side (see `unsaid_of`)."""


def _form(rules: Sequence[Rule], crowd: Crowd, is_folder: bool, owns: bool, first: int, has_unsure: bool) -> Form:
    width, everyone = len(crowd.holders), crowd.all
    given, rest = _sweep(rules, crowd, is_folder, owns, False, first)
    sets: RightSets = {}
    left = given
    for right in _PLAIN[is_folder]:
        sets[right] = left & everyone
        left >>= width
    if is_folder:
        sets[Right.READ] = sets[Right.LIST]
    if has_unsure:
        hopeful, _ = _sweep(rules, crowd, is_folder, owns, True, first)
        open_bits, unsure = hopeful & ~given, 0
        for place in range(len(_PLAIN[is_folder])):
            unsure |= open_bits >> place * width & everyone
        sets[Right.UNSURE] = unsure
    return sets, rest


def decide_crowd(
    rules: Sequence[Rule], marks: int, crowd: Crowd, *, is_folder: bool, implied: int
) -> tuple[Form, Form]:
    """Decide for a crowd as others and as owners, to whom `implied` is given before any entry is looked at.

    `marks` are those of all the rules together.
    """
    has_unsure = bool(marks & MAY_COUNT)
    other = _form(rules, crowd, is_folder, False, 0, has_unsure)
    if marks:
        # Only an entry for owners, or one not evaluated, makes owners another case: else one sweep does for both.
        return other, _form(rules, crowd, is_folder, True, implied, has_unsure)
    sets = dict(other[0])
    if implied & LIST_BIT:
        # The one bit implied that is told of; without entries for owners all else is as for others.
        sets[Right.MANAGE] = crowd.all
    return other, (sets, other[1])


def unsaid_of(form: Form, crowd: Crowd, right: Right, *, is_folder: bool) -> int:
    """Return to whom no entry spoke of a right."""
    place = _PLAIN[is_folder].index(right)
    return form[1] >> place * len(crowd.holders) & crowd.all


# Flags that pass entries on have the same numbers in both models (MS-DTYP 2.4.4.1, RFC 8881 6.2.1.4).
TO_FILES, TO_FOLDERS, ONCE, ONLY_PASSED = 0x1, 0x2, 0x4, 0x8


def passed_on(flags: int, *, is_folder: bool) -> int | None:
    """Return the flags with which an entry reaches a new child, or None where it does not reach it.

    An entry for files only passes through folders without counting there; one that is passed on once has
    no flags left on the child.
    """
    if not is_folder:
        return 0 if flags & TO_FILES else None
    if flags & TO_FOLDERS:
        return 0 if flags & ONCE else flags & (TO_FILES | TO_FOLDERS)
    return TO_FILES | ONLY_PASSED if flags & TO_FILES and not flags & ONCE else None
