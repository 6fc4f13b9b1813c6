"""The list models, by name; adding one is a file beside this one and a row here."""

from __future__ import annotations

from functools import lru_cache

from neatledger.core.lists.contract import AccessList, ListModel
from neatledger.core.lists.nfs4 import Nfs4Model
from neatledger.core.lists.nt import NtModel
from neatledger.core.lists.posix import PosixModel
from neatledger.core.lists.role import RoleModel

__all__ = ["MODELS", "parse_list"]

MODELS: dict[str, ListModel] = {model.name: model for model in (PosixModel(), NtModel(), Nfs4Model(), RoleModel())}


# The rights on a tree are asked for after each of many steps, and all but one of its lists are as they were.
@lru_cache(maxsize=1 << 16)
def parse_list(model: str, body: bytes) -> AccessList:
    """Return a list of a model from its stored body, the same for the same body; raises `FormatError`."""
    return MODELS[model].parse(body)
