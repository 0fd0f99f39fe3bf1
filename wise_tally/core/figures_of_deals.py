"""The register of figures of one deal, of a list of deals, and of a customer; see `figures` for those of forecasts and reports."""

from functools import partial

from wise_tally.core.customer import AGEING
from wise_tally.core.figure import Family, Figure, Kind

_list = partial(Figure, family=Family.LIST)
_deal = partial(Figure, family=Family.DEAL)
_days, _sum = partial(_deal, kind=Kind.DAYS), partial(_deal, kind=Kind.MONEY)
_WEIGHTED = "Amount × probability. Won is 100 %, lost 0 %."
_SLIPS = "Changes that moved the close date of the open deal to a later day."
_GAP = (
    "How many contact intervals passed since the last phone call, meeting, e-mail or visit. The interval is that of the "
    "account’s class, else of the process, else 14 days."
)
_LIST = (
    _list("deals", "deals", Kind.COUNT, "Number of the deals in the list."),
    _list(
        "amount", "amount", Kind.MONEY, "Total amount of the deals in the list (full amounts, without credit splits)."
    ),
    _list(
        "weighted",
        "weighted",
        Kind.MONEY,
        "Total of amount × probability. Won deals count in full, lost deals not at all; each deal is rounded to the minor unit.",
    ),
)
_DEAL = (
    _sum(
        "amount",
        "amount",
        definition="The deal’s amount as of the day. Calculated from products, it is quantity × price less the discount of each.",
    ),
    _sum("weighted", "weighted", definition=_WEIGHTED),
    _sum("probability", "weighted", definition=_WEIGHTED),
    _sum(
        "margin",
        "margin",
        definition="What is left of the amount after the cost of the products. Quantity × price − discount − quantity × cost, added over "
        "all products; not shown if a product has no cost.",
    ),
    _sum(
        "payments",
        "payments",
        definition="Total of all planned payments. Payments without an end date are not included.",
    ),
    _days(
        "days",
        "days in the stage",
        definition="Time since the deal entered its current stage, in days.",
    ),
    _days(
        "over",
        "days over typical",
        definition="Days in the stage beyond its typical days. Empty if not exceeded or if no typical days are set.",
    ),
    _days(
        "stays",
        "times in stages",
        definition="How long the deal was in each stage, from entering to leaving it. A time still running ends with the as-of day; in "
        "days of 24 hours. Over is what lies beyond the typical days.",
    ),
    _deal("slips", "slips", Kind.COUNT, _SLIPS),
    _deal("slipped", "slips", Kind.COUNT, _SLIPS),
    _deal("gap", "contact gap", Kind.COUNT, _GAP),
    _deal("contacted", "contact gap", Kind.COUNT, _GAP),
)
_account = partial(Figure, kind=Kind.MONEY, family=Family.ACCOUNT)
_UNPAID = "Unpaid invoices, by days past due. An invoice due today is not past due."
_SOLD = "Invoices issued in the span, credit notes subtracted."
_CHANGE = "Sales of these days less those of the same days a year before, by the day an invoice was issued."
_DEALS = "Total amount of the customer’s open or past deals you can see, for all dates."
_ACCOUNT = (
    _account("open", "open", definition=_DEALS),
    _account("past", "past", definition=_DEALS),
    _account("unpaid", "unpaid", definition=_UNPAID),
    _account("past-due", "past due", definition=_UNPAID),
    *(_account(f"age-{index}", words, definition=_UNPAID) for index, (words, _) in enumerate(AGEING)),
    *(_account(key, "sales", definition=_SOLD) for key in ("sales", "sales-before", "year", "year-before")),
    *(_account(key, "change of sales", definition=_CHANGE) for key in ("sales-change", "year-change")),
    _account("orders", "open orders", definition="Orders not yet delivered, according to the ledger today."),
)
OF_LIST, OF_DEAL, OF_ACCOUNT = ({one.key: one for one in part} for part in (_LIST, _DEAL, _ACCOUNT))
