"""A symmetric positive definite matrix in square tiles: Cholesky factor, solution, and the inverse
where it is needed.

The reduced camera matrix couples two cameras if they see a point in common. With tracks of bounded
length it is a band, with loops a band with islands. It is kept in tiles of some sixteen cameras, of
which only those that can be different from zero exist, the fill of the factorisation included.
Everything is done tile by tile with BLAS, so that time and memory grow linearly with the number of
frames.

`selected_inverse` gives those tiles of the inverse that lie where the factor has tiles, by the
recursion of Takahashi, Fagan and Chin (1973; see Triggs et al. 2000, section 9, and Erisman and
Tinney 1975; cited from memory): with A = L Lᵀ and G = L_ik L_kk⁻¹ for the rows i > k of a column k,

    Z_ik = − Σ_j Z_ij G_j,        Z_kk = L_kk⁻ᵀ L_kk⁻¹ − Σ_j G_jᵀ Z_jk,

from the last column to the first. The whole inverse is never formed.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numba import njit


class Pattern:
    """Which tiles exist, in the factor. `index` (T, T): the number of a tile in the lower half, or
    −1.

    Parameters
    ----------
    count : int
        How many tiles lie on the diagonal.
    pairs : iterable of (int, int)
        The tiles off the diagonal that are not zero.
    """

    def __init__(self, count: int, pairs: Iterable[tuple[int, int]]) -> None:
        present = np.eye(count, dtype=bool)
        for a, b in pairs:
            present[max(a, b), min(a, b)] = True
        for column in range(count):
            rows = np.flatnonzero(present[column + 1 :, column]) + column + 1
            for row in rows:
                present[row, rows[rows <= row]] = True
        self.count = count
        self.rows, self.columns = np.nonzero(np.tril(present))
        self.index = np.full((count, count), -1)
        self.index[self.rows, self.columns] = np.arange(len(self.rows))
        below = [
            np.flatnonzero(present[column + 1 :, column]) + column + 1 for column in range(count)
        ]
        self.below_starts = np.concatenate([[0], np.cumsum([len(rows) for rows in below])])
        self.below = np.concatenate(below).astype(np.int64) if below else np.zeros(0, np.int64)

    def __len__(self) -> int:
        return len(self.rows)


@njit(cache=True, nogil=True)
def cholesky(tiles, inverses, index, below_starts, below):
    """Factor the tiles (K, n, n) in place; `inverses` (T, n, n) get L_kk⁻¹. Returns whether it is
    positive definite."""
    count, n = inverses.shape[0], inverses.shape[1]
    buffer = np.empty((n, n))
    for k in range(count):
        own = index[k, k]
        for j in range(k):
            if index[k, j] >= 0:
                left = tiles[index[k, j]]
                np.dot(left, left.T, buffer)
                tiles[own] -= buffer
        diagonal = tiles[own]
        for c in range(n):
            pivot = diagonal[c, c]
            for j in range(c):
                pivot -= diagonal[c, j] * diagonal[c, j]
            if not pivot > 0.0:
                return False
            pivot = np.sqrt(pivot)
            diagonal[c, c] = pivot
            over = 1.0 / pivot
            for row in range(c + 1, n):
                value = diagonal[row, c]
                for j in range(c):
                    value -= diagonal[row, j] * diagonal[c, j]
                diagonal[row, c] = value * over
            for j in range(c + 1, n):
                diagonal[c, j] = 0.0
        inverse = inverses[k]
        for j in range(n):
            for i in range(j):
                inverse[i, j] = 0.0
            inverse[j, j] = 1.0 / diagonal[j, j]
            for i in range(j + 1, n):
                value = 0.0
                for c in range(j, i):
                    value += diagonal[i, c] * inverse[c, j]
                inverse[i, j] = -value / diagonal[i, i]
        for place in range(below_starts[k], below_starts[k + 1]):
            row = below[place]
            tile = tiles[index[row, k]]
            for j in range(k):
                if index[row, j] >= 0 and index[k, j] >= 0:
                    np.dot(tiles[index[row, j]], tiles[index[k, j]].T, buffer)
                    tile -= buffer
            np.dot(tile, inverse.T, buffer)
            tile[:] = buffer
    return True


@njit(cache=True, nogil=True)
def solve(tiles, inverses, index, below_starts, below, x):
    """Replace the right-hand sides `x` (T, n, m) by the solutions."""
    count = inverses.shape[0]
    for k in range(count):
        x[k] = np.dot(inverses[k], x[k])
        for place in range(below_starts[k], below_starts[k + 1]):
            row = below[place]
            x[row] -= np.dot(tiles[index[row, k]], x[k])
    for k in range(count - 1, -1, -1):
        for place in range(below_starts[k], below_starts[k + 1]):
            row = below[place]
            x[k] -= np.dot(tiles[index[row, k]].T, x[row])
        x[k] = np.dot(inverses[k].T, x[k])


@njit(cache=True, nogil=True)
def selected_inverse(tiles, inverses, index, below_starts, below, inverse):
    """Fill `inverse` (K, n, n): the tiles of the inverse that the factor has; of the diagonal ones,
    all of it."""
    count, n = inverses.shape[0], inverses.shape[1]
    steps = np.empty((count, n, n))
    buffer = np.empty((n, n))
    for k in range(count - 1, -1, -1):
        first, last = below_starts[k], below_starts[k + 1]
        for place in range(first, last):
            row = below[place]
            np.dot(tiles[index[row, k]], inverses[k], steps[row])
        for place in range(first, last):
            i = below[place]
            total = np.zeros((n, n))
            for other in range(first, last):
                j = below[other]
                if i >= j:
                    np.dot(inverse[index[i, j]], steps[j], buffer)
                else:
                    np.dot(inverse[index[j, i]].T, steps[j], buffer)
                total -= buffer
            inverse[index[i, k]] = total
        own = np.dot(inverses[k].T, inverses[k])
        for place in range(first, last):
            row = below[place]
            np.dot(steps[row].T, inverse[index[row, k]], buffer)
            own -= buffer
        for i in range(n):
            for j in range(i):
                middle = 0.5 * (own[i, j] + own[j, i])
                own[i, j] = own[j, i] = middle
        inverse[index[k, k]] = own
