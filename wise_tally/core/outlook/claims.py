"""Claims: forecast categories that promise more of a deal than its chance does."""

from wise_tally.core.reference_data import ReferenceData

# The least chance that the surest forecast category and the one after it speak of; own definition.
LEAST_CHANCES = (0.5, 0.2)


def claims_more(reference: ReferenceData, category: int, chance: float) -> bool:
    """Whether a deal stands in one of the two surest categories with a chance below what the category claims; NaN is no chance."""
    for sure, least in zip(reference.surest_first, LEAST_CHANCES, strict=False):
        if category == sure:
            return chance < least
    return False
