"""What is typed into a deal's row, read with faults that say what is accepted."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date

from wise_tally.deals.actions import DealState, last_revision
from wise_tally.deals.entry import Lacking
from wise_tally.deals.models import Deal
from wise_tally.org.clock import local_day, today
from wise_tally.process.models import Category, Stage, StageKind
from wise_tally.ui.numbers import typed_money, typed_percent


@dataclass
class DealForm:
    """Typed values and what is wrong with them, by field."""

    typed: dict[str, str]
    faults: dict[str, str] = field(default_factory=dict)
    state: DealState | None = None
    revision: int = 0
    answers: dict[str, str] = field(default_factory=dict)
    details: dict[str, str] = field(default_factory=dict)
    asked: list[tuple[str, str, str]] = field(default_factory=list)
    asks_past: bool = False

    def ask_for(self, lacking: Sequence[Lacking]) -> None:
        """Input name, label and typed value of everything that can be typed to meet what a stage asks."""
        typed = {"answer": self.answers, "detail": self.details}
        kept = {(kind, name) for kind, values in typed.items() for name in values}
        wanted = kept | {(item.asks, item.name) for item in lacking if item.asks}
        self.asked = [(f"{kind}:{name}", name, typed[kind].get(name, "")) for kind, name in sorted(wanted)]


NAMES = ("stage", "amount", "expected_close", "category", "reason", "probability")


def read_deal_form(posted: Mapping[str, str], deal: Deal, decimals: int) -> DealForm:
    """The new state of a deal, or faults; what was typed is kept."""
    form = DealForm({name: posted.get(name, "").strip() for name in NAMES})
    for name, text in posted.items():
        kind, _, subject = name.partition(":")
        if kind in ("answer", "detail") and subject:
            (form.answers if kind == "answer" else form.details)[subject[:10_000]] = text
    stage = Stage.objects.filter(key=form.typed["stage"]).first()
    if stage is None or stage.process_id != deal.process_id:
        names = ", ".join(deal.process.stages.order_by("position").values_list("name", flat=True))
        form.faults["stage"] = f"This is not a stage of {deal.process.name}; accepted: {names}."
    amount = typed_money(form.typed["amount"], decimals)
    if isinstance(amount, str):
        form.faults["amount"] = amount
    close = _day(form.typed["expected_close"], form)
    if close is not None and close < local_day(deal.created_at):
        form.faults["expected_close"] = (
            f"{close} is before the deal was created; accepted: a day from {local_day(deal.created_at)} on, or none."
        )
    elif close is not None and close < today() and posted.get("past_meant") != "yes":
        last = last_revision(deal)
        if last.expected_close != close and stage is not None and stage.kind == StageKind.OPEN:
            form.asks_past = True
            form.faults["expected_close"] = f"{close} is past. Tick that it is meant so, or choose a day from today on."
    probability = typed_percent(form.typed["probability"]) if form.typed["probability"] else None
    if isinstance(probability, str):
        form.faults["probability"] = probability
    category = Category.objects.filter(key=form.typed["category"]).first()
    if form.typed["category"] and category is None:
        names = ", ".join(Category.objects.order_by("rank").values_list("name", flat=True))
        form.faults["category"] = f"This is not a forecast category; accepted: {names}, or the stage’s."
    number = posted.get("revision", "")
    form.revision = int(number) if number.isascii() and number.isdigit() and len(number) < 16 else 0
    if not form.faults and stage is not None and isinstance(amount, int):
        form.state = DealState(stage, amount, close, category)
        if "probability" in posted and not isinstance(probability, str):
            form.state = replace(form.state, probability_bp=probability, sets_probability=True)
    return form


def _day(text: str, form: DealForm) -> date | None:
    if not text:
        return None
    try:
        day = date.fromisoformat(text)
        if len(text) == 10 and 1900 <= day.year < 2200:
            return day
    except ValueError:
        pass
    form.faults["expected_close"] = f"“{text[:40]}” is not a date; accepted: YYYY-MM-DD from 1900 to 2199, or none."
    return None
