"""Papers for people who decide: each a file that puts questions to the office and their answers together."""

from __future__ import annotations

__all__ = ["PAPERS"]

PAPERS = {
    "office": "the office on a page: what to do first, and how it stands",
    "access": "who can do what where, as a map, and who has more than planned",
    "people": "everybody with their accounts and groups, and who can do the most",
    "sharing": "links, hand-outs, guests and devices, and what ends",
    "space": "what is used, allowed and left, and until when it lasts",
    "protection": "what would come back, what would be lost, and how that is proved; for an insurer",
    "mend": "the steps that mend shows, to tick off",
}
"""Name → what it is; the module is neatledger.papers.NAME, with a function `make`."""
