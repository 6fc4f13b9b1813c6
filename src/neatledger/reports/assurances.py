"""Every sentence by which the tool says that all is well: what it claims, over what, and when it must not be said.

An administrator acts on just these. So each stands here once and is chosen by one condition, where it is said
(`assured`); a report that says one is marked, and whoever shows it adds what was not seen (`bounded`). The tests have
a table of the same keys, with worlds in which a sentence must not be said.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from neatledger.reports.report import Row

__all__ = ["ASSURANCES", "Assurance", "Said", "assured", "bounded"]


@dataclass(frozen=True, slots=True)
class Assurance:
    """A sentence, with places for its bounds, and what it claims over what."""

    sentence: str
    claims: str


@dataclass(frozen=True, slots=True)
class Said:
    """What is said, and whether it is that all is well."""

    text: str
    is_assured: bool

    def or_rows(self, rows: Sequence[Row]) -> Sequence[Row]:
        """Return what is shown beside it: where all is well there is nothing to list."""
        return [] if self.is_assured else rows


ASSURANCES = {
    "check": Assurance(
        "Nothing found{scope} by {checks} in the count of {when}",
        "no check that was asked for has a finding that the plan does not accept, on what the count saw",
    ),
    "brief": Assurance(
        "nothing found by {checks} in the count of {when}",
        "no check has a finding that the plan does not accept, on what the count saw",
    ),
    "brief-signs": Assurance(
        "nothing unusual since {since}{reach}",
        "no sign within the week, as far as every log that the plan names was read",
    ),
    "mend": Assurance(
        "Nothing to do{scope}: everybody of the plan has what it says, by the count of {when}",
        "no step is needed and no difference of a person, an account, a member or a limit is left, on what was seen",
    ),
    "both-sides": Assurance(
        "{subject}: plan and found agree in {places}",
        "all that the plan gives on its folders and their files was found, and nothing more, and all of it is known",
    ),
    "changes": Assurance(
        "Nobody gained or lost access {between}{others}",
        "every person on every folder and with its files, on all systems of the plan, counted both times",
    ),
    "compare": Assurance(
        "{left} and {right} have the same on {folders} and with their files (count of {when})",
        "the same rights on every folder of every system that either has an account on",
    ),
    "like": Assurance(
        "nothing is lacking: all that they have, they have by groups",
        "somebody new in the same groups would have the same on every folder and with its files",
    ),
    "suppose": Assurance(
        "nobody gains or loses anything",
        "every person on every folder and with every file has the same after the steps as before",
    ),
    "push": Assurance(
        "every list below is already what it would become", "all folders below that were counted, and their files"
    ),
    "want": Assurance("It is so on {where} already", "everybody who is named has just that, and it is known"),
    "take-back": Assurance("nobody would lose anything", "no way of anybody to any folder or file ends"),
    "links": Assurance(
        "{shown}, all in order by the plan's rules (count of {when})",
        "every link and hand-out that the services told keeps the rules; nothing about it is unknown",
    ),
    "devices": Assurance(
        "{devices} with {held} of copies, all in order ({when})",
        "every device that the services told: its owner, its state, and that it holds only what they may read",
    ),
    "plan-names": Assurance(
        "all that it names is there (count of {when})",
        "every name of the plan was looked up in a count of every system that it speaks of",
    ),
    "unused": Assurance(
        "every right was used in {days}", "whole logs of every system for so long, and nothing in them unused"
    ),
    "missed": Assurance(
        "nobody would have missed anything in the last year", "whole logs of a year of every system concerned"
    ),
    "signs": Assurance("Nothing unusual{about}", "no sign, as far as every log that the plan names was read"),
    "expiring": Assurance(
        "nothing{scope}", "everything that the plan and the count give an end, of the sorts that were asked for"
    ),
    "bands": Assurance(
        "none differs from its band or from the plan", "every place of a band, its limit told by its system"
    ),
    "kinds": Assurance(
        "nothing is stored that is not allowed", "every file of every folder that a rule bars kinds in"
    ),
    "match": Assurance(
        "no account resembles anybody in the plan who has none there", "all accounts of all systems that were counted"
    ),
    "notices": Assurance("nothing is to be told by the plan's rules", "every rule of the plan, on what was counted"),
    "connect": Assurance("all work", "every part that was tried gave all that was asked of it"),
    "space": Assurance(
        "No place is over its limit, full, or past a warning, as counted on {when}",
        "every limit of the plan and of the systems, with what is used there, both told",
    ),
    "forecast": Assurance(
        "none will be full within {years} years", "every place with a limit has a forecast, and none meets it"
    ),
    "promised": Assurance("No disk of {pools} is overcommitted", "every pool, its size and all limits on it told"),
    "protect": Assurance(
        "{places} protected as planned (count of {when})",
        "every place with a target, by copies that are known",
    ),
    "joined": Assurance(
        "{name} has just what the plan says, and no more (count of {when})",
        "their accounts, groups, home, and every folder of the plan with its files, and all of it known",
    ),
    "ledger": Assurance(
        "The ledger is intact: {links} of {where} verified, everything is as it was written",
        "every link of the chain",
    ),
    "all-seen": Assurance("all was seen", "every system that was asked told all that it was asked"),
    "nobody": Assurance(
        "0 of {people} can reach {where} (count of {when})",
        "every account that was told, by every way, the place itself and its files, and all of it known",
    ),
    "no-rights": Assurance("no rows: nobody has any right here", "everybody on every folder that was looked at"),
    "office": Assurance("in order", "the command has nothing to tell of the office, and all of it was seen"),
    "proof": Assurance(
        "{steps}, and {rest}", "every list, owner, file, account, member, limit and share of the systems changed"
    ),
}
"""Key → the sentence and its claim, room by room as they are met."""


def assured(key: str, is_so: bool, otherwise: str, **words: str) -> Said:
    """Return the sentence of an assurance where it holds, and else what is to be said in its place."""
    return Said(ASSURANCES[key].sentence.format(**words), True) if is_so else Said(otherwise, False)


def bounded(sentence: str, caveats: Sequence[str]) -> str:
    """Return a sentence that says that all is well with the bound that not all was seen, where that is so."""
    if not caveats:
        return sentence
    return f"{sentence.rstrip('.')}, as far as was seen."
