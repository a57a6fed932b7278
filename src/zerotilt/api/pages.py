"""The built front end: files whose names tell their content, sent compressed where that is understood."""

from __future__ import annotations

import mimetypes
import os
from collections.abc import Mapping
from typing import Any

from fastapi import Response
from fastapi.responses import FileResponse
from fastapi.staticfiles import StaticFiles
from starlette.datastructures import Headers

FOREVER = "public, max-age=31536000, immutable"


class Assets(StaticFiles):
    """The folder of assets. Beside a file may stand the same compressed."""

    async def get_response(self, path: str, scope: Mapping[str, Any]) -> Response:
        given = Headers(scope=dict(scope))
        packed, found = self.lookup_path(f"{path}.gz")
        if found is not None and "gzip" in given.get("accept-encoding", "") and not path.endswith(".gz"):
            media = mimetypes.guess_type(path)[0] or "application/octet-stream"
            answer: Response = FileResponse(os.fspath(packed), stat_result=found, media_type=media)
            answer.headers["Content-Encoding"] = "gzip"
            answer.headers["Vary"] = "Accept-Encoding"
        else:
            answer = await super().get_response(path, dict(scope))
        if answer.status_code == 200:
            answer.headers["Cache-Control"] = FOREVER
        return answer
