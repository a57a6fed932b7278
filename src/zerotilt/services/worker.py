"""The worker process."""

from __future__ import annotations

import json
import logging
import os
import signal
import sys
import threading
from concurrent.futures import ThreadPoolExecutor

from zerotilt.readers import alone, structures
from zerotilt.readers.view import can_be_taken, open_to_others
from zerotilt.services.home import Home
from zerotilt.store import database, ledger
from zerotilt.store.bell import ASKED, QUEUED, Listener
from zerotilt.store.files import FileStore, elsewhere
from zerotilt.store.records import ModelVersion
from zerotilt.tasks.at_hand import Answering
from zerotilt.tasks.queue import Queue
from zerotilt.tasks.worker import PATIENCE, PLACES, Worker

THREADS = PLACES + 1
"""One is left for what is quick, where it was not heard of at once."""
AT_ONCE = 12
WARM_SECONDS = 240.0
"""Far more than everything takes to load, or to compile the first time."""


def main() -> None:
    """Perform tasks until told to end. The database's address comes on standard input: models know no password."""
    logging.basicConfig(level=logging.INFO, format="%(asctime)s %(levelname)s %(name)s %(message)s", stream=sys.stderr)
    os.umask(0o077)
    home = Home()
    if can_be_taken(home.folder, home.scratch):  # tried elsewhere first: half a view would hold no Python
        open_to_others(home.folder, home.scratch)  # before anything else runs here, which then has the same view
    told = json.loads(sys.stdin.readline())
    database.bind(told["database"])
    queue = Queue()
    files = FileStore(home.files, elsewhere(told["files"]))
    worker = Worker(queue, files, home.scratch, home.structures)
    database.patiently(lambda: ledger.begin(files), PATIENCE)
    kept = database.patiently(lambda: {one.digest for one in ModelVersion.select(ModelVersion.digest)}, PATIENCE)
    structures.clear(home.structures, kept)
    warm = alone.context().Process(target=_nothing)  # starts the fork server and its imports before the first task
    warm.start()
    warm.join(WARM_SECONDS)
    if warm.exitcode is None:  # a worker that is started again is better than one that waits for good
        warm.kill()
        sys.exit("what starts jobs does not answer")
    stop = threading.Event()
    threading.Thread(target=worker.keep_sweeping, args=(stop,), daemon=True).start()
    at_once = ThreadPoolExecutor(AT_ONCE, thread_name_prefix="at once")
    Listener(ASKED, lambda name: at_once.submit(worker.perform, name)).start()
    Listener(QUEUED, lambda _: queue.wake()).start()
    Answering(home.folder, worker.at_once)
    consumer = queue.huey.create_consumer(workers=THREADS, periodic=False)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    try:
        consumer.run()
    finally:
        stop.set()


def _nothing() -> None:
    pass
