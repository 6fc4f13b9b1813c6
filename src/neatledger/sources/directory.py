"""A directory as a system of its own: people and groups, and no folders."""

from __future__ import annotations

from neatledger.core.survey.survey import Facts, Survey
from neatledger.sources.accounts import read_accounts, settle
from neatledger.sources.assemble import make_survey
from neatledger.sources.contract import SourceContext
from neatledger.sources.rows import RowTree, server_root

__all__ = ["read"]


def read(context: SourceContext) -> Survey:
    """Read the people and groups that `accounts` in the settings names; raises `SourceError`."""
    found = read_accounts(context)
    tree = RowTree()
    tree.add(server_root())
    # No share leads to the root that stands for the directory: nobody reaches anything here.
    facts: Facts = {"entries": 0, "read_only": 0, "pool_bytes": None, "pool_free_bytes": None, "shares": []}
    settle(facts, found, context)
    accounts = (found.accounts, found.groups, found.not_seen)
    return make_survey(context.system, "directory", tree.assemble(), accounts, facts, "nt")
