"""What lines through bent shapes leave: the search for parameters that are not linear."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from rilievo.core.compare.distributions import Values


def squares_left(shapes: NDArray[np.float64], y: Values) -> Values:
    """Return the sums of squares that y = a + b · shape leaves with the best a and b.

    Parameters
    ----------
    shapes : ndarray of shape (m, n)
        One shape a row, all values finite.
    y : ndarray of shape (n,)
        Values to be fitted.

    Returns
    -------
    ndarray of shape (m,)
        In squares of the unit of `y`; a constant shape leaves what the mean leaves.

    Examples
    --------
    >>> squares_left(np.array([[0.0, 1.0, 2.0], [1.0, 1.0, 1.0]]), np.array([1.0, 3.0, 5.0]))
    array([0., 8.])
    """
    away = y - y.mean()
    centred = shapes - shapes.mean(axis=1, keepdims=True)
    weight = (centred**2).sum(axis=1)
    slope = np.divide(centred @ away, weight, out=np.zeros(weight.size), where=weight > 0)
    return np.asarray(((away - slope[:, None] * centred) ** 2).sum(axis=1))
