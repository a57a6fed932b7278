"""The server process: Uvicorn on loopback."""

from __future__ import annotations

import json
import os
import socket
import sys

import uvicorn

from zerotilt.api.app import create
from zerotilt.services.home import Home
from zerotilt.store import database
from zerotilt.store.files import FileStore, elsewhere


def main() -> None:
    """Serve until told to end. The database's address comes on standard input: everything is loaded while it starts."""
    os.umask(0o077)
    told = json.loads(sys.stdin.readline())
    database.bind(told["database"])
    home = Home()
    app = create(FileStore(home.files, elsewhere(told["files"])), home.project / "web" / "dist", home.folder, home.key)
    config = uvicorn.Config(app, log_level="warning", server_header=False, timeout_graceful_shutdown=2)
    # the start command listens already, so that the port it announces is this server's
    uvicorn.Server(config).run(sockets=[socket.socket(fileno=int(os.environ["ZT_SOCKET"]))])
