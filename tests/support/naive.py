"""A second implementation of the rules in plain Python, straight from the package's rows.

Written from the rules alone and slow on purpose: it is the oracle of the core.
"""

from collections import defaultdict
from datetime import date, datetime, timedelta
from fractions import Fraction
from itertools import pairwise
from zoneinfo import ZoneInfo

ZONE = ZoneInfo("Europe/Dublin")


def midnight_after(day):
    following = day + timedelta(days=1)
    return datetime(following.year, following.month, following.day, tzinfo=ZONE)


def local(at):
    return at.astimezone(ZONE).date()


def cents(text):
    return int(Fraction(str(text)) * 100)


def half_even(value):
    return round(Fraction(value))


class Naive:
    """All questions on one set of tables at the end of one day."""

    def __init__(self, tables, as_of):
        self.tables, self.as_of, self.cut = tables, as_of, midnight_after(as_of)
        self.stages = {row["stage_id"]: row for row in tables["stages"]}
        self.categories = sorted(tables["categories"], key=lambda row: int(row["rank"]))
        self.counted = [row["category_id"] for row in self.categories if row["counted"] == "true"]
        self.deals = {row["deal_id"]: row for row in tables["deals"]}
        self.revisions = defaultdict(list)
        for row in tables.get("deal_revisions", []):
            if row.get("void") != "true":
                self.revisions[row["deal_id"]].append(row | {"at": datetime.fromisoformat(row["effective_at"])})
        self.short = {key for key in self.deals if key not in self.revisions}
        for key in self.short:
            row = self.deals[key]
            at = datetime.fromisoformat(row.get("closed_at") or row["created_at"])
            self.revisions[key] = [row | {"at": at}]
        self.states = {}
        for key, rows in self.revisions.items():
            kept = [r for place, r in enumerate(rows) if place + 1 == len(rows) or rows[place + 1]["at"] != r["at"]]
            self.revisions[key] = kept
            before = [r for r in kept if r["at"] < self.cut]
            if before:
                self.states[key] = self._state(key, before)

    def _state(self, key, rows):
        last = rows[-1]
        stage = self.stages[last["stage_id"]]
        entered = last["at"]
        for row in reversed(rows):
            if row["stage_id"] != last["stage_id"]:
                break
            entered, owner_at_entry = row["at"], row["owner_id"]
        probability, category = self._rule(stage)
        if last.get("probability") not in (None, "") and stage.get("own_probability") != "false":
            probability = Fraction(str(last["probability"]))
        if stage["kind"] != "open":
            probability = Fraction(100 if stage["kind"] == "won" else 0)
        close = last.get("expected_close")
        return {
            "key": key,
            "kind": stage["kind"],
            "stage": last["stage_id"],
            "amount": cents(last["amount"]),
            "close": date.fromisoformat(close) if close else None,
            "owner": last["owner_id"],
            "territory": last.get("territory_id") or None,
            "category": last.get("category_id") or category,
            "probability": probability,
            "closed_on": local(entered) if stage["kind"] != "open" else None,
            "entered": entered,
            "entry_owner": owner_at_entry,
        }

    def _rule(self, stage):
        rules = [r for r in self.tables.get("stage_rules", []) if r["stage_id"] == stage["stage_id"]]
        rules.sort(key=lambda r: datetime.fromisoformat(r["effective_at"]))
        held, category = stage, stage.get("category_id")
        for place, rule in enumerate(rules):
            if place == 0 or datetime.fromisoformat(rule["effective_at"]) < self.cut:
                held, category = rule, rule.get("category_id") or category
        return Fraction(str(held["probability"])), category or self.counted[-1]

    def last_dated(self, rows, day):
        rows = sorted(rows, key=lambda r: r[0])
        held = rows[0][1]
        for start, value in rows:
            if start <= day:
                held = value
        return held

    def team(self, person, day):
        rows = [
            (date.fromisoformat(r["from_on"]), r["team_id"])
            for r in self.tables.get("memberships", [])
            if r["person_id"] == person
        ]
        base = next(r for r in self.tables["people"] if r["person_id"] == person).get("team_id")
        return self.last_dated(rows, day) if rows else base

    def above(self, kind, node):
        """The node and all above it on the day."""
        plural = {"team": "teams", "territory": "territories"}[kind]
        found = []
        while node:
            found.append(node)
            rows = [
                (date.fromisoformat(r["from_on"]), r.get("parent_id"))
                for r in self.tables.get(f"{kind}_parents", [])
                if r[f"{kind}_id"] == node
            ]
            base = next(r for r in self.tables[plural] if r[f"{kind}_id"] == node).get("parent_id")
            node = self.last_dated(rows, self.as_of) if rows else base
        return found

    def shares(self, key):
        rows = [r for r in self.tables.get("deal_credits", []) if r["deal_id"] == key]
        if not rows:
            return {self.states[key]["owner"]: Fraction(100)}
        days = sorted({r.get("from_on") or "" for r in rows})
        held = [d for d in days if d == "" or date.fromisoformat(d) <= self.as_of]
        chosen = held[-1] if held else days[0]
        return {r["person_id"]: Fraction(str(r["share"])) for r in rows if (r.get("from_on") or "") == chosen}

    def divide(self, value, shares):
        exact = {person: value * share / 100 for person, share in shares.items()}
        parts = {person: int(e // 1) for person, e in exact.items()}
        order = sorted(shares, key=lambda p: (-(exact[p] - parts[p]), -shares[p], p))
        for person in order[: value - sum(parts.values())]:
            parts[person] += 1
        return parts

    def nodes(self, by, state, person):
        """The rows a line adds to; [None] for the row of those without."""
        if by == "company":
            return [""]
        if by == "person":
            return [person]
        if by == "team":
            return self.above("team", self.team(person, state["closed_on"] or self.as_of)) or [None]
        if by == "territory":
            return self.above("territory", state["territory"]) or [None]
        deal = self.deals[state["key"]]
        return [deal.get({"process": "process_id"}.get(by, by)) or None]

    def forecast(self, start, end, by):
        rows = defaultdict(lambda: defaultdict(int))
        seen = defaultdict(set)
        for key, state in self.states.items():
            weighted = half_even(state["amount"] * state["probability"] / 100)
            shares = self.shares(key) if by in ("person", "team") else {state["owner"]: Fraction(100)}
            amounts, weights = self.divide(state["amount"], shares), self.divide(weighted, shares)
            for person in shares:
                for node in self.nodes(by, state, person):
                    self._book(rows[node], seen[node], state, amounts[person], weights[person], start, end)
        for node, deals in seen.items():
            rows[node]["deals_won"] = len({k for k, kind in deals if kind == "won"})
            rows[node]["deals_open"] = len({k for k, kind in deals if kind == "open"})
        return rows

    def _book(self, row, seen, state, amount, weighted, start, end):
        if state["kind"] != "open":
            if start <= state["closed_on"] <= end:
                row[state["kind"]] += amount
                seen.add((state["key"], state["kind"]))
                if state["kind"] == "won":
                    row["weighted"] += amount
            return
        counted = state["category"] in self.counted
        if state["close"] is None:
            row["undated"] += amount if counted else 0
        elif start <= state["close"] <= end:
            row["category:" + state["category"]] += amount
            if counted:
                row["open"] += amount
                row["weighted_open"] += weighted
                row["weighted"] += weighted
                row["overdue"] += amount if state["close"] < self.as_of else 0
                seen.add((state["key"], "open"))
        elif state["close"] < start and state["close"] < self.as_of and counted:
            row["overdue_before"] += amount

    def order(self, process):
        found = [s for s in self.tables["stages"] if s["process_id"] == process and s["kind"] == "open"]
        return [s["stage_id"] for s in sorted(found, key=lambda s: (int(s["position"]), s["stage_id"]))]

    def furthest(self, key, order):
        state = self.states[key]
        if state["kind"] == "won":
            return len(order)
        if key in self.short and state["kind"] == "lost":
            return order.index(self.deals[key].get("lost_from_stage_id") or order[0])
        stood = [r["stage_id"] for r in self.revisions[key] if r["at"] < self.cut]
        return max((order.index(s) for s in stood if s in order), default=-1)

    def first_reached(self, key, order, place):
        """The local day on which a deal first reached a stage or a later one; None for never."""
        state, moments = self.states[key], []
        for row in self.revisions[key]:
            at = row["stage_id"]
            if key in self.short and self.stages[at]["kind"] == "lost":
                at = self.deals[key].get("lost_from_stage_id") or order[0]
            if row["at"] < self.cut and at in order and order.index(at) >= place:
                moments.append(row["at"])
        if state["kind"] == "won":
            # Ruling 37: at its first win a deal reached what it skipped, though it was reopened since.
            won = [r["at"] for r in self.revisions[key] if self.stages[r["stage_id"]]["kind"] == "won"]
            moments.append(min(at for at in won if at < self.cut))
        return local(min(moments)) if moments else None

    def cohort(self, order, window, basis, strict):
        """Deals of a cohort by ruling 19: created, entered (first reached the first shown stage) or decided."""
        start, end = window
        for key, state in self.states.items():
            if basis == "created":
                day = local(datetime.fromisoformat(self.deals[key]["created_at"]))
            elif basis == "decided":
                day = state["closed_on"]
            elif strict:
                stood = [r["at"] for r in self.revisions[key] if r["at"] < self.cut and r["stage_id"] == order[0]]
                day = local(min(stood)) if stood else None
            else:
                day = self.first_reached(key, order, 0)
            if day is not None and start <= day <= end:
                yield key

    def reached(self, key, order, place, strict):
        """Whether a deal reached (or, strictly, stood in) a stage; the won stage by its present status."""
        if place == len(order):
            return self.states[key]["kind"] == "won"
        if strict:
            return any(r["stage_id"] == order[place] for r in self.revisions[key] if r["at"] < self.cut)
        return self.furthest(key, order) >= place

    def conversion(self, process, start, end):
        """(reached, value) per shown stage of the created cohort, the won stage last; and its totals."""
        order = self.order(process)
        cohort = [k for k, d in self.deals.items() if k in self.states and d["process_id"] == process]
        cohort = [k for k in cohort if start <= local(datetime.fromisoformat(self.deals[k]["created_at"])) <= end]
        rows = []
        for place in [*(i for i, s in enumerate(order) if self.stages[s].get("retired") != "true"), len(order)]:
            inside = [k for k in cohort if self.furthest(k, order) >= place]
            rows.append((len(inside), sum(self.states[k]["amount"] for k in inside)))
        kinds = [self.states[k]["kind"] for k in cohort]
        return rows, {"created": len(cohort), "won": kinds.count("won"), "lost": kinds.count("lost")}

    def stays(self):
        """(deal, stage, entered, left or None, owner) of all open stays begun by the day."""
        for key, rows in self.revisions.items():
            if key in self.short:
                continue
            begun = [r for p, r in enumerate(rows) if p == 0 or rows[p - 1]["stage_id"] != r["stage_id"]]
            for place, row in enumerate(begun):
                left = begun[place + 1]["at"] if place + 1 < len(begun) else None
                if self.stages[row["stage_id"]]["kind"] == "open" and row["at"] < self.cut:
                    yield key, row["stage_id"], row["at"], left, row["owner_id"]

    def time_in_stage(self, stage, start, end, owner=None):
        """Durations in days of stays entered in the window as (days, ended); ages of running ones."""
        inside, running = [], []
        for _, at_stage, entered, left, person in self.stays():
            if at_stage != stage or owner not in (None, person):
                continue
            ended = left is not None and left < self.cut
            days = ((left if ended else self.cut) - entered).total_seconds() / 86_400
            if start <= local(entered) <= end:
                inside.append((days, ended))
            if not ended:
                running.append(days)
        return inside, running

    def slips(self, key):
        """How often the expected close of a deal moved later, and by how many days, both while open."""
        moves = []
        rows = [row for row in self.revisions[key] if row["at"] < self.cut]
        for before, after in pairwise(rows):
            kinds = {self.stages[row["stage_id"]]["kind"] for row in (before, after)}
            if kinds == {"open"} and before.get("expected_close") and after.get("expected_close"):
                days = date.fromisoformat(after["expected_close"]) - date.fromisoformat(before["expected_close"])
                moves += [days.days] if days.days > 0 else []
        return len(moves), sum(moves)

    def days_to_win(self, start, end):
        """Days from creation to winning by the owner at the closing."""
        found = defaultdict(list)
        for key, state in self.states.items():
            if state["kind"] == "won" and start <= state["closed_on"] <= end:
                created = datetime.fromisoformat(self.deals[key]["created_at"])
                found[state["entry_owner"]].append((state["entered"] - created).total_seconds() / 86_400)
        return found


def survival_quantile(durations, q):
    """Kaplan–Meier quantile, a loop over distinct times in fractions."""
    survival = Fraction(1)
    for at in sorted({days for days, ended in durations if ended}):
        risk = sum(1 for days, _ in durations if days >= at)
        events = sum(1 for days, ended in durations if ended and days == at)
        survival *= Fraction(risk - events, risk)
        if float(survival) <= 1 - q + 1e-12:
            return at
    return None
