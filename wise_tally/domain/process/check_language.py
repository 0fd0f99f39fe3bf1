"""The language of entry checks: one plain sentence a line, the same for every stage.

    amount is filled                     amount is at least 1000        probability is at most 80
    expected close is within 90 days     expected close is not past     products are filled
    "Has the site been visited?" is answered            "Is the budget approved?" is answered yes
    a meeting is done                    moved by manager or administrator or r01

Own fields go by their name. A sentence that cannot be read says which are accepted.
"""

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date
from decimal import Decimal

from wise_tally.domain.formats import plural

FIELDS = (
    "amount", "probability", "expected close", "account", "contact", "partner", "territory", "deal type",
    "source", "campaign", "next step", "lost reason", "category", "products",
)  # fmt: skip
NUMBERS, DATES = ("amount", "probability"), ("expected close",)
KINDS = ("phone", "meeting", "mail", "site visit", "task")
ROLES = ("administrator", "manager", "rep", "viewer")
ACCEPTED = (
    "“FIELD is filled”, “FIELD is at least NUMBER”, “FIELD is at most NUMBER”, “DATE is within NUMBER days”,"
    ' “DATE is not past”, “"QUESTION" is answered”, “"QUESTION" is answered yes”, “a KIND is done”,'
    " “moved by ROLE or PERSON”"
)


@dataclass(frozen=True)
class Sentence:
    """A form of sentence: its words on a button, its wording, which kinds of subject it fits, and whether it has a bound."""

    words: str
    wording: str
    kinds: tuple[str, ...]
    bound: bool = False


QUESTION, ACTIVITY, MOVER = "question", "activity", "mover"
SENTENCES = {
    "filled": Sentence("is filled", "{subject} is filled", ("text", "choice", "number", "date")),
    "at least": Sentence("is at least", "{subject} is at least {bound}", ("number",), bound=True),
    "at most": Sentence("is at most", "{subject} is at most {bound}", ("number",), bound=True),
    "within": Sentence("is within days", "{subject} is within {bound} days", ("date",), bound=True),
    "not past": Sentence("is not past", "{subject} is not past", ("date",)),
    "answered": Sentence("is answered", '"{subject}" is answered', (QUESTION,)),
    "answered yes": Sentence("is answered yes", '"{subject}" is answered yes', (QUESTION,)),
    "answered no": Sentence("is answered no", '"{subject}" is answered no', (QUESTION,)),
    "done": Sentence("is done", "a {subject} is done", (ACTIVITY,)),
    "mover": Sentence("moves the deal", "moved by {subject}", (MOVER,)),
}


class CheckWrong(Exception):
    """A sentence of no known form; says what is accepted."""


@dataclass(frozen=True)
class Check:
    """One sentence as read: what is asked of which subject, with what bound."""

    text: str
    asks: str
    subject: str
    bound: str = ""


@dataclass(frozen=True)
class Facts:
    """What is known of a deal as it would enter the stage; money and percentages as decimals, dates as dates."""

    values: Mapping[str, object]
    today: date
    mover_role: str
    mover_key: str
    answers: Mapping[str, str] = field(default_factory=dict)
    done: frozenset[str] = frozenset()


NUMBER = r"\d{1,11}(?:\.\d{1,2})?"
FORMS = (
    ("answered", re.compile(r'"(?P<subject>[^"]+)" is answered(?: (?P<bound>yes|no))?')),
    ("done", re.compile(r"an? (?P<subject>[a-z ]+) is done")),
    ("mover", re.compile(r"moved by (?P<subject>.+)")),
    ("filled", re.compile(r"(?P<subject>.+) (?:is|are) filled")),
    ("at least", re.compile(rf"(?P<subject>.+) is at least (?P<bound>{NUMBER})")),
    ("at most", re.compile(rf"(?P<subject>.+) is at most (?P<bound>{NUMBER})")),
    ("within", re.compile(r"(?P<subject>.+) is within (?P<bound>\d{1,4}) days")),
    ("not past", re.compile(r"(?P<subject>.+) is not past")),
)


def subject_kinds(own_fields: Mapping[str, str]) -> dict[str, str]:
    """What a sentence may be about by name, with its kind."""
    kinds = {**dict.fromkeys(FIELDS, "text"), **dict.fromkeys(NUMBERS, "number"), **dict.fromkeys(DATES, "date")}
    return {**kinds, **own_fields}


