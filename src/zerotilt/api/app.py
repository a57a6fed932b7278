"""The application: routers, errors, guard, and the built front end."""

from __future__ import annotations

from pathlib import Path

from fastapi import FastAPI, HTTPException
from fastapi.responses import FileResponse
from fastapi.staticfiles import StaticFiles

from zerotilt import __version__
from zerotilt.api import audits, choices, dossier, findings, problems, readings, tasks
from zerotilt.api.desk import Desk
from zerotilt.api.guard import Guard
from zerotilt.store.files import FileStore


def create(files: FileStore, pages: Path | None = None) -> FastAPI:
    """The server over a file store; ``pages`` is the folder of the built front end."""
    files.clear_incoming()
    app = FastAPI(
        title="Zero Tilt", version=__version__, docs_url=None, redoc_url=None, openapi_url="/api/openapi.json"
    )
    app.state.desk = Desk(files)
    app.add_middleware(Guard)
    problems.install(app)
    for part in (audits, readings, tasks, dossier, findings, choices):
        app.include_router(part.router)
    if pages is not None and (pages / "index.html").exists():
        _serve(app, pages)
    return app


def _serve(app: FastAPI, pages: Path) -> None:
    app.mount("/assets", StaticFiles(directory=pages / "assets"), name="assets")

    @app.get("/{path:path}", include_in_schema=False)
    def page(path: str) -> FileResponse:
        """Every address that is not the API's opens the application, so that links can be shared."""
        if path.startswith("api/"):
            raise HTTPException(404, "There is no such address.")
        return FileResponse(pages / "index.html", headers={"Cache-Control": "no-cache"})
