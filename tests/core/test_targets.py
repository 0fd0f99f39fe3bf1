"""Quotas, pace and calls against plain Python on random rows, versions and moves between teams."""

from datetime import date, timedelta
from fractions import Fraction
from random import Random

import pytest

from tests.support.answers import ask
from tests.support.naive import Naive, cents, half_even, midnight_after
from tests.support.random_world import random_world, window
from tests.support.world import moment
from wise_tally.core.targets import Target

SUBJECTS = [("company", ""), ("team", "t1"), ("team", "t2"), *(("person", p) for p in "abcd"), ("territory", "y")]


def with_targets(seed):
    """A random world with months of quotas, some set twice, some filtered, and calls by several people."""
    random, world = Random(f"targets{seed}"), random_world(seed, 25)
    for subject, key in SUBJECTS:
        day = date(2024, 1, 1)
        while day < date(2026, 1, 1):
            last = (day + timedelta(days=random.choice((27, 40)))).replace(day=28)
            if random.random() < 0.7:
                for version in range(random.choice((1, 1, 2))):
                    set_at = (
                        moment(str(day - timedelta(days=200 - 90 * version)))
                        if version or random.random() < 0.5
                        else None
                    )
                    world.quota(
                        subject,
                        key,
                        str(day),
                        str(last),
                        f"{random.randrange(10**6)}.{random.randrange(100):02}",
                        set_at=set_at,
                    )
            if random.random() < 0.2:
                world.quota(subject, key, str(day), str(last), "777.77", source="fair")
            day = last + timedelta(days=1)
    start, end, _ = window(seed)
    for number in range(12):
        subject, key = random.choice(SUBJECTS)
        span = {"starts_on": str(start), "ends_on": str(end if random.random() < 0.8 else end + timedelta(days=1))}
        made = moment(str(date(2024, 1, 1) + timedelta(days=60 * number)))
        amount = f"{random.randrange(10**6)}.00"
        world.add(
            "calls",
            subject=subject,
            subject_id=key,
            made_at=made,
            made_by=random.choice("abcdm"),
            amount=amount,
            **span,
        )
    return world


class Targets(Naive):
    """Rulings 13 to 16 in plain loops."""

    def rows(self, subject, key):
        spans = {}
        for row in self.tables["quotas"]:
            if (row["subject"], row["subject_id"]) == (subject, key) and not row.get("source"):
                spans.setdefault((row["starts_on"], row["ends_on"]), []).append(row)
        for (start, end), versions in spans.items():
            versions.sort(key=lambda row: row.get("set_at") or "")
            held = [r for r in versions if not r.get("set_at") or self.moment(r["set_at"]) < self.cut]
            yield date.fromisoformat(start), date.fromisoformat(end), cents((held or versions[:1])[-1]["value"])

    @staticmethod
    def moment(text):
        from datetime import datetime

        return datetime.fromisoformat(text)

    def own(self, subject, key, period, until):
        """(value, team of each row's first day) of rows that overlap the period, cut off after `until`."""
        for start, end, value in self.rows(subject, key):
            if min(end, period[1]) < max(start, period[0]):
                continue
            days = max(0, (min(end, period[1], until) - max(start, period[0])).days + 1)
            yield half_even(Fraction(value * days, (end - start).days + 1)), start

    def quota(self, subject, key, period, until):
        """Own value, parts' sum: each None where there is none."""
        own = [value for value, _ in self.own(subject, key, period, until)]
        parts = []
        if subject in ("company", "team"):
            below = [t["team_id"] for t in self.tables["teams"] if self.parent("team", t["team_id"]) == (key or None)]
            parts += [self.value("team", team, period, until) for team in below]
            for person in self.tables["people"]:
                rows = self.own("person", person["person_id"], period, until)
                parts += [v for v, start in rows if (self.team(person["person_id"], start) or "") == key]
        if subject == "territory":
            below = [
                t["territory_id"]
                for t in self.tables["territories"]
                if self.parent("territory", t["territory_id"]) == key
            ]
            parts += [self.value("territory", node, period, until) for node in below]
        known = [part for part in parts if part is not None]
        return (sum(own) if own else None), (sum(known) if known else None)

    def parent(self, kind, node):
        above = self.above(kind, node)
        return above[1] if len(above) > 1 else None

    def value(self, subject, key, period, until):
        own, parts = self.quota(subject, key, period, until)
        return parts if own is None else own

    def call(self, subject, key, period, weighted):
        rows = [r for r in self.tables["calls"] if (r["subject"], r["subject_id"]) == (subject, key)]
        rows = [r for r in rows if (r["starts_on"], r["ends_on"]) == (str(period[0]), str(period[1]))]
        rows = [r for r in rows if self.moment(r["made_at"]) < midnight_after(self.as_of)]
        rows.sort(key=lambda r: r["made_at"])
        if subject == "person" and (managers := [r for r in rows if r["made_by"] != key]):
            rows = managers
        if rows:
            return cents(rows[-1]["amount"])
        if subject == "person":
            return weighted[key]
        below = [t["team_id"] for t in self.tables["teams"] if self.parent("team", t["team_id"]) == (key or None)]
        members = [
            p["person_id"] for p in self.tables["people"] if (self.team(p["person_id"], self.as_of) or "") == key
        ]
        parts = [self.call("team", team, period, weighted) for team in below]
        return sum(parts) + sum(self.call("person", person, period, weighted) for person in members)


@pytest.mark.parametrize("seed", range(10))
def test_quotas_pace_and_calls_equal_plain_python(seed):
    world = with_targets(seed)
    book = world.book()
    start, end, as_of = window(seed)
    naive, period = Targets(world.tables, as_of), (start, end)
    expected = naive.forecast(start, end, "person")
    weighted = {p["person_id"]: expected[p["person_id"]]["weighted"] for p in world.tables["people"]}
    for by in ("company", "team", "person", "territory"):
        rows = ask(book, "forecast", f"{start}/{end}", as_of, by, calls=True)
        paces = ask(book, "attainment", f"{start}/{end}", as_of, by)
        for subject, key in SUBJECTS:
            if subject != by:
                continue
            row = rows[key]
            own, parts = naive.quota(subject, key, period, end)
            assert row["target"] == Target(own, parts), (subject, key)
            pace = naive.value(subject, key, period, min(as_of, end))
            assert paces[key]["pace_target"].value == pace, (subject, key)
            if by != "territory":
                assert row["call"] == naive.call(subject, key, period, weighted), (subject, key)
