"""Rows become core records: the reference data from small tables, columns from the large ones."""

from collections import defaultdict
from collections.abc import Callable, Iterable, Sequence
from typing import Any

import numpy as np
from django.db import connection
from django.db.models import Max, Model

from wise_tally.core.book import Credits, Deals, Revisions
from wise_tally.core.calendar import FiscalCalendar
from wise_tally.core.money import Ints
from wise_tally.core.reference_data import ALWAYS, Call, Category, Node, Person, Quota, ReferenceData, Stage, StageRule
from wise_tally.core.trees import NONE
from wise_tally.domain.deals import models as deals
from wise_tally.domain.org import models as org
from wise_tally.domain.process import models as process
from wise_tally.domain.targets import models as targets

KINDS = {"open": 0, "won": 1, "lost": 2}
LIST_BATCH = 20_000


def index_of(model: type[Model]) -> dict[int | None, int]:
    """Row number → index, in the order of row numbers; None → -1."""
    numbers = model._default_manager.order_by("pk").values_list("pk", flat=True)
    return {None: NONE, **{number: index for index, number in enumerate(numbers)}}


def read_reference() -> ReferenceData:
    """All small tables as core records."""
    workspace = org.Workspace.current()
    categories = process.Category.objects.order_by("pk")
    types, sources = distinct_texts("deal_type"), distinct_texts("source")
    return ReferenceData(
        organisation=workspace.organisation,
        time_zone=workspace.time_zone,
        fiscal=FiscalCalendar(workspace.fiscal_year_start_month),
        categories=tuple(Category(c.key, c.name, c.rank, c.counted) for c in categories),
        processes=tuple(process.Process.objects.order_by("pk").values_list("key", "name")),
        stages=_stages(),
        teams=_nodes(org.Team, org.TeamParent, "team_id"),
        territories=_nodes(org.Territory, org.TerritoryParent, "territory_id"),
        people=_people(),
        quotas=_quotas(),
        calls=_calls(),
        deal_types=types,
        sources=sources,
    )


def distinct_texts(attribute: str) -> tuple[str, ...]:
    """The values of a text attribute of deals, sorted by code point."""
    values = deals.Deal.objects.order_by().values_list(attribute, flat=True).distinct()
    return tuple(sorted(value for value in values if value))


def _history(rows: Iterable[tuple[Any, ...]]) -> dict[int, list[tuple[int, Any]]]:
    by_owner: dict[int, list[tuple[int, Any]]] = defaultdict(list)
    for owner, day, value in rows:
        by_owner[owner].append((day.toordinal(), value))
    return by_owner


def _nodes(model: Any, dated: Any, owner: str) -> tuple[Node, ...]:
    index = index_of(model)
    history = _history(dated.objects.order_by("from_on").values_list(owner, "from_on", "parent_id"))
    nodes = []
    for pk, key, name, base in model.objects.order_by("pk").values_list("pk", "key", "name", "parent_id"):
        rows = history.get(pk) or [(0, base)]
        nodes.append(Node(key, name, tuple((day, index[parent]) for day, parent in rows)))
    return tuple(nodes)


def _people() -> tuple[Person, ...]:
    teams = index_of(org.Team)
    history = _history(org.Membership.objects.order_by("from_on").values_list("person_id", "from_on", "team_id"))
    people = []
    for pk, key, name, base in org.Person.objects.order_by("pk").values_list("pk", "key", "name", "team_id"):
        rows = history.get(pk) or [(0, base)]
        people.append(Person(key, name, tuple((day, teams[team]) for day, team in rows)))
    return tuple(people)


def _days(hundredths: int | None) -> float | None:
    return None if hundredths is None else hundredths / 100


