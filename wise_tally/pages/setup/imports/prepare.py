"""Rows of a table from elsewhere become rows of the package: forms of dates and numbers, names in place of identifiers."""

import hashlib
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import date, datetime
from difflib import get_close_matches
from typing import Any
from zoneinfo import ZoneInfo

from wise_tally.core.number_reader import NotANumber, read_number
from wise_tally.domain.deals.models import Account, Contact, Deal, Lead, Partner, Product
from wise_tally.domain.formats import currency, currency_sign
from wise_tally.domain.org.models import Person, Team, Territory, Workspace
from wise_tally.domain.process.models import Category, LeadStep, Process, Stage, StageKind
from wise_tally.package.tables import Column
from wise_tally.pages.setup.imports.kinds import DATE_FORMS, NUMBER_FORMS, Kind
from wise_tally.web.files.uploads import UploadedTable

YES, NO = {"true", "yes", "1", "y", "open"}, {"false", "no", "0", "n", "closed", ""}
MODELS: dict[str, Any] = {
    "accounts": Account,
    "contacts": Contact,
    "people": Person,
    "teams": Team,
    "territories": Territory,
    "stages": Stage,
    "processes": Process,
    "categories": Category,
    "partners": Partner,
    "products": Product,
    "deals": Deal,
    "leads": Lead,
    "lead_steps": LeadStep,
}
AMBIGUOUS = "\0"
# Names that a likely one is looked for in.
MOST_NAMES = 2_000
# What identifies rows that bring no identifier; for others, all that is matched.
IDENTITY = {"leads": ("name", "customer", "email", "created_at")}
GIVEN_TO_ACCOUNTS = ("owner_id", "territory_id")


@dataclass(frozen=True)
class Matching:
    """How a file is read: our column → heading, forms of dates and numbers, the process of deals without one."""

    columns: dict[str, str]
    dates: str = "ymd"
    numbers: str = "plain"
    process: str = ""
    good_rows_only: bool = False
    make_accounts: bool = True


@dataclass(frozen=True)
class RowFault:
    """What is wrong with a row of the file, and what would be right."""

    row: int
    column: str
    wrong: str
    right: str


@dataclass
class Prepared:
    """Rows of the package by table with the file's row each came from, new accounts by identifier, and the faults found on the way."""

    rows: list[tuple[int, dict[str, str]]] = field(default_factory=list)
    accounts: dict[str, dict[str, str]] = field(default_factory=dict)
    faults: list[RowFault] = field(default_factory=list)


class CellRefused(Exception):
    """A cell cannot be read; says what is accepted."""

    def __init__(self, wrong: str, right: str) -> None:
        super().__init__(wrong)
        self.wrong, self.right = wrong, right


