"""Round marks on an axis that starts at 0."""

STEPS = (1, 2, 2.5, 5)
MOST_TICKS = 5


def round_ticks(largest: int) -> list[int]:
    """Three to five marks of one step, the step 1, 2, 2.5 or 5 × 10^n, the last at or above `largest`; without the 0.

    Whole numbers in the unit given. Source: common practice (the steps that people count in).
    """
    scale = 1
    while True:
        for step in STEPS:
            size = step * scale
            if size == int(size) and size * MOST_TICKS >= largest:
                number = max(1, -(-largest // int(size)))
                return [int(size) * index for index in range(1, number + 1)]
        scale *= 10
