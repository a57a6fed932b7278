"""Distinct texts of a column: what ``np.unique`` finds, without comparing every text with others."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray


class Distinct(NamedTuple):
    """Texts in their order, shape (texts,); of each row its text's place; of each text its rows."""

    names: NDArray[np.str_]
    codes: NDArray[np.int64]
    sizes: NDArray[np.int64]


def distinct(values: NDArray) -> Distinct:
    """The distinct values of a column as text, sorted.

    >>> distinct(np.array(["b", "a", "b"], object)).sizes.tolist()
    [1, 2]
    """
    try:
        found = pa.array(values, pa.string()).dictionary_encode()
    except (pa.ArrowInvalid, pa.ArrowTypeError, pa.ArrowNotImplementedError, UnicodeEncodeError):
        found = None
    if found is None or found.null_count:  # something else than texts
        return Distinct(*np.unique(values.astype(str), return_inverse=True, return_counts=True))
    names, place = np.unique(np.array(found.dictionary.to_pylist(), str), return_inverse=True)
    codes = place[found.indices.to_numpy()].astype(np.int64) if len(names) else np.zeros(0, np.int64)
    return Distinct(names, codes, np.bincount(codes, minlength=len(names)))
