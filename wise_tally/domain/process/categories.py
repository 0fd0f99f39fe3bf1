"""The shipped forecast categories."""

from wise_tally.domain.process.models import Category

SHIPPED = (
    ("commit", "commit", 1, True),
    ("best_case", "best case", 2, True),
    ("early", "early", 3, True),
    ("left_out", "excluded", 4, False),
)


def ensure_categories(given: bool = False) -> None:
    """Create the shipped categories where a workspace has none and none are `given`."""
    if given or Category.objects.exists():
        return
    Category.objects.bulk_create(Category(key=k, name=n, rank=r, counted=c) for k, n, r, c in SHIPPED)