def _stages() -> tuple[Stage, ...]:
    categories, processes = index_of(process.Category), index_of(process.Process)
    rules: dict[int, list[StageRule]] = defaultdict(list)
    for rule in process.StageRule.objects.order_by("effective_at"):
        moment = int(rule.effective_at.timestamp())
        days = _days(rule.typical_days_hundredths)
        rules[rule.stage_id].append(StageRule(moment, rule.probability_bp, categories[rule.category_id], days))
    return tuple(
        Stage(
            key=stage.key,
            name=stage.name,
            process=processes[stage.process_id],
            position=stage.position,
            kind=KINDS[stage.kind],
            own_probability=stage.own_probability,
            retired=stage.retired,
            base=StageRule(
                ALWAYS, stage.probability_bp, categories[stage.category_id], _days(stage.typical_days_hundredths)
            ),
            rules=tuple(rules[stage.pk]),
        )
        for stage in process.Stage.objects.order_by("pk")
    )


def _subject_index() -> Callable[[str, str], int]:
    maps = {
        kind: {key: i for i, key in enumerate(model.objects.order_by("pk").values_list("key", flat=True))}
        for kind, model in (
            ("team", org.Team),
            ("person", org.Person),
            ("territory", org.Territory),
            ("partner", deals.Partner),
        )
    }
    return lambda subject, key: NONE if subject == "company" else maps[subject][key]


def _quotas() -> tuple[Quota, ...]:
    index = _subject_index()
    columns = ("subject", "subject_key", "metric", "starts_on", "ends_on", "value", "set_at")
    filters = ("product_group", "deal_type", "source", "activity_kind")
    return tuple(
        Quota(
            subject=subject,
            subject_index=index(subject, key),
            metric=metric,
            starts_on=start.toordinal(),
            ends_on=end.toordinal(),
            value=value,
            filters=tuple(rest),
            set_at=ALWAYS if set_at is None else int(set_at.timestamp()),
        )
        for subject, key, metric, start, end, value, set_at, *rest in targets.Quota.objects.order_by("pk").values_list(
            *columns, *filters
        )
    )


def _calls() -> tuple[Call, ...]:
    index, people = _subject_index(), index_of(org.Person)
    return tuple(
        Call(
            subject=call.subject,
            subject_index=index(call.subject, call.subject_key),
            starts_on=call.starts_on.toordinal(),
            ends_on=call.ends_on.toordinal(),
            made_at=int(call.made_at.timestamp()),
            made_by=people[call.made_by_id],
            amount_minor=call.amount_minor,
        )
        for call in targets.Call.objects.order_by("made_at", "pk")
    )


def _columns(query: str, names: int, after: int) -> list[Ints]:
    """Integer columns of a query, straight from the cursor; None becomes -1."""
    with connection.cursor() as cursor:
        cursor.execute(query, [after])
        parts = []
        while rows := cursor.fetchmany(LIST_BATCH):
            flat = (NONE if value is None else value for row in rows for value in row)
            parts.append(np.fromiter(flat, dtype=np.int64, count=len(rows) * names).reshape(len(rows), names))
    table = np.concatenate(parts) if parts else np.zeros((0, names), dtype=np.int64)
    return [np.ascontiguousarray(table[:, column]) for column in range(names)]


def _index(numbers: Ints, index: dict[int | None, int]) -> Ints:
    """Row numbers turned into indices; -1 stays."""
    size = max((key for key in index if key is not None), default=0) + 2
    table = np.full(size, NONE, dtype=np.int64)
    for number, row_index in index.items():
        if number is not None:
            table[number] = row_index
    return table[numbers]


