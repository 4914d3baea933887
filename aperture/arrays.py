"""Types of arrays, as annotations name them."""

from typing import Any, TypeAlias

import numpy.typing as npt

Array: TypeAlias = npt.NDArray[Any]
"""An array; its shape, unit and kind of number stand in the docstring."""

ArrayLike: TypeAlias = npt.ArrayLike
"""What NumPy makes an array of: an array, nested sequences, or a number."""
