"""`./tally trials [NAME ...]`: a firm is served and used hard, and nothing that was accepted may be missing afterwards.

Not a part of the usual tests: the whole takes about a quarter of an hour, `soak` as long as is asked for.
"""

import argparse
import http.client
import os
import random
import signal
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from contextlib import closing, suppress
from pathlib import Path
from urllib.parse import urlencode

ROOT = Path(__file__).parent.parent.parent
PORT, TOKEN = 8071, "t" * 32
LOOKS_A_MINUTE = 12
LOOK_SECONDS = 60 / LOOKS_A_MINUTE
PAGES = [
    "/brief/",
    "/forecast/",
    "/deals/",
    "/deals/?view=lanes",
    "/conversion/",
    "/conversion/time/",
    "/attainment/",
    "/team/",
    "/today/",
]
FORM = {"Content-Type": "application/x-www-form-urlencoded", "X-CSRFToken": TOKEN}


class Firm:
    """A firm in a folder of its own, its server, and who is signed in."""

    def __init__(self, folder: Path, deals: int, people: int) -> None:
        self.folder, self.file = folder, folder / "trial.sqlite3"
        inner = {
            "WISE_TALLY_DATABASE": str(self.file),
            "WISE_TALLY_PORT": str(PORT),
            "WISE_TALLY_BENCH_PACKAGE": str(folder),
        }
        own = {"DJANGO_SETTINGS_MODULE": "wise_tally.config.settings.demo", "MALLOC_ARENA_MAX": "2",
               "MALLOC_MMAP_THRESHOLD_": "4194304", "MALLOC_TRIM_THRESHOLD_": "16777216"}  # fmt: skip
        self.environment = os.environ | inner | own
        os.environ.update(self.environment)
        from wise_tally.bench.package import write_bench

        write_bench(folder, deals, people)
        self.command("bench", "--read")
        import django

        django.setup()
        self.cookie = self._signed_in()
        self.server: subprocess.Popen[bytes] | None = None

    def command(self, *words: str) -> str:
        line = [sys.executable, "manage.py", *words]
        done = subprocess.run(line, env=self.environment, cwd=ROOT, capture_output=True, text=True, check=True)
        return done.stdout

    def _signed_in(self) -> str:
        from django.contrib.auth.models import User
        from django.test import Client

        from wise_tally.domain.org.models import Person

        user, _ = User.objects.get_or_create(username="boss")
        Person.objects.filter(key="boss").update(user=user)
        client = Client()
        client.force_login(user)
        return f"sessionid={client.cookies['sessionid'].value}; csrftoken={TOKEN}"

    def start(self) -> None:
        line = [str(Path(sys.executable).parent / "gunicorn"), "--config", "python:wise_tally.config.serving"]
        with (self.folder / "log").open("ab") as log:
            command = [*line, "wise_tally.config.served"]
            self.server = subprocess.Popen(command, env=self.environment, cwd=ROOT, stdout=log, stderr=log)
        for _ in range(600):
            with suppress(OSError):
                if self.ask("GET", "/health/")[0] == 200:
                    return
            time.sleep(0.1)
        raise SystemExit("The server did not start.")

    def stop(self) -> None:
        if self.server:
            self.server.terminate()
            self.server.wait(30)

    def workers(self) -> list[int]:
        assert self.server
        children = Path(f"/proc/{self.server.pid}/task/{self.server.pid}/children").read_text()
        return [int(number) for number in children.split()]

    def memory(self) -> float:
        """Megabytes of all its processes, what they share counted once."""
        assert self.server
        total = 0
        for pid in [self.server.pid, *self.workers()]:
            with suppress(OSError):
                lines = Path(f"/proc/{pid}/smaps_rollup").read_text().splitlines()
                total += int(next(line for line in lines if line.startswith("Pss:")).split()[1])
        return total / 1024

    def ask(self, method: str, path: str, body: dict[str, object] | None = None) -> tuple[int, float]:
        """Status and seconds of a request; 401 where it leads to the sign-in."""
        started = time.perf_counter()
        with closing(http.client.HTTPConnection("127.0.0.1", PORT, timeout=60)) as line:
            line.request(method, path, urlencode(body or {}), {"Cookie": self.cookie, **(FORM if body else {})})
            answer = line.getresponse()
            answer.read()
        status = 401 if "/sign-in/" in answer.headers.get("Location", "") else answer.status
        return status, time.perf_counter() - started

    def value(self, query: str, *asked: object, file: Path | None = None) -> list[tuple]:
        with closing(sqlite3.connect(file or self.file, timeout=60)) as one:
            return one.execute(query, asked).fetchall()

    def open_deals(self, number: int) -> list[str]:
        query = (
            "SELECT d.key FROM deals_deal d JOIN deals_dealrevision r ON r.id = (SELECT MAX(id) FROM deals_dealrevision"
            " WHERE deal_id = d.id) JOIN process_stage s ON s.id = r.stage_id WHERE s.kind = 'open' LIMIT ?"
        )
        return [row[0] for row in self.value(query, number)]