def sentence_of(asks: str, subject: str, bound: str) -> str:
    """A sentence from its parts as picked; raises CheckWrong for a form that is not known or lacks a part."""
    form = SENTENCES.get(asks)
    if form is None:
        raise CheckWrong(f"“{asks[:40]}” is not a test. Choose one of: {', '.join(SENTENCES)}.")
    if not subject.strip() or (form.bound and not bound.strip()):
        raise CheckWrong("Pick what the rule is about, and enter the value it is compared with.")
    return form.wording.format(subject=" ".join(subject.split()), bound=bound.strip())


def read_check(text: str, own_fields: Mapping[str, str] | None = None, people: frozenset[str] = frozenset()) -> Check:
    """Read one sentence; `own_fields` maps names to kinds (text, choice, number, date). Raises CheckWrong."""
    plain = " ".join(text.split())
    for asks, form in FORMS:
        if match := form.fullmatch(plain):
            parts = match.groupdict()
            check = Check(plain, asks, parts["subject"].strip(), parts.get("bound") or "")
            _require_known(check, own_fields or {}, people)
            return check
    raise CheckWrong(f"“{plain[:60]}” is not a rule. Use one of: {ACCEPTED}.")


def _require_known(check: Check, own_fields: Mapping[str, str], people: frozenset[str]) -> None:
    subject = check.subject
    if check.asks == "done" and subject not in KINDS:
        raise CheckWrong(f"“{subject}” is not an activity. Choose one of: {', '.join(KINDS)}.")
    if check.asks == "mover":
        unknown = [name for name in _movers(subject) if name not in ROLES and name not in people]
        if unknown:
            raise CheckWrong(
                f"“{unknown[0]}” is neither a role nor a person. Use one of: {', '.join(ROLES)}, or a person’s name."
            )
    if check.asks not in ("filled", "at least", "at most", "within", "not past"):
        return
    kinds = subject_kinds(own_fields)
    if subject not in kinds:
        raise CheckWrong(f"“{subject}” is not a field. Choose one of: {', '.join(kinds)}.")
    wanted = {"at least": "number", "at most": "number", "within": "date", "not past": "date"}.get(check.asks)
    if wanted and kinds[subject] != wanted:
        some = ", ".join(name for name, kind in kinds.items() if kind == wanted)
        raise CheckWrong(f"“{subject}” is not a {wanted}. Choose one of: {some}.")


def _movers(subject: str) -> list[str]:
    return [name.strip() for name in subject.split(" or ")]


def missing(check: Check, facts: Facts) -> str | None:
    """What still lacks before the deal may enter; None where the check is met."""
    return None if _met(check, facts) else MISSING[check.asks](check)


def _met(check: Check, facts: Facts) -> bool:
    value = facts.values.get(check.subject)
    if check.asks == "answered":
        answer = facts.answers.get(check.subject, "").strip().casefold()
        return answer == check.bound if check.bound else bool(answer)
    if check.asks == "done":
        return check.subject in facts.done
    if check.asks == "mover":
        return bool({facts.mover_role, facts.mover_key} & set(_movers(check.subject)))
    if value in (None, "", 0):
        return False
    if check.asks in ("at least", "at most"):
        number, bound = Decimal(str(value)), Decimal(check.bound)
        return number >= bound if check.asks == "at least" else number <= bound
    if isinstance(value, date):
        days = (value - facts.today).days
        return check.asks == "filled" or (0 <= days <= int(check.bound or 10**6))
    return check.asks == "filled"


MISSING = {
    "filled": lambda c: f"{c.subject} must be filled",
    "at least": lambda c: f"{c.subject} must be at least {c.bound}",
    "at most": lambda c: f"{c.subject} must be at most {c.bound}",
    "within": lambda c: f"{c.subject} must lie within {plural(c.bound, 'day')} from today",
    "not past": lambda c: f"{c.subject} must not be in the past",
    "answered": lambda c: f"“{c.subject}” must be answered{' ' + c.bound if c.bound else ''}",
    "done": lambda c: f"a {c.subject} must be done",
    "mover": lambda c: f"only {c.subject} can move a deal here",
}
