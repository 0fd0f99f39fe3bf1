"""The register of figures of the outlook; see `figures` for those of forecasts and reports."""

from functools import partial

from wise_tally.core.figure import Family, Figure, Kind

GROUP = "Forecast"
_outlook = partial(Figure, family=Family.OUTLOOK)
OF_OUTLOOK = (
    _outlook(
        "outlook",
        "outlook",
        Kind.MONEY,
        "What is likely won by the end: won so far, open deals at their chance, and deals still to come. "
        "Chances are learnt from how past deals of the company moved.",
        group=GROUP,
        in_grid=True,
    ),
    _outlook(
        "outlook_chance",
        "chance of quota by the outlook",
        Kind.PERCENT,
        "How often the quota is reached when each open deal is won by its chance, deals still to come included. Chances move together "
        "from one period to the next.",
        of_quota=True,
        in_grid=True,
        label="chance of quota",
    ),
    _outlook(
        "outlook_weighed",
        "submitted and outlook, combined",
        Kind.MONEY,
        "Submitted forecast and outlook together, by how each did in past periods. A proposal: nothing submitted is changed.",
    ),
    _outlook(
        "outlook_open",
        "open deals by chance",
        Kind.MONEY,
        "Every open deal, whenever it is expected to close, at its chance to be won within the period. Each counts at the amount "
        "such deals are won for × its chance.",
    ),
    _outlook(
        "outlook_to_come",
        "still to come",
        Kind.MONEY,
        "Deals that are not in the pipeline yet and will be created and won within the period. Their number follows from past "
        "wins that were quick enough.",
    ),
)
