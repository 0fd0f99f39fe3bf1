"""A package with what is already there, checked as one. Each fault names one row of its group."""

from collections import defaultdict
from collections.abc import Callable, Iterable, Mapping
from datetime import UTC, date, datetime
from typing import Any

from django.db.models import F

from wise_tally.core.trees import loop_on_any_date
from wise_tally.package.cells import shown
from wise_tally.package.faults import Report
from wise_tally.package.parse import BAD, Parsed
from wise_tally.package.tables import TABLES


class Checker:
    """A package with what is already there, checked as one."""

    def __init__(self, package: dict[str, Parsed], decimals: int, report: Report) -> None:
        self.package, self.decimals, self.report = package, decimals, report
        self.known: dict[str, set[str]] = {}
        self.stages = self._stages()

    def run(self, checks_of: "Mapping[str, Iterable[Check]]") -> None:
        """Every check, those of each table from `checks_of`; faults go to the report."""
        for name, parsed in self.package.items():
            self._unique(parsed)
            self._references(parsed)
            if checks := checks_of.get(name):
                for check in checks:
                    check(self, parsed)
        for nodes, history, owner in (
            ("teams", "team_parents", "team_id"),
            ("territories", "territory_parents", "territory_id"),
        ):
            if nodes in self.package or history in self.package:
                self._tree(nodes, history, owner)
        if {"stages", "processes"} & set(self.package):
            self._closed_stages()

    def fault(self, parsed: Parsed, index: int, column: str, wrong: str, right: str) -> None:
        """A fault of one row."""
        self.report.add(parsed.table.path, parsed.lines[index], column, wrong, right)

    def keys(self, table: str) -> set[str]:
        """Identifiers of a table, in the package and already there."""
        if table not in self.known:
            model = TABLES[table].model
            assert model is not None
            keys = set(model._default_manager.values_list("key", flat=True))
            if table in self.package:
                keys |= set(self.package[table].get(TABLES[table].columns[0].name))
            if table == "categories" and not keys:
                keys = {"commit", "best_case", "early", "left_out"}
            self.known[table] = keys - {None, BAD}
        return self.known[table]

    def _stages(self) -> dict[str, tuple[str, str]]:
        """Stage identifier → (process identifier, kind)."""
        rows = TABLES["stages"].model._default_manager.values_list("key", "process__key", "kind")  # type: ignore[union-attr]
        by_key = {key: (process, kind) for key, process, kind in rows}
        if stages := self.package.get("stages"):
            for key, process, kind in zip(*map(stages.get, ("stage_id", "process_id", "kind")), strict=True):
                if BAD not in (key, process, kind):
                    by_key[key] = (process, kind)
        return by_key

    def _unique(self, parsed: Parsed) -> None:
        names = parsed.table.unique
        if not names:
            return
        columns = [parsed.get(name) for name in names]
        known: set[Any] = set()
        for index, values in enumerate(zip(*columns, strict=True)):
            if BAD in values:
                continue
            if values in known:
                kinds = [parsed.table.column(name).kind for name in names]
                text = " ".join(readable(v, k) for v, k in zip(values, kinds, strict=True) if v not in (None, ""))
                self.fault(parsed, index, names[0], f"{shown(text)} appears twice", "each row once")
            known.add(values)

    def _references(self, parsed: Parsed) -> None:
        for column in parsed.table.columns:
            if column.kind != "ref" or column.name not in parsed.columns:
                continue
            values = parsed.columns[column.name]
            unknown = set(values) - self.keys(column.target) - {None, BAD}
            if unknown:
                for index, value in enumerate(values):
                    if value in unknown:
                        right = f"an identifier of {TABLES[column.target].path} or one already there"
                        self.fault(parsed, index, column.name, f"{shown(value)} is not known", right)

    def _tree(self, nodes: str, history: str, owner: str) -> None:
        parents: dict[str, list[tuple[int, str]]] = defaultdict(list)
        dated: dict[tuple[str, int], str] = {}
        base: dict[str, str] = {}
        model, dated_model = TABLES[nodes].model, TABLES[history].model
        assert model is not None
        assert dated_model is not None
        base.update(model._default_manager.values_list("key", "parent__key"))
        field = owner.removesuffix("_id")
        for key, day, parent in dated_model._default_manager.values_list(f"{field}__key", F("from_on"), "parent__key"):
            dated[key, day.toordinal()] = parent
        if parsed := self.package.get(nodes):
            base.update(zip(parsed.get(owner), parsed.get("parent_id"), strict=True))
        if parsed := self.package.get(history):
            for key, day, parent in zip(*map(parsed.get, (owner, "from_on", "parent_id")), strict=True):
                if BAD not in (key, day):
                    dated[key, day] = parent
        for (key, day), parent in sorted(dated.items(), key=lambda item: (str(item[0][0]), item[0][1])):
            parents[key].append((day, parent))
        keys = sorted(k for k in {*base, *parents} if isinstance(k, str))
        index = {key: number for number, key in enumerate(keys)}
        rows = [[(day, index.get(up, -1)) for day, up in parents.get(key) or [(0, base.get(key, ""))]] for key in keys]
        if (loop := loop_on_any_date(rows)) is not None:
            moved_on = {keys[node]: _held_on(parents.get(keys[node]), loop.day) for node in loop.nodes}
            self._report_loop(nodes, history, owner, moved_on)

    def _report_loop(self, nodes: str, history: str, owner: str, moved_on: dict[str, int | None]) -> None:
        """Name the row that puts a node of the loop where it is: a dated one (`moved_on` has its day), or that of the node."""
        right = "a tree without a loop on any date"
        for key, day in moved_on.items():
            parsed = self.package.get(nodes if day is None else history)
            rows = (
                zip(parsed.get(owner), parsed.get("from_on") if day is not None else [None] * len(parsed), strict=True)
                if parsed
                else ()
            )
            index = next((index for index, row in enumerate(rows) if row == (key, day)), None)
            if parsed and index is not None:
                self.fault(parsed, index, "parent_id", f"{shown(key)} is below itself", right)
                return
        path = self.package[nodes if nodes in self.package else history].table.path
        self.report.add(path, 0, "parent_id", f"{shown(next(iter(moved_on)))} is below itself", right)

    def _closed_stages(self) -> None:
        kinds: dict[str, list[str]] = defaultdict(list)
        for process, kind in self.stages.values():
            kinds[process].append(kind)
        file = "stages" if "stages" in self.package else "processes"
        parsed = self.package[file]
        column = parsed.get("process_id")
        for process in sorted(self.keys("processes")):
            won, lost = kinds[process].count("won"), kinds[process].count("lost")
            if won == 1 and lost >= 1:
                continue
            row = parsed.lines[self._row_of_kind(parsed, process, won)] if process in column else 0
            wrong = f"process {shown(process)} has {won} won and {lost} lost stages"
            self.report.add(parsed.table.path, row, "kind", wrong, "exactly one won stage and at least one lost")

    def _row_of_kind(self, parsed: Parsed, process: str, won: int) -> int:
        """The second won stage of a process that has several, else its first row."""
        pairs = zip(parsed.get("process_id"), parsed.get("kind"), strict=True)
        places = [index for index, (of, kind) in enumerate(pairs) if of == process and (won < 2 or kind == "won")]
        return places[min(1, len(places) - 1)] if won > 1 else places[0]


def _held_on(dated: list[tuple[int, Any]] | None, day: int) -> int | None:
    """The day of the dated row that holds on a day, the first before it; None without dated rows."""
    days = [from_day for from_day, _ in dated or []]
    return max((one for one in days if one <= day), default=days[0]) if days else None


def readable(value: Any, kind: str) -> str:
    """A kept value as people read it."""
    if kind == "date":
        return date.fromordinal(value).isoformat()
    return datetime.fromtimestamp(value, UTC).isoformat() if kind == "moment" else str(value)


Check = Callable[[Checker, Parsed], None]
