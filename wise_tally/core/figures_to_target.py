"""Figures that stand in sentences: how far what is won, forecast or open is above a target (negative: short of it)."""

from wise_tally.core.figure import Figure, Kind, Part

QUOTA = Part("− quota", Kind.MONEY, lambda r: r.forecast.quota)
WON = Part("won", Kind.MONEY, lambda r: r.forecast.won)

TO_TARGET = (
    Figure(
        "weighted_to_quota",
        "weighted forecast less quota",
        Kind.MONEY,
        "Weighted forecast minus quota. A negative value means the forecast is short of quota.",
        value=lambda r: None if r.forecast.quota is None else r.forecast.weighted - r.forecast.quota,
        counts="weighted",
        formula=(Part("weighted forecast", Kind.MONEY, lambda r: r.forecast.weighted), QUOTA),
        of_quota=True,
    ),
    Figure(
        "open_to_quota",
        "won and open less quota",
        Kind.MONEY,
        "Won plus the full amount of every open deal due in the period, minus quota. A negative value cannot be made good by these "
        "deals alone.",
        value=lambda r: None if r.forecast.quota is None else r.forecast.won + r.forecast.open - r.forecast.quota,
        counts="open",
        formula=(WON, Part("+ open", Kind.MONEY, lambda r: r.forecast.open), QUOTA),
        of_quota=True,
    ),
    Figure(
        "won_to_pace",
        "won less target to date",
        Kind.MONEY,
        "Won minus the target to date (pace). A negative value means behind.",
        value=lambda r: None if r.pace is None else r.forecast.won - r.pace,
        counts="won",
        formula=(WON, Part("− target to date (pace)", Kind.MONEY, lambda r: r.pace)),
        of_quota=True,
    ),
)
