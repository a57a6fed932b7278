"""The application: routers, errors, guard, and the built front end."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from fastapi import FastAPI, HTTPException
from fastapi.openapi.utils import get_openapi
from fastapi.responses import FileResponse

from zerotilt import __version__
from zerotilt.api import (
    again,
    audits,
    candidates,
    choices,
    dossier,
    findings,
    front,
    meaning,
    person,
    problems,
    readings,
    reports,
    settings,
    tasks,
    versions,
)
from zerotilt.api.desk import Desk
from zerotilt.api.guard import Guard
from zerotilt.api.pages import Assets
from zerotilt.api.problems import Problem
from zerotilt.store.files import FileStore


def create(files: FileStore, pages: Path | None = None, folder: Path | None = None, key: str | None = None) -> FastAPI:
    """The server over a file store.

    Parameters
    ----------
    pages : folder of the built front end. folder : where a worker listens. key : what every request must hold; none is
        asked for where it is left out.
    """
    files.clear_incoming()
    app = FastAPI(
        title="Zero Tilt", version=__version__, docs_url=None, redoc_url=None, openapi_url="/api/openapi.json"
    )
    app.openapi = lambda: _contract(app)  # type: ignore[method-assign]
    app.state.desk = Desk(files, folder or files.folder)
    app.add_middleware(Guard, key=key)
    problems.install(app)
    app.include_router(readings.of_methods())
    for part in (
        front,
        audits,
        meaning,
        settings,
        readings,
        tasks,
        dossier,
        findings,
        again,
        reports,
        person,
        choices,
        candidates,
        versions,
    ):
        app.include_router(part.router)
    if pages is not None and (pages / "index.html").exists():
        _serve(app, pages)
    return app


def _contract(app: FastAPI) -> dict[str, Any]:
    """The OpenAPI contract, with the problems that every route may answer with (RFC 9457)."""
    if app.openapi_schema is None:
        found = get_openapi(title=app.title, version=app.version, routes=app.routes)
        schemas = found["components"]["schemas"]
        for name in ("HTTPValidationError", "ValidationError"):
            schemas.pop(name, None)
        schemas["Problem"] = Problem.model_json_schema()
        content = {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}}
        for path, methods in found["paths"].items():
            for method, route in methods.items():
                answers = {**PROBLEMS} if "{" in path or method != "get" else {"503": PROBLEMS["503"]}
                for status, said in answers.items():
                    route["responses"][status] = {"description": said, "content": content}
        app.openapi_schema = found
    return app.openapi_schema


PROBLEMS = {
    "401": "The request does not hold the key of this Zero Tilt",
    "403": "The request comes from a page of another site",
    "404": "There is no such thing",
    "409": "It was changed meanwhile, or would contradict what is there",
    "410": "It was there and is not any more",
    "413": "The request is larger than is taken",
    "422": "It cannot be used as given",
    "500": "Something unexpected went wrong",
    "503": "The database does not answer, or there are too many requests",
    "507": "The disk is full",
}


def _serve(app: FastAPI, pages: Path) -> None:
    app.mount("/assets", Assets(directory=pages / "assets"), name="assets")

    @app.get("/{path:path}", include_in_schema=False)
    def page(path: str) -> FileResponse:
        """Every address that is not the API's opens the application, so that links can be shared."""
        if path.startswith("api/"):
            raise HTTPException(404, "There is no such address.")
        return FileResponse(pages / "index.html", headers={"Cache-Control": "no-cache"})
