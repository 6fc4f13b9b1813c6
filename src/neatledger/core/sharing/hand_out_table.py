"""What is handed out, for all principals on many folders: each situation is settled once, whoever shares it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.bits import Bits, RowIndex, pack_sets
from neatledger.core.lists.rights import Right
from neatledger.core.sharing.chains import ResolvedHandOut, resolve_chains

__all__ = ["HandOutTable", "scatter"]


class HandOutTable:
    """Hand-outs by marked folder; a situation is a mark with what its givers have of their own."""

    def __init__(self, ready: Sequence[Sequence[ResolvedHandOut]], words: int) -> None:
        self._ready = ready
        self._words = words
        self._numbers: dict[tuple[bool, int, bytes], int] = {}
        self._settled: list[dict[int, int]] = [{}]
        sets = []
        for each in ready:
            givers = 0
            for one in each:
                givers |= 1 << one.giver if one.giver is not None else 0
            sets.append(givers)
        self._givers = pack_sets(sets, words)
        self._is_untold = np.array([any(one.hand_out.is_untold for one in each) for each in ready], dtype=bool)

    def bits(
        self, marks: RowIndex, own: Mapping[Right, Bits], rights: Sequence[Right], *, of_files: bool
    ) -> dict[Right, Bits]:
        """Return what is handed where, from what givers have of their own there.

        `rights` are those to look at, with `Right.UNSURE` for what is unknown.
        """
        found = {right: np.zeros((len(marks), self._words), dtype=np.uint64) for right in rights}
        givers = self._givers[marks]
        some = np.flatnonzero(givers.any(axis=1) | self._is_untold[marks])
        if not len(some):
            return found
        # Only what givers have decides: folders where these have the same are one situation, settled once.
        table = np.concatenate([own[right][some] & givers[some] for right in rights], axis=1)
        keys = np.ascontiguousarray(np.concatenate([marks[some].astype(np.uint64)[:, None], table], axis=1))
        rows = keys.view(np.dtype((np.void, keys.itemsize * keys.shape[1]))).reshape(-1)
        # A row of bytes is compared as one thing, which is far quicker than column by column.
        _, first, which = np.unique(rows, return_index=True, return_inverse=True)
        numbers = [self._settle(int(marks[some[place]]), table[place], rights, of_files) for place in first.tolist()]
        distinct, local = np.unique(np.asarray(numbers)[which.reshape(-1)], return_inverse=True)
        bits = scatter([self._settled[number] for number in distinct.tolist()], rights, self._words)
        for right in rights:
            found[right][some] = bits[right][local]
        return found

    def _settle(self, mark: int, table: NDArray[np.uint64], rights: Sequence[Right], of_files: bool) -> int:
        """Return the number of a situation, worked out when it is first met."""
        key = (of_files, mark, table.tobytes())
        number = self._numbers.get(key)
        if number is None:
            resolved = self._ready[mark]
            words = [int.from_bytes(part.tobytes(), "little") for part in table.reshape(len(rights), self._words)]
            own: dict[int, int] = {}
            for giver in {one.giver for one in resolved if one.giver is not None}:
                own[giver] = sum(int(right) for right, bits in zip(rights, words, strict=True) if bits >> giver & 1)
            number = self._numbers[key] = len(self._settled)
            self._settled.append(resolve_chains(resolved, own, of_files=of_files))
        return number


def scatter(found: Sequence[Mapping[int, int]], rights: Iterable[Right], words: int) -> dict[Right, Bits]:
    """Return rows of principal → rights as bits, right by right."""
    triples = [(row, principal, given) for row, each in enumerate(found) for principal, given in each.items()]
    rows, principals, given = np.array(triples, dtype=np.int64).reshape(-1, 3).T
    bits: dict[Right, Bits] = {}
    for right in rights:
        bits[right] = np.zeros((len(found), words), dtype=np.uint64)
        hit = (given & int(right)) != 0
        one = np.uint64(1) << (principals[hit] & 63).astype(np.uint64)
        # Several hand-outs may give one person the same right on one row.
        np.bitwise_or.at(bits[right], (rows[hit], principals[hit] >> 6), one)
    return bits
