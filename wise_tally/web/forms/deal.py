"""What is typed into a deal's row, read with faults that say what is accepted."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date

from wise_tally.core.number_reader import whole_number
from wise_tally.domain.deals.actions import NO_CLOSING, Closing, DealState, Typed, last_revision
from wise_tally.domain.deals.entry import Lacking
from wise_tally.domain.deals.models import Deal, DealRevision
from wise_tally.domain.formats import bare, money_input
from wise_tally.domain.org.clock import local_day, today
from wise_tally.domain.org.typed_days import typed_day
from wise_tally.domain.process.models import Category, Stage, StageKind
from wise_tally.domain.typed_numbers import typed_money, typed_percent

STATE_NAMES = ("stage", "amount", "expected_close", "category", "probability")
CLOSING_NAMES = ("closed_on", "lost_reason", "competitor")
NAMES = (*STATE_NAMES, "reason")


@dataclass
class ClosingForm:
    """What closing deals needs, typed in one small dialog; `given`: whether it was shown already."""

    kind: str
    name: str
    typed: dict[str, str]
    given: bool
    faults: dict[str, str] = field(default_factory=dict)
    closing: Closing = NO_CLOSING

    @property
    def is_asked(self) -> bool:
        """Whether it has to be typed, or typed again."""
        return not self.given or bool(self.faults)


def read_closing(posted: Mapping[str, str], kind: str, name: str) -> ClosingForm:
    """The closing of deals that would be won or lost (`kind`) in a stage or as several (`name`); today where no day was typed yet."""
    form = ClosingForm(kind, name, {part: posted.get(part, "").strip() for part in CLOSING_NAMES}, "closing" in posted)
    if not form.given:
        form.typed["closed_on"] = today().isoformat()
        return form
    on = read_day(form.typed["closed_on"], "closed_on", form.faults)
    if kind == StageKind.LOST and not form.typed["lost_reason"]:
        form.faults["lost_reason"] = "No reason is given. Say why the deal was lost."
    form.closing = Closing(on, form.typed["lost_reason"][:10_000], form.typed["competitor"][:200])
    return form


@dataclass
class DealForm:
    """Typed values and what is wrong with them, by field; `closes` where the deal would enter a closed stage."""

    typed: dict[str, str]
    faults: dict[str, str] = field(default_factory=dict)
    state: DealState | None = None
    revision: int = 0
    answers: dict[str, str] = field(default_factory=dict)
    details: dict[str, str] = field(default_factory=dict)
    questions: list[tuple[str, str, str]] = field(default_factory=list)
    asks_past: bool = False
    closes: ClosingForm | None = None

    @property
    def asks_closing(self) -> bool:
        """Whether what closing needs is still to be typed."""
        return self.closes is not None and self.closes.is_asked

    @property
    def further(self) -> Typed:
        """What was typed besides the state."""
        return Typed(self.answers, self.details, self.closes.closing if self.closes else NO_CLOSING)

    def ask_for(self, lacking: Sequence[Lacking]) -> None:
        """Input name, label and typed value of everything that can be typed to meet what a stage asks."""
        typed = {"answer": self.answers, "detail": self.details}
        given = {(kind, name) for kind, values in typed.items() for name in values}
        wanted = given | {(item.asks, item.name) for item in lacking if item.asks}
        self.questions = [(f"{kind}:{name}", name, typed[kind].get(name, "")) for kind, name in sorted(wanted)]


def read_deal_form(posted: Mapping[str, str], deal: Deal, decimals: int) -> DealForm:
    """The new state of a deal, or faults; what was typed is kept.

    A cell edited in place posts its name as `edited`: the rest of the state is then that of the deal now.
    """
    last = last_revision(deal)
    form = DealForm({name: posted.get(name, "").strip() for name in NAMES})
    form.typed |= _rest_as_it_is(posted, last)
    for name, text in posted.items():
        kind, _, subject = name.partition(":")
        if kind in ("answer", "detail") and subject:
            (form.answers if kind == "answer" else form.details)[subject[:10_000]] = text
    form.revision = whole_number(posted.get("revision", "")) or 0
    stage, category = _stage(form, deal), _category(form)
    amount = typed_money(form.typed["amount"], decimals)
    if isinstance(amount, str):
        form.faults["amount"] = amount
    close = _expected_close(form, deal, last, stage, meant="past_meant" in posted)
    probability = typed_percent(form.typed["probability"]) if form.typed["probability"] else None
    if isinstance(probability, str):
        form.faults["probability"] = probability
    if stage is not None and stage.kind != StageKind.OPEN and stage != last.stage:
        form.closes = read_closing(posted, stage.kind, stage.name)
        form.faults |= form.closes.faults
    if not form.faults and not form.asks_closing and stage is not None and isinstance(amount, int):
        form.state = DealState(stage, amount, close, category)
        if posted.get("edited", "probability") == "probability" and "probability" in posted:
            assert not isinstance(probability, str)
            form.state = replace(form.state, probability_bp=probability, sets_probability=True)
    return form


def _rest_as_it_is(posted: Mapping[str, str], last: DealRevision) -> dict[str, str]:
    if "edited" not in posted:
        return {}
    now = {
        "stage": last.stage.key,
        "amount": str(money_input(last.amount_minor)),
        "expected_close": last.expected_close.isoformat() if last.expected_close else "",
        "category": last.category.key if last.category else "",
        "probability": bare(last.probability_bp),
    }
    now.pop(posted["edited"], None)
    return now


def _stage(form: DealForm, deal: Deal) -> Stage | None:
    stage = Stage.objects.filter(key=form.typed["stage"], process=deal.process_id).first()
    if stage is None:
        names = ", ".join(deal.process.stages.order_by("position").values_list("name", flat=True))
        form.faults["stage"] = f"This is not a stage of {deal.process.name}. Choose one of: {names}."
    return stage


def _category(form: DealForm) -> Category | None:
    category = Category.objects.filter(key=form.typed["category"]).first()
    if form.typed["category"] and category is None:
        names = ", ".join(Category.objects.order_by("rank").values_list("name", flat=True))
        form.faults["category"] = f"This is not a forecast category. Choose one of: {names}, or the stage default."
    return category


def _expected_close(form: DealForm, deal: Deal, last: DealRevision, stage: Stage | None, meant: bool) -> date | None:
    close, created = read_day(form.typed["expected_close"], "expected_close", form.faults), local_day(deal.created_at)
    if close is None or close == last.expected_close:
        return close
    if close < created:
        form.faults["expected_close"] = (
            f"{close:%-d %b %Y} is before the deal was created. Choose a day from {created:%-d %b %Y} on, or none."
        )
    elif close < today() and not meant and stage is not None and stage.kind == StageKind.OPEN:
        form.asks_past = True
        form.faults["expected_close"] = (
            f"{close:%-d %b %Y} is in the past. Confirm that this is intended, or choose today or later."
        )
    return close


def read_day(text: str, name: str, faults: dict[str, str]) -> date | None:
    """A typed day, None for none; what is no day becomes a fault of the field."""
    if not text:
        return None
    day = typed_day(text)
    if isinstance(day, date):
        return day
    faults[name] = f"{day} Or leave it empty."
    return None
