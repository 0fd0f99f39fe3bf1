"""What each tool of the quota plan would do with what is set, in one sentence before it is done."""

from collections.abc import Mapping, Sequence

from wise_tally.core.errors import CoreError
from wise_tally.domain.formats import bare, plan_value, plural, points
from wise_tally.domain.targets.models import SeasonCurve
from wise_tally.domain.typed_numbers import typed_percent
from wise_tally.pages.setup.quotas.tools import given_shares, rows_below
from wise_tally.pages.setup.quotas.view import PlanNode, PlanView

STEP_WORDS = {"100": "in steps of 100", "1000": "in steps of 1000"}
# So many rows are named, more are counted.
NAMED = 4


def tool_words(view: PlanView, nodes: Sequence[PlanNode], given: Mapping[str, str]) -> dict[str, str]:
    """A sentence for each tool, by the tool's name."""
    if not nodes:
        return {}
    node = next((node for node in nodes if node.token == given.get("row")), nodes[0])
    return {
        "year": _year(view, node, given),
        "down": _down(nodes, node, given),
        "up": _up(nodes, node, given),
        "copy": _copy(view, given),
    }


def _year(view: PlanView, node: PlanNode, given: Mapping[str, str]) -> str:
    total = view.typed(given.get("total", "").strip())
    if isinstance(total, str):
        return f"Enter the total of the year for {node.name}."
    curve = given.get("curve", "equal")
    names = {"equal": "in equal parts", "last-year": "by last year’s won amounts"}
    named = names.get(curve) or f"by {SeasonCurve.objects.filter(key=curve).values_list('name', flat=True).first()}"
    return _sentence(f"{plan_value(total, view.kind.is_money)} over the 12 months of {node.name}, {named}", given)


def _sentence(words: str, given: Mapping[str, str]) -> str:
    step = STEP_WORDS.get(given.get("step", ""))
    return f"{words}, {step}." if step else f"{words}."


def _down(nodes: Sequence[PlanNode], node: PlanNode, given: Mapping[str, str]) -> str:
    children, by = rows_below(nodes, node), given.get("weights", "equal")
    if not children:
        return f"{node.name} has no rows below it. Choose another row."
    reached, how = children, "by last year’s won amounts"
    if by == "given":
        try:
            shares = given_shares(given.get("given", ""), children)
        except CoreError as wrong:
            return str(wrong)
        how = f"as {' : '.join(bare(share) for share in shares)}"
    elif by == "equal":
        some = [child for child in children if child.shares(given.get("managers", "with-deals"))]
        reached, how = some or children, "in equal parts"
    words = f"Each month of {node.name} over {_named(reached)}, {how}"
    if given.get("levels") == "all":
        words += ", then on to the rows below them" + (" in equal parts" if by == "given" else "")
    none = [child for child in children if child not in reached]
    return _sentence(words, given) + (f" {_named(none)} {'gets' if len(none) == 1 else 'get'} none." if none else "")


def _named(rows: Sequence[PlanNode]) -> str:
    if len(rows) <= NAMED:
        *others, last = [row.name for row in rows]
        return f"{', '.join(others)} and {last}" if others else last
    return plural(len(rows), "person" if {row.subject for row in rows} == {"person"} else "row")


def _up(nodes: Sequence[PlanNode], node: PlanNode, given: Mapping[str, str]) -> str:
    if given.get("levels") == "all":
        return "Every row becomes the total of the rows below it, from the bottom up."
    children = rows_below(nodes, node)
    if not children:
        return f"{node.name} has no rows below it. Choose another row."
    return f"Each month of {node.name} becomes the total of {_named(children)}."


def _copy(view: PlanView, given: Mapping[str, str]) -> str:
    text = given.get("percent", "").strip() or "0"
    percent = typed_percent(text.lstrip("+-"))
    if isinstance(percent, str):
        return percent
    changed = f", {points(percent)} {'lower' if text.startswith('-') else 'higher'}" if percent else ", unchanged"
    return f"Every row gets its quotas of FY{view.year - 1}{changed}."
