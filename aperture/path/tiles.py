"""A symmetric positive definite matrix in square tiles: Cholesky factor, solution, and the inverse
where it is needed.

The reduced camera matrix couples two cameras if they see a point in common. With tracks of bounded
length it is a band, with loops a band with islands. It is kept in tiles of some ten cameras, of
which only those of the upper half exist that can be different from zero, the fill of the
factorisation included. Everything is done tile by tile with BLAS, so that time and memory grow
linearly with the number of frames.

It is the upper half, A = Uᵀ U, because the products that are needed are then of the kind XᵀY and
XY: OpenBLAS has kernels for small matrices of these, nearly twice as fast as for XYᵀ.

`selected_inverse` gives those tiles of the inverse that lie where the factor has tiles, by the
recursion of Takahashi, Fagan and Chin (1973; see Triggs et al. 2000, section 9, and Erisman and
Tinney 1975; cited from memory): with G_i = U_kiᵀ U_kk⁻ᵀ for the columns i > k of a row k,

    Z_ik = − Σ_j Z_ij G_j,        Z_kk = U_kk⁻¹ U_kk⁻ᵀ − Σ_i G_iᵀ Z_ik,

from the last row to the first. The whole inverse is never formed.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numba import njit


class Pattern:
    """Which tiles exist, in the factor. `index` (T, T): the number of a tile in the upper half, or
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
            present[min(a, b), max(a, b)] = True
        for row in range(count):
            columns = np.flatnonzero(present[row, row + 1 :]) + row + 1
            for column in columns:
                present[column, columns[columns >= column]] = True
        self.count = count
        self.rows, self.columns = np.nonzero(np.triu(present))
        self.index = np.full((count, count), -1)
        self.index[self.rows, self.columns] = np.arange(len(self.rows))
        right = [np.flatnonzero(present[row, row + 1 :]) + row + 1 for row in range(count)]
        self.right_starts = np.concatenate([[0], np.cumsum([len(columns) for columns in right])])
        self.right = np.concatenate(right).astype(np.int64) if right else np.zeros(0, np.int64)

    def __len__(self) -> int:
        return len(self.rows)


@njit(cache=True, nogil=True)
def _factor_diagonal(tile, inverse):
    """Replace a tile (n, n) by U, its upper factor; `inverse` gets U⁻ᵀ. Returns whether it is
    positive definite.

    By whole rows, so that the compiler can use the processor's vectors.
    """
    n = tile.shape[0]
    for c in range(n):
        if not tile[c, c] > 0.0:
            return False
        over = 1.0 / np.sqrt(tile[c, c])
        for j in range(c):
            tile[c, j] = 0.0
        for j in range(c, n):
            tile[c, j] *= over
        for row in range(c + 1, n):
            share = tile[c, row]
            for j in range(row, n):
                tile[row, j] -= share * tile[c, j]
    for row in range(n):
        inverse[row] = 0.0
        inverse[row, row] = 1.0
        for c in range(row):
            share = tile[c, row]
            for j in range(c + 1):
                inverse[row, j] -= share * inverse[c, j]
        over = 1.0 / tile[row, row]
        for j in range(row + 1):
            inverse[row, j] *= over
    return True


@njit(cache=True, nogil=True)
def cholesky(tiles, inverses, index, right_starts, right):
    """Factor the tiles (K, n, n) in place; `inverses` (T, n, n) get U_kk⁻ᵀ. Returns whether it is
    positive definite."""
    count, n = inverses.shape[0], inverses.shape[1]
    buffer = np.empty((n, n))
    for k in range(count):
        own = tiles[index[k, k]]
        for j in range(k):
            if index[j, k] >= 0:
                above = tiles[index[j, k]]
                np.dot(above.T, above, buffer)
                own -= buffer
        if not _factor_diagonal(own, inverses[k]):
            return False
        for place in range(right_starts[k], right_starts[k + 1]):
            column = right[place]
            tile = tiles[index[k, column]]
            for j in range(k):
                if index[j, column] >= 0 and index[j, k] >= 0:
                    np.dot(tiles[index[j, k]].T, tiles[index[j, column]], buffer)
                    tile -= buffer
            np.dot(inverses[k], tile, buffer)
            tile[:] = buffer
    return True


@njit(cache=True, nogil=True)
def solve(tiles, inverses, index, right_starts, right, x):
    """Replace the right-hand sides `x` (T, n, m) by the solutions."""
    count = inverses.shape[0]
    for k in range(count):
        x[k] = np.dot(inverses[k], x[k])
        for place in range(right_starts[k], right_starts[k + 1]):
            column = right[place]
            x[column] -= np.dot(tiles[index[k, column]].T, x[k])
    for k in range(count - 1, -1, -1):
        for place in range(right_starts[k], right_starts[k + 1]):
            column = right[place]
            x[k] -= np.dot(tiles[index[k, column]], x[column])
        x[k] = np.dot(inverses[k].T, x[k])


@njit(cache=True, nogil=True)
def selected_inverse(tiles, inverses, index, right_starts, right, inverse):
    """Fill `inverse` (K, n, n): the tiles of the inverse that the factor has; of the diagonal ones,
    all of it."""
    count, n = inverses.shape[0], inverses.shape[1]
    steps = np.empty((count, n, n))
    buffer, total = np.empty((n, n)), np.empty((n, n))
    for k in range(count - 1, -1, -1):
        first, last = right_starts[k], right_starts[k + 1]
        for place in range(first, last):
            column = right[place]
            np.dot(tiles[index[k, column]].T, inverses[k], steps[column])
        own = np.dot(inverses[k].T, inverses[k])
        for place in range(first, last):
            i = right[place]
            total[:] = 0.0
            for other in range(first, last):
                j = right[other]
                if i <= j:
                    np.dot(inverse[index[i, j]], steps[j], buffer)
                else:
                    np.dot(inverse[index[j, i]].T, steps[j], buffer)
                total -= buffer
            inverse[index[k, i]] = total.T
            np.dot(steps[i].T, total, buffer)
            own -= buffer
        for i in range(n):
            for j in range(i):
                middle = 0.5 * (own[i, j] + own[j, i])
                own[i, j] = own[j, i] = middle
        inverse[index[k, k]] = own