class Preparer:
    """Turns rows into rows of the package's table of one kind."""

    def __init__(self, kind: Kind, matching: Matching, now: datetime) -> None:
        self.kind, self.matching, self.now = kind, matching, now
        self.zone = ZoneInfo(Workspace.current().time_zone)
        self.names: dict[str, dict[str, str]] = {}
        self.likely: dict[tuple[str, str], str] = {}
        self.prepared = Prepared()
        self.columns = {name: kind.column(name) for name in kind.columns}
        self.units = {sign.casefold() for sign in (currency(), currency_sign(), "%")}
        self.stage_kinds = dict(Stage.objects.values_list("key", "kind"))
        self.created = {}
        if kind.slug in ("deals", "leads"):
            model = MODELS[kind.slug]
            self.created = dict(model.objects.values_list("key", "created_at"))

    def run(self, table: UploadedTable, progress: Callable[[int], None] = lambda done: None) -> Prepared:
        """All rows; a row with a fault is left out and its faults are kept."""
        columns = {name: table.header.index(heading) for name, heading in self.matching.columns.items()}
        for count, (number, cells) in enumerate(table.rows):
            typed = {name: cells[index].strip() for name, index in columns.items()}
            before = len(self.prepared.faults)
            row = self._row(number, typed)
            if len(self.prepared.faults) == before:
                self.prepared.rows.append((number, row))
            if count % 2_000 == 0:
                progress(count)
        return self.prepared

    def _row(self, number: int, typed: dict[str, str]) -> dict[str, str]:
        row: dict[str, str] = {}
        for name, text in typed.items():
            column = self.columns[name]
            try:
                if not text and name in self.kind.needed:
                    raise CellRefused("the needed cell is empty", "a value")
                row[name] = self._cell(column, text, row)
            except CellRefused as refused:
                heading = self.matching.columns[name]
                self.prepared.faults.append(RowFault(number, heading, refused.wrong, refused.right))
                row[name] = ""
        self._stand_ins(row, typed)
        if new := self.prepared.accounts.get(row.get("account_id", "")):
            # The first row that names it decides its owner and territory; without an owner nobody would see it.
            new |= {name: row[name] for name in GIVEN_TO_ACCOUNTS if row.get(name) and not new[name]}
        return row

    def _cell(self, column: Column, text: str, row: dict[str, str]) -> str:
        if not text:
            return ""
        if column.kind == "ref":
            return self._reference(column, text, row)
        if column.name == "subject_id":
            return self._subject(text, row)
        if column.kind in ("money", "signed_money", "percent", "number", "days", "whole"):
            return self._number(text, column.kind == "signed_money")
        if column.kind == "date":
            return self._day(text).isoformat()
        if column.kind == "moment":
            return self._moment(text)
        if column.kind == "flag":
            return _flag(text)
        if column.kind == "word":
            return text.casefold().replace(" ", "_").replace("-", "_")
        return " ".join(text.splitlines()) if column.kind in ("id", "name") else text

    def _number(self, text: str, signed: bool) -> str:
        example, style = NUMBER_FORMS[self.matching.numbers]
        try:
            read = read_number(text, style)
        except NotANumber:
            raise CellRefused(
                f"“{text[:40]}” is not a number of the chosen form", f"a number such as {example}"
            ) from None
        if read.unit and read.unit.casefold() not in self.units:
            raise CellRefused(f"“{text[:40]}” is of another currency or unit", f"a number such as {example}")
        if read.value < 0 and not signed:
            raise CellRefused(f"“{text[:40]}” is below 0", f"a number such as {example}")
        # Zeros at the end of a fraction mean nothing; other decimals are for the table to judge.
        return f"{read.value.normalize():f}"

    def _day(self, text: str) -> date:
        example, forms = DATE_FORMS[self.matching.dates]
        first = text.split("T", maxsplit=1)[0].split(" ", maxsplit=1)[0]
        for form in ("%Y-%m-%d", *forms):
            try:
                return datetime.strptime(first, form).date()
            except ValueError:
                continue
        raise CellRefused(f"“{text[:40]}” is not a date of the chosen form", f"a date such as {example}")

    def _moment(self, text: str) -> str:
        try:
            moment = datetime.fromisoformat(text)
        except ValueError:
            moment = datetime.combine(self._day(text), datetime.min.time())
        if moment.tzinfo is None:
            moment = moment.replace(tzinfo=self.zone)
        return moment.isoformat(timespec="seconds")

    def _reference(self, column: Column, text: str, row: dict[str, str]) -> str:
        names = self._names(column.target)
        match = names.get(text) or names.get(text.casefold())
        if column.target == "stages":
            process = row.get("process_id") or self.matching.process
            match = names.get(f"{process}\0{text.casefold()}") or (match if match in self.stage_kinds else None)
        if match == AMBIGUOUS:
            raise CellRefused(f"“{text[:40]}” names several", "the identifier of one of them")
        if match:
            return match
        if column.target == "accounts" and self.matching.make_accounts:
            key = derived_key(text)
            self.prepared.accounts.setdefault(key, {"name": text[:200]} | dict.fromkeys(GIVEN_TO_ACCOUNTS, ""))
            return key
        raise CellRefused(
            f"“{text[:40]}” is not there", f"a name or identifier, such as {self._likely(column.target, text)}"
        )

    def _likely(self, table: str, text: str) -> str:
        """The names most like what was typed, else the first there are."""
        if (table, text) not in self.likely:
            names = list(
                dict.fromkeys(MODELS[table].objects.order_by("name").values_list("name", flat=True)[:MOST_NAMES])
            )
            self.likely[table, text] = ", ".join(get_close_matches(text, names) or names[:4]) or "none yet"
        return self.likely[table, text]

    def _subject(self, text: str, row: dict[str, str]) -> str:
        tables = {"team": "teams", "person": "people", "territory": "territories", "partner": "partners"}
        names = self._names(tables.get(row.get("subject", ""), "people"))
        match = names.get(text) or names.get(text.casefold())
        if not match or match == AMBIGUOUS:
            raise CellRefused(f"“{text[:40]}” is not one node", "its name or identifier")
        return match

    def _names(self, table: str) -> dict[str, str]:
        """Identifier, name in small letters and mail address → identifier; a name of several is ambiguous."""
        if table not in self.names:
            model = MODELS[table]
            keys: dict[str, str] = {}
            for record in model.objects.all().iterator():
                name = record.name.casefold()
                keys[name] = record.key if keys.get(name, record.key) == record.key else AMBIGUOUS
                if table == "stages":
                    keys[f"{record.process.key}\0{name}"] = record.key
                if table == "people" and record.email:
                    keys[record.email.casefold()] = record.key
            keys |= {key: key for key in model.objects.values_list("key", flat=True)}
            self.names[table] = keys
        return self.names[table]

    def _stand_ins(self, row: dict[str, str], typed: dict[str, str]) -> None:
        """What the file leaves open, as the page shows beforehand."""
        slug, key_name = self.kind.slug, self.kind.columns[0]
        if slug == "deals":
            self._deal_stand_ins(row)
        elif slug == "leads":
            row["created_at"] = row.get("created_at") or self.now.isoformat(timespec="seconds")
        elif slug == "quotas":
            row["metric"] = row.get("metric") or "won_amount"
            if row.get("starts_on") and not row.get("ends_on"):
                row["ends_on"] = _month_end(date.fromisoformat(row["starts_on"])).isoformat()
        elif slug == "invoices":
            row["due_on"] = row.get("due_on") or row.get("issued_on", "")
        elif slug == "orders":
            row["open"] = row.get("open") or "false"
        if slug != "quotas" and not row.get(key_name):
            by_name = self._names(slug) if slug in ("accounts", "people", "products", "contacts") else {}
            known = by_name.get(typed.get("name", "").casefold())
            identity = [typed.get(name, "") for name in IDENTITY[slug]] if slug in IDENTITY else typed.values()
            row[key_name] = known if known and known != AMBIGUOUS else derived_key("|".join(identity))

    def _deal_stand_ins(self, row: dict[str, str]) -> None:
        if not row.get("process_id"):
            row["process_id"] = self.matching.process
        if self.stage_kinds.get(row.get("stage_id", ""), StageKind.OPEN) == StageKind.OPEN:
            row["closed_at"] = ""
        elif not row.get("closed_at") and row.get("expected_close"):
            row["closed_at"] = self._moment(row["expected_close"])
        if not row.get("deal_id"):
            identity = "|".join(row.get(name, "") for name in ("name", "account_id", "created_at", "process_id"))
            row["deal_id"] = derived_key(identity)
        if not row.get("created_at"):
            known = self.created.get(row["deal_id"])
            row["created_at"] = (
                known.isoformat() if known else row.get("closed_at") or self.now.isoformat(timespec="seconds")
            )


def _flag(text: str) -> str:
    word = text.casefold()
    if word not in YES | NO:
        raise CellRefused(f"“{text[:40]}” is neither yes nor no", "yes or no")
    return "true" if word in YES else "false"


def _month_end(day: date) -> date:
    following = (day.replace(day=28).toordinal()) + 4
    return date.fromordinal(date.fromordinal(following).replace(day=1).toordinal() - 1)


def derived_key(text: str) -> str:
    """An identifier that the same text always gives, so that the same file twice changes nothing."""
    return "x" + hashlib.sha256(text.casefold().encode()).hexdigest()[:15]
