"""Many processes, here or on other machines, that do parts of a question: an existing engine hands these out.

A part that was lost with its worker is done again by another; what comes back comes in the order that was asked for,
and only so much is under way at once that nothing piles up.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from typing import Any, TypeVar

from neatledger.errors import NeatError, UsageError
from neatledger.extras import extras_for

__all__ = ["Cluster", "connect"]

A = TypeVar("A")
R = TypeVar("R")
_LOCAL = "local:"
_ANY_PORT = "127.0.0.1:0"
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
                        self._client.submit(_guarded, task, waiting.popleft(), pure=False, retries=_RETRIES)
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
        """Leave the cluster; one of this process's own ends."""
        cluster = self._client.cluster
        self._client.close()
        if cluster is not None:
            cluster.close()


def _guarded(task: Callable[[A], R], item: A) -> tuple[str, R | None]:
    """Do a part on a worker; what goes wrong in its own words comes back as such, and is not tried again."""
    try:
        return "", task(item)
    except NeatError as error:
        return str(error), None


def connect(address: str) -> Cluster:
    """Return a cluster: of a scheduler (``tcp://host:8786``), or of so many processes here (``local:4``).

    Raises `UsageError` or `NeatError`.
    """
    with extras_for("--on"):
        import dask
        import distributed
    # The library has no types of its own here.
    make_client: Any = distributed.Client
    make_cluster: Any = distributed.LocalCluster
    # Its own words are for who looks after it; ours are one line.
    dask.config.set({"distributed.logging.distributed": "critical", "distributed.comm.timeouts.connect": "10s"})
    import logging

    for name in ("distributed", "distributed.nanny", "distributed.core", "distributed.comm", "tornado"):
        logging.getLogger(name).setLevel(logging.CRITICAL)
    try:
        if address.startswith(_LOCAL):
            number = address.removeprefix(_LOCAL)
            if not number.isdecimal() or not 0 < int(number) < 1000:
                raise UsageError(f"{address!r} names no number of processes", hint="--on local:4")
            # One thread each: a part is work for a whole processor, and keeps what it read for the next.
            local = make_cluster(
                n_workers=int(number),
                threads_per_worker=1,
                dashboard_address=_ANY_PORT,
                host="127.0.0.1",
                silence_logs=50,
            )
            return Cluster(make_client(local), address)
        return Cluster(make_client(address, timeout=_PATIENCE_SECONDS), address)
    except (OSError, TimeoutError, ValueError) as error:
        raise NeatError(
            f"no cluster is to be reached: {error}", address, "--on tcp://HOST:8786, or local:4"
        ) from None
