"""The list models, by name; adding one is a file beside this one and a row here."""

from __future__ import annotations

from neatledger.core.lists.contract import ListModel
from neatledger.core.lists.nfs4 import Nfs4Model
from neatledger.core.lists.nt import NtModel
from neatledger.core.lists.posix import PosixModel
from neatledger.core.lists.role import RoleModel

__all__ = ["MODELS"]

MODELS: dict[str, ListModel] = {model.name: model for model in (PosixModel(), NtModel(), Nfs4Model(), RoleModel())}
