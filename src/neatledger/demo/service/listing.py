"""The service's own listing of what it shares, table by table, as docs/sharing.md has it."""

from __future__ import annotations

import json
from typing import Any

from werkzeug.wrappers import Request, Response

from neatledger.demo.service.store import Store

__all__ = ["answer_listing"]

_MOST = 1000


def answer_listing(request: Request, store: Store, rest: str) -> Response:
    """Answer a request below /sharing: a page of a table; or set or remove a row of one."""
    name, _, ident = rest.partition("/")
    if request.method == "GET" and not ident:
        try:
            first, count = int(request.args.get("from", 0)), int(request.args.get("count", _MOST))
        except ValueError:
            return _json(400, {"error": "from and count are whole numbers"})
        mark, total, rows = store.page(name, max(0, first), max(0, min(_MOST, count)))
        items, idents = [row for _, row in rows], [ident for ident, _ in rows]
        answer = {"table": name, "mark": mark, "total": total, "from": first, "items": items, "ids": idents}
        return _json(200, answer)
    if request.method in ("PUT", "DELETE") and ident:
        row = request.get_json(silent=True) if request.method == "PUT" else None
        if request.method == "PUT" and not isinstance(row, dict):
            return _json(400, {"error": "a row is a JSON object"})
        match = request.headers.get("If-Match", "").strip('"')
        if match and not match.isdecimal():
            return _json(400, {"error": "If-Match is the table's mark"})
        if not store.put_row(name, ident, row, int(match) if match else None):
            return _json(412, {"error": "the table has changed since"})
        return Response(status=204)
    refused = _json(405, {"error": "GET a table, or PUT or DELETE a row of it"})
    refused.headers["Allow"] = "PUT, DELETE" if ident else "GET"
    return refused


def _json(status: int, body: dict[str, Any]) -> Response:
    return Response(json.dumps(body), status, mimetype="application/json")
