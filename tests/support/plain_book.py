"""The core's book straight from the tables of an invented workspace: no database, no reader of packages."""

from datetime import date, datetime
from fractions import Fraction

import numpy as np

from tests.support.plain_attributes import PlainAttributes
from wise_tally.core.book import Book, Credits, Deals, Revisions
from wise_tally.core.calendar import FiscalCalendar
from wise_tally.core.reference_data import (
    ALWAYS,
    LOST,
    OPEN,
    WON,
    Call,
    Category,
    Node,
    Person,
    Quota,
    ReferenceData,
    Stage,
    StageRule,
)
from wise_tally.core.trees import NONE

KINDS = {"open": OPEN, "won": WON, "lost": LOST}


def book_of(world):
    """The book of a world's tables."""
    return _Reader(world.tables).book()


def _hundredths(text):
    return int(Fraction(str(text)) * 100)


def _moment(text):
    return int(datetime.fromisoformat(text).timestamp())


def _day(text):
    return date.fromisoformat(text).toordinal() if text else 0


class _Reader:
    """Tables of rows with identifiers, as packages have them."""

    def __init__(self, tables):
        self.tables = tables
        self.settings = {row["key"]: row["value"] for row in tables["settings"]}
        names = {"processes": "process", "categories": "category", "stages": "stage", "teams": "team", "people": "person",
                 "territories": "territory", "deals": "deal"}  # fmt: skip
        self.index = {
            name: {row[f"{one}_id"]: place for place, row in enumerate(self.rows(name))} for name, one in names.items()
        }

    def rows(self, name):
        """The rows of a table."""
        return self.tables.get(name, [])

    def at(self, table, key):
        """The index of an identifier, -1 for none."""
        return self.index[table][key] if key else NONE

    def book(self):
        """Reference data, deals, revisions in effect and credits."""
        attributes = PlainAttributes(self.tables)
        return Book(self.reference(), self.deals(), self.revisions(), self.credits(), attributes=attributes)

    def reference(self):
        """All small tables."""
        kinds = {
            name: tuple(sorted({row[name] for row in self.rows("deals") if row.get(name)}))
            for name in ("deal_type", "source")
        }
        people = tuple(
            Person(
                row["person_id"],
                row["name"],
                self.history("memberships", "person_id", row["person_id"], ("teams", "team_id"), row.get("team_id")),
            )
            for row in self.rows("people")
        )
        return ReferenceData(
            self.settings["organisation"],
            self.settings["time_zone"],
            FiscalCalendar(int(self.settings["fiscal_year_start_month"])),
            tuple(Category(r["category_id"], r["name"], int(r["rank"]), r["counted"] == "true") for r in self.rows("categories")),
            tuple((r["process_id"], r["name"]) for r in self.rows("processes")),
            tuple(map(self.stage, self.rows("stages"))),
            self.nodes("teams", "team"),
            self.nodes("territories", "territory"),
            people,
            tuple(map(self.quota, self.rows("quotas"))),
            tuple(map(self.call, sorted(self.rows("calls"), key=lambda r: _moment(r["made_at"])))),
            deal_types=kinds["deal_type"],
            sources=kinds["source"],
        )  # fmt: skip

    def history(self, table, owner, key, to, base):
        """Dated rows as (day, index), or the one that holds always."""
        where, column = to
        dated = sorted((r for r in self.rows(table) if r[owner] == key), key=lambda r: r["from_on"])
        return tuple((_day(r["from_on"]), self.at(where, r.get(column))) for r in dated) or ((0, self.at(where, base)),)

    def nodes(self, table, one):
        """A tree's nodes with their dated parents."""
        of, to = (f"{one}_parents", f"{one}_id"), (table, "parent_id")
        return tuple(
            Node(r[f"{one}_id"], r["name"], self.history(*of, r[f"{one}_id"], to, r.get("parent_id")))
            for r in self.rows(table)
        )

    def rule(self, row, at):
        """What holds for a stage from a moment on."""
        days = row.get("typical_days")
        category = self.at("categories", row.get("category_id"))
        return StageRule(at, _hundredths(row["probability"]), category, float(days) if days else None)

    def stage(self, row):
        """A stage with its dated rules."""
        dated = [r for r in self.rows("stage_rules") if r["stage_id"] == row["stage_id"]]
        dated.sort(key=lambda r: _moment(r["effective_at"]))
        return Stage(row["stage_id"], row["name"], self.at("processes", row["process_id"]), int(row["position"]), KINDS[row["kind"]],
                     row.get("own_probability") != "false", row.get("retired") == "true", self.rule(row, ALWAYS),
                     tuple(self.rule(r, _moment(r["effective_at"])) for r in dated))  # fmt: skip

    def subject(self, row):
        """Kind and index of what a target or a call is of."""
        tables = {"team": "teams", "person": "people", "territory": "territories"}
        table = tables.get(row["subject"])
        return row["subject"], self.at(table, row["subject_id"]) if table else NONE

    def call(self, row):
        """What somebody says a period will bring."""
        span = (_day(row["starts_on"]), _day(row["ends_on"]))
        made = (_moment(row["made_at"]), self.at("people", row["made_by"]))
        return Call(*self.subject(row), *span, *made, _hundredths(row["amount"]))

    def quota(self, row):
        """A target."""
        filters = tuple(row.get(name) or "" for name in ("product_group", "deal_type", "source", "activity_kind"))
        return Quota(*self.subject(row), row["metric"], _day(row["starts_on"]), _day(row["ends_on"]), _hundredths(row["value"]),
                     filters, _moment(row["set_at"]) if row.get("set_at") else ALWAYS)  # fmt: skip

    def deals(self):
        """What does not change with revisions; a deal without history says which open stage it was lost from."""
        rows = self.rows("deals")
        types = {name: sorted({r[name] for r in rows if r.get(name)}) for name in ("deal_type", "source")}

        def column(of):
            return np.array([of(row) for row in rows], dtype=np.int64)

        return Deals(
            tuple(row["deal_id"] for row in rows),
            column(lambda r: self.at("processes", r["process_id"])),
            column(lambda r: _moment(r["created_at"])),
            *(column(lambda r, n=n: types[n].index(r[n]) if r.get(n) else NONE) for n in ("deal_type", "source")),
            column(self.is_short).astype(bool),
            column(lambda r: self.at("stages", r.get("lost_from_stage_id"))),
        )

    def is_short(self, row):
        """Whether a deal came without its history."""
        return row["deal_id"] not in {one["deal_id"] for one in self.rows("deal_revisions")}

    def revisions(self):
        """Full states in their order, void ones left out; a deal without history has the one that it came with."""
        given = [r for r in self.rows("deal_revisions") if r.get("void") != "true"]
        short = filter(self.is_short, self.rows("deals"))
        given += [r | {"effective_at": r.get("closed_at") or r["created_at"]} for r in short]
        probability = [NONE if r.get("probability") in (None, "") else _hundredths(r["probability"]) for r in given]
        table = [
            (self.at("deals", r["deal_id"]), _moment(r["effective_at"]), self.at("stages", r["stage_id"]), _hundredths(r["amount"]),
             _day(r.get("expected_close")), self.at("people", r["owner_id"]), self.at("territories", r.get("territory_id")),
             self.at("categories", r.get("category_id")), own)
            for r, own in zip(given, probability, strict=True)
        ]  # fmt: skip
        columns = np.array(table, dtype=np.int64).reshape(-1, 9)
        return Revisions(*np.ascontiguousarray(columns[np.argsort(columns[:, 0], kind="stable")].T)).in_effect()

    def credits(self):
        """Shares, sorted by deal and day, else in their order."""
        rows = [
            (self.at("deals", r["deal_id"]), _day(r.get("from_on")), self.at("people", r["person_id"]), _hundredths(r["share"]))
            for r in self.rows("deal_credits")
        ]  # fmt: skip
        return Credits(*np.array(sorted(rows, key=lambda row: row[:2]), dtype=np.int64).reshape(-1, 4).T)
