"""The built front end: files whose names tell their content, sent compressed where that is understood."""

from __future__ import annotations

import mimetypes
import os
from collections.abc import Collection, Mapping
from typing import Any

from fastapi import Response
from fastapi.responses import FileResponse
from fastapi.staticfiles import StaticFiles
from starlette.datastructures import Headers

PACKED = {"br": ".br", "gzip": ".gz"}
"""Encodings, the smallest first, and the endings of the files that hold them."""
FOREVER = "public, max-age=31536000, immutable"


class Assets(StaticFiles):
    """The folder of assets. Beside a file may stand the same compressed."""

    async def get_response(self, path: str, scope: Mapping[str, Any]) -> Response:
        answer = self._packed(path, understood(Headers(scope=dict(scope)).get("accept-encoding", "")))
        if answer is None:
            answer = await super().get_response(path, dict(scope))
        if answer.status_code == 200:
            answer.headers["Cache-Control"] = FOREVER
        return answer

    def _packed(self, path: str, encodings: Collection[str]) -> Response | None:
        """The smallest form that is there and understood; None where there is none."""
        for name, ending in PACKED.items():
            packed, found = self.lookup_path(f"{path}{ending}")
            if found is None or name not in encodings or path.endswith(ending):
                continue
            media = mimetypes.guess_type(path)[0] or "application/octet-stream"
            answer = FileResponse(os.fspath(packed), stat_result=found, media_type=media)
            answer.headers["Content-Encoding"] = name
            answer.headers["Vary"] = "Accept-Encoding"
            return answer
        return None


def understood(header: str) -> set[str]:
    """The encodings that who asks takes: those of the header that are not refused by a weight of nothing."""
    found = (one.strip().lower().partition(";") for one in header.split(","))
    return {
        name.strip()
        for name, _, weight in found
        if weight.replace(" ", "") not in ("q=0", "q=0.0", "q=0.00", "q=0.000")
    }
