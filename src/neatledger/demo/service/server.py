"""The service itself: signs people in, does what faults are ordered, and hands requests on."""

from __future__ import annotations

import json
import math
import sqlite3
import threading
import time
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from types import TracebackType
from typing import Any

from werkzeug.exceptions import HTTPException
from werkzeug.serving import WSGIRequestHandler, make_server
from werkzeug.wrappers import Request, Response

from neatledger.demo.service.activity import note, what_was_done
from neatledger.demo.service.dav import answer_dav
from neatledger.demo.service.guesses import Guesses
from neatledger.demo.service.listing import answer_listing
from neatledger.demo.service.refusals import not_allowed
from neatledger.demo.service.scim import answer_scim
from neatledger.demo.service.store import Store

__all__ = ["FAULTS", "Service"]

FAULTS = ("slow", "half", "status", "expired", "changed")
"""Faults that can be ordered: wait; send half an answer; a status with Retry-After; end all tokens; change a row."""
_PARTS: dict[str, Callable[[Request, Store, str], Response]] = {
    "scim/v2": answer_scim,
    "dav": answer_dav,
    "sharing": answer_listing,
}


_CHANGING = ("PUT", "POST", "DELETE", "PATCH", "PROPPATCH", "MKCOL", "MOVE", "COPY", "LOCK", "ACL")
_FAULT_FIELDS: dict[str, type | tuple[type, ...]] = {
    "path": str, "table": str, "after": int, "times": int, "seconds": (int, float), "status": int,
    "retry-after": (int, str), "row": (dict, type(None)),
}  # fmt: skip


class _Quiet(WSGIRequestHandler):
    def log(self, type: str, message: str, *args: Any) -> None:
        """Say nothing: requests carry names."""


