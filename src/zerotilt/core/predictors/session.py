"""Opening a model for running."""

from __future__ import annotations

import re

from zerotilt.core.predictors.runtime import onnxruntime
from zerotilt.core.refusal import Refused

MODEL = "the model file"
CHUNK_ROWS = 16_384
"""Rows that a model is asked about at once."""


def session_of(data: bytes) -> onnxruntime.InferenceSession:
    options = onnxruntime.SessionOptions()
    options.intra_op_num_threads = 1  # rows are spread over the cores by us, which costs less than spreading operators
    options.log_severity_level = 4
    try:
        return onnxruntime.InferenceSession(data, options, providers=["CPUExecutionProvider"])
    except Exception as problem:
        detail = str(problem).split("\n")[0]
        operator = re.search(r"(?:for|No Op registered for|operator:?)\s+([A-Z]\w+)(?:\(\d+\))?", detail)
        named = f" (operator “{operator.group(1)}”)" if operator else ""
        raise Refused(
            f"The model cannot be loaded{named}: {detail}",
            where=MODEL,
            todo="Export it again with standard operators, or with an earlier operator set.",
        ) from None