class Use:
    """Editors, each of deals of its own, and readers; what they were told."""

    def __init__(self, firm: Firm, editors: int, readers: int, pause: float = 0.0) -> None:
        self.firm, self.pause, self.ends = firm, pause, threading.Event()
        self.answers: Counter[str] = Counter()
        self.slowest = {"read": 0.0, "write": 0.0}
        self.accepted: list[tuple[str, int]] = []
        deals = firm.open_deals(editors * 5)
        works = [(self.edit, deals[index::editors]) for index in range(editors)] + [(self.read, None)] * readers
        self.threads = [threading.Thread(target=work, args=(given, index)) for index, (work, given) in enumerate(works)]

    def run(self, seconds: float, meanwhile=None) -> "Use":
        for one in self.threads:
            one.start()
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            if meanwhile:
                meanwhile()
            time.sleep(0.2)
        self.ends.set()
        for one in self.threads:
            one.join()
        return self

    def told(self, kind: str, method: str, path: str, body=None) -> int:
        try:
            status, seconds = self.firm.ask(method, path, body)
        except (OSError, http.client.HTTPException):
            self.answers[f"{kind} cut"] += 1
            return 0
        self.answers[f"{kind} {status}"] += 1
        self.slowest[kind] = max(self.slowest[kind], seconds)
        return status

    def edit(self, deals: list[str], seed: int) -> None:
        chance, amount = random.Random(seed), seed * 1_000_000
        while not self.ends.is_set():
            key, amount = chance.choice(deals), amount + 1
            last, stage = self.firm.value(
                "SELECT r.id, s.key FROM deals_dealrevision r JOIN process_stage s ON s.id = r.stage_id JOIN deals_deal d"
                " ON d.id = r.deal_id WHERE d.key = ? ORDER BY r.id DESC LIMIT 1",
                key,
            )[0]
            body = {
                "edited": "amount",
                "amount": amount,
                "revision": last,
                "stage": stage,
                "category": "",
                "next": "/deals/",
            }
            if self.told("write", "POST", f"/deals/{key}/change/", body) == 302:
                self.accepted.append((key, amount * 100))
            time.sleep(self.pause)

    def read(self, _: None, seed: int) -> None:
        chance = random.Random(seed)
        while not self.ends.is_set():
            self.told("read", "GET", chance.choice(PAGES))
            time.sleep(self.pause)

    def missing(self, *others: Path) -> set[tuple[str, int]]:
        """What was accepted and is neither in the database nor in one of its copies."""
        query = "SELECT d.key, r.amount_minor FROM deals_dealrevision r JOIN deals_deal d ON d.id = r.deal_id"
        held = {row for file in (self.firm.file, *others) for row in self.firm.value(query, file=file)}
        return set(self.accepted) - held

    def report(self, name: str, *others: Path) -> bool:
        missing = self.missing(*others)
        unexpected = {
            answer for answer in self.answers if answer[-3:].isdigit() and answer[-3:] >= "500" and answer[-3:] != "503"
        }
        good = not missing and not unexpected
        print(
            f"{name}: {'good' if good else 'FAILED'}; accepted {len(self.accepted):,}, missing {len(missing)}; {dict(self.answers)}"
        )
        print(
            f"  slowest: {', '.join(f'{kind} {seconds:.2f} s' for kind, seconds in self.slowest.items())}", flush=True
        )
        return good


def load(firm: Firm, minutes: float) -> bool:
    """Twenty editors and ten readers for three minutes."""
    firm.start()
    return Use(firm, 20, 10).run(60 * min(minutes, 3)).report("load")


def kills(firm: Firm, minutes: float) -> bool:
    """A hundred workers killed at random moments, and the whole server five times."""
    firm.start()
    killed = 0

    def kill() -> None:
        nonlocal killed
        killed += 1
        if killed % 20 == 0:
            assert firm.server
            victims = [firm.server.pid, *firm.workers()]
        else:
            victims = random.sample(firm.workers(), 1) if firm.workers() else []
        for pid in victims:
            with suppress(ProcessLookupError):
                os.kill(pid, signal.SIGKILL)
        if killed % 20 == 0:
            firm.server.wait()
            firm.start()
        time.sleep(random.uniform(0.2, 0.9))

    good = Use(firm, 6, 4).run(60 * min(minutes, 2), kill).report(f"kills ({killed})")
    whole = firm.value("PRAGMA integrity_check") == [("ok",)]
    return good and whole


