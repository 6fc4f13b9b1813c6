"""The directory library, made to take nothing from an answer that is none.

It has had no release for years, and takes answers apart without looking whether they are any: each is held against
RFC 4511 before it gets to see it. Nothing is waited for without an end, and what came before TLS is forgotten.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

from neatledger.errors import UNREADABLE, FormatError, SourceError
from neatledger.formats.ldapmessage import REFERRAL, check_answer, size_of

__all__ = ["make_sound"]

_PIECE = 65536
_LONGEST = 120.0
"""Seconds that one answer may take from its first octet to its last."""


def make_sound(connection: Any, where: str) -> None:
    """Have a connection that is not open yet check what it receives; raises what it raised, and `SourceError`."""
    strategy = connection.strategy
    strategy.receiving = _Receiver(connection, where)
    strategy.get_response = _told(strategy.get_response)


def _told(get_response: Callable[..., Any]) -> Callable[..., Any]:
    from ldap3.core.exceptions import LDAPException, LDAPUnknownResponseError

    def sound(*words: Any, **more: Any) -> Any:
        try:
            return get_response(*words, **more)
        except LDAPException:
            raise
        except UNREADABLE as error:
            raise LDAPUnknownResponseError(f"an answer that cannot be read ({type(error).__name__})") from None

    return sound


class _Receiver:
    """Gives the library whole answers, each checked."""

    def __init__(self, connection: Any, where: str) -> None:
        self._connection, self._where = connection, where
        self._source: Any = None
        self._held = b""

    def __call__(self) -> list[bytes]:
        """Return the next answers, at least one; none where the directory hung up."""
        from ldap3.core.exceptions import LDAPSocketReceiveError, LDAPUnknownResponseError

        source = self._connection.socket
        if source is not self._source:
            if self._held:
                # Whoever is in between could have put it there (RFC 4511 4.14.1 leaves it no place).
                raise LDAPUnknownResponseError("something was said in the clear where TLS was to begin")
            self._source = source
        until = time.monotonic() + _LONGEST
        try:
            while not (found := self._take_whole()):
                if time.monotonic() > until:
                    raise LDAPSocketReceiveError(f"an answer that is not all there after {_LONGEST:g} seconds")
                piece = source.recv(_PIECE)
                if not piece:
                    return []
                self._held += piece
        except FormatError as error:
            raise LDAPUnknownResponseError(f"an answer that is none: {error.what}") from None
        except (OSError, AttributeError) as error:
            raise LDAPSocketReceiveError(f"error receiving data: {error}") from None
        return found

    def _take_whole(self) -> list[bytes]:
        found = []
        at = 0
        while at < len(self._held):
            # Its head tells its length; copying all that is held for each would take its time.
            size = size_of(self._held[at : at + 10])
            if size is None or at + size > len(self._held):
                break
            answer = self._held[at : at + size]
            told = check_answer(answer)
            if told.result == REFERRAL and not told.is_search_result:
                # The library takes it for a yes, or for nothing that it knows.
                places = " or ".join(filter(None, told.places)) or "nowhere"
                hint = "name that server in the plan, if it is one of the office's"
                raise SourceError(
                    f"the directory refers to another, which was not asked: {places}", self._where, hint
                )
            found.append(answer)
            at += size
        self._held = self._held[at:]
        return found
