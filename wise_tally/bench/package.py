"""A package of any number of deals with eight revisions each, quick to write."""

import csv
import json
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np

from wise_tally.demo import firm

REVISIONS = 8
REPS, TEN = 50, 10
LEAVES = ("fells", "lakes", "rivers", "coast")
TODAY = datetime(2026, 11, 23, tzinfo=UTC)


def write_bench(folder: Path, deals: int, reps: int = REPS) -> None:
    """Deals over three years for so many reps of the demo firm's stages; of more than fifty each ten are a team of their own."""
    random = np.random.default_rng(1)
    stages, rules = firm.stages(TODAY.date())
    teams, parents = firm.teams(TODAY.date())
    of_ten = [
        {"team_id": f"t{n:03}", "name": f"Team {n}", "parent_id": LEAVES[n % 4], "manager_id": teams[0]["manager_id"]}
        for n in range(reps // TEN if reps > REPS else 0)
    ]
    people = [
        {
            "person_id": f"p{n:02}",
            "name": f"Person {n}",
            "role": "rep",
            "team_id": of_ten[n // TEN % len(of_ten)]["team_id"] if of_ten else LEAVES[n % 4],
        }
        for n in range(reps)
    ]
    teams = [*teams, *of_ten]
    boss = {"person_id": "boss", "name": "Boss", "role": "admin", "team_id": ""}
    quotas = _quotas(reps)
    managers = {row["manager_id"] for row in teams}
    tables = {
        "settings": firm.settings(),
        "processes": [{"process_id": "new_site", "name": "New"}, {"process_id": "renewal", "name": "Renewal"}],
        "stages": stages,
        "stage_rules": rules,
        "teams": teams,
        "team_parents": parents,
        "people": [*people, boss, *({"person_id": m, "name": m, "role": "manager"} for m in sorted(managers))],
        "territories": [{"territory_id": k, "name": n, "parent_id": p} for k, n, p in firm.TERRITORIES],
        "quotas": quotas,
    }
    for name, rows in tables.items():
        _write(
            folder / f"{name}.csv",
            list(dict.fromkeys(k for row in rows for k in row)),
            (tuple(r.values()) for r in _full(rows)),
        )
    created = TODAY - timedelta(days=1095)
    starts = random.integers(0, 1080 * 86_400, deals)
    columns = ["deal_id", "name", "process_id", "created_at", "source", "deal_type"]
    _write(folder / "deals.csv", columns, _deals(created, starts))
    columns = ["deal_id", "effective_at", "stage_id", "amount", "expected_close", "owner_id", "territory_id"]
    _write(folder / "deal_revisions.csv", columns, _revisions(random, created, starts, reps))
    names = [*tables, "deals", "deal_revisions"]
    resources = [{"name": name, "path": f"{name}.csv"} for name in names]
    (folder / "datapackage.json").write_text(json.dumps({"profile": "tabular-data-package", "resources": resources}))


def _quotas(reps: int) -> firm.Rows:
    """The demo firm's targets, those of its reps for every rep."""
    rows = firm.quotas(TODAY.date())
    months = [row for row in rows if row["subject"] == "person" and row["subject_id"] == "r01"]
    own = [{**row, "subject_id": f"p{n:02}"} for n in range(reps) for row in months]
    return [*(row for row in rows if row["subject"] != "person"), *own]


def _full(rows: firm.Rows) -> firm.Rows:
    columns = list(dict.fromkeys(k for row in rows for k in row))
    return [{column: row.get(column, "") for column in columns} for row in rows]


def _write(path: Path, header: list[str], rows: Iterator[tuple[object, ...]]) -> None:
    with path.open("w", encoding="utf-8", newline="") as file:
        out = csv.writer(file)
        out.writerow(header)
        out.writerows(rows)


def _deals(created: datetime, starts: np.ndarray) -> Iterator[tuple[object, ...]]:
    for number, start in enumerate(starts.tolist()):
        moment = (created + timedelta(seconds=start)).isoformat()
        yield (
            f"d{number:06}",
            f"Deal {number}",
            "new_site",
            moment,
            firm.SOURCES[number % 5],
            ("new", "old")[number % 2],
        )


def _revisions(
    random: np.random.Generator, created: datetime, starts: np.ndarray, reps: int
) -> Iterator[tuple[object, ...]]:
    stages = [entry[0] for entry in firm.STAGES["new_site"]]
    territories = [key for key, *_ in firm.TERRITORIES]
    gaps = random.integers(3_600, 20 * 86_400, (len(starts), REVISIONS))
    amounts = random.integers(1_000, 200_000, len(starts)).tolist()
    ends = random.random(len(starts)).tolist()
    for number, start in enumerate(starts.tolist()):
        moment = created + timedelta(seconds=start)
        close = (moment + timedelta(days=90)).date().isoformat()
        owner, territory = f"p{number % reps:02}", territories[number % len(territories)]
        for step in range(REVISIONS):
            index = min(step // 2, 4)
            if step == REVISIONS - 1:
                index = 5 if ends[number] < 0.25 else 6
            if moment > TODAY:
                break
            yield f"d{number:06}", moment.isoformat(), stages[index], f"{amounts[number]}.00", close, owner, territory
            moment += timedelta(seconds=int(gaps[number, step]))
