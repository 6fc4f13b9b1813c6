"""Many processes, here or on other machines, that do parts of a question: an existing engine hands these out.

What it sends can run code on either side, so it is only used where both sides are known by certificates. A part that
was lost with its worker is done again by another; what comes back comes in the order that was asked for, and only so
much is under way at once that nothing piles up.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any, TypeVar
from urllib.parse import urlsplit

from neatledger.core.people.credentials import LOOPBACK
from neatledger.errors import NeatError, UsageError
from neatledger.extras import extras_for
from neatledger.processes import Processes, guarded

__all__ = ["Cluster", "connect"]

A = TypeVar("A")
R = TypeVar("R")
_LOCAL, _TLS = "local:", "tls://"
_FILES = {"ca": "tls_ca_file", "certificate": "tls_client_cert", "key": "tls_client_key"}
_RETRIES = 5
_AHEAD = 3  # parts for each worker that are under way or wait to be taken
_PATIENCE_SECONDS = 10


class Cluster:
    """A client of a scheduler, and its workers."""

    def __init__(self, client: Any, where: str) -> None:
        self._client = client
        self._where = where

    def each(self, task: Callable[[A], R], items: Sequence[A]) -> Iterator[R]:
        """Yield what a task makes of each item, in their order; raises `NeatError` as the task does."""
        from distributed import KilledWorker

        waiting, running = deque(items), deque[Any]()
        ahead = max(1, len(self._client.scheduler_info()["workers"])) * _AHEAD
        try:
            while waiting or running:
                while waiting and len(running) < ahead:
                    running.append(
                        self._client.submit(guarded, task, waiting.popleft(), pure=False, retries=_RETRIES)
                    )
                future = running.popleft()
                failure, made = future.result()
                future.release()
                if failure:
                    raise NeatError(failure)
                yield made
        except KilledWorker as error:
            hint = "see whether their machines have memory enough, and ask again"
            raise NeatError("the workers of the cluster are lost one after another", self._where, hint) from error
        except (OSError, TimeoutError) as error:
            raise NeatError(
                f"the cluster is lost: {error}", self._where, "see its scheduler, and ask again"
            ) from error
        finally:
            for future in running:
                with suppress(Exception):
                    future.cancel()

    def close(self) -> None:
        """Leave the cluster."""
        self._client.close()


def connect(address: str, settings: Mapping[str, str], folder: Path) -> Cluster | Processes:
    """Return what does parts of questions: so many processes here (``local:4``), or a scheduler's workers.

    ``tls://host:8786`` is a scheduler that shows a certificate of an authority of the plan's, and is shown one;
    ``settings`` are the plan's ``workers``, with files beside the plan in ``folder``. ``tcp://`` is one that anybody
    can talk to who reaches it, and what it is sent can run code: it must be on this machine, and the plan must trust
    it by its address. Raises `UsageError` or `NeatError`.
    """
    if address.startswith(_LOCAL):
        number = address.removeprefix(_LOCAL)
        if not (number.isascii() and number.isdecimal()) or not 0 < int(number[:9]) < 1000:
            raise UsageError(f"{address!r} names no number of processes", hint="--on local:4")
        return Processes(int(number))
    host = _host_of(address)
    is_encrypted = address.startswith(_TLS)
    if not is_encrypted and settings.get("trusted") != address:
        where = "on this machine" if host in LOOPBACK else "over the network"
        hint = "start it with certificates, and say tls://"
        if host in LOOPBACK:
            hint += f"; or trust whoever is on this machine: workers: {{trusted: '{address}'}} in the plan"
        raise UsageError(f"anybody {where} could give this scheduler work to run", address, hint)
    if not is_encrypted and host not in LOOPBACK:
        raise UsageError("only a scheduler on this machine can be trusted without certificates", address, "tls://")
    files = _certificates(settings, folder, address) if is_encrypted else {}
    with extras_for("--on"):
        import dask
        import distributed
    # The library has no types of its own here.
    make_client: Any = distributed.Client
    make_security: Any = distributed.Security
    # Its own words are for who looks after it; ours are one line.
    dask.config.set(
        {"distributed.logging.distributed": "critical", "distributed.comm.timeouts.connect": f"{_PATIENCE_SECONDS}s"}
    )
    import logging

    for name in ("distributed", "distributed.nanny", "distributed.core", "distributed.comm", "tornado"):
        logging.getLogger(name).setLevel(logging.CRITICAL)
    try:
        security = make_security(require_encryption=is_encrypted, **files)
        # The library would take from its own settings what is not said here: an address that nobody named.
        return Cluster(make_client(address, timeout=_PATIENCE_SECONDS, security=security), address)
    except (OSError, TimeoutError, ValueError) as error:
        hint = "see that it runs, and that both sides' certificates are of the plan's authority"
        raise NeatError(f"no cluster is to be reached: {_plain(error)}", address, hint) from None


def _host_of(address: str) -> str:
    """Return the host of a scheduler's address; raises `UsageError`."""
    parts = urlsplit(address)
    try:
        is_told = parts.scheme in ("tls", "tcp") and bool(parts.hostname) and bool(parts.port)
    except ValueError:
        is_told = False
    if not is_told or parts.username is not None or parts.path or parts.query:
        shown = address if "@" not in address else f"{parts.scheme}://…"
        raise UsageError(f"{shown!r} names no scheduler", hint="--on tls://HOST:8786, or local:4")
    return str(parts.hostname)


def _certificates(settings: Mapping[str, str], folder: Path, address: str) -> dict[str, str]:
    """Return the files that both sides are checked by; raises `NeatError` where one is not named or not there."""
    found = {}
    for setting, theirs in _FILES.items():
        if setting not in settings:
            hint = "in the plan: workers: {ca: …, certificate: …, key: …}"
            raise NeatError(f"the plan names no {setting} for workers", address, hint)
        path = folder / settings[setting]
        try:
            path.read_bytes()
        except OSError as error:
            raise NeatError(f"the {setting} for workers cannot be read: {error.strerror}", str(path)) from None
        found[theirs] = str(path)
    return found


def _plain(error: Exception) -> str:
    """Return the innermost cause of an error in one line."""
    cause: BaseException = error
    while cause.__cause__ is not None or cause.__context__ is not None:
        cause = cause.__cause__ or cause.__context__ or cause
    return (str(cause) or type(cause).__name__).splitlines()[0]
