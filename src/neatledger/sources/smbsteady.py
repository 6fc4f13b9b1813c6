"""A session with an SMB server that is made anew where the server goes away and comes back."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any, TypeVar

from neatledger.core.people.credentials import Credentials
from neatledger.errors import SourceError
from neatledger.sources.smberrors import Forged, Lost
from neatledger.sources.smbsession import SmbSession, SmbTree, Terms
from neatledger.sources.smbwire import Wire

__all__ = ["SteadySession"]

_WAITS = (0.25, 0.5, 1.0, 2.0, 4.0)
"""Seconds before each new try to reach a server that went away."""

T = TypeVar("T")


class SteadySession:
    """A session that is made anew where the server goes away and comes back; use as a context.

    What was under way is asked once more, whole. Where the server stays away through `_WAITS`, or goes away each time
    that it is asked the same, it is given up: raises `SourceError`. `tell` is called with what is being waited for;
    `losses` is how often it went away.
    """

    def __init__(self, terms: Terms, credentials: Credentials, tell: Callable[[str], None] = lambda _: None) -> None:
        self.terms = terms
        self._credentials = credentials
        self._tell = tell
        self._trees: dict[str, SmbTree] = {}
        self._session: SmbSession | None = None
        self.losses = 0
        self._was_in = False
        try:
            self._session = SmbSession(terms, credentials)
        except Lost as error:
            self.return_to(error)
        self._was_in = True

    def __enter__(self) -> SteadySession:
        return self

    def __exit__(self, *_: object) -> None:
        if self._session is not None:
            self._session.__exit__()

    @property
    def is_encrypted(self) -> bool:
        """Tell whether what goes over the network is encrypted."""
        return self._session is not None and self._session.is_encrypted

    def ask(self, question: Callable[[SmbSession], T]) -> T:
        """Ask something of the server; raises `Refused` where it says no, and `SourceError` where it stays away."""
        for wait in (*_WAITS, None):
            try:
                assert self._session is not None
                return question(self._session)
            except Lost as error:
                if wait is None:
                    raise self.away(error) from None
                self.return_to(error)
        raise AssertionError("the last try returns or raises")

    def on(self, share: str, question: Callable[[SmbTree], T]) -> T:
        """Ask something of a share; raises as `ask` does."""

        def asked(session: SmbSession) -> T:
            if share not in self._trees:
                self._trees[share] = session.tree(share)
            return question(self._trees[share])

        return self.ask(asked)

    def wire(self, share: str) -> tuple[Wire[Any], int] | None:
        """Open a connection besides on which much of a share can be asked for at once, as `SmbSession.wire` does."""
        for wait in (*_WAITS, None):
            session: SmbSession | None = None
            try:
                session = SmbSession(self.terms, self._credentials)
                found = session.wire(share)
                if found is None:
                    session.__exit__()
                return found
            except SourceError as error:
                # It let this account in a moment ago.
                raise self.away(error) from None
            except Lost as error:
                if session is not None:
                    session.__exit__()
                if wait is None:
                    raise self.away(error) from None
                self.return_to(error)
        raise AssertionError("the last try returns or raises")

    def return_to(self, lost: Lost) -> None:
        """Wait for the server and sign in again; raises `SourceError` where it stays away."""
        self._trees.clear()
        self.losses += 1
        self.__exit__()
        if isinstance(lost, Forged):
            # Nobody goes on talking to whoever is in between.
            raise self.away(lost)
        last: Exception = lost
        for wait in _WAITS:
            self._tell(f"the server went away ({last}); trying again in {wait:g} s")
            time.sleep(wait)
            try:
                self._session = SmbSession(self.terms, self._credentials)
            except Forged as error:
                raise self.away(error) from None
            except (SourceError, Lost) as error:
                last = error
                continue
            return
        raise self.away(last)

    def away(self, error: Exception) -> SourceError:
        """Return the error of a server that went away and stays away."""
        where = f"{self.terms.host}:{self.terms.port}"
        if isinstance(error, Forged):
            hint = "nothing of it was kept; find out what is between here and the server before you sign in again"
            return SourceError(f"somebody between here and the server answers in its place: {error}", where, hint)
        why = error.what if isinstance(error, SourceError) else str(error)
        if not self._was_in:
            hint = "see host and port in the plan: is it an SMB server, and is it running?"
            return SourceError(f"the connection ends before anybody is signed in: {why}", where, hint)
        message = f"the server went away while it was read: {why}"
        return SourceError(message, where, "nothing of it was kept; count again")
