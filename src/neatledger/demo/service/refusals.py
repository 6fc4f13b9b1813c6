"""Refusals that every part of the service words alike."""

from __future__ import annotations

from werkzeug.wrappers import Response

__all__ = ["not_allowed"]


def not_allowed(methods: str, message: str = "this cannot be done here") -> Response:
    """Refuse a method, and say which ones there are (RFC 9110 section 15.5.6)."""
    return Response(message, 405, headers={"Allow": methods})
