"""What is counted while the server runs: requests, waits for the turn to write, imports, the book's number and memory."""

from pathlib import Path

from prometheus_client import CollectorRegistry, Counter, Gauge, Histogram

REGISTRY = CollectorRegistry()
SECONDS = (0.01, 0.025, 0.05, 0.1, 0.15, 0.25, 0.5, 1, 2.5, 5, 10)
PAGE_SIZE = 4096
REQUESTS = Counter(
    "wise_tally_requests_total", "Requests by page and status.", ("method", "page", "status"), registry=REGISTRY
)
TIMES = Histogram(
    "wise_tally_request_seconds", "Seconds of an answer by page.", ("page",), buckets=SECONDS, registry=REGISTRY
)
WAITS = Histogram(
    "wise_tally_write_wait_seconds", "Seconds that a write waited for its turn.", buckets=SECONDS, registry=REGISTRY
)
REFUSED = Counter("wise_tally_writes_refused_total", "Writes told to come again as another went on.", registry=REGISTRY)
IMPORTS = Counter("wise_tally_imports_total", "Imports begun by kind.", ("kind",), registry=REGISTRY)
NUMBER = Gauge(
    "wise_tally_book_number", "The number of the newest book in memory.", registry=REGISTRY, multiprocess_mode="max"
)
MEMORY = Gauge("wise_tally_resident_bytes", "Memory of each worker.", registry=REGISTRY, multiprocess_mode="liveall")


def measure_process(book_number: int) -> None:
    """Put down what the process that is asked holds."""
    NUMBER.set(book_number)
    resident = Path("/proc/self/statm")
    if resident.exists():
        MEMORY.set(int(resident.read_text().split()[1]) * PAGE_SIZE)
