"""Names of the array types that pass between functions."""

from typing import Any, TypeAlias

import numpy as np
import numpy.typing as npt

Floats: TypeAlias = npt.NDArray[np.float64]
Ints: TypeAlias = npt.NDArray[np.int64]
Bools: TypeAlias = npt.NDArray[np.bool_]
Dates: TypeAlias = npt.NDArray[np.datetime64]
Array: TypeAlias = npt.NDArray[Any]
