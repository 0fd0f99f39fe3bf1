"""Two programs on one database, each with its book in memory: neither ever shows an old figure."""

import subprocess
import sys

from tests.support.processes import environment, manage, on_a_server, server  # noqa: F401
from tests.support.world import World

ROUNDS = 40
PROGRAM = """
import sys
import time
import django
django.setup()
from wise_tally.domain.deals import actions
from datetime import UTC, datetime
from wise_tally.book.store import books
from wise_tally.core.reference_data import OPEN
from wise_tally.domain.deals.actions import DealState, change_deal, last_revision
from wise_tally.domain.deals.models import Deal
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.models import Role

def slowly(done=actions.revisions_added):
    # Between a row and the number it is told by: who writes meanwhile must not be told first.
    time.sleep(0.03)
    done()

CHIEF, NOW = Viewer("", "test", Role.ADMIN, ()), datetime(2026, 11, 23, 12, tzinfo=UTC)

for line in sys.stdin:
    what, *asked = line.split()
    book = books.current()
    actions.revisions_added = slowly if asked[:1] == ["d1"] else actions.revisions_added
    if what == "change":
        deal = Deal.objects.get(key=asked[0])
        last = last_revision(deal)
        state = DealState(last.stage, int(asked[1]), last.expected_close, last.category)
        change_deal(CHIEF, book.reference, deal, last.pk, state, "", NOW)
    now = books.current().as_of(NOW.date())
    print(*now.amount_minor[now.kind == OPEN].tolist(), flush=True)
"""


class Program:
    """One of them."""

    def __init__(self, place):
        command = [sys.executable, "-c", PROGRAM]
        self.running = subprocess.Popen(
            command, env=environment(place), text=True, stdin=subprocess.PIPE, stdout=subprocess.PIPE
        )

    def ask(self, *words):
        self.running.stdin.write(" ".join(map(str, words)) + "\n")
        self.running.stdin.flush()

    def answer(self):
        return [int(word) for word in self.running.stdout.readline().split()]


def never_old(place, folder):
    world = World()
    for key in ("d1", "d2"):
        world.deal(key, ("2026-10-01", "s2", "7.00", "2026-12-15", {"owner_id": "a"}))
    world.write(folder)
    manage(place, "import_package", str(folder))
    both = [Program(place), Program(place)]
    try:
        for number in range(1, ROUNDS):
            # Both write at the same time, each to its own deal, and after that both look.
            for program, key in zip(both, ("d1", "d2"), strict=True):
                program.ask("change", key, number)
            told = [program.answer() for program in both]
            assert told[0][0] == told[1][1] == number, "what one wrote oneself"
            for program in both:
                program.ask("look")
            assert [program.answer() for program in both] == [[number, number]] * 2
    finally:
        for program in both:
            program.running.kill()
            program.running.communicate()


def test_in_a_file(tmp_path):
    never_old(tmp_path / "own.sqlite3", tmp_path / "in")


@on_a_server
def test_on_a_server(server, tmp_path):  # noqa: F811
    never_old(server, tmp_path / "in")
