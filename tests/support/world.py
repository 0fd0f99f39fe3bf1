"""Small invented workspaces written as package tables and read like any other package."""

import copy
import csv
import json
from datetime import UTC, date, datetime
from pathlib import Path

from tests.support.plain_book import book_of

BASE = {
    "settings": [
        {"key": "currency", "value": "EUR"},
        {"key": "time_zone", "value": "Europe/Dublin"},
        {"key": "fiscal_year_start_month", "value": "4"},
        {"key": "organisation", "value": "Test"},
    ],
    "processes": [{"process_id": "p", "name": "P"}],
    "categories": [
        {"category_id": "commit", "name": "commit", "rank": 1, "counted": "true"},
        {"category_id": "best_case", "name": "best case", "rank": 2, "counted": "true"},
        {"category_id": "early", "name": "early", "rank": 3, "counted": "true"},
        {"category_id": "left_out", "name": "left out", "rank": 4, "counted": "false"},
    ],
    "stages": [
        {"stage_id": "s1", "process_id": "p", "name": "one", "position": 1, "kind": "open", "probability": 10,
         "category_id": "early", "typical_days": 10},
        {"stage_id": "s2", "process_id": "p", "name": "two", "position": 2, "kind": "open", "probability": 50,
         "category_id": "best_case", "typical_days": 20},
        {"stage_id": "s3", "process_id": "p", "name": "three", "position": 3, "kind": "open", "probability": 80,
         "category_id": "commit"},
        {"stage_id": "w", "process_id": "p", "name": "won", "position": 4, "kind": "won", "probability": 100},
        {"stage_id": "l", "process_id": "p", "name": "lost", "position": 5, "kind": "lost", "probability": 0},
    ],
    "teams": [
        {"team_id": "t1", "name": "One"},
        {"team_id": "t2", "name": "Two", "parent_id": "t1"},
    ],
    "people": [
        {"person_id": "a", "name": "A", "role": "rep", "team_id": "t1"},
        {"person_id": "b", "name": "B", "role": "rep", "team_id": "t2"},
        {"person_id": "c", "name": "C", "role": "rep", "team_id": "t2"},
        {"person_id": "m", "name": "M", "role": "manager"},
    ],
    "territories": [
        {"territory_id": "x", "name": "X"},
        {"territory_id": "y", "name": "Y", "parent_id": "x"},
    ],
}  # fmt: skip


def moment(text: str) -> str:
    """`2025-05-01` or `2025-05-01 14:00` as a date-time in UTC."""
    day, _, clock = text.partition(" ")
    return f"{day}T{clock or '09:00'}:00+00:00"


class World:
    """Tables that grow row by row, then are read into the database."""

    def __init__(self, **tables):
        self.tables = copy.deepcopy(BASE) | tables

    def add(self, table, **row):
        """One row."""
        self.tables.setdefault(table, []).append({k: v for k, v in row.items() if v is not None})
        return self

    def deal(self, key, *states, created=None, **columns):
        """A deal with history: each state is (moment, stage, amount, expected close, more)."""
        created = created or states[0][0]
        self.add(
            "deals",
            deal_id=key,
            name=key,
            process_id=columns.pop("process", "p"),
            created_at=moment(created),
            **columns,
        )
        for at, stage, amount, close, *more in states:
            state = {"owner_id": "a", "expected_close": close, **(more[0] if more else {})}
            self.add("deal_revisions", deal_id=key, effective_at=moment(at), stage_id=stage, amount=amount, **state)
        return self

    def quota(self, subject, key, start, end, value, **more):
        """A won-amount quota unless another metric is given."""
        row = {"metric": "won_amount", "starts_on": start, "ends_on": end, "value": value, **more}
        return self.add("quotas", subject=subject, subject_id=key, **row)

    def write(self, folder: Path) -> Path:
        """The package in a folder."""
        folder.mkdir(parents=True, exist_ok=True)
        for name, rows in self.tables.items():
            columns = list(dict.fromkeys(column for row in rows for column in row))
            with (folder / f"{name}.csv").open("w", newline="", encoding="utf-8") as file:
                out = csv.DictWriter(file, columns)
                out.writeheader()
                out.writerows(rows)
        resources = [{"name": name, "path": f"{name}.csv"} for name in self.tables]
        (folder / "datapackage.json").write_text(
            json.dumps({"profile": "tabular-data-package", "resources": resources})
        )
        return folder

    def book(self):
        """The core's book of these tables, without a database."""
        return book_of(self)

    def read(self, folder: Path):
        """Read into the database."""
        from wise_tally.package.reading import read_package

        read_package(self.write(folder), datetime(2026, 11, 23, 12, tzinfo=UTC))
        return self


def ask(figure, period, as_of, **options):
    """The rows of a figure by key as the interface gives them, and its scope under "scope"."""
    from wise_tally.interfaces.figures import figures
    from wise_tally.interfaces.question import Question

    answer = figures(Question(figure, date.fromisoformat(as_of), period, **options))
    rows = {(row["key"], row["group"]) if "group" in row else row["key"]: row for row in answer["rows"]}
    return rows | {"scope": answer["scope"]}
