"""The worker process."""

from __future__ import annotations

import json
import logging
import os
import signal
import sys
import threading
from concurrent.futures import ThreadPoolExecutor

from zerotilt.readers import alone
from zerotilt.services.home import Home
from zerotilt.store import database
from zerotilt.store.bell import ASKED, Listener
from zerotilt.store.files import FileStore
from zerotilt.tasks.queue import Queue
from zerotilt.tasks.worker import PLACES, Worker

THREADS = PLACES + 1
"""One is left for what is quick, where it was not heard of at once."""
AT_ONCE = 12


def main() -> None:
    """Perform tasks until told to end. The database's address comes in the environment."""
    logging.basicConfig(level=logging.INFO, format="%(asctime)s %(levelname)s %(name)s %(message)s", stream=sys.stderr)
    os.umask(0o077)
    # taken out of the environment before the process that starts jobs copies it: models know no password
    database.bind(json.loads(os.environ.pop("ZT_DATABASE")))
    home = Home()
    queue = Queue()
    worker = Worker(queue, FileStore(home.files), home.scratch)
    warm = alone.context().Process(target=_nothing)  # starts the fork server and its imports before the first task
    warm.start()
    warm.join()
    stop = threading.Event()
    threading.Thread(target=worker.keep_sweeping, args=(stop,), daemon=True).start()
    at_once = ThreadPoolExecutor(AT_ONCE, thread_name_prefix="at once")
    Listener(ASKED, lambda name: at_once.submit(worker.perform, name)).start()
    consumer = queue.huey.create_consumer(
        workers=THREADS, periodic=False, initial_delay=0.05, max_delay=0.1, backoff=1.2
    )
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    try:
        consumer.run()
    finally:
        stop.set()


def _nothing() -> None:
    pass


if __name__ == "__main__":
    main()
