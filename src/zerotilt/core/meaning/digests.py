"""Names for what things hold."""

from __future__ import annotations

import hashlib
import json
from typing import Any


def sha256(body: dict[str, Any]) -> str:
    """SHA-256 of a JSON body, whatever the order of its names."""
    return hashlib.sha256(json.dumps(body, sort_keys=True).encode()).hexdigest()