def restores(firm: Firm, minutes: float) -> bool:
    """A backup put back three times while people write: each accepted save is in what is there or in what was kept."""
    firm.start()
    made = Path(firm.command("backup").split(" (")[0])
    use = Use(firm, 8, 4)
    begun = time.monotonic()
    kept: list[Path] = []

    def restore() -> None:
        if len(kept) < 3 and time.monotonic() - begun > 8 * (len(kept) + 1):
            words = firm.command("restore", str(made), "--yes")
            kept.append(made.parent / words.split("is kept as ")[1].split(". ")[0])
            firm.cookie = firm._signed_in()

    return use.run(40, restore).report(f"restores ({len(kept)})", *kept)


def imports(firm: Firm, minutes: float) -> bool:
    """Imports killed at random moments are all there or not at all, say so, and are taken when begun again."""
    from django.db import connection

    from wise_tally.domain.imports.models import ImportRun
    from wise_tally.domain.org.access import viewer_of
    from wise_tally.domain.org.clock import now
    from wise_tally.domain.org.models import Person
    from wise_tally.pages.setup.imports.prepare import Matching
    from wise_tally.pages.setup.imports.run import begin, is_carried_out, start_run
    from wise_tally.web.files.uploads import read_table

    boss, good, ends = viewer_of(Person.objects.get(key="boss")), True, Counter()
    for number in range(12):
        lines = ["Company,Country", *(f"Firm {number} {row},IE" for row in range(4_000))]
        content = "\n".join(lines).encode()
        table = read_table("x.csv", content)
        run = start_run(boss, "accounts", "x.csv", content, table, now())
        for last in (False, True):
            begin(run, Matching({"name": "Company", "country": "Country"}), len(table.rows), boss, now())
            if not last:
                time.sleep(random.uniform(0.2, 4))
                subprocess.run(["pkill", "-KILL", "-f", f"run_import {run.pk} boss"], check=False)
            while is_carried_out(ImportRun.objects.get(pk=run.pk)):
                time.sleep(0.1)
            there = firm.value("SELECT COUNT(*) FROM deals_account WHERE name LIKE ?", f"Firm {number} %")[0][0]
            status = ImportRun.objects.get(pk=run.pk).status
            good = good and there == (4_000 if status == "done" else 0)
            ends[f"{'again' if last else 'killed'}: {status}"] += 1
        good = good and status == "done"
    connection.close()
    print(f"imports: {'good' if good else 'FAILED'}; {dict(ends)}", flush=True)
    return good


def soak(firm: Firm, minutes: float) -> bool:
    """Two editors and three readers for long; the memory of all processes, every few seconds looked at."""
    firm.start()
    levels: list[float] = []
    began = time.monotonic()

    def look() -> None:
        if time.monotonic() - began >= LOOK_SECONDS * len(levels):
            levels.append(firm.memory())
            if len(levels) % LOOKS_A_MINUTE == 0:
                print(f"  minute {len(levels) // LOOKS_A_MINUTE}: {spread(levels[-LOOKS_A_MINUTE:])}", flush=True)

    good = Use(firm, 2, 3, pause=0.5).run(60 * minutes, look).report(f"soak of {minutes:g} minutes")
    print(f"  memory: {spread(levels)}")
    return good


def spread(levels: list[float]) -> str:
    """The least, the middle and the most of megabytes."""
    return f"{min(levels):.0f} to {max(levels):.0f} MB, half of the time under {statistics.median(levels):.0f}"


TRIALS = {one.__name__: one for one in (load, kills, restores, imports, soak)}


def main() -> None:
    parser = argparse.ArgumentParser(prog="tally trials", description=__doc__)
    parser.add_argument("names", nargs="*", help=f"of {', '.join(TRIALS)}; all but soak where none is named")
    parser.add_argument("--deals", type=int, default=2_000)
    parser.add_argument("--people", type=int, default=50)
    parser.add_argument("--minutes", type=float, default=60)
    given = parser.parse_args()
    names = given.names or [name for name in TRIALS if name != "soak"]
    if len(names) > 1:
        # Each in a process of its own: settings are read once.
        more = [f"--{name}={getattr(given, name)}" for name in ("deals", "people", "minutes")]
        ended = [subprocess.run([sys.executable, "-m", "tests.trials", name, *more], check=False) for name in names]
        raise SystemExit(max(one.returncode for one in ended))
    with tempfile.TemporaryDirectory() as folder:
        firm = Firm(Path(folder), given.deals, given.people)
        good = False
        try:
            good = TRIALS[names[0]](firm, given.minutes)
        finally:
            firm.stop()
            if not good and (log := Path(folder) / "log").exists():
                print(log.read_text()[-3_000:])
    raise SystemExit(0 if good else 1)


main()
