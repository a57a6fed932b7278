"""The server process: Uvicorn on loopback."""

from __future__ import annotations

import json
import os

import uvicorn

from zerotilt.api.app import create
from zerotilt.services.home import Home
from zerotilt.store import database
from zerotilt.store.files import FileStore


def main() -> None:
    database.bind(json.loads(os.environ["ZT_DATABASE"]))
    home = Home()
    app = create(FileStore(home.files), home.project / "web" / "dist")
    uvicorn.run(
        app,
        host="127.0.0.1",
        port=int(os.environ["ZT_PORT"]),
        log_level="warning",
        server_header=False,
        timeout_graceful_shutdown=2,
    )


if __name__ == "__main__":
    main()
