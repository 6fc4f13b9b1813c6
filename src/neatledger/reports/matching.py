"""Proposals of whose accounts are, as rows."""

from __future__ import annotations

from collections.abc import Sequence

from neatledger.core.people.matching import Proposal
from neatledger.core.plan.plan import Plan
from neatledger.reports.assurances import assured
from neatledger.reports.report import Aside, Column, Report, Row, count_of

__all__ = ["matching_report"]

_COLUMNS = (
    Column("account", "ACCOUNT", cuts=True),
    Column("name", "NAME", cuts=True),
    Column("state", "STATE"),
    Column("person", "MAY BE", wraps=True),
    Column("because", "BECAUSE", wraps=True),
)


def matching_report(plan: Plan, proposals: Sequence[Proposal], written: int) -> Report:
    """List proposals, the clear ones first; `written` of them now stand in the plan."""
    rows: list[Row] = []
    for one in sorted(proposals, key=lambda each: (not each.is_clear, each.system, each.account.login)):
        state = "proposed" if one.is_clear else "ambiguous" if len(one.candidates) > 1 else "both unplanned"
        rows.append(
            {
                "account": f"{one.system}:{one.account.login}",
                "name": one.account.name,
                "state": state,
                "person": one.candidates,
                "because": one.because,
            }
        )
    clear = [one for one in proposals if one.is_clear]
    headline = f"{count_of(len(proposals), 'account')} not matched with a person yet; {len(clear)} clear."
    notes: list[str] = []
    if written:
        headline = f"{count_of(written, 'account')} joined to people in the plan."
    elif clear:
        first = clear[0]
        by_hand = f"  people: {{{first.candidates[0]}: {{accounts: {{{first.system}: {first.account.login}}}}}}}"
        joins = "Until the plan says so, these stay apart. --write joins the clear ones in office.yaml; by hand:"
        notes += [Aside(joins), Aside(by_hand)]
    if len(clear) < len(proposals):
        notes.append("Ambiguous ones are never joined by themselves: say in the plan whose they are.")
    said = assured("match", not rows, "")
    return Report("match", headline, _COLUMNS, said.or_rows(rows), notes, said.text, is_assured=said.is_assured)
