"""Why deals were lost: texts of the revisions in lost stages, kept beside the book and read on as it grows."""

from dataclasses import dataclass, replace

import numpy as np

from wise_tally.book.rows import read_lost
from wise_tally.core.book import BookAsOf
from wise_tally.core.money import Ints
from wise_tally.core.reference_data import LOST
from wise_tally.core.trees import NONE


@dataclass(frozen=True)
class LostReasons:
    """Revisions in lost stages in the order they were stored, read up to the row number `last`.

    `deal` is an index into the book, `reason` a place in `names`, -1 where none was given.
    """

    names: tuple[str, ...]
    deal: Ints
    effective_at: Ints
    reason: Ints
    last: int

    def on(self, snapshot: BookAsOf) -> Ints:
        """Place of the reason of each deal of a snapshot, shape (deals,); -1 for deals not lost or without one."""
        present = np.full(int(snapshot.deal.max(initial=-1)) + 1, NONE)
        in_force = (self.effective_at < snapshot.cut) & (self.deal < len(present))
        # Of several values for one place the last stays: that of the revision in effect.
        present[self.deal[in_force]] = self.reason[in_force]
        return np.where(snapshot.kind == LOST, present[snapshot.deal], NONE)

    def read_on(self, deal_numbers: Ints, upto: int) -> "LostReasons":
        """With what was stored up to a row number; `deal_numbers` are the row numbers of the book's deals."""
        rows = read_lost(self.last, upto)
        if not rows:
            return replace(self, last=upto)
        deal, moment, texts = zip(*rows, strict=True)
        names = [*self.names, *sorted({text for text in texts if text} - set(self.names))]
        index_of = {name: index for index, name in enumerate(names)} | {"": NONE}
        return LostReasons(
            tuple(names),
            np.append(self.deal, np.searchsorted(deal_numbers, np.array(deal))),
            np.append(self.effective_at, np.array(moment)),
            np.append(self.reason, np.array([index_of[text] for text in texts])),
            upto,
        )


NOTHING = np.zeros(0, dtype=np.int64)
NO_REASONS = LostReasons((), NOTHING, NOTHING, NOTHING, 0)