def read_deals(reference: ReferenceData, after: int = 0) -> tuple[Ints, Deals]:
    """Row numbers (ascending) and columns of the deals with a row number above `after`."""
    types = {name: index for index, name in enumerate(reference.deal_types)}
    sources = {name: index for index, name in enumerate(reference.sources)}
    rows = list(deals.Deal.objects.filter(pk__gt=after).order_by("pk").values_list("key", "deal_type", "source"))
    number, process_id, created, short, lost_from = _columns(
        "SELECT id, process_id, created_at, short_form, lost_from_id FROM deals_deal WHERE id > %s ORDER BY id",
        5,
        after,
    )
    count = len(rows)
    return number, Deals(
        key=tuple(row[0] for row in rows),
        process=_index(process_id, index_of(process.Process)),
        created_at=created,
        deal_type=np.fromiter((types.get(row[1], NONE) for row in rows), dtype=np.int64, count=count),
        source=np.fromiter((sources.get(row[2], NONE) for row in rows), dtype=np.int64, count=count),
        short_form=short.astype(bool),
        lost_from=_index(lost_from, index_of(process.Stage)),
    )


def last_revision_number() -> int:
    """The highest row number of a revision, void or not; 0 without any."""
    return deals.DealRevision.objects.aggregate(last=Max("pk"))["last"] or 0


def deals_put_back(after: int) -> tuple[int, ...]:
    """Row numbers of the deals with a void revision above `after`: one that came before it may have become void, too."""
    # Sorted here: asked for an order by deal, the database walks the index of deals through all revisions.
    newer = deals.DealRevision.objects.filter(pk__gt=after, void=True)
    return tuple(sorted(set(newer.values_list("deal_id", flat=True))))


def came_short(numbers: Sequence[int]) -> list[bool]:
    """Whether each of these deals (row numbers, ascending) stands without its history."""
    return list(deals.Deal.objects.filter(pk__in=numbers).order_by("pk").values_list("short_form", flat=True))


def read_revisions(deal_numbers: Ints, after: int = 0, also_all_of: Sequence[int] = ()) -> Revisions:
    """The revisions above `after` and all those of some deals, sorted by deal, then in their order; void ones left out."""
    few = f" OR deal_id IN ({', '.join(map(str, also_all_of))})" if also_all_of else ""
    number, deal, rows, stage, amount, close, owner, territory, category, probability = _columns(
        "SELECT id, deal_id, effective_at, stage_id, amount_minor, COALESCE(expected_close, 0), owner_id, territory_id,"
        f" category_id, probability_bp FROM deals_dealrevision WHERE (id > %s{few}) AND NOT void",
        10,
        after,
    )
    index = np.searchsorted(deal_numbers, deal)
    order = np.lexsort((number, index))
    revisions = Revisions(
        deal=index,
        effective_at=rows,
        stage=_index(stage, index_of(process.Stage)),
        amount_minor=amount,
        expected_close=close,
        owner=_index(owner, index_of(org.Person)),
        territory=_index(territory, index_of(org.Territory)),
        category=_index(category, index_of(process.Category)),
        probability_bp=probability,
    )
    return revisions.take(order)


def read_lost(after: int, upto: int) -> list[tuple[int, int, str]]:
    """Revisions in lost stages between two row numbers: deal, moment in seconds, and the reason or an empty text."""
    # The few lost stages by their numbers: a join would look each of all revisions up.
    stages = process.Stage.objects.filter(kind=process.StageKind.LOST).values_list("pk", flat=True)
    marks = ", ".join(["%s"] * len(stages))
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT deal_id, effective_at, lost_reason FROM deals_dealrevision"
            f" WHERE id > %s AND id <= %s AND NOT void AND stage_id IN ({marks}) ORDER BY id",
            [after, upto, *stages],
        )
        return cursor.fetchall()


def read_credits(deal_numbers: Ints) -> Credits:
    """All credit shares, sorted by deal, then by day."""
    _, deal, person, share, from_day = _columns(
        "SELECT id, deal_id, person_id, share_bp, COALESCE(from_on, 0) FROM deals_dealcredit WHERE id > %s"
        " ORDER BY deal_id, COALESCE(from_on, 0), id",
        5,
        0,
    )
    return Credits(np.searchsorted(deal_numbers, deal), from_day, _index(person, index_of(org.Person)), share)
