"""Processes of this machine that do parts of a question, for this run only.

They are asked over pipes without a name, which nobody else can open: what goes through them is Python's own form of
objects, and whoever could send such could run what they like. No password of this environment reaches theirs.
"""

from __future__ import annotations

import multiprocessing
import os
import signal
import threading
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from dataclasses import dataclass
from multiprocessing.connection import wait
from typing import Generic, TypeVar

from neatledger.errors import NeatError

__all__ = ["Processes", "guarded", "undisturbed", "without_passwords"]

A = TypeVar("A")
R = TypeVar("R")
_AHEAD = 3  # parts for each process that are under way or wait to be taken
_MOST_LOSSES = 5  # one after another, with no part done in between
_SECRET_WORDS = ("PASSWORD", "PASSPHRASE", "SECRET", "TOKEN", "CREDENTIAL")
_OF_LEDGER = "PGPASSWORD"


@dataclass
class _Part(Generic[A, R]):
    """An item, and what will come of it once a process was asked."""

    item: A
    future: Future[tuple[str, R | None]] | None = None

    def result(self) -> tuple[str, R | None]:
        """Wait for what comes of it; raises `BrokenProcessPool` where its process is lost."""
        assert self.future is not None
        return self.future.result()

    def forget_unless_done(self) -> None:
        """Take what was asked for not asked, where it came to nothing."""
        future = self.future
        if future is not None and not (future.done() and not future.cancelled() and future.exception() is None):
            self.future = None


class Processes:
    """So many processes, each started when there is a part for it, and started again when it is lost."""

    def __init__(self, number: int) -> None:
        self._number = number
        self._pool: ProcessPoolExecutor | None = None

    def each(self, task: Callable[[A], R], items: Sequence[A]) -> Iterator[R]:
        """Yield what a task makes of each item, in their order; raises `NeatError` as the task does.

        A part that was lost with its process is done again by another.
        """
        waiting = deque(items)
        under_way: deque[_Part[A, R]] = deque()
        losses = 0
        try:
            while waiting or under_way:
                while waiting and len(under_way) < self._number * _AHEAD:
                    under_way.append(_Part(waiting.popleft()))
                try:
                    for part in under_way:
                        if part.future is None:
                            part.future = self._submit(task, part.item)
                    failure, made = under_way[0].result()
                except BrokenProcessPool as error:
                    losses += 1
                    if losses > _MOST_LOSSES:
                        hint = "see whether the machine has memory enough, and ask again with fewer"
                        raise NeatError("the processes are lost one after another", "--on local", hint) from error
                    # All that was under way went with them, but for what was done by then.
                    self._end()
                    for part in under_way:
                        part.forget_unless_done()
                    continue
                under_way.popleft()
                losses = 0
                if failure:
                    raise NeatError(failure)
                yield made  # type: ignore[misc]
        finally:
            for part in under_way:
                if part.future is not None:
                    part.future.cancel()

    def close(self) -> None:
        """End the processes, without waiting for what they are at."""
        if self._pool is None:
            return
        self._pool.shutdown(wait=False, cancel_futures=True)
        for process in multiprocessing.active_children():
            process.terminate()
        self._end()

    def _end(self) -> None:
        if self._pool is not None:
            self._pool.shutdown(wait=True, cancel_futures=True)
            self._pool = None

    def _submit(self, task: Callable[[A], R], item: A) -> Future[tuple[str, R | None]]:
        if self._pool is None:
            known = os.environ.get(_OF_LEDGER, "")
            self._pool = ProcessPoolExecutor(
                self._number, multiprocessing.get_context("spawn"), initializer=_begin, initargs=(known,)
            )
        # A process begins with the first part that finds none free: its environment is that of this moment.
        with without_passwords(), undisturbed():
            return self._pool.submit(guarded, task, item)


def guarded(task: Callable[[A], R], item: A) -> tuple[str, R | None]:
    """Do a part; what goes wrong in its own words comes back as such, and is not tried again."""
    try:
        return "", task(item)
    except NeatError as error:
        return str(error), None


@contextmanager
def without_passwords() -> Iterator[None]:
    """Take out of the environment whatever is called a secret, until the end: what begins meanwhile never has it."""
    kept = {name: text for name, text in os.environ.items() if any(word in name.upper() for word in _SECRET_WORDS)}
    for name in kept:
        del os.environ[name]
    try:
        yield
    finally:
        os.environ.update(kept)


@contextmanager
def undisturbed() -> Iterator[None]:
    """Keep Ctrl-C waiting: what comes while a process is made would be told by a half-made one in its own words."""
    if not hasattr(signal, "pthread_sigmask"):
        yield
        return
    before = signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGINT})
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)


def _begin(ledger_password: str) -> None:
    """Begin in a process of its own; the shared ledger's password is known to it by its memory, and nowhere else."""
    # Ctrl-C reaches the whole process group; the parent alone decides what it means.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    if hasattr(signal, "pthread_sigmask"):
        signal.pthread_sigmask(signal.SIG_UNBLOCK, {signal.SIGINT})
    if ledger_password:
        os.environ[_OF_LEDGER] = ledger_password
    threading.Thread(target=_end_with_parent, daemon=True).start()


def _end_with_parent() -> None:
    parent = multiprocessing.parent_process()
    if parent is not None:
        wait([parent.sentinel])
        os._exit(1)