class Service:
    """The running service: `url` is where, on loopback; its file holds everything through restarts."""

    def __init__(self, path: Path, port: int = 0) -> None:
        self.path = path
        self._port = port
        self._guesses = Guesses()

    def __enter__(self) -> Service:
        self.store = Store(self.path)
        self._server = make_server("127.0.0.1", self._port, self._answer, threaded=True, request_handler=_Quiet)
        self._port = self._server.server_port
        self.url = f"http://127.0.0.1:{self._port}"
        self._thread = threading.Thread(
            target=self._server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True
        )
        self._thread.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._server.shutdown()
        self._thread.join()
        self._server.server_close()
        self.store.close()

    def _answer(self, environ: dict[str, Any], start: Callable[..., Any]) -> Iterable[bytes]:
        request = Request(environ)
        response = self._handle(request)
        fault = self.store.take_fault(request.path) if request.path != "/faults" else None
        if fault is not None:
            changed = self._spoil(fault, response)
            if isinstance(changed, Response):
                response = changed
            else:
                start(response.status, list(response.headers))
                return changed
        return response(environ, start)

    def _handle(self, request: Request) -> Response:
        try:
            return self._handle_sound(request)
        except (ValueError, TypeError, KeyError, OverflowError, RecursionError, sqlite3.Error, HTTPException):
            # Whatever was sent, it is the sender's fault and no failure of ours.
            return Response("this cannot be understood", 400)

    def _handle_sound(self, request: Request) -> Response:
        if request.path == "/token":
            given = self._sign_in(request) if request.method == "POST" else not_allowed("OPTIONS, POST")
            if given.status_code in (200, 401) and request.authorization is not None:
                note(self.store, request, request.authorization.username or "", "sign-in", given)
            return given
        login, wait = self._who(request)
        if wait:
            return self._too_many(wait)
        if login is None:
            if request.authorization is not None and request.authorization.type == "basic":
                note(self.store, request, request.authorization.username or "", "sign-in", Response(status=401))
            challenge = {"WWW-Authenticate": 'Bearer realm="service", Basic realm="service"'}
            return Response("sign in first", 401, headers=challenge)
        if request.method in _CHANGING and not self.store.may_change(login):
            refused = Response("this account may only read", 403)
            did = what_was_done(request.path.strip("/").partition("/")[0], request)
            if did:
                note(self.store, request, login, did, refused)
            return refused
        if request.path == "/faults":
            return self._order(request) if request.method == "POST" else not_allowed("OPTIONS, POST")
        for prefix, answer in _PARTS.items():
            if request.path == f"/{prefix}" or request.path.startswith(f"/{prefix}/"):
                done = answer(request, self.store, request.path[len(prefix) + 2 :])
                did = what_was_done(prefix, request)
                if did and done.status_code not in (400, 404, 405, 412):
                    note(self.store, request, login, did, done)
                return done
        return Response("there is nothing here", 404)

    @staticmethod
    def _too_many(wait: float) -> Response:
        """Say that too many passwords were tried (RFC 6585 section 4)."""
        return Response("too many wrong passwords", 429, headers={"Retry-After": str(math.ceil(wait))})

    def _who(self, request: Request) -> tuple[str | None, float]:
        """Return who has signed in, None for nobody; and for how many seconds nobody may try to any more."""
        found = request.authorization
        if found is None:
            return None, 0.0
        if found.type == "bearer":
            return self.store.login_of(found.token or ""), 0.0
        if found.type != "basic":
            return None, 0.0
        return self._check_password(found.username or "", found.password or "")

    def _check_password(self, login: str, password: str) -> tuple[str | None, float]:
        wait = self._guesses.wait_of(login)
        if wait > 0:
            return None, wait
        is_right = self.store.is_password(login, password)
        self._guesses.note(login, is_right=is_right)
        return (login if is_right else None), 0.0

    def _sign_in(self, request: Request) -> Response:
        """Give a token for the client's credentials (RFC 6749 sections 4.4 and 5)."""
        found = request.authorization
        if request.form.get("grant_type") != "client_credentials":
            return _json(400, {"error": "unsupported_grant_type"})
        login, wait = None, 0.0
        if found is not None and found.type == "basic":
            login, wait = self._check_password(found.username or "", found.password or "")
        if wait:
            return self._too_many(wait)
        if login is None:
            # Section 5.2: with the scheme that the client used.
            answer = _json(401, {"error": "invalid_client"})
            answer.headers["WWW-Authenticate"] = 'Basic realm="service"'
            return answer
        token, seconds = self.store.new_token(login)
        answer = _json(200, {"access_token": token, "token_type": "Bearer", "expires_in": int(seconds)})
        answer.headers["Cache-Control"] = "no-store"
        return answer

    def _order(self, request: Request) -> Response:
        fault = request.get_json(silent=True)
        if not isinstance(fault, dict) or fault.get("kind") not in FAULTS:
            return _json(400, {"error": f"a fault has a kind: {', '.join(FAULTS)}"})
        for name, sort in _FAULT_FIELDS.items():
            if name in fault and not isinstance(fault[name], sort):
                return _json(400, {"error": f"{name} is not of the right sort"})
        self.store.order_fault(fault)
        return Response(status=204)

    def _spoil(self, fault: dict[str, Any], response: Response) -> Response | Iterable[bytes]:
        match fault["kind"]:
            case "slow":
                time.sleep(float(fault.get("seconds", 1)))
            case "status":
                headers = {"Retry-After": str(fault["retry-after"])} if "retry-after" in fault else {}
                return Response("later", int(fault.get("status", 503)), headers=headers)
            case "expired":
                self.store.end_tokens()
                return Response("sign in again", 401, headers={"WWW-Authenticate": 'Bearer error="invalid_token"'})
            case "changed":
                self.store.move_first_user()
                self.store.put_row(str(fault.get("table", "links")), "999999", fault.get("row"))
            case "half":
                body = response.get_data()
                response.headers["Content-Length"] = str(len(body))
                return _half(body)
        return response


def _half(body: bytes) -> Iterator[bytes]:
    yield body[: len(body) // 2]


def _json(status: int, body: dict[str, Any]) -> Response:
    return Response(json.dumps(body), status, mimetype="application/json")
