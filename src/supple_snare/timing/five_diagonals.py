"""Systems of equations whose symmetric matrix has two diagonals beside the main one on either side.

Rows are taken in pairs, which leaves a row of blocks each coupled to its two neighbours. Every other block is then
eliminated, all at once, until few are left (block cyclic reduction: D. Heller, "Some aspects of the cyclic reduction
algorithm for block tridiagonal linear systems", SIAM J. Numer. Anal. 13, 1976). Going through the rows one by one takes
five times as long for an hour of music, in plain Python.
"""

from __future__ import annotations

import numpy as np

from supple_snare.timing.units import FloatArray

_FEW = 50
"""So few blocks are solved as they are."""


def solve_five_diagonals(matrix: FloatArray, right: FloatArray) -> FloatArray:
    """The solution of a system of n equations.

    Parameters
    ----------
    matrix : float array, shape (3, n)
        `matrix[2 - k, j]` stands for row j − k, column j; positive definite.
    right : float array, shape (n,)

    Returns
    -------
    float array, shape (n,)
    """
    count = len(right)
    if count % 2:  # one more unknown that is tied to nothing
        matrix = np.concatenate([matrix, [[0.0], [0.0], [1.0]]], axis=1)
        right = np.append(right, 0.0)
    two, one, main = matrix
    blocks = len(right) // 2
    own = np.array([[main[0::2], one[1::2]], [one[1::2], main[1::2]]])
    coupled = np.zeros((2, 2, blocks))
    coupled[0, 0, :-1], coupled[1, 0, :-1], coupled[1, 1, :-1] = two[2::2], one[2::2], two[3::2]
    return _solved(own, coupled, right.reshape(blocks, 2).T).T.ravel()[:count]


def _solved(own: FloatArray, coupled: FloatArray, right: FloatArray) -> FloatArray:
    """Unknowns, shape (2, blocks), of blocks on the diagonal and from each to the next, both (2, 2, blocks)."""
    if own.shape[2] <= _FEW:
        return _solved_as_it_is(own, coupled, right)
    own_here, right_here = own[:, :, 0::2].copy(), right[:, 0::2].copy()  # what stays; blocks between them go
    gone, right_gone = own[:, :, 1::2], right[:, 1::2]
    before, behind = coupled[:, :, 0::2][:, :, : gone.shape[2]], coupled[:, :, 1::2]
    inverse = np.array([[gone[1, 1], -gone[0, 1]], [-gone[1, 0], gone[0, 0]]])
    inverse /= gone[0, 0] * gone[1, 1] - gone[0, 1] * gone[1, 0]
    onto_first, onto_next = np.einsum("ijm,jkm->ikm", before, inverse), np.einsum("jim,jkm->ikm", behind, inverse)
    last, more = gone.shape[2], own_here.shape[2] - 1
    own_here[:, :, :last] -= np.einsum("ijm,kjm->ikm", onto_first, before)
    right_here[:, :last] -= np.einsum("ijm,jm->im", onto_first, right_gone)
    own_here[:, :, 1:] -= np.einsum("ijm,jkm->ikm", onto_next, behind)[:, :, :more]
    right_here[:, 1:] -= np.einsum("ijm,jm->im", onto_next, right_gone)[:, :more]
    across = np.zeros_like(own_here)
    across[:, :, :more] = -np.einsum("ijm,jkm->ikm", onto_first, behind)[:, :, :more]
    found = np.empty_like(right)
    found[:, 0::2] = here = _solved(own_here, across, right_here)
    left = right_gone - np.einsum("jim,jm->im", before, here[:, :last])
    left[:, :more] -= np.einsum("ijm,jm->im", behind[:, :, :more], here[:, 1:])
    found[:, 1::2] = np.einsum("ijm,jm->im", inverse, left)
    return found


def _solved_as_it_is(own: FloatArray, coupled: FloatArray, right: FloatArray) -> FloatArray:
    """The same by the whole matrix."""
    blocks = own.shape[2]
    whole, number = np.zeros((blocks, 2, blocks, 2)), np.arange(blocks)
    whole[number, :, number, :] = own.transpose(2, 0, 1)
    whole[number[:-1], :, number[1:], :] = coupled[:, :, :-1].transpose(2, 0, 1)
    whole[number[1:], :, number[:-1], :] = coupled[:, :, :-1].transpose(2, 1, 0)
    found = np.linalg.solve(whole.reshape(2 * blocks, 2 * blocks), right.T.ravel())
    return np.asarray(found.reshape(blocks, 2).T, dtype=np.float64)
