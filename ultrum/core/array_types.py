"""Names of the array types that pass between functions, and the steps of dates."""

from typing import Any, Final, TypeAlias

import numpy as np
import numpy.typing as npt

Floats: TypeAlias = npt.NDArray[np.float64]
Ints: TypeAlias = npt.NDArray[np.int64]
Bools: TypeAlias = npt.NDArray[np.bool_]
Dates: TypeAlias = npt.NDArray[np.datetime64]
Array: TypeAlias = npt.NDArray[Any]

# steps of dates; a bare number next to a date has no unit
DAY: Final = np.timedelta64(1, "D")
MONTH: Final = np.timedelta64(1, "M")
YEAR: Final = np.timedelta64(1, "Y")
