"""The sources by name: module and summary; adding one is a file beside this one and a row here."""

from __future__ import annotations

from importlib import import_module

from neatledger.sources.contract import Source

__all__ = ["SOURCES", "load_source"]

SOURCES: dict[str, tuple[str, str]] = {
    "dav": ("neatledger.sources.dav", "a WebDAV server, with lists of roles, team folders and links"),
    "directory": ("neatledger.sources.directory", "people and groups of a directory, and no folders"),
    "listing": ("neatledger.sources.listing", "exported CSV files, for a system that cannot be reached from here"),
    "smb": ("neatledger.sources.smb", "a live SMB server: its shares, with NT descriptors"),
    "tree": ("neatledger.sources.tree", "a folder on this machine or mounted on it, with POSIX lists"),
}


def load_source(name: str) -> Source:
    """Import a source's module, and return its reader."""
    source: Source = import_module(SOURCES[name][0]).read
    return source
