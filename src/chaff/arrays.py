"""The words for arrays, the same in every room."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
Bytes = npt.NDArray[np.uint8]
Flags = npt.NDArray[np.bool_]
