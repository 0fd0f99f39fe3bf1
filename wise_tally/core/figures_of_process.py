"""The register of figures of conversion and of time in stage; see `figures` for those of forecasts and reports."""

from functools import partial

from wise_tally.core.figure import Family, Figure, Kind

STOOD = "Deals that were in this stage or a later one. Won deals count in every stage."
_conversion = partial(Figure, family=Family.CONVERSION)
_exit = partial(
    Figure,
    kind=Kind.COUNT,
    definition="How often a deal left the stage in the period, by where it went. Forward is a later open stage, back an earlier one; "
    "by the owner on the day, with the deal’s whole amount. A deal that left the stage twice counts twice.",
    family=Family.EXITS,
)
# Of a stage: deals that reached it, those that stopped there, and the rates between stages.
_ALL = (
    _conversion("reached", "reached", Kind.COUNT, STOOD, counts="reached"),
    _conversion("value", "value", Kind.MONEY, f"{STOOD} Their full amounts today.", counts="value"),
    _conversion(
        "lost", "lost", Kind.COUNT, "Deals that reached this stage and not the next, and were lost.", counts="lost"
    ),
    _conversion(
        "undecided",
        "still open",
        Kind.COUNT,
        "Deals that reached this stage and not the next, and are neither won nor lost.",
        counts="undecided",
    ),
    _conversion("step", "step", Kind.PERCENT, "Deals that reached the next stage ÷ deals that reached this one."),
    _conversion(
        "from_start",
        "from start",
        Kind.PERCENT,
        "Deals that reached this stage ÷ deals that reached the first stage.",
    ),
    _conversion(
        "of_created",
        "win rate of created deals",
        Kind.PERCENT,
        "Won deals ÷ all deals of this selection. Open deals are included, so the rate rises as they close.",
        counts="of_created",
    ),
    _conversion(
        "of_closed",
        "win rate of closed deals",
        Kind.PERCENT,
        "Deals won ÷ deals won or lost in the period, whenever they were created.",
        counts="of_closed",
    ),
    _exit("exits", "ended"),
    _exit("exits-forward", "forward"),
    _exit("exits-back", "back"),
    _exit("exits-won", "won"),
    _exit("exits-lost", "lost"),
    Figure(
        "days_to_win",
        "days to win",
        Kind.DAYS,
        "Days from creating a deal to winning it, for deals won in the period.",
        Family.WINNING,
    ),
    Figure(
        "time",
        "time in stage",
        Kind.DAYS,
        "Median time until a deal leaves the stage. Deals still in the stage are taken into account (Kaplan–Meier method).",
        Family.STAGES,
    ),
)
OF_PROCESS = {one.key: one for one in _ALL}
