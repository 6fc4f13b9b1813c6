"""What the service writes down of what was done, for its own table ``activity`` (docs/sharing.md)."""

from __future__ import annotations

from datetime import UTC, datetime

from werkzeug.wrappers import Request, Response

from neatledger.demo.service.store import Store

__all__ = ["note", "what_was_done"]

_OF_SHARING = {"links": "share", "hand-outs": "share", "teams": "rights", "team-members": "rights"}


def what_was_done(part: str, request: Request) -> str:
    """Return what a request does, by the part of the service that it asks; empty for what only looks."""
    if part == "dav":
        return "open" if request.method == "GET" else ""
    if request.method in ("GET", "HEAD", "OPTIONS"):
        return ""
    if part == "sharing":
        table = request.path.strip("/").partition("/")[2].partition("/")[0]
        return "account" if table in ("guests", "standing", "devices") else _OF_SHARING.get(table, "")
    return "account" if part == "scim" else ""


def note(store: Store, request: Request, login: str, did: str, answer: Response) -> None:
    """Write down who did what, from where, and whether it was let through."""
    is_file = request.path.startswith("/dav/") and did != "sign-in"
    store.note_activity(
        {
            "when": datetime.now(UTC).isoformat(timespec="seconds"),
            "who": login,
            "did": did,
            "path": request.path.removeprefix("/dav") if is_file else "",
            "done": answer.status_code < 400,
            "address": request.remote_addr or "",
            "device": request.user_agent.string,
            # Of a link the address is a secret: only what sort of thing it was is told.
            "detail": "" if is_file or did == "sign-in" else "/".join(request.path.split("/")[1:3]),
        }
    )
