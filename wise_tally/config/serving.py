"""How gunicorn serves. HUP begins anew with the code and the settings of then: the old workers answer until new ones can."""

import os
import signal
from itertools import count
from threading import Thread
from typing import Any

from prometheus_client import multiprocess

from wise_tally.domain.number_settings import number

preload_app = True
worker_class = "gthread"
threads = 4
workers = number("WISE_TALLY_WORKERS", os.cpu_count() or 1, int) or 1
bind = f"{os.environ.get('WISE_TALLY_BIND', '127.0.0.1')}:{os.environ.get('WISE_TALLY_PORT', '8000')}"
timeout = number("WISE_TALLY_TIMEOUT", 60, int)
graceful_timeout = 10
loglevel = "warning"
# A page that writes waits shortly for another process; what was typed is kept.
raw_env = [f"WISE_TALLY_WRITE_PATIENCE={os.environ.get('WISE_TALLY_WRITE_PATIENCE', '5')}"]
OLD_WORKERS = "WISE_TALLY_OLD_WORKERS"


def when_ready(server: Any) -> None:
    """The server itself answers nothing: it holds the book until its workers have it, which share it from there."""
    from wise_tally.interfaces.starting import let_go_of_book

    forked = count(1)
    os.register_at_fork(after_in_parent=lambda: let_go_of_book() if next(forked) == workers else None)


def child_exit(server: Any, worker: Any) -> None:
    """The counts of a worker that has ended stay, but for what it held."""
    if os.environ.get("PROMETHEUS_MULTIPROC_DIR"):
        multiprocess.mark_process_dead(worker.pid)  # type: ignore[no-untyped-call]


def on_reload(server: Any) -> None:
    """Become a new server under the same process number, which takes the listening sockets over."""
    environment = dict(os.environ)
    environment[OLD_WORKERS] = ",".join(map(str, server.WORKERS))
    environment["GUNICORN_FD"] = ",".join(str(listener.fileno()) for listener in server.LISTENERS)
    environment["GUNICORN_PID"] = str(os.getpid())
    os.execvpe(server.START_CTX[0], server.START_CTX["args"], environment)


def post_worker_init(worker: Any) -> None:
    """The first new worker that can answer lets the old ones go, which end what they have begun.

    One that comes later reads the book beside its first answers: the server would stop one that is silent for long.
    """
    from wise_tally.config.served import prepare
    from wise_tally.interfaces.starting import first_figures

    Thread(target=prepare, args=(first_figures,), daemon=True).start()
    # A worker that takes the place of another later finds these numbers, too; by then they may be anybody's.
    first = worker.age <= workers
    for pid in filter(None, os.environ.get(OLD_WORKERS, "").split(",") if first else ()):
        try:
            os.kill(int(pid), signal.SIGTERM)
        except ProcessLookupError:
            continue
